"""Frequencies of signals, and which signals of a file are used.

Frequencies: RINEX 3.05, tables 4 to 10 (from memory).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ParseError
from fenwind.gnss.observations import Observations, SystemData

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

SPEED_OF_LIGHT = 299_792_458.0
_L1, _L2, _L5 = 1575.42e6, 1227.60e6, 1176.45e6
#: Carrier frequencies, Hz, by system and band; of GLONASS those of channel 0.
FREQUENCIES: dict[str, dict[str, float]] = {
    "G": {"1": _L1, "2": _L2, "5": _L5},
    "R": {"1": 1602.0e6, "2": 1246.0e6, "3": 1202.025e6, "4": 1600.995e6, "6": 1248.06e6},
    "E": {"1": _L1, "5": _L5, "7": 1207.14e6, "8": 1191.795e6, "6": 1278.75e6},
    "C": {"2": 1561.098e6, "7": 1207.14e6, "6": 1268.52e6, "1": _L1, "5": _L5, "8": 1191.795e6},
    "J": {"1": _L1, "2": _L2, "5": _L5, "6": 1278.75e6},
}
#: Steps of GLONASS channels, Hz, by band.
CHANNEL_STEP = {"1": 0.5625e6, "2": 0.4375e6}


@dataclass(frozen=True, slots=True, kw_only=True)
class Signal:
    """A signal of a system: its name in lists of signals (1C, in RINEX 2 the band), and the codes of its
    range, phase and strength in the file; the first of them that a satellite has counts."""

    name: str
    ranges: tuple[str, ...]
    phases: tuple[str, ...]

    @property
    def band(self) -> str:
        """Its band."""
        return self.name[0]

    def column(self, data: SystemData, codes: Sequence[str]) -> tuple[FloatArray, NDArray[np.uint8]]:
        """Values (m,) of its range or phase, nan where there is none, and their loss-of-lock indicators."""
        values = np.full(data.epoch.shape, np.nan)
        lli = np.zeros(data.epoch.shape, dtype=np.uint8)
        for code in codes:
            column = data.column(code)
            if column is not None:
                missing = ~np.isfinite(values)
                values = np.where(missing, data.values[:, column], values)
                lli = np.where(missing, data.lli[:, column], lli)
        return values, lli


def signals_of(data: SystemData, two: bool) -> list[Signal]:
    """Signals that a system's data have ranges of; two: names are those of RINEX 2."""
    if two:
        bands = dict.fromkeys(c[1] for c in data.codes if c[:1] in "CP" and len(c) == 2)
        order = {"1": ("C", "P"), "2": ("P", "C")}
        return [
            Signal(name=b, ranges=tuple(f"{k}{b}" for k in order.get(b, ("C", "P"))), phases=(f"L{b}",))
            for b in bands
        ]
    return [Signal(name=c[1:], ranges=(c,), phases=(f"L{c[1:]}",)) for c in data.codes if c[:1] == "C"]


def chosen(obs: Observations, system: str, wanted: Sequence[str] = ()) -> list[Signal]:
    """The signals of a system that are used: those wanted by name, else of the two bands with most satellites
    the one with most of them each; the band of the lower number first. Empty where the file has none."""
    data = obs.systems.get(system)
    if data is None:
        return []
    every = [
        s
        for s in signals_of(data, obs.header.version.startswith("2"))
        if s.band in FREQUENCIES.get(system, {})
    ]
    if wanted:
        return [s for name in wanted for s in every if s.name == name]
    counts = {s.name: _count(data, s) for s in every}
    best: dict[str, Signal] = {}
    for s in every:
        if counts[s.name] > (0, 0) and (s.band not in best or counts[s.name] > counts[best[s.band].name]):
            best[s.band] = s
    order = list(FREQUENCIES[system])
    bands = sorted(best, key=lambda b: (-counts[best[b].name][0], order.index(b)))[:2]
    return [best[b] for b in sorted(bands, key=order.index)]


def _count(data: SystemData, signal: Signal) -> tuple[int, int]:
    """Satellites, and values, that have both a range and a phase, or a range alone where there are no
    phases."""
    ranges = np.isfinite(signal.column(data, signal.ranges)[0])
    phases = np.isfinite(signal.column(data, signal.phases)[0])
    both = ranges & phases if phases.any() else ranges
    return int(np.unique(data.number[both]).size), int(both.sum())


def frequencies(system: str, band: str, numbers: IntArray, slots: dict[int, int]) -> FloatArray:
    """Carrier frequency (m,), Hz, of satellites by number; nan for a GLONASS satellite whose channel nobody
    knows."""
    base = FREQUENCIES[system][band]
    if system != "R" or band not in CHANNEL_STEP:
        return np.full(numbers.shape, base)
    channel = np.array([slots.get(int(n), np.nan) for n in numbers], dtype=float)
    return base + channel * CHANNEL_STEP[band]


def parse_signals(text: str | None, pairs: bool) -> dict[str, list[tuple[str, str]]]:
    """Signals of a list such as G:1C+2W,E:1C+5Q by system; with `pairs` a slash sets the base's against the
    rover's: G:2W/2L. Raises ParseError."""
    out: dict[str, list[tuple[str, str]]] = {}
    for part in (text or "").split(","):
        if not part.strip():
            continue
        system, colon, names = part.strip().partition(":")
        signals = [name.strip() for name in names.split("+")]
        if not colon or system not in FREQUENCIES or not all(signals) or len(signals) > 2:
            raise ParseError(
                f"--signals {part.strip()!r}: expected a system and one or two signals",
                hint="Write --signals G:1C+2W,E:1C+5Q",
            )
        found = []
        for name in signals:
            one, slash, other = name.partition("/")
            if (slash and not pairs) or not one or (slash and not other):
                raise ParseError(f"--signals {name!r}: expected a signal such as 1C", hint="Correct it")
            found.append((one, other or one))
        out[system] = found
    return out
