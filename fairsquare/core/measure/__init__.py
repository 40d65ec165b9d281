"""Measuring: the set-up fit, where readings put a point, and whether that is within tolerance."""
