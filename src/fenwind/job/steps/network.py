"""Networks: observations of a set adjusted in a frame, about what is given there."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import chain
from typing import Any

import numpy as np

from fenwind.errors import FenwindError, ProcedureError
from fenwind.estimation.distributions import chi2_tail, plan_reach
from fenwind.geodesy.frames import Frame
from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.everything import observations_of
from fenwind.job.steps.known import given_in, mark_names
from fenwind.job.steps.outcome import (
    CandidateSet,
    Drawing,
    Node,
    OfRecord,
    Outcome,
    TrailStep,
    place_figures,
)
from fenwind.procedures.network import NetworkResult
from fenwind.procedures.network_case import determined, on_ellipsoid, on_plane
from fenwind.procedures.network_centring import centred
from fenwind.procedures.network_figures import FigureTable, row_figures
from fenwind.procedures.network_model import BIASES, Bias, Given, Network, Row
from fenwind.procedures.network_robust import Robust, second_opinion
from fenwind.procedures.network_start import starting_marks
from fenwind.procedures.network_weights import GroupFactor, balanced, group_factors
from fenwind.procedures.network_whole import bearing_on, bias_figures
from fenwind.procedures.onto_plane import in_space
from fenwind.procedures.positions import Positions
from fenwind.progress import Progress
from fenwind.quantities.numbers import counted
from fenwind.records.network import NetworkStep, ObservationSet
from fenwind.records.records import FrameRecord

#: Observations that a trail names.
BEAR = 3


def network_node(step: str) -> Node:
    """The step of a network's id."""
    return Node("network", step)


@dataclass(frozen=True, kw_only=True, eq=False)
class Adjusted:
    """A network and what came of it, by names of marks. rows: for each row of the set its number in the
    result, -1 for one that took no part. positions: on the plane, by ids of marks; elsewhere: on the planes
    of the other frames that have a datum, by their ids. factors: of the variances of groups, as estimated;
    opinion: a robust second one, where it is asked for; biases: each with its value and sigma.
    missing: what was observed in the job and is not in it, in words."""

    step: NetworkStep
    observations: ObservationSet
    result: NetworkResult
    figures: FigureTable
    rows: tuple[int, ...]
    p_value: float | None
    variance_factor: float | None
    positions: Positions
    ids: Mapping[str, str]
    elsewhere: Mapping[str, Positions]
    factors: tuple[GroupFactor, ...] = ()
    opinion: Robust | None = None
    biases: tuple[tuple[Bias, float, float], ...] = ()
    missing: tuple[str, ...] = ()

    @cached_property
    def lines(self) -> tuple[tuple[str, str, float], ...]:
        """Lines observed, each with the smallest redundancy of what was observed along it."""
        one, out = self.observations, dict[tuple[str, str], float]()
        least = self.figures.least_redundancy(len(self.result.net.rows)).tolist()
        for at, to, number in zip(one.at, one.to, self.rows, strict=True):
            r = least[number] if number >= 0 else math.nan
            if r == r:
                ends = (at, to) if at < to else (to, at)
                out[ends] = min(out.get(ends, 1.0), r)
        return tuple((a, b, r) for (a, b), r in out.items())

    @cached_property
    def between(self) -> Mapping[frozenset[str], tuple[int, ...]]:
        """Rows of the set that took part, by the names of their ends."""
        out: dict[frozenset[str], list[int]] = {}
        for r, number in enumerate(self.rows):
            if number >= 0:
                row = self.result.net.rows[number]
                out.setdefault(frozenset((row.at, row.to)), []).append(r)
        return {ends: tuple(rows) for ends, rows in out.items()}


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    step: NetworkStep
    observations: ObservationSet
    frame: Frame
    others: Mapping[str, Frame]
    control: Mapping[str, Given]
    names: Mapping[str, str]
    marks: Mapping[str, str]
    missing: tuple[str, ...]


class NetworkKind(OfRecord):
    """See the module."""

    name = "network"
    record = NetworkStep

    def targets(self, state: JobState, node: Node) -> tuple[str, ...]:
        """Its frame, and those that its marks can be carried to."""
        own = state.of(NetworkStep)[node.subject].frame
        return (own, *(k for k, r in state.frames.items() if r.active and r.spec.crs and k != own))

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """Observations, what is given in the frame, and names of marks."""
        step = reader.needed(NetworkStep, node.subject)
        observations, names, missing = observations_of(step, reader)
        frame, marks = reader.frame(step.frame), mark_names(reader)
        given = given_in(reader, step.frame)
        inputs = _Inputs(
            step=step, observations=observations, frame=frame, others=_others(frame, step.frame, reader),
            control=control_of(frame, given, marks), names=names, marks=marks,
            missing=missing,
        )  # fmt: skip
        return inputs, None

    def solve(self, inputs: _Inputs, progress: Progress) -> Adjusted:
        """Adjust, with figures of every observation."""
        step = inputs.step
        net, chosen = _network(inputs)
        progress.check()
        result = _determined(net, inputs.missing)
        factors: tuple[GroupFactor, ...] = ()
        if step.components and result.found is not None:
            result, factors = balanced(net, result)
        progress.check()
        opinion = second_opinion(result) if step.robust and result.found is not None else None
        progress.check()
        figures = row_figures(result, step.alpha, step.power) if result.found is not None else FigureTable()
        if result.found is not None and not factors:
            factors = group_factors(result)
        dof = result.found.dof if result.found is not None else 0
        squares = result.found.sum_squares if result.found is not None else 0.0
        ids = {name: key for key, name in inputs.marks.items()}
        names = [n for n in result.marks.names if n in ids]
        plane = on_plane(result, inputs.frame, names)
        return Adjusted(
            step=step, observations=inputs.observations, result=result, figures=figures,
            rows=_numbers(inputs, chosen, result),
            p_value=float(chi2_tail(squares, dof)) if dof > 0 else None,
            variance_factor=squares / dof if dof > 0 else None,
            positions=replace(plane, names=tuple(ids[n] for n in names)), ids=ids,
            elsewhere=_elsewhere(inputs, result, names, ids), factors=factors, opinion=opinion,
            biases=tuple(bias_figures(result)) if result.found is not None else (),
            missing=inputs.missing,
        )  # fmt: skip

    def gives(self, outcome: Outcome) -> Iterable[tuple[str, CandidateSet]]:
        """Every mark it moved."""
        found: Adjusted = outcome.result
        moved = np.flatnonzero((found.result.setup.unknowns >= 0).any(axis=0))
        names = [found.result.marks.names[i] for i in moved.tolist()]
        keys = {found.ids[name] for name in names if name in found.ids}
        kept = [i for i, key in enumerate(found.positions.names) if key in keys]
        rows = np.array(kept, dtype=np.intp)
        for frame, positions in ((found.step.frame, found.positions), *found.elsewhere.items()):
            yield (
                frame,
                CandidateSet(
                    key=outcome.node.subject, place="network", basis="adjusted",
                    why=f"adjusted in {outcome.title}", positions=positions.take(rows),
                ),
            )  # fmt: skip

    def trail(self, node: Node, result: Adjusted, mark: str) -> Iterable[TrailStep]:
        """Where it came out, and the observations that bear on it."""
        row = result.positions.index.get(mark)
        if row is None:
            return
        p, name = result.positions, _name_of(result, mark)
        touching = [
            r for r, number in enumerate(result.rows)
            if number >= 0 and mark in (result.observations.at[r], result.observations.to[r])
        ]  # fmt: skip
        kinds: dict[str, int] = {}
        for r in touching:
            kind = result.observations.kind[r].replace("_", " ")
            kinds[kind] = kinds.get(kind, 0) + 1
        note = ", ".join(counted(count, kind) for kind, count in kinds.items())
        note += _most(result, name)
        figures = place_figures(p, row)
        yield TrailStep(title=f"Observed at {name}", note=note or "held", figures=figures)

    def drawing(self, node: Node, result: Adjusted) -> Drawing:
        """Ellipses, roles, and the lines observed."""
        held = np.flatnonzero((result.result.setup.unknowns < 0).all(axis=0)).tolist()
        names = result.result.marks.names
        roles = {result.ids[names[i]]: "held" for i in held if names[i] in result.ids}
        free = [key for key in result.positions.names if key not in roles]
        place = result.positions.index
        covariance = result.positions.covariance[:2, :2, [place[key] for key in free]]
        return Drawing(
            frame=result.step.frame, roles=roles, vector_marks=tuple(free), vectors=np.zeros((2, len(free))),
            covariance=np.nan_to_num(covariance), reach=plan_reach(), lines=result.lines,
        )  # fmt: skip

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> Any:
        """The network, or why there is none."""
        return outcome.result if outcome.error is None else outcome.error


def _most(found: Adjusted, name: str) -> str:
    """The observations that bear on a mark most, in words."""
    said = []
    for number, size in bearing_on(found.result, name)[:BEAR]:
        row = found.result.net.rows[number]
        said.append(f"{row.kind.replace('_', ' ')} {row.at} – {row.to} ({size * 1000.0:.1f} mm a sigma)")
    return f"; most bear on it: {', '.join(said)}" if said else ""


def _name_of(found: Adjusted, key: str) -> str:
    return next((name for name, known in found.ids.items() if known == key), key)


def _determined(net: Network, missing: tuple[str, ...]) -> NetworkResult:
    """The network solved. Raises what is raised where it is not determined, with what was left out of it."""
    try:
        return determined(net)
    except FenwindError as error:
        if missing:
            error.hint += f". Left out: {'; '.join(missing)}"
        raise


def control_of(frame: Frame, given: Any, names: Mapping[str, str]) -> dict[str, Given]:
    """What is given, by names: of a plane as it stands, else latitudes, longitudes and the frame's
    heights."""
    e, n, h = given["e_m"], given["n_m"], given["height_m"]
    space = in_space(frame)
    first, second = frame.inverse(e, n) if space else (e, n)
    sh, sv = given["sigma_h_m"], given["sigma_v_m"]
    return {
        names[key]: Given(
            first=float(first[i]), second=float(second[i]), h=float(h[i]), sh=float(sh[i]), sv=float(sv[i])
        )
        for i, key in enumerate(given["mark"].tolist())
        if key in names
    }


def _others(frame: Frame, own: str, reader: Reader) -> dict[str, Frame]:
    """Other frames that marks adjusted in a frame can be carried to."""
    out: dict[str, Frame] = {}
    if not in_space(frame):
        return out
    for key in reader.rows(FrameRecord, active=True).ids.tolist():
        try:
            other = reader.frame(key) if key != own else None
        except FenwindError:
            continue  # it has a doubt of its own
        if other is not None and in_space(other):
            out[key] = other
    return out


def _elsewhere(
    inputs: _Inputs, result: NetworkResult, names: list[str], ids: Mapping[str, str]
) -> dict[str, Positions]:
    out = {}
    for key, frame in inputs.others.items():
        if not result.net.plane:
            with suppress(FenwindError):
                found = on_plane(result, frame, names, inputs.frame)
                out[key] = replace(found, names=tuple(ids[n] for n in names))
    return out


#: Where the elements of a covariance stand in its upper triangle.
_TRIANGLE = np.array([[0, 1, 2], [1, 3, 4], [2, 4, 5]])


def _rows(one: ObservationSet, chosen: list[int], names: Mapping[str, str]) -> Iterator[Row]:
    """The rows that are chosen. Their numbers are made into arrays in one go."""
    large = [i for i in chosen if len(one.covariance[i]) > 1]
    values = dict(zip(large, np.array([one.value[i] for i in large]), strict=True))
    triangles = np.array([one.covariance[i] for i in large]).reshape(len(large), 6)
    covariances = dict(zip(large, triangles[:, _TRIANGLE], strict=True))
    for i in chosen:
        single = i not in values
        yield Row(
            kind=one.kind[i], at=names[one.at[i]], to=names[one.to[i]], back=names.get(one.back[i], ""),
            set=one.setup[i], group=one.group[i], hi=one.hi_m[i], ht=one.ht_m[i],
            value=np.array(one.value[i]) if single else values[i],
            covariance=np.array([one.covariance[i]]) if single else covariances[i],
        )  # fmt: skip


def _chosen(inputs: _Inputs) -> list[int]:
    """Rows that are on and whose marks are. Raises ProcedureError with none."""
    one, off = inputs.observations, set(inputs.step.off)
    gone = {*one.at, *one.to, *one.back} - {""} - inputs.names.keys()
    chosen = [
        i for i in range(len(one.kind))
        if one.key(i) not in off and not (gone and {one.at[i], one.to[i], one.back[i]} & gone)
    ]  # fmt: skip
    if not chosen:
        raise ProcedureError("no observation is switched on", hint="Switch some on, or take more in")
    return chosen


def _dimensions(kinds: set[str], space: bool) -> int:
    """1 for levelling alone, 2 for a plane without anything that has a height, else 3."""
    if kinds == {"height_difference"}:
        return 1
    return 3 if space or kinds & {"zenith", "height_difference", "vector"} else 2


def _network(inputs: _Inputs) -> tuple[Network, list[int]]:
    """The network of the rows that are on, and which they are. Raises ProcedureError with none."""
    step, frame, names = inputs.step, inputs.frame, inputs.names
    chosen = _chosen(inputs)
    down = dict(step.down)
    one = inputs.observations
    made = _rows(one, chosen, names)
    rows = tuple(made)
    if down:
        factors = [down.get(one.key(i), 1.0) for i in chosen]
        rows = tuple(_weighed(row, factor) for row, factor in zip(rows, factors, strict=True))
    space = in_space(frame)
    dimensions = _dimensions({row.kind for row in rows}, space)
    seen = set(chain.from_iterable([(row.at, row.to, row.back) for row in rows]))
    net = Network(
        rows=rows, control={n: g for n, g in inputs.control.items() if n in seen}, dimensions=dimensions,
        plane=not space or dimensions == 1, datum=step.datum, k=step.k,
        hold=frozenset(names[key] for key in step.hold if key in names) if step.hold else None,
        biases=_biases(step, rows),
    )  # fmt: skip
    if net.plane:
        return _centred(net, step), chosen
    net = on_ellipsoid(net, frame)
    return _centred(net if step.slope else replace(net, geoid=None), step), chosen


def _weighed(row: Row, factor: float) -> Row:
    """A row whose sigmas are enlarged."""
    return row if factor == 1.0 else replace(row, covariance=row.covariance * factor**2)


def _biases(step: NetworkStep, rows: tuple[Row, ...]) -> tuple[Bias, ...]:
    """Biases of groups that have an observation which is on."""
    there = {(row.group, row.kind) for row in rows}
    wanted = [Bias(kind=kind, group=group) for kind, group in step.biases]
    return tuple(b for b in wanted if any((b.group, kind) in there for kind in BIASES[b.kind][1]))


def _centred(net: Network, step: NetworkStep) -> Network:
    if not step.centring_m:
        return net
    return centred(net, starting_marks(net)[0], step.centring_m, step.centring_m)


def _numbers(inputs: _Inputs, chosen: list[int], result: NetworkResult) -> tuple[int, ...]:
    """For each row of the set its number among the rows that were adjusted, -1 for none."""
    one, names = inputs.observations, inputs.names
    out, lost, number = [-1] * len(one.kind), set(result.lost), 0
    for i in chosen:
        if not lost or not {names[one.at[i]], names[one.to[i]], names.get(one.back[i], "")} & lost:
            out[i] = number
            number += 1
    return tuple(out)
