"""How the positions of one set vary together, so that a difference between two of them has its true
uncertainty.

A fit moves all it carries at once, and the marks that took part have moved the fit: such errors are
shared. They are kept as what they are made of and worked out for chosen pairs, so that no matrix over all
marks is ever formed.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]


class Joint(Protocol):
    """Joint covariance of a set of positions, asked for by pairs."""

    def between(self, first: IntArray, second: IntArray) -> FloatArray:
        """Covariances (3, 3, p) of e, n, height in square metres of positions first[i] with second[i], which
        are different ones."""


@dataclass(frozen=True, kw_only=True, eq=False)
class SharedErrors:
    """Errors x_i = A_i dp + dm_i with dp = sum of G_u (dk_u - dm_u) over those that took part.

    design (b, p, n): A. cofactors (p, p): covariance of dp. gain (p, b, n): G, zero for those that took no
    part. own (b, b, n): covariance of dm in the target system. All in metres of the target system, b = 1
    or 2.
    """

    design: FloatArray
    cofactors: FloatArray
    gain: FloatArray
    own: FloatArray

    def between(self, i: IntArray, j: IntArray) -> FloatArray:
        """Covariances (b, b, p) of positions i with j, i != j: A_i Q A_j^T - A_i G_j C_j - C_i G_i^T
        A_j^T."""
        a, b = self.design[:, :, i], self.design[:, :, j]
        shared = np.einsum("xpk,pq,yqk->xyk", a, self.cofactors, b)
        shared -= np.einsum("xpk,pzk,zyk->xyk", a, self.gain[:, :, j], self.own[:, :, j])
        shared -= np.einsum("xzk,pzk,ypk->xyk", self.own[:, :, i], self.gain[:, :, i], b)
        return np.asarray(shared)


@dataclass(frozen=True, kw_only=True, eq=False)
class Taken:
    """Some rows of a set."""

    whole: Joint
    rows: IntArray

    def between(self, first: IntArray, second: IntArray) -> FloatArray:
        """See Joint."""
        return self.whole.between(self.rows[first], self.rows[second])


def scaled(errors: SharedErrors, factor: float) -> SharedErrors:
    """The same with every variance multiplied by `factor`."""
    return replace(errors, cofactors=errors.cofactors * factor, own=errors.own * factor)
