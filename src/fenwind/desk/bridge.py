"""The one bridge between a job and the widgets: it makes gestures, derives again, and tells everybody what
changed."""

from __future__ import annotations

import contextlib
import os
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from typing import Any

from PySide6.QtCore import QCoreApplication, QEvent, QObject, Signal

from fenwind.desk.job_owner import Answer, Deriver, JobOwner, Request, Results, Solve, failure
from fenwind.doubts.of_job import Findings
from fenwind.doubts.registry import Doubt, Remedy
from fenwind.doubts.settling import accept, settle
from fenwind.errors import FenwindError, JobError
from fenwind.exchange.list_units import ListUnits
from fenwind.geodesy.axes import ShownAxis, shown_axes
from fenwind.geodesy.frames import axes_of
from fenwind.job.checksums import EntryRow
from fenwind.job.derive import Derived
from fenwind.job.entry_validation import check_entries
from fenwind.job.history import History
from fenwind.job.job import Job
from fenwind.job.state import JobState
from fenwind.job.steps.outcome import Node, Outcome
from fenwind.quantities.angles import AngleStyle
from fenwind.quantities.lengths import METRE, UNITS, LengthUnit
from fenwind.records.entries import Entry, Gesture
from fenwind.records.records import FitStep, FrameRecord, Mark

#: With more marks what changes is shown in turns.
MANY_MARKS = 5000


class JobBridge(QObject):
    """Holds the open job, what follows from it, and the one selection."""

    changed = Signal()
    selected = Signal(str)  # name of the mark, empty for none
    told = Signal(str, str)  # text, tone: "" or "doubt"
    moved = Signal(object)  # list of Moved, after a change
    stage_requested = Signal(str)
    came_ahead = Signal()  # what is looked at is there, before the rest
    handed_over = Signal()  # something went to the owner of the job
    busy = Signal(bool)
    progressed = Signal(int, int, str)

    def __init__(
        self,
        job: Job,
        parent: QObject | None = None,
        deriver: Deriver | None = None,
        results: Results | None = None,
    ) -> None:
        """`results` of `deriver`, where the job's thread has them already. From now on the job belongs to its
        owner: what the window knows of it is here."""
        super().__init__(parent)
        self.path, self.read_only, self.newer = job.path, job.read_only, job.file.newer
        self._file_watch = job.file
        self._history = job.history.snapshot()
        deriver = deriver or Deriver(self.folder)
        self._results = results or deriver.results(job.state)
        self._owner = JobOwner(job, deriver, self)
        self._owner.answered.connect(self._on_answered)
        self._owner.derived.connect(self._on_derived)
        self._owner.ahead.connect(self._on_ahead)
        self._owner.stopped.connect(self._on_stopped)
        self._owner.progressed.connect(self.progressed)
        self._pending: deque[Request] = deque()  # changes handed over and not yet answered
        self._changes = self._known_changes = 0  # handed over, and known to the results shown
        self._ahead: Outcome | None = None
        self._once_derived: deque[Callable[[], object]] = deque()
        #: The step that is looked at, of which the owner tells before it goes on with the rest.
        self.looked_at: Callable[[], Node | None] = lambda: None
        #: The occupation that a device is at; that it is not finished is nothing to doubt.
        self.under_way: Callable[[], str] = lambda: ""
        self._in_hurry: set[str] = set()
        self.selection = ""
        self.before: Derived | None = None  # what followed from the records before the last change
        self.fit_id = next(iter(self.derived.fits), "")

    @property
    def derived(self) -> Derived:
        """What follows from the records."""
        return self._results.derived

    @property
    def findings(self) -> Findings:
        """Doubts, open and accepted."""
        found, here = self._results.findings, self.under_way()
        if not here:
            return found
        left = (d for d in found.open if (d.rule, d.subject) != ("occupation.unfinished", here))
        return replace(found, open=tuple(left))

    @property
    def derive_seconds(self) -> float:
        """How long the latest derivation took."""
        return self._results.seconds

    @property
    def state(self) -> JobState:
        """Records as they stand, with the changes that are on their way into the file."""
        return self._history.state

    @property
    def seen(self) -> JobState:
        """Records as they were when what is shown followed from them: until results come, the records are
        ahead of them, and names in one are not those in the other."""
        return self._results.state

    @property
    def undo_text(self) -> str:
        """What undo would take back, empty for nothing."""
        return self._history.undo_text

    @property
    def redo_text(self) -> str:
        """What redo would do again, empty for nothing."""
        return self._history.redo_text

    @property
    def kept(self) -> bool:
        """Whether the file has everything that was done."""
        return not self._pending

    @property
    def taken_away(self) -> bool:
        """Whether the job's file was deleted, moved, replaced or cut short while it is open."""
        return self._file_watch.taken_away

    @property
    def revision(self) -> int:
        """A number that grows with every change of the job."""
        return self._changes

    @property
    def deriving(self) -> bool:
        """Whether results are on their way that will take the place of those shown."""
        return self._known_changes < self._changes

    @property
    def folder(self) -> str:
        """Folder of the job file."""
        return os.path.dirname(os.path.abspath(self.path))

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
    def list_units(self) -> ListUnits:
        """Units of lists of field work whose heads state none: lengths in that of the frame shown."""
        return ListUnits(coordinate=self.unit, length=self.unit)

    @property
    def axes(self) -> tuple[ShownAxis, ShownAxis]:
        """The plane coordinates of the frame shown as people read them."""
        return self.axes_in(self.frame)

    def axes_in(self, frame: FrameRecord | None) -> tuple[ShownAxis, ShownAxis]:
        """The plane coordinates of a frame as people read them."""
        try:
            return axes_of(frame.spec) if frame else shown_axes(None)
        except FenwindError:
            return shown_axes(None)  # a system that is not known has a doubt of its own

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

    def show_stage(self, name: str) -> None:
        """Ask the desk for a stage."""
        self.stage_requested.emit(name)

    def select(self, name: str) -> None:
        """Make a mark the selected one, everywhere."""
        if name != self.selection:
            self.selection = name
            self.selected.emit(name)

    # Changes and questions
    # ------------------------------------------------------------------------------------------------------

    def do(self, gesture: Gesture, then: Answer | None = None, failed: Answer | None = None) -> bool:
        """Hand a gesture over to be kept; False where it does not fit the records, which is said. then,
        failed: see `ask`."""
        what, entries = gesture
        if not entries:
            return True
        try:
            check_entries(self.state, entries)
        except FenwindError as error:
            self.tell_error(error)
            return False
        gesture = Gesture(what, entries)
        self._change(lambda job: job.record(what, entries), lambda copy: copy.take(gesture), then, failed)
        return True

    def attempt(self, make: Callable[[], Gesture]) -> bool:
        """Make a gesture and keep it; an error in making it is said in place."""
        try:
            gesture = make()
        except FenwindError as error:
            self.tell_error(error)
            return False
        return self.do(gesture)

    def propose(
        self, make: Callable[[Job], Gesture], then: Answer | None = None, failed: Answer | None = None
    ) -> None:
        """Have a gesture made and kept where the job is, after everything handed over before: `make` may read
        the file and `solve` steps. then: called once it is kept; failed: see `ask`."""
        self._change(lambda job: job.record(*make(job)), None, then, failed)

    @property
    def solve(self) -> Solve:
        """What a step of a state that is only tried comes to; for what is asked or proposed, there alone."""
        return self._owner.solve

    def keep_rows(self, gesture: Gesture, rows: Sequence[EntryRow], then: Answer, failed: Answer) -> None:
        """Keep a gesture of many entries, which a worker has written out. then, failed: see `ask`."""

        def keep(job: Job) -> None:
            check_entries(job.state, gesture.entries)
            job.record_rows(gesture, rows)

        self._change(keep, None, then, failed)

    def ask(
        self,
        act: Callable[[Job], Any],
        then: Answer | None = None,
        failed: Answer | None = None,
        *,
        meanwhile: bool = False,
    ) -> None:
        """Read or write something of the job's file that changes no records; `then` gets what it gives, and
        `failed` what it raises, which is told where there is none. meanwhile: also in the midst of a
        derivation."""
        self._owner.post(Request(act, then, failed, meanwhile=meanwhile))
        self.handed_over.emit()

    def undo(self) -> None:
        """Take the latest gesture back."""
        text = self.undo_text
        if text:
            self._change(partial(_undone, text), History.step_back)
            self.tell_then(f"Undone: {text}")

    def redo(self) -> None:
        """Do the gesture undone last again."""
        text = self.redo_text
        if text:
            self._change(partial(_done_again, text), History.step_forward)
            self.tell_then(f"Done again: {text}")

    def rederive(self) -> None:
        """Derive again, where the last time was stopped."""
        self._change(lambda job: None, lambda copy: None)

    def _change(
        self,
        act: Callable[[Job], Any],
        on_copy: Callable[[History], object] | None,
        then: Answer | None = None,
        failed: Answer | None = None,
    ) -> None:
        """Hand over a change, and show it on the window's copy of the records already where it is simple."""
        if on_copy is not None:
            on_copy(self._history)
        request = Request(act, then, failed, changes=True, on_copy=on_copy, look_first=self.looked_at())
        self._changes, self._ahead = self._changes + 1, None
        self._pending.append(request)
        self._owner.post(request)
        self.busy.emit(True)
        self.handed_over.emit()

    def _on_answered(self, request: Request, value: Any, history: History | None) -> None:
        if request.changes:
            self._pending.remove(request)
        if history is not None:
            self._take_copy(history)
        if isinstance(value, Exception):
            if request.failed is not None:
                request.failed(value)
            else:
                self.told.emit(failure(value), "doubt")
        elif request.then is not None:
            request.then(value)

    def _take_copy(self, history: History) -> None:
        """Take a copy of the owner's records, and what is on its way to them; what does not fit them any
        more will be refused."""
        self._history = history
        for request in self._pending:
            if request.on_copy is not None:
                with contextlib.suppress(FenwindError, KeyError, TypeError, ValueError):
                    request.on_copy(history)

    def wait(self) -> None:
        """Wait until everything handed over is kept and derived, and take what that told."""
        self._owner.idle.wait()
        QCoreApplication.sendPostedEvents(None, QEvent.Type.MetaCall.value)

    def settle(self, doubt: Doubt, remedy: Remedy) -> bool:
        """Carry out a remedy."""
        return self.attempt(lambda: settle(self.state, doubt, remedy))

    def accept(self, doubt: Doubt, reason: str) -> bool:
        """Accept a doubt for a reason."""
        return self.attempt(lambda: accept(doubt, reason, self.state.info.surveyor))

    def tell_error(self, error: FenwindError) -> None:
        """Say an error in the line for messages."""
        self.told.emit(error.sentences, "doubt")

    # What follows
    # ------------------------------------------------------------------------------------------------------

    def what_if(self, entries: Sequence[Entry], then: Callable[[Derived | None], object]) -> None:
        """Tell what would follow if some entries were kept; None where a change came before that was
        known."""
        if not entries:
            then(None)
            return
        trial = partial(self._owner.trial, entries)
        self._owner.post(Request(trial, then, lambda error: then(None), trial=True))
        self.handed_over.emit()

    def once_derived(self, then: Callable[[], object]) -> None:
        """Call `then` once what is shown follows from all changes that were handed over."""
        if self.deriving:
            self._once_derived.append(then)
        else:
            then()

    def tell_then(self, text: str, tone: str = "") -> None:
        """Tell something once the results are there, after what they moved."""
        self.once_derived(partial(self.told.emit, text, tone))

    def _on_ahead(self, number: int, outcome: Outcome) -> None:
        if number == self._changes:
            self._ahead = outcome
            self.came_ahead.emit()

    def ahead_of(self, node: Node | None) -> Outcome | None:
        """What a step comes to now, where that is known before the rest."""
        return self._ahead if self._ahead is not None and self._ahead.node == node else None

    def _on_derived(self, number: int, results: Results) -> None:
        self._known_changes = number
        if not self.deriving:
            self._ahead = None
            self.busy.emit(False)
        self.before, self._results = self._results.derived, results
        if self.selection and self.state.mark_named(self.selection) is None:
            self.selection = ""
        self.changed.emit()
        self.moved.emit(results.changes)
        while self._once_derived and not self.deriving:
            self._once_derived.popleft()()

    def _on_stopped(self, number: int, text: str) -> None:
        self._known_changes, self._ahead = number, None
        self.busy.emit(False)
        self.told.emit(text, "doubt")

    def hurry(self, who: str) -> None:
        """Show what changes in turns, what is looked at first, while somebody works with a device."""
        self._in_hurry.add(who)

    def take_time(self, who: str) -> None:
        """End that for who began it."""
        self._in_hurry.discard(who)

    @property
    def in_turns(self) -> bool:
        """Whether what changes is shown in turns: in a hurry, and in a job of many marks."""
        return bool(self._in_hurry) or len(self.state.marks) > MANY_MARKS

    def stop(self) -> None:
        """Stop a derivation under way."""
        self._owner.stop()

    def shut_down(self) -> None:
        """Keep what was handed over, stop all other work and let go of the job."""
        self._owner.close()
        QCoreApplication.sendPostedEvents(None, QEvent.Type.MetaCall.value)


def _undone(text: str, job: Job) -> None:
    """Take the gesture of a text back; what was refused meanwhile does not send undo to the one before."""
    _require_latest(text, job.undo_text)
    job.undo()


def _done_again(text: str, job: Job) -> None:
    _require_latest(text, job.redo_text)
    job.redo()


def _require_latest(text: str, latest: str) -> None:
    if text != latest:
        raise JobError(f"{text!r} was not kept, so nothing was undone", hint="Look at what is there now")
