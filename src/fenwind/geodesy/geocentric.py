"""Geocentric positions and local east, north, up on an ellipsoid.

Source: Torge and Müller, Geodesy, 4th edition 2012, section 4.1 (from memory); the inverse by Bowring,
1985, iterated.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

FloatArray = NDArray[np.float64]

#: GRS 1980 (Moritz, Journal of Geodesy 74, 2000): semi-major axis in metres and flattening.
GRS80_A, GRS80_F = 6378137.0, 1.0 / 298.257222101


def to_xyz(
    lat_rad: ArrayLike, lon_rad: ArrayLike, h_m: ArrayLike, a: float = GRS80_A, f: float = GRS80_F
) -> FloatArray:
    """Geocentric positions (3, ...) in metres of latitudes, longitudes and ellipsoidal heights."""
    lat, lon, h = (np.asarray(v, dtype=float) for v in (lat_rad, lon_rad, h_m))
    e2 = f * (2.0 - f)
    normal = a / np.sqrt(1.0 - e2 * np.sin(lat) ** 2)
    return np.stack(
        np.broadcast_arrays(
            (normal + h) * np.cos(lat) * np.cos(lon),
            (normal + h) * np.cos(lat) * np.sin(lon),
            (normal * (1.0 - e2) + h) * np.sin(lat),
        )
    )


def from_xyz(
    xyz_m: ArrayLike, a: float = GRS80_A, f: float = GRS80_F
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Latitude, longitude (radians) and ellipsoidal height (metres) of geocentric positions (3, ...)."""
    x, y, z = np.asarray(xyz_m, dtype=float)
    e2 = f * (2.0 - f)
    p = np.hypot(x, y)
    lat = np.arctan2(z, p * (1.0 - e2))
    for _ in range(6):
        normal = a / np.sqrt(1.0 - e2 * np.sin(lat) ** 2)
        lat = np.arctan2(z + e2 * normal * np.sin(lat), p)
    normal = a / np.sqrt(1.0 - e2 * np.sin(lat) ** 2)
    h = p * np.cos(lat) + z * np.sin(lat) - normal * (1.0 - e2 * np.sin(lat) ** 2)
    return lat, np.arctan2(y, x), h


def gaussian_radius(lat_rad: ArrayLike, a: float, b: float) -> FloatArray:
    """sqrt(M N), the mean radius of curvature in metres at latitudes (...) of an ellipsoid of semi-axes a
    and b; Torge and Müller, Geodesy, 4th edition 2012 (from memory)."""
    e2 = 1.0 - (b / a) ** 2
    return np.asarray(a * np.sqrt(1.0 - e2) / (1.0 - e2 * np.sin(np.asarray(lat_rad, dtype=float)) ** 2))


def enu_axes(lat_rad: ArrayLike, lon_rad: ArrayLike) -> FloatArray:
    """Unit vectors east, north, up (3, 3, ...) as rows in geocentric axes: rows times a geocentric difference
    give its local components."""
    lat, lon = np.broadcast_arrays(np.asarray(lat_rad, dtype=float), np.asarray(lon_rad, dtype=float))
    s, c, sl, cl = np.sin(lat), np.cos(lat), np.sin(lon), np.cos(lon)
    zero = np.zeros(lat.shape)
    return np.stack(
        [np.stack([-sl, cl, zero]), np.stack([-s * cl, -s * sl, c]), np.stack([c * cl, c * sl, s])]
    )
