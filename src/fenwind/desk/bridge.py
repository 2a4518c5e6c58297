"""The one bridge between a job and the widgets: it makes gestures, derives again, and tells everybody what changed."""

from __future__ import annotations

import os
import time
from collections.abc import Callable

from PySide6.QtCore import QObject, Signal

from fenwind.doubts.of_job import Findings, Judge
from fenwind.doubts.registry import Doubt, Remedy
from fenwind.doubts.settling import accept, settle
from fenwind.errors import FenwindError
from fenwind.job.derive import Derived, Memo, derive
from fenwind.job.gestures import Gesture
from fenwind.job.job import Job
from fenwind.job.moved import Moved, moved
from fenwind.job.state import JobState
from fenwind.quantities.angles import AngleStyle
from fenwind.quantities.lengths import METRE, UNITS, LengthUnit
from fenwind.records.records import FitStep, FrameRecord, Mark

#: Adopted positions move by less than this unseen, metres: the last digit shown.
SHOWN_M = 5e-5


class JobBridge(QObject):
    """Holds the open job, what follows from it, and the one selection."""

    changed = Signal()
    selected = Signal(str)  # name of the mark, empty for none
    told = Signal(str, str)  # text, tone: "" or "doubt"
    moved = Signal(object)  # list of Moved, after a change
    stage_requested = Signal(str)

    def __init__(self, job: Job, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self.job = job
        self._memo = Memo()
        self._judge = Judge()
        self.derived: Derived = derive(job.state, self._memo, self.folder)
        self.findings: Findings = self._judge.judge(job.state, self.derived)
        self.selection = ""
        self.fit_id = next(iter(self.derived.fits), "")
        self.derive_seconds = 0.0

    @property
    def state(self) -> JobState:
        """Records as they stand."""
        return self.job.state

    @property
    def folder(self) -> str:
        """Folder of the job file."""
        return os.path.dirname(os.path.abspath(self.job.path))

    @property
    def frame_id(self) -> str:
        """Id of the frame shown, empty when the job has none."""
        shown = self.state.info.frame
        return shown if shown in self.state.frames else next(iter(self.state.frames), "")

    @property
    def frame(self) -> FrameRecord | None:
        """The frame shown."""
        return self.state.frames.get(self.frame_id)

    @property
    def unit(self) -> LengthUnit:
        """Length unit of the frame shown."""
        return UNITS[self.frame.spec.unit] if self.frame else METRE

    @property
    def angle_style(self) -> AngleStyle:
        """How angles are shown."""
        return self.state.info.angle_style

    @property
    def fit(self) -> FitStep | None:
        """The fit looked at."""
        return self.state.fits.get(self.fit_id) or next(iter(self.state.fits.values()), None)

    def mark(self) -> Mark | None:
        """The selected mark."""
        return self.state.mark_named(self.selection) if self.selection else None

    def select(self, name: str) -> None:
        """Make a mark the selected one, everywhere."""
        if name != self.selection:
            self.selection = name
            self.selected.emit(name)

    def do(self, gesture: Gesture) -> bool:
        """Keep a gesture; False when the file refused, which is said."""
        what, entries = gesture
        return self._try(lambda: self.job.record(what, entries)) if entries else True

    def attempt(self, make: Callable[[], Gesture]) -> bool:
        """Make a gesture and keep it; an error in making it is said in place."""
        try:
            gesture = make()
        except FenwindError as error:
            self.tell_error(error)
            return False
        return self.do(gesture)

    def undo(self) -> None:
        """Take the latest gesture back."""
        text = self.job.undo_text
        if text and self._try(self.job.undo):
            self.told.emit(f"Undone: {text}", "")

    def redo(self) -> None:
        """Do the gesture undone last again."""
        text = self.job.redo_text
        if text and self._try(self.job.redo):
            self.told.emit(f"Done again: {text}", "")

    def settle(self, doubt: Doubt, remedy: Remedy) -> bool:
        """Carry out a remedy."""
        return self.attempt(lambda: settle(self.state, doubt, remedy))

    def accept(self, doubt: Doubt, reason: str) -> bool:
        """Accept a doubt for a reason."""
        return self.attempt(lambda: accept(doubt, reason))

    def tell_error(self, error: FenwindError) -> None:
        """Say an error in the line for messages."""
        self.told.emit(error.one_line + ("" if error.one_line.endswith(".") else "."), "doubt")

    def _try(self, act: Callable[[], object]) -> bool:
        try:
            act()
        except FenwindError as error:
            self.tell_error(error)
            return False
        self.rederive()
        return True

    def rederive(self) -> None:
        """Derive again and tell what moved."""
        before, started = self.derived, time.perf_counter()
        self.derived = derive(self.state, self._memo, self.folder)
        self.findings = self._judge.judge(self.state, self.derived)
        self.derive_seconds = time.perf_counter() - started
        if self.selection and self.state.mark_named(self.selection) is None:
            self.selection = ""
        changes: list[Moved] = []
        for key, after in self.derived.adopted.items():
            if key in before.adopted:
                change = moved(key, before.adopted[key], after)
                if change.names or change.appeared or change.gone:
                    changes.append(change)
        self.changed.emit()
        self.moved.emit(changes)
