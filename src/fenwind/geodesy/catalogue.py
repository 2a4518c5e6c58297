"""Systems of the EPSG dataset, found by any words of their name, by code, by country, or by where the job
lies."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import cache
from typing import Literal

from pyproj.database import query_crs_info
from pyproj.enums import PJType

from fenwind.errors import ParseError
from fenwind.geodesy.area import inside_area
from fenwind.geodesy.frames import find_crs
from fenwind.geodesy.towns import Town, towns_named
from fenwind.quantities.geographic import parse_latitude, parse_longitude

SystemKind = Literal["projected", "vertical"]
_TYPES = {"projected": PJType.PROJECTED_CRS, "vertical": PJType.VERTICAL_CRS}


@dataclass(frozen=True, slots=True, kw_only=True)
class System:
    """One system: code such as EPSG:25832, where it may be used in words, and the bounds of that (west,
    south, east, north; radians; west > east across the date line), None where none are stated. year: of its
    datum's realisation, as its name says it, 0 without. newer: the name of the newest one of the same
    projection for the same area, empty where this is it."""

    code: str
    name: str
    area: str
    bounds: tuple[float, float, float, float] | None
    projection: str
    words: str
    year: int = 0
    newer: str = ""

    @property
    def extent(self) -> float:
        """Size of the area on the unit sphere, infinite where none is stated."""
        if self.bounds is None:
            return math.inf
        west, south, east, north = self.bounds
        return ((east - west) % (2 * math.pi) or 2 * math.pi) * (math.sin(north) - math.sin(south))

    @property
    def middle(self) -> tuple[float, float] | None:
        """Latitude and longitude of the middle of its area."""
        if self.bounds is None:
            return None
        west, south, east, north = self.bounds
        return 0.5 * (south + north), west + 0.5 * ((east - west) % (2 * math.pi))

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
    # A system meant for several areas stands there once for each; the last, which is the widest, is kept,
    # with the words of all.
    every: dict[str, System] = {}
    for system in sorted(found, key=lambda s: s.extent):
        before = every.get(system.code)
        every[system.code] = system if before is None else replace(system, words=system.words + before.words)
    newest: dict[tuple[str, str], System] = {}
    for system in every.values():
        family = _family(system)
        if family not in newest or newest[family].year < system.year:
            newest[family] = system
    of_zone: dict[str, list[System]] = {}
    for system in every.values():
        of_zone.setdefault(_family(system)[0], []).append(system)
    return tuple(replace(s, newer=_newer(s, newest[_family(s)], of_zone)) for s in every.values())


def _newer(system: System, newest: System, of_zone: dict[str, list[System]]) -> str:
    """The name of the newest system that took the place of one: for the same area, else of the same
    projection for an area that holds the middle of its own. World-wide WGS takes no place and gives none."""
    if not system.year:
        return ""
    if newest.year > system.year:
        return newest.name
    middle = system.middle
    if middle is None or " / " not in system.name or system.name.startswith("WGS"):
        return ""
    later = [
        s for s in of_zone[_family(system)[0]]
        if s.year > system.year and not s.name.startswith("WGS") and s.covers(*middle)
        and s.extent > 0.5 * system.extent
    ]  # fmt: skip
    return max(later, key=lambda s: (s.year, -s.extent)).name if later else ""


def _family(system: System) -> tuple[str, str]:
    """Systems of one projection for one area, whatever their datum: what follows the datum in their names."""
    datum, _, projection = system.name.partition(" / ")
    return projection or datum, system.area


#: A realisation's year in the name of a datum: NAD83(2011), GDA2020, ED50, RGF93.
_YEAR = re.compile(r"(?<!\d)(?:(19|20)\d\d|\d\d)(?!\d)")


def _year(name: str) -> int:
    found = [int(m[0]) for m in _YEAR.finditer(name.partition(" / ")[0])]
    years = [v if v > 100 else 1900 + v for v in found if v > 100 or v >= 20]
    return max(years, default=0)


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
        year=_year(name),
    )


def _tokens(text: str) -> list[str]:
    return re.findall(r"\w+", text.lower())


def search(
    text: str, kind: SystemKind = "projected", place: tuple[float, float] | None = None, limit: int = 200
) -> tuple[System, ...]:
    """Systems whose code, name or area have a word that begins with each word of `text`, those that cover
    `place` (lat, lon in radians) only when it is given. A latitude and a longitude may be typed as well, the
    name of a town (after what has its words comes what covers it), and "state plane" for the systems of the
    states of the USA.

    A code that is meant exactly comes first, then names that begin with the text, then those that have no
    newer realisation, then systems of smaller areas, which were made for them.
    """
    typed = typed_place(text)
    if typed is not None:
        text, place = "", typed
    found = _by_words(text, kind, place)[:limit]
    if (place is None or not found) and len(found) < limit:
        town, words = town_in(text)
        at = _by_words(words, kind, (town.lat, town.lon)) if town is not None else []
        found += [s for s in at if s not in found][: limit - len(found)]
    return tuple(found)


def town_in(text: str) -> tuple[Town | None, str]:
    """The town that a text names at its end or its beginning, and the other words: of "utm nairobi" Nairobi
    and utm. None where there is none, or where the words are no place but a system's own."""
    words = text.split()
    for count in range(len(words), 0, -1):
        for town, rest in ((words[-count:], words[:-count]), (words[:count], words[count:])):
            found = towns_named(" ".join(town))
            if found:
                return found[0], " ".join(rest)
    return None, text


def _by_words(text: str, kind: SystemKind, place: tuple[float, float] | None) -> list[System]:
    """Systems by words and place, in the order of `search`."""
    states = _STATES.search(text.lower())
    words = _tokens(_STATES.sub(" ", text.lower()))
    found = [
        s
        for s in systems(kind)
        if all(_begins(w, s.words) for w in words)
        and (place is None or s.covers(*place))
        and (states is None or _of_a_state(s))
    ]
    plain = text.strip().lower()
    exact = {plain, f"epsg:{plain}"}
    found.sort(
        key=lambda s: (
            s.code.lower() not in exact and s.name.lower() != plain,
            not (plain and s.name.lower().startswith(plain)),
            not _named(s, words),
            bool(s.newer),
            s.extent,
            -s.year,
        )
    )
    return found


#: What the systems of the states of the USA are called.
_STATES = re.compile(r"\b(?:state plane|spcs|stateplane)\b")


def _of_a_state(system: System) -> bool:
    """Whether a system is one of the State Plane Coordinate Systems: on NAD, for a part of the USA,
    neither of a world-wide family nor of a whole continent."""
    name = system.name.lower()
    general = ("utm", "albers", "conus", "equal area", "polyconic", "north america")
    usa = "united states (usa)" in system.area.lower()
    return name.startswith("nad") and usa and not any(word in name for word in general)


def typed_place(text: str) -> tuple[float, float] | None:
    """Latitude and longitude, radians, of a text such as 36.1, -86.8 or 36\u00b010' N 86\u00b047' W; None
    where it is no place."""
    text = " ".join(text.split())
    if len(text) > 100:
        return None
    letters = re.match(r"^\s*(.*?[NS])[\s,;]+(.*?[EW])\s*$", text, re.IGNORECASE)
    numbers = re.match(r"^\s*([+\-\u2212]?\d+\.\d+)[\s,;]+([+\-\u2212]?\d+\.\d+)\s*$", text)
    before = re.match(r"^\s*([NS].*?\d\S*)[\s,;]+([EW].*?\d\S*)\s*$", text, re.IGNORECASE)
    found = letters or before or numbers
    if found is None:
        return None
    try:
        return parse_latitude(found[1]), parse_longitude(found[2])
    except ParseError:
        return None


def _begins(word: str, words: str) -> bool:
    """Whether one of some words begins with a word; a number of a zone is a whole one, not the beginning of a
    code."""
    if word.isdigit() and len(word) < 4:
        return re.search(rf" {word}(?!\d)", words) is not None
    return f" {word}" in words


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
