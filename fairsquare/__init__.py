"""Fair Square: measure, judge and prove the structure of a vehicle under repair."""

__version__ = "0.1.0"
