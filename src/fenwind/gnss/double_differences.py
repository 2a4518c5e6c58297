"""Least squares of single differences whose receiver clocks are taken out epoch by epoch, signal by signal:
the same as double differences with their full correlation (Teunissen and Kleusberg, GPS for Geodesy, 2nd
edition 1998, chapter 5).

The ionosphere is an unknown of every satellite and epoch known to be nothing within a sigma: with a large one
two frequencies are left as their ionosphere-free combination, with none they count as they are.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

#: Unknowns besides the ambiguities: the vector, and the zenith delay of the rover less that of the base.
GLOBAL = 4
#: Epochs whose ambiguities are put together at once.
BLOCK = 512


@dataclass(frozen=True, kw_only=True, eq=False)
class Part:
    """One system: epoch (m,), arc (m,) from `first` on, observed less computed (m, q): k phases, then k
    ranges; design (m, 4) of the unknowns in common; weights (m, q, q)."""

    epoch: IntArray
    arc: IntArray
    observed: FloatArray
    design: FloatArray
    weight: FloatArray
    phases: int


def weights(
    elevation: FloatArray,
    frequency: FloatArray,
    sigma_phase: float,
    sigma_range: float,
    sigma_ionosphere: float,
) -> FloatArray:
    """Weights (m, q, q) of k phases and k ranges whose sigmas grow as 1 / sin of the elevation, with an
    ionosphere of a sigma that grows likewise."""
    k = frequency.shape[1]
    rise = 1.0 / np.sin(elevation)
    sigmas = np.concatenate([np.full(k, sigma_phase), np.full(k, sigma_range)])
    covariance = np.zeros((elevation.size, 2 * k, 2 * k))
    every = np.arange(2 * k)
    covariance[:, every, every] = (rise[:, None] * sigmas) ** 2
    share = (1575.42e6 / frequency) ** 2
    along = np.concatenate([-share, share], axis=1)
    slant = (sigma_ionosphere * rise) ** 2
    covariance += slant[:, None, None] * along[:, :, None] * along[:, None, :]
    return np.asarray(np.linalg.inv(covariance))


@dataclass(kw_only=True, eq=False)
class Normal:
    """Normal equations (n, n) and (n,) of the unknowns in common, then of the phases of every arc."""

    matrix: FloatArray
    right: FloatArray


def normal_equations(parts: list[Part], arcs: int, phases: int) -> Normal:
    """Those of all systems; `phases` of every arc."""
    size = GLOBAL + arcs * phases
    matrix, right = np.zeros((size, size)), np.zeros(size)
    for part in parts:
        _add(part, matrix, right)
    return Normal(matrix=matrix, right=right)


def _add(part: Part, matrix: FloatArray, right: FloatArray) -> None:
    order = np.argsort(part.epoch, kind="stable")
    epochs, starts = np.unique(part.epoch[order], return_index=True)
    ends = np.append(starts[1:], order.size)
    for first in range(0, epochs.size, BLOCK):
        last = min(first + BLOCK, epochs.size)
        _add_block(part, order[starts[first] : ends[last - 1]], matrix, right)


def _add_block(part: Part, rows: NDArray[np.intp], matrix: FloatArray, right: FloatArray) -> None:
    w, y, g, k = part.weight[rows], part.observed[rows], part.design[rows], part.phases
    _, epoch = np.unique(part.epoch[rows], return_inverse=True)
    arcs, arc = np.unique(part.arc[rows], return_inverse=True)
    t, a, q = int(epoch.max()) + 1, arcs.size, y.shape[1]
    columns = np.concatenate([np.arange(GLOBAL), (GLOBAL + arcs[:, None] * k + np.arange(k)).ravel()])
    ones = w.sum(axis=2)  # W 1
    wy = np.einsum("mij,mj->mi", w, y)
    # What every epoch has: the sum of weights, and the weighted design of all its rows.
    total = np.zeros((t, q, q))
    np.add.at(total, epoch, w)
    size = GLOBAL + a * k
    design = np.zeros((t, q, size))
    np.add.at(design[:, :, :GLOBAL], epoch, ones[:, :, None] * g[:, None, :])
    for f in range(k):
        np.add.at(
            design, (epoch[:, None], np.arange(q)[None, :], (GLOBAL + arc * k + f)[:, None]), w[:, :, f]
        )
    seen = np.zeros((t, q))
    np.add.at(seen, epoch, wy)
    inverse = np.linalg.inv(total)
    own = np.zeros((size, size))
    own[:GLOBAL, :GLOBAL] = np.einsum("m,mi,mj->ij", ones.sum(axis=1), g, g)
    for f in range(k):
        cross = np.zeros((a, GLOBAL))
        np.add.at(cross, arc, ones[:, f, None] * g)
        own[GLOBAL + f :: k, :GLOBAL] = cross
        own[:GLOBAL, GLOBAL + f :: k] = cross.T
        for h in range(k):
            block = np.bincount(arc, w[:, f, h], a)
            own[GLOBAL + np.arange(a) * k + f, GLOBAL + np.arange(a) * k + h] = block
    side = np.zeros(size)
    side[:GLOBAL] = np.einsum("mi,mj->j", wy, g)
    for f in range(k):
        side[GLOBAL + f :: k] = np.bincount(arc, wy[:, f], a)
    half = inverse @ design  # (t, q, size)
    flat = design.reshape(t * q, size)
    own -= flat.T @ half.reshape(t * q, size)
    side -= np.einsum("tqs,tq->s", half, seen)
    matrix[np.ix_(columns, columns)] += own
    right[columns] += side


def residuals(part: Part, x: FloatArray) -> FloatArray:
    """Observed less what the unknowns make of it (m, q), without the clocks of the epochs."""
    k = part.phases
    rest = part.observed - (part.design @ x[:GLOBAL])[:, None]
    if k:
        rest[:, :k] -= x[GLOBAL:].reshape(-1, k)[part.arc]
    _, epoch = np.unique(part.epoch, return_inverse=True)
    t, q = int(epoch.max(initial=-1)) + 1, rest.shape[1]
    total, seen = np.zeros((t, q, q)), np.zeros((t, q))
    np.add.at(total, epoch, part.weight)
    np.add.at(seen, epoch, np.einsum("mij,mj->mi", part.weight, rest))
    clock = np.linalg.solve(total, seen[:, :, None])[:, :, 0]
    return np.asarray(rest - clock[epoch])
