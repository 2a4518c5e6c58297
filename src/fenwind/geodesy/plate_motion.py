"""Motion of tectonic plates: where a position in a system that moves with time is at another epoch.

The rotations are those of PROJ's own files (plates of ITRF2008, ITRF2014 and ITRF2020); which plate a place
is on is for somebody to say: there is no map of plates here.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import numpy as np
import pyproj
from numpy.typing import NDArray

from fenwind.errors import FrameError
from fenwind.geodesy.geocentric import enu_axes

FloatArray = NDArray[np.float64]
MODELS = ("ITRF2008", "ITRF2014", "ITRF2020")
_LINE = re.compile(r"^<(\w{4})>.*\+drx=(\S+) \+dry=(\S+) \+drz=(\S+)", re.MULTILINE)
_ARC_SECOND = np.pi / 648000.0

#: Places well inside a plate (latitude, longitude in degrees), to tell how large a motion may be where
#: nobody named the plate; common practice, no source. Never used to move anything.
_INSIDE = (
    ("EURA", ((50, 10), (60, 90), (62, 15), (48, 45), (35, 110), (40, -4))),
    ("NOAM", ((45, -100), (60, -90), (35, -85), (72, -40), (22, -102))),
    ("SOAM", ((-10, -55), (-30, -60), (-45, -69), (2, -60))),
    ("NUBI", ((15, 5), (0, 20), (-25, 22), (28, 15))),
    ("SOMA", ((-5, 42), (-20, 47))),
    ("ARAB", ((24, 45), (32, 43))),
    ("INDI", ((20, 78), (10, 78))),
    ("AUST", ((-25, 135), (-33, 147), (-30, 120), (-36, 174), (-6, 143))),
    ("ANTA", ((-80, 0), (-80, 120), (-80, -120))),
    ("PCFC", ((10, -160), (-30, -150), (30, -150), (-15, -170))),
    ("NAZC", ((-20, -85),)),
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Plate:
    """One plate of one model; omega_rad: rotation about the geocentric axes, radians a year."""

    model: str
    name: str
    omega_rad: tuple[float, float, float]

    def velocity(self, xyz_m: FloatArray) -> FloatArray:
        """Velocities (3, n) of geocentric positions (3, n), metres a year: omega x X, the position vector
        convention of Altamimi et al., ITRF2014 plate motion model, 2017 (from memory)."""
        return np.cross(np.array(self.omega_rad), xyz_m, axis=0)


@cache
def plates(model: str) -> dict[str, Plate]:
    """The plates of a model by name. Raises FrameError for a model that PROJ has no file of."""
    if model not in MODELS:
        raise FrameError(f"there is no plate model {model!r}", hint=f"Use one of {', '.join(MODELS)}")
    text = (Path(pyproj.datadir.get_data_dir()) / model).read_text(encoding="utf-8")
    return {
        name: Plate(model=model, name=name, omega_rad=_omega(*seconds))
        for name, *seconds in _LINE.findall(text)
    }


def _omega(x: str, y: str, z: str) -> tuple[float, float, float]:
    return float(x) * _ARC_SECOND, float(y) * _ARC_SECOND, float(z) * _ARC_SECOND


def find_plate(text: str, system: str = "") -> Plate:
    """The plate of `MODEL:PLATE`, or of `PLATE` in the model of a system's realisation. Raises FrameError,
    with those there are, for an unknown one."""
    model, _, name = text.strip().upper().rpartition(":")
    if not model:
        model = next((m for m in MODELS if m in system.upper()), "")
        if not model:
            raise FrameError(
                f"{text!r} names no model, and the system is of none",
                hint=f"Write MODEL:PLATE, with one of {', '.join(MODELS)}",
            )
    known = plates(model)
    if name not in known:
        raise FrameError(
            f"there is no plate {name!r} in {model}", hint=f"Use one of {', '.join(sorted(known))}"
        )
    return known[name]


def likely_plate(lat_rad: float, lon_rad: float) -> Plate:
    """The plate whose interior is nearest: good enough for the size of a doubt, for nothing else."""
    names = [name for name, places in _INSIDE for _ in places]
    lat, lon = np.radians(np.array([p for _, places in _INSIDE for p in places], dtype=float)).T
    nearness = np.sin(lat) * np.sin(lat_rad) + np.cos(lat) * np.cos(lat_rad) * np.cos(lon - lon_rad)
    return plates("ITRF2014")[names[int(nearness.argmax())]]


def moved(
    system: pyproj.CRS,
    velocity: FloatArray,
    lat_rad: FloatArray,
    lon_rad: FloatArray,
    h_m: FloatArray,
    years: float,
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Latitude, longitude (radians) and ellipsoidal height (n,) after some years with velocities (3, n) in
    local east, north, up, metres a year; heights that are nan stay so."""
    there, back = _geocentric(system)
    xyz = np.array(there.transform(lon_rad, lat_rad, np.nan_to_num(h_m), radians=True))
    way = np.einsum("ijk,ik->jk", enu_axes(lat_rad, lon_rad), velocity * years)
    x, y, z = xyz + way
    lon, lat, up = back.transform(x, y, z, radians=True)
    return np.asarray(lat), np.asarray(lon), np.where(np.isfinite(h_m), up, np.nan)


def rates(
    system: pyproj.CRS, plate: Plate, lat_rad: FloatArray, lon_rad: FloatArray, h_m: FloatArray
) -> FloatArray:
    """Velocities (3, n) in local east, north, up, metres a year."""
    there, _ = _geocentric(system)
    xyz = np.array(there.transform(lon_rad, lat_rad, np.nan_to_num(h_m), radians=True))
    return np.asarray(np.einsum("ijk,jk->ik", enu_axes(lat_rad, lon_rad), plate.velocity(xyz)))


def _geocentric(system: pyproj.CRS) -> tuple[pyproj.Transformer, pyproj.Transformer]:
    ellipsoid = system.ellipsoid
    assert ellipsoid is not None
    shape = f"+a={ellipsoid.semi_major_metre!r} +b={ellipsoid.semi_minor_metre!r}"
    there = pyproj.Transformer.from_pipeline(f"+proj=cart {shape}")
    back = pyproj.Transformer.from_pipeline(f"+proj=pipeline +step +inv +proj=cart {shape}")
    return there, back
