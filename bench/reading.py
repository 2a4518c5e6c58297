"""A stand-in total station through the window: from a reading until what it leaves over is painted."""

from __future__ import annotations

import os
import tempfile
import time
from typing import Any

from bench.opened import Opened
from bench.timing import say

TARGETS, TIMES = ("T-04", "T-08", "T-09"), 8


class Station(Opened):
    """The desk with the demo, the instrument set up over P-12."""

    def __init__(self) -> None:
        from PySide6.QtCore import Qt

        from fenwind.records.entries import Gesture, amend

        super().__init__("Setups")
        self.page = self.page.setups
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
        self.painted: list[tuple[float, str]] = []
        self.panel.result.installEventFilter(self._watch())
        self.live.read.connect(
            lambda _: self.came.append(time.perf_counter()), Qt.ConnectionType.DirectConnection
        )

    def _watch(self) -> Any:
        """Notes when the label is painted, and with what."""
        from PySide6.QtCore import QEvent, QObject

        painted, label = self.painted, self.panel.result

        class Watch(QObject):
            def eventFilter(self, _: QObject, event: QEvent) -> bool:
                if event.type() == QEvent.Type.Paint:
                    painted.append((time.perf_counter(), label.text()))
                return False

        self.watch = Watch()
        return self.watch

    def sight(self, name: str) -> float:
        """Seconds from a reading of a known mark until what it leaves over stands on the screen."""
        there: list[bool] = []
        self.standin.say("station", then=lambda: there.append(True), do="go", mark=name)
        self.until(lambda: there)
        self.panel._name(name)
        self.panel.buttons["find"].click()
        self.until(lambda: not self.live.doing)
        self.painted.clear()
        count, told = len(self.came), (f"{name} leaves over", "Kept. ")
        self.panel.buttons["measure"].click()
        self.until(lambda: len(self.came) > count and any(t.startswith(told) for _, t in self.painted))
        self.until(lambda: not self.live.doing)
        came = self.came[-1]
        return next(at for at, text in self.painted if at > came and text.startswith(told)) - came


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
