"""A day of base and rover through the window: whether it keeps up at twenty times real time with the rover
at 5 Hz, how long the window stands still at most, what memory does, and how soon a sentence is a figure on
screen.

python -m bench.day --hours 8 runs the whole day (25 minutes); six minutes stand for it else. --already 500
begins with as many occupations of the demo's marks.
"""

from __future__ import annotations

import argparse
import os
import socket
import subprocess
import sys
import tempfile
import time
from array import array
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from bench.opened import Opened
from bench.timing import say

RATE_HZ, MARKS = 5, ("P-01", "P-02", "P-03", "S-01", "S-02")


def _resident_mb() -> float:
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE") / 1e6


#: Sleeps 2 ms at a time in a process of its own, and writes down when it was not woken for over 5 ms: the
#: window could not run then either.
_WATCH = """
import time
at = time.perf_counter()
while True:
    time.sleep(0.002)
    now = time.perf_counter()
    if now - at > 0.007:
        print(at + 0.002, now, flush=True)
    at = now
"""


class Watch:
    """When the machine itself stood still."""

    def __init__(self) -> None:
        self._process = subprocess.Popen([sys.executable, "-c", _WATCH], stdout=subprocess.PIPE, text=True)

    def off(self, spans: list[tuple[float, float]]) -> list[float]:
        """Lengths of spans, less the time in them for which the machine stood still. Ends the watch."""
        self._process.terminate()
        lines = self._process.communicate()[0].splitlines()
        still = np.array([[float(v) for v in line.split()] for line in lines]).reshape(-1, 2)
        return [
            b - a - float(np.maximum(np.minimum(still[:, 1], b) - np.maximum(still[:, 0], a), 0.0).sum())
            for a, b in spans
        ]


class Day(Opened):
    """The desk with the demo, stand-in receivers in a process of their own, and a clock that looks at the
    window."""

    def __init__(self) -> None:
        from PySide6.QtCore import QTimer

        super().__init__("Sessions")
        self.last, self.gaps = time.perf_counter(), array("d", (0.0, 0.0))
        self.clock = QTimer()
        self.clock.setInterval(2)
        self.clock.timeout.connect(self._look)

    def _look(self) -> None:
        now = time.perf_counter()
        self.gaps.extend((self.last, now))
        self.last = now

    def fill(self, count: int) -> None:
        """Occupations as there are in the demo, again and again."""
        from fenwind.records.entries import Add, Gesture
        from fenwind.records.sessions import Occupation

        bridge = self.w.bridge
        made = [o for o in bridge.state.of(Occupation).values() if o.finished and o.active]
        more = [replace(made[k % len(made)], id=f"again {k}") for k in range(count)]
        bridge.do(Gesture("again", tuple(Add(record=one) for one in more)))
        self.until(lambda: not bridge.deriving)

    def run(self, hours: float, speed: int) -> None:
        """Marks measured one after another, a minute each, while time runs."""
        panel, devices, rover = self.page.standins, self.page.devices, self.page.rover
        panel.open()
        panel.base_mark.setCurrentText("T-02")
        panel.speed.setValue(speed)
        panel.start.click()
        self.until(lambda: panel.ports)
        self.w.bridge.select("T-02")
        self.w.actions.run("sessions.start")
        self.page.start.statement.parts["height"].click()
        self.page.ask.edit.setText("1.5 vertical")
        self.page.ask.ok.click()
        self.page.start.start.click()
        self.until(self.page.start.isHidden)
        rover.listen.click()
        panel.say("rover", do="rate", hz=RATE_HZ)
        self.until(lambda: devices.epoch is not None)
        watch = Watch()
        begin, first, memory, turn = time.perf_counter(), devices.epoch.time, [], 0
        self.clock.start()
        self.last = time.perf_counter()

        def gone() -> float:
            return float((devices.epoch.time - first).total_seconds())

        while gone() < hours * 3600.0:
            name, turn = MARKS[turn % len(MARKS)], turn + 1
            panel.say("rover", do="go", mark=name)
            at = gone()
            self.until(lambda at=at: gone() > at + 30.0 and devices.epoch.solution == "fixed")
            self.w.bridge.select(name)
            looks = len(self.gaps)
            self.until(lambda looks=looks: len(self.gaps) > looks)  # nobody clicks twice at once
            rover.measure.click()
            self.until(lambda: devices.measuring is None)
            memory.append((gone(), _resident_mb()))
        taken = time.perf_counter() - begin
        self.clock.stop()
        spans = [(self.gaps[k], self.gaps[k + 1]) for k in range(0, len(self.gaps), 2)]
        wall = max(b - a for a, b in spans)
        gaps = sorted(watch.off(spans))
        print(f"{gone() / 3600.0:.2f} h in {taken:.0f} s, {turn} marks, {devices.heard.sentences} sentences")
        say(f"real time over simulated time, 1/{speed}", taken * speed / gone(), 1.05, "x")
        print(f"window still: half of all looks {gaps[len(gaps) // 2] * 1e3:.1f} ms, "
              f"999 of 1,000 {gaps[int(len(gaps) * 0.999)] * 1e3:.1f} ms")  # fmt: skip
        over = sum(gap > 0.05 for gap in gaps)
        print(f"over 50 ms: {over} times; by the clock on the wall at most {wall * 1e3:.0f} ms")
        say("window stands still at most, when the machine did not", gaps[-1] * 1000.0, 50.0, "ms")
        half = [m for at, m in memory if at > gone() / 2.0]
        print(f"memory {memory[0][1]:.0f} MB after a mark, {half[0]:.0f} halfway, {half[-1]:.0f} at the end")
        rover.listen.click()
        panel.stop()

    def on_screen(self) -> None:
        """From a sentence sent by a receiver until its figure is painted."""
        from fenwind.standins.receivers import Simulation
        from fenwind.standins.world import world_of

        marks = [{"name": n, "lat": 61.3 + k, "lon": 8.4, "h": 1240.0} for n, k in (("A", 0.0), ("B", 0.01))]
        world = world_of({"marks": marks, "base": {"mark": "A"}, "rover": {"mark": "B"}})
        simulation = Simulation(world, 1, datetime(2026, 6, 9, 8, tzinfo=UTC))
        server = socket.create_server(("127.0.0.1", 0))
        self.page.devices.set_equipment(rover=f"127.0.0.1:{server.getsockname()[1]}", corrections="")
        self.page.rover.listen.click()
        client, _ = server.accept()
        heard, taken = self.page.rover.figures["heard"], []
        for _ in range(60):
            data = b""
            while not data:
                data = simulation.run_tick().get("rover", b"")
            before, begin = heard.text(), time.perf_counter()
            client.sendall(data)
            self.until(lambda before=before: heard.text() != before)
            self.app.processEvents()  # what changed is painted
            taken.append(time.perf_counter() - begin)
        self.page.rover.listen.click()
        first, *rest = taken
        taken = sorted(rest)
        print(
            f"from sentence to screen: half of all {taken[30] * 1e3:.1f} ms; the first, with the link "
            f"opened, {first * 1e3:.0f} ms"
        )
        say("from sentence to screen at most", taken[-1] * 1000.0, 100.0, "ms")


def main() -> None:
    """Run both."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--hours", type=float, default=0.1)
    parser.add_argument("--already", type=int, default=0)
    parser.add_argument("--speed", type=int, default=20)
    options = parser.parse_args(sys.argv[1:])
    with tempfile.TemporaryDirectory() as home:
        os.environ["FENWIND_HOME"] = home
        day = Day()
        day.on_screen()
        if options.already:
            day.fill(options.already)
        day.run(options.hours, options.speed)


if __name__ == "__main__":
    main()
