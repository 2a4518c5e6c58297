"""Doubts about the networks of a job."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from fenwind.doubts.loop_rules import loop_doubts
from fenwind.doubts.network_rules import network_doubts
from fenwind.doubts.of_steps import OnceJudged
from fenwind.doubts.registry import Doubt, Remedy
from fenwind.job.derive import Derived
from fenwind.job.state import JobState
from fenwind.job.steps.loops import Closed
from fenwind.job.steps.network import Adjusted
from fenwind.records.network import NetworkStep


def networks(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """Those of the loops of every network, of every network, and networks without a result."""
    yield from _closed.look(derived, lambda key: f"Loops of {state.of(NetworkStep)[key].name}")
    yield from _judged.look(derived, lambda key: state.of(NetworkStep)[key].name)


def _about_loops(found: Closed) -> Iterator[Doubt]:
    """Rows that explain what misses, then the worst of what does."""
    over: list[Doubt] = []
    for doubt in loop_doubts(found.closures, found.ends):
        if doubt.rule == "loops.misclosure":
            over.append(doubt)
            continue
        rows = [str(found.keys[r]) for r, ends in found.ends.items() if ends == doubt.names]
        remedy = Remedy(kind="observation-off", label="leave it out", names=tuple(rows[:1]))
        yield replace(doubt, subject=found.step.id, remedies=(remedy,) if len(rows) == 1 else ())
    if over:
        worst = max(over, key=lambda d: abs((d.value or 0.0) / (d.limit or 1.0)))
        more = f" So do {len(over) - 1} more loops." if len(over) > 1 else ""
        yield replace(worst, subject=found.step.id, text=worst.text + more)


def _about(found: Adjusted) -> Iterator[Doubt]:
    unchecked: list[Doubt] = []
    for doubt in network_doubts(found.result, found.figures, found.p_value, found.step.alpha):
        if doubt.rule == "adjust.unchecked":
            unchecked.append(doubt)
            continue
        rows = [str(found.observations.key(row)) for row in _rows(found, doubt)]
        remedies = (Remedy(kind="observation-off", label="leave it out", names=tuple(rows)),)
        yield replace(doubt, subject=found.step.id, remedies=remedies if doubt.grave and rows else ())
    if unchecked:
        worst = min(unchecked, key=lambda d: d.value or 0.0)
        more = f" Nor {len(unchecked) - 1} more." if len(unchecked) > 1 else ""
        yield replace(worst, subject=found.step.id, text=worst.text + more)


def _rows(found: Adjusted, doubt: Doubt) -> list[int]:
    """The row of the set that a doubt about one value speaks of: among those between its marks the one with
    the largest w."""
    if len(doubt.names) < 2 or doubt.rule in ("adjust.undetermined", "adjust.global"):
        return []
    best, most = [], 0.0
    for r in found.between.get(frozenset(doubt.names[:2]), ()):
        figures = found.figures.get(found.rows[r])
        w = max((abs(float(v)) for v in figures.w if v == v), default=0.0) if figures is not None else 0.0
        if w > most:
            best, most = [r], w
    return best


_judged = OnceJudged("network", "adjust", _about)
_closed = OnceJudged("loops", "loops", _about_loops)
