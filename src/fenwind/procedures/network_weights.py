"""Weights of a network: what the residuals say of the sigmas of each group, and groups made to agree with
it.

The simplified estimate v'Pv / r of each group, repeated (Foerstner, Ein Verfahren zur Schaetzung von Varianz-
und Kovarianzkomponenten, 1979; from memory). Correlation stays inside one observation, so v'Pv is a sum over
groups.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from fenwind.procedures.network import NetworkResult
from fenwind.procedures.network_case import determined
from fenwind.procedures.network_model import Network

#: What weighted control is a group as.
CONTROL = "control"
#: Factors are repeated until all are 1 within this, at most so often.
SETTLED, ROUNDS = 1e-6, 100
#: A group whose redundancy falls under this as its sigmas shrink is on its way to having none: it keeps what
#: was stated, since its residuals say nothing of it.
LEAST_REDUNDANCY = 0.01


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupFactor:
    """A group of observations: sum of its redundancy numbers, and the factor of its variances, None where
    nothing checks it."""

    group: str
    redundancy: float
    factor: float | None


def group_factors(result: NetworkResult) -> tuple[GroupFactor, ...]:
    """What the residuals say of each group, in the order in which groups come up."""
    assert result.found is not None
    place = {name: i for i, name in enumerate(dict.fromkeys([row.group for row in result.net.rows]))}
    groups = np.array([place[row.group] for row in result.net.rows])
    totals = np.zeros((len(place), 2))
    for part, group in zip(result.parts, result.found.groups, strict=False):
        for column, values in enumerate((group.redundancy, group.whitened_residuals**2)):
            totals[:, column] += np.bincount(groups[part.rows], values.sum(axis=0), len(place))
    sums = dict(zip(place, totals.tolist(), strict=True))
    if result.weighted:
        control = result.found.groups[-1]
        sums[CONTROL] = [float(control.redundancy.sum()), float((control.whitened_residuals**2).sum())]
    return tuple(
        GroupFactor(group=n, redundancy=r, factor=s / r if r > 1e-6 else None) for n, (r, s) in sums.items()
    )


def scaled(net: Network, factors: Mapping[str, float]) -> Network:
    """The network with the variances of groups times their factors."""
    rows = tuple(replace(r, covariance=r.covariance * factors.get(r.group, 1.0)) for r in net.rows)
    root = math.sqrt(factors.get(CONTROL, 1.0))
    control = {n: replace(g, sh=g.sh * root, sv=g.sv * root) for n, g in net.control.items()}
    return replace(net, rows=rows, control=control)


def balanced(net: Network, result: NetworkResult) -> tuple[NetworkResult, tuple[GroupFactor, ...]]:
    """The network solved again with the variances of every group times what its residuals say, until that is
    1; the factors are products, None for groups that keep what was stated. `result` is what came of it with
    the sigmas stated."""
    factors: dict[str, float] = {}
    stated: set[str] = set()
    for _ in range(ROUNDS):
        found = group_factors(result)
        stated |= {g.group for g in found if g.redundancy < LEAST_REDUNDANCY or not g.factor}
        moving = {g.group: g.factor for g in found if g.factor and g.group not in stated}
        if all(abs(f - 1.0) < SETTLED for f in moving.values()) and not stated & set(factors):
            break
        factors = {name: factors.get(name, 1.0) * factor for name, factor in moving.items()}
        result = determined(scaled(net, factors))
    return result, tuple(
        replace(g, factor=None if g.group in stated else factors.get(g.group, 1.0) * (g.factor or 1.0))
        for g in group_factors(result)
    )
