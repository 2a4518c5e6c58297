"""A shift grid for the frame shown: its file, and the system that it leads to."""

from __future__ import annotations

from functools import partial

import numpy as np
from PySide6.QtWidgets import QFileDialog, QWidget

from fenwind.desk.askline import AskLine
from fenwind.desk.bridge import JobBridge
from fenwind.errors import FenwindError, FrameError
from fenwind.geodesy.frames import FrameSpec, open_frame
from fenwind.geodesy.shift_grid import reached, shift_grid_of, with_shift_grid, without_shift_grid
from fenwind.job.gestures import change_frame
from fenwind.records.entries import Gesture


def browse(parent: QWidget, bridge: JobBridge, ask: AskLine) -> None:
    """Ask for the file of a grid, then for where it leads."""
    record = bridge.frame
    if record is None or not record.spec.crs:
        bridge.told.emit("A shift grid leads from one datum to another: the frame shown has none.", "")
        return
    path, _ = QFileDialog.getOpenFileName(
        parent, "Shift grid", bridge.folder, "Shift grids (*.gsb *.tif *.tiff);;All files (*)"
    )
    if path:
        ask_target(bridge, ask, path)


def ask_target(bridge: JobBridge, ask: AskLine, path: str) -> None:
    """Ask which system a grid leads to."""
    ask.ask(
        "Which geographic system does the grid lead to? Its code or WKT:", partial(use, bridge, path),
        text="EPSG:4258", button="Use the grid",
    )  # fmt: skip


def use(bridge: JobBridge, path: str, target: str) -> bool:
    """Let the frame's way to other datums go by a grid; whether it does. Nothing is changed by a grid that
    reaches no mark of the frame."""
    record = bridge.frame
    assert record is not None
    outside: list[str] = []

    def make() -> Gesture:
        crs = with_shift_grid(record.spec.crs, path, target.strip())
        outside.extend(_outside(bridge, crs))
        return change_frame(record, "Shift grid", crs=crs)

    done = bridge.attempt(make)
    if done and outside:
        more = f" and {len(outside) - 3} more" if len(outside) > 3 else ""
        bridge.tell_then(f"The grid does not reach {', '.join(outside[:3])}{more}.", "doubt")
    return done


def _outside(bridge: JobBridge, crs: str) -> list[str]:
    """Names of the marks of the frame shown that a grid does not reach. Raises FrameError when it reaches
    none."""
    adopted = bridge.derived.adopted.get(bridge.frame_id)
    if adopted is None or not len(adopted.names):
        return []
    frame = open_frame(FrameSpec(name="", crs=crs))
    inside = reached(crs, *frame.inverse(adopted.e_m, adopted.n_m))
    rows = np.flatnonzero(~inside & np.isfinite(adopted.e_m))
    if rows.size and not inside.any():
        raise FrameError("the grid reaches no mark of the job", hint="Choose the grid of this region")
    return [adopted.names[i] for i in rows]


def leave_out(bridge: JobBridge) -> None:
    """Let PROJ find the frame's way to other datums again."""
    record = bridge.frame
    if record is None or shift_grid_of(record.spec.crs) is None:
        bridge.told.emit("The frame shown has no shift grid.", "")
        return
    bridge.attempt(lambda: change_frame(record, "No shift grid", crs=without_shift_grid(record.spec.crs)))


def words(crs: str) -> str:
    """By which grid a system reaches others, empty where by none."""
    try:
        found = shift_grid_of(crs)
    except FenwindError:
        return ""
    if found is None:
        return ""
    path, there = found
    return f" Its way to {there} goes by the grid {path.rsplit('/', 1)[-1]}."
