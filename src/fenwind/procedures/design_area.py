"""The area that a projection is laid for: marks, an outline, or a corridor along a line, as places on a plane
with heights; heights between marks, from a grid, or from the lowest to the highest."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError

FloatArray = NDArray[np.float64]
#: Heights (k,) at places (2, k) of a plane, nan where nobody knows them.
Heights = Callable[[FloatArray], FloatArray]

#: Places that an area is laid out with, about.
PLACES = 4000


def within(outline: FloatArray, count: int = PLACES) -> FloatArray:
    """Places (2, k) on a square grid inside an outline (2, m), its corners among them. Raises ProcedureError
    for one without an area, or which crosses itself."""
    import shapely

    if outline.shape[1] < 3 or not np.isfinite(outline).all():
        raise ProcedureError("the outline has fewer than three corners", hint="Give at least three")
    polygon = shapely.Polygon(outline.T)
    if not polygon.is_valid:
        reason = shapely.is_valid_reason(polygon).split("[")[0].lower()
        raise ProcedureError(f"the outline is not one: {reason}", hint="Give its corners in their order")
    if not polygon.area > 0.0:
        raise ProcedureError("the outline encloses nothing", hint="Give its corners in their order")
    return np.concatenate([_filled(polygon, count), outline], axis=1)


def along(line: FloatArray, width_m: float, count: int = PLACES) -> tuple[FloatArray, FloatArray]:
    """Places (2, k) in a corridor of a width along a line (2, m), and its outline (2, c). It may cross
    itself. Raises ProcedureError for a line without length or a width that is none."""
    import shapely

    way = shapely.LineString(line.T) if line.shape[1] > 1 and np.isfinite(line).all() else None
    if way is None or not way.length > 0.0:
        raise ProcedureError("the line leads nowhere", hint="Name two marks or more")
    if not width_m > 0.0:
        raise ProcedureError(f"a corridor is not {width_m:g} m wide", hint="Give a width above 0")
    area = way.buffer(0.5 * width_m, cap_style="flat", join_style="mitre", mitre_limit=2.0)
    outline = np.asarray(shapely.get_coordinates(shapely.get_exterior_ring(area))).T
    return np.concatenate([_filled(area, count), line], axis=1), outline


def _filled(area: object, count: int) -> FloatArray:
    """Places (2, k) of a square grid inside a polygon."""
    import shapely

    step = float(np.sqrt(shapely.area(area) / count))
    low_e, low_n, high_e, high_n = shapely.bounds(area)
    e = np.arange(low_e + 0.5 * step, high_e, step)
    n = np.arange(low_n + 0.5 * step, high_n, step)
    if e.size * n.size > 200 * count:  # a thin line across a large box
        return np.asarray(shapely.get_coordinates(shapely.segmentize(area, step))).T
    at = np.stack([v.ravel() for v in np.meshgrid(e, n)])
    return np.asarray(at[:, shapely.contains_xy(area, at[0], at[1])])


def heavier(places: FloatArray, line: FloatArray, within_m: float, times: float) -> FloatArray:
    """Weights (k,) of places (2, k): so many times 1 within a distance of a line (2, m), or of one place.
    Raises ProcedureError where that is no place of the area, or for a weight that is none."""
    import shapely

    if not (0.0 < times <= 1e6 and within_m > 0.0):
        raise ProcedureError("that is no weight", hint="Give a distance and how many times, above 0")
    work = shapely.Point(line[:, 0]) if line.shape[1] == 1 else shapely.LineString(line.T)
    near = shapely.distance(shapely.points(*places), work) <= within_m
    if not near.any():
        raise ProcedureError("no place of the area is that near", hint="Give a larger distance")
    return np.where(near, times, 1.0)


def between_marks(places: FloatArray, heights: FloatArray) -> Heights:
    """Heights between marks at places (2, m) with heights (m,): on the triangles between them, outside those
    of the nearest. Raises ProcedureError where no mark has one."""
    from scipy.spatial import Delaunay, QhullError, cKDTree  # interpolate takes a second to load

    fine = np.isfinite(heights) & np.isfinite(places).all(axis=0)
    if not fine.any():
        raise ProcedureError("no mark has a height", hint="Give heights, so that the ground is known")
    middle, known = places[:, fine].mean(axis=1, keepdims=True), heights[fine]
    points = (places[:, fine] - middle).T
    nearest = cKDTree(points)
    try:
        triangles = Delaunay(points) if len(points) > 2 else None
    except QhullError:  # all on one line
        triangles = None

    def at(where: FloatArray) -> FloatArray:
        wanted = (where - middle).T
        out = np.asarray(known[nearest.query(wanted)[1]], dtype=float)
        if triangles is not None:
            found = triangles.find_simplex(wanted)
            inside = np.flatnonzero(found >= 0)
            change = triangles.transform[found[inside]]  # (m, 3, 2): to barycentric, and the origin
            two = np.einsum("mij,mj->mi", change[:, :2], wanted[inside] - change[:, 2])
            three = np.column_stack([two, 1.0 - two.sum(axis=1)])
            out[inside] = (three * known[triangles.simplices[found[inside]]]).sum(axis=1)
        return out

    return at


def with_heights(places: FloatArray, heights: Heights | tuple[float, float]) -> tuple[FloatArray, FloatArray]:
    """Places (2, k) and heights (k,), without those that nobody knows the height of; with a lowest and a
    highest every place twice. Raises ProcedureError where none is left."""
    if isinstance(heights, tuple):
        low, high = heights
        if not low <= high:
            raise ProcedureError("the lowest height is above the highest", hint="Exchange them")
        k = places.shape[1]
        return np.concatenate([places, places], axis=1), np.repeat([low, high], k)
    found = heights(places)
    fine = np.isfinite(found)
    if not fine.any():
        raise ProcedureError("no height is known in the area", hint="Give a grid that covers it")
    return places[:, fine], found[fine]
