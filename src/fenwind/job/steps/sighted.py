"""What setups of a frame sighted, one position a mark: the weighted mean where several saw it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np

from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.outcome import (
    CandidateSet,
    Gathering,
    Node,
    Outcome,
    TrailStep,
    place_figures,
)
from fenwind.job.steps.setup import Placed, setup_node
from fenwind.procedures.average import means
from fenwind.procedures.positions import Positions
from fenwind.progress import Progress
from fenwind.quantities.numbers import format_fixed
from fenwind.records.setups import Setup


def sighted(frame: str) -> Node:
    """The step of a frame."""
    return Node("sighted", frame)


@dataclass(frozen=True, kw_only=True, eq=False)
class Sighted:
    """Positions by ids of marks, by how many setups (k,) each, and the largest departure (3, k) from it."""

    positions: Positions
    count: tuple[int, ...]
    departure: Any
    why: tuple[str, ...]


class SightedMarks(Gathering):
    """See the module."""

    name = "sighted"

    def nodes(self, state: JobState) -> Iterable[Node]:
        """One in every frame that has a setup."""
        return [sighted(key) for key in dict.fromkeys(s.frame for s in state.of(Setup).values() if s.active)]

    def targets(self, state: JobState, node: Node) -> tuple[str, ...]:
        """Its frame."""
        return (node.subject,)

    def read(self, node: Node, reader: Reader) -> tuple[list[Placed], Digest | None]:
        """The setups that were placed."""
        keys = reader.rows(Setup, "name", active=True, frame=node.subject).ids.tolist()
        done = reader.outcomes([setup_node(key) for key in keys])
        return [o.result for o in done if o.result is not None and len(o.result.new)], None

    def solve(self, inputs: list[Placed], progress: Progress) -> Sighted | None:
        """Average."""
        if not inputs:
            return None
        keys = [key for one in inputs for key in one.new.names]
        names = list(dict.fromkeys(keys))
        group = np.array([names.index(key) for key in keys], dtype=np.intp)
        sets = [one.new for one in inputs]
        values = np.concatenate([np.stack([s.e_m, s.n_m, s.height_m]) for s in sets], axis=1)
        covariance = np.concatenate([s.covariance for s in sets], axis=2)
        found = means(values, _filled(covariance), group)
        single = found.count == 1
        first = np.array([keys.index(name) for name in names])
        own = np.where(single, covariance[:, :, first], found.covariance)
        setups = [[one.setup.name for one in inputs if name in one.new.index] for name in names]
        return Sighted(
            positions=Positions(
                names=tuple(names), e_m=found.mean[0], n_m=found.mean[1], height_m=found.mean[2],
                covariance=own,
            ),
            count=tuple(found.count.tolist()), departure=found.departure,
            why=tuple(f"observed from {' and '.join(s)}" if len(s) < 3 else f"mean of {len(s)} setups"
                      for s in setups),
        )  # fmt: skip

    def gives(self, outcome: Outcome) -> Iterable[tuple[str, CandidateSet]]:
        """All of it."""
        found: Sighted | None = outcome.result
        if found is not None:
            yield (
                outcome.node.subject,
                CandidateSet(
                    key="sighted", place="setup", basis="observed", why=found.why, positions=found.positions
                ),
            )

    def trail(self, node: Node, result: Any, mark: str) -> Iterable[TrailStep]:
        """The mean, where there is one."""
        row = result.positions.index.get(mark) if result is not None else None
        if row is None or result.count[row] < 2:
            return
        p, apart = result.positions, result.departure[:, row]
        note = f"at most {format_fixed(float(np.hypot(*apart[:2])) * 1000.0, 1)} mm from it"
        if np.isfinite(p.height_m[row]):
            note += f", {format_fixed(float(apart[2]) * 1000.0, 1)} mm in height"
        figures = place_figures(p, row)
        yield TrailStep(title=f"Mean of {result.count[row]} setups", note=note, figures=figures)


def _filled(covariance: Any) -> Any:
    """Covariances with a metre where nothing is known: a height that is not there has no weight to give."""
    out = np.array(covariance)
    for axis in range(3):
        out[axis, axis] = np.where(np.isfinite(out[axis, axis]), out[axis, axis], 1.0)
    out[np.isnan(out)] = 0.0
    return out
