"""A datum by as many constraints as the observations leave open, without a border that fills the factor.

With c constraints C (c, n) on a normal matrix N (n, n) of which c ways G (n, c) are open (N G = 0), N + P' P
is regular for c unknowns picked by P. Its inverse is a generalised inverse of N, and S = I - G (C G)^-1 C
carries it, and every solution, onto the datum of the constraints (Baarda, S-transformations and criterion
matrices, 1973; Koch, Parameter Estimation and Hypothesis Testing in Linear Models, 2nd edition 1999,
section 3.6; from memory, proven against the dense solver).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]

#: How far from 1 an open way may come back from what it is picked by: more, and the observations see it.
OPEN = 1e-10
#: The worst condition of the constraints against the ways that are open.
WORST = 1e10


def picked_by(constraints: FloatArray) -> IntArray:
    """The unknowns (c,) that tell the constraints (c, n) apart the best."""
    from scipy.linalg import qr

    rows = constraints / np.linalg.norm(constraints, axis=1)[:, None]
    _, _, order = qr(rows, mode="economic", pivoting=True)
    return np.asarray(order[: constraints.shape[0]], dtype=np.intp)


class OpenDatum:
    """The transformation onto constraints (c, n). solve: of the regular matrix, (n, c) to (n, c); picked
    (c,): the unknowns that were added to its diagonal. `sound` is False where the ways that are open are
    others than these constraints take."""

    def __init__(self, solve: Any, constraints: FloatArray, picked: IntArray) -> None:
        c, n = constraints.shape
        self._lengths = np.linalg.norm(constraints, axis=1)
        self._rows = constraints / self._lengths[:, None]
        right = np.zeros((n, c))
        right[picked, np.arange(c)] = 1.0
        self._ways = solve(right)
        seen = self._rows @ self._ways
        self.sound = bool(
            np.isfinite(self._ways).all()
            and np.abs(self._ways[picked] - np.eye(c)).max() < OPEN
            and np.linalg.cond(seen) < WORST
        )
        if not self.sound:
            return
        self._back = np.linalg.inv(seen)
        #: Twice the logarithm of |C G|.
        self.log_determinant = 2.0 * float(np.linalg.slogdet(seen)[1] + np.log(self._lengths).sum())
        # Q C' of the regular matrix, and what two unknowns have in common through it.
        self._across = solve(np.ascontiguousarray(self._rows.T))
        self._common = self._back @ (self._rows @ self._across) @ self._back.T

    def onto(self, x: FloatArray, gap: FloatArray) -> FloatArray:
        """A solution (n,) as the constraints have it, with what they still miss (c,)."""
        return np.asarray(x - self._ways @ (self._back @ (self._rows @ x - gap / self._lengths)))

    def blocks(self, inverse: FloatArray, first: IntArray, second: IntArray) -> FloatArray:
        """Blocks (p, q, m) of the inverse of the regular matrix, of unknowns first (p, m) and second (q, m),
        as the constraints have them."""
        ways, across = self._ways @ self._back, self._across
        out = inverse - np.einsum("pmc,qmc->pqm", ways[first], across[second])
        out -= np.einsum("pmc,qmc->pqm", across[first], ways[second])
        out += np.einsum("pmc,qmc->pqm", self._ways[first] @ self._common, self._ways[second])
        return np.asarray(out)
