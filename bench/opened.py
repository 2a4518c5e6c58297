"""The desk with the demo job open, for benchmarks that work through the window."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from typing import Any


class Opened:
    """The window at 1280 x 800 on one of its stages; FENWIND_HOME says where the job lies. w: the workspace,
    page: that of the stage."""

    def __init__(self, stage: str) -> None:
        from PySide6.QtCore import QSettings
        from PySide6.QtWidgets import QApplication

        from fenwind.desk.launch import Launch, parse_arguments
        from fenwind.desk.theme import apply_theme

        self.app = QApplication([])
        apply_theme(self.app)
        settings = QSettings(f"{os.environ['FENWIND_HOME']}/s.ini", QSettings.Format.IniFormat)
        self.launch = Launch(parse_arguments([]), settings)
        self.launch.shell.resize(1280, 800)
        self.launch.shell.show()
        self.until(lambda: self.launch.workspace is not None)
        self.w: Any = self.launch.workspace
        self.w.show_stage(stage)
        self.page = self.w.pages[stage]

    def until(self, true: Callable[[], object], seconds: float = 60.0) -> None:
        """Serve the window until something holds."""
        from PySide6.QtCore import QEventLoop, QTimer

        end = time.monotonic() + seconds
        loop, looks = QEventLoop(), QTimer()  # one of each: a day looks half a million times
        looks.timeout.connect(loop.quit)
        looks.start(2)
        while not true():
            if time.monotonic() > end:
                raise TimeoutError(self.w.line.text())
            loop.exec()
