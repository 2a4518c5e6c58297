"""Areas of use: west, south, east, north."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import ArrayLike, NDArray


def inside_area(
    area: tuple[float, float, float, float], lat_rad: ArrayLike, lon_rad: ArrayLike
) -> NDArray[np.bool_]:
    """Whether positions (n,) lie in west, south, east, north (all radians); an area may cross the half turn.

    Positions that are not finite lie outside."""
    west, south, east, north = area
    lat, lon = np.asarray(lat_rad, dtype=float), np.asarray(lon_rad, dtype=float)
    lat = np.where(np.isfinite(lat) & np.isfinite(lon), lat, math.inf)
    from_west = np.mod(np.where(np.isfinite(lon), lon, 0.0) - west, 2.0 * math.pi)
    return np.asarray((lat >= south) & (lat <= north) & (from_west <= _width(west, east)))


def beyond_area_m(
    area: tuple[float, float, float, float], lat_rad: ArrayLike, lon_rad: ArrayLike
) -> NDArray[np.float64]:
    """About how far positions (n,) lie beyond the edge of an area, metres on a sphere of 6,371 km; 0 inside,
    infinite for positions that are not finite."""
    west, south, east, north = area
    lat, lon = np.asarray(lat_rad, dtype=float), np.asarray(lon_rad, dtype=float)
    up = np.maximum(np.maximum(south - lat, lat - north), 0.0)
    turns = [np.abs(np.mod(lon - edge + math.pi, 2.0 * math.pi) - math.pi) for edge in (west, east)]
    beside = np.mod(lon - west, 2.0 * math.pi) > _width(west, east)
    across = np.where(beside, np.minimum(*turns) * np.cos(lat), 0.0)
    return np.asarray(np.where(np.isfinite(lat + lon), 6.371e6 * np.hypot(up, across), math.inf))


def _width(west: float, east: float) -> float:
    """Extent in longitude from west to east, radians above 0 to 2 pi; a whole turn where both are one."""
    return math.fmod(east - west + 2.0 * math.pi, 2.0 * math.pi) or 2.0 * math.pi
