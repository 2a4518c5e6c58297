"""LandXML 1.2, the part about field work: InstrumentSetup, RawObservation and ReducedObservation, in and out.

Source: schema LandXML-1.2 (landxml.org, 2008; from memory). Angles are in the angularUnit of the Units
element, directions of reduced observations in its directionUnit, lengths in its linearUnit.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

import numpy as np

from fenwind.errors import FormatError, ParseError
from fenwind.exchange.files import read_head, write_bytes
from fenwind.exchange.landxml import LINEAR_UNITS, NAMESPACE
from fenwind.exchange.list_units import METRIC, ListUnits
from fenwind.exchange.network_csv import Observation, Sigmas, read_network
from fenwind.exchange.xml_in import elements, local, parse_xml
from fenwind.job.steps.sightings import air_factor
from fenwind.procedures.resection import Sighting, in_face_one
from fenwind.quantities.angles import RAD_PER_GON, parse_angle
from fenwind.quantities.lengths import UNITS
from fenwind.records.setups import Setup


@dataclass(kw_only=True)
class FieldSetup:
    """One set-up of an instrument: the station's name, how high it stood, and what it sighted, with round and
    time of each sighting where a file has them."""

    station: str
    height_m: float = 0.0
    shots: list[Sighting] = field(default_factory=list)
    rounds: list[int] = field(default_factory=list)
    times: list[str] = field(default_factory=list)


@dataclass(frozen=True, kw_only=True)
class FieldWork:
    """What a file holds: set-ups by id, and observations that were reduced already."""

    setups: Mapping[str, FieldSetup]
    reduced: tuple[Observation, ...]


def read_field_work(path: str) -> FieldWork:
    """The set-ups and reduced observations of a file. Raises FormatError with the element that cannot be
    read, or where there is none."""
    root = parse_xml(path, "the LandXML file")
    units = _Units(root, path)
    names = {p.get("name"): p.get("name") for p in elements(root, "CgPoint")}
    setups: dict[str, FieldSetup] = {}
    for number, element in enumerate(elements(root, "InstrumentSetup"), 1):
        where = f"{path}, InstrumentSetup {number}"
        station = _station(element, names)
        if not station:
            raise FormatError("it has no name", where=where, hint="Give it a stationName")
        height = units.length(element.get("instrumentHeight"), where)
        setups[element.get("id") or str(number)] = FieldSetup(
            station=station, height_m=0.0 if math.isnan(height) else height
        )
    reduced: list[Observation] = []
    owner = {id(shot): _id_of(group) for group in _groups(root) for shot in group.iter()}
    for number, element in enumerate(elements(root, "RawObservation"), 1):
        where = f"{path}, RawObservation {number}"
        found = setups.get(element.get("setupID") or owner.get(id(element), ""))
        if found is None:
            raise FormatError(
                "its setupID names no InstrumentSetup", where=where, hint="Have the file written again"
            )
        found.shots.append(_sighting(element, units, where))
    for number, element in enumerate(elements(root, "ReducedObservation"), 1):
        reduced += _reduced(element, units, setups, f"{path}, ReducedObservation {number}", number)
    if not reduced and not any(s.shots for s in setups.values()):
        raise FormatError(
            "there is no observation in it", where=path, hint="Have the field work exported, not only points"
        )
    return FieldWork(setups=setups, reduced=tuple(reduced))


class _Units:
    """The units a file states."""

    def __init__(self, root: Any, path: str) -> None:
        stated = next((e for name in ("Metric", "Imperial") for e in elements(root, name)), None)
        linear = stated.get("linearUnit", "meter") if stated is not None else "meter"
        if linear not in LINEAR_UNITS:
            raise FormatError(
                f"the linear unit {linear!r} is not known",
                where=path,
                hint=f"Known are {', '.join(LINEAR_UNITS)}",
            )
        self._metres = UNITS[LINEAR_UNITS[linear]].metres
        self.angle = self._angular(stated, "angularUnit", path)
        self.direction = self._angular(stated, "directionUnit", path)

    @staticmethod
    def _angular(stated: Any, attribute: str, path: str) -> Callable[[str], float]:
        word = stated.get(attribute, "decimal degrees") if stated is not None else "decimal degrees"
        if word not in _ANGULAR:
            raise FormatError(
                f"the {attribute} {word!r} is not known", where=path, hint=f"Known are {', '.join(_ANGULAR)}"
            )
        return _ANGULAR[word]

    def length(self, text: str | None, where: str) -> float:
        """A length in metres, nan for none."""
        return _number(text, where, lambda t: float(t) * self._metres)


def _sexagesimal(text: str) -> float:
    """Radians of DD.MMSSsss."""
    whole, _, part = text.strip().partition(".")
    part = part.ljust(4, "0")
    seconds = float(f"{part[2:4]}.{part[4:] or '0'}")
    minutes = int(part[:2])
    if minutes >= 60 or seconds >= 60.0:
        raise ValueError(text)
    size = abs(int(whole)) + minutes / 60.0 + seconds / 3600.0
    return math.radians(-size if whole.startswith("-") else size)


_ANGULAR: dict[str, Callable[[str], float]] = {
    "decimal degrees": lambda text: parse_angle(text),
    "degrees": lambda text: parse_angle(text),
    "decimal dd.mm.ss": _sexagesimal,
    "grads": lambda text: float(text) * RAD_PER_GON,
    "radians": float,
}


def _number(text: str | None, where: str, read: Callable[[str], float]) -> float:
    if text is None or not text.strip():
        return math.nan
    try:
        value = read(text)
    except (ValueError, ParseError):
        value = math.nan
    if not math.isfinite(value):
        raise FormatError(f"{text[:40]!r} cannot be read", where=where, hint="Correct it in the file")
    return value


def _station(element: Any, names: Mapping[Any, Any]) -> str:
    """The name of a station: said, or of the point it refers to."""
    said = element.get("stationName", "").strip()
    return said or next((_point(c) for c in element if local(c.tag) == "InstrumentPoint"), "")


def _point(element: Any) -> str:
    return (element.get("name") or element.get("pntRef") or "").strip()


def _groups(root: Any) -> Iterable[Any]:
    """Elements that say for all observations in them which set-up they belong to."""
    yield from (e for e in elements(root, "ObservationGroup") if e.get("setupID"))
    yield from elements(root, "InstrumentSetup")


def _id_of(group: Any) -> str:
    return str(group.get("setupID") or group.get("id") or "")


def _sighting(element: Any, units: _Units, where: str) -> Sighting:
    target = next((_point(c) for c in element if local(c.tag) == "TargetPoint"), "")
    if not target:
        raise FormatError("it has no TargetPoint with a name", where=where, hint="Name what was sighted")
    direction = _number(element.get("horizAngle"), where, units.angle)
    zenith = _number(element.get("zenithAngle"), where, units.angle)
    distance = units.length(element.get("slopeDistance"), where)
    if math.isnan(direction):
        raise FormatError("it has no horizAngle", where=where, hint="A sighting has a direction")
    if not math.isnan(zenith) and not 0.0 < zenith < 2.0 * math.pi:
        raise FormatError("its zenithAngle is not between 0 and a whole turn", where=where, hint="Correct it")
    if distance <= 0.0:
        raise FormatError("its slopeDistance is not above 0", where=where, hint="Correct it")
    height = units.length(element.get("targetHeight"), where)
    face = 1 if (element.get("directFace") or "true").lower() in ("true", "1") else 2
    return Sighting(
        target=target, direction=direction, zenith=zenith, distance=distance,
        target_height=0.0 if math.isnan(height) else height, face=face,
    )  # fmt: skip


def _reduced(
    element: Any, units: _Units, setups: Mapping[str, FieldSetup], where: str, number: int
) -> list[Observation]:
    """An azimuth, and a distance: from mark to mark with its difference in height where both are said, else
    horizontal."""
    at = setups.get(element.get("setupID") or "")
    to = setups.get(element.get("targetSetupID") or "")
    target = next((_point(c) for c in element if local(c.tag) == "TargetPoint"), "")
    names = (at.station if at is not None else "", to.station if to is not None else target)
    if not all(names) or names[0] == names[1]:
        raise FormatError("it does not lead from one mark to another", where=where, hint="Name both")
    azimuth = _number(element.get("azimuth"), where, units.direction)
    flat = units.length(element.get("horizDistance"), where)
    rise = units.length(element.get("vertDistance"), where)
    sigmas, out = Sigmas(), []

    def add(kind: str, value: float, sigma: float) -> None:
        out.append(
            Observation(
                line=number, kind=kind, at=names[0], to=names[1], back="", value=np.array([value]),
                covariance=np.array([[sigma**2]]), set="", group=f"reduced {kind}", hi=0.0, ht=0.0,
            )
        )  # fmt: skip

    if not math.isnan(azimuth):
        add("azimuth", azimuth, math.sqrt(2.0) * sigmas.direction)
    if not math.isnan(flat) and not math.isnan(rise):
        slope = math.hypot(flat, rise)
        add("distance", slope, sigmas.distance_m + sigmas.distance_part * slope)
        add("height_difference", rise, sigmas.zenith * flat)
    elif not math.isnan(flat):
        add("horizontal_distance", flat, sigmas.distance_m + sigmas.distance_part * flat)
    return out


def observations_of(work: FieldWork, sigmas: Sigmas) -> list[Observation]:
    """Field work as observations of a network: every sighting a direction of its set-up, and what else was
    read; the line is that of the sighting in the file."""
    out: list[Observation] = []
    number = 0
    for key, setup in work.setups.items():
        if not setup.shots:
            continue
        hz, za, _, _ = in_face_one(setup.shots)
        for i, shot in enumerate(setup.shots):
            number += 1
            values = [("direction", float(hz[i]) % (2.0 * math.pi), sigmas.direction)]
            if math.isfinite(za[i]):
                values.append(("zenith", float(za[i]), sigmas.zenith))
            if math.isfinite(shot.distance):
                length = shot.distance + shot.prism_m
                values.append(("distance", length, sigmas.distance_m + sigmas.distance_part * length))
            out += [
                Observation(
                    line=number, kind=kind, at=setup.station, to=shot.target, back="", hi=setup.height_m,
                    value=np.array([value]), covariance=np.array([[sigma**2]]), group=kind,
                    set=key if kind == "direction" else "", ht=shot.target_height,
                )
                for kind, value, sigma in values
            ]  # fmt: skip
    return [*out, *work.reduced]


def read_observations(
    path: str, sigmas: Sigmas | None = None, units: ListUnits = METRIC
) -> list[Observation]:
    """Observations of a network from a list or from LandXML; units: of columns of a list whose heads state
    none. Raises FormatError with the place."""
    if read_head(path, 4096).lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"<"):
        return observations_of(read_field_work(path), sigmas or Sigmas())
    return read_network(path, sigmas, units=units)


# Out
# ---------------------------------------------------------------------------------------------------------


def write_field_work(path: str, setups: Iterable[Setup], names: Mapping[str, str], made: datetime) -> None:
    """Write set-ups with their sightings, in metres and decimal degrees, distances with the prism taken into
    account. names: of marks by their ids. Raises FormatError when the file cannot be written."""
    from xml.etree import ElementTree as Tree

    head = {"xmlns": NAMESPACE, "version": "1.2", "date": f"{made:%Y-%m-%d}", "time": f"{made:%H:%M:%S}"}
    root = Tree.Element("LandXML", {**head, "readOnly": "false"})
    units = {
        "linearUnit": "meter", "areaUnit": "squareMeter", "volumeUnit": "cubicMeter",
        "temperatureUnit": "celsius", "pressureUnit": "mmHG", "angularUnit": "decimal degrees",
        "directionUnit": "decimal degrees",
    }  # fmt: skip
    Tree.SubElement(Tree.SubElement(root, "Units"), "Metric", units)
    Tree.SubElement(root, "Application", {"name": "Fenwind"})
    survey = Tree.SubElement(root, "Survey")
    Tree.SubElement(survey, "SurveyHeader", {"name": "Field work"})
    every = list(setups)
    for number, setup in enumerate(every, 1):
        station = Tree.SubElement(survey, "InstrumentSetup", {
            "id": f"IS{number}", "stationName": names[setup.station],
            "instrumentHeight": f"{setup.height_m:.4f}",
        })  # fmt: skip
        Tree.SubElement(station, "InstrumentPoint", {"name": names[setup.station]})
    for number, setup in enumerate(every, 1):
        group = Tree.SubElement(survey, "ObservationGroup", {"id": f"OG{number}", "setupID": f"IS{number}"})
        for i, target in enumerate(setup.target):
            shot = Tree.SubElement(group, "RawObservation", _attributes(setup, i, f"IS{number}"))
            Tree.SubElement(shot, "TargetPoint", {"name": names[target]})
    Tree.indent(root)
    write_bytes(path, Tree.tostring(root, encoding="utf-8", xml_declaration=True))


def _attributes(setup: Setup, i: int, key: str) -> dict[str, str]:
    out = {
        "setupID": key, "targetHeight": f"{setup.target_height_m[i]:.4f}",
        "horizAngle": f"{math.degrees(setup.direction_rad[i]):.7f}",
        "directFace": "false" if setup.face[i] == 2 else "true",
    }  # fmt: skip
    zenith, distance = setup.zenith_rad[i], setup.distance_m[i]
    if zenith is not None:
        out["zenithAngle"] = f"{math.degrees(zenith):.7f}"
    if distance is not None:
        out["slopeDistance"] = f"{distance * air_factor(setup) + setup.prism_m[i]:.5f}"
    return out
