"""Levelling: heights of marks along runs between benchmarks, with the misclosures of its loops and lines."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from fenwind.errors import ProcedureError
from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.known import mark_names
from fenwind.job.steps.known_places import KnownPlace, known_places
from fenwind.job.steps.outcome import CandidateSet, Drawing, Figures, Node, OfRecord, Outcome, TrailStep
from fenwind.procedures.levelling import Levelling, LevelResult, level
from fenwind.procedures.positions import Positions
from fenwind.progress import Progress
from fenwind.quantities.numbers import counted
from fenwind.records.lines import LevelBook


def levelling_node(key: str) -> Node:
    """The step of a levelling's id."""
    return Node("levelling", key)


@dataclass(frozen=True, kw_only=True, eq=False)
class Levelled:
    """Levelling and what came of it. work: by names; rows: the runs of the book in it; known: heights by id,
    held or not; new: heights of what was not held, by ids, no plan."""

    book: LevelBook
    work: Levelling
    found: LevelResult
    rows: tuple[int, ...]
    known: Mapping[str, float]
    new: Positions


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    book: LevelBook
    known: Mapping[str, KnownPlace]
    names: Mapping[str, str]


class LevellingKind(OfRecord):
    """See the module."""

    name = "levelling"
    record = LevelBook

    def targets(self, state: JobState, node: Node) -> tuple[str, ...]:
        """Its frame."""
        return (state.of(LevelBook)[node.subject].frame,)

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """The runs, and the heights known of their marks."""
        book = reader.needed(LevelBook, node.subject)
        reader.frame(book.frame)  # heights in a frame that cannot be opened are nobody's
        known = known_places(reader, book.frame, {*book.first, *book.second}, heights_alone=True)
        return _Inputs(book=book, known=known, names=mark_names(reader)), None

    def solve(self, inputs: _Inputs, progress: Progress) -> Levelled:
        """Adjust. Raises ProcedureError without a run, or for a part without control."""
        book, names = inputs.book, inputs.names
        rows = [
            i for i, ends in enumerate(zip(book.first, book.second, strict=True))
            if i not in set(book.off) and all(key in names for key in ends)
        ]  # fmt: skip
        if not rows:
            raise ProcedureError("nothing is levelled yet", hint="Take in its runs")
        known = {key: float(place.at[2]) for key, place in inputs.known.items() if key in names}
        held = {names[key]: h for key, h in known.items() if key not in book.free}
        work = Levelling(
            first=tuple(names[book.first[i]] for i in rows),
            second=tuple(names[book.second[i]] for i in rows),
            dh_m=np.array([book.dh_m[i] for i in rows]), length=np.array([book.length[i] for i in rows]),
            control=held, sigma_m=book.sigma_m, limit_m=book.limit_m,
        )  # fmt: skip
        found = level(work)
        return Levelled(
            book=book, work=work, found=found, rows=tuple(rows), known=known, new=_new(names, held, found)
        )

    def gives(self, outcome: Outcome) -> Iterable[tuple[str, CandidateSet]]:
        """Heights of what was not held."""
        found: Levelled = outcome.result
        if len(found.new):
            yield found.book.frame, CandidateSet(
                key=outcome.node.subject, place="levelling", basis="levelled", why=found.book.name,
                positions=found.new,
            )  # fmt: skip

    def trail(self, node: Node, result: Levelled, mark: str) -> Iterable[TrailStep]:
        """Its height and how good that is."""
        row = result.new.index.get(mark)
        if row is not None:
            height, sigma = float(result.new.height_m[row]), float(result.new.sigma_v_m[row])
            runs = sum(mark in ends for ends in zip(result.book.first, result.book.second, strict=True))
            note = f"by {counted(runs, 'run')} of {result.book.name}"
            note += f"; height ± {sigma * 1000:.1f} mm"
            figures = (Figures(kind="position", values=(np.nan, np.nan, height)),)
            yield TrailStep(title="Levelled", note=note, figures=figures)

    def drawing(self, node: Node, result: Levelled) -> Drawing:
        """The runs, between marks that have a place."""
        book = result.book
        lines = tuple((book.first[i], book.second[i], 1.0) for i in result.rows)
        held = {key: "held" for key in result.known if key not in book.free}
        return Drawing(frame=book.frame, roles=held, lines=lines)

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> Any:
        """What came of it, or why nothing did."""
        return outcome.result if outcome.error is None else outcome.error


def _new(names: Mapping[str, str], held: Mapping[str, float], found: LevelResult) -> Positions:
    ids = {name: key for key, name in reversed(list(names.items()))}
    rows = [i for i, name in enumerate(found.names) if name not in held]
    none = np.full(len(rows), np.nan)
    covariance = np.full((3, 3, len(rows)), np.nan)
    covariance[2, 2] = found.sigma_m[rows] ** 2
    return Positions(
        names=tuple(ids[found.names[i]] for i in rows), e_m=none, n_m=none.copy(),
        height_m=found.height_m[rows], covariance=covariance,
    )  # fmt: skip
