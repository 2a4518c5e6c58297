"""Normal equations whose unknowns touch only their neighbours in the order they stand, as along a line:
Cholesky of the band (Golub and Van Loan, Matrix Computations, 4th edition, section 4.3.5)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from fenwind.estimation.solver import PIVOT_LIMIT, Factorisation, Normal, SparseSolver

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]


class _Band:
    """A factorised band matrix, scaled to a unit diagonal."""

    def __init__(self, matrix: sparse.csc_matrix, width: int) -> None:
        from scipy.linalg import cholesky_banded

        diagonal = matrix.diagonal()
        self._scale = 1.0 / np.sqrt(np.where(diagonal > 0.0, diagonal, 1.0))
        band = np.zeros((width + 1, matrix.shape[0]))
        for k in range(width + 1):
            there = self._scale.size - k
            band[k, :there] = matrix.diagonal(-k) * self._scale[k:] * self._scale[:there]
        self._lower = cholesky_banded(band, lower=True)
        self.sound = bool(self._lower[0].min() ** 2 > PIVOT_LIMIT)

    def solve(self, right_side: FloatArray, constraint_gap: FloatArray) -> FloatArray:
        """See Factorisation."""
        from scipy.linalg import cho_solve_banded

        scale = self._scale if right_side.ndim == 1 else self._scale[:, None]
        return np.asarray(cho_solve_banded((self._lower, True), right_side * scale) * scale)

    def cofactors(self) -> FloatArray:
        """See Factorisation."""
        return self.solve(np.eye(self._scale.size), np.zeros(0))

    def cofactor_blocks(self, first: IntArray, second: IntArray) -> FloatArray:
        """See Factorisation."""
        return np.asarray(self.cofactors()[first[:, None], second[None]])

    def log_determinant(self) -> float:
        """See Factorisation."""
        return float(2.0 * (np.log(self._lower[0]).sum() - np.log(self._scale).sum()))


class BandSolver(SparseSolver):
    """The band, where there is no constraint and it is sound; else the sparse solver, which says what is
    not determined."""

    def __init__(self, width: int) -> None:
        """width: how many places apart unknowns that touch stand at most."""
        super().__init__()
        self._width = width

    def factorise(self, normal: Normal, constraints: FloatArray, names: tuple[str, ...]) -> Factorisation:
        """See NormalSolver."""
        if not constraints.shape[0]:
            try:
                found = _Band(sparse.csc_matrix(normal), self._width)
            except np.linalg.LinAlgError:
                found = None
            if found is not None and found.sound:
                return found
        return super().factorise(normal, constraints, names)
