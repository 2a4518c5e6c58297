"""A total station told what to do and asked what it reads, over the line protocol of docs/formats/station.md:
one JSON object a line, answered by one. What an instrument answers that cannot be is said and not taken."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from fenwind.devices.control import command
from fenwind.devices.transport import Address, DeviceError
from fenwind.errors import FenwindError
from fenwind.geodesy.air import refractivity
from fenwind.quantities.angles import RAD_PER_DEGREE

#: Seconds that an instrument may take to turn, search and measure.
PATIENCE_S = 30.0
_HINT = "Check that this is an instrument with this protocol"
#: What an answer may hold, low and high: degrees, metres, ppm, mm, seconds.
_RANGES = {
    "hz": (-360.0, 720.0), "za": (0.0, 360.0), "sd": (0.05, 100_000.0), "ppm": (-500.0, 500.0),
    "prism_mm": (-500.0, 500.0), "battery": (0.0, 100.0), "carrier_um": (0.4, 1.6),
    "reference": (200.0, 400.0), "direction_s": (0.01, 600.0), "zenith_s": (0.01, 600.0),
    "distance_mm": (0.01, 1000.0), "distance_ppm": (0.0, 1000.0), "along_s": (-1e6, 1e6),
    "across_s": (-1e6, 1e6),
}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class InstrumentState:
    """What an instrument is: sigmas of one pointing (seconds) and of a distance (metres, ppm), carrier
    (micrometres), refractivity (ppm) that needs no correction; face, prism constant and ppm it applies, lock,
    battery (%). air: degrees C, hPa, % of humidity by its sensors, None without any."""

    name: str
    battery: float
    face: int
    locked: bool
    prism_m: float
    applied_ppm: float
    carrier_um: float
    reference: float
    sigma_direction_s: float
    sigma_zenith_s: float
    sigma_distance_m: float
    sigma_distance_ppm: float
    air: tuple[float, float, float] | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Reading:
    """One pointing: radians, metres (None without a distance), as the instrument shows them; time as it says
    it (ISO, UTC)."""

    hz: float
    za: float
    sd: float | None
    face: int
    time: str
    prism_m: float
    applied_ppm: float


class Instrument:
    """An instrument at an address. check: called while it is waited for, and may raise to end that. Every
    method raises DeviceError when it does not answer, says no, or says what cannot be."""

    def __init__(self, where: Address, check: Callable[[], object] = lambda: None) -> None:
        self.where, self._check = where, check

    def ask(self, what: str, **values: Any) -> dict[str, Any]:
        """One command and its answer."""
        return command(self.where, PATIENCE_S, self._check, do=what, **values)

    def state(self) -> InstrumentState:
        """What it is and how it stands."""
        found = self.ask("status")
        value = self._values(found)
        return InstrumentState(
            name=str(found.get("name", ""))[:80], battery=value("battery"), face=self._face(found),
            locked=bool(found.get("locked")), prism_m=value("prism_mm") / 1000.0, applied_ppm=value("ppm"),
            carrier_um=value("carrier_um"), reference=value("reference"),
            sigma_direction_s=value("direction_s"), sigma_zenith_s=value("zenith_s"),
            sigma_distance_m=value("distance_mm") / 1000.0, sigma_distance_ppm=value("distance_ppm"),
            air=_air(found.get("air")),
        )  # fmt: skip

    def level(self) -> tuple[float, float, bool]:
        """How far it leans along and across the line of sight (seconds), and whether it can measure so."""
        found = self.ask("level")
        value = self._values(found)
        return value("along_s"), value("across_s"), bool(found.get("level"))

    def turn(self, hz: float, za: float) -> None:
        """Turn to a direction of the circle and a zenith angle, radians."""
        self.ask("turn", hz=math.degrees(hz) % 360.0, za=math.degrees(za))

    def search(self, window: float) -> None:
        """Find a prism in a window (radians to either side) and point at it."""
        self.ask("search", window=math.degrees(window))

    def lock(self, on: bool) -> None:
        """Follow the prism that is pointed at, or follow none."""
        self.ask("lock", on=on)

    def measure(self, distance: bool = True) -> Reading:
        """Point finely at the prism in sight and read."""
        found = self.ask("measure", distance=distance)
        value = self._values(found)
        sd = value("sd") if distance else None
        return Reading(
            hz=value("hz") * RAD_PER_DEGREE % (2.0 * math.pi), za=value("za") * RAD_PER_DEGREE, sd=sd,
            face=self._face(found), time=str(found.get("time", ""))[:40],
            prism_m=value("prism_mm") / 1000.0, applied_ppm=value("ppm"),
        )  # fmt: skip

    def faces(self, both: bool, distance: bool = True) -> Iterator[Reading]:
        """A reading in the face it is in, and one in the other where both are wanted; it ends as it began."""
        yield self.measure(distance)
        if not both:
            return
        self.ask("face")
        try:
            yield self.measure(distance)
        finally:
            self.ask("face")

    def _values(self, found: dict[str, Any]) -> Callable[[str], float]:
        def value(key: str) -> float:
            number, (low, high) = found.get(key), _RANGES[key]
            if isinstance(number, (int, float)) and not isinstance(number, bool) and low <= number <= high:
                return float(number)
            raise DeviceError(f"{self.where} says {str(number)[:40]!r} for {key}", hint=_HINT)

        return value

    def _face(self, found: dict[str, Any]) -> int:
        if found.get("face") not in (1, 2):
            said = str(found.get("face"))[:40]
            raise DeviceError(f"{self.where} says {said!r} for its face", hint=_HINT)
        return int(found["face"])


def _air(found: Any) -> tuple[float, float, float] | None:
    """What its sensors say of the air; None for nothing, and for what air cannot be."""
    fine = isinstance(found, list) and len(found) == 3
    if not fine or not all(isinstance(v, (int, float)) and not isinstance(v, bool) for v in found):
        return None
    temperature, pressure, humidity = (float(v) for v in found)
    try:
        refractivity(temperature, pressure, humidity)
    except FenwindError:
        return None
    return temperature, pressure, humidity
