"""Cholesky of a large sparse system front by front, and the part of its inverse that observations ask for.

Multifrontal: every front eliminates its own unknowns from a small dense matrix and hands what is left to its
parent (Duff and Reid, The multifrontal solution of indefinite sparse symmetric linear equations, ACM TOMS 9,
1983). The inverse goes the other way: a front takes that of its border from its parent and needs nothing
else (Erisman and Tinney, On computing certain elements of the inverse of a sparse matrix, Comm. ACM 18,
1975). From memory; proven against the dense solver.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.estimation.dissection import Order, nested_order

#: Runs of a border that are added as slices.
RUNS = 24

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]


@dataclass(eq=False, slots=True)
class _Front:
    """Unknowns begin to end, in their order, with the border (b,) they touch; lower (p, p) Cholesky factor
    and across (p, b): the factor solved for the border's columns."""

    begin: int
    end: int
    border: IntArray
    lower: FloatArray
    across: FloatArray


class Fronts:
    """A factorised symmetric positive definite matrix (n, n), sparse by columns. `sound` is False where a
    pivot is not over `limit`. order: that of another matrix with the same pattern, None to find one."""

    def __init__(self, matrix: Any, limit: float, order: Order | None = None) -> None:
        from scipy.linalg import lapack

        self._lapack = lapack
        self.n, self.sound, self.log_determinant = matrix.shape[0], True, 0.0
        self.order = order or nested_order(matrix)
        self._order, self._begins, self._parent = self.order.unknowns, self.order.begins, self.order.parent
        self._place = np.empty(self.n, dtype=np.int32)
        self._place[self._order] = np.arange(self.n)
        self._fronts: list[_Front] = []
        self._factorise(matrix, limit)

    def _factorise(self, matrix: Any, limit: float) -> None:
        from scipy import sparse

        permuted = sparse.tril(matrix[self._order][:, self._order]).tocsc()
        permuted.sort_indices()
        waiting: dict[int, list[tuple[IntArray, FloatArray]]] = {}
        for f, parent in enumerate(self._parent.tolist()):
            begin, end = int(self._begins[f]), int(self._begins[f + 1])
            found = self._assembled(permuted, begin, end, waiting.pop(f, []))
            if found is None:
                self.sound = False
                return
            front, rest = found
            if not np.diag(front.lower).min() ** 2 > limit:
                self.sound = False
                return
            self.log_determinant += 2.0 * float(np.log(np.diag(front.lower)).sum())
            self._fronts.append(front)
            if front.border.size:
                waiting.setdefault(parent, []).append((front.border, rest))

    def _assembled(
        self, matrix: Any, begin: int, end: int, children: list[tuple[IntArray, FloatArray]]
    ) -> tuple[_Front, FloatArray] | None:
        """A front with its unknowns eliminated, and what is left of its border's matrix (b, b)."""
        p = end - begin
        first, last = matrix.indptr[begin], matrix.indptr[end]
        rows = matrix.indices[first:last]
        columns = np.repeat(np.arange(p), np.diff(matrix.indptr[begin : end + 1]))
        touched = [rows[rows >= end], *(border[border >= end] for border, _ in children)]
        border = np.unique(np.concatenate(touched)).astype(np.intp)
        whole = np.zeros((p + border.size, p + border.size))
        place = _local(rows, begin, end, border)
        whole[columns, place] = matrix.data[first:last]  # above the diagonal
        for its, left in children:
            _add(whole, _local(its, begin, end, border), left)
        lower, info = self._lapack.dpotrf(whole[:p, :p].T, lower=1, clean=1)
        if info:
            return None
        across = _solved(lower, whole[:p, p:])
        front = _Front(begin, end, border, lower, across)
        return front, whole[p:, p:] - across.T @ across

    def solve(self, right: FloatArray) -> FloatArray:
        """The solution (n,) or (n, m)."""
        x = right[self._order].astype(float)
        for front in self._fronts:
            own = _solved(front.lower, x[front.begin : front.end])
            x[front.begin : front.end] = own
            x[front.border] -= front.across.T @ own
        for front in reversed(self._fronts):
            own = x[front.begin : front.end] - front.across @ x[front.border]
            x[front.begin : front.end] = _solved(front.lower, own, transposed=True)
        out = np.empty_like(x)
        out[self._order] = x
        return out

    def inverse_blocks(self, first: IntArray, second: IntArray) -> tuple[FloatArray, NDArray[np.bool_]]:
        """Blocks (p, q, m) of the inverse for unknowns first (p, m) and second (q, m), and which of the m
        were found: those whose unknowns all stand in one front."""
        p, q, same = first.shape[0], second.shape[0], second is first
        every = self._place[first if same else np.concatenate([first, second])]
        front_of = np.searchsorted(self._begins, every.min(axis=0), side="right") - 1
        asked = np.argsort(front_of, kind="stable")
        ends = np.searchsorted(front_of[asked], np.arange(len(self._fronts) + 1))
        out, there = np.full((p, q, first.shape[1]), np.nan), np.zeros(first.shape[1], dtype=bool)
        needed = self._needed(ends)
        known: dict[int, tuple[IntArray, FloatArray]] = {}
        children = np.bincount(self._parent[needed & (self._parent >= 0)], minlength=len(self._fronts))
        for f in range(len(self._fronts) - 1, -1, -1):
            if not needed[f]:
                continue
            front, parent = self._fronts[f], int(self._parent[f])
            inside = self._inverse_in(front, known.get(parent))
            if children[f]:
                known[f] = inside
            if parent >= 0:
                children[parent] -= 1
                if not children[parent]:
                    known.pop(parent, None)
            mine = asked[ends[f] : ends[f + 1]]
            if mine.size:
                local = _local_or_none(every[:, mine], inside[0])
                fine = (local >= 0).all(axis=0)
                some, here = mine[fine], local[:, fine]
                out[:, :, some] = inside[1][here[:p, None], here[None, 0 if same else p :]]
                there[some] = True
        return out, there

    def _needed(self, ends: IntArray) -> NDArray[np.bool_]:
        """Fronts that something is asked of, and all that these stand on."""
        needed = np.diff(ends) > 0
        for f in range(len(self._fronts)):
            if needed[f] and self._parent[f] >= 0:
                needed[self._parent[f]] = True
        return needed

    def _inverse_in(
        self, front: _Front, above: tuple[IntArray, FloatArray] | None
    ) -> tuple[IntArray, FloatArray]:
        """A front's unknowns and border, in their order, and the inverse among them."""
        p, b = front.end - front.begin, front.border.size
        own, _ = self._lapack.dpotri(front.lower, lower=1)
        own = np.tril(own) + np.tril(own, -1).T
        index = np.concatenate([np.arange(front.begin, front.end), front.border])
        if not b or above is None:
            return index, own
        whole = np.empty((p + b, p + b))
        border = whole[p:, p:]
        _take(border, np.searchsorted(above[0], front.border), above[1])
        back = _solved(front.lower, front.across, transposed=True)
        cross = -back @ border
        whole[:p, :p] = own - cross @ back.T
        whole[:p, p:], whole[p:, :p] = cross, cross.T
        return index, whole


def _local(index: IntArray, begin: int, end: int, border: IntArray) -> IntArray:
    """Where unknowns stand in a front."""
    return np.where(index < end, index - begin, end - begin + np.searchsorted(border, index))


def _add(whole: FloatArray, local: IntArray, left: FloatArray) -> None:
    """Add a child's matrix where its border stands."""
    pieces = _pieces(local)
    if pieces is None:
        whole[local[:, None], local] += left
        return
    for rows, to_rows in pieces:
        for columns, to_columns in pieces:
            whole[to_rows, to_columns] += left[rows, columns]


def _take(border: FloatArray, local: IntArray, whole: FloatArray) -> None:
    """The other way: what stands where a child's border is."""
    pieces = _pieces(local)
    if pieces is None:
        border[:] = whole[local[:, None], local]
        return
    for rows, from_rows in pieces:
        for columns, from_columns in pieces:
            border[rows, columns] = whole[from_rows, from_columns]


def _pieces(local: IntArray) -> list[tuple[slice, slice]] | None:
    """A border in runs of neighbours, and where each stands; None where there are too many of them."""
    breaks = np.flatnonzero(np.diff(local) != 1) + 1
    if breaks.size > RUNS:
        return None
    ends = [0, *breaks.tolist(), local.size]
    return [(slice(a, b), slice(int(local[a]), int(local[a]) + b - a)) for a, b in pairwise(ends)]


def _local_or_none(index: IntArray, inside: IntArray) -> IntArray:
    """Where unknowns stand among those of a front, -1 for those that do not."""
    at = np.minimum(np.searchsorted(inside, index), inside.size - 1)
    return np.where(inside[at] == index, at, -1)


def _solved(lower: FloatArray, right: FloatArray, transposed: bool = False) -> FloatArray:
    """L^-1 or L^-T times something."""
    from scipy.linalg import lapack

    if not right.size:
        return right
    found, _ = lapack.dtrtrs(lower, right, lower=1, trans=1 if transposed else 0)
    return np.asarray(found)
