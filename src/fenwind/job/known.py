"""Positions given in a frame, gathered from the records."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenwind.job.memo import Memo
from fenwind.job.state import JobState
from fenwind.procedures.positions import Positions, positions
from fenwind.records.records import GivenPosition, Mark

FloatArray = NDArray[np.float64]


def known_positions(state: JobState, frame: str, memo: Memo) -> Positions:
    """Given positions in a frame, the latest where a mark has more than one."""
    versions = state.version(GivenPosition, Mark)
    return memo.latest(("known", frame), versions, lambda: _gather_known(state, frame, memo))


def _gather_known(state: JobState, frame: str, memo: Memo) -> Positions:
    marks = state.marks
    rows = {
        g.mark: g for g in state.given.values() if g.active and g.frame == frame and usable(marks, g.mark)
    }
    table = [[nan(v) for v in (g.e_m, g.n_m, g.height_m, g.sigma_h_m, g.sigma_v_m)] for g in rows.values()]
    values: FloatArray = np.array(table, dtype=np.float64).reshape(-1, 5)
    names = tuple(marks[m].name for m in rows)
    return memo.get("known positions", (names, values), lambda: positions(names, *values.T))


def usable(marks: dict[str, Mark], mark: str) -> bool:
    """Whether a mark is there and switched on."""
    return mark in marks and marks[mark].active


def nan(value: float | None) -> float:
    """A number for an array."""
    return np.nan if value is None else value
