"""Python's cyclic garbage collection, kept on the window's thread.

Left to itself it may run in a worker and there destroy widgets that are in a reference cycle; Qt then crashes
the process.
"""

from __future__ import annotations

import gc

from PySide6.QtCore import QObject, QTimer


class Collector(QObject):
    """Turns automatic collection off while it lives, and collects from a timer on the thread it was made
    in."""

    def __init__(self, parent: QObject | None = None, interval_ms: int = 2000) -> None:
        super().__init__(parent)
        self._thresholds = gc.get_threshold()
        gc.disable()
        self._timer = QTimer(self)
        self._timer.timeout.connect(self.collect)
        self._timer.start(interval_ms)

    def collect(self) -> None:
        """Collect the generations that are due, as Python would have."""
        counts = gc.get_count()
        due = [generation for generation in range(3) if counts[generation] > self._thresholds[generation]]
        if due:
            gc.collect(due[-1])
