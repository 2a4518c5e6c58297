"""Normal equations of many observations that each touch a few of many unknowns: what would be a product of
sparse matrices, block by block."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.estimation.compiled import Floats, Ints, compiled

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]


def normal_matrix(designs: Sequence[FloatArray], places: Sequence[IntArray], n: int) -> Any:
    """A^T A as a SciPy matrix (n, n), sparse by columns, of whitened designs (b, p, k) by unknowns (p, k) of
    all groups; nothing of size n x n is formed on the way."""
    from scipy import sparse

    flat = [np.ascontiguousarray(place.T, dtype=np.int32) for place in places]
    lengths = np.concatenate([np.zeros(1, dtype=np.int64), *(np.full(*one.shape) for one in flat)])
    starts = np.cumsum(lengths).astype(np.int64)
    indptr, indices = _pattern(starts, np.concatenate([one.ravel() for one in flat]), n)
    data = np.zeros(indices.size)
    for design, place in zip(designs, flat, strict=True):
        _add_up(np.ascontiguousarray(design), place, indptr, indices, data)
    return sparse.csc_matrix((data, indices, indptr), (n, n))


@compiled
def _pattern(starts: Ints, unknowns: Ints, n: int) -> tuple[Ints, Ints]:
    """Where a matrix (n, n) has elements, by columns in their order: all pairs of unknowns of a block, of
    which block k has unknowns[starts[k]:starts[k + 1]]."""
    blocks = starts.size - 1
    first = np.zeros(n + 2, dtype=np.int64)
    for u in unknowns:
        first[u + 2] += 1
    first = np.cumsum(first)
    of = np.empty(unknowns.size, dtype=np.int32)
    for k in range(blocks):
        for u in unknowns[starts[k] : starts[k + 1]]:
            of[first[u + 1]] = k
            first[u + 1] += 1
    seen = np.full(n, -1, dtype=np.int32)
    indptr = np.zeros(n + 1, dtype=np.int32)
    for u in range(n):
        count = 0
        for k in of[first[u] : first[u + 1]]:
            for other in unknowns[starts[k] : starts[k + 1]]:
                if seen[other] != u:
                    seen[other] = u
                    count += 1
        indptr[u + 1] = indptr[u] + count
    # Column u is a row of each column that it touches: gone through in their order, none has to be sorted.
    indices, at = np.empty(indptr[n], dtype=np.int32), indptr[:-1].copy()
    for u in range(n):
        seen[u] = -1
    for u in range(n):
        for k in of[first[u] : first[u + 1]]:
            for other in unknowns[starts[k] : starts[k + 1]]:
                if seen[other] != u:
                    seen[other] = u
                    indices[at[other]] = u
                    at[other] += 1
    return indptr, indices


@compiled
def _add_up(design: Floats, unknowns: Ints, indptr: Ints, indices: Ints, data: Floats) -> None:
    """Add A^T A of blocks with a design (b, p, k) by unknowns (k, p) to a matrix that has their pattern."""
    b, p, blocks = design.shape
    for k in range(blocks):
        for i in range(p):
            column = unknowns[k, i]
            at, end = indptr[column], indptr[column + 1]
            for j in range(p):
                row = unknowns[k, j]
                at += 1  # neighbours often stand next to each other
                if at >= end or indices[at] != row:
                    at = indptr[column]
                    above = end
                    while above - at > 1:
                        middle = (at + above) // 2
                        if indices[middle] <= row:
                            at = middle
                        else:
                            above = middle
                value = 0.0
                for c in range(b):
                    value += design[c, i, k] * design[c, j, k]
                data[at] += value
