"""The position a job stands by for each mark in one frame, why it is that one, and the others it could
have been."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenwind.job.steps.outcome import ORDER, CandidateSet

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]


@dataclass(frozen=True, kw_only=True, eq=False)
class Candidate:
    """One position a mark could have; metres, nan where there is none. key: what a choice names it by."""

    key: str
    basis: str
    why: str
    e_m: float
    n_m: float
    height_m: float
    sigma_h_m: float
    sigma_v_m: float
    adopted: bool


@dataclass(frozen=True, kw_only=True, eq=False)
class Adopted:
    """k adopted positions of one frame, metres, nan where there is none. basis: "given", "converted",
    "carried" or "measured"; why in words; held: the mark is control that is held in plan. sets, set_row,
    row: where each came from (its set, and its row there)."""

    ids: tuple[str, ...]
    names: tuple[str, ...]
    e_m: FloatArray
    n_m: FloatArray
    height_m: FloatArray
    sigma_h_m: FloatArray
    sigma_v_m: FloatArray
    basis: tuple[str, ...]
    why: tuple[str, ...]
    held: NDArray[np.bool_]
    sets: tuple[CandidateSet, ...] = ()
    set_row: IntArray
    row: IntArray

    @cached_property
    def index(self) -> dict[str, int]:
        """Row of every name."""
        return {name: i for i, name in enumerate(self.names)}

    @cached_property
    def place(self) -> dict[str, int]:
        """Row of every mark id."""
        return {key: i for i, key in enumerate(self.ids)}

    def difference_covariance(self, first: int, second: int) -> FloatArray:
        """Covariance (3, 3) in square metres of position `second` less position `first`, e, n, height; nan
        where one is not known. What two positions of one set share falls out."""
        a, b = self.sets[self.set_row[first]], self.sets[self.set_row[second]]
        if a is b:
            return np.asarray(a.positions.difference_covariance(int(self.row[first]), int(self.row[second])))
        own = (s.positions.covariance[:, :, self.row[i]] for s, i in ((a, first), (b, second)))
        return np.asarray(sum(own))

    def candidates(self, mark: str) -> tuple[Candidate, ...]:
        """All positions a mark (by id) could have here, in the order they are adopted in."""
        found: list[Candidate] = []
        mine = self.place.get(mark)
        for number, origin in enumerate(self.sets):
            row = origin.positions.index.get(mark)
            if row is None:
                continue
            points = origin.positions
            found.append(
                Candidate(
                    key=origin.key,
                    basis=origin.basis,
                    why=origin.why if isinstance(origin.why, str) else origin.why[row],
                    e_m=float(points.e_m[row]),
                    n_m=float(points.n_m[row]),
                    height_m=float(points.height_m[row]),
                    sigma_h_m=float(points.sigma_h_m[row]),
                    sigma_v_m=float(points.sigma_v_m[row]),
                    adopted=mine is not None and self.set_row[mine] == number,
                )
            )
        return tuple(found)


def adopt(
    marks: Sequence[str], sets: Sequence[CandidateSet], choices: dict[str, tuple[str, str]] | None = None
) -> Adopted:
    """Adopted positions of marks (ids, in the order wanted) among sets, those of one place in ORDER as
    they come.

    The first set in that order that has a mark gives its position; a height it lacks comes from the next
    that has one. choices: key of the set and the reason, by mark id; a choice that no set answers for any
    more is left aside.
    """
    ordered = sorted(sets, key=lambda s: ORDER.index(s.place))
    places = {key: i for i, key in enumerate(marks)}
    mark, origin, row = _table(ordered, places)
    precedence = 1 + origin
    for i, key in enumerate(marks) if choices else ():
        if choices and key in choices:
            mine = np.flatnonzero(mark == i)
            wanted = [r for r in mine.tolist() if ordered[origin[r]].key == choices[key][0]]
            precedence[wanted[:1]] = 0
    sort = np.lexsort((precedence, mark))
    mark, origin, row = mark[sort], origin[sort], row[sort]
    columns = _columns(ordered)
    offset = np.cumsum([0, *(len(s.positions) for s in ordered)])[:-1].astype(np.intp)
    flat = offset[origin] + row
    first = _first_of_each(mark)
    values = columns[:, flat[first]]
    fine = np.flatnonzero(np.isfinite(columns[2, flat]))
    with_height = fine[_first_of_each(mark[fine])]
    lower = np.searchsorted(mark[first], mark[with_height])
    late = with_height != first[lower]
    values[2, lower[late]], values[4, lower[late]] = (
        columns[2, flat[with_height[late]]],
        columns[4, flat[with_height[late]]],
    )
    why = _words(ordered, origin[first], row[first])
    for i, source, r in zip(
        lower[late].tolist(), origin[with_height[late]], row[with_height[late]], strict=True
    ):
        why[i] += f", height {_words(ordered, np.array([source]), np.array([r]))[0]}"
    ids = tuple(marks[i] for i in mark[first].tolist())
    for i, key in enumerate(ids) if choices else ():
        if choices and key in choices and ordered[origin[first][i]].key == choices[key][0]:
            why[i] += f", chosen: {choices[key][1]}"
    held = np.array(
        [
            bool(h[r]) if (h := ordered[o].held) is not None else False
            for o, r in zip(origin[first], row[first], strict=True)
        ],
        dtype=bool,
    )
    basis = tuple(ordered[o].basis for o in origin[first].tolist())
    return Adopted(
        ids=ids, names=ids, e_m=values[0], n_m=values[1], height_m=values[2], sigma_h_m=values[3],
        sigma_v_m=values[4], basis=basis, why=tuple(why), held=held, sets=tuple(ordered),
        set_row=origin[first], row=row[first],
    )  # fmt: skip


def _table(sets: Sequence[CandidateSet], places: dict[str, int]) -> tuple[IntArray, IntArray, IntArray]:
    """Mark, set and row of every candidate position, (c,) each."""
    sizes = [len(s.positions) for s in sets]
    mark = np.array([places.get(key, -1) for s in sets for key in s.positions.names], dtype=np.intp)
    origin = np.repeat(np.arange(len(sets)), sizes)
    row = np.arange(mark.size) - np.repeat(np.cumsum([0, *sizes])[:-1], sizes).astype(np.intp)
    known = mark >= 0
    return mark[known], origin[known], row[known].astype(np.intp)


def _columns(sets: Sequence[CandidateSet]) -> FloatArray:
    """e, n, height and both sigmas (5, c) of all sets, one after the other."""
    if not sets:
        return np.zeros((5, 0))
    return np.hstack(
        [np.stack([p.e_m, p.n_m, p.height_m, p.sigma_h_m, p.sigma_v_m]) for p in (s.positions for s in sets)]
    )


def _first_of_each(mark: IntArray) -> IntArray:
    """First place of each value in a sorted array."""
    return np.flatnonzero(np.diff(mark, prepend=-1)) if mark.size else np.zeros(0, dtype=np.intp)


def _words(sets: Sequence[CandidateSet], origin: IntArray, row: IntArray) -> list[str]:
    whys = [s.why for s in sets]
    return [
        w if isinstance(w := whys[o], str) else w[r]
        for o, r in zip(origin.tolist(), row.tolist(), strict=True)
    ]
