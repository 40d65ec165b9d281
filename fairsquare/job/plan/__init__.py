"""The hours of a job: what comes off for what, what it takes, and what was worked on it."""
