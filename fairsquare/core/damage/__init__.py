"""What happened to the structure: modes, onset, push and groups as read, and what is straightened or replaced."""
