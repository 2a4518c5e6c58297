"""The world of the stand-ins: true marks, a base, a rover, antennas, errors and trouble, from a JSON file."""

from __future__ import annotations

import json
import os
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FenwindError, FormatError
from fenwind.exchange.antenna_list import antennas_of
from fenwind.exchange.files import read_bytes
from fenwind.geodesy.antenna import AntennaModel, reduced
from fenwind.geodesy.geocentric import to_xyz
from fenwind.quantities.angles import RAD_PER_DEGREE

FloatArray = NDArray[np.float64]

#: One sigma in east and north (up: times `up`) and correlation time of each state's error, and the other
#: times.
ERRORS: dict[str, float] = {
    "autonomous": 1.5, "autonomous_s": 900.0, "code": 0.5, "code_s": 300.0, "float": 0.2, "float_s": 120.0,
    "fixed": 0.004, "fixed_ppm": 1.0, "fixed_s": 60.0, "white": 0.002, "up": 1.7, "to_float_s": 5.0,
    "to_fixed_s": 20.0, "age_float_s": 10.0, "age_lost_s": 60.0,
}  # fmt: skip
TROUBLES = ("obstruction", "wrong_channel", "jammed", "link", "battery", "storage", "bump", "bubble")


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """A point on the ground, radians and ellipsoidal metres."""

    lat: float
    lon: float
    h: float

    def xyz(self) -> FloatArray:
        """Geocentric position (3,)."""
        return to_xyz(self.lat, self.lon, self.h)


@dataclass(frozen=True, kw_only=True, eq=False)
class World:
    """What is true. base_height, pole: of the ARP over the ground, metres."""

    marks: dict[str, Place]
    base: Place
    base_height: float
    base_antenna: str
    rover: Place
    pole: float
    rover_antenna: str
    separation: float = 0.0
    antennas: dict[str, AntennaModel] = field(default_factory=dict)
    systems: str = "GREC"
    mask_deg: float = 10.0
    broadcast: str = ""
    trouble: tuple[dict[str, Any], ...] = ()
    errors: dict[str, float] = field(default_factory=lambda: dict(ERRORS))


def read_world(path: str | os.PathLike[str]) -> World:
    """Read a world. Raises FormatError with what is wrong where."""
    found = read_json(path)
    try:
        return world_of(found)
    except FormatError as error:
        raise FormatError(error.message, where=str(path), hint=error.hint) from error


def read_json(path: str | os.PathLike[str]) -> Any:
    """What a world file holds. Raises FormatError."""
    where = str(path)
    data = read_bytes(path)
    try:
        return json.loads(data.decode("utf-8"))
    except (ValueError, RecursionError) as error:
        raise FormatError(f"is no JSON: {error}", where=where, hint="Correct the file") from error


def world_of(found: Any) -> World:
    """A world from its JSON. Raises FormatError."""
    if not isinstance(found, dict):
        raise FormatError("a world is an object", hint="See docs/formats/world.md")
    antennas = antennas_of(found.get("antennas", []))
    marks = {str(m.get("name")): place_in(m, "marks") for m in list_in(found, "marks")}
    base, rover = _required(found, "base", dict), object_in(found, "rover")
    antenna = object_in(base, "antenna")
    height, method = number_in(antenna, "height", 0.0), str(antenna.get("method", "vertical"))
    model = str(antenna.get("model", ""))
    systems = str(found.get("systems", "GREC"))
    told = object_in(found, "errors")
    errors = ERRORS | {k: number_in(told, k, ERRORS[k]) for k in ERRORS}
    for key in told:
        if key not in ERRORS:
            raise FormatError(f"errors: {key!r} is not known", hint=f"Use {', '.join(ERRORS)}")
    sky = found.get("sky", {}) or {}
    try:
        arp = reduced(height, method, antennas.get(model))
    except FenwindError as error:
        raise FormatError(f"base.antenna: {error.message}", hint=error.hint) from error
    first = next(iter(marks.values()), None)
    return World(
        marks=marks,
        base=place_at(base, marks, "base"),
        base_height=arp,
        base_antenna=model,
        rover=place_at(rover, marks, "rover")
        if rover.get("mark") or "lat" in rover
        else first or place_at(base, marks, "base"),
        pole=number_in(rover, "pole", 2.0),
        rover_antenna=str(rover.get("model", "")),
        separation=number_in(found, "separation", 0.0),
        antennas=antennas,
        systems="".join(s for s in "GREC" if s in systems) or "GREC",
        mask_deg=number_in(found, "mask", 10.0),
        broadcast=str(sky.get("broadcast", "")) if isinstance(sky, dict) else "",
        trouble=tuple(sorted(list_in(found, "trouble"), key=lambda t: number_in(t, "at_s", 0.0))),
        errors=errors,
    )


def object_in(found: dict[str, Any], key: str) -> dict[str, Any]:
    """The object under a key, an empty one where there is none. Raises FormatError."""
    value = found.get(key, {})
    if not isinstance(value, dict):
        raise FormatError(f"{key}: expected an object", hint="See docs/formats/world.md")
    return value


def list_in(found: dict[str, Any], key: str) -> list[dict[str, Any]]:
    """The objects under a key. Raises FormatError."""
    values = found.get(key, [])
    if not isinstance(values, list) or not all(isinstance(v, dict) for v in values):
        raise FormatError(f"{key}: expected a list of objects", hint="Correct the file")
    return values


def _required(found: Any, key: str, kind: type) -> Any:
    value = found.get(key) if isinstance(found, dict) else None
    if not isinstance(value, kind):
        raise FormatError(f"{key} is missing", hint=f"Give {key}")
    return value


def number_in(found: Any, key: str, default: float) -> float:
    """A number under a key. Raises FormatError."""
    value = found.get(key, default) if isinstance(found, dict) else default
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not abs(value) < 1e300:
        raise FormatError(f"{key}: {value!r} found, expected a number", hint="Correct the file")
    return float(value)


def place_in(found: dict[str, Any], what: str) -> Place:
    """The place that lat, lon (degrees) and h say. Raises FormatError."""
    for key in ("lat", "lon", "h"):
        if key not in found:
            raise FormatError(f"{what}: {key} is missing", hint="Give lat, lon (degrees) and h (metres)")
    lat, lon = number_in(found, "lat", 0.0), number_in(found, "lon", 0.0)
    if abs(lat) > 90.0 or abs(lon) > 360.0:
        raise FormatError(f"{what}: {lat}, {lon} is no place on earth", hint="Give degrees")
    return Place(lat=lat * RAD_PER_DEGREE, lon=lon * RAD_PER_DEGREE, h=number_in(found, "h", 0.0))


def place_at(found: dict[str, Any], marks: dict[str, Place], what: str) -> Place:
    """The place of the mark that is named, or the one that is said. Raises FormatError."""
    name = found.get("mark")
    if name is None:
        return place_in(found, what)
    if not isinstance(name, str) or name not in marks:
        raise FormatError(f"{what}: there is no mark {name!r}", hint=f"Use one of {', '.join(marks)}")
    return marks[name]
