"""How a vehicle stands on its wheels: what a pair of its wheel arches tells."""

MOST_MM = 10.0
"""The two sides of an axle may stand so far apart. Common practice, no source."""


def leans_by(left_mm: float, right_mm: float) -> float:
    """Return by how many mm the left arch of an axle stands higher than the right one; less than nothing where it is lower."""
    return left_mm - right_mm


def stands_level(left_mm: float, right_mm: float) -> bool:
    """Return whether an axle stands level enough."""
    return abs(leans_by(left_mm, right_mm)) <= MOST_MM
