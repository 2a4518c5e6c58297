"""Which places lie close together, by SciPy's k-d tree."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]

#: More pairs than this say that the radius is wrong, not that names are.
LIMIT = 200_000


def near_pairs(e_m: FloatArray, n_m: FloatArray, radius_m: float) -> tuple[IntArray, IntArray]:
    """Rows i < j, (p,) each, of places (k,) within `radius_m` of each other in plan, in order; places that
    are nan have no neighbours.

    Raises ValueError when there are over LIMIT of them.
    """
    from scipy.spatial import cKDTree

    fine = np.flatnonzero(np.isfinite(e_m) & np.isfinite(n_m))
    if fine.size < 2:
        return np.zeros(0, dtype=np.intp), np.zeros(0, dtype=np.intp)
    tree = cKDTree(np.stack([e_m[fine], n_m[fine]], axis=1))
    if (int(tree.count_neighbors(tree, radius_m)) - fine.size) // 2 > LIMIT:
        raise ValueError("too many places lie within the radius of each other")
    pairs = fine[tree.query_pairs(radius_m, output_type="ndarray").reshape(-1, 2)]
    pairs = pairs[np.lexsort((pairs[:, 1], pairs[:, 0]))]
    return pairs[:, 0], pairs[:, 1]
