"""Gestures on designs and epochs: marks and lines planned, what lines are worth, two networks compared."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from fenwind.errors import ProcedureError
from fenwind.job.gestures import marks_named
from fenwind.job.job import new_id
from fenwind.job.state import JobState
from fenwind.procedures.network_design import LINE_KINDS
from fenwind.records.entries import Add, Entry, Gesture, amend
from fenwind.records.network import DesignStep, EpochsStep, NetworkStep

#: Where a mark is in the frame of a design, by its id: (e, n, height), nan for what nobody knows; None for
#: a mark without a place.
Places = Callable[[str], tuple[float, float, float] | None]


def new_design(state: JobState, frame: str) -> Gesture:
    """An empty design in a frame. Raises ProcedureError without one."""
    if frame not in state.frames:
        raise ProcedureError("the job has no frame to plan in", hint="Set up a frame first")
    name = f"Design {len(state.of(DesignStep)) + 1}"
    return Gesture(f"New {name}", (Add(record=DesignStep(id=new_id(), name=name, frame=frame)),))


def plan_mark(state: JobState, step: DesignStep, name: str, at: tuple[float, float, float]) -> Gesture:
    """Plan a mark at a place of the frame, or move one that is planned. Raises ProcedureError for a mark that
    is given there."""
    ids, entries = marks_named(state, [name])
    key = ids[name]
    if any(g.active and g.frame == step.frame and g.mark == key for g in state.given.values()):
        raise ProcedureError(f"{name} is given in this frame", hint="Give the planned mark another name")
    marks = (*(m for m in step.marks if m[0] != key), (key, *at))
    return Gesture(f"Plan {name}", (*entries, amend(step, marks=marks)))


def plan_lines(state: JobState, step: DesignStep, kind: str, names: Sequence[str], places: Places) -> Gesture:
    """Plan lines of a kind along a way over marks. Raises ProcedureError for a kind that there is not, a mark
    without a place, and where nothing would be new."""
    if kind not in LINE_KINDS:
        raise ProcedureError(f"{kind} is no kind of line", hint=f"Use one of {', '.join(LINE_KINDS)}")
    if len(names) < 2:
        raise ProcedureError("a line leads from a mark to another", hint="Name two marks or more")
    keys, marks = _placed(state, step, names, places)
    lines = list(zip(step.kind, step.at, step.to, strict=True))
    for a, b in itertools.pairwise(keys):
        ways = [(kind, a, b)] if kind == "sighting" else [(kind, a, b), (kind, b, a)]
        if a != b and not any(way in lines for way in ways):
            lines.append((kind, a, b))
    fresh = lines[len(step.kind) :]
    if not fresh:
        raise ProcedureError("these lines are planned already", hint="Plan others")
    return Gesture(
        f"Plan {len(fresh)} {kind if len(fresh) == 1 else _many(kind)}",
        (amend(step, **_columns(lines), marks=tuple(marks.values())),),
    )


def _placed(
    state: JobState, step: DesignStep, names: Sequence[str], places: Places
) -> tuple[list[str], dict[str, tuple[str, float, float, float]]]:
    """Ids of the marks of a way, and where all marks of the design are planned that are not given."""
    given = {g.mark for g in state.given.values() if g.active and g.frame == step.frame}
    marks = {m[0]: m for m in step.marks}
    keys = []
    for name in names:
        mark = state.mark_named(name)
        if mark is None:
            raise ProcedureError(f"there is no mark {name}", hint="Plan the mark first")
        keys.append(mark.id)
        if mark.id not in given and mark.id not in marks:
            at = places(mark.id)
            if at is None:
                raise ProcedureError(f"nobody knows where {name} is", hint="Plan its place first")
            marks[mark.id] = (mark.id, *at)
    return keys, marks


def _many(kind: str) -> str:
    return {"vector": "vectors", "sighting": "sightings", "levelling": "runs of levelling"}[kind]


def _columns(lines: Sequence[tuple[str, str, str]]) -> dict[str, Any]:
    kind, at, to = zip(*lines, strict=True) if lines else ((), (), ())
    return {"kind": kind, "at": at, "to": to}


def take_out(step: DesignStep, rows: Iterable[int]) -> Gesture:
    """Take planned lines out of a design, with marks that no line leads to any more."""
    gone = set(rows)
    kept = [i for i in range(len(step.kind)) if i not in gone]
    lines = [(step.kind[i], step.at[i], step.to[i]) for i in kept]
    used = {key for _, a, b in lines for key in (a, b)}
    place = {row: i for i, row in enumerate(kept)}
    changes: dict[str, Any] = {
        **_columns(lines), "off": tuple(place[i] for i in step.off if i in place),
        "marks": tuple(m for m in step.marks if m[0] in used),
    }  # fmt: skip
    return Gesture("Take lines out of the plan", (amend(step, **changes),) if gone else ())


def leave_out(step: DesignStep, rows: Iterable[int], off: bool) -> Gesture:
    """Leave planned lines out for a try, or take them in again."""
    now = set(step.off) | set(rows) if off else set(step.off) - set(rows)
    return change(step, "Try without lines" if off else "Plan lines again", off=tuple(sorted(now)))


def change(step: DesignStep | EpochsStep, what: str, **changes: Any) -> Gesture:
    """Change options of a design or of two epochs."""
    differing = {k: v for k, v in changes.items() if getattr(step, k) != v}
    return Gesture(what, (amend(step, **differing),) if differing else ())


def compare_epochs(state: JobState, first: str, second: str) -> Gesture:
    """Compare two networks as epochs of one, by the ids of their steps. Raises ProcedureError where they are
    not two."""
    networks = state.of(NetworkStep)
    if first == second or not {first, second} <= set(networks):
        raise ProcedureError("it takes two networks to compare", hint="Take in the other epoch first")
    name = f"{networks[first].name} and {networks[second].name}"
    entries: tuple[Entry, ...] = (Add(record=EpochsStep(id=new_id(), name=name, first=first, second=second)),)
    return Gesture(f"Compare {name}", entries)


def height_near(
    step: DesignStep, known: Iterable[tuple[str, float, float, float]], e: float, n: float
) -> tuple[str, float]:
    """Which mark is nearest to a place, by id among what is known (id, e, n, height) and planned, and its
    height; no mark and 0 where nothing is."""
    every = [(math.hypot(a - e, b - n), h, key) for key, a, b, h in (*known, *step.marks)]
    found = min((one for one in every if math.isfinite(one[0] + one[1])), default=(0.0, 0.0, ""))
    return found[2], found[1]
