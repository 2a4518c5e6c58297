"""Which of all positions that steps give in a frame the job stands by."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from fenwind.job.adopted import adopt
from fenwind.job.reader import Digest, Reader, Rows
from fenwind.job.state import JobState
from fenwind.job.steps.elsewhere import elsewhere
from fenwind.job.steps.known import COORDINATES, given_in
from fenwind.job.steps.occupied import occupied
from fenwind.job.steps.outcome import CandidateSet, Gathering, Node, Outcome
from fenwind.procedures.positions import positions
from fenwind.progress import Progress
from fenwind.records.records import Mark, PositionChoice


def adoption(frame: str, without: str = "") -> Node:
    """The adopted positions of a frame; `without` what the step of an id gives, for that step itself."""
    return Node("adopted", frame, (without,) if without else ())


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    marks: tuple[str, ...]
    sets: tuple[CandidateSet, ...]
    choices: dict[str, tuple[str, str]]


class Adoption(Gathering):
    """See the module."""

    name = "adopted"

    def nodes(self, state: JobState) -> Iterable[Node]:
        """One for every frame."""
        return [adoption(key) for key, record in state.frames.items() if record.active]

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """What is given in the frame and what other steps give there; steps without a result give nothing."""
        frame = node.subject
        marks = reader.rows(Mark, "hold_horizontal", "hold_height", active=True)
        sets = list(_given(given_in(reader, frame, "source"), marks))
        steps = [n for n in reader.giving(frame) if n.subject not in node.detail]
        for outcome in reader.outcomes([elsewhere(frame), *reversed(steps), occupied(frame)]):
            if outcome.result is not None:
                sets += [_held_there(s, marks) for key, s in reader.gives(outcome) if key == frame]
        rows = reader.rows(PositionChoice, "mark", "origin", "reason", active=True, frame=frame)
        columns = (rows["mark"].tolist(), rows["origin"].tolist(), rows["reason"].tolist())
        choices = {mark: (origin, reason) for mark, origin, reason in zip(*columns, strict=True)}
        return _Inputs(marks=tuple(marks.ids.tolist()), sets=tuple(sets), choices=choices), None

    def solve(self, inputs: _Inputs, progress: Progress) -> Any:
        """See job.adopted."""
        return adopt(inputs.marks, inputs.sets, inputs.choices)

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> Any:
        """With names beside the ids."""
        found = outcome.result
        return None if found is None else replace(found, names=tuple(names[key] for key in found.ids))


def _held_there(found: CandidateSet, marks: Rows) -> CandidateSet:
    """What is given in another frame is held here as it is there; other sets as they are."""
    if found.place != "converted":
        return found
    held = dict(zip(marks.ids.tolist(), marks["hold_horizontal"].tolist(), strict=True))
    flags = [held.get(key, False) for key in found.positions.names]
    return replace(found, held=np.array(flags, dtype=bool))


def _given(rows: Rows, marks: Rows) -> Iterable[CandidateSet]:
    """Given positions in two sets: control that is held, and what is not."""
    if not len(rows):
        return
    flags = (marks["hold_horizontal"] | marks["hold_height"]).tolist()
    may = dict(zip(marks.ids.tolist(), flags, strict=True))
    in_plan = dict(zip(marks.ids.tolist(), marks["hold_horizontal"].tolist(), strict=True))
    keys = rows["mark"].tolist()
    chosen = np.array([may[key] for key in keys], dtype=bool)
    for place, mine in (("held", np.flatnonzero(chosen)), ("given", np.flatnonzero(~chosen))):
        if mine.size:
            sources = rows["source"][mine].tolist()
            yield CandidateSet(
                key="given",
                place=place,
                basis="given",
                why=tuple(f"given, {text}" if text else "given" for text in sources),
                positions=positions([keys[i] for i in mine], *(rows[name][mine] for name in COORDINATES)),
                held=np.array([in_plan[keys[i]] and place == "held" for i in mine], dtype=bool),
            )
