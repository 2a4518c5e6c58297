"""What a RINEX observation file holds: epochs, and for each system its values by code."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
Bools = NDArray[np.bool_]


@dataclass(frozen=True, kw_only=True, eq=False)
class SystemData:
    """Observations of one system: m rows, one a satellite and epoch. codes (c,); epoch (m,) row of the file's
    epochs; number (m,) of the satellite; values (m, c), nan where missing: metres, cycles, Hz, dBHz; lli
    (m, c): loss-of-lock indicators, 0 where there is none."""

    system: str
    codes: tuple[str, ...]
    epoch: IntArray
    number: IntArray
    values: FloatArray
    lli: NDArray[np.uint8]

    def column(self, code: str) -> int | None:
        """Where a code stands."""
        return self.codes.index(code) if code in self.codes else None

    @property
    def names(self) -> list[str]:
        """Satellites with at least one value, sorted."""
        some = np.isfinite(self.values).any(axis=1)
        return [f"{self.system}{n:02d}" for n in np.unique(self.number[some]).tolist()]


@dataclass(frozen=True, kw_only=True)
class Event:
    """An event record: its time in ticks of GPS time, None where it has none, its flag (2 to 6), and how many
    header lines it brought."""

    ticks: int | None
    flag: int
    header_lines: int


@dataclass(frozen=True, kw_only=True)
class Header:
    """What an observation file says of itself. delta: antenna height, east and north, metres; position
    geocentric, metres, None where it has none; slots: frequency numbers of GLONASS satellites."""

    version: str
    time_system: str
    mark: str = ""
    marker_number: str = ""
    receiver: str = ""
    antenna: str = ""
    delta: tuple[float, float, float] = (0.0, 0.0, 0.0)
    position: tuple[float, float, float] | None = None
    interval: float | None = None
    types: dict[str, tuple[str, ...]] = field(default_factory=dict)
    slots: dict[int, int] = field(default_factory=dict)


@dataclass(frozen=True, kw_only=True, eq=False)
class Observations:
    """A file: header, times (n,) of its epochs in ticks of GPS time, systems by letter, events, how many
    records, lines or values could not be read."""

    path: str
    header: Header
    ticks: IntArray
    systems: dict[str, SystemData]
    events: tuple[Event, ...]
    skipped: int

    @property
    def interval(self) -> float | None:
        """The commonest step between epochs, seconds; None with fewer than two."""
        if self.ticks.size < 2:
            return None
        steps, count = np.unique(np.diff(np.unique(self.ticks)), return_counts=True)
        return float(steps[count.argmax()]) / 1e7 if steps.size else None

    @property
    def gaps(self) -> list[tuple[int, int]]:
        """Last epoch before and first after each gap of more than one and a half intervals, ticks."""
        if self.interval is None:
            return []
        times = np.unique(self.ticks)
        wide = np.flatnonzero(np.diff(times) > 1.5 * self.interval * 1e7)
        return [(int(times[i]), int(times[i + 1])) for i in wide]

    @property
    def expected(self) -> int | None:
        """Epochs that there would be without a gap."""
        if self.interval is None:
            return None
        return round((int(self.ticks.max()) - int(self.ticks.min())) / 1e7 / self.interval) + 1
