"""A plane of its own through the middle of some positions: for work that needs no national system."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray
from pyproj.crs import ProjectedCRS
from pyproj.crs.coordinate_operation import TransverseMercatorConversion

from fenwind.geodesy.frames import FrameSpec, find_crs
from fenwind.geodesy.geocentric import gaussian_radius
from fenwind.quantities.angles import RAD_PER_DEGREE, wrap_signed

FloatArray = NDArray[np.float64]

#: False easting and northing, metres: far enough apart that nobody takes one for the other.
FALSE_E_M, FALSE_N_M = 20_000.0, 60_000.0


def plane_through(
    system: str, lat_rad: FloatArray, lon_rad: FloatArray, h_ell_m: FloatArray, unit: str = "m"
) -> FrameSpec:
    """Recipe of a transverse Mercator plane on a geographic system through the middle of positions (k,), of
    which one or more are finite; scaled to their mean height, so that distances near the middle are those on
    the ground: k = (R + h) / R, R = sqrt(M N). The middle is in whole minutes of arc (longitudes are averaged
    as directions, so that the half turn may lie between them); heights are above the ellipsoid."""
    base = find_crs(system).to_2d()
    fine = np.isfinite(lat_rad) & np.isfinite(lon_rad)
    middle = math.atan2(float(np.sin(lon_rad[fine]).sum()), float(np.cos(lon_rad[fine]).sum()))
    lat = _whole_minutes(float(lat_rad[fine].mean()))
    lon = wrap_signed(_whole_minutes(middle))
    heights = h_ell_m[np.isfinite(h_ell_m)]
    ellipsoid = base.ellipsoid
    assert ellipsoid is not None
    radius = float(gaussian_radius(lat, ellipsoid.semi_major_metre, ellipsoid.semi_minor_metre))
    scale = 1.0 + (float(heights.mean()) if heights.size else 0.0) / radius
    name = f"Plane at {_degrees(lat, 'NS')} {_degrees(lon, 'EW')}"
    crs = ProjectedCRS(
        TransverseMercatorConversion(
            latitude_natural_origin=lat / RAD_PER_DEGREE,
            longitude_natural_origin=lon / RAD_PER_DEGREE,
            false_easting=FALSE_E_M,
            false_northing=FALSE_N_M,
            scale_factor_natural_origin=round(scale, 7),
        ),
        name=name,
        geodetic_crs=base,
    )
    return FrameSpec(name=name, crs=crs.to_wkt(), unit=unit)


def _whole_minutes(angle_rad: float) -> float:
    return round(angle_rad / RAD_PER_DEGREE * 60.0) / 60.0 * RAD_PER_DEGREE


def _degrees(angle_rad: float, letters: str) -> str:
    minutes = round(abs(angle_rad) / RAD_PER_DEGREE * 60.0)
    return f"{minutes // 60}°{minutes % 60:02d}' {letters[0 if angle_rad >= 0 else 1]}"
