"""What lines between places of a plane have on the earth: their combined factors, and the angle between the
chord on the grid and the picture of the line."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.frames import Frame

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class GridLines:
    """k lines. factor: grid distance over horizontal distance, nan without heights; the scale
    is the mean in the line's direction by Simpson's rule (ends and middle; common practice, no source).
    arc_to_chord: t - T at the start, what a direction seen there has to be turned by on the grid (radians,
    clockwise). length, azimuth: of the geodesic (metres, radians)."""

    factor: FloatArray
    arc_to_chord: FloatArray
    length: FloatArray
    azimuth: FloatArray


def grid_lines(frame: Frame, start: FloatArray, end: FloatArray) -> GridLines:
    """Lines from start to end, (3, k) or (3, 1): e, n and the frame's heights, in a frame with a
    datum. Distances are horizontal at the mean height of both ends."""
    start, end = np.broadcast_arrays(np.asarray(start, dtype=float), np.asarray(end, dtype=float))
    three = np.stack([start, 0.5 * (start + end), end])  # (3 places, 3, k)
    lat, lon = frame.inverse(three[:, 0], three[:, 1])
    azimuth, _, length = frame.geod.inv(lon[0], lat[0], lon[2], lat[2], radians=True)
    there = frame.geod.inv(lon, lat, lon[[2, 2, 0]], lat[[2, 2, 0]], radians=True)[0]
    scale = frame.line_scale(lat, lon, np.asarray(there))
    height = three[1, 2] + frame.geoid_height(lat[1], lon[1])
    mean = (scale[0] + 4.0 * scale[1] + scale[2]) / 6.0
    _, convergence = frame.point_scale(lat[0], lon[0])
    chord = np.arctan2(end[0] - start[0], end[1] - start[1])
    bend = np.remainder(chord - (np.asarray(azimuth) - convergence) + math.pi, 2.0 * math.pi) - math.pi
    return GridLines(
        factor=np.asarray(mean * frame.elevation_factor(lat[1], height)), arc_to_chord=np.asarray(bend),
        length=np.asarray(length), azimuth=np.asarray(azimuth),
    )  # fmt: skip
