"""Loops of a network: what closes in its observations before anything is adjusted."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.everything import observations_of
from fenwind.job.steps.outcome import Gathering, Node, Outcome
from fenwind.procedures.loop_closures import Closure
from fenwind.procedures.network_loops import Observed, closures_of
from fenwind.progress import Progress
from fenwind.records.network import NetworkStep, ObservationSet, RowKey

FloatArray = NDArray[np.float64]


def loops_node(key: str) -> Node:
    """The step of a network's id."""
    return Node("loops", key)


@dataclass(frozen=True, kw_only=True, eq=False)
class Closed:
    """What closes: closures, whose lines are rows of the observations; ends: names at the ends of each row
    that is on; keys: what each is left out by."""

    step: NetworkStep
    closures: tuple[Closure, ...]
    ends: Mapping[int, tuple[str, str]]
    keys: Mapping[int, RowKey]


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    step: NetworkStep
    rows: tuple[Observed, ...]
    keys: Mapping[int, RowKey]
    plane: bool


class LoopsKind(Gathering):
    """See the module."""

    name = "loops"

    def nodes(self, state: JobState) -> Iterable[Node]:
        """One for every network that is on."""
        return [loops_node(s.id) for s in state.of(NetworkStep).values() if s.active]

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """The observations that are on."""
        step = reader.needed(NetworkStep, node.subject)
        one, names, _ = observations_of(step, reader)
        plane = not reader.frame(step.frame).has_datum
        rows = tuple(_observed(step, one, names))
        keys = {row.line: one.key(row.line) for row in rows}
        return _Inputs(step=step, rows=rows, keys=keys, plane=plane), None

    def solve(self, inputs: _Inputs, progress: Progress) -> Closed:
        """Close what closes."""
        found = closures_of(inputs.rows, inputs.plane, inputs.step.loop_limit)
        ends = {row.line: (row.at, row.to) for row in inputs.rows}
        return Closed(step=inputs.step, closures=tuple(found), ends=ends, keys=inputs.keys)

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> Any:
        """What closes, or why that cannot be said."""
        return outcome.result if outcome.error is None else outcome.error


def _observed(step: NetworkStep, one: ObservationSet, names: Mapping[str, str]) -> Iterable[Observed]:
    """Rows that are on; slope distances from mark to mark, so that there and back can be compared, those left
    out that no zenith angle brings there."""
    off = set(step.off)
    zenith = {
        (one.at[i], one.to[i]): one.value[i][0] for i, kind in enumerate(one.kind)
        if kind == "zenith" and one.key(i) not in off
    }  # fmt: skip
    for i, kind in enumerate(one.kind):
        if one.key(i) in off or not all(key in names for key in (one.at[i], one.to[i], one.back[i]) if key):
            continue
        value = np.array(one.value[i])
        lift = one.hi_m[i] - one.ht_m[i] if kind == "distance" else 0.0
        if lift:
            z = zenith.get((one.at[i], one.to[i]))
            if z is None:
                continue
            d = float(value[0])
            value = np.array([math.hypot(d * math.sin(z), d * math.cos(z) + lift)])
        c = one.covariance[i]
        covariance = [[c[0]]] if len(c) == 1 else [c[:3], [c[1], *c[3:5]], [c[2], *c[4:]]]
        yield Observed(
            line=i, kind=kind, at=names[one.at[i]], to=names[one.to[i]], back=names.get(one.back[i], ""),
            set=one.setup[i], value=value, covariance=np.array(covariance),
        )  # fmt: skip
