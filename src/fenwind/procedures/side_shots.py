"""What an instrument that is placed gives: its orientation where it stands on a known mark, and the positions
of what was sighted from it."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.procedures.resection import Case, Reduced, Resection
from fenwind.quantities.angles import wrap_all

FloatArray = NDArray[np.float64]


def oriented(case: Case, station: FloatArray, covariance: FloatArray) -> Resection:
    """An instrument on a known mark (3,) with its covariance (3, 3): the orientation is the weighted mean of
    what the sightings of known marks say, distances and height differences are compared. Raises
    ProcedureError without a sighting."""
    r = case.reduced
    if not r.targets:
        raise ProcedureError("no known mark was sighted", hint="Sight one, to turn the circle to it")
    way = case.known - station[:, None]
    azimuth = np.arctan2(way[0], way[1])
    off = azimuth - r.direction
    weight = np.where(case.used[0], 1.0 / r.covariance[0, 0], 0.0)
    if not weight.any():
        raise ProcedureError("no direction turns the circle", hint="Let a sighting take part in plan")
    first = math.atan2(float(np.sum(weight * np.sin(off))), float(np.sum(weight * np.cos(off))))
    turn = first + float(np.sum(weight * wrap_all(off - first)) / np.sum(weight))
    d = np.hypot(way[0], way[1])
    residuals = np.stack([wrap_all(azimuth - turn - r.direction), d - r.hd, way[2] - r.dh])
    residuals = np.where(case.used, residuals, np.nan)
    sigma = np.sqrt(np.stack([r.covariance[i, i] for i in range(3)]))
    standardised = np.abs(residuals / sigma)
    cofactor = 1.0 / float(np.sum(weight))
    # The mark's own error turns the circle too, by what it is over the distance.
    turns = np.stack([-way[1], way[0]]) / d**2
    lean = np.sum(weight * turns, axis=1) / np.sum(weight)
    whole = np.zeros((4, 4))
    place = [0, 1, 3]
    whole[np.ix_(place, place)] = np.nan_to_num(covariance)
    whole[2, 2] = cofactor + float(lean @ whole[:2, :2] @ lean)
    whole[2, :2] = whole[:2, 2] = whole[:2, :2] @ lean
    squares = float(np.nansum(standardised**2))
    return Resection(
        e=float(station[0]), n=float(station[1]), h=float(station[2]), orientation=turn, scale=1.0,
        covariance=np.nan_to_num(covariance), sigma_orientation=math.sqrt(whole[2, 2]), sigma_scale=math.nan,
        dof=int(case.used.sum()) - 1, sum_squares=squares, residuals=residuals, standardised=standardised,
        whole=whole,
    )  # fmt: skip


def pointing(
    found: Resection, at: FloatArray, instrument_height: float, target_height: float
) -> tuple[float, float]:
    """Direction of the circle and zenith angle (radians, face 1) to a target so high over a place (3,), near
    enough to find its prism: level where a height is not known."""
    e, n = at[0] - found.e, at[1] - found.n
    rise = float(at[2] + target_height - found.h - instrument_height)
    level = math.pi / 2.0 if math.isnan(rise) else math.atan2(math.hypot(e, n), rise)
    return (math.atan2(e, n) - found.orientation) % (2.0 * math.pi), level


@dataclass(frozen=True, kw_only=True, eq=False)
class SideShots:
    """Positions (3, k) of sightings: e, n, h, nan where a distance or a height is lacking, and their
    covariance (3, 3, k) in two parts: what the sighting itself brings, and what the instrument does, which
    all share."""

    position: FloatArray
    own: FloatArray
    shared: FloatArray


def side_shots(found: Resection, r: Reduced) -> SideShots:
    """Positions of everything sighted."""
    azimuth = r.direction + found.orientation
    sin, cos, hd = np.sin(azimuth), np.cos(azimuth), found.applied * r.hd
    position = np.stack([found.e + hd * sin, found.n + hd * cos, found.h + r.dh])
    k = hd.size
    one, zero = np.ones(k), np.zeros(k)
    # By e, n, orientation, h and scale of the instrument, then by direction, distance and height difference.
    own = np.array(
        [[one, zero, hd * cos, zero, r.hd * sin], [zero, one, -hd * sin, zero, r.hd * cos],
         [zero, zero, zero, one, zero]]
    )  # fmt: skip
    seen = np.array([[hd * cos, sin, zero], [-hd * sin, cos, zero], [zero, zero, one]])
    whole = np.zeros((5, 5))
    place = [0, 1, 2, *([] if math.isnan(found.h) else [3]), *([] if found.applied == 1.0 else [4])]
    size = min(found.whole.shape[0], len(place))
    whole[np.ix_(place[:size], place[:size])] = found.whole[:size, :size]
    shared = np.einsum("iak,ab,jbk->ijk", own, whole, own)
    each = np.einsum("iak,abk,jbk->ijk", seen, np.nan_to_num(r.covariance), seen)
    for axis, lacking in enumerate(~np.isfinite(position)):
        for covariance in (shared, each):
            covariance[axis, :, lacking], covariance[:, axis, lacking] = np.nan, np.nan
    return SideShots(position=position, own=each, shared=shared)
