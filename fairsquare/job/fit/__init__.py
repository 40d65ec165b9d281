"""The dry fit of a job: its gaps, its openings, and whether it may be welded."""
