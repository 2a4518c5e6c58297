"""Distance and azimuth between two marks: on the grid, on the ellipsoid and on the ground."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from fenwind.geodesy.frames import FloatArray, Frame
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
        return _result(grid, azimuth, None, None, None, rise)
    east, north = [e1, 0.5 * (e1 + e2), e2], [n1, 0.5 * (n1 + n2), n2]
    lat, lon = frame.inverse(east, north)
    az_rad, _, length = frame.geod.inv(lon[0], lat[0], lon[2], lat[2], radians=True)
    combined = None
    if h1 is not None and h2 is not None:
        mean_h = 0.5 * (h1 + h2) + float(frame.geoid_height(lat[1], lon[1]))
        scale = frame.line_scale(lat, lon, _azimuths(frame, lat, lon))
        line_scale = (scale[0] + 4.0 * scale[1] + scale[2]) / 6.0
        combined = float(line_scale * frame.elevation_factor(lat[1], mean_h))
    return _result(grid, azimuth, float(length), wrap_positive(float(az_rad)), combined, rise)


def _azimuths(frame: Frame, lat: FloatArray, lon: FloatArray) -> FloatArray:
    """Geodetic azimuths of the line at its start, middle and end, radians."""
    there = frame.geod.inv(lon[[0, 1, 2]], lat[[0, 1, 2]], lon[[2, 2, 0]], lat[[2, 2, 0]], radians=True)[0]
    return np.asarray(there)


def _result(
    grid: float,
    azimuth: float,
    length: float | None,
    geodetic: float | None,
    combined: float | None,
    rise: float | None,
) -> Inverse:
    usable = combined is not None and math.isfinite(combined)
    return Inverse(
        grid_distance_m=grid,
        grid_azimuth_rad=azimuth,
        ellipsoid_distance_m=length,
        geodetic_azimuth_rad=geodetic,
        combined_factor=combined if usable else None,
        ground_distance_m=grid / combined if combined is not None and usable else None,
        height_difference_m=rise,
    )
