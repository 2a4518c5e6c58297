"""Velocities of marks in the frame shown: asked for, taken from a list, withdrawn."""

from __future__ import annotations

from PySide6.QtWidgets import QFileDialog, QWidget

from fenwind.desk.askline import AskLine
from fenwind.desk.bridge import JobBridge
from fenwind.exchange.velocity_list import read_velocities
from fenwind.job.velocity_gestures import (
    as_typed,
    give_velocities,
    type_velocity,
    velocities_in,
    without_velocities,
)
from fenwind.records.entries import Gesture


def ask_velocity(bridge: JobBridge, ask: AskLine) -> None:
    """Ask for the velocity of a mark, that of the mark selected first."""
    if not _has_datum(bridge):
        return
    mark = bridge.mark()
    one = velocities_in(bridge.state, bridge.frame_id).get(mark.id) if mark is not None else None
    text = "" if mark is None else as_typed(one, mark.name) if one is not None else f"{mark.name}, "
    ask.ask(
        "Mark, east, north, up in mm a year; or the mark and none:",
        lambda said: bridge.attempt(lambda: type_velocity(bridge.state, bridge.frame_id, said)),
        text=text, placeholder="T-01, 14.2, 15.1, -0.3", button="Keep it",
    )  # fmt: skip


def browse(parent: QWidget, bridge: JobBridge) -> None:
    """Ask for a list of velocities."""
    if not _has_datum(bridge):
        return
    path, _ = QFileDialog.getOpenFileName(
        parent, "Velocities of marks", bridge.folder, "Lists (*.csv);;All files (*)"
    )
    if path:
        use_list(bridge, path)


def use_list(bridge: JobBridge, path: str) -> bool:
    """Take the velocities of a list in; whether it was."""
    left: list[str] = []

    def make() -> Gesture:
        found = read_velocities(path)
        left.extend(name for name in found if bridge.state.mark_named(name) is None)
        return give_velocities(bridge.state, bridge.frame_id, found, path)

    done = bridge.attempt(make)
    if done and left:
        more = f" and {len(left) - 3} more" if len(left) > 3 else ""
        bridge.tell_then(f"No marks of the job, and left out: {', '.join(left[:3])}{more}.")
    return done


def leave_out(bridge: JobBridge) -> None:
    """Withdraw all velocities in the frame shown."""
    bridge.attempt(lambda: without_velocities(bridge.state, bridge.frame_id))


def _has_datum(bridge: JobBridge) -> bool:
    record = bridge.frame
    if record is None or not record.spec.crs:
        bridge.told.emit("Marks move in a datum: the frame shown has none.", "")
        return False
    return True
