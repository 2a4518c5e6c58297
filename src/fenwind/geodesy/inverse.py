"""Distance and azimuth between two marks: on the grid, on the ellipsoid and on the ground."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from fenwind.geodesy.frames import Frame
from fenwind.geodesy.grid_line import GridLines, grid_lines
from fenwind.quantities.angles import wrap_positive


@dataclass(frozen=True, slots=True, kw_only=True)
class Inverse:
    """Metres and radians, azimuths clockwise from north in [0, 2 pi). None where the frame has no datum, and
    for the ground values also where a height is missing."""

    grid_distance_m: float
    grid_azimuth_rad: float
    ellipsoid_distance_m: float | None
    geodetic_azimuth_rad: float | None
    combined_factor: float | None
    ground_distance_m: float | None
    height_difference_m: float | None
    arc_to_chord_rad: float | None


def inverse(
    frame: Frame, start: tuple[float, float, float | None], end: tuple[float, float, float | None]
) -> Inverse:
    """Inverse between (e_m, n_m, height_m) of two marks in `frame`.

    The combined factor of the line is the mean scale in its direction by Simpson's rule (ends and middle;
    common practice, no source) times the elevation factor at the mean ellipsoidal height; the
    ground distance, at that mean height, is grid distance / combined factor.
    """
    (e1, n1, h1), (e2, n2, h2) = start, end
    grid = math.hypot(e2 - e1, n2 - n1)
    azimuth = wrap_positive(math.atan2(e2 - e1, n2 - n1))
    rise = None if h1 is None or h2 is None else h2 - h1
    if not frame.has_datum:
        return _result(grid, azimuth, None, rise)
    ends = [np.array([[e], [n], [math.nan if h is None else h]]) for e, n, h in (start, end)]
    return _result(grid, azimuth, grid_lines(frame, ends[0], ends[1]), rise)


def _result(grid: float, azimuth: float, line: GridLines | None, rise: float | None) -> Inverse:
    combined = float(line.factor[0]) if line is not None and math.isfinite(line.factor[0]) else None
    return Inverse(
        grid_distance_m=grid, grid_azimuth_rad=azimuth,
        ellipsoid_distance_m=None if line is None else float(line.length[0]),
        geodetic_azimuth_rad=None if line is None else wrap_positive(float(line.azimuth[0])),
        combined_factor=combined, ground_distance_m=None if combined is None else grid / combined,
        height_difference_m=rise, arc_to_chord_rad=None if line is None else float(line.arc_to_chord[0]),
    )  # fmt: skip
