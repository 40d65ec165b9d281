"""The readings of a job: what counts, where it puts each point, what is read next, and with which tools."""
