"""A stand-in total station through the window: from a reading until what it leaves over is painted."""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Callable
from typing import Any

from bench.timing import say

TARGETS, TIMES = ("T-04", "T-08", "T-09"), 8


class Station:
    """The desk with the demo, the instrument set up over P-12."""

    def __init__(self) -> None:
        from PySide6.QtCore import QSettings, Qt
        from PySide6.QtWidgets import QApplication

        from fenwind.desk.launch import Launch, parse_arguments
        from fenwind.desk.theme import apply_theme
        from fenwind.records.entries import Gesture, amend

        self.app = QApplication([])
        apply_theme(self.app)
        settings = QSettings(f"{os.environ['FENWIND_HOME']}/s.ini", QSettings.Format.IniFormat)
        self.launch = Launch(parse_arguments([]), settings)
        self.launch.shell.resize(1280, 800)
        self.launch.shell.show()
        self.until(lambda: self.launch.workspace is not None)
        self.w: Any = self.launch.workspace
        self.w.show_stage("Setups")
        self.page = self.w.pages["Setups"].setups
        bridge = self.w.bridge
        bridge.do(Gesture("show the map", (amend(bridge.state.info, frame="map"),)))
        self.panel, self.live, self.standin = self.page.instrument, self.page.live, self.page.standin
        self.w.actions.run("setups.standin")
        self.standin.stands.setCurrentText("P-12")
        self.standin.start.click()
        self.until(lambda: self.live.state is not None and not self.live.doing)
        self.panel.buttons["begin"].click()
        self.page.ask.edit.setText("St-9, 1.6")
        self.page.ask.ok.click()
        self.came: list[float] = []
        self.live.read.connect(
            lambda _: self.came.append(time.perf_counter()), Qt.ConnectionType.DirectConnection
        )

    def until(self, true: Callable[[], object], seconds: float = 30.0) -> None:
        """Serve the window until something holds."""
        from PySide6.QtCore import QEventLoop, QTimer

        end = time.monotonic() + seconds
        while not true():
            if time.monotonic() > end:
                raise TimeoutError(self.w.line.text())
            loop = QEventLoop()
            QTimer.singleShot(1, loop.quit)
            loop.exec()

    def sight(self, name: str) -> float:
        """Seconds from a reading of a known mark until what it leaves over stands on the screen."""
        there: list[bool] = []
        self.standin.say("station", then=lambda: there.append(True), do="go", mark=name)
        self.until(lambda: there)
        self.panel._name(name)
        self.panel.buttons["find"].click()
        self.until(lambda: not self.live.doing)
        self.panel.buttons["measure"].click()
        result = self.panel.result
        self.until(lambda: result.text().startswith((f"{name} leaves over", "Kept. ")))
        result.repaint()
        taken = time.perf_counter() - self.came[-1]
        self.until(lambda: not self.live.doing)
        return taken


def main() -> None:
    """Measure."""
    with tempfile.TemporaryDirectory() as home:
        os.environ["FENWIND_HOME"] = home
        station = Station()
        taken = [station.sight(name) for _ in range(TIMES) for name in TARGETS]
        taken = sorted(taken[len(TARGETS) :])  # the first do not place it yet
        print(f"{len(taken)} readings, half of all {taken[len(taken) // 2] * 1e3:.0f} ms")
        say("from a reading to its residuals on screen at most", taken[-1] * 1e3, 100.0, "ms")
        station.standin.stop()
        station.launch.shell.close()


if __name__ == "__main__":
    main()
