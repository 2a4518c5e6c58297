"""Designs: what planned lines of a network would be worth, in a frame, before anything is observed."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, fields, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FenwindError, ProcedureError
from fenwind.geodesy.frames import Frame
from fenwind.job.reader import Digest, Reader, digest_of
from fenwind.job.steps.known import given_in, mark_names
from fenwind.job.steps.network import control_of
from fenwind.job.steps.outcome import Drawing, Node, OfRecord, Outcome
from fenwind.procedures.network import NetworkResult
from fenwind.procedures.network_case import determined, on_ellipsoid, on_plane
from fenwind.procedures.network_design import (
    Accuracy,
    Line,
    candidates,
    largest_with,
    rows_of_line,
    sizes,
)
from fenwind.procedures.network_figures import row_figures
from fenwind.procedures.network_model import Given, Network
from fenwind.procedures.onto_plane import in_space
from fenwind.procedures.positions import Positions
from fenwind.progress import Progress
from fenwind.records.network import DesignStep, ObservationSet
from fenwind.records.sessions import BaseSetup, Occupation
from fenwind.records.setups import Setup

FloatArray = NDArray[np.float64]

#: Level and power behind the smallest errors found, Baarda's customary ones.
ALPHA, POWER = 0.001, 0.80
#: Lines that would bring most, as many as are told.
TOLD = 3
#: Which observations tick a planned line off.
TICKS = {
    "vector": ("vector",), "sighting": ("direction", "distance", "angle"), "levelling": ("height_difference",)
}  # fmt: skip


def design_node(key: str) -> Node:
    """The step of a design's id."""
    return Node("design", key)


@dataclass(frozen=True, slots=True, kw_only=True)
class PlannedFigures:
    """Of a planned line: the smallest redundancy in it, the smallest error found by kind of observation
    (metres or radians), what such an error would do to a mark, and the largest size of any mark without it
    (nan where something would not be determined); done: it was observed."""

    redundancy: float
    finds: Mapping[str, float]
    would_move_m: float
    without_m: float
    done: bool


@dataclass(frozen=True, kw_only=True, eq=False)
class Designed:
    """What a design comes to: figures by row, sizes of marks (95 %, metres) by id, positions on the plane by
    id, lost: names of marks that nothing determines, and the lines that would bring most, each with the
    largest size that would be left; ids: of marks by name; heights: levelling alone, so that sizes are of
    heights."""

    step: DesignStep
    result: NetworkResult
    figures: Mapping[int, PlannedFigures]
    sizes: Mapping[str, float]
    positions: Positions
    best: tuple[tuple[Line, float], ...]
    lost: tuple[str, ...]
    ids: Mapping[str, str]
    heights: bool

    @property
    def worst(self) -> tuple[str, float]:
        """The mark with the largest size, and that; nothing where none moves."""
        key = max(self.sizes, key=lambda k: self.sizes[k], default="")
        return key, self.sizes.get(key, math.nan)


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    step: DesignStep
    frame: Frame
    control: Mapping[str, Given]
    names: Mapping[str, str]
    done: frozenset[int]


class DesignKind(OfRecord):
    """See the module."""

    name = "design"
    record = DesignStep

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """What is given in its frame, what is planned, and what of it was observed."""
        step = reader.needed(DesignStep, node.subject)
        frame, names = reader.frame(step.frame), mark_names(reader)
        control = control_of(frame, given_in(reader, step.frame), names)
        for key, e, n, h in step.marks:
            if key in names and names[key] not in control:
                control[names[key]] = _planned(frame, e, n, h)
        done = _observed(step, reader)
        # Marks come and go all day; only those of its lines make it another design.
        names = {key: names[key] for key in {*step.at, *step.to} if key in names}
        control = {name: control[name] for name in sorted(names.values()) if name in control}
        inputs = _Inputs(step=step, frame=frame, control=control, names=names, done=done)
        digest = digest_of(
            step, frame.spec, list(control.items()), sorted(names.items()), sorted(done),
            *reader.digests("file"),
        )  # fmt: skip
        return inputs, digest

    def solve(self, inputs: _Inputs, progress: Progress) -> Designed:
        """Adjust what would be observed, and look at every line. Raises ProcedureError with none."""
        step, names = inputs.step, inputs.names
        lines = {
            i: Line(kind, names[at], names[to])
            for i, (kind, at, to) in enumerate(zip(step.kind, step.at, step.to, strict=True))
            if i not in step.off and at in names and to in names
        }
        if not lines:
            raise ProcedureError("no line is planned yet", hint="Plan one between two marks")
        net, accuracy = _network(inputs, lines), _accuracy(step)
        turned = Counter(line.at for line in lines.values() if line.kind == "sighting")
        # A direction that is alone at its station says nothing.
        rows = {i: rows_of_line(net, line, accuracy, turned[line.at] > 1) for i, line in lines.items()}
        net = replace(net, rows=tuple(row for found in rows.values() for row in found))
        result = determined(net)
        progress.check()
        figures = _figures(result, rows, inputs.done)
        progress.check()
        fresh = candidates(net, list(lines.values()), sorted({line.kind for line in lines.values()}))
        worth = [(line, rows_of_line(net, line, accuracy, turned[line.at] > 1)) for line in fresh]
        best = _best(result, worth)
        ids = {name: key for key, name in names.items()}
        found = [n for n in result.marks.names if n in ids]
        plane = on_plane(result, inputs.frame, found)
        return Designed(
            step=step, result=result, figures=figures, sizes={ids[n]: v for n, v in sizes(result).items()},
            positions=replace(plane, names=tuple(ids[n] for n in found)), best=best, lost=result.lost,
            ids=ids, heights=net.dimensions == 1,
        )  # fmt: skip

    def drawing(self, node: Node, result: Designed) -> Drawing:
        """Its frame; the rest is drawn with marks that are not there yet."""
        return Drawing(frame=result.step.frame)

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: Any) -> Any:
        """What the design comes to, or why nothing."""
        return outcome.result if outcome.error is None else outcome.error


def _planned(frame: Frame, e: float, n: float, h: float) -> Given:
    """A mark where it is planned."""
    first, second = (e, n)
    if in_space(frame):
        lat, lon = frame.inverse(np.array([e]), np.array([n]))
        first, second = float(lat[0]), float(lon[0])
    return Given(first=first, second=second, h=h, planned=True)


def _accuracy(step: DesignStep) -> Accuracy:
    return Accuracy(**{one.name: getattr(step, one.name) for one in fields(Accuracy)})


def _network(inputs: _Inputs, lines: Mapping[int, Line]) -> Network:
    """The network of a design without its rows: heights alone where only levelling is planned; in plan where
    sightings lead to marks without heights."""
    frame, kinds = inputs.frame, {line.kind for line in lines.values()}
    seen = {name for line in lines.values() for name in (line.at, line.to)}
    space = in_space(frame)
    dimensions = 1 if kinds == {"levelling"} else 3
    control = {n: g for n, g in inputs.control.items() if n in seen}
    heights = all(g.has[2] for g in control.values())
    if dimensions == 3 and not space and kinds == {"sighting"} and not heights:
        dimensions = 2
    net = Network(rows=(), control=control, dimensions=dimensions, plane=not space or dimensions == 1)
    return net if net.plane else on_ellipsoid(net, frame)


def _observed(step: DesignStep, reader: Reader) -> frozenset[int]:
    """Rows of the plan that something of the job ticks off."""
    done: set[tuple[str, str, str]] = set()
    for key in reader.rows(ObservationSet, active=True).ids.tolist():
        one = reader.record(ObservationSet, key)
        for kind, ticks in TICKS.items():
            done |= {
                (kind, a, b) for k, a, b in zip(one.kind, one.at, one.to, strict=True) if k in ticks
            } if one is not None else set()  # fmt: skip
    for key in reader.rows(Setup, active=True).ids.tolist():
        setup = reader.record(Setup, key)
        done |= {("sighting", setup.station, target) for target in setup.target} if setup else set()
    bases = reader.rows(BaseSetup, "mark", active=True)
    mark_of = dict(zip(bases.ids.tolist(), bases["mark"].tolist(), strict=True))
    taken = reader.rows(Occupation, "mark", "base", active=True)
    for mark, base in zip(taken["mark"].tolist(), taken["base"].tolist(), strict=True):
        done.add(("vector", mark_of.get(base, ""), mark))
    return frozenset(
        i
        for i, line in enumerate(zip(step.kind, step.at, step.to, strict=True))
        if line in done or (line[0] != "sighting" and (line[0], line[2], line[1]) in done)
    )


def _figures(
    result: NetworkResult, rows: Mapping[int, tuple[Any, ...]], done: frozenset[int]
) -> dict[int, PlannedFigures]:
    """Figures of every line that takes part."""
    lost = set(result.lost)
    kept = {i: found for i, found in rows.items() if not {found[0].at, found[0].to} & lost}
    table, at = row_figures(result, ALPHA, POWER), 0
    without = _without(result, list(kept.values()))
    out = {}
    for (i, found), left in zip(kept.items(), without.tolist(), strict=True):
        parts = [table[at + k] for k in range(len(found))]
        at += len(found)
        out[i] = PlannedFigures(
            redundancy=min(float(p.redundancy.min()) for p in parts),
            finds={r.kind: _largest(p.mdb) for r, p in zip(found, parts, strict=True)},
            would_move_m=max(_largest(p.external) for p in parts), without_m=left, done=i in done,
        )  # fmt: skip
    return out


def _largest(values: FloatArray) -> float:
    """The largest, nan where one is."""
    return float(values.max()) if np.isfinite(values).all() else math.nan


def _without(result: NetworkResult, lines: list[tuple[Any, ...]]) -> FloatArray:
    try:
        return largest_with(result, lines, more=False)
    except ProcedureError:  # too many unknowns to look at each line
        return np.full(len(lines), math.nan)


def _best(result: NetworkResult, lines: list[tuple[Line, tuple[Any, ...]]]) -> tuple[tuple[Line, float], ...]:
    """The lines that leave the smallest largest size, the best first."""
    known = set(result.marks.names)
    lines = [(line, rows) for line, rows in lines if {line.at, line.to} <= known]
    try:
        left = largest_with(result, [rows for _, rows in lines], more=True)
    except FenwindError:
        return ()
    order = np.argsort(left, kind="stable")[:TOLD]
    return tuple((lines[i][0], float(left[i])) for i in order.tolist())
