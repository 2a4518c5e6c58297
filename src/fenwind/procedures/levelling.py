"""Levelling: heights from runs between marks by least squares, and the misclosures of its loops and lines."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.estimation.engine import Adjustment, Problem, adjust

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Levelling:
    """k runs: names of their ends, dh = height of `second` less height of `first` in metres, length in km
    or set-ups (by_setups). control: heights held, metres. sigma_m and limit_m for a length of 1."""

    first: tuple[str, ...]
    second: tuple[str, ...]
    dh_m: FloatArray
    length: FloatArray
    control: Mapping[str, float]
    sigma_m: float = 0.001
    limit_m: float = 0.004
    by_setups: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelLoop:
    """A loop, or a line between two control marks, with its misclosure (computed - known) and limit in
    metres."""

    names: tuple[str, ...]
    misclosure_m: float
    length: float
    limit_m: float


@dataclass(frozen=True, kw_only=True, eq=False)
class LevelResult:
    """Heights and sigmas of all marks in their order, residuals (k,) adjusted - observed, metres."""

    names: tuple[str, ...]
    height_m: FloatArray
    sigma_m: FloatArray
    residuals_m: FloatArray
    loops: tuple[LevelLoop, ...]
    dof: int
    variance_factor: float | None
    unlikely: FloatArray  # standardised residuals (k,), nan where a run is not controlled
    error_m: FloatArray  # what each run would be wrong by, were it alone wrong (k,)


def level(work: Levelling) -> LevelResult:
    """Adjust. Raises ProcedureError for a part without control."""
    names = tuple(dict.fromkeys(name for pair in zip(work.first, work.second, strict=True) for name in pair))
    unknown = [name for name in names if name not in work.control]
    loops = level_loops(work)
    found = _solve(work, unknown)
    residuals = _residuals(work, unknown, found)
    sigma = np.sqrt(np.maximum(np.diag(found.cofactors), 0.0)) if found is not None else np.zeros(0)
    x = found.x if found is not None else np.zeros(0)
    height = {**work.control, **dict(zip(unknown, x.tolist(), strict=True))}
    sigmas = dict(zip(unknown, sigma.tolist(), strict=True))
    dof = len(work.first) - len(unknown)
    squares = float(np.sum((residuals / _sigma(work)) ** 2))
    return LevelResult(
        names=names,
        height_m=np.array([height[n] for n in names]),
        sigma_m=np.array([sigmas.get(n, 0.0) for n in names]),
        residuals_m=residuals,
        loops=loops,
        dof=dof,
        variance_factor=squares / dof if dof else None,
        unlikely=residuals / _sigma(work) if found is None else found.standardised[0],
        error_m=-residuals if found is None else _errors(found),
    )


def _errors(found: Adjustment) -> FloatArray:
    redundancy = found.redundancy[0]
    return np.asarray(-found.residuals[0] / np.where(redundancy > 1e-9, redundancy, np.inf))


def _sigma(work: Levelling) -> FloatArray:
    return np.asarray(work.sigma_m * np.sqrt(work.length))


def _solve(work: Levelling, unknown: Sequence[str]) -> Adjustment | None:
    if not unknown:
        return None
    place = {name: i for i, name in enumerate(unknown)}
    design = np.zeros((1, len(unknown), len(work.first)))
    known = np.zeros(len(work.first))
    for k, ends in enumerate(zip(work.first, work.second, strict=True)):
        for name, sign in zip(ends, (-1.0, 1.0), strict=True):
            if name in place:
                design[0, place[name], k] = sign
            else:
                known[k] += sign * work.control[name]
    return adjust(
        Problem(
            names=tuple(unknown),
            start=np.full(len(unknown), next(iter(work.control.values()))),
            observed=(work.dh_m - known)[None],
            covariance=(_sigma(work) ** 2)[None, None],
            model=lambda x: (np.einsum("bnk,n->bk", design, x), design),
            linear=True,
        )
    )


def _residuals(work: Levelling, unknown: Sequence[str], found: Adjustment | None) -> FloatArray:
    if found is not None:
        return np.asarray(found.residuals[0])
    ends = zip(work.first, work.second, strict=True)
    return np.array([work.control[b] - work.control[a] for a, b in ends]) - work.dh_m


def level_loops(work: Levelling) -> tuple[LevelLoop, ...]:
    """As many independent loops and lines as there are redundant runs: each run that a tree of shortest
    ways from the control does without closes one. Raises ProcedureError for marks that no control reaches."""
    ways: dict[str, list[tuple[int, str]]] = {}
    for k, (a, b) in enumerate(zip(work.first, work.second, strict=True)):
        ways.setdefault(a, []).append((k, b))
        ways.setdefault(b, []).append((k, a))
    parent: dict[str, tuple[int, str] | None] = {n: None for n in ways if n in work.control}
    queue, used = deque(parent), set[int]()
    while queue:
        here = queue.popleft()
        for k, there in ways[here]:
            if there not in parent:
                parent[there] = (k, here)
                used.add(k)
                queue.append(there)
    lost = [name for name in ways if name not in parent]
    if lost:
        raise ProcedureError(
            f"no run leads from control to {', '.join(lost[:5])}", hint="Give the height of a mark there"
        )
    return tuple(_loop(work, parent, k) for k in range(len(work.first)) if k not in used)


def _loop(work: Levelling, parent: Mapping[str, tuple[int, str] | None], k: int) -> LevelLoop:
    def way_up(name: str) -> list[tuple[int, str]]:
        out = []
        while (step := parent[name]) is not None:
            out.append((step[0], name))
            name = step[1]
        return [*out, (-1, name)]

    left, right = way_up(work.first[k]), way_up(work.second[k])
    while len(left) > 1 and len(right) > 1 and left[-1] == right[-1] and left[-2] == right[-2]:
        left.pop()
        right.pop()
    names = [name for _, name in reversed(left)] + [name for _, name in right]
    # A run kept with a mark leads up from it: so the ways go down to `first`, over, and up from `second`.
    legs = [run for run, _ in reversed(left[:-1])] + [k] + [run for run, _ in right[:-1]]
    total = 0.0
    for run, here in zip(legs, names, strict=False):
        total += float(work.dh_m[run]) * (1.0 if work.first[run] == here else -1.0)
    start, end = names[0], names[-1]
    gap = total if start == end else total - (work.control[end] - work.control[start])
    length = float(work.length[legs].sum())
    return LevelLoop(
        names=tuple(names), misclosure_m=gap, length=length, limit_m=work.limit_m * math.sqrt(length)
    )


def without(work: Levelling, out: Sequence[int]) -> Levelling:
    """The same without some runs."""
    rows = [i for i in range(len(work.first)) if i not in set(out)]
    return replace(
        work, first=tuple(work.first[i] for i in rows), second=tuple(work.second[i] for i in rows),
        dh_m=work.dh_m[rows], length=work.length[rows],
    )  # fmt: skip
