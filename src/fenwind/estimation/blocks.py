"""Linear algebra on stacks of small blocks, b = 1, 2 or 3 observations each.

The block index k is the last axis everywhere, (b, b, k), so that every operation runs over contiguous memory;
loops run over b, never over k.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


def cholesky(stack: FloatArray) -> FloatArray:
    """Lower factors L (b, b, k) with L L^T = stack; nan where a block is not positive definite.

    Source: Golub and Van Loan, Matrix Computations, 4th edition, algorithm 4.2.1, run over the stack at once.
    """
    b = stack.shape[0]
    lower = np.zeros(stack.shape)
    with np.errstate(invalid="ignore", divide="ignore"):
        for j in range(b):
            pivot = stack[j, j].copy()
            for p in range(j):
                pivot -= lower[j, p] ** 2
            lower[j, j] = np.sqrt(np.where(pivot > 0.0, pivot, np.nan))
            for i in range(j + 1, b):
                value = stack[i, j].copy()
                for p in range(j):
                    value -= lower[i, p] * lower[j, p]
                lower[i, j] = value / lower[j, j]
    return lower


def lower_inverse(lower: FloatArray) -> FloatArray:
    """Inverses (b, b, k) of lower triangular blocks."""
    b = lower.shape[0]
    inverse = np.zeros(lower.shape)
    for j in range(b):
        inverse[j, j] = 1.0 / lower[j, j]
        for i in range(j + 1, b):
            for p in range(j, i):
                inverse[i, j] -= lower[i, p] * inverse[p, j]
            inverse[i, j] /= lower[i, i]
    return inverse


def solve(stack: FloatArray, values: FloatArray, least_pivot: float = 0.0) -> FloatArray:
    """Solutions (b, k) of symmetric blocks (b, b, k) for values (b, k); nan where a pivot is not above
    `least_pivot`.

    Source: Golub and Van Loan, Matrix Computations, 4th edition, algorithm 4.1.2 (L D L^T), run over the
    stack at once.
    """
    b = stack.shape[0]
    factor = np.zeros(stack.shape)
    pivots, out = np.empty(values.shape), np.empty(values.shape)
    with np.errstate(invalid="ignore", divide="ignore"):
        for j in range(b):
            pivot = stack[j, j] - sum(factor[j, p] ** 2 * pivots[p] for p in range(j))
            pivots[j] = np.where(pivot > least_pivot, pivot, np.nan)
            for i in range(j + 1, b):
                inner = sum(factor[i, p] * factor[j, p] * pivots[p] for p in range(j))
                factor[i, j] = (stack[i, j] - inner) / pivots[j]
            out[j] = values[j] - sum(factor[j, p] * out[p] for p in range(j))
        for j in reversed(range(b)):
            out[j] = out[j] / pivots[j] - sum(factor[i, j] * out[i] for i in range(j + 1, b))
    return out


def apply_lower(lower: FloatArray, values: FloatArray) -> FloatArray:
    """Product of every lower triangular block with its values: (b, k) or (b, n, k), result of the same
    shape."""
    out = np.empty(values.shape)
    for i in range(lower.shape[0]):
        out[i] = lower[i, i] * values[i]
        for p in range(i):
            out[i] += lower[i, p] * values[p]
    return out


def apply_lower_transposed(lower: FloatArray, values: FloatArray) -> FloatArray:
    """Product of the transpose of every lower triangular block with its values: (b, k) or (b, n, k)."""
    out = np.empty(values.shape)
    for i in range(lower.shape[0]):
        out[i] = lower[i, i] * values[i]
        for p in range(i + 1, lower.shape[0]):
            out[i] += lower[p, i] * values[p]
    return out


def multiply(left: FloatArray, right: FloatArray) -> FloatArray:
    """Products (b, b, k) of two stacks of blocks."""
    b = left.shape[0]
    out = np.zeros(left.shape)
    for i in range(b):
        for j in range(b):
            for p in range(b):
                out[i, j] += left[i, p] * right[p, j]
    return out


def product_diagonal(left: FloatArray, middle: FloatArray, right: FloatArray) -> FloatArray:
    """Diagonals (b, k) of left @ middle @ right, without the products themselves."""
    b = left.shape[0]
    out = np.zeros((b, left.shape[2]))
    for i in range(b):
        for p in range(b):
            for q in range(b):
                out[i] += left[i, p] * middle[p, q] * right[q, i]
    return out


def hat(design: FloatArray, cofactors: FloatArray) -> FloatArray:
    """Diagonal blocks (b, b, k) of A Q A^T for a design (b, n, k) and Q (n, n), without the full product."""
    b = design.shape[0]
    out = np.empty((b, b, design.shape[2]))
    for i in range(b):
        weighted = cofactors @ design[i]
        for j in range(i, b):
            out[i, j] = out[j, i] = (weighted * design[j]).sum(axis=0)
    return out


class Whitening:
    """Covariance blocks C = L L^T (b, b, k), ready to whiten with: what is multiplied by L^-1 has unit
    covariance.

    Uncorrelated observations are by far the commonest; for them only the diagonals are touched.
    """

    def __init__(self, covariance: FloatArray) -> None:
        """Factorise; `sound` is False when a block is not positive definite."""
        self.b = b = covariance.shape[0]
        self.diagonal = not any(covariance[i, j].any() for i in range(b) for j in range(b) if i != j)
        if self.diagonal:
            with np.errstate(invalid="ignore", divide="ignore"):
                self.sigma = np.sqrt(np.stack([covariance[i, i] for i in range(b)]))
                self.root_weight = 1.0 / self.sigma
            self.sound = bool((self.sigma > 0.0).all() and np.isfinite(self.sigma).all())
        else:
            self.lower = cholesky(covariance)
            self.inverse = lower_inverse(self.lower)
            self.sound = bool(np.isfinite(self.lower).all())

    def whiten(self, values: FloatArray) -> FloatArray:
        """L^-1 values, (b, k) or (b, n, k)."""
        if self.diagonal:
            return np.asarray(values * (self.root_weight if values.ndim == 2 else self.root_weight[:, None]))
        return apply_lower(self.inverse if values.ndim == 2 else self.inverse[:, :, None], values)

    def unwhiten(self, values: FloatArray) -> FloatArray:
        """L values (b, k)."""
        return np.asarray(values * self.sigma) if self.diagonal else apply_lower(self.lower, values)

    def weigh(self, whitened: FloatArray) -> FloatArray:
        """L^-T values, (b, k) or (b, n, k): P v of whitened residuals, P A of a whitened design."""
        if self.diagonal:
            return np.asarray(
                whitened * (self.root_weight if whitened.ndim == 2 else self.root_weight[:, None])
            )
        return apply_lower_transposed(
            self.inverse if whitened.ndim == 2 else self.inverse[:, :, None], whitened
        )

    def weight(self) -> FloatArray:
        """Weights C^-1 = L^-T L^-1 (b, b, k)."""
        if self.diagonal:
            return np.asarray(np.eye(self.b)[:, :, None] / self.sigma**2)
        return multiply(self.inverse.transpose(1, 0, 2), self.inverse)

    def similar_diagonal(self, stack: FloatArray) -> FloatArray:
        """Diagonals (b, k) of L stack L^-1."""
        return _diagonal(stack) if self.diagonal else product_diagonal(self.lower, stack, self.inverse)

    def weight_diagonal(self, stack: FloatArray) -> FloatArray:
        """Diagonals (b, k) of L^-T stack L^-1."""
        if self.diagonal:
            return np.asarray(_diagonal(stack) * self.root_weight**2)
        return product_diagonal(self.inverse.transpose(1, 0, 2), stack, self.inverse)

    def colour(self, stack: FloatArray) -> FloatArray:
        """L stack L^T (b, b, k)."""
        if self.diagonal:
            return np.asarray(stack * (self.sigma[:, None] * self.sigma))
        return multiply(multiply(self.lower, stack), self.lower.transpose(1, 0, 2))

    def projector(self, stack: FloatArray) -> FloatArray:
        """L stack L^-1 (b, b, k)."""
        if self.diagonal:
            return np.asarray(stack * (self.sigma[:, None] / self.sigma))
        return multiply(multiply(self.lower, stack), self.inverse)


def _diagonal(stack: FloatArray) -> FloatArray:
    return np.asarray(np.einsum("iik->ik", stack))
