"""What a frame means on the ground: scale, factors, convergence and the three heights at the middle and the
corners of a job."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.frames import Frame

FloatArray = NDArray[np.float64]

PLACES = ("centre", "north-west", "north-east", "south-west", "south-east")


@dataclass(frozen=True, kw_only=True, eq=False)
class FrameMeaning:
    """Arrays over PLACES (5,): E, N and height in the frame (m), latitude and longitude (rad), point scale,
    elevation factor and their product, convergence (rad, positive where grid north lies east of true north),
    ellipsoidal height and geoid height (m), nan where not known."""

    e_m: FloatArray
    n_m: FloatArray
    height_m: FloatArray
    lat_rad: FloatArray
    lon_rad: FloatArray
    point_scale: FloatArray
    elevation: FloatArray
    combined: FloatArray
    convergence_rad: FloatArray
    h_ell_m: FloatArray
    geoid_m: FloatArray
    outside: bool

    @property
    def combined_ppm(self) -> FloatArray:
        """Combined factor less 1, parts per million; a tenth of it is the millimetres that 100 m on the
        ground are longer on the grid."""
        return (self.combined - 1.0) * 1e6


def frame_meaning(frame: Frame, e_m: FloatArray, n_m: FloatArray, height_m: FloatArray) -> FrameMeaning:
    """The meaning of a frame over positions (k,), of which one or more are finite: corners of their box,
    heights their mean.

    outside: a corner lies outside the area the system is meant for. Raises FrameError without a datum,
    ValueError without a position.
    """
    fine = np.isfinite(e_m) & np.isfinite(n_m)
    if not fine.any():
        raise ValueError("there is no position to look at")
    west, east, south, north = e_m[fine].min(), e_m[fine].max(), n_m[fine].min(), n_m[fine].max()
    e = np.array([0.5 * (west + east), west, east, west, east])
    n = np.array([0.5 * (south + north), north, north, south, south])
    known = height_m[fine & np.isfinite(height_m)]
    height = np.full(5, known.mean() if known.size else np.nan)
    lat, lon = frame.inverse(e, n)
    geoid = frame.geoid_height(lat, lon)
    h_ell = (
        height + geoid if frame.spec.height.kind in ("ellipsoid", "geoid", "vertical") else np.full(5, np.nan)
    )
    scale, convergence = frame.point_scale(lat, lon)
    elevation = frame.elevation_factor(lat, h_ell)
    area = frame.area_of_use()
    outside = False
    if area is not None:
        across = area[0] <= area[2]
        in_lon = (lon >= area[0]) & (lon <= area[2]) if across else (lon >= area[0]) | (lon <= area[2])
        outside = bool((~(in_lon & (lat >= area[1]) & (lat <= area[3]))).any())
    return FrameMeaning(
        e_m=e,
        n_m=n,
        height_m=height,
        lat_rad=lat,
        lon_rad=lon,
        point_scale=scale,
        elevation=elevation,
        combined=scale * elevation,
        convergence_rad=convergence,
        h_ell_m=h_ell,
        geoid_m=geoid if frame.geoid is not None else np.full(5, np.nan),
        outside=outside,
    )
