"""Where a list that comes in belongs: the frame of the job that its numbers fit, and the unit they are in."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.area import inside_area
from fenwind.geodesy.frames import Frame
from fenwind.job.adopted import Adopted
from fenwind.quantities.lengths import FOOT, METRE, UNITS, US_SURVEY_FOOT, LengthUnit

FloatArray = NDArray[np.float64]

#: A mark of the same name within this is the same mark, metres.
SAME_MARK_M = 2.0
#: A list is near when the gap to what is there is at most this many times the size of both, or so many
#: metres: on a plane of no system, in a system of the earth.
NEAR_TIMES, NEAR_PLANE_M, NEAR_EARTH_M = 3.0, 1_000.0, 20_000.0


@dataclass(frozen=True, kw_only=True, eq=False)
class Listed:
    """Positions of a list (k,), metres as they were read."""

    names: Sequence[str]
    e_m: FloatArray
    n_m: FloatArray

    def scaled(self, factor: float) -> Listed:
        """The same numbers in another unit."""
        return Listed(names=self.names, e_m=self.e_m * factor, n_m=self.n_m * factor)


def frame_of(points: Listed, frames: Mapping[str, Frame], known: Mapping[str, Adopted], shown: str) -> str:
    """The id of the frame that a list fits: where marks of its names are, else near what is there, else
    inside the area of use of a system without positions yet. Empty when it fits none; the frame shown wins
    among equals."""
    order = sorted(frames, key=lambda key: key != shown)
    scores = {key: _score(points, frames[key], known.get(key)) for key in order}
    best = max(scores.values(), default=0.0)
    return next((key for key in order if scores[key] == best), "") if best > 0.0 else ""


def _score(points: Listed, frame: Frame, adopted: Adopted | None) -> float:
    if adopted is None or not np.isfinite(adopted.e_m).any():
        # A plane of no system and without a mark could be meant by any list.
        return 0.2 if not frame.has_datum else 0.5 * _share_inside(points, frame)
    same, common = same_marks(points, adopted)
    if common:
        return 2.0 + same / common if same else 0.1
    least = NEAR_EARTH_M if frame.has_datum else NEAR_PLANE_M
    return 1.0 if _near(points, adopted, least) else 0.0


def same_marks(points: Listed, adopted: Adopted) -> tuple[int, int]:
    """How many marks of a list's names are where the list says, and how many have a position at all."""
    rows = [(i, adopted.index[name]) for i, name in enumerate(points.names) if name in adopted.index]
    if not rows:
        return 0, 0
    i, j = np.array(rows).T
    away = np.hypot(points.e_m[i] - adopted.e_m[j], points.n_m[i] - adopted.n_m[j])
    return int((away < SAME_MARK_M).sum()), int(np.isfinite(away).sum())


def _near(points: Listed, adopted: Adopted, least_m: float) -> bool:
    gap, size = 0.0, 0.0
    for mine, theirs in ((points.e_m, adopted.e_m), (points.n_m, adopted.n_m)):
        low, high = np.nanmin(theirs), np.nanmax(theirs)
        gap = max(gap, float(max(np.nanmin(mine) - high, low - np.nanmax(mine))))
        size = max(size, float(high - low), float(np.nanmax(mine) - np.nanmin(mine)))
    return gap <= max(NEAR_TIMES * size, least_m)


def _share_inside(points: Listed, frame: Frame) -> float:
    """Share of positions inside the system's area of use; where none is stated, of those it has a place
    for."""
    lat, lon = frame.inverse(points.e_m, points.n_m)
    area = frame.area_of_use()
    inside = inside_area(area, lat, lon) if area is not None else np.isfinite(lat) & np.isfinite(lon)
    return float(np.mean(inside)) if inside.size else 0.0


def likelier_unit(
    points: Listed, unit: LengthUnit, frame: Frame, adopted: Adopted | None
) -> LengthUnit | None:
    """The unit in which a list fits a frame when it does not in the one it was read in: by marks of its
    names, else by the area of use. None where it fits as it is, or in no unit."""
    for other in dict.fromkeys((UNITS[frame.spec.unit], METRE, FOOT, US_SURVEY_FOOT)):
        if other is unit:
            continue
        there = points.scaled(other.metres / unit.metres)
        if adopted is not None:
            here, common = same_marks(points, adopted)
            if common:
                if 2 * here < common and 2 * same_marks(there, adopted)[0] > common:
                    return other
                continue
        if frame.area_of_use() is not None and _share_inside(points, frame) < 0.5 < _share_inside(
            there, frame
        ):
            return other
    return None
