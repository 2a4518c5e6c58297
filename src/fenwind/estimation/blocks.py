"""Linear algebra on stacks of small blocks, b = 1, 2 or 3 observations each.

The block index k is the last axis everywhere, (b, b, k), so that every operation runs over contiguous memory; loops run
over b, never over k.
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


def apply_lower(lower: FloatArray, values: FloatArray) -> FloatArray:
    """Product of every lower triangular block with its values: (b, k) or (b, n, k), result of the same shape."""
    out = np.empty(values.shape)
    for i in range(lower.shape[0]):
        out[i] = lower[i, i] * values[i]
        for p in range(i):
            out[i] += lower[i, p] * values[p]
    return out


def apply_lower_transposed(lower: FloatArray, values: FloatArray) -> FloatArray:
    """Product of the transpose of every lower triangular block with its values (b, k)."""
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


def hat(design: FloatArray, cofactors: FloatArray) -> FloatArray:
    """Diagonal blocks (b, b, k) of A Q A^T for a design (b, n, k) and Q (n, n), without the full product."""
    b = design.shape[0]
    out = np.empty((b, b, design.shape[2]))
    for i in range(b):
        weighted = cofactors @ design[i]
        for j in range(i, b):
            out[i, j] = out[j, i] = (weighted * design[j]).sum(axis=0)
    return out
