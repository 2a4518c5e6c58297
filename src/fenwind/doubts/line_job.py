"""Doubts about the traverses and the levelling of a job."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from fenwind.doubts.level_rules import level_doubts
from fenwind.doubts.of_steps import OnceJudged
from fenwind.doubts.registry import Doubt, Remedy
from fenwind.doubts.traverse_rules import Limits, traverse_doubts
from fenwind.job.derive import Derived
from fenwind.job.state import JobState
from fenwind.job.steps.levelled import Levelled
from fenwind.job.steps.traverse import Walked
from fenwind.quantities.angles import RAD_PER_SECOND, AngleStyle, exchanged_digits, format_angle
from fenwind.records.lines import LevelBook, TraverseBook

#: How near a reading with two digits exchanged must come to the one that is looked for, in sigmas of an
#: angle.
NEAR = 4.0
STYLES: tuple[AngleStyle, ...] = ("degrees", "gon")


def lines(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """Those of every traverse and levelling, and those without a result."""
    yield from _traverses.look(derived, lambda key: state.of(TraverseBook)[key].name)
    yield from _levellings.look(derived, lambda key: state.of(LevelBook)[key].name)


def _about_traverse(found: Walked) -> Iterator[Doubt]:
    limits = Limits(spec=found.book.spec, angle=found.angle_limit)
    for doubt in traverse_doubts(found.work, found.found, limits):
        kept = replace(doubt, subject=found.book.id)
        yield _with_digits(found, kept) if doubt.rule == "traverse.angle" else kept


def _with_digits(found: Walked, doubt: Doubt) -> Doubt:
    """An angle's doubt with the reading that two exchanged digits make of it, where that explains it."""
    row = next((i for i, k in enumerate(found.leg) if k >= 0 and _stands(found, k, doubt.names[0])), None)
    if row is None or doubt.value is None:
        return doubt
    read = found.book.direction_rad[row]
    wanted = read - doubt.value * RAD_PER_SECOND
    near = NEAR * found.work.options.sigma_angle * max(1.0, found.found.angles) ** 0.5
    for style in STYLES:
        for other in exchanged_digits(read, style):
            if abs(other - wanted) <= near:
                text = f"{format_angle(other, style, 4)}"
                remedy = Remedy(
                    kind="booked-angle", label=f"amend to {text}", names=(str(row), f"{other:.17g}")
                )
                said = f"{doubt.text} Two digits exchanged: {text}?"
                return replace(doubt, text=said, remedies=(remedy,))
    return doubt


def _stands(found: Walked, leg: int, name: str) -> bool:
    return found.work.legs[leg].here == name


def _about_levelling(found: Levelled) -> Iterator[Doubt]:
    for doubt in level_doubts(found.work, found.found):
        rows = [
            found.rows[k] for k, ends in enumerate(zip(found.work.first, found.work.second, strict=True))
            if doubt.rule == "level.run" and ends == doubt.names
        ]  # fmt: skip
        remedies = (Remedy(kind="run-off", label="leave it out", names=tuple(map(str, rows[:1]))),)
        yield replace(doubt, subject=found.book.id, remedies=remedies if rows else ())


_traverses = OnceJudged("traverse", "traverse", _about_traverse)
_levellings = OnceJudged("levelling", "level", _about_levelling)
