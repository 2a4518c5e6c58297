"""Positions given in other frames of the job, carried over where both frames have a datum; records stay in
the frame they were given in."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

from fenwind.errors import FenwindError
from fenwind.geodesy.datum_change import ConversionNote
from fenwind.geodesy.frames import Frame
from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.known import known
from fenwind.job.steps.outcome import CandidateSet, Figures, Gathering, Node, Outcome, TrailStep, with_names
from fenwind.job.steps.velocities import Velocities, velocities
from fenwind.procedures.onto_plane import between_frames
from fenwind.procedures.positions import Positions
from fenwind.progress import Progress
from fenwind.records.records import FrameRecord


def elsewhere(frame: str) -> Node:
    """The step that brings what is given in other frames into this one."""
    return Node("elsewhere", frame)


@dataclass(frozen=True, kw_only=True, eq=False)
class Elsewhere:
    """Positions given in other frames, converted: by_frame (id, name, positions) each, the operation by
    frame id in words, and what to know about that."""

    by_frame: tuple[tuple[str, str, Positions], ...]
    notes: tuple[ConversionNote, ...]
    operations: dict[str, str]


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    frame: Frame
    others: tuple[tuple[str, Frame, Positions], ...]
    velocities: Velocities


class GivenElsewhere(Gathering):
    """See the module."""

    name = "elsewhere"

    def nodes(self, state: JobState) -> Iterable[Node]:
        """One in every frame."""
        return [elsewhere(key) for key, record in state.frames.items() if record.active]

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """What is given in the other frames that have a datum."""
        frame = reader.frame(node.subject)
        found: list[tuple[str, Frame, Positions]] = []
        keys = reader.rows(FrameRecord, active=True).ids.tolist() if frame.has_datum else []
        for key in sorted(k for k in keys if k != node.subject):
            try:
                other = reader.frame(key)
            except FenwindError:
                continue  # that frame has a doubt of its own
            if other.has_datum:
                points = reader.result(known(key))
                if len(points):
                    found.append((key, other, points))
        moving = velocities(reader, node.subject, frame)
        return _Inputs(frame=frame, others=tuple(found), velocities=moving), None

    def solve(self, inputs: _Inputs, progress: Progress) -> Elsewhere:
        """Convert, frame after frame."""
        by_frame: list[tuple[str, str, Positions]] = []
        notes: dict[str, ConversionNote] = {}
        operations: dict[str, str] = {}
        for key, other, points in inputs.others:
            progress.check()
            carried, said, operations[key] = between_frames(
                points, other, inputs.frame, inputs.velocities.of(points.names)
            )
            by_frame.append((key, other.spec.name, carried))
            notes |= {note.rule: note for note in said}
        return Elsewhere(by_frame=tuple(by_frame), notes=tuple(notes.values()), operations=operations)

    def gives(self, outcome: Outcome) -> Iterable[tuple[str, CandidateSet]]:
        """What was converted into the frame."""
        for key, name, points in outcome.result.by_frame:
            why = f"given in {name}"
            yield (
                outcome.node.subject,
                CandidateSet(key=key, place="converted", basis="converted", why=why, positions=points),
            )

    def trail(self, node: Node, result: Any, mark: str) -> Iterable[TrailStep]:
        """Where it was given, and how it came over."""
        for key, name, points in result.by_frame:
            row = points.index.get(mark)
            if row is not None:
                values = (points.e_m[row], points.n_m[row], points.height_m[row])
                yield TrailStep(
                    title=f"Given in {name}",
                    note=f"converted by {result.operations[key]}",
                    figures=(Figures(kind="position", values=values),),
                )

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> Any:
        """With names for ids; None where nothing came over."""
        found = outcome.result
        if found is None or not found.by_frame:
            return None
        by_frame = tuple((key, name, with_names(points, names)) for key, name, points in found.by_frame)
        return replace(found, by_frame=by_frame)
