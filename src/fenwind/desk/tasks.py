"""Long work off the window's thread, with progress and cancel."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QRunnable, QThreadPool, Signal, Slot

from fenwind.progress import Cancelled


class TaskSignals(QObject):
    """What a task tells; received on the window's thread."""

    progressed = Signal(int, int, str)
    succeeded = Signal(object)
    failed = Signal(object)
    cancelled = Signal()
    finished = Signal()


class Task(QRunnable):
    """Runs a function with itself as `progress`; reports at most 20 times a second, the last one always."""

    def __init__(self, function: Callable[..., Any], *args: Any) -> None:
        super().__init__()
        self.setAutoDelete(False)
        self.signals = TaskSignals()
        self._stop = threading.Event()
        self._function, self._args = function, args
        self._last = 0.0

    def cancel(self) -> None:
        """Ask it to stop."""
        self._stop.set()

    def check(self) -> None:
        """Raise Cancelled when it was asked to stop."""
        if self._stop.is_set():
            raise Cancelled

    def report(self, done: int, total: int, text: str = "") -> None:
        """Tell how far it is."""
        now = time.monotonic()
        if done == total or now - self._last >= 0.05:
            self._last = now
            self.signals.progressed.emit(done, total, text)

    def run(self) -> None:
        try:
            result = self._function(*self._args, progress=self)
        except Cancelled:
            self.signals.cancelled.emit()
        except Exception as error:  # everything goes back to the window's thread, which shows it
            self.signals.failed.emit(error)
        else:
            self.signals.succeeded.emit(result)
        finally:
            self.signals.finished.emit()


class TaskRunner(QObject):
    """Runs tasks one after the other and keeps them alive until they have finished."""

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)
        self.live: list[Task] = []

    def start(self, task: Task) -> Task:
        """Queue a task."""
        self.live.append(task)
        task.signals.finished.connect(self._on_finished)
        self._pool.start(task)
        return task

    @Slot()
    def _on_finished(self) -> None:
        sender = self.sender()
        self.live = [task for task in self.live if task.signals is not sender]

    def shut_down(self) -> None:
        """Cancel all and wait for them."""
        for task in self.live:
            task.cancel()
        self._pool.waitForDone(10_000)
