"""Solving the normal equations, and saying in words what cannot be solved.

`NormalSolver` is what the engine asks of a solver. `DenseSolver` serves small systems with LAPACK,
`SparseSolver` large ones: front by front (`fronts`, with `datum` for free networks), or with SuperLU
(SciPy) where other constraints are asked for; all give the same answers. None forms the inverse of the whole
unless it is asked for.
"""

from __future__ import annotations

import hashlib
import math
from functools import cached_property
from typing import TYPE_CHECKING, Any, Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import DatumDefectError
from fenwind.estimation.datum import OpenDatum, picked_by

if TYPE_CHECKING:
    from fenwind.estimation.layout import Layout

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]
#: A normal matrix (n, n): an array, or a SciPy sparse matrix.
Normal = Any

#: Pivot of the scaled normal matrix below which an unknown counts as undetermined; the matrix has a unit
#: diagonal, and squaring the design leaves about half of float64's 16 digits.
PIVOT_LIMIT = 1e-13
#: Systems of more unknowns than this go to the sparse solver by themselves.
DENSE_UNKNOWNS = 400
#: Columns of the inverse that the sparse solver works out at a time.
CHUNK = 256


class Factorisation(Protocol):
    """A factorised normal matrix, constraints included."""

    def solve(self, right_side: FloatArray, constraint_gap: FloatArray) -> FloatArray:
        """Correction (n,) for A^T P dl (n,) and for what the constraints still miss (c,)."""

    def cofactor_blocks(self, first: IntArray, second: IntArray) -> FloatArray:
        """Cofactors (p, q, m) of unknowns first (p, m) with second (q, m), block by block."""

    def cofactors(self) -> FloatArray:
        """Cofactor matrix of all unknowns (n, n)."""

    def log_determinant(self) -> float:
        """Natural logarithm of the determinant of Z^T N Z, Z an orthonormal basis of what the constraints
        leave free; of N itself without constraints."""


@runtime_checkable
class Spreading(Protocol):
    """A factorisation that keeps no cofactors on the way to how far observations determine themselves."""

    def hat_blocks(self, design: FloatArray, unknowns: IntArray) -> FloatArray:
        """A Q A^T (b, b, m) for designs (b, p, m) by unknowns (p, m) of observations, Q their cofactors."""


class NormalSolver(Protocol):
    """Makes a Factorisation from a normal matrix (n, n) and constraint rows (c, n)."""

    def factorise(self, normal: Normal, constraints: FloatArray, names: tuple[str, ...]) -> Factorisation:
        """Raises DatumDefectError when the unknowns are not all determined."""


class _Dense:
    """Null-space method: x = x_c + Z y with C Z = 0 (Nocedal and Wright, Numerical Optimization, 2nd
    edition, section 16.2)."""

    def __init__(self, normal: FloatArray, constraints: FloatArray, names: tuple[str, ...]) -> None:
        from scipy.linalg import lapack

        n, c = normal.shape[0], constraints.shape[0]
        self._normal, self._lapack, self._free = normal, lapack, not c
        q, r = np.linalg.qr(constraints.T, mode="complete") if c else (np.eye(n), np.zeros((n, 0)))
        if c and (c > n or np.abs(np.diag(r)).min() <= 1e-12 * np.abs(r).max()):
            raise _repeated(names)
        self._range, self._null, self._r = q[:, :c], q[:, c:], r[:c, :c]
        reduced = self._null.T @ normal @ self._null if c else normal
        diagonal = np.sqrt(np.diag(reduced))
        self._scale = 1.0 / np.where(diagonal > 0.0, diagonal, 1.0)
        scaled = reduced * self._scale[:, None] * self._scale
        self._lower: FloatArray
        self._lower, info = lapack.dpotrf(scaled, lower=1, clean=1) if scaled.size else (scaled, 0)
        if scaled.size and (info or not np.diag(self._lower).min() ** 2 > PIVOT_LIMIT):
            values, vectors = np.linalg.eigh(scaled)
            weak = vectors[:, values <= max(1e-11, values[0] * 10)]
            raise _defect((self._null * self._scale) @ weak, np.diag(normal), names)

    def _solve_reduced(self, right: FloatArray) -> FloatArray:
        scale = self._scale if right.ndim == 1 else self._scale[:, None]
        out, _ = self._lapack.dpotrs(self._lower, right * scale, lower=1)
        return np.asarray(out).reshape(right.shape) * scale

    def solve(self, right_side: FloatArray, constraint_gap: FloatArray) -> FloatArray:
        """See Factorisation."""
        if not constraint_gap.size and self._null.shape[1] == right_side.size:
            return self._solve_reduced(right_side)
        fixed = np.zeros(self._normal.shape[0])
        if constraint_gap.size:
            from scipy.linalg import solve_triangular

            fixed = self._range @ solve_triangular(self._r, constraint_gap, trans="T")
        if not self._null.shape[1]:
            return fixed
        free = self._solve_reduced(self._null.T @ (right_side - self._normal @ fixed))
        return np.asarray(fixed + self._null @ free)

    @cached_property
    def _inverse(self) -> FloatArray:
        if not self._null.shape[1]:
            return np.zeros_like(self._normal)
        half, _ = self._lapack.dpotri(self._lower, lower=1)
        inverse = half + half.T  # the upper half was cleared
        inverse.flat[:: half.shape[0] + 1] *= 0.5
        inverse *= np.outer(self._scale, self._scale)
        return inverse if self._free else np.asarray(self._null @ inverse @ self._null.T)

    def cofactors(self) -> FloatArray:
        """See Factorisation."""
        return self._inverse

    def cofactor_blocks(self, first: IntArray, second: IntArray) -> FloatArray:
        """See Factorisation."""
        return np.asarray(self._inverse[first[:, None], second[None]])

    def log_determinant(self) -> float:
        """See Factorisation."""
        return float(2.0 * (np.log(np.diag(self._lower)) - np.log(self._scale)).sum())


class DenseSolver:
    """Cholesky of the scaled normal matrix on the null space of the constraints."""

    def factorise(self, normal: Normal, constraints: FloatArray, names: tuple[str, ...]) -> Factorisation:
        """See NormalSolver."""
        return _Dense(
            np.asarray(normal.toarray() if hasattr(normal, "toarray") else normal), constraints, names
        )


class _Sparse:
    """LU of the normal matrix bordered by constraints, [N C^T; C 0], scaled to a unit diagonal."""

    def __init__(self, normal: Normal, constraints: FloatArray, names: tuple[str, ...]) -> None:
        from scipy import sparse
        from scipy.sparse.linalg import splu

        matrix = sparse.csc_matrix(normal)
        self._n, self._c = matrix.shape[0], constraints.shape[0]
        diagonal = np.sqrt(matrix.diagonal())
        self._scale = 1.0 / np.where(diagonal > 0.0, diagonal, 1.0)
        self._constraints = constraints
        scaling = sparse.diags(self._scale)
        scaled = (scaling @ matrix @ scaling).tocsc()
        rows = constraints * self._scale
        self._lengths = np.linalg.norm(rows, axis=1)
        border = sparse.csc_matrix(rows / self._lengths[:, None])
        try:
            self._lu = splu(sparse.bmat([[scaled, border.T], [border, None]], format="csc"))
            pivots = np.abs(self._lu.U.diagonal())
        except RuntimeError:  # "Factor is exactly singular"
            pivots = np.zeros(1)
        if not pivots.min() > PIVOT_LIMIT:
            weak = _null_vectors(scaled, constraints * self._scale)
            if not weak.shape[1]:
                raise _repeated(names)
            raise _defect(self._scale[:, None] * weak, matrix.diagonal(), names)

    def solve(self, right_side: FloatArray, constraint_gap: FloatArray) -> FloatArray:
        """See Factorisation."""
        right = right_side * self._scale
        right = np.concatenate([right, constraint_gap / self._lengths])
        return np.asarray(self._lu.solve(right)[: self._n] * self._scale)

    def _columns(self, wanted: IntArray) -> FloatArray:
        """Columns (n, m) of the cofactor matrix."""
        right = np.zeros((self._n + self._c, wanted.size))
        right[wanted, np.arange(wanted.size)] = self._scale[wanted]
        return np.asarray(self._lu.solve(right)[: self._n] * self._scale[:, None])

    def cofactor_blocks(self, first: IntArray, second: IntArray) -> FloatArray:
        """See Factorisation; columns are solved for in chunks, so that memory stays small."""
        shape = (first.shape[0], second.shape[0], first.shape[1])
        rows = np.broadcast_to(first[:, None], shape).ravel()
        columns, place = np.unique(np.broadcast_to(second[None], shape).ravel(), return_inverse=True)
        out = np.empty(rows.size)
        order = np.argsort(place, kind="stable")
        ends = np.searchsorted(place[order], np.arange(0, columns.size + CHUNK, CHUNK))
        for start, chunk in enumerate(range(0, columns.size, CHUNK)):
            mine = order[ends[start] : ends[start + 1]]
            out[mine] = self._columns(columns[chunk : chunk + CHUNK])[rows[mine], place[mine] - chunk]
        return out.reshape(shape)

    def cofactors(self) -> FloatArray:
        """See Factorisation."""
        return self._columns(np.arange(self._n))

    def log_determinant(self) -> float:
        """See Factorisation: |det [N C^T; C 0]| = det(C C^T) det(Z^T N Z)."""
        whole = float(np.log(np.abs(self._lu.U.diagonal())).sum()) - 2.0 * float(np.log(self._scale).sum())
        whole += 2.0 * float(np.log(self._lengths).sum())
        sign, rows = np.linalg.slogdet(self._constraints @ self._constraints.T)
        return whole - float(rows) if sign > 0 else math.nan


class _ByFronts:
    """Cholesky front by front of the normal matrix, scaled to a unit diagonal. before: one of a matrix that
    may have the same pattern, None for none. With constraints (c, n) `sound` is False where they are not what
    the observations leave open."""

    def __init__(
        self, normal: Normal, constraints: FloatArray, names: tuple[str, ...], before: _ByFronts | None = None
    ) -> None:
        from scipy import sparse

        from fenwind.estimation.fronts import Fronts

        matrix = sparse.csc_matrix(normal)
        matrix.sort_indices()
        diagonal = np.sqrt(matrix.diagonal())
        self._scale = 1.0 / np.where(diagonal > 0.0, diagonal, 1.0)
        more = np.zeros(self._scale.size)
        if constraints.size:
            rows = constraints * self._scale
            picked = picked_by(rows)
            np.add.at(more, picked, 1.0)
        self.pattern = _pattern(matrix)
        same = before is not None and before.pattern == self.pattern
        layout: Layout | None = before.layout if before is not None and same else None
        self._fronts = Fronts(matrix, PIVOT_LIMIT, self._scale, more, layout)
        self.layout: Layout = self._fronts.layout
        self._datum: OpenDatum | None = None
        self.sound, self._constraints = self._fronts.sound, constraints
        if constraints.size:
            if self.sound:
                self._datum = OpenDatum(self._fronts.solve, rows, picked)
                self.sound = self._datum.sound
            return
        if not self.sound:
            scaling = sparse.diags(self._scale)
            weak = _null_vectors((scaling @ matrix @ scaling).tocsc(), np.zeros((0, self._scale.size)))
            raise _defect(self._scale[:, None] * weak, matrix.diagonal(), names)

    def solve(self, right_side: FloatArray, constraint_gap: FloatArray) -> FloatArray:
        """See Factorisation."""
        x = self._fronts.solve(right_side * self._scale)
        if self._datum is not None:
            x = self._datum.onto(x, constraint_gap)
        return np.asarray(x * self._scale)

    def cofactor_blocks(self, first: IntArray, second: IntArray) -> FloatArray:
        """See Factorisation. Blocks whose unknowns were not observed together are solved for in chunks."""
        from fenwind.estimation.fronts import scale_blocks

        found, there = self._fronts.inverse_blocks(first, second)
        if not there.all():
            lacking = np.flatnonzero(~there)
            found[:, :, lacking] = self._apart(first[:, lacking], second[:, lacking])
        if self._datum is not None:
            found = self._datum.blocks(found, first, second)
        scale_blocks(found, np.ascontiguousarray(first), np.ascontiguousarray(second), self._scale)
        return found

    def hat_blocks(self, design: FloatArray, unknowns: IntArray) -> FloatArray:
        """See Spreading. What the constraints leave open no observation sees, so that they change nothing."""
        return self._fronts.hat_blocks(design, unknowns, self._scale)

    def _apart(self, first: IntArray, second: IntArray) -> FloatArray:
        shape = (first.shape[0], second.shape[0], first.shape[1])
        rows = np.broadcast_to(first[:, None], shape).ravel()
        columns, place = np.unique(np.broadcast_to(second[None], shape).ravel(), return_inverse=True)
        out = np.empty(rows.size)
        for chunk in range(0, columns.size, CHUNK):
            wanted = columns[chunk : chunk + CHUNK]
            right = np.zeros((self._scale.size, wanted.size))
            right[wanted, np.arange(wanted.size)] = 1.0
            mine = np.flatnonzero((place >= chunk) & (place < chunk + CHUNK))
            out[mine] = self._fronts.solve(right)[rows[mine], place[mine] - chunk]
        return out.reshape(shape)

    def cofactors(self) -> FloatArray:
        """See Factorisation."""
        every = np.arange(self._scale.size)[:, None]
        whole = self._fronts.solve(np.eye(self._scale.size))
        if self._datum is not None:
            whole = self._datum.blocks(whole[:, :, None], every, every)[:, :, 0]
        return np.asarray(whole * self._scale[:, None] * self._scale)

    def log_determinant(self) -> float:
        """See Factorisation."""
        whole = float(self._fronts.log_determinant - 2.0 * np.log(self._scale).sum())
        if self._datum is None:
            return whole
        rows = np.linalg.slogdet(self._constraints @ self._constraints.T)[1]
        return whole + self._datum.log_determinant - float(rows)


class SparseSolver:
    """Fronts; SuperLU with constraints other than the datum that observations leave open. Both in an order
    that keeps the factor sparse, which is found once for all iterations of a problem."""

    def __init__(self) -> None:
        self._before: _ByFronts | None = None

    def factorise(self, normal: Normal, constraints: FloatArray, names: tuple[str, ...]) -> Factorisation:
        """See NormalSolver."""
        self._before = _ByFronts(normal, constraints, names, self._before)
        return self._before if self._before.sound else _Sparse(normal, constraints, names)


def hat_of(design: FloatArray, cofactors: FloatArray) -> FloatArray:
    """A Q A^T (b, b, m) for designs (b, p, m) and cofactors (p, p, m)."""
    return np.asarray(np.einsum("xqk,yqk->xyk", np.einsum("xpk,pqk->xqk", design, cofactors), design))


def _pattern(matrix: Any) -> bytes:
    """What tells where a matrix that is sparse by columns has elements: a digest, since it is kept."""
    digest = hashlib.blake2b(matrix.indptr.tobytes(), digest_size=16)
    digest.update(matrix.indices.data)
    return digest.digest()


def _null_vectors(scaled: Any, rows: FloatArray) -> FloatArray:
    """Directions (n, d) of the scaled unknowns that neither observations nor constraints see, by inverse
    iteration on the matrix with a little added to its diagonal (Golub and Van Loan, 4th edition, section
    8.2.2)."""
    from scipy import sparse
    from scipy.sparse.linalg import splu

    n = scaled.shape[0]
    seen = scaled + sparse.csc_matrix(rows.T @ rows) if rows.size else scaled
    lu = splu((seen + 1e-10 * sparse.identity(n)).tocsc())
    vectors = np.random.default_rng(1).normal(size=(n, min(n, 12)))
    for _ in range(4):
        vectors = np.linalg.qr(lu.solve(vectors))[0]
    values, turn = np.linalg.eigh(vectors.T @ (seen @ vectors))
    return np.asarray(vectors @ turn[:, values < 1e-9])


def _repeated(names: tuple[str, ...]) -> DatumDefectError:
    return DatumDefectError(
        "constraints contradict or repeat each other", hint="Drop one of the constraints", parameters=names
    )


def _defect(directions: FloatArray, diagonal: FloatArray, names: tuple[str, ...]) -> DatumDefectError:
    """Name the unknowns that take part in each of the directions (n, d) that no observation sees."""
    # Weighed by the diagonal of the normal matrix, so that metres and radians can be compared.
    weight = np.sqrt(np.maximum(diagonal, 0.0))
    groups: list[tuple[str, ...]] = []
    for direction in directions.T:
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
