"""Frames: a horizontal system, a height reference, units, axis order and epoch.

A `FrameSpec` is the recipe, a plain frozen value that a job keeps; a `Frame` is the live object made from it.
Every coordinate that passes through a Frame is in metres, easting before northing; only `unit` and
`axis_order` of the recipe tell how people and files write them.
"""

from __future__ import annotations

import math
import os
import re
import threading
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
import pyproj
from numpy.typing import ArrayLike, NDArray
from pyproj.exceptions import CRSError, ProjError

from fenwind.errors import FrameError
from fenwind.geodesy.axes import (
    Parts,
    ShownAxis,
    bound_grid,
    from_greenwich,
    geodetic_of,
    is_plane,
    own_axes,
    parts_of,
    shown_axes,
    to_greenwich,
    true_axes,
)
from fenwind.geodesy.geoid import GeoidGrid, VerticalRelation
from fenwind.quantities.lengths import UNITS

FloatArray = NDArray[np.float64]
_FIND_HINT = "Use an EPSG code such as EPSG:25832, WKT or a PROJ string of a projected system"


@dataclass(frozen=True, slots=True, kw_only=True)
class HeightReference:
    """What heights of a frame are counted from: the ellipsoid, the geoid of a grid file, a vertical system of
    the EPSG dataset (`crs` its code; `grid` a file that realises it, empty to let PROJ find one), a plain
    local zero, or nothing that anybody stated."""

    kind: Literal["ellipsoid", "geoid", "vertical", "local", "unknown"] = "ellipsoid"
    grid: str = ""
    name: str = ""
    crs: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class FrameSpec:
    """Recipe of a frame. `crs` empty means a local plane with no known relation to the earth; `unit` is a key
    of UNITS; `epoch_year` the coordinate epoch as a decimal year for positions that carry none, None where
    the system is static or it is not known; plate: `MODEL:PLATE` that its positions move with, empty where
    nobody said so; axis_order is how people and files write it."""

    name: str
    crs: str = ""
    height: HeightReference = HeightReference()
    unit: str = "m"
    axis_order: Literal["EN", "NE"] = "EN"
    epoch_year: float | None = None
    plate: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Factors:
    """Arrays of one shape: point scale factor, convergence (rad, east positive), elevation factor, combined
    factor."""

    point_scale: FloatArray
    convergence_rad: FloatArray
    elevation: FloatArray
    combined: FloatArray


class _ThreadCache(threading.local):
    """What one thread has opened. PROJ's objects belong to the thread that made them; sharing them between
    threads crashes."""

    def __init__(self) -> None:
        self.systems: dict[str, pyproj.CRS] = {}
        self.frames: dict[tuple[FrameSpec, bytes], Frame] = {}


_cache = _ThreadCache()
_CACHE_LIMIT = 200


#: Files that a definition names: a parameter of PROJ, or of WKT.
_NAMED_FILES = re.compile(
    r"(?:nadgrids|geoidgrids|grids|init|file)=@?([^\s\"]+)|PARAMETERFILE\[[^\]]*?,\s*\"([^\"]*)\""
)


def check_named_files(text: str) -> None:
    """Raise FrameError for a definition, such as one that came with a file, that names a pipe, a device or a
    file that is not there by its path: PROJ would wait for it, or read whatever it is."""
    for found in _NAMED_FILES.finditer(text):
        for name in (found[1] or found[2] or "").split(","):
            path = name.removeprefix("@")
            if os.sep in path and not os.path.isfile(path):
                raise FrameError(
                    f"the system names {path[:80]!r}, which is no file", hint="Choose the system by its code"
                )


def find_crs(text: str) -> pyproj.CRS:
    """The coordinate reference system of a code, WKT or PROJ string. Raises FrameError when PROJ knows
    none, and for definitions that name a file that is none."""
    if text not in _cache.systems:
        check_named_files(text)
        try:
            found = pyproj.CRS.from_user_input(text)
        except CRSError as error:
            raise FrameError(f"{text[:60]!r} is not a known coordinate system", hint=_FIND_HINT) from error
        if len(_cache.systems) > _CACHE_LIMIT:
            _cache.systems.clear()
        _cache.systems[text] = found
    return _cache.systems[text]


def crs_unit_metres(crs: pyproj.CRS) -> float:
    """Metres in one unit of a projected system's axes."""
    return float(crs.axis_info[0].unit_conversion_factor)


def is_dynamic(text: str) -> bool:
    """Whether coordinates in a system change with time, so that they mean little without an epoch."""
    base = geodetic_of(find_crs(text)).geodetic_crs
    return bool(base is not None and base.datum is not None and "Dynamic" in base.datum.type_name)


def unit_key_of(crs_text: str) -> str:
    """Key of the length unit a projected system is defined in. Raises FrameError for units Fenwind does not
    know."""
    factor = crs_unit_metres(_parts(crs_text).plain)
    for unit in UNITS.values():
        if math.isclose(unit.metres, factor, rel_tol=1e-12):
            return unit.key
    raise FrameError(
        f"the unit of {crs_text} ({factor} m) is not known",
        hint="Use a system in metres, feet or US survey feet",
    )


def _parts(text: str) -> Parts:
    crs = find_crs(text)
    parts = parts_of(crs)
    if parts is None or not is_plane(parts.plain):
        raise FrameError(f"{crs.name} is not a projected system", hint=_FIND_HINT)
    return parts


class Frame:
    """A live frame. Local planes know no latitude; asking for one raises FrameError."""

    def __init__(self, spec: FrameSpec) -> None:
        """Look the system up and open the geoid grid. Raises FrameError when either fails or the unit is
        unknown."""
        if spec.unit not in UNITS:
            raise FrameError(
                f"unit {spec.unit!r} is not known", where=spec.name, hint=f"Use one of {', '.join(UNITS)}"
            )
        self.spec = spec
        self._parts = _parts(spec.crs) if spec.crs else None
        self.crs = self._parts.plain if self._parts is not None else None
        shift = bound_grid(find_crs(spec.crs)) if spec.crs else ""
        if os.path.isabs(shift) and not os.path.isfile(shift):
            raise FrameError(
                f"its shift grid {os.path.basename(shift)} is not there", where=spec.name,
                hint="Put the file back, or let the frame go without it",
            )  # fmt: skip
        height = spec.height
        self.geoid: GeoidGrid | VerticalRelation | None = None
        if height.kind in ("geoid", "vertical") and self.crs is None:
            raise FrameError(
                "heights above a geoid need a frame with a datum",
                where=spec.name,
                hint="Choose local heights for a local plane",
            )
        if height.grid and height.kind in ("geoid", "vertical"):
            self.geoid = GeoidGrid(height.grid)
        elif height.kind == "vertical":
            self.geoid = VerticalRelation(self.geodetic_crs, find_crs(height.crs))

    @property
    def has_datum(self) -> bool:
        """Whether positions can be turned into latitude and longitude."""
        return self.crs is not None

    def _require_crs(self) -> pyproj.CRS:
        if self.crs is None:
            raise FrameError(
                f"{self.spec.name} is a local plane with no known relation to the earth",
                hint="Choose a frame with a datum for latitude, factors and ellipsoid distances",
            )
        return self.crs

    @property
    def geodetic_crs(self) -> pyproj.CRS:
        """The geographic system below the projection, with the datum parameters that are bound to it."""
        self._require_crs()
        assert self._parts is not None
        return self._parts.geodetic

    @property
    def geodetic_name(self) -> str:
        """Code of the geographic system below the projection, such as EPSG:4258, its WKT where it has
        none."""
        authority = self.geodetic_crs.to_authority()
        return ":".join(authority) if authority else self.geodetic_crs.to_wkt()

    @cached_property
    def _base(self) -> pyproj.CRS:
        """The geographic system that the projection itself starts from, with its meridian and its unit."""
        base = self._require_crs().geodetic_crs
        assert base is not None
        return base.to_2d()

    @cached_property
    def _transformer(self) -> pyproj.Transformer:
        try:
            return pyproj.Transformer.from_crs(self._base, self._require_crs().to_2d(), always_xy=True)
        except ProjError as error:
            raise FrameError(
                "PROJ cannot project into this system", where=self.spec.name[:60], hint=_FIND_HINT
            ) from error

    @cached_property
    def _proj(self) -> pyproj.Proj:
        return pyproj.Proj(self._require_crs())

    @cached_property
    def _spherical(self) -> bool:
        """Whether the projection treats ellipsoidal latitudes as those of a sphere; PROJ's factors then are
        those of the sphere."""
        operation = self._require_crs().coordinate_operation
        return operation is not None and "Pseudo Mercator" in operation.method_name

    @cached_property
    def geod(self) -> pyproj.Geod:
        """Geodesics on the frame's ellipsoid."""
        ellipsoid = self._require_crs().ellipsoid
        assert ellipsoid is not None
        return pyproj.Geod(a=ellipsoid.semi_major_metre, b=ellipsoid.semi_minor_metre)

    def area_of_use(self) -> tuple[float, float, float, float] | None:
        """West, south, east, north in radians, or None where none is stated."""
        area = self.crs.area_of_use if self.crs is not None else None
        if area is None:
            return None
        west, south, east, north = (math.radians(v) for v in area.bounds)
        return west, south, east, north

    def forward(self, lat_rad: ArrayLike, lon_rad: ArrayLike) -> tuple[FloatArray, FloatArray]:
        """Easting and northing in metres of geodetic positions in the frame's own datum; inf where
        undefined."""
        crs = self._require_crs()
        own = self._transformer.transform(*from_greenwich(self._base, lat_rad, lon_rad))
        east, north = true_axes(crs, *own)
        return east * crs_unit_metres(crs), north * crs_unit_metres(crs)

    def inverse(self, e_m: ArrayLike, n_m: ArrayLike) -> tuple[FloatArray, FloatArray]:
        """Latitude and longitude in radians of projected positions in metres; inf where undefined."""
        crs = self._require_crs()
        unit = crs_unit_metres(crs)
        own = own_axes(crs, np.asarray(e_m, dtype=float) / unit, np.asarray(n_m, dtype=float) / unit)
        return to_greenwich(self._base, *self._transformer.transform(*own, direction="INVERSE"))

    def geoid_height(self, lat_rad: ArrayLike, lon_rad: ArrayLike) -> FloatArray:
        """Geoid height in metres, zeros where heights are not counted from a geoid; nan outside its grid, and
        where the grid is missing."""
        if self.geoid is None:
            return np.zeros(np.broadcast(np.asarray(lat_rad), np.asarray(lon_rad)).shape)
        return self.geoid.height(lat_rad, lon_rad)

    def radii(self, lat_rad: ArrayLike) -> tuple[FloatArray, FloatArray]:
        """Radii of curvature of the meridian M and of the prime vertical N, metres.

        Source: Torge and Müller, Geodesy, 4th edition 2012 (from memory); checked by differences in
        tests/geodesy.
        """
        crs = self._require_crs()
        assert crs.ellipsoid is not None
        a, b = crs.ellipsoid.semi_major_metre, crs.ellipsoid.semi_minor_metre
        e2 = 1.0 - (b / a) ** 2
        w2 = 1.0 - e2 * np.sin(np.asarray(lat_rad, dtype=float)) ** 2
        return a * (1.0 - e2) / w2**1.5, a / np.sqrt(w2)

    def elevation_factor(self, lat_rad: ArrayLike, h_ell_m: ArrayLike) -> FloatArray:
        """R / (R + h) with R = sqrt(M N) at the mark and h the ellipsoidal height; common practice, no
        source."""
        meridian, prime = self.radii(lat_rad)
        radius = np.sqrt(meridian * prime)
        return np.asarray(radius / (radius + np.asarray(h_ell_m, dtype=float)))

    def point_scale(self, lat_rad: ArrayLike, lon_rad: ArrayLike) -> tuple[FloatArray, FloatArray]:
        """Point scale factor along the parallel (equal in all directions for conformal projections) and
        convergence in radians, positive where grid north lies east of true north."""
        if not self._require_crs().is_projected:
            return self._measured_scale(lat_rad, lon_rad)
        try:
            # PROJ counts from the system's own meridian here, but in radians whatever its unit.
            unit = self._base.axis_info[0].unit_conversion_factor
            lon, lat = (v * unit for v in from_greenwich(self._base, lat_rad, lon_rad))
            factors = self._proj.get_factors(lon, lat, radians=True)
        except ProjError as error:
            raise FrameError(
                "no scale factor can be computed here",
                where=self.spec.name,
                hint="Stay inside the area of use",
            ) from error
        convergence = np.radians(np.asarray(factors.meridian_convergence))
        if self._spherical:
            return self.line_scale(lat_rad, lon_rad, 0.5 * math.pi), convergence
        return np.asarray(factors.parallel_scale), convergence

    def _measured_scale(self, lat_rad: ArrayLike, lon_rad: ArrayLike) -> tuple[FloatArray, FloatArray]:
        """What point_scale gives, from short lines carried over: for systems that PROJ has no factors of."""
        lon, lat = np.broadcast_arrays(np.asarray(lon_rad, dtype=float), np.asarray(lat_rad, dtype=float))
        reach = np.full(lon.shape, 50.0)
        turns = (np.zeros(lon.shape), np.full(lon.shape, math.pi))
        ends = [self.geod.fwd(lon, lat, turn, reach, radians=True) for turn in turns]
        (e1, n1), (e2, n2) = (self.forward(np.asarray(y), np.asarray(x)) for x, y, _ in ends)
        return self.line_scale(lat, lon, 0.5 * math.pi), np.asarray(-np.arctan2(e1 - e2, n1 - n2))

    def axis_scales(self, lat_rad: ArrayLike, lon_rad: ArrayLike) -> tuple[FloatArray, FloatArray]:
        """Point scale factors along the meridian and along the parallel; equal for conformal projections."""
        return self.line_scale(lat_rad, lon_rad, 0.0), self.line_scale(lat_rad, lon_rad, 0.5 * math.pi)

    def line_scale(self, lat_rad: ArrayLike, lon_rad: ArrayLike, azimuth_rad: ArrayLike) -> FloatArray:
        """Scale factor in a direction: grid length over geodesic length of 10 m through each place; what
        point_scale gives for conformal projections, and what it cannot give for others."""
        lon, lat, azimuth = np.broadcast_arrays(
            *(np.asarray(v, dtype=float) for v in (lon_rad, lat_rad, azimuth_rad))
        )
        half = np.full(lon.shape, 5.0)
        ends = [self.geod.fwd(lon, lat, azimuth + turn, half, radians=True) for turn in (0.0, math.pi)]
        (e1, n1), (e2, n2) = (self.forward(np.asarray(y), np.asarray(x)) for x, y, _ in ends)
        return np.asarray(np.hypot(e2 - e1, n2 - n1) / 10.0)

    def factors(self, lat_rad: ArrayLike, lon_rad: ArrayLike, h_ell_m: ArrayLike) -> Factors:
        """Point scale, convergence, elevation factor and combined factor (their product)."""
        scale, convergence = self.point_scale(lat_rad, lon_rad)
        elevation = self.elevation_factor(lat_rad, h_ell_m)
        return Factors(
            point_scale=scale, convergence_rad=convergence, elevation=elevation, combined=scale * elevation
        )


def height_words(height: HeightReference) -> str:
    """What heights are counted from, in a few words."""
    plain = {
        "ellipsoid": "the ellipsoid",
        "geoid": "a geoid grid",
        "vertical": height.crs,
        "local": "its own zero",
        "unknown": "something unstated",
    }
    return height.name or height.crs or plain[height.kind]


def open_frame(spec: FrameSpec, contents: bytes = b"") -> Frame:
    """The live frame of a recipe, kept for reuse by this thread; PROJ objects are dear to make. contents:
    digest of its grid's file, where that is known, so that a grid that changed at its place is opened
    again."""
    key = (spec, contents)
    if key not in _cache.frames:
        if len(_cache.frames) > _CACHE_LIMIT:
            _cache.frames.clear()
        _cache.frames[key] = Frame(spec)
    return _cache.frames[key]


def axes_of(spec: FrameSpec) -> tuple[ShownAxis, ShownAxis]:
    """The plane coordinates of a frame as people read and write them. Raises FrameError for a system that is
    not known."""
    return shown_axes(_parts(spec.crs).plain if spec.crs else None, spec.axis_order == "NE")


def working_frame_spec(crs: str, geoid: str = "") -> FrameSpec:
    """Recipe for a projected system in the unit it is defined in, heights from a geoid grid or the
    ellipsoid."""
    height = HeightReference(kind="geoid", grid=geoid) if geoid else HeightReference()
    return FrameSpec(name=find_crs(crs).name, crs=crs, height=height, unit=unit_key_of(crs))
