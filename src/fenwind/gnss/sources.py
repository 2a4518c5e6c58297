"""What a computation with raw files stands on: receivers' files with their records, orbits, antennas."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from fenwind.errors import FormatError
from fenwind.gnss.broadcast import Navigation
from fenwind.gnss.files import read_kind
from fenwind.gnss.gps_time import TICKS, day_of
from fenwind.gnss.observations import Observations
from fenwind.gnss.other_files import Antennas, AntennaType, Orbits
from fenwind.gnss.satellites import BroadcastSky, PreciseSky, sky_of
from fenwind.gnss.signals import Signal


@dataclass(frozen=True, kw_only=True, eq=False)
class Sources:
    """Navigation files that fit, those that fit no epoch, precise orbits and antenna corrections."""

    navigation: tuple[Navigation, ...]
    unfit: tuple[str, ...]
    orbits: Orbits | None
    antennas: Antennas | None

    def sky(self, start: int, signals: Mapping[str, Sequence[Signal]]) -> BroadcastSky | PreciseSky:
        """Where satellites are, Galileo's by the message meant for its signals."""
        bands = {s.band for s in signals.get("E", ())}
        return sky_of(start, self.navigation, self.orbits, "5" if "5" in bands else "7")

    @property
    def ionosphere(self) -> dict[str, tuple[float, ...]]:
        """The broadcast model, of the first file that has one."""
        return next((n.ionosphere for n in self.navigation if "GPSA" in n.ionosphere), {})

    @property
    def skipped(self) -> int:
        """What could not be read in them."""
        return sum(n.skipped for n in self.navigation) + (self.orbits.skipped if self.orbits else 0)


def read_sources(
    navigation: Sequence[str], sp3: str | None, antex: str | None, observed: Sequence[Observations]
) -> Sources:
    """Read what belongs to files of observations. Raises FormatError where no orbits fit any of their
    epochs."""
    first = min(int(o.ticks.min()) for o in observed)
    last = max(int(o.ticks.max()) for o in observed)
    fit, unfit, days = [], [], list[str]()
    for path in navigation:
        nav: Navigation = read_kind(path, "navigation")
        if not nav.messages:
            raise FormatError("there is no message in it", where=path, hint="Give the navigation of that day")
        if BroadcastSky(start=first, messages=nav.messages).near(0.0, (last - first) / TICKS):
            fit.append(nav)
        else:
            unfit.append(path)
            days.append(day_of(sorted(m.clock_ticks for m in nav.messages)[len(nav.messages) // 2]))
    orbits: Orbits | None = read_kind(sp3, "orbit") if sp3 else None
    if orbits is not None and not PreciseSky(start=first, orbits=orbits).near(0.0, (last - first) / TICKS):
        raise FormatError(
            f"the orbits are of {day_of(int(orbits.ticks[0]))}, the observations of {day_of(first)}",
            where=str(sp3), hint="Give the orbits of that day",
        )  # fmt: skip
    if not fit and orbits is None:
        raise FormatError(
            f"the navigation is of {', '.join(days)}, the observations are of {day_of(first)}",
            where=unfit[0] if unfit else "", hint="Give the navigation of that day",
        )  # fmt: skip
    antennas: Antennas | None = read_kind(antex, "antenna") if antex else None
    return Sources(navigation=tuple(fit), unfit=tuple(unfit), orbits=orbits, antennas=antennas)


def with_channels(obs: Observations, sources: Sources) -> Observations:
    """A file whose header lacks the channels of GLONASS satellites, with those of the navigation."""
    messages = [m for nav in sources.navigation for m in nav.messages if m.system == "R"]
    said = {m.number: int(m.values[7]) for m in messages if abs(m.values[7]) < 14.0}
    lacking = {n: c for n, c in said.items() if n not in obs.header.slots}
    if not lacking or "R" not in obs.systems:
        return obs
    return replace(obs, header=replace(obs.header, slots=obs.header.slots | lacking))


def twenty_columns(text: str) -> str:
    """An antenna type as files have it: the model in 16 columns and the radome in 4."""
    words = text.split()
    return f"{words[0]:16}{words[1] if len(words) > 1 else 'NONE':4}" if words else ""


@dataclass(frozen=True, slots=True, kw_only=True)
class FoundAntenna:
    """A correction found, None without; the type looked for; whether the radome NONE stands in."""

    found: AntennaType | None
    kind: str
    stand_in: bool = False


def antenna_of(antennas: Antennas | None, kind: str) -> FoundAntenna:
    """The correction of an antenna type, letter for letter; without its radome's, that of NONE."""
    wanted = twenty_columns(kind)
    if antennas is None or not wanted:
        return FoundAntenna(found=None, kind=wanted)
    types: dict[str, Any] = {}
    for one in antennas.types:
        types.setdefault(twenty_columns(one.kind), one)
    if wanted in types:
        return FoundAntenna(found=types[wanted], kind=wanted)
    plain = f"{wanted[:16]}NONE"
    return FoundAntenna(found=types.get(plain), kind=wanted, stand_in=plain in types)
