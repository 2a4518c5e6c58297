"""Two epochs of one network: which marks stayed, and how far the others moved.

Differences of coordinates are laid on the marks taken to be stable (an S-transformation), tested as a whole,
and the mark that explains most of a failure is taken out, until those that are left agree. Every other mark
is then tested for itself. After Pelzer, Zur Analyse geodaetischer Deformationsmessungen, 1971, and Caspary,
Concepts of Network and Deformation Analysis, 1987 (both from memory); with the sigmas stated, so that the
tests are chi-square.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.estimation.distributions import chi2_tail
from fenwind.procedures.network import NetworkResult
from fenwind.procedures.network_whole import free_of, joint_positions, own_axes

FloatArray = NDArray[np.float64]

#: Marks of both epochs whose covariance is formed whole.
MOST_MARKS = 700
#: Singular values below this part of the largest are none.
RANK = 1e-9


@dataclass(frozen=True, kw_only=True, eq=False)
class Displacement:
    """m marks in both epochs: moves (3, m) east, north, up in metres, second less first, nan for components
    that take no part; covariance (3, 3, m) of them; statistic and probability (m,) that a mark which stayed
    would seem to move as much; stable (m,): taken for stable.

    whole: the statistic of the test that all stable marks stayed, its degrees of freedom and probability;
    before: the same before any was taken out. taken_out: in that order."""

    names: tuple[str, ...]
    moves: FloatArray
    covariance: FloatArray
    statistic: FloatArray
    probability: FloatArray
    stable: NDArray[np.bool_]
    whole: tuple[float, int, float]
    before: tuple[float, int, float]
    taken_out: tuple[str, ...]
    alpha: float

    @property
    def moved(self) -> NDArray[np.bool_]:
        """Marks (m,) whose displacement is more than chance allows."""
        return np.asarray(~self.stable & (self.probability < self.alpha))


def displacement(
    first: NetworkResult, second: NetworkResult, alpha: float, chosen: Sequence[str] | None = None
) -> Displacement:
    """Compare two networks, each adjusted free (see `free_again`). chosen: marks to be taken for stable
    without asking; None: found among all that both have. Raises ProcedureError with too few marks in
    common."""
    names = [n for n in first.marks.names if n in second.marks.index]
    axes = first.net.axes
    if second.net.axes != axes or first.net.plane != second.net.plane:
        raise ProcedureError(
            "one network has other dimensions than the other", hint="Compare two of the same kind"
        )
    if len(names) > MOST_MARKS:
        raise ProcedureError(f"{len(names)} marks in common are too many", hint=f"At most {MOST_MARKS}")
    x1, q1 = joint_positions(first, names)
    x2, q2 = joint_positions(second, names)
    frees = [free_of(result, x1) for result in (first, second)]
    free = max(frees, key=lambda g: g.shape[1])
    least = free.shape[1] // len(axes) + 1
    if len(names) < least + 1:
        raise ProcedureError(
            f"the two have {len(names)} marks in common, and {least + 1} are needed",
            hint="Observe more marks in both",
        )
    d = np.einsum("ijm,jm->im", own_axes(first, names), x2 - x1)[list(axes)].ravel(order="F")
    case = _Case(d, q1 + q2, free, len(axes), alpha)
    stable = np.ones(len(names), dtype=bool)
    before = case.whole(stable)
    order: list[str] = []
    if chosen is not None:
        stable = np.array([n in set(chosen) for n in names])
        if stable.sum() < least:
            raise ProcedureError(f"at least {least} stable marks are needed", hint="Choose more of them")
    else:
        order = [names[i] for i in case.take_out(stable, least)]
    return case.answer(tuple(names), axes, stable, before, tuple(order), chosen is not None)


class _Case:
    """Differences d (u,) with covariance q (u, u) and what neither epoch determines, free (u, f); a
    component of every mark after the other, mark by mark."""

    def __init__(self, d: FloatArray, q: FloatArray, free: FloatArray, per_mark: int, alpha: float) -> None:
        self.d, self.q, self.free, self.per, self.alpha = d, q, free, per_mark, alpha

    def laid_on(self, stable: NDArray[np.bool_]) -> tuple[FloatArray, FloatArray]:
        """d and q with the marks that are stable laid on each other: S = I - G (G' E G)^-1 G' E."""
        on = np.repeat(stable, self.per)
        g = self.free
        lay = np.linalg.solve(g[on].T @ g[on], (g * on[:, None]).T)
        s = np.eye(self.d.size) - g @ lay
        return s @ self.d, s @ self.q @ s.T

    def whole(self, stable: NDArray[np.bool_]) -> tuple[float, int, float]:
        """The test that all stable marks stayed: statistic, degrees of freedom, probability."""
        d, q = self.laid_on(stable)
        on = np.repeat(stable, self.per)
        return _tested(d[on], q[np.ix_(on, on)])

    def take_out(self, stable: NDArray[np.bool_], least: int) -> list[int]:
        """Take marks out of `stable` until the others agree; rows in the order they went."""
        out: list[int] = []
        while self.whole(stable)[2] < self.alpha and stable.sum() > least:
            best, row = -1.0, -1
            for i in np.flatnonzero(stable):
                stable[i] = False
                p = self.whole(stable)
                stable[i] = True
                # Degrees of freedom fall by the same for each, so the smallest statistic is the likeliest.
                if row < 0 or p[0] < best:
                    best, row = p[0], int(i)
            stable[row] = False
            out.append(row)
        return out

    def answer(
        self,
        names: tuple[str, ...],
        axes: tuple[int, ...],
        stable: NDArray[np.bool_],
        before: tuple[float, int, float],
        order: tuple[str, ...],
        chosen: bool,
    ) -> Displacement:
        """Everything about the marks as they are taken now; one that was taken out and did not move after all
        comes back, unless stable marks were chosen."""
        for i in () if chosen else [names.index(n) for n in reversed(order)]:
            stable[i] = True
            if self.whole(stable)[2] < self.alpha:
                stable[i] = False
        order = tuple(n for n in order if not stable[names.index(n)])
        d, q = self.laid_on(stable)
        m = len(names)
        moves, covariance = np.full((3, m), np.nan), np.full((3, 3, m), np.nan)
        statistic, probability = np.zeros(m), np.ones(m)
        for i in range(m):
            own = slice(i * self.per, (i + 1) * self.per)
            moves[list(axes), i] = d[own]
            covariance[np.ix_(axes, axes, (i,))] = q[own, own][:, :, None]
            statistic[i], _, probability[i] = _tested(d[own], q[own, own])
        return Displacement(
            names=names, moves=moves, covariance=covariance, statistic=statistic, probability=probability,
            stable=stable.copy(), whole=self.whole(stable), before=before, taken_out=order, alpha=self.alpha,
        )  # fmt: skip


def _tested(d: FloatArray, q: FloatArray) -> tuple[float, int, float]:
    """d' Q+ d, its degrees of freedom (the rank of Q) and the probability of a larger one."""
    values, vectors = np.linalg.eigh(q)
    fine = values > RANK * max(float(values.max(initial=0.0)), 1e-30)
    along = vectors[:, fine].T @ d
    statistic, rank = float(np.sum(along**2 / values[fine])), int(fine.sum())
    return statistic, rank, float(chi2_tail(statistic, rank)) if rank else 1.0
