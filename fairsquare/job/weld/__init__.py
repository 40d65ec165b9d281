"""The welds and bonds of a job."""
