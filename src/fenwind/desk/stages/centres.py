"""Asking for the centre of what cannot be occupied."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from fenwind.desk.askline import AskLine
from fenwind.desk.bridge import JobBridge
from fenwind.job.centre_gestures import make_centre
from fenwind.records.centres import Centre
from fenwind.records.records import Mark


def ask_centre(bridge: JobBridge, ask: AskLine, marks: Sequence[Mark]) -> None:
    """Ask which mark is the middle of others, and let it be so."""
    if len(marks) < 2:
        bridge.told.emit("Select two opposite points, or three or more on the rim.", "")
        return
    what = "halfway between" if len(marks) == 2 else "the centre of the circle through"
    names = ", ".join(mark.name for mark in marks)
    ask.ask(f"Which mark is {what} {names}?", partial(_place, bridge, marks), button="Place it",
            placeholder="A new name makes a new mark")  # fmt: skip


def _place(bridge: JobBridge, marks: Sequence[Mark], name: str) -> bool:
    if not bridge.attempt(lambda: make_centre(bridge.state, marks, name)):
        return False
    key, frame = list(bridge.state.of(Centre))[-1], bridge.frame_id

    def tell() -> None:
        outcomes = bridge.derived.outcomes.items()
        error = next(
            (o.error for n, o in outcomes if n.subject == key and n.detail[0] == frame and o.error), None
        )
        if error is not None:
            bridge.told.emit(f"{name.strip()} has no place yet: {error.sentences}", "doubt")
        else:
            bridge.select(name.strip())

    bridge.once_derived(tell)
    return True
