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
    import shapely

    hull = shapely.convex_hull(shapely.multipoints(np.stack([hull_e_m, hull_n_m], axis=1)))
    shapely.prepare(hull)
    return np.asarray(shapely.distance(hull, shapely.points(e_m, n_m)))


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
