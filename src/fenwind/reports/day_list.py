"""A design as the list of what is to be done in the field: sessions, setups and runs of levelling, each with
a box, ticked where it was observed."""

from __future__ import annotations

from collections.abc import Collection

from fenwind.job.state import JobState
from fenwind.quantities.numbers import counted
from fenwind.records.network import DesignStep


def day_list(state: JobState, step: DesignStep, done: Collection[int]) -> str:
    """The list as plain text; done: rows of the design that were observed."""
    names = state.mark_name
    rows = [
        (kind, names(at), names(to), i in done)
        for i, (kind, at, to) in enumerate(zip(step.kind, step.at, step.to, strict=True))
        if i not in step.off
    ]
    lines = [f"{step.name}: {counted(len(rows), 'line')}, {sum(r[3] for r in rows)} of them observed", ""]
    lines += _part("Sessions", [(f"{a} – {b}", ok) for kind, a, b, ok in rows if kind == "vector"])
    stations = dict.fromkeys(a for kind, a, _, _ in rows if kind == "sighting")
    for station in stations:
        targets = [(b, ok) for kind, a, b, ok in rows if kind == "sighting" and a == station]
        lines += _part(f"Setup at {station}, sighting", targets)
    lines += _part("Levelling", [(f"{a} – {b}", ok) for kind, a, b, ok in rows if kind == "levelling"])
    marks = [names(m[0]) for m in step.marks]
    if marks:
        lines += [f"Marks to be set or found: {', '.join(marks)}"]
    return "\n".join(lines).rstrip() + "\n"


def _part(title: str, items: list[tuple[str, bool]]) -> list[str]:
    if not items:
        return []
    return [title, *(f"  [{'x' if ok else ' '}] {text}" for text, ok in items), ""]
