"""Hold points: what evidence each needs, and whether it is there; and the record of a job."""
