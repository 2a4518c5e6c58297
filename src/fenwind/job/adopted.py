"""The position a job stands by for each mark in one frame, and why it is that one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenwind.job.state import JobState
from fenwind.procedures.positions import Positions
from fenwind.records.records import GivenPosition

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Adopted:
    """k adopted positions of one frame, metres, nan where there is none. basis: "given", "converted",
    "carried" or "measured"; why in words; held: the mark is control that is held in plan."""

    names: tuple[str, ...]
    e_m: FloatArray
    n_m: FloatArray
    height_m: FloatArray
    sigma_h_m: FloatArray
    sigma_v_m: FloatArray
    basis: tuple[str, ...]
    why: tuple[str, ...]
    held: NDArray[np.bool_]

    @cached_property
    def index(self) -> dict[str, int]:
        """Row of every name."""
        return {name: i for i, name in enumerate(self.names)}


@dataclass(slots=True)
class _Row:
    values: tuple[float, float, float, float, float]
    basis: str
    why: str
    held: bool = False


def adopt(
    state: JobState,
    frame: str,
    carried: Sequence[tuple[str, Positions]],
    measured: Positions | None,
    converted: Sequence[tuple[str, Positions]] = (),
) -> Adopted:
    """Adopted positions of the active marks in a frame.

    In this order: the given position of control that is held; one given in another frame and `converted`;
    what the last fit onto the frame carried; a given position that is not held; the measured position itself.
    A height that the first of these lacks comes from the next.
    """
    given: dict[str, GivenPosition] = {
        g.mark: g for g in state.given.values() if g.active and g.frame == frame
    }
    sources = [(f"given in {name}", "converted", points) for name, points in converted]
    sources += [(f"carried by {name}", "carried", points) for name, points in reversed(carried)]
    if measured is not None:
        sources.append(("measured", "measured", measured))
    sigmas = {id(points): (points.sigma_h_m, points.sigma_v_m) for _, _, points in sources}
    rows: dict[str, _Row] = {}
    for mark in state.marks.values():
        if not mark.active:
            continue
        own = given.get(mark.id)
        row = (
            _from_given(own, mark.hold_horizontal)
            if own is not None and (mark.hold_horizontal or mark.hold_height)
            else None
        )
        for why, basis, points in sources:
            place = points.index.get(mark.name)
            if place is None:
                continue
            sh, sv = sigmas[id(points)]
            if row is None:
                values = (points.e_m[place], points.n_m[place], points.height_m[place], sh[place], sv[place])
                row = _Row(values, basis, why, basis == "converted" and mark.hold_horizontal)
            elif np.isnan(row.values[2]) and np.isfinite(points.height_m[place]):
                row.values = (*row.values[:2], points.height_m[place], row.values[3], sv[place])
                row.why += f", height {why}"
        if row is None and own is not None:
            row = _from_given(own, False)
        if row is not None:
            rows[mark.name] = row
    table = np.array([r.values for r in rows.values()], dtype=float).reshape(-1, 5)
    return Adopted(
        names=tuple(rows),
        e_m=table[:, 0],
        n_m=table[:, 1],
        height_m=table[:, 2],
        sigma_h_m=table[:, 3],
        sigma_v_m=table[:, 4],
        basis=tuple(r.basis for r in rows.values()),
        why=tuple(r.why for r in rows.values()),
        held=np.array([r.held for r in rows.values()], dtype=bool),
    )


def _from_given(own: GivenPosition, held: bool) -> _Row:
    numbers = tuple(
        np.nan if v is None else v for v in (own.e_m, own.n_m, own.height_m, own.sigma_h_m, own.sigma_v_m)
    )
    return _Row(
        (numbers[0], numbers[1], numbers[2], numbers[3], numbers[4]),
        "given",
        f"given, {own.source}" if own.source else "given",
        held,
    )
