"""Calculations that are true of any vehicle: pure functions from frozen requests to frozen results.

Conventions, kept everywhere below: lengths in mm, forces in N, angles in degrees unless a name says rad.
Vehicle axes are those of ISO 8855: x forward, y to the left, z up. A pose maps instrument axes to vehicle axes,
vehicle = rotation @ instrument + translation; small rotations are vectors in rad that multiply from the left.
"""
