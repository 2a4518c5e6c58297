"""Which places lie close together: a search over cells, without a comparison of every place with every
other."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]

#: More pairs than this say that the radius is wrong, not that names are.
LIMIT = 200_000


def near_pairs(e_m: FloatArray, n_m: FloatArray, radius_m: float) -> tuple[IntArray, IntArray]:
    """Rows i < j of places (k,) within `radius_m` of each other in plan; places that are nan have no
    neighbours.

    Raises ValueError when there are over LIMIT candidates.
    """
    fine = np.flatnonzero(np.isfinite(e_m) & np.isfinite(n_m))
    if fine.size < 2:
        return np.zeros(0, dtype=np.intp), np.zeros(0, dtype=np.intp)
    column = np.floor((e_m[fine] - e_m[fine].min()) / radius_m).astype(np.int64)
    row = np.floor((n_m[fine] - n_m[fine].min()) / radius_m).astype(np.int64)
    stride = int(column.max()) + 3
    cell = row * stride + column
    order = np.argsort(cell, kind="stable")
    ordered = cell[order]
    found: list[tuple[IntArray, IntArray]] = []
    total = 0
    for step in (
        0,
        1,
        stride - 1,
        stride,
        stride + 1,
    ):  # itself and the half of its neighbours that comes later
        first = np.searchsorted(ordered, ordered + step, side="left")
        last = np.searchsorted(ordered, ordered + step, side="right")
        if step == 0:
            first = np.arange(ordered.size) + 1
        counts = np.maximum(last - first, 0)
        total += int(counts.sum())
        if total > LIMIT:
            raise ValueError("too many places lie within the radius of each other")
        left = np.repeat(np.arange(ordered.size), counts)
        ends = np.cumsum(counts)
        right = np.arange(left.size) - np.repeat(ends - counts, counts) + np.repeat(first, counts)
        found.append((fine[order[left]], fine[order[right]]))
    i = np.concatenate([f[0] for f in found])
    j = np.concatenate([f[1] for f in found])
    close = np.hypot(e_m[i] - e_m[j], n_m[i] - n_m[j]) <= radius_m
    return np.minimum(i, j)[close], np.maximum(i, j)[close]
