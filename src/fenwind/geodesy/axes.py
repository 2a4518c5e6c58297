"""How a system itself writes positions, and how Fenwind holds them: latitude and longitude in radians from
Greenwich, true eastings before true northings.

Systems count longitudes from Paris, Ferro or Madrid, in degrees or grads, and some projected ones run south
or west; PROJ takes and gives what the system says. Only this module knows about that.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
import pyproj
from numpy.typing import ArrayLike, NDArray
from pyproj.crs import BoundCRS
from pyproj.database import query_crs_info
from pyproj.enums import PJType

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class Parts:
    """What a system is made of. plain: the horizontal system without datum parameters bound to it;
    geodetic: the geographic system below it, two-dimensional, with them; vertical: its height system, None
    for ellipsoidal heights."""

    plain: pyproj.CRS
    geodetic: pyproj.CRS
    vertical: pyproj.CRS | None = None


def is_plane(crs: pyproj.CRS) -> bool:
    """Whether a system is a projected one, or one derived from such, as a plane on the ground is; pyproj does
    not count the latter as projected."""
    return bool(crs.is_projected or crs.type_name == "Derived Projected CRS")


def parts_of(crs: pyproj.CRS) -> Parts | None:
    """The parts of a geographic, projected, bound or compound system; None for any other."""
    if crs.is_compound:
        flat, vertical = crs.sub_crs_list[:2]
        below = parts_of(flat)
        return Parts(plain=below.plain, geodetic=below.geodetic, vertical=vertical) if below else None
    plain = crs.source_crs if crs.is_bound and crs.source_crs is not None else crs
    base = plain.geodetic_crs
    if base is None or plain.is_geocentric or not (plain.is_geographic or is_plane(plain)):
        return None
    geodetic = _counted_from_greenwich(base.to_2d())
    if crs.is_bound:
        # Datum parameters stated in the system itself count for the geographic system below it.
        # As a plain CRS: the class of bound ones cannot be made two- or three-dimensional.
        bound = BoundCRS(geodetic, crs.target_crs, crs.coordinate_operation)
        geodetic = pyproj.CRS.from_wkt(bound.to_wkt("WKT2_2019"))
    return Parts(plain=plain if is_plane(plain) else geodetic_of(geodetic), geodetic=geodetic)


@cache
def _geographic_codes() -> dict[str, str]:
    """Codes of the geographic systems of the EPSG dataset by name."""
    found = query_crs_info(auth_name="EPSG", pj_types=[PJType.GEOGRAPHIC_2D_CRS])
    return {str(info.name): f"EPSG:{info.code}" for info in found if not info.deprecated}


def _counted_from_greenwich(base: pyproj.CRS) -> pyproj.CRS:
    """The system of the same datum that counts longitudes from Greenwich, where the dataset has one: that is
    the one published relations start from. Else the system itself."""
    meridian, name = base.prime_meridian, re.sub(r" \([^()]*\)$", "", base.name)
    if meridian is None or meridian.longitude == 0.0 or name not in _geographic_codes():
        return base
    found = pyproj.CRS(_geographic_codes()[name])
    return found if _axes_of(found) == _axes_of(base) else base


def _axes_of(crs: pyproj.CRS) -> tuple[float, float]:
    """Semi-axes of a system's ellipsoid, to a tenth of a millimetre."""
    ellipsoid = crs.ellipsoid
    assert ellipsoid is not None
    return round(ellipsoid.semi_major_metre, 4), round(ellipsoid.semi_minor_metre, 4)


#: What ISO 19162 calls the file of a shift grid.
GRID_PARAMETER = "Latitude and longitude difference file"


def bound_grid(crs: pyproj.CRS) -> str:
    """Path of the shift grid that a system is bound by, empty for any other."""
    if not crs.is_bound:
        return ""
    found = re.search(rf'PARAMETERFILE\["{GRID_PARAMETER}","([^"]+)"', crs.to_wkt("WKT2_2019"))
    return found[1] if found is not None else ""


def geodetic_of(crs: pyproj.CRS) -> pyproj.CRS:
    """A geographic system without datum parameters bound to it."""
    return crs.source_crs if crs.is_bound and crs.source_crs is not None else crs


def _angles(crs: pyproj.CRS) -> tuple[float, float]:
    """Radians in the unit of a geographic system, and its meridian's longitude in radians."""
    plain = geodetic_of(crs)
    meridian = plain.prime_meridian
    zero = float(meridian.longitude) * float(meridian.unit_conversion_factor) if meridian is not None else 0.0
    return float(plain.axis_info[0].unit_conversion_factor), zero


def wrapped(lon_rad: FloatArray) -> FloatArray:
    """Longitudes within half a turn either way; those that are there already keep every digit, infinity and
    nan stay."""
    outside = np.isfinite(lon_rad) & (np.abs(lon_rad) > math.pi)
    turned = np.remainder(np.where(outside, lon_rad, 0.0) + math.pi, 2.0 * math.pi) - math.pi
    return np.where(outside, turned, lon_rad)


def from_greenwich(crs: pyproj.CRS, lat_rad: ArrayLike, lon_rad: ArrayLike) -> tuple[FloatArray, FloatArray]:
    """Longitude and latitude (k,) as the geographic system writes them, in its unit and from its meridian,
    longitude first."""
    unit, zero = _angles(crs)
    return wrapped(np.asarray(lon_rad, dtype=float) - zero) / unit, np.asarray(lat_rad, dtype=float) / unit


def to_greenwich(crs: pyproj.CRS, lon: ArrayLike, lat: ArrayLike) -> tuple[FloatArray, FloatArray]:
    """Latitude and longitude (k,) in radians from Greenwich of what the geographic system writes."""
    unit, zero = _angles(crs)
    return np.asarray(lat, dtype=float) * unit, wrapped(np.asarray(lon, dtype=float) * unit + zero)


def _columns(crs: pyproj.CRS) -> tuple[tuple[int, float], tuple[int, float]]:
    """Column and sign of easting, and of northing, in what PROJ's transformer with x before y gives."""
    first, second = (axis.direction.lower() for axis in crs.axis_info[:2])
    if (first, second) == ("north", "east"):  # PROJ exchanges these
        return (0, 1.0), (1, 1.0)
    signs = {"east": 1.0, "north": 1.0, "west": -1.0, "south": -1.0}
    if first in ("north", "south") and second in ("east", "west"):
        return (1, signs[second]), (0, signs[first])
    if first in ("east", "west") and second in ("north", "south"):
        return (0, signs[first]), (1, signs[second])
    return (0, 1.0), (1, 1.0)  # polar systems, whose axes both run along meridians


def true_axes(crs: pyproj.CRS, first: ArrayLike, second: ArrayLike) -> tuple[FloatArray, FloatArray]:
    """Easting and northing of a projected system's first and second coordinate, all in its unit."""
    values = np.asarray(first, dtype=float), np.asarray(second, dtype=float)
    (east, e_sign), (north, n_sign) = _columns(crs)
    return e_sign * values[east], n_sign * values[north]


def own_axes(crs: pyproj.CRS, east: ArrayLike, north: ArrayLike) -> tuple[FloatArray, FloatArray]:
    """First and second coordinate of a projected system from easting and northing, all in its unit."""
    (column, e_sign), (_, n_sign) = _columns(crs)
    values = e_sign * np.asarray(east, dtype=float), n_sign * np.asarray(north, dtype=float)
    return values if column == 0 else (values[1], values[0])


@dataclass(frozen=True, slots=True, kw_only=True)
class ShownAxis:
    """One plane coordinate as people read and write it: its component ("e" or "n"), its sign against true
    easting or northing, a short title and a word."""

    component: str
    sign: float
    title: str
    word: str

    def of(self, e: Any, n: Any) -> Any:
        """The coordinate as it is written, of true easting and northing (or differences of them), in their
        unit and shape."""
        return self.sign * (e if self.component == "e" else n)


_PLAIN_AXES = (
    ShownAxis(component="e", sign=1.0, title="E", word="easting"),
    ShownAxis(component="n", sign=1.0, title="N", word="northing"),
)


def shown_axes(crs: pyproj.CRS | None, northing_first: bool = False) -> tuple[ShownAxis, ShownAxis]:
    """The plane coordinates of a projected system, or of a plane of none, in the order they are written.
    Systems that count southwards or westwards keep their own order, signs and letters (the axes' order,
    directions and abbreviations in the EPSG dataset)."""
    words = {"west": ("e", "westing"), "south": ("n", "southing"), "east": ("e", "easting")}
    directions = [axis.direction.lower() for axis in crs.axis_info[:2]] if crs is not None else []
    if not {"west", "south"} & set(directions) or len(set(directions)) < 2:
        return (_PLAIN_AXES[1], _PLAIN_AXES[0]) if northing_first else _PLAIN_AXES
    assert crs is not None
    found = []
    for axis, direction in zip(crs.axis_info, directions, strict=False):
        component, word = words.get(direction, ("n", "northing"))
        sign = -1.0 if direction in ("west", "south") else 1.0
        found.append(ShownAxis(component=component, sign=sign, title=axis.abbrev, word=word))
    return found[0], found[1]


def height_scale(vertical: pyproj.CRS) -> float:
    """Metres upwards in one unit of a height system; negative for depths."""
    axis = vertical.axis_info[0]
    return float(axis.unit_conversion_factor) * (-1.0 if axis.direction.lower() == "down" else 1.0)
