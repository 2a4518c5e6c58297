"""Delays in the atmosphere.

Troposphere: Saastamoinen (1972) in the standard atmosphere, mapped by Niell (1996). Ionosphere: the broadcast
model of GPS (Klobuchar 1987; IS-GPS-200, 20.3.3.5.2.5). Constants from memory, checked against published
values in the tests.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenwind.gnss.signals import SPEED_OF_LIGHT

FloatArray = NDArray[np.float64]
_LATITUDES = np.array([15.0, 30.0, 45.0, 60.0, 75.0])
_DRY = np.array([
    [1.2769934e-3, 1.2683230e-3, 1.2465397e-3, 1.2196049e-3, 1.2045996e-3],
    [2.9153695e-3, 2.9152299e-3, 2.9288445e-3, 2.9022565e-3, 2.9024912e-3],
    [62.610505e-3, 62.837393e-3, 63.721774e-3, 63.824265e-3, 64.258455e-3],
])  # fmt: skip
_SEASON = np.array([
    [0.0, 1.2709626e-5, 2.6523662e-5, 3.4000452e-5, 4.1202191e-5],
    [0.0, 2.1414979e-5, 3.0160779e-5, 7.2562722e-5, 11.723375e-5],
    [0.0, 9.0128400e-5, 4.3497037e-5, 84.795348e-5, 170.37206e-5],
])  # fmt: skip
_WET = np.array([
    [5.8021897e-4, 5.6794847e-4, 5.8118019e-4, 5.9727542e-4, 6.1641693e-4],
    [1.4275268e-3, 1.5138625e-3, 1.4572752e-3, 1.5007428e-3, 1.7599082e-3],
    [4.3472961e-2, 4.6729510e-2, 4.3908931e-2, 4.4626982e-2, 5.4736038e-2],
])  # fmt: skip
_HEIGHT = (2.53e-5, 5.49e-3, 1.14e-3)


def zenith_delays(lat_rad: float, h_m: float) -> tuple[float, float]:
    """Hydrostatic and wet zenith delay, metres, in the standard atmosphere with half the moisture."""
    h = float(np.clip(h_m, -500.0, 9000.0))
    pressure = 1013.25 * (1.0 - 2.2557e-5 * h) ** 5.2568
    kelvin = 288.15 - 6.5e-3 * h
    vapour = 0.5 * 6.108 * np.exp((17.15 * kelvin - 4684.0) / (kelvin - 38.45))
    hydrostatic = 0.0022768 * pressure / (1.0 - 0.00266 * np.cos(2.0 * lat_rad) - 0.00028e-3 * h)
    return float(hydrostatic), float(0.002277 * (1255.0 / kelvin + 0.05) * vapour)


def mapping(
    elevation_rad: FloatArray, lat_rad: float, h_m: float, day_of_year: float
) -> tuple[FloatArray, FloatArray]:
    """Niell's hydrostatic and wet mapping functions (m,)."""
    degrees = abs(np.degrees(lat_rad))
    south = 0.5 if lat_rad < 0.0 else 0.0
    season = np.cos(2.0 * np.pi * ((day_of_year - 28.0) / 365.25 + south))
    dry = [np.interp(degrees, _LATITUDES, a) - season * np.interp(degrees, _LATITUDES, b)
           for a, b in zip(_DRY, _SEASON, strict=True)]  # fmt: skip
    wet = [np.interp(degrees, _LATITUDES, a) for a in _WET]
    sine = np.sin(elevation_rad)
    rise = 1.0 / sine - _continued(sine, *_HEIGHT)
    return _continued(sine, *dry) + rise * h_m / 1000.0, _continued(sine, *wet)


def _continued(sine: FloatArray, a: float, b: float, c: float) -> FloatArray:
    """Marini's continued fraction, 1 in the zenith."""
    return np.asarray((1.0 + a / (1.0 + b / (1.0 + c))) / (sine + a / (sine + b / (sine + c))))


def tropospheric_delay(
    elevation_rad: FloatArray, lat_rad: float, h_m: float, day_of_year: float
) -> FloatArray:
    """Slant delay (m,), metres."""
    hydrostatic, wet = zenith_delays(lat_rad, h_m)
    dry_map, wet_map = mapping(elevation_rad, lat_rad, h_m, day_of_year)
    return np.asarray(hydrostatic * dry_map + wet * wet_map)


def klobuchar_delay(
    alpha: tuple[float, ...], beta: tuple[float, ...], lat_rad: float, lon_rad: float,
    azimuth_rad: FloatArray, elevation_rad: FloatArray, second_of_day: FloatArray,
) -> FloatArray:  # fmt: skip
    """Slant delay (m,) of L1, metres, at GPS times of day (m,)."""
    half = np.pi
    elevation = elevation_rad / half
    psi = 0.0137 / (elevation + 0.11) - 0.022
    phi = np.clip(lat_rad / half + psi * np.cos(azimuth_rad), -0.416, 0.416)
    lam = lon_rad / half + psi * np.sin(azimuth_rad) / np.cos(phi * half)
    magnetic = phi + 0.064 * np.cos((lam - 1.617) * half)
    local = np.mod(4.32e4 * lam + second_of_day, 86400.0)
    slant = 1.0 + 16.0 * (0.53 - elevation) ** 3
    powers = magnetic ** np.arange(4)[:, None]
    amplitude = np.maximum(np.array(alpha) @ powers, 0.0)
    period = np.maximum(np.array(beta) @ powers, 72000.0)
    x = 2.0 * np.pi * (local - 50400.0) / period
    wave = np.where(np.abs(x) < 1.57, amplitude * (1.0 - x**2 / 2.0 + x**4 / 24.0), 0.0)
    return np.asarray(SPEED_OF_LIGHT * slant * (5e-9 + wave))
