"""The one owner of an open job: its file, its records and what follows from them, on one thread (decision
024).

Whatever reads or changes the job's file is a request to it; requests are done in the order they came, and
each is answered once the file has kept what it asked for. Between requests everything that follows from the
records is derived again. A request that changes records ends a derivation under way; one that does not (a
piece of an occupation's epochs, a raw file) is done in the midst of it."""

from __future__ import annotations

import contextlib
import math
import threading
import time
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QObject, Signal, SignalInstance

from fenwind.desk.tasks import submit
from fenwind.doubts.of_job import Findings, Judge
from fenwind.errors import FenwindError
from fenwind.job.derive import Derived, derive, solve_one
from fenwind.job.history import History
from fenwind.job.job import Job
from fenwind.job.memory import Memory
from fenwind.job.moved import Moved, moved
from fenwind.job.state import JobState
from fenwind.job.steps.outcome import Node, Outcome
from fenwind.progress import NULL_PROGRESS, Cancelled, Progress
from fenwind.records.entries import Entry

#: Where the latest derivation took less, what is looked at is not told before the rest, seconds.
SHORT_S = 0.06
Answer = Callable[[Any], object]
#: What a step of a state comes to.
Solve = Callable[[JobState, Node], Outcome]


@dataclass(frozen=True)
class Results:
    """What follows from a job's records, these as they were, and how long that took. changes: what moved
    since the results before."""

    state: JobState
    derived: Derived
    findings: Findings
    seconds: float
    changes: tuple[Moved, ...] = ()


class Deriver:
    """Derives and judges, remembering what it knows; used by one thread at a time."""

    def __init__(self, folder: str) -> None:
        self._memory, self._judge, self._folder = Memory(), Judge(), folder
        self._before: Derived | None = None

    def derive(self, state: JobState, progress: Progress = NULL_PROGRESS) -> Derived:
        """What would follow from a state that is only tried. Raises Cancelled when asked to stop."""
        return derive(state, self._memory, self._folder, progress)

    def outcome(self, state: JobState, node: Node, progress: Progress = NULL_PROGRESS) -> Outcome:
        """The outcome of one step, before all else is derived."""
        return solve_one(state, node, self._memory, self._folder, progress=progress)

    def results(self, state: JobState, progress: Progress = NULL_PROGRESS) -> Results:
        """Everything that follows from a state. Raises Cancelled when asked to stop."""
        started = time.perf_counter()
        state = state.snapshot()
        derived = derive(state, self._memory, self._folder, progress)
        progress.check()
        findings = self._judge.judge(state, derived, progress)
        for known in derived.given.values():
            known.index  # noqa: B018 (worked out here, not when the window first asks)
        changes = tuple(moves(self._before, derived)) if self._before is not None else ()
        self._before = derived
        return Results(state, derived, findings, time.perf_counter() - started, changes)


def moves(before: Derived, after: Derived) -> list[Moved]:
    """What moved, appeared or is gone, by frames that both have."""
    every = [moved(key, before.adopted[key], a) for key, a in after.adopted.items() if key in before.adopted]
    return [one for one in every if one.names or one.appeared or one.gone]


@dataclass(eq=False)
class Request:
    """act: what is done, on the job's thread; then, failed: called with what it gave or raised, on the
    window's. changes: whether it changes records; meanwhile: whether it can be done in the midst of a
    derivation; trial: whether it can wait until everything is derived. on_copy: the same change to the
    window's copy of the records, which has it already; None where the window takes a new copy once it is
    done. look_first: the step to derive before the rest."""

    act: Callable[[Job], Any]
    then: Answer | None = None
    failed: Answer | None = None
    changes: bool = False
    meanwhile: bool = False
    trial: bool = False
    on_copy: Callable[[History], object] | None = None
    look_first: Node | None = None


class JobOwner(QObject):
    """Does requests in order and derives between them. Signals come on the thread it was made in."""

    answered = Signal(object, object, object)  # request, its value or an exception, History or None
    derived = Signal(int, object)  # number of changes it knew, Results
    ahead = Signal(int, object)  # the same, Outcome of the step that is looked at, before the rest
    stopped = Signal(int, str)  # the same, and why there are no results
    progressed = Signal(int, int, str)

    def __init__(self, job: Job, deriver: Deriver, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._job, self._deriver = job, deriver
        self._waiting: deque[Request] = deque()
        self._trials: deque[Request] = deque()
        self._mutex = threading.Lock()
        self._changes = self._derived_changes = 0
        self._stop = self._closed = False
        self._look_first: Node | None = None
        self._reported_s = 0.0
        self._took_s = math.inf  # by the latest derivation
        #: Set while nothing waits and nothing is being done.
        self.idle = threading.Event()
        self.idle.set()

    def post(self, request: Request) -> None:
        """Hand over a request; it is done after all that were handed over before."""
        with self._mutex:
            (self._trials if request.trial else self._waiting).append(request)
            rests = self.idle.is_set()
            self.idle.clear()
        if rests:
            submit("job", self)

    def stop(self) -> None:
        """Stop the derivation under way, if there is one."""
        self._stop = True

    def close(self) -> None:
        """Do what waits, derive no more, and let go of the job; returns when the file is closed."""
        self.post(Request(self._let_go))
        self.idle.wait()

    def _let_go(self, job: Job) -> None:
        self._closed = True
        job.close()

    # On the job's thread
    # -------------------------------------------------------------------------------------------------------

    def run(self) -> None:
        """Do requests until none waits and everything is derived."""
        while True:
            with self._mutex:
                derived = self._closed or self._changes == self._derived_changes
                request = self._waiting.popleft() if self._waiting else None
                if request is None and derived and self._trials and not self._closed:
                    request = self._trials.popleft()
                if request is None and derived:
                    self.idle.set()
                    return
            if request is not None:
                self._do(request)
            else:
                self._derive()

    def _do(self, request: Request) -> None:
        value: Any = None
        try:
            value = request.act(self._job)
        except Exception as error:  # everything goes to the window's thread, which shows it
            value = error
        if request.changes:
            self._changes, self._look_first, self._stop = self._changes + 1, request.look_first, False
        parts = request.changes and (request.on_copy is None or isinstance(value, Exception))
        self._tell(self.answered, request, value, self._job.history.snapshot() if parts else None)

    def _derive(self) -> None:
        number, self._derived_changes = self._changes, self._changes
        try:
            self.check()
            if self._look_first is not None and self._took_s >= SHORT_S:
                self._tell(self.ahead, number, self._deriver.outcome(self._job.state, self._look_first, self))
            results = self._deriver.results(self._job.state, self)
            self._took_s = results.seconds
            self._tell(self.derived, number, results)
        except Cancelled:
            if self._stop:
                words = "Stopped: what is shown is from before the last change. Derive again with F5."
                self._tell(self.stopped, number, words)
            else:
                self._derived_changes = -1
        except Exception as error:
            self._tell(self.stopped, number, f"The results could not be derived: {error!r}.")

    def solve(self, state: JobState, node: Node) -> Outcome:
        """What a step of a state that is only tried comes to; within a request."""
        return self._deriver.outcome(state, node)

    def trial(self, entries: Sequence[Entry], job: Job) -> Derived:
        """What would follow if some entries were kept; a request."""
        state = job.state.snapshot()
        state.apply_all(entries)
        return self._deriver.derive(state, self)

    def check(self) -> None:
        """Do what can be done in the midst of a derivation; raise Cancelled where something else waits, or
        when asked to stop."""
        while self._waiting and self._waiting[0].meanwhile:
            self._do(self._waiting.popleft())
        if self._waiting or self._stop:
            raise Cancelled

    def report(self, done: int, total: int, text: str = "") -> None:
        """Tell how far a derivation is, at most 20 times a second and at its end."""
        now = time.monotonic()
        if done == total or now - self._reported_s >= 0.05:
            self._reported_s = now
            self._tell(self.progressed, done, total, text)

    @staticmethod
    def _tell(signal: SignalInstance, *values: object) -> None:
        # A window that has gone while this was at work is told nothing.
        with contextlib.suppress(RuntimeError):
            signal.emit(*values)


def failure(value: object) -> str:
    """An answer in words where it is an exception, empty where it is none."""
    if isinstance(value, FenwindError):
        return value.sentences
    return f"Nothing was kept: {value!r}." if isinstance(value, Exception) else ""
