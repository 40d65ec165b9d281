"""Drills: parts of a running cluster are killed, cut off, filled up and set wrong while people record, and nothing may be lost."""
