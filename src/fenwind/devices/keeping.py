"""An occupation under way: its epochs go into the job as they come, in pieces, whoever measures."""

from __future__ import annotations

import time
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from fenwind.devices.nmea_in import Epoch
from fenwind.job.gestures import new_mark
from fenwind.job.measuring import UNSTATED, Row, finished, own_plane
from fenwind.job.state import JobState
from fenwind.procedures.rover import LONGEST_GAP
from fenwind.records.entries import Add, Entry, Gesture
from fenwind.records.sessions import Occupation

FloatArray = NDArray[np.float64]

#: Epochs are put into the job so often, seconds.
KEEP_S = 0.5


class Store(Protocol):
    """Where an occupation under way goes. What it does raises JobError."""

    def begin(self, mark: str, occupation: Occupation, epoch: Epoch) -> Occupation:
        """Put the occupation into the job, with its mark where there is none of that name; as it is
        there."""

    def keep(self, occupation: str, number: int, rows: list[Row]) -> None:
        """Keep a piece of its epochs."""


def beginning(state: JobState, mark: str, occupation: Occupation, epoch: Epoch) -> tuple[Gesture, Occupation]:
    """The gesture that puts an occupation into a job at its first epoch, and the occupation as it is then:
    not finished."""
    entries: list[Entry] = []
    if not state.frames:
        entries += own_plane(epoch.lat, epoch.lon, epoch.h)
    found = state.mark_named(mark)
    if found is None:
        found, gesture = new_mark(state, mark)
        entries += gesture.entries
    moment = epoch.time.isoformat()
    begun = replace(occupation, mark=found.id, started=moment, ended=moment, finished=False)
    return Gesture(f"Measure {mark}", (*entries, Add(record=begun))), begun


@dataclass
class Keeper:
    """Takes epochs of one occupation. known: what its base was known to broadcast, geocentric (3,)."""

    store: Store
    mark: str
    occupation: Occupation
    known: FloatArray | None
    rows: list[Row] = field(default_factory=list)
    coarse_m: float = 0.0
    _fresh: list[Row] = field(default_factory=list)
    _number: int = 0
    _span_s: float = 0.0
    _step_s: float = np.inf
    _last: float = 0.0

    def take(self, epoch: Epoch, broadcast: FloatArray) -> None:
        """Take an epoch; the first puts the occupation into the job. broadcast: geocentric ARP (3,) that the
        base sent then."""
        x, y, z = (float(v) for v in broadcast)
        nan = float("nan")
        row = Row(
            time_s=epoch.time.timestamp(), lat=epoch.lat, lon=epoch.lon, h=epoch.h,
            sigma=epoch.sigma or UNSTATED[epoch.solution], pdop=nan if epoch.pdop is None else epoch.pdop,
            age=nan if epoch.age is None else epoch.age, solution=epoch.solution, broadcast=(x, y, z),
        )  # fmt: skip
        minutes, heights = epoch.decimals
        self.coarse_m = max(self.coarse_m, 1852.0 * 10.0**-minutes, 10.0**-heights)
        if not self.rows:
            self.occupation = self.store.begin(self.mark, self.occupation, epoch)
        else:
            step = row.time_s - self.rows[-1].time_s
            self._step_s = min(step, self._step_s) if step > 0.0 else self._step_s
            self._span_s += min(max(step, 0.0), LONGEST_GAP * self._step_s)
        self.rows.append(row)
        self._fresh.append(row)
        if len(self.rows) == 1:
            self.flush()

    @property
    def span_s(self) -> float:
        """Seconds that the epochs cover, without the last step; a clock that leaps or goes back adds
        little."""
        return self._span_s

    def enough(self, epochs: int | None, seconds: float | None) -> bool:
        """Whether so many epochs are there, or so many seconds are covered."""
        if epochs is not None and len(self.rows) >= epochs:
            return True
        return seconds is not None and bool(self.rows) and self.span_s >= seconds - 1e-6

    def tick(self) -> None:
        """Keep what is fresh when it is time."""
        if self._fresh and time.monotonic() - self._last >= KEEP_S:
            self.flush()

    def flush(self) -> None:
        """Keep what is fresh."""
        if self._fresh:
            self.store.keep(self.occupation.id, self._number, self._fresh)
            self._number, self._fresh, self._last = self._number + 1, [], time.monotonic()

    def done(self, rows: list[Row], message_set: str = "") -> Occupation:
        """The occupation with what its epochs, as they were kept, amount to. Raises ProcedureError."""
        ended = datetime.fromtimestamp(rows[-1].time_s, UTC).isoformat() if rows else self.occupation.ended
        one = replace(self.occupation, ended=ended, step_m=self.coarse_m, message_set=message_set)
        return finished(one, rows, self.known)
