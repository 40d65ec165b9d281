"""The rules of a job: what follows from what was recorded. Pure functions over frozen facts; the calculations are core's."""
