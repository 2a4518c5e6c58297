"""Convex hulls and oriented boxes of places, by shapely."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


def convex_hull(e_m: FloatArray, n_m: FloatArray) -> FloatArray:
    """Corners (2, m) of the convex hull of points (k,), anticlockwise; fewer than three where the points
    lie on a line or at one place."""
    import shapely

    hull = shapely.convex_hull(shapely.multipoints(np.stack([e_m, n_m], axis=1)))
    corners: FloatArray = shapely.get_coordinates(hull).T
    if hull.geom_type != "Polygon":
        return corners
    return corners[:, :-1] if shapely.is_ccw(shapely.get_exterior_ring(hull)) else corners[:, :0:-1]


def distance_outside(
    e_m: FloatArray, n_m: FloatArray, hull_e_m: FloatArray, hull_n_m: FloatArray
) -> FloatArray:
    """Distance (n,) of points outside the convex hull of others, zero inside, metres."""
    corners = convex_hull(hull_e_m, hull_n_m)
    # From the first corner, as complex numbers: distances keep their digits far from the origin.
    at = (e_m - corners[0, 0]) + 1j * (n_m - corners[1, 0])
    start = (corners[0] - corners[0, 0]) + 1j * (corners[1] - corners[1, 0])
    least, inside = np.abs(at), np.full(at.shape, start.size > 2)
    for a, b in zip(start, np.roll(start, -1), strict=True):  # edges are few, points many
        if a == b:
            continue
        along = (at - a) * np.conj(b - a) / abs(b - a) ** 2  # 0 to 1 beside the edge, to its left positive
        inside &= along.imag >= 0.0
        least = np.minimum(least, np.abs(at - a - np.clip(along.real, 0.0, 1.0) * (b - a)))
    return np.where(inside, 0.0, least)


def least_rectangle(places: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Corners (4, 2) of the rectangle of least area around places (2, k), one after the other, and its
    centre (2,); corners coincide where the places lie on a line or at one place."""
    import shapely

    box = shapely.oriented_envelope(shapely.multipoints(places.T))
    corners = shapely.get_coordinates(box)
    if box.geom_type != "Polygon":
        ends = corners[[0, -1]]
        return ends[[0, 1, 1, 0]], ends.mean(axis=0)
    return corners[:4], corners[:4].mean(axis=0)
