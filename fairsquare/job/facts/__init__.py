"""What happened in a job, as it was recorded: facts are appended and never changed; everything else is worked out from them.

One module a station; nothing re-exports them.
"""
