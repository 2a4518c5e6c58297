"""What networks, setups and traverses gave in one frame, carried on into the others: through the fits onto
a frame that has no other tie, by conversion between frames with a datum. No mark is lost when another
frame is shown."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from fenwind.errors import FenwindError
from fenwind.geodesy.frames import Frame
from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.fit import fit_node
from fenwind.job.steps.network import network_node
from fenwind.job.steps.outcome import (
    CandidateSet,
    Gathering,
    Node,
    Outcome,
    TrailStep,
    place_figures,
)
from fenwind.job.steps.setup import setup_node
from fenwind.job.steps.sighted import sighted
from fenwind.job.steps.traverse import traverse_node
from fenwind.job.steps.velocities import Velocities, velocities
from fenwind.procedures.fit import FitResult
from fenwind.procedures.onto_plane import between_frames
from fenwind.procedures.positions import Positions
from fenwind.progress import Progress
from fenwind.records.lines import TraverseBook
from fenwind.records.network import NetworkStep
from fenwind.records.records import FitStep
from fenwind.records.setups import Setup


def carried_on(frame: str) -> Node:
    """The step of a frame."""
    return Node("carried on", frame)


_Carrying = tuple[str, FitResult, tuple[CandidateSet, ...]]


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    """fits: name and result of each with the sets that it can carry; back: the same of fits out of the frame,
    whose sets come back. converted: sets of setups and traverses with the frame that each is in."""

    frame: Frame
    fits: tuple[_Carrying, ...]
    back: tuple[_Carrying, ...]
    converted: tuple[tuple[Frame, CandidateSet], ...]
    velocities: Velocities


class CarriedOn(Gathering):
    """See the module."""

    name = "carried on"

    def nodes(self, state: JobState) -> Iterable[Node]:
        """One in every frame, where there is a network, a setup or a traverse."""
        if not any(state.of(kind) for kind in (NetworkStep, Setup, TraverseBook)):
            return []
        return [carried_on(key) for key, record in state.frames.items() if record.active]

    def targets(self, state: JobState, node: Node) -> tuple[str, ...]:
        """Its frame."""
        return (node.subject,)

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """Fits onto the frame, and what there is to carry."""
        frame = reader.frame(node.subject)
        kinds = (NetworkStep, Setup, TraverseBook)
        fits = _fits(reader, kinds, "source_frame", target_frame=node.subject)
        back = _fits(reader, kinds[1:], "target_frame", source_frame=node.subject)
        converted = []
        for key, one in given_sets(reader, Setup, TraverseBook) if frame.has_datum else ():
            try:
                other = reader.frame(key) if key != node.subject else None
            except FenwindError:
                continue  # that frame has a doubt of its own
            if other is not None and other.has_datum:
                converted.append((other, one))
        moving = velocities(reader, node.subject, frame)
        inputs = _Inputs(frame=frame, fits=fits, back=back, converted=tuple(converted), velocities=moving)
        return inputs, None

    def solve(self, inputs: _Inputs, progress: Progress) -> tuple[CandidateSet, ...]:
        """Carry what the fits have not carried themselves."""
        out = []
        for title, result, sets in inputs.fits:
            out += [_carried(one, title, result.forward, result.carried.index) for one in sets]
        for title, result, sets in inputs.back:
            out += [_carried(one, title, result.backward, {}) for one in sets]
        for other, one in inputs.converted:
            progress.check()
            points, _, _ = between_frames(
                one.positions, other, inputs.frame, inputs.velocities.of(one.positions.names)
            )
            place = one.positions.index
            why = tuple(_whys(one)[place[key]] for key in points.names)
            out.append(replace(one, key=f"{one.key} converted", why=why, positions=points))
        return tuple(out)

    def trail(self, node: Node, result: Any, mark: str) -> Iterable[TrailStep]:
        """Where it was carried to."""
        found = next((one for one in result if mark in one.positions.index), None)
        if found is None:
            return
        p, row = found.positions, found.positions.index[mark]
        figures = place_figures(p, row)
        yield TrailStep(title="Carried on", note=_whys(found)[row], figures=figures)

    def gives(self, outcome: Outcome) -> Iterable[tuple[str, CandidateSet]]:
        """All of it."""
        for one in outcome.result:
            if len(one.positions):
                yield outcome.node.subject, one


def _whys(one: CandidateSet) -> tuple[str, ...]:
    return (one.why,) * len(one.positions) if isinstance(one.why, str) else one.why


def _carried(
    one: CandidateSet, title: str, carry: Callable[[Positions], Positions], there: Container[str]
) -> CandidateSet:
    """A set as a fit carries it, without the marks that are there already."""
    rows = [i for i, key in enumerate(one.positions.names) if key not in there]
    points = carry(one.positions.take(np.array(rows, dtype=np.intp)))
    why = tuple(f"{_whys(one)[i]}, carried by {title}" for i in rows)
    return replace(one, key=f"{one.key} {title}", place="fit", basis="carried", why=why, positions=points)


def _fits(reader: Reader, kinds: Sequence[Any], other: str, **frame: str) -> tuple[_Carrying, ...]:
    """Fits that have a frame at one end, with what there is at the other end, whose field is `other`."""
    fits = reader.rows(FitStep, other, active=True, **frame)
    outcomes = reader.outcomes([fit_node(key) for key in fits.ids.tolist()])
    out = []
    for outcome, there in zip(outcomes, fits[other].tolist(), strict=True):
        if outcome.result is not None:
            sets = tuple(s for key, s in given_sets(reader, *kinds) if key == there)
            out.append((outcome.title, outcome.result.case.result, sets))
    return tuple(out)


def given_sets(reader: Reader, *kinds: Any) -> list[tuple[str, CandidateSet]]:
    """What networks, setups and traverses give, by frame: networks first, since a setup may stand on one."""
    nodes = []
    if NetworkStep in kinds:
        nodes += [network_node(key) for key in reader.rows(NetworkStep, "name", active=True).ids.tolist()]
    if Setup in kinds:
        frames = reader.rows(Setup, "frame", active=True)["frame"].tolist()
        nodes += [sighted(key) for key in dict.fromkeys(frames)]
    if TraverseBook in kinds:
        nodes += [traverse_node(key) for key in reader.rows(TraverseBook, "name", active=True).ids.tolist()]
    done = [outcome for outcome in reader.outcomes(nodes) if outcome.result is not None]
    setups = reader.rows(Setup, "frame", active=True)
    columns = zip(setups["frame"].tolist(), setups.ids.tolist(), strict=True)
    of_frame = [(frame, setup_node(key)) for frame, key in columns]
    return [
        (key, replace(one, behind=(*_sources(outcome.node, of_frame), outcome.node)))
        for outcome in done
        for key, one in reader.gives(outcome)
    ]


def _sources(node: Node, setups: list[tuple[str, Node]]) -> tuple[Node, ...]:
    """The setups that what was sighted in a frame comes from; none for another step."""
    return tuple(n for frame, n in setups if node == sighted(frame))
