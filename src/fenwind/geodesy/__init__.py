"""Frames on pyproj, geoid grids, projection and elevation factors, conversions and the inverse problem.

Radians, metres and float64 arrays throughout. Convergence is positive where grid north lies east of true
north.
"""
