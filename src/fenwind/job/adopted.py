"""The position a job stands by for each mark in one frame, why it is that one, and the others it could
have been."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import repeat

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
                    why=_why(origin, row),
                    e_m=float(points.e_m[row]),
                    n_m=float(points.n_m[row]),
                    height_m=float(points.height_m[row]),
                    sigma_h_m=float(points.sigma_h_m[row]),
                    sigma_v_m=float(points.sigma_v_m[row]),
                    adopted=bool(mine is not None and self.set_row[mine] == number),
                )
            )
        return tuple(found)


def adopt(
    marks: Sequence[str], sets: Sequence[CandidateSet], choices: dict[str, tuple[str, str]] | None = None
) -> Adopted:
    """Adopted positions of marks (ids, in the order wanted) among sets, those of one place in ORDER as
    they come.

    The first set in that order that has a mark in plan gives its position, the first that has its height
    the height, so that a benchmark known by its height alone lies where it was measured.
    choices: key of the set and the reason, by mark id; a choice that no set answers for any more is left
    aside.
    """
    ordered = tuple(sorted(sets, key=lambda s: ORDER.index(s.place)))
    places = {key: i for i, key in enumerate(marks)}
    table = _Table(marks, ordered)
    for key, (origin, reason) in (choices or {}).items():
        number = next(
            (i for i, s in enumerate(ordered) if s.key == origin and key in s.positions.index), None
        )
        if key in places and number is not None:
            table.take(number, np.array([places[key]]), np.array([ordered[number].positions.index[key]]))
            table.chosen[places[key]] = f", chosen: {reason}"
    for number, source in enumerate(ordered):
        if table.complete:
            break
        keys = source.positions.names
        place = np.fromiter(map(places.get, keys, repeat(-1)), dtype=np.intp, count=len(keys))
        row = np.flatnonzero(place >= 0)
        table.take(number, place[row], row)
    return table.adopted()


class _Table:
    """Positions of n marks as they are found, set by set: each mark has its plan from one set and its height
    from the first that knows one, which is the same for most."""

    def __init__(self, marks: Sequence[str], sets: tuple[CandidateSet, ...]) -> None:
        n = len(marks)
        self._marks, self._sets = marks, sets
        self._values = np.full((5, n), np.nan)
        self._set, self._height_set = np.full((2, n), -1, dtype=np.intp)
        self._row, self._height_row = np.zeros((2, n), dtype=np.intp)
        self._held = np.zeros(n, dtype=bool)
        self.chosen: dict[int, str] = {}

    @property
    def complete(self) -> bool:
        """Whether every mark has a position with a height."""
        return bool((self._set >= 0).all() and (self._height_set >= 0).all())

    def take(self, number: int, place: IntArray, row: IntArray) -> None:
        """Rows of a set for the marks at `place` that have no position yet, and heights for those that
        have none."""
        source = self._sets[number]
        points = source.positions
        fresh = (self._set[place] < 0) & np.isfinite(points.e_m[row])
        at, r = place[fresh], row[fresh]
        for axis, column in ((0, points.e_m), (1, points.n_m), (3, points.sigma_h_m)):
            self._values[axis, at] = column[r]
        self._set[at], self._row[at] = number, r
        if source.held is not None:
            self._held[at] = source.held[r]
        level = (self._height_set[place] < 0) & np.isfinite(points.height_m[row])
        at, r = place[level], row[level]
        self._values[2, at], self._values[4, at] = points.height_m[r], points.sigma_v_m[r]
        self._height_set[at], self._height_row[at] = number, r

    def adopted(self) -> Adopted:
        """What was found."""
        placed = self._set >= 0
        found = np.flatnonzero(placed | (self._height_set >= 0))
        main = np.where(placed, self._set, self._height_set)[found]
        row = np.where(placed, self._row, self._height_row)[found]
        ids = tuple(self._marks[i] for i in found.tolist())
        e, n, height, sigma_h, sigma_v = self._values[:, found]
        return Adopted(
            ids=ids,
            names=ids,
            e_m=e,
            n_m=n,
            height_m=height,
            sigma_h_m=sigma_h,
            sigma_v_m=sigma_v,
            basis=tuple(self._sets[i].basis for i in main.tolist()),
            why=tuple(self._whys(found, main, row).tolist()),
            held=self._held[found],
            sets=self._sets,
            set_row=main,
            row=row,
        )

    def _whys(self, found: IntArray, main: IntArray, row: IntArray) -> NDArray[np.object_]:
        words = np.empty(found.size, dtype=object)
        for number in np.unique(main).tolist():
            why, mine = self._sets[number].why, main == number
            words[mine] = why if isinstance(why, str) else np.array(why, dtype=object)[row[mine]]
        other = self._height_set[found]
        for k in np.flatnonzero((other >= 0) & (other != main)).tolist():
            words[k] += f", height {_why(self._sets[other[k]], int(self._height_row[found[k]]))}"
        for place, chosen in self.chosen.items():
            k = int(np.searchsorted(found, place))
            if k < found.size and found[k] == place:
                words[k] += chosen
        return words


def _why(source: CandidateSet, row: int) -> str:
    return source.why if isinstance(source.why, str) else source.why[row]
