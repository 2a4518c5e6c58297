"""Python's cyclic garbage collection, kept on the window's thread.

Left to itself it may run in a worker and there destroy widgets that are in a reference cycle; Qt then crashes
the process. And it would look at all records of a job again and again: what is there when a job is open, and
what has lived through a long look, is set aside and not looked at until nobody works with the window.
"""

from __future__ import annotations

import gc
import time

from PySide6.QtCore import QObject, QTimer
from PySide6.QtGui import QGuiApplication

#: A look that took longer holds up the window, seconds.
LONG_S = 0.005
#: So many new objects come of records that are read or taken in; a look at them would hold up the window.
MUCH = 20_000


class Collector(QObject):
    """Turns automatic collection off while it lives, and collects from a timer on the thread it was made
    in."""

    def __init__(self, parent: QObject | None = None, interval_ms: int = 500) -> None:
        super().__init__(parent)
        self._thresholds = gc.get_threshold()
        gc.disable()
        #: Whether something was; to count what is would take as long as to look at it.
        self._aside = False
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.collect)
        self._timer.start(interval_ms)

    def collect(self) -> None:
        """Collect the generations that are due, as Python would have."""
        counts = gc.get_count()
        due = [generation for generation in range(3) if counts[generation] > self._thresholds[generation]]
        if not due:
            return
        if counts[0] > MUCH:
            self.set_aside()
            return
        if self._aside and due[-1] == 2 and _nobody_looks():
            gc.unfreeze()
            self._aside = False
        started = time.perf_counter()
        gc.collect(due[-1])
        if time.perf_counter() - started > LONG_S:
            self.set_aside()

    def set_aside(self) -> None:
        """Look no more at what there is now."""
        gc.freeze()
        self._aside = True


def _nobody_looks() -> bool:
    from PySide6.QtCore import Qt  # not in the first moments: see the shell

    return QGuiApplication.applicationState() != Qt.ApplicationState.ApplicationActive
