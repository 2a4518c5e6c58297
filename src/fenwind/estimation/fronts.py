"""Cholesky of a large sparse system front by front, and the part of its inverse that observations ask for.

Multifrontal: every front eliminates its own unknowns from a small dense matrix and hands what is left to its
parent (Duff and Reid, The multifrontal solution of indefinite sparse symmetric linear equations, ACM TOMS 9,
1983). The inverse goes the other way: a front takes that of its border from its parent and needs nothing
else (Erisman and Tinney, On computing certain elements of the inverse of a sparse matrix, Comm. ACM 18,
1975). From memory; proven against the dense solver.

Dense matrices are kept by columns, as LAPACK has them: element (r, c) of a front of m unknowns is
w[c * m + r]. Only the lower triangle counts; what fronts hand to each other is that triangle alone. What is
compiled holds no lock of the interpreter, so that two lanes of fronts run at once and a window goes on.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from llvmlite import binding
from numba.core import types
from numba.extending import get_cython_function_address
from numpy.typing import NDArray

from fenwind.estimation.compiled import Flags, Floats, Ints, compiled
from fenwind.estimation.dissection import nested_order
from fenwind.estimation.layout import Layout

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

N, T, L, R = 78, 84, 76, 82  # letters of LAPACK: as they are, transposed, lower or left, right


def _routine(library: str, name: str, count: int) -> Any:
    """A routine of SciPy's LAPACK or BLAS, all of whose `count` arguments are addresses."""
    symbol = f"fenwind_{name}"
    binding.add_symbol(symbol, get_cython_function_address(f"scipy.linalg.{library}", name))
    return types.ExternalFunction(symbol, types.void(*[types.voidptr] * count))


_dpotrf = _routine("cython_lapack", "dpotrf", 5)
_dpotri = _routine("cython_lapack", "dpotri", 5)
_dtrsm = _routine("cython_blas", "dtrsm", 11)
_dsyrk = _routine("cython_blas", "dsyrk", 10)
_dgemm = _routine("cython_blas", "dgemm", 13)
_dsymm = _routine("cython_blas", "dsymm", 12)


@compiled
def _cholesky(w: Floats, p: int, m: int) -> bool:
    """Factor the first p of m columns' own rows in place; whether they were positive definite."""
    i = np.array([L, p, m, 0], dtype=np.int32)
    _dpotrf(i.ctypes, i[1:].ctypes, w.ctypes, i[2:].ctypes, i[3:].ctypes)
    return bool(i[3] == 0)


@compiled
def _solve_lower(
    side: int,
    transposed: int,
    rows: int,
    columns: int,
    lower: Floats,
    lead: int,
    right: Floats,
    lead_right: int,
) -> None:
    """B (rows, columns) becomes L^-1 B, L^-T B, B L^-1 or B L^-T."""
    i = np.array([side, L, transposed, N, rows, columns, lead, lead_right], dtype=np.int32)
    one = np.ones(1)
    _dtrsm(
        i.ctypes, i[1:].ctypes, i[2:].ctypes, i[3:].ctypes, i[4:].ctypes, i[5:].ctypes, one.ctypes,
        lower.ctypes, i[6:].ctypes, right.ctypes, i[7:].ctypes,
    )  # fmt: skip


@compiled
def _less_square(n: int, k: int, a: Floats, lead: int, c: Floats) -> None:
    """C (n, n) less A A^T, A (n, k), both with the same lead."""
    i = np.array([L, N, n, k, lead], dtype=np.int32)
    x = np.array([-1.0, 1.0])
    _dsyrk(
        i.ctypes, i[1:].ctypes, i[2:].ctypes, i[3:].ctypes, x.ctypes, a.ctypes, i[4:].ctypes, x[1:].ctypes,
        c.ctypes, i[4:].ctypes,
    )  # fmt: skip


@compiled
def _product(
    transposed: int,
    rows: int,
    columns: int,
    k: int,
    factor: float,
    a: Floats,
    lead_a: int,
    b: Floats,
    lead_b: int,
    keep: float,
    c: Floats,
    lead_c: int,
) -> None:
    """C (rows, columns) becomes keep C + factor A B, A transposed or not."""
    i = np.array([transposed, N, rows, columns, k, lead_a, lead_b, lead_c], dtype=np.int32)
    x = np.array([factor, keep])
    _dgemm(
        i.ctypes, i[1:].ctypes, i[2:].ctypes, i[3:].ctypes, i[4:].ctypes, x.ctypes, a.ctypes, i[5:].ctypes,
        b.ctypes, i[6:].ctypes, x[1:].ctypes, c.ctypes, i[7:].ctypes,
    )  # fmt: skip


@compiled
def _less_symmetric_times(rows: int, columns: int, a: Floats, lead_a: int, b: Floats, c: Floats) -> None:
    """C (rows, columns) becomes -A B, A symmetric; b lies without gaps, c as a."""
    i = np.array([L, L, rows, columns, lead_a, rows], dtype=np.int32)
    x = np.array([-1.0, 0.0])
    _dsymm(
        i.ctypes, i[1:].ctypes, i[2:].ctypes, i[3:].ctypes, x.ctypes, a.ctypes, i[4:].ctypes, b.ctypes,
        i[5:].ctypes, x[1:].ctypes, c.ctypes, i[4:].ctypes,
    )  # fmt: skip


@compiled
def _assemble(
    w: Floats, f: int, matrix: Any, scale: Floats, more: Floats, tree: Any, updates: Floats, up: Ints
) -> None:
    """The lower triangle of a front's matrix: its own columns, scaled, and what its children hand it."""
    indptr, indices, data = matrix
    unknowns, place, begins, edges, border, standing, first_child, next_child, local = tree
    begin, end = begins[f], begins[f + 1]
    p, m = end - begin, end - begin + edges[f + 1] - edges[f]
    for i in range(m * m):
        w[i] = 0.0
    for i in range(edges[f], edges[f + 1]):
        local[border[i]] = p + i - edges[f]
    for c in range(p):
        u = unknowns[begin + c]
        for entry in range(indptr[u], indptr[u + 1]):
            other = place[indices[entry]]
            if other >= begin + c:
                r = other - begin if other < end else local[other]
                w[c * m + r] += data[entry] * scale[u] * scale[indices[entry]]
        w[c * m + c] += more[u]
    child = first_child[f]
    while child >= 0:
        at, b = up[child], edges[child + 1] - edges[child]
        stands = standing[edges[child] : edges[child + 1]]
        for j in range(b):
            column = w[stands[j] * m : stands[j] * m + m]
            for i in range(j, b):
                column[stands[i]] += updates[at]
                at += 1
        child = next_child[child]


@compiled
def _factorise(
    fronts: Ints,
    matrix: Any,
    scale: Floats,
    more: Floats,
    tree: Any,
    where: Ints,
    up: Ints,
    updates: Floats,
    factor: Floats,
    limit: float,
    room: int,
) -> bool:
    """Eliminate fronts, children first; False where a pivot is not over the limit."""
    begins, edges = tree[2], tree[3]
    w = np.empty(room * room)
    for f in fronts:
        _assemble(w, f, matrix, scale, more, tree, updates, up)
        p, b = begins[f + 1] - begins[f], edges[f + 1] - edges[f]
        m = p + b
        if not _cholesky(w, p, m):
            return False
        for c in range(p):
            if not w[c * m + c] ** 2 > limit:
                return False
        if b:
            _solve_lower(R, T, b, p, w, m, w[p:], m)
            _less_square(b, p, w[p:], m, w[p * m + p :])
            at = up[f]
            for j in range(b):
                for i in range(j, b):
                    updates[at] = w[(p + j) * m + p + i]
                    at += 1
        for i in range(p * m):
            factor[where[f] + i] = w[i]
    return True


@compiled
def _pivots(begins: Ints, edges: Ints, where: Ints, factor: Floats) -> Floats:
    """The diagonal of the factor (n,), in its order."""
    out = np.empty(begins[-1])
    for f in range(begins.size - 1):
        p = begins[f + 1] - begins[f]
        m = p + edges[f + 1] - edges[f]
        for c in range(p):
            out[begins[f] + c] = factor[where[f] + c * m + c]
    return out


@compiled
def _solve(
    x: Floats, begins: Ints, edges: Ints, border: Ints, where: Ints, factor: Floats, room: int
) -> None:
    """Right sides x (k, n), in the order of elimination, become solutions."""
    k, n = x.shape
    flat = x.reshape(k * n)
    part = np.empty(room * k)
    fronts = begins.size - 1
    for turn in range(2 * fronts):
        f = turn if turn < fronts else 2 * fronts - 1 - turn
        begin, p, b = begins[f], begins[f + 1] - begins[f], edges[f + 1] - edges[f]
        m = p + b
        lower, own, index = factor[where[f] :], flat[begin:], border[edges[f] : edges[f + 1]]
        if turn < fronts:
            _solve_lower(L, N, p, k, lower, m, own, n)
            if b:
                _product(N, b, k, p, 1.0, lower[p:], m, own, n, 0.0, part, b)
                for j in range(k):
                    for i in range(b):
                        x[j, index[i]] -= part[j * b + i]
        else:
            if b:
                for j in range(k):
                    for i in range(b):
                        part[j * b + i] = x[j, index[i]]
                _product(T, p, k, b, -1.0, lower[p:], m, part, b, 1.0, own, n)
            _solve_lower(L, T, p, k, lower, m, own, n)


@compiled
def _inverse_of(w: Floats, p: int, b: int, lower: Floats, above: Floats, across: Floats) -> None:
    """The inverse (m, m) among a front's unknowns and border in w; lower: its columns of the factor, above:
    the inverse of its border."""
    m = p + b
    for c in range(p):
        for r in range(c, p):
            w[c * m + r] = lower[c * m + r]
    code = np.array([L, p, m, 0], dtype=np.int32)
    _dpotri(code.ctypes, code[1:].ctypes, w.ctypes, code[2:].ctypes, code[3:].ctypes)
    if not b:
        return
    at = 0
    for j in range(b):
        for i in range(j, b):
            w[(p + j) * m + p + i] = above[at]
            at += 1
    for c in range(p):
        for i in range(b):
            across[c * b + i] = lower[c * m + p + i]
    _solve_lower(R, N, b, p, lower, m, across, b)
    _less_symmetric_times(b, p, w[p * m + p :], m, across, w[p:])
    _product(T, p, p, b, -1.0, across, b, w[p:], m, 1.0, w, m)


@compiled
def _invert(
    fronts: Ints,
    tree: Any,
    where: Ints,
    down: Ints,
    handed: Floats,
    factor: Floats,
    needed: Flags,
    asks: Any,
    out: Floats,
    there: Flags,
    room: int,
) -> None:
    """The inverse in fronts that are needed, parents first, and from it what is asked out: blocks X (p, q, m)
    or A S X S A^T (b, b, m) where there is a design (b, p, m), and which of them stand in one front."""
    begins, edges, border, standing, first_child, next_child = tree
    ends, asked, first, second, place, design, scale = asks
    w, across = np.empty(room * room), np.empty(room * room // 4 + 1)
    local, row = np.full(place.size, -1, dtype=np.int32), np.empty(first.shape[0])
    for f in fronts:
        if not needed[f]:
            continue
        begin, end = begins[f], begins[f + 1]
        p, b = end - begin, edges[f + 1] - edges[f]
        m = p + b
        _inverse_of(w, p, b, factor[where[f] :], handed[down[f] :], across)
        child = first_child[f]
        while child >= 0:
            if needed[child]:
                its = edges[child + 1] - edges[child]
                stands = standing[edges[child] : edges[child + 1]]
                at = down[child]
                for j in range(its):
                    column = w[stands[j] * m : stands[j] * m + m]
                    for i in range(j, its):
                        handed[at] = column[stands[i]]
                        at += 1
            child = next_child[child]
        if ends[f + 1] > ends[f]:
            for i in range(begin, end):
                local[i] = i - begin
            for i in range(edges[f], edges[f + 1]):
                local[border[i]] = p + i - edges[f]
            for k in asked[ends[f] : ends[f + 1]]:
                there[k] = _stands_here(k, first, second, place, local)
                if design.size:
                    _spread(k, w, m, first, place, local, design, scale, row, out)
                elif there[k]:
                    _read(k, w, m, first, second, place, local, out)
                else:
                    out[:, :, k] = np.nan
            for i in range(begin, end):
                local[i] = -1
            for i in range(edges[f], edges[f + 1]):
                local[border[i]] = -1


@compiled
def _stands_here(k: int, first: Ints, second: Ints, place: Ints, local: Ints) -> bool:
    """Whether a front holds all unknowns of a block."""
    here = True
    for i in range(first.shape[0]):
        here &= local[place[first[i, k]]] >= 0
    for j in range(second.shape[0]):
        here &= local[place[second[j, k]]] >= 0
    return here


@compiled
def _read(
    k: int, w: Floats, m: int, first: Ints, second: Ints, place: Ints, local: Ints, out: Floats
) -> None:
    """One block of the inverse, from that of a front."""
    for i in range(first.shape[0]):
        r = local[place[first[i, k]]]
        for j in range(second.shape[0]):
            c = local[place[second[j, k]]]
            out[i, j, k] = w[min(r, c) * m + max(r, c)]


@compiled
def _spread(
    k: int, w: Floats, m: int, unknowns: Ints, place: Ints, local: Ints, design: Floats, scale: Floats,
    row: Floats, out: Floats,
) -> None:  # fmt: skip
    """A S X S A^T of one block, X that of the inverse of a front."""
    p = unknowns.shape[0]
    for x in range(design.shape[0]):
        for j in range(p):
            c = local[place[unknowns[j, k]]]
            row[j] = 0.0
            for i in range(p):
                r = local[place[unknowns[i, k]]]
                row[j] += design[x, i, k] * scale[unknowns[i, k]] * w[min(r, c) * m + max(r, c)]
            row[j] *= scale[unknowns[j, k]]
        for y in range(x + 1):
            value = 0.0
            for j in range(p):
                value += row[j] * design[y, j, k]
            out[x, y, k] = value
            out[y, x, k] = value


@compiled
def _asked_of(
    first: Ints, second: Ints, place: Ints, front_at: Ints, parent: Ints
) -> tuple[Ints, Ints, Flags]:
    """Blocks by the front that the earliest of their unknowns is eliminated in: ends (f + 1,) and asked (m,);
    and which fronts are needed for them."""
    k = first.shape[1]
    of = np.empty(k, dtype=np.int64)
    ends = np.zeros(parent.size + 2, dtype=np.int64)
    for i in range(k):
        earliest = place.size
        for u in first[:, i]:
            earliest = min(earliest, place[u])
        for u in second[:, i]:
            earliest = min(earliest, place[u])
        of[i] = front_at[earliest]
        ends[of[i] + 2] += 1
    ends = np.cumsum(ends)
    asked = np.empty(k, dtype=np.int64)
    for i in range(k):
        asked[ends[of[i] + 1]] = i
        ends[of[i] + 1] += 1
    needed = np.zeros(parent.size, dtype=np.bool_)
    for f in range(parent.size):
        needed[f] = needed[f] or ends[f + 1] > ends[f]
        if needed[f] and parent[f] >= 0:
            needed[parent[f]] = True
    return ends[:-1], asked, needed


@compiled
def scale_blocks(blocks: Floats, first: Ints, second: Ints, scale: Floats) -> None:
    """Multiply blocks (p, q, m) by the scales (n,) of their unknowns first (p, m) and second (q, m)."""
    for i in range(first.shape[0]):
        for j in range(second.shape[0]):
            for k in range(first.shape[1]):
                blocks[i, j, k] *= scale[first[i, k]] * scale[second[j, k]]


class Fronts:
    """A symmetric positive definite matrix (n, n), sparse by columns, factorised as S N S + M: scale (n,) the
    diagonal of S, more (n,) that of M. `sound` is False where a pivot is not over `limit`. layout: that of
    another matrix with the same pattern, None to find one. Inverses and solutions are those of the scaled
    matrix."""

    def __init__(
        self, matrix: Any, limit: float, scale: FloatArray, more: FloatArray, layout: Layout | None = None
    ) -> None:
        self.layout = layout or Layout(matrix, nested_order(matrix))
        at, order = self.layout, self.layout.order
        self._factor = np.empty(int(at.factor[-1]))
        updates = np.empty(int(at.updates[-1]))
        sparse = (matrix.indptr, matrix.indices, np.ascontiguousarray(matrix.data, dtype=float))

        def run(fronts: IntArray) -> bool:
            tree = (
                order.unknowns, at.place, order.begins, at.edges, at.border, at.standing, at.first_child,
                at.next_child, np.empty(at.place.size, dtype=np.int32),
            )  # fmt: skip
            return bool(
                _factorise(
                    fronts, sparse, scale, more, tree, at.factor, at.updates, updates, self._factor, limit,
                    at.room(fronts),
                )
            )  # fmt: skip

        self.sound = all(self._in_lanes(run, at.lanes[:-1])) and run(at.lanes[-1])
        self.log_determinant = 0.0
        if self.sound:
            pivots = _pivots(order.begins, at.edges, at.factor, self._factor)
            self.log_determinant = 2.0 * float(np.log(pivots).sum())

    def _in_lanes(self, run: Any, lanes: tuple[IntArray, ...]) -> list[Any]:
        """Run for each lane, at the same time."""
        if not lanes:
            return []
        with ThreadPoolExecutor(len(lanes)) as pool:
            return list(pool.map(run, lanes))

    def solve(self, right: FloatArray) -> FloatArray:
        """The solution (n,) or (n, k)."""
        at, order = self.layout, self.layout.order
        x = np.array(right[order.unknowns].T, dtype=float, order="C", ndmin=2)
        _solve(x, order.begins, at.edges, at.border, at.factor, self._factor, at.room())
        out = np.empty(right.shape)
        out[order.unknowns] = x.T.reshape(right.shape)
        return out

    def inverse_blocks(self, first: IntArray, second: IntArray) -> tuple[FloatArray, NDArray[np.bool_]]:
        """Blocks (p, q, m) of the inverse for unknowns first (p, m) and second (q, m), and which of the m
        were found: those whose unknowns all stand in one front; the others are nan."""
        one, two = (np.ascontiguousarray(index, dtype=np.int64) for index in (first, second))
        out = np.empty((one.shape[0], *two.shape))
        return self._inverted(one, two, np.empty((0, 0, 0)), out, np.empty(0))

    def hat_blocks(self, design: FloatArray, unknowns: IntArray, scale: FloatArray) -> FloatArray:
        """A S X S A^T (b, b, m), X the inverse and scale (n,) the diagonal of S, for designs (b, p, m) by
        unknowns (p, m) that the matrix links."""
        index = np.ascontiguousarray(unknowns, dtype=np.int64)
        b, _, m = design.shape
        return self._inverted(index, index, np.ascontiguousarray(design), np.empty((b, b, m)), scale)[0]

    def _inverted(
        self, first: IntArray, second: IntArray, design: FloatArray, out: FloatArray, scale: FloatArray
    ) -> tuple[FloatArray, NDArray[np.bool_]]:
        at, order = self.layout, self.layout.order
        ends, asked, needed = _asked_of(first, second, at.place, at.front_at, order.parent)
        handed, there = np.empty(int(at.inverse[-1])), np.zeros(first.shape[1], dtype=np.bool_)
        tree = (order.begins, at.edges, at.border, at.standing, at.first_child, at.next_child)

        def run(fronts: IntArray) -> None:
            _invert(
                np.ascontiguousarray(fronts[::-1]), tree, at.factor, at.inverse, handed, self._factor, needed,
                (ends, asked, first, second, at.place, design, scale), out, there, at.room(fronts),
            )  # fmt: skip

        run(at.lanes[-1])
        self._in_lanes(run, at.lanes[:-1])
        return out, there
