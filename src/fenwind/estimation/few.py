"""Gauss-Newton with a handful of unknowns, where what counts is how little is done beside the algebra.

Whitened derivatives and residuals stand in one array, so that one product gives normal equations, gradient
and sum of squares (the method of `engine`; Golub and Van Loan, Matrix Computations, 4th edition, 5.3).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
#: x (n,) -> rows (n + 1, m): whitened derivatives of the m observations by each unknown, then their whitened
#: residuals.
Rows = Callable[[FloatArray], FloatArray]

#: A step that changes whitened residuals by less than this in all (squared) is a millionth of a sigma.
NEGLIGIBLE = 1e-12
#: One that changes them by less than this, a hundred-thousandth of a sigma, is taken along the derivatives
#: at hand and is the last: what the curvature adds is far less than a millionth.
#: So is one that lowers the sum of squares by less than the second of it, below which rounding decides.
LAST, ROUNDING = 1e-10, 1e-12
#: The most steps, and the smallest pivot, of normal equations with a unit diagonal, that they are taken with.
STEPS, PIVOT = 10, 1e-6
#: The most unknowns that are a handful, and which elements of a matrix of theirs lie in its lower half.
FEW = 40
_BELOW = np.tri(FEW, dtype=bool)


@dataclass(slots=True, eq=False)
class Settling:
    """As far as whole steps came: x (n,), its rows (n + 1, m), how many steps; the cofactors (n, n) where it
    has settled, None elsewhere."""

    x: FloatArray
    rows: FloatArray
    steps: int
    cofactors: FloatArray | None = None

    @property
    def sum_squares(self) -> float:
        """v^T P v."""
        return float(np.vdot(self.rows[-1], self.rows[-1]))


def settle(rows_at: Rows, start: FloatArray, most: int = STEPS, last: bool = True) -> Settling:
    """Take whole steps while they lower the sum of squares, from `start` (n,). It does not settle where a
    step makes that larger, where too little determines the unknowns, or after `most`. last: take the
    last step as well; otherwise it ends before a negligible one."""
    from scipy.linalg.lapack import dposv

    n, (least, part) = start.size, (LAST, ROUNDING) if last else (NEGLIGIBLE, 1e-16)
    with np.errstate(all="ignore"):  # what is not finite lowers nothing
        state = Settling(start, rows_at(start), 0)
        products = state.rows @ state.rows.T
        while state.steps < most:
            gradient = products[:n, n]
            # Cholesky needs no scaling: its errors are the same whatever the units are.
            lower, back, info = dposv(products[:n, :n], gradient, lower=1)
            if info or not (lower.diagonal() ** 2 > PIVOT**2 * products.diagonal()[:n]).all():
                return state
            if float(back @ gradient) <= least + part * float(products[n, n]):
                return _settled(state, back, lower) if last else state
            x = state.x - back
            rows = rows_at(x)
            moved = rows @ rows.T
            if not moved[n, n] <= products[n, n]:
                return state
            state, products = Settling(x, rows, state.steps + 1), moved
    return state


def _settled(state: Settling, back: FloatArray, lower: FloatArray) -> Settling:
    from scipy.linalg.lapack import dpotri

    n, rows = back.size, state.rows.copy()
    rows[n] -= back @ rows[:n]
    half, _ = dpotri(lower, lower=1)
    return Settling(state.x - back, rows, state.steps + 1, np.where(_BELOW[:n, :n], half, half.T))
