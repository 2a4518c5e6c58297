"""Comparison of two sets of positions by name."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.procedures.fit import match
from fenwind.procedures.positions import Positions

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Difference:
    """Names in both sets (k,) with b - a in metres, height nan where one has none; d_m is the length in plan.
    only_a, only_b: names in one set. over (k,): d_m or the height difference is over its tolerance."""

    names: tuple[str, ...]
    de_m: FloatArray
    dn_m: FloatArray
    dh_m: FloatArray
    d_m: FloatArray
    over: NDArray[np.bool_]
    only_a: tuple[str, ...]
    only_b: tuple[str, ...]


def compare(a: Positions, b: Positions, tolerance_h_m: float, tolerance_v_m: float) -> Difference:
    """Compare two sets, in the order of the first; sets without a common name give empty arrays."""
    names, rows_a, rows_b = match(a, b, frozenset())
    de, dn = b.e_m[rows_b] - a.e_m[rows_a], b.n_m[rows_b] - a.n_m[rows_a]
    dh = b.height_m[rows_b] - a.height_m[rows_a]
    d = np.hypot(de, dn)
    return Difference(
        names=names,
        de_m=de,
        dn_m=dn,
        dh_m=dh,
        d_m=d,
        over=(d > tolerance_h_m) | (np.abs(dh) > tolerance_v_m),
        only_a=tuple(name for name in a.names if name not in b.index),
        only_b=tuple(name for name in b.names if name not in a.index),
    )
