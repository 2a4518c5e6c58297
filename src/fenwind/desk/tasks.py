"""Long work off the window's thread, with progress and cancel."""

from __future__ import annotations

import contextlib
import queue
import sys
import threading
import time
from collections.abc import Callable
from typing import Any, Literal, get_args

from PySide6.QtCore import QCoreApplication, QEvent, QObject, Signal, SignalInstance, Slot

from fenwind.progress import Cancelled, breathe, give_way_to

#: Seconds that a worker lets the window go first, at most, each time it looks.
PATIENCE_S = 0.05
#: Seconds after a piece of its work for which the window begins no other that can wait.
PAUSE_S = 0.001


class AtWork:
    """The window at work: `with AT_WORK:` around what paints or shows much. Both ask for the interpreter, and
    whoever asks waits for a turn of the other; so workers pause meanwhile where they look whether to stop."""

    def __init__(self) -> None:
        self._depth, self._ended_s = 0, 0.0

    def __enter__(self) -> None:
        self._depth += 1

    def __exit__(self, *error: object) -> None:
        self._depth -= 1
        self._ended_s = time.monotonic()

    @property
    def just_ended(self) -> bool:
        """Whether a piece of work has ended this moment: timers and painting come together in one turn of the
        event loop, and whoever clicks would wait for all of them; so what can wait does."""
        return time.monotonic() - self._ended_s < PAUSE_S

    def let_first(self) -> None:
        """Called by workers: wait while the window is at work, but not for long; never on its own thread."""
        if self._depth and threading.current_thread() is not threading.main_thread():
            until = time.monotonic() + PATIENCE_S
            while self._depth and time.monotonic() < until:
                time.sleep(0.001)


AT_WORK = AtWork()
give_way_to(AT_WORK.let_first)


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
        """Raise Cancelled when it was asked to stop; let the window go first."""
        breathe()
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


Lane = Literal["computing", "files", "devices"]


class _Worker:
    """One thread for the work of a lane, alive until the process ends.

    PROJ keeps a context for each Python thread and frees it with the thread; a pool of Qt's gives Python a
    new thread state for every run, so that objects of PROJ kept from one run to the next would hang on a
    freed context and crash.
    """

    def __init__(self, lane: Lane) -> None:
        self._lane = lane
        self._queue: queue.SimpleQueue[Task] = queue.SimpleQueue()
        self._thread: threading.Thread | None = None

    def submit(self, task: Task) -> None:
        if self._thread is None:
            # The window waits for the interpreter at most this long while a worker computes in Python.
            sys.setswitchinterval(0.00002)
            self._thread = threading.Thread(target=self._serve, name=f"fenwind-{self._lane}", daemon=True)
            self._thread.start()
        self._queue.put(task)

    def _serve(self) -> None:
        while True:
            self._queue.get().run()


#: A minute of computing never holds up a file, and a device that answers slowly holds up neither.
_workers: dict[Lane, _Worker] = {lane: _Worker(lane) for lane in get_args(Lane)}


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
        _workers[self._lane].submit(task)
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
