"""A robotic total station that errs as a real one does: what it reads follows from the true marks, its axes,
the air, and a seed. Angles in degrees on its port, radians in here.

Left out: eccentric circles, anything that stands in the line of sight.
"""

from __future__ import annotations

import math
import os
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FenwindError, FormatError
from fenwind.geodesy.air import CARRIER_UM, REFERENCE_PPM, refractivity
from fenwind.geodesy.geocentric import enu_axes
from fenwind.geodesy.refraction import EARTH_RADIUS_M
from fenwind.quantities.angles import RAD_PER_DEGREE, RAD_PER_SECOND
from fenwind.standins.receivers import Refused, number
from fenwind.standins.world import Place, list_in, number_in, object_in, place_at, place_in, read_json

FloatArray = NDArray[np.float64]

#: A prism is seen within this of the line of sight without a search, radians.
SEEN = 0.05 * RAD_PER_DEGREE
#: Beyond this the compensator gives up, seconds.
COMPENSATED_S = 180.0
#: What the instrument is: seconds; metres and ppm; errors of its axes in seconds; centring in metres;
#: refraction; air for which it needs no correction.
SPEC: dict[str, float] = {
    "direction_s": 1.0, "zenith_s": 1.0, "distance_mm": 1.0, "distance_ppm": 1.5, "collimation_s": 2.0,
    "index_s": -2.0, "trunnion_s": 1.0, "centring_mm": 0.5, "target_mm": 0.7, "refraction": 0.13,
    "carrier_um": CARRIER_UM, "reference": REFERENCE_PPM,
}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Prism:
    """A prism at a place on the ground, so high over it; constant_m is what has to be added to a distance."""

    name: str
    place: Place
    height_m: float
    constant_m: float = 0.0


@dataclass(frozen=True, kw_only=True, eq=False)
class StationWorld:
    """What is true: marks, where the instrument stands and how high, prisms that stand on marks, the prism
    on the pole, the air (degrees C, hPa, %), the instrument; plumb: what the vertical leans to the north and
    east there, from the ellipsoid's normal, seconds."""

    marks: dict[str, Place]
    stands: Place
    height_m: float
    prisms: tuple[Prism, ...]
    pole: Prism
    air: tuple[float, float, float] = (12.0, 1013.25, 60.0)
    plumb: tuple[float, float] = (0.0, 0.0)
    spec: dict[str, float] = field(default_factory=lambda: dict(SPEC))


def read_station_world(path: str | os.PathLike[str]) -> StationWorld:
    """Read a world with an instrument in it. Raises FormatError with what is wrong where."""
    try:
        return station_world_of(read_json(path))
    except FormatError as error:
        raise FormatError(error.message, where=error.where or str(path), hint=error.hint) from error


def station_world_of(found: Any) -> StationWorld:
    """A world from its JSON. Raises FormatError."""
    if not isinstance(found, dict) or not isinstance(found.get("station"), dict):
        raise FormatError("station is missing", hint="See docs/formats/station.md")
    marks = {str(m.get("name")): place_in(m, "marks") for m in list_in(found, "marks")}
    station, air, spec = found["station"], object_in(found, "air"), object_in(found, "instrument")
    for key in spec:
        if key not in SPEC:
            raise FormatError(f"instrument: {key!r} is not known", hint=f"Use {', '.join(SPEC)}")
    stands = place_at(station, marks, "station")
    pole = object_in(found, "pole")
    on_pole = bool(pole.get("mark") or "lat" in pole)
    return StationWorld(
        marks=marks, stands=stands, height_m=number_in(station, "height", 0.0),
        prisms=tuple(_prism(p, marks, str(p.get("mark", ""))) for p in list_in(found, "prisms")),
        pole=_prism(pole if on_pole else {**station, **pole}, marks, "pole", 1.5),
        air=(
            number_in(air, "temperature", 12.0), number_in(air, "pressure", 1013.25),
            number_in(air, "humidity", 60.0),
        ),
        plumb=(number_in(station, "lean_north_s", 0.0), number_in(station, "lean_east_s", 0.0)),
        spec={key: number_in(spec, key, value) for key, value in SPEC.items()},
    )  # fmt: skip


def _prism(found: dict[str, Any], marks: dict[str, Place], name: str, height: float = 0.0) -> Prism:
    return Prism(
        name=name, place=place_at(found, marks, f"prism {name}"),
        height_m=number_in(found, "height", height), constant_m=number_in(found, "prism_mm", 0.0) / 1000.0,
    )  # fmt: skip


class Station:
    """The instrument: what it is told and what it reads."""

    def __init__(self, world: StationWorld, seed: int) -> None:
        self.world, self.seed = world, seed
        self.face, self.hz, self.za = 1, 0.0, 0.5 * math.pi
        self.locked, self.battery = "", 97.0
        self.prism_m, self.applied_ppm = 0.0, 0.0
        self.tilt = (4.0, -7.0)  # along and across the line of sight, seconds
        self.air = world.air
        self.pole = world.pole
        self._rng = np.random.default_rng([seed, 1])
        self._turn = float(np.random.default_rng([seed, 2]).uniform(0.0, 2.0 * math.pi))
        spec = world.spec
        self._off = np.random.default_rng([seed, 3]).normal(0.0, spec["centring_mm"] / 1000.0, 2)
        self._target_rng = np.random.default_rng([seed, 4])
        self._targets: dict[tuple[str, float, float], FloatArray] = {}
        place = world.stands
        self._axes = _plumb(*world.plumb) @ enu_axes(place.lat, place.lon)
        self._bump = np.zeros(3)

    # What is true

    def _from(self) -> FloatArray:
        """Where the axes of the instrument meet, geocentric."""
        up = np.array([*self._off, self.world.height_m]) + self._bump
        return np.asarray(self.world.stands.xyz() + self._axes.T @ up)

    def _way(self, prism: Prism) -> FloatArray:
        """East, north, up (3,) by the plumb line of the instrument, from its axes to a prism."""
        key = (prism.name, prism.place.lat, prism.place.lon)
        if key not in self._targets:
            self._targets[key] = self._target_rng.normal(0.0, self.world.spec["target_mm"] / 1000.0, 2)
        up = np.array([*self._targets[key], prism.height_m])
        there = prism.place.xyz() + enu_axes(prism.place.lat, prism.place.lon).T @ up
        return np.asarray(self._axes @ (there - self._from()))

    def _true(self, prism: Prism) -> tuple[float, float, float]:
        """Direction on the circle and zenith angle as an instrument without errors points in face 1, and the
        slope distance."""
        e, n, u = self._way(prism).tolist()
        distance = math.sqrt(e * e + n * n + u * u)
        bent = self.world.spec["refraction"] * math.hypot(e, n) / (2.0 * EARTH_RADIUS_M)
        return (math.atan2(e, n) - self._turn) % (2.0 * math.pi), math.acos(u / distance) - bent, distance

    def _prisms(self) -> tuple[Prism, ...]:
        return (*self.world.prisms, self.pole)

    def _nearest(self, window: float) -> tuple[Prism, float]:
        """The prism nearest to the line of sight, and how far that is. Raises Refused with none in a window
        (radians to either side)."""
        pointed = self.hz if self.face == 1 else self.hz - math.pi
        height = self.za if self.face == 1 else 2.0 * math.pi - self.za
        best: tuple[float, Prism] | None = None
        for prism in self._prisms():
            hz, za, distance = self._true(prism)
            if distance < 0.5:
                continue  # the pole stands at the instrument
            across = math.remainder(hz - pointed, 2.0 * math.pi) * math.sin(za)
            away = math.hypot(across, za - height)
            if away <= window and (best is None or away < best[0]):
                best = (away, prism)
        if best is None:
            raise Refused("there is no prism in sight")
        return best[1], best[0]

    def _aim(self, prism: Prism) -> None:
        """Point at a prism, in the face it is in, with the errors of the axes and of pointing."""
        hz, za, _ = self._true(prism)
        spec = self.world.spec
        c, i, t = (spec[k] * RAD_PER_SECOND for k in ("collimation_s", "index_s", "trunnion_s"))
        off = c / math.sin(za) + t / math.tan(za)
        hz += self._rng.normal(0.0, spec["direction_s"]) * RAD_PER_SECOND
        za += self._rng.normal(0.0, spec["zenith_s"]) * RAD_PER_SECOND
        if self.face == 1:
            self.hz, self.za = (hz + off) % (2.0 * math.pi), za + i
        else:
            self.hz, self.za = (hz + math.pi - off) % (2.0 * math.pi), 2.0 * math.pi - za + i

    # What it is told

    def control(self, command: dict[str, Any]) -> dict[str, Any]:
        """Carry out a command; the asked values. Raises Refused."""
        verbs: dict[str, Callable[[dict[str, Any]], dict[str, Any]]] = {
            "status": self._status, "turn": self._turn_to, "face": self._face, "search": self._search,
            "lock": self._lock, "measure": self._measure, "set": self._set, "level": self._level,
            "go": self._go, "pole": self._set_pole, "tilt": self._set_tilt, "bump": self._bumped,
            "truth": self._truth,
        }  # fmt: skip
        verb = verbs.get(str(command.get("do")))
        if verb is None:
            raise Refused(f"there is no {command.get('do')!r}; there are {', '.join(verbs)}")
        return verb(command)

    def _status(self, c: dict[str, Any]) -> dict[str, Any]:
        spec = self.world.spec
        return {
            "name": "FENWIND STAND-IN", "battery": self.battery, "face": self.face,
            "hz": math.degrees(self.hz), "za": math.degrees(self.za), "locked": bool(self.locked),
            "prism_mm": self.prism_m * 1000.0, "ppm": self.applied_ppm, "carrier_um": spec["carrier_um"],
            "reference": spec["reference"], "direction_s": spec["direction_s"],
            "zenith_s": spec["zenith_s"], "distance_mm": spec["distance_mm"],
            "distance_ppm": spec["distance_ppm"], "air": list(self.air),
        }  # fmt: skip

    def _turn_to(self, c: dict[str, Any]) -> dict[str, Any]:
        self.hz = number(c, "hz") * RAD_PER_DEGREE % (2.0 * math.pi)
        za = number(c, "za", 90.0) * RAD_PER_DEGREE
        if not 0.0 < za < 2.0 * math.pi:
            raise Refused("za: expected above 0 and below 360")
        self.za, self.face = za, 1 if za < math.pi else 2
        self.locked = ""
        return self._pointed()

    def _pointed(self) -> dict[str, Any]:
        return {"hz": math.degrees(self.hz), "za": math.degrees(self.za), "face": self.face}

    def _face(self, c: dict[str, Any]) -> dict[str, Any]:
        face = c.get("face", 3 - self.face)
        if face not in (1, 2):
            raise Refused("face: expected 1 or 2")
        if face != self.face:
            self.face, self.hz = face, (self.hz + math.pi) % (2.0 * math.pi)
            self.za = 2.0 * math.pi - self.za
        return self._pointed()

    def _search(self, c: dict[str, Any]) -> dict[str, Any]:
        window = number(c, "window", 5.0) * RAD_PER_DEGREE
        prism, away = self._nearest(min(max(window, 0.0), math.pi))
        self._aim(prism)
        return {**self._pointed(), "away": math.degrees(away)}

    def _lock(self, c: dict[str, Any]) -> dict[str, Any]:
        self.locked = self._nearest(SEEN)[0].name if c.get("on", True) else ""
        return {"locked": bool(self.locked)}

    def _measure(self, c: dict[str, Any]) -> dict[str, Any]:
        if max(abs(v) for v in self.tilt) > COMPENSATED_S:
            raise Refused("the instrument is out of level")
        followed = next((p for p in self._prisms() if self.locked and p.name == self.locked), None)
        prism = followed or self._nearest(SEEN)[0]
        self._aim(prism)
        out = self._pointed()
        if c.get("distance", True):
            out["sd"] = round(self._distance(prism), 5)
        return {**out, "prism_mm": self.prism_m * 1000.0, "ppm": self.applied_ppm}

    def _distance(self, prism: Prism) -> float:
        """What it shows: the optical way for its own air, with what it is told to apply."""
        spec = self.world.spec
        true = self._true(prism)[2]
        air = refractivity(*self.air, spec["carrier_um"])
        shown = (true - prism.constant_m) * (1.0 + air * 1e-6) / (1.0 + spec["reference"] * 1e-6)
        sigma = spec["distance_mm"] / 1000.0 + spec["distance_ppm"] * 1e-6 * true
        return float(shown * (1.0 + self.applied_ppm * 1e-6) + self.prism_m + self._rng.normal(0.0, sigma))

    def _set(self, c: dict[str, Any]) -> dict[str, Any]:
        self.prism_m = number(c, "prism_mm", self.prism_m * 1000.0) / 1000.0
        self.applied_ppm = number(c, "ppm", self.applied_ppm)
        return {"prism_mm": self.prism_m * 1000.0, "ppm": self.applied_ppm}

    def _level(self, c: dict[str, Any]) -> dict[str, Any]:
        level = max(abs(v) for v in self.tilt) <= COMPENSATED_S
        return {"along_s": self.tilt[0], "across_s": self.tilt[1], "level": level}

    # What the world does to it

    def _go(self, c: dict[str, Any]) -> dict[str, Any]:
        try:
            place = place_at(c, self.world.marks, "go")
        except FenwindError as error:
            raise Refused(error.message) from error
        self.pole = replace(self.pole, place=place)
        return {}

    def _set_pole(self, c: dict[str, Any]) -> dict[str, Any]:
        height = number(c, "height", self.pole.height_m)
        constant = number(c, "prism_mm", self.pole.constant_m * 1000.0) / 1000.0
        self.pole = replace(self.pole, height_m=height, constant_m=constant)
        return {}

    def _set_tilt(self, c: dict[str, Any]) -> dict[str, Any]:
        self.tilt = (number(c, "along_s", 0.0), number(c, "across_s", 0.0))
        return {}

    def _bumped(self, c: dict[str, Any]) -> dict[str, Any]:
        self._bump = np.array([number(c, k, 0.0) for k in ("de", "dn", "dh")])
        self._turn += number(c, "turn_s", 0.0) * RAD_PER_SECOND
        return {}

    def _truth(self, c: dict[str, Any]) -> dict[str, Any]:
        e, n, u = self._way(self.pole).tolist()
        return {"de": e, "dn": n, "dh": u, "turn": math.degrees(self._turn)}


def _plumb(north_s: float, east_s: float) -> FloatArray:
    """East, north and up by a plumb line that leans to the north and east, as rows, in those of the
    ellipsoid's normal."""
    up = np.array([east_s * RAD_PER_SECOND, north_s * RAD_PER_SECOND, 1.0])
    up /= np.linalg.norm(up)
    north = np.array([0.0, 1.0, 0.0]) - up[1] * up
    north /= np.linalg.norm(north)
    return np.stack([np.cross(north, up), north, up])
