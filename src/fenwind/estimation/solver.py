"""Solving the normal equations, and saying in words what cannot be solved.

`NormalSolver` is what the engine asks of a solver. `DenseSolver` serves it with LAPACK; a sparse one can take
its place for large networks without the engine noticing.
"""

from __future__ import annotations

from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import DatumDefectError

FloatArray = NDArray[np.float64]

#: Pivot of the scaled normal matrix below which an unknown counts as undetermined; the matrix has a unit
#: diagonal, and squaring the design leaves about half of float64's 16 digits.
PIVOT_LIMIT = 1e-13


class Factorisation(Protocol):
    """A factorised normal matrix, constraints included."""

    def solve(self, right_side: FloatArray, constraint_gap: FloatArray) -> FloatArray:
        """Correction (n,) for A^T P dl (n,) and for what the constraints still miss (c,)."""

    def cofactors(self) -> FloatArray:
        """Cofactor matrix of the unknowns (n, n)."""


class NormalSolver(Protocol):
    """Makes a Factorisation from a normal matrix (n, n) and constraint rows (c, n)."""

    def factorise(self, normal: FloatArray, constraints: FloatArray, names: tuple[str, ...]) -> Factorisation:
        """Raises DatumDefectError when the unknowns are not all determined."""


class _Dense:
    """Null-space method: x = x_c + Z y with C Z = 0 (Nocedal and Wright, Numerical Optimization, 2nd edition,
    section 16.2)."""

    def __init__(self, normal: FloatArray, constraints: FloatArray, names: tuple[str, ...]) -> None:
        n, c = normal.shape[0], constraints.shape[0]
        self._normal = normal
        q, r = np.linalg.qr(constraints.T, mode="complete") if c else (np.eye(n), np.zeros((n, 0)))
        if c and (c > n or np.abs(np.diag(r)).min() <= 1e-12 * np.abs(r).max()):
            raise DatumDefectError(
                "constraints contradict or repeat each other",
                hint="Drop one of the constraints",
                parameters=names,
            )
        self._range, self._null, self._r = q[:, :c], q[:, c:], r[:c, :c]
        reduced = self._null.T @ normal @ self._null
        diagonal = np.sqrt(np.diag(reduced))
        self._scale = 1.0 / np.where(diagonal > 0.0, diagonal, 1.0)
        scaled = reduced * self._scale[:, None] * self._scale
        try:
            self._lower = np.linalg.cholesky(scaled)
        except np.linalg.LinAlgError:
            self._lower = np.zeros_like(scaled)
        if scaled.size and not np.diag(self._lower).min() ** 2 > PIVOT_LIMIT:
            raise _defect(scaled, self._null * self._scale, normal, names)

    def _solve_reduced(self, right: FloatArray) -> FloatArray:
        scaled = right * (self._scale if right.ndim == 1 else self._scale[:, None])
        half = np.linalg.solve(self._lower, scaled)
        out = np.linalg.solve(self._lower.T, half)
        return np.asarray(out * (self._scale if right.ndim == 1 else self._scale[:, None]))

    def solve(self, right_side: FloatArray, constraint_gap: FloatArray) -> FloatArray:
        fixed = np.zeros(self._normal.shape[0])
        if constraint_gap.size:
            fixed = self._range @ np.linalg.solve(self._r.T, constraint_gap)
        if not self._null.shape[1]:
            return fixed
        free = self._solve_reduced(self._null.T @ (right_side - self._normal @ fixed))
        return np.asarray(fixed + self._null @ free)

    def cofactors(self) -> FloatArray:
        if not self._null.shape[1]:
            return np.zeros_like(self._normal)
        inverse = self._solve_reduced(np.eye(self._null.shape[1]))
        return np.asarray(self._null @ inverse @ self._null.T)


class DenseSolver:
    """Cholesky of the scaled normal matrix on the null space of the constraints."""

    def factorise(self, normal: FloatArray, constraints: FloatArray, names: tuple[str, ...]) -> Factorisation:
        """See NormalSolver."""
        return _Dense(normal, constraints, names)


def _defect(
    scaled: FloatArray, to_unknowns: FloatArray, normal: FloatArray, names: tuple[str, ...]
) -> DatumDefectError:
    """Name the unknowns that take part in each direction that no observation sees."""
    values, vectors = np.linalg.eigh(scaled)
    # Scaled by the diagonal of the normal matrix, so that metres and radians can be weighed against each
    # other.
    weight = np.sqrt(np.maximum(np.diag(normal), 0.0))
    groups: list[tuple[str, ...]] = []
    for vector in vectors[:, values <= max(1e-11, values[0] * 10)].T:
        direction = to_unknowns @ vector
        share = np.abs(direction) * np.where(weight > 0.0, weight, 1.0)
        groups.append(tuple(name for name, s in zip(names, share, strict=True) if s > 0.05 * share.max()))
    words = "; ".join(
        f"{g[0]} changes no observation"
        if len(g) == 1
        else f"{', '.join(g[:-1])} and {g[-1]} can change together unseen"
        for g in groups
    )
    undetermined = tuple(dict.fromkeys(name for group in groups for name in group))
    return DatumDefectError(
        f"the observations do not determine every unknown: {words}",
        hint="Add observations that see them, or hold them at given values",
        parameters=undetermined,
    )
