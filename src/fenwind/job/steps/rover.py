"""Marks measured by rovers, from all bases: their means, what they share, and what was left aside."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FenwindError
from fenwind.geodesy.geocentric import enu_axes
from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.base import PlacedBase, base_node
from fenwind.job.steps.outcome import Gathering, Node, Outcome
from fenwind.job.steps.vectors import OccupationRow, vectors_node
from fenwind.procedures.rover import Measured, Point, grounds_of, mean
from fenwind.progress import Progress
from fenwind.records.sessions import BaseSetup, Equipment, MeanWeights

FloatArray = NDArray[np.float64]


def rover_node() -> Node:
    """The step."""
    return Node("rover", "")


@dataclass(frozen=True, kw_only=True, eq=False)
class RoverMarks:
    """marks: the mean of its used occupations by mark id. each: where every usable occupation puts its
    mark, by its id; used: ids of those in a mean, by mark id. bases: by id, those that are somewhere."""

    marks: Mapping[str, Point]
    each: Mapping[str, Point]
    used: Mapping[str, tuple[str, ...]]
    bases: Mapping[str, PlacedBase]


NO_ROVER = RoverMarks(marks={}, each={}, used={}, bases={})


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    rows: tuple[OccupationRow, ...]
    bases: Mapping[str, PlacedBase]
    weights: MeanWeights


class Rover(Gathering):
    """See the module."""

    name = "rover"

    def nodes(self, state: JobState) -> Iterable[Node]:
        """One, where there are bases."""
        return [rover_node()] if state.of(BaseSetup) else []

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """All occupations and all bases that are somewhere."""
        rows = reader.result(vectors_node())
        keys = reader.rows(BaseSetup, active=True).ids.tolist()
        outcomes = reader.outcomes([base_node(key) for key in keys])
        bases = {o.node.subject: o.result for o in outcomes if o.result is not None}
        equipment = reader.record(Equipment, "equipment")
        weights = equipment.weights if equipment is not None else "equal"
        return _Inputs(rows=rows, bases=bases, weights=weights), None

    def solve(self, inputs: _Inputs, progress: Progress) -> RoverMarks:
        """Every occupation from its base, then the means. Checks take no part; those from an untied base
        take none where there are others."""
        by_mark: dict[str, list[OccupationRow]] = {}
        by_base: dict[str, list[Measured]] = {}
        for row in inputs.rows:
            if row.measured.base in inputs.bases:
                by_base.setdefault(row.measured.base, []).append(row.measured)
                if not row.check:
                    by_mark.setdefault(row.measured.mark, []).append(row)
        each: dict[str, Point] = {}
        for key, every in by_base.items():
            points = grounds_of(inputs.bases[key].arp, every)
            each |= {one.id: point for one, point in zip(every, points, strict=True)}
        used: dict[str, tuple[str, ...]] = {}
        for mark, rows in by_mark.items():
            firm = [r for r in rows if inputs.bases[r.measured.base].record.word != "average"]
            used[mark] = tuple(r.measured.id for r in firm or rows)
        progress.check()
        several = {one.measured.id: one for one in inputs.rows}
        marks = {}
        for mark, ids in used.items():
            points = [each[i] for i in ids]
            weights = _weights([several[i] for i in ids], points, inputs.weights) if len(ids) > 1 else None
            marks[mark] = points[0] if len(ids) == 1 else mean(points, weights)
        return RoverMarks(marks=marks, each=each, used=used, bases=inputs.bases)

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> Any:
        """The result by ids; None where there is none."""
        found = outcome.result
        return found if found is not None and not isinstance(found, FenwindError) and found.each else None


def _weights(rows: list[OccupationRow], points: list[Point], by: MeanWeights) -> list[FloatArray] | None:
    """Weights (3, 3) of occupations in the mean of a mark; None for equal ones, and where one does not say
    what it would be weighted by."""
    if by == "covariance":
        found: list[FloatArray] = []
        for row, point in zip(rows, points, strict=True):
            lat, lon, _ = point.geodetic
            axes = enu_axes(lat, lon)
            covariance = axes.T @ row.measured.covariance @ axes
            if not np.linalg.det(covariance) > 0.0:
                return None
            found.append(np.asarray(np.linalg.inv(covariance)))
        return found
    if by == "pdop" and all(row.pdop > 0.0 for row in rows):
        return [np.eye(3) / row.pdop**2 for row in rows]
    return None
