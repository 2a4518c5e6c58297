"""Observations in groups of one kind, each touching a few of many unknowns, and the sparse normal
equations from them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.estimation.blocks import Whitening

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]
GroupModel = Callable[[FloatArray], tuple[FloatArray, FloatArray]]


@dataclass(frozen=True, kw_only=True, eq=False)
class ObservationGroup:
    """k blocks of b correlated observations: observed (b, k), covariance (b, b, k) in their squared units
    or its whitening. unknowns (p, k): which of the n unknowns each block touches, None for all of them in
    their order.

    model: x (n,) -> computed (b, k) and its partials (b, p, k) by those unknowns. An unknown that stands
    twice in a block has the sum of its partials.
    """

    observed: FloatArray
    covariance: FloatArray | Whitening
    model: GroupModel
    unknowns: IntArray | None = None
    name: str = ""

    def whitened_by(self) -> Whitening:
        """The whitening of its blocks."""
        given = self.covariance
        return given if isinstance(given, Whitening) else Whitening(np.asarray(given, dtype=float))


@dataclass(frozen=True, kw_only=True, eq=False)
class GroupProblem:
    """What to adjust where unknowns are many: names of the n unknowns, where they start (n,), groups of
    observations.

    constraints: x -> (value (c,), rows (c, n)), made exactly zero; None for none. linear: partials do not
    depend on x.
    """

    names: tuple[str, ...]
    start: FloatArray
    groups: tuple[ObservationGroup, ...]
    constraints: GroupModel | None = None
    linear: bool = False


def moved_by(design: FloatArray, unknowns: IntArray | None, step: FloatArray) -> FloatArray:
    """A dx (b, k) of a group for a step (n,) of the unknowns; design (b, p, k)."""
    if unknowns is None:
        return np.asarray(step @ design)
    return np.asarray(np.einsum("bpk,pk->bk", design, step[unknowns]))


def gradient(
    designs: Sequence[FloatArray], residuals: Sequence[FloatArray], places: Sequence[IntArray | None], n: int
) -> FloatArray:
    """A^T v (n,) of whitened designs (b, p, k) and residuals (b, k) of all groups."""
    out = np.zeros(n)
    for design, v, unknowns in zip(designs, residuals, places, strict=True):
        if unknowns is None:
            for component, w in zip(design, v, strict=True):
                out += component @ w
        else:
            out += np.bincount(unknowns.ravel(), np.einsum("bpk,bk->pk", design, v).ravel(), n)
    return out


class DenseNormal:
    """A^T A (n, n) of whitened designs (b, p, k) of all groups; where products go is worked out once."""

    def __init__(self, places: Sequence[IntArray | None], n: int) -> None:
        self._n, self._places = n, places
        flat = [(p[:, None] * n + p[None]).ravel() for p in places if p is not None]
        self._flat = np.concatenate(flat) if flat else None

    def __call__(self, designs: Sequence[FloatArray]) -> FloatArray:
        """The matrix."""
        normal, values = np.zeros((self._n, self._n)), list[FloatArray]()
        for design, unknowns in zip(designs, self._places, strict=True):
            if unknowns is None:
                for component in design:
                    normal += component @ component.T
            else:
                values.append(np.einsum("bpk,bqk->pqk", design, design).ravel())
        if self._flat is not None:
            normal += np.bincount(self._flat, np.concatenate(values), self._n**2).reshape(normal.shape)
        return normal


def sparse_normal(designs: Sequence[FloatArray], places: Sequence[IntArray | None], n: int) -> Any:
    """The same as a SciPy sparse matrix; nothing of size n x n is formed on the way."""
    from fenwind.estimation.normal import normal_matrix

    every = np.arange(n)[:, None]
    touched = [
        np.repeat(every, design.shape[2], axis=1) if unknowns is None else unknowns
        for design, unknowns in zip(designs, places, strict=True)
    ]
    return normal_matrix(designs, touched, n)
