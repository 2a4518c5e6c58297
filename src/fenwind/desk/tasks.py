"""Long work off the window's thread, with progress and cancel."""

from __future__ import annotations

import contextlib
import queue
import sys
import threading
import time
from collections.abc import Callable
from typing import Any, Literal, Protocol, get_args

from PySide6.QtCore import QCoreApplication, QEvent, QObject, Signal, SignalInstance, Slot

from fenwind.progress import Cancelled


class TaskSignals(QObject):
    """What a task tells; received on the window's thread."""

    progressed = Signal(int, int, str)
    came = Signal(object)  # a part of the result, before the rest
    succeeded = Signal(object)
    failed = Signal(object)
    cancelled = Signal()
    finished = Signal()


class Task:
    """Runs a function with itself as `progress`; reports at most 20 times a second, the last one always."""

    def __init__(self, function: Callable[..., Any], *args: Any) -> None:
        self.signals = TaskSignals()
        self.done = threading.Event()
        self._stop = threading.Event()
        self._function, self._args = function, args
        self._last = 0.0

    def cancel(self) -> None:
        """Ask it to stop."""
        self._stop.set()

    @property
    def stopping(self) -> bool:
        """Whether it was asked to stop."""
        return self._stop.is_set()

    def check(self) -> None:
        """Raise Cancelled when it was asked to stop."""
        if self._stop.is_set():
            raise Cancelled

    def report(self, done: int, total: int, text: str = "") -> None:
        """Tell how far it is."""
        now = time.monotonic()
        if done == total or now - self._last >= 0.05:
            self._last = now
            self._tell(self.signals.progressed, done, total, text)

    def tell(self, part: object) -> None:
        """Tell a part of the result before the rest."""
        self._tell(self.signals.came, part)

    def run(self) -> None:
        """Do it; called by the worker."""
        try:
            self.check()
            result = self._function(*self._args, progress=self)
        except Cancelled:
            self._tell(self.signals.cancelled)
        except Exception as error:  # everything goes back to the window's thread, which shows it
            self._tell(self.signals.failed, error)
        else:
            self._tell(self.signals.succeeded, result)
        finally:
            self._tell(self.signals.finished)
            self.done.set()

    @staticmethod
    def _tell(signal: SignalInstance, *values: object) -> None:
        # A window that has gone while this was at work is told nothing.
        with contextlib.suppress(RuntimeError):
            signal.emit(*values)


Lane = Literal["job", "computing", "files", "devices"]


class Runnable(Protocol):
    """What a lane does."""

    def run(self) -> None:
        """Do it."""


class _Worker:
    """One thread for the work of a lane, alive until the process ends.

    PROJ keeps a context for each Python thread and frees it with the thread; a pool of Qt's gives Python a
    new thread state for every run, so that objects of PROJ kept from one run to the next would hang on a
    freed context and crash.
    """

    def __init__(self, lane: Lane) -> None:
        self._lane = lane
        self._queue: queue.SimpleQueue[Runnable] = queue.SimpleQueue()
        self._thread: threading.Thread | None = None

    def submit(self, task: Runnable) -> None:
        if self._thread is None:
            # The window waits for the interpreter at most this long while a worker computes in Python.
            sys.setswitchinterval(0.00002)
            self._thread = threading.Thread(target=self._serve, name=f"fenwind-{self._lane}", daemon=True)
            self._thread.start()
        self._queue.put(task)

    def _serve(self) -> None:
        while True:
            self._queue.get().run()


#: A minute of computing never holds up the job or a file, and a device that answers slowly holds up none.
_workers: dict[Lane, _Worker] = {lane: _Worker(lane) for lane in get_args(Lane)}


def submit(lane: Lane, work: Runnable) -> None:
    """Hand work to the thread of a lane."""
    _workers[lane].submit(work)


class TaskRunner(QObject):
    """Hands tasks to the worker of a lane, one after the other, and keeps them alive until they have
    finished."""

    def __init__(self, parent: QObject | None = None, lane: Lane = "computing") -> None:
        super().__init__(parent)
        self._lane: Lane = lane
        self._ended = False
        self.live: list[Task] = []

    def start(self, task: Task) -> Task:
        """Queue a task; not any more once it was shut down."""
        if self._ended:
            return task
        self.live.append(task)
        task.signals.finished.connect(self._on_finished)
        submit(self._lane, task)
        return task

    @Slot()
    def _on_finished(self) -> None:
        sender = self.sender()
        self.live = [task for task in self.live if task.signals is not sender]

    def shut_down(self) -> None:
        """Cancel all, wait for them, and take what they have told still: whoever listens may be gone
        afterwards."""
        self._ended = True
        for task in self.live:
            task.cancel()
        for task in self.live:
            task.done.wait(10.0)
        QCoreApplication.sendPostedEvents(None, QEvent.Type.MetaCall.value)
