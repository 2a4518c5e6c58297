"""The one bridge between a job and the widgets: it makes gestures, derives again, and tells everybody what
changed."""

from __future__ import annotations

import math
import os
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial

from PySide6.QtCore import QCoreApplication, QEvent, QObject, QTimer, Signal

from fenwind.desk.tasks import AT_WORK, Task, TaskRunner
from fenwind.doubts.of_job import Findings, Judge
from fenwind.doubts.registry import Doubt, Remedy
from fenwind.doubts.settling import accept, settle
from fenwind.errors import FenwindError
from fenwind.geodesy.axes import ShownAxis, shown_axes
from fenwind.geodesy.frames import axes_of
from fenwind.job.checksums import EntryRow
from fenwind.job.derive import Derived, derive, solve_one
from fenwind.job.job import Job, Kept
from fenwind.job.memory import Memory
from fenwind.job.moved import Moved, moved
from fenwind.job.state import JobState
from fenwind.job.steps.outcome import Node, Outcome
from fenwind.progress import NULL_PROGRESS, Progress
from fenwind.quantities.angles import AngleStyle
from fenwind.quantities.lengths import METRE, UNITS, LengthUnit
from fenwind.records.entries import Entry, Gesture
from fenwind.records.network import ObservationSet
from fenwind.records.records import FitStep, FrameRecord, Mark

#: Derivations that took longer than this go to a worker from then on, seconds.
LONG_S = 0.12
#: With more marks, or more observations in one network, the first change already goes to a worker.
MANY_MARKS, MANY_OBSERVATIONS = 5000, 2000


@dataclass(frozen=True)
class Results:
    """What follows from a job's records, these as they were, and how long that took."""

    state: JobState
    derived: Derived
    findings: Findings
    seconds: float


def _takes_long(state: JobState) -> bool:
    most = max((len(one.kind) for one in state.of(ObservationSet).values()), default=0)
    return len(state.marks) > MANY_MARKS or most > MANY_OBSERVATIONS


class Thinker:
    """Derives and judges, remembering what it knows; used by one thread at a time."""

    def __init__(self, folder: str) -> None:
        self._memory, self._judge, self._folder = Memory(), Judge(), folder

    def derive(self, state: JobState) -> Derived:
        """What would follow from a state that is only tried."""
        return derive(state, self._memory, self._folder)

    def outcome(self, state: JobState, node: Node, progress: Progress = NULL_PROGRESS) -> Outcome:
        """That of one step, before all else is derived."""
        return solve_one(state, node, self._memory, self._folder, progress=progress)

    def think(self, state: JobState, progress: Progress = NULL_PROGRESS) -> Results:
        """Everything that follows from a state. Raises Cancelled when asked to stop."""
        started = time.perf_counter()
        derived = derive(state, self._memory, self._folder, progress)
        progress.check()
        findings = self._judge.judge(state, derived, progress)
        return Results(state, derived, findings, time.perf_counter() - started)


class JobBridge(QObject):
    """Holds the open job, what follows from it, and the one selection."""

    changed = Signal()
    selected = Signal(str)  # name of the mark, empty for none
    told = Signal(str, str)  # text, tone: "" or "doubt"
    moved = Signal(object)  # list of Moved, after a change
    stage_requested = Signal(str)
    came_ahead = Signal()  # what is looked at is there, before the rest
    busy = Signal(bool)
    progressed = Signal(int, int, str)

    def __init__(
        self,
        job: Job,
        parent: QObject | None = None,
        thinker: Thinker | None = None,
        results: Results | None = None,
    ) -> None:
        """`results` of `thinker`, where a worker has them already."""
        super().__init__(parent)
        self.job = job
        self._thinker, self._aside = thinker or Thinker(self.folder), Thinker(self.folder)
        results = results or self._thinker.think(job.state)
        # The first time also opens systems and grids, so it says little about the next.
        self._results = replace(results, seconds=math.inf if _takes_long(job.state) else 0.0)
        self._runner, self._files = TaskRunner(self), TaskRunner(self, "files")
        self._keeping: Task | None = None  # the long gesture that is on its way into the file
        self._task: Task | None = None
        self._revision = 0
        self._ahead: Outcome | None = None
        #: The step that is looked at, of which a worker tells before it goes on with the rest.
        self.looked_at: Callable[[], Node | None] = lambda: None
        #: The occupation that a device is at; that it is not finished is nothing to doubt.
        self.under_way: Callable[[], str] = lambda: ""
        self.long_s = LONG_S
        self._in_hurry: dict[str, bool] = {}  # who, and whether everything is derived apart
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
        """Records as they stand."""
        return self.job.state

    @property
    def seen(self) -> JobState:
        """Records as they were when what is shown followed from them: while a worker derives, the job is
        ahead of its results, and names in one are not those in the other."""
        return self._results.state

    @property
    def revision(self) -> int:
        """A number that grows with every change of the job."""
        return self._revision

    @property
    def deriving(self) -> bool:
        """Whether results are on their way that will take the place of those shown."""
        return self._task is not None

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
            with AT_WORK:
                self.selected.emit(name)

    def do(self, gesture: Gesture, early: Callable[[], object] | None = None) -> bool:
        """Keep a gesture; False when the file refused, which is said. early: called when it is kept, before
        anything follows from it."""
        what, entries = gesture
        return self._try(lambda: self.job.record(what, entries), early) if entries else True

    def outcome_of(self, node: Node) -> Outcome | None:
        """What a step comes to now, before all else is derived; None while a worker derives, and where it
        may take long."""
        soon = self._task is None and self.derive_seconds < LONG_S
        return self._thinker.outcome(self.state, node) if soon else None

    def keep_long(self, gesture: Gesture, rows: Sequence[EntryRow], then: Callable[[], object]) -> None:
        """Keep a gesture of many entries in the lane of files and call `then` once it is kept. rows: its
        entries as a worker has written them out. Other gestures wait until then."""
        self._wait_until_kept()
        task = Task(lambda progress: self.job.record_apart(gesture, rows))
        task.signals.succeeded.connect(lambda kept: self._on_kept(kept, then))
        task.signals.failed.connect(self._on_not_kept)
        self._keeping = task
        self._files.start(task)
        self.busy.emit(True)

    def _wait_until_kept(self) -> None:
        """Wait for the long gesture on its way into the file: what comes next stands on it."""
        if self._keeping is not None:
            self._keeping.done.wait()
            QCoreApplication.sendPostedEvents(None, QEvent.Type.MetaCall.value)

    def copy_job(self, path: str) -> None:
        """Copy the job to a new file, with everything kept. Raises JobError."""
        self._wait_until_kept()
        self.job.copy_to(path)

    def _on_kept(self, kept: Kept, then: Callable[[], object]) -> None:
        self._keeping = None
        self.job.accept(kept)
        self._revision, self._ahead = self._revision + 1, None
        if self._task is None:
            self._start()

        def shown() -> None:
            with AT_WORK:
                then()

        QTimer.singleShot(0, self, shown)  # what arrives meanwhile has its turn first

    def _on_not_kept(self, error: Exception) -> None:
        self._keeping = None
        self.busy.emit(False)
        if isinstance(error, FenwindError):
            self.tell_error(error)
        else:
            self.told.emit(f"Nothing was kept: {error!r}.", "doubt")

    def attempt(self, make: Callable[[], Gesture], early: Callable[[], object] | None = None) -> bool:
        """Make a gesture and keep it; an error in making it is said in place. early: see `do`."""
        try:
            gesture = make()
        except FenwindError as error:
            self.tell_error(error)
            return False
        return self.do(gesture, early)

    def undo(self) -> None:
        """Take the latest gesture back."""
        self._wait_until_kept()
        text = self.job.undo_text
        if text and self._try(self.job.undo):
            self.told.emit(f"Undone: {text}", "")

    def redo(self) -> None:
        """Do the gesture undone last again."""
        self._wait_until_kept()
        text = self.job.redo_text
        if text and self._try(self.job.redo):
            self.told.emit(f"Done again: {text}", "")

    def settle(self, doubt: Doubt, remedy: Remedy) -> bool:
        """Carry out a remedy."""
        return self.attempt(lambda: settle(self.state, doubt, remedy))

    def accept(self, doubt: Doubt, reason: str) -> bool:
        """Accept a doubt for a reason."""
        return self.attempt(lambda: accept(doubt, reason, self.state.info.surveyor))

    def tell_error(self, error: FenwindError) -> None:
        """Say an error in the line for messages."""
        self.told.emit(error.sentences, "doubt")

    def _try(self, act: Callable[[], object], early: Callable[[], object] | None = None) -> bool:
        self._wait_until_kept()
        if self._results.state is self.state and self.derive_seconds >= self.long_s:
            # A worker will derive: the results shown meanwhile belong to the records before this gesture.
            self._results = replace(self._results, state=self.state.snapshot())
        try:
            act()
        except FenwindError as error:
            self.tell_error(error)
            return False
        if early is not None:
            early()
        self.rederive()
        return True

    def what_if(self, entries: Sequence[Entry]) -> Derived | None:
        """What would follow if some entries were kept; None where that would take long."""
        if self.derive_seconds > max(self.long_s, LONG_S) or not entries:
            return None
        state = self.state.snapshot()
        for entry in entries:
            state.apply(entry)
        return self.derive_trial(state)

    def derive_trial(self, state: JobState) -> Derived:
        """What would follow from a state that is only tried."""
        return self._free_thinker.derive(state)

    def outcome_in(self, state: JobState, node: Node) -> Outcome:
        """What one step of a state that is only tried comes to."""
        return self._free_thinker.outcome(state, node)

    @property
    def _free_thinker(self) -> Thinker:
        # What a worker remembers is its own while it derives.
        return self._thinker if self._task is None else self._aside

    def rederive(self) -> None:
        """Derive again and tell what moved; in a worker when the last time was long."""
        self._revision, self._ahead = self._revision + 1, None
        if self._task is not None:
            return  # it starts again when it is done, since the job is another by then
        if self.derive_seconds < self.long_s:
            self._attach(self._thinker.think(self.state))
        else:
            self._start()

    def _start(self) -> None:
        before, revision = self._results.derived, self._revision
        task = Task(partial(_thought, self._thinker, before, self.looked_at()), self.state.snapshot())
        task.signals.came.connect(lambda outcome: self._on_ahead(revision, outcome))
        task.signals.succeeded.connect(lambda found: self._on_results(revision, *found))
        task.signals.failed.connect(
            lambda error: self._on_stopped(f"The results could not be derived: {error!r}.")
        )
        task.signals.cancelled.connect(
            lambda: self._on_stopped(
                "Stopped: what is shown is from before the last change. Derive again with F5."
            )
        )
        task.signals.progressed.connect(self.progressed)
        self._task = self._runner.start(task)
        self.busy.emit(True)

    def _on_ahead(self, revision: int, outcome: Outcome) -> None:
        if revision == self._revision:
            self._ahead = outcome
            with AT_WORK:
                self.came_ahead.emit()

    def ahead_of(self, node: Node | None) -> Outcome | None:
        """What a step comes to now, where that is known before the rest."""
        return self._ahead if self._ahead is not None and self._ahead.node == node else None

    def _on_results(self, revision: int, results: Results, changes: list[Moved]) -> None:
        self._task, self._ahead = None, None
        if revision != self._revision:
            self._start()
            return
        self.busy.emit(False)
        self._attach(results, changes)

    def _on_stopped(self, text: str) -> None:
        self._task, self._ahead = None, None
        self.busy.emit(False)
        self.told.emit(text, "doubt")

    def hurry(self, who: str, *, derive_apart: bool = False) -> None:
        """Show what changes in turns, what is looked at first, while somebody works with a device; with
        derive_apart every derivation goes to a worker."""
        self._in_hurry[who] = derive_apart
        if derive_apart:
            self.long_s = 0.0

    def take_time(self, who: str) -> None:
        """End that for who began it."""
        if self._in_hurry.pop(who, False) and not any(self._in_hurry.values()):
            self.long_s = LONG_S

    @property
    def in_turns(self) -> bool:
        """Whether what changes is shown in turns: in a hurry, and in a job of many marks."""
        return bool(self._in_hurry) or len(self.state.marks) > MANY_MARKS

    def stop(self) -> None:
        """Stop a derivation under way."""
        if self._task is not None:
            self._task.cancel()

    def shut_down(self) -> None:
        """Stop all work and let go of the job."""
        self._runner.shut_down()
        self._files.shut_down()
        self.job.close()

    def _attach(self, results: Results, changes: list[Moved] | None = None) -> None:
        """Show results; changes: what moved, where a worker has found that out."""
        before, self._results = self._results.derived, results
        self.before = before
        if self.selection and self.state.mark_named(self.selection) is None:
            self.selection = ""
        changes = moves(before, self.derived) if changes is None else changes
        self.changed.emit()
        self.moved.emit(changes)


def _thought(
    thinker: Thinker, before: Derived, first: Node | None, state: JobState, *, progress: Task
) -> tuple[Results, list[Moved]]:
    """In a worker: the results of a state, and what moved; first: the step that is told of before the
    rest."""
    if first is not None:
        progress.tell(thinker.outcome(state, first, progress))
    results = thinker.think(state, progress=progress)
    for known in results.derived.given.values():
        known.index  # noqa: B018 (worked out here, not when the window first asks)
    return results, moves(before, results.derived)


def moves(before: Derived, after: Derived) -> list[Moved]:
    """What moved, appeared or is gone, by frames that both have."""
    every = [moved(key, before.adopted[key], a) for key, a in after.adopted.items() if key in before.adopted]
    return [one for one in every if one.names or one.appeared or one.gone]
