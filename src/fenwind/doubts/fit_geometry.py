"""Rules about where things lie: area of use, pairs on a line, a tilting plane, marks far outside the
pairs."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.registry import Doubt, Remedy
from fenwind.geodesy.area import beyond_area_m, inside_area
from fenwind.procedures.fit_case import FitCase
from fenwind.procedures.hull import distance_outside
from fenwind.procedures.regions import regions95
from fenwind.procedures.unseen import OUTSIDE_PART, unseen, unseen_words
from fenwind.quantities.lengths import format_way
from fenwind.quantities.numbers import format_fixed

FloatArray = NDArray[np.float64]

#: Tilt a height plane may have, metres per metre: over a geoid grid, and over the bare ellipsoid.
TILT_OVER_GEOID = 20e-6
TILT_OVER_ELLIPSOID = 100e-6
#: Breadth of the pairs across their longest line, as part of their length, under which a plane hangs on a
#: line.
LINE_BREADTH = 0.10


#: A job that lies this far past the edge of a zone may be in it on purpose, metres.
PAST_EDGE_M = 100_000.0


def outside_area(case: FitCase) -> Iterator[Doubt]:
    """Positions outside the area the frame is meant for, that no change of sign explains."""
    if case.area is None or case.lat_rad is None or case.lon_rad is None:
        return
    outside = ~inside_area(case.area, case.lat_rad, case.lon_rad) & ~inside_area(
        case.area, case.lat_rad, -case.lon_rad
    )
    if outside.any():
        names = tuple(case.measured.names[i] for i in np.flatnonzero(outside))
        first = int(np.flatnonzero(outside)[0])
        beyond = beyond_area_m(case.area, case.lat_rad, case.lon_rad)[outside]
        exchanged = inside_area(case.area, case.lon_rad, case.lat_rad)[outside]
        yield Doubt(
            rule="fit.outside-area",
            subject=case.subject,
            names=names,
            text=f"{names[0]}{f' and {len(names) - 1} more' if len(names) > 1 else ''} at "
            f"{format_fixed(math.degrees(case.lat_rad[first]), 3)}°, "
            f"{format_fixed(math.degrees(case.lon_rad[first]), 3)}° lies outside "
            "the frame's area of use: wrong frame, or latitude and longitude exchanged?",
            value=math.degrees(float(case.lon_rad[first])),
            limit=math.degrees(case.area[0] if case.lon_rad[first] < case.area[0] else case.area[2]),
            unit="deg",
            limit_source="area of use in the EPSG dataset",
            grave=bool((beyond > PAST_EDGE_M).any() or exchanged.any()),
        )


def tilting_plane(case: FitCase) -> Iterator[Doubt]:
    """A height plane steeper than the ground of its heights explains, or held by pairs nearly on a line."""
    height, table = case.result.height, case.result.pairs
    if height.model != "plane":
        return
    remedy = (Remedy(kind="one-shift", label="use one height shift"),)
    limit = TILT_OVER_GEOID if case.over_geoid else TILT_OVER_ELLIPSOID
    if height.tilt > limit:
        over = "over the geoid grid" if case.over_geoid else "over the ellipsoid"
        yield Doubt(
            rule="fit.tilt",
            subject=case.subject,
            names=tuple(n for n, used in zip(table.names, table.used_v, strict=True) if used),
            text=f"The height plane tilts by {format_fixed(height.tilt * 1e6, 1)} mm per km {over}; the "
            f"limit is {limit * 1e6:.0f}.",
            value=height.tilt,
            limit=limit,
            unit="m/m",
            grave=True,
            remedies=remedy,
        )
    rows = table.measured_rows[table.used_v]
    across, along = breadth_and_length(case.result.carried.e_m[rows], case.result.carried.n_m[rows])
    if across < LINE_BREADTH * along:
        yield Doubt(
            rule="fit.plane-on-line",
            subject=case.subject,
            names=tuple(case.measured.names[i] for i in rows),
            text=f"The pairs that hold the height plane lie nearly on a line, {format_fixed(across, 0)} m "
            "broad over "
            f"{format_fixed(along, 0)} m: across it the tilt is a guess.",
            value=across / along if along > 0 else 0.0,
            limit=LINE_BREADTH,
            unit="",
            grave=True,
            remedies=remedy,
        )


def breadth_and_length(e_m: FloatArray, n_m: FloatArray) -> tuple[float, float]:
    """Extents across and along the main axis of points (k,), metres."""
    centred = np.stack([e_m - e_m.mean(), n_m - n_m.mean()])
    _, vectors = np.linalg.eigh(centred @ centred.T)
    extents = np.ptp(vectors.T @ centred, axis=1)
    return float(extents.min()), float(extents.max())


def unseen_model(case: FitCase) -> Iterator[Doubt]:
    """Marks far outside the pairs that a scale or turn too small for the pairs to show would move out of
    their stated region."""
    found, carried, limit = unseen(case.result), case.result.carried, _far(case)
    if found is None:
        return
    a = regions95(case.result).a_m
    reach = np.where(np.isfinite(a), a, 0.0)
    hit = np.flatnonzero((found.outside_m > limit) & (found.effect_m > reach))
    if not hit.size:
        return
    hit = hit[np.argsort(-found.effect_m[hit])]
    first = hit[0]
    names = tuple(carried.names[i] for i in hit)
    stated = f"its region is {format_way(float(a[first]))}" if np.isfinite(a[first]) else "it has no region"
    yield Doubt(
        rule="fit.unseen-model",
        subject=case.subject,
        names=names,
        text=f"{unseen_words(found)} could hide in these pairs and move {names[0]}, "
        f"{format_fixed(float(found.outside_m[first]), 0)} m outside them, by "
        f"{format_way(float(found.effect_m[first]))}; {stated}. Hold a mark out there, or fit with scale.",
        value=float(found.effect_m[first]),
        limit=float(reach[first]),
        limit_source="the choice of the model, at 1 % with a power of 80 %",
    )


def far_outside(case: FitCase) -> Iterator[Doubt]:
    """Marks so far outside the pairs that the fit is carried beyond what it knows."""
    table, carried = case.result.pairs, case.result.carried
    rows = table.measured_rows[table.used_h]
    if rows.size < 2:
        return
    e, n = carried.e_m[rows], carried.n_m[rows]
    limit = _far(case)
    outside = distance_outside(carried.e_m, carried.n_m, e, n)
    far = np.flatnonzero(outside > limit)
    if far.size:
        far = far[np.argsort(-outside[far])]
        names = tuple(carried.names[i] for i in far)
        yield Doubt(
            rule="fit.far-outside",
            subject=case.subject,
            names=names,
            text=f"{names[0]}{f' and {len(names) - 1} more lie' if len(names) > 1 else ' lies'} "
            f"{format_fixed(float(outside[far[0]]), 0)} m "
            f"outside the pairs, which span {format_fixed(limit / OUTSIDE_PART, 0)} m: there the fit is "
            "a guess.",
            value=float(outside[far[0]]),
            limit=limit,
        )


def _far(case: FitCase) -> float:
    """How far outside the pairs is far, metres."""
    carried, table = case.result.carried, case.result.pairs
    rows = table.measured_rows[table.used_h]
    return OUTSIDE_PART * float(np.hypot(np.ptp(carried.e_m[rows]), np.ptp(carried.n_m[rows])))
