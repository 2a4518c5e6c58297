"""Systems of the EPSG dataset, found by any words of their name, by code, by country, or by where the job
lies."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cache
from typing import Literal

from pyproj.database import query_crs_info
from pyproj.enums import PJType

from fenwind.geodesy.area import inside_area
from fenwind.geodesy.frames import find_crs

SystemKind = Literal["projected", "vertical"]
_TYPES = {"projected": PJType.PROJECTED_CRS, "vertical": PJType.VERTICAL_CRS}


@dataclass(frozen=True, slots=True, kw_only=True)
class System:
    """One system: code such as EPSG:25832, where it may be used in words, and the bounds of that (west,
    south, east, north; radians; west > east across the date line), None where none are stated."""

    code: str
    name: str
    area: str
    bounds: tuple[float, float, float, float] | None
    projection: str
    words: str

    @property
    def extent(self) -> float:
        """Size of the area on the unit sphere, infinite where none is stated."""
        if self.bounds is None:
            return math.inf
        west, south, east, north = self.bounds
        return ((east - west) % (2 * math.pi) or 2 * math.pi) * (math.sin(north) - math.sin(south))

    def covers(self, lat_rad: float, lon_rad: float) -> bool:
        """Whether a place lies in the stated area."""
        return self.bounds is not None and bool(inside_area(self.bounds, lat_rad, lon_rad))


@cache
def systems(kind: SystemKind) -> tuple[System, ...]:
    """All systems of a kind that are not deprecated."""
    found = [
        _system(info)
        for info in query_crs_info(auth_name="EPSG", pj_types=[_TYPES[kind]])
        if not info.deprecated
    ]
    # A system meant for several areas stands there once for each; the last, which is the widest, is kept.
    return tuple({system.code: system for system in sorted(found, key=lambda s: s.extent)}.values())


def _system(info: object) -> System:
    area = info.area_of_use  # type: ignore[attr-defined]
    bounds = None
    if area is not None:
        degree = math.pi / 180.0
        bounds = (area.west * degree, area.south * degree, area.east * degree, area.north * degree)
    code, name = f"EPSG:{info.code}", str(info.name)  # type: ignore[attr-defined]
    words = " ".join(["", *_tokens(f"{code} {name} {area.name if area is not None else ''}")])
    projection = str(info.projection_method_name or "")  # type: ignore[attr-defined]
    return System(
        code=code,
        name=name,
        area=area.name if area is not None else "",
        bounds=bounds,
        projection=projection,
        words=words,
    )


def _tokens(text: str) -> list[str]:
    return re.findall(r"\w+", text.lower())


def search(
    text: str, kind: SystemKind = "projected", place: tuple[float, float] | None = None, limit: int = 200
) -> tuple[System, ...]:
    """Systems whose code, name or area have a word that begins with each word of `text`, those that
    cover `place` (lat, lon in radians) only when it is given.

    A code that is meant exactly comes first, then names that begin with the text, then systems of smaller
    areas, which were made for them.
    """
    words = _tokens(text)
    found = [
        s
        for s in systems(kind)
        if all(f" {w}" in s.words for w in words) and (place is None or s.covers(*place))
    ]
    plain = text.strip().lower()
    exact = {plain, f"epsg:{plain}"}
    found.sort(
        key=lambda s: (
            s.code.lower() not in exact and s.name.lower() != plain,
            not (plain and s.name.lower().startswith(plain)),
            not _named(s, words),
            s.extent,
        )
    )
    return tuple(found[:limit])


def _named(system: System, words: Iterable[str]) -> bool:
    """Whether all words stand in the name itself, not only in the area."""
    name = system.name.lower()
    return all(word in name for word in words)


_ZONE = re.compile(r"^(?P<family>.*?)(?P<number>\d+)(?P<half>[NSEW]?)$")


def neighbouring_zones(text: str) -> tuple[str, ...]:
    """Codes of the systems of one family (the same name but for the number of the zone) with the next lower
    and the next higher number; empty where the system's name has none."""
    own = _ZONE.match(find_crs(text).name)
    if own is None:
        return ()
    found: dict[int, str] = {}
    for system in systems("projected"):
        other = _ZONE.match(system.name)
        if other is not None and (other["family"], other["half"]) == (own["family"], own["half"]):
            found[int(other["number"])] = system.code
    number = int(own["number"])
    beside = (
        max((k for k in found if k < number), default=None),
        min((k for k in found if k > number), default=None),
    )
    return tuple(found[k] for k in beside if k is not None)
