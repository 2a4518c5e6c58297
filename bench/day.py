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
from numpy.typing import NDArray

from bench.opened import Opened
from bench.timing import say

RATE_HZ, MARKS = 5, ("P-01", "P-02", "P-03", "S-01", "S-02")


def _resident_mb() -> float:
    pages = int(Path("/proc/self/statm").read_text().split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE") / 1e6


#: Sleeps 1 ms at a time on a processor, before all others where it may, and writes down when it was woken
#: over 1 ms late: the machine had given that processor away, and what ran on it stood still: the window, or
#: what it waited for.
_WATCH = """
import contextlib, os, sys, time
os.sched_setaffinity(0, {int(sys.argv[1])})
with contextlib.suppress(PermissionError):
    os.sched_setscheduler(0, os.SCHED_FIFO, os.sched_param(1))
at = time.perf_counter()
while True:
    time.sleep(0.001)
    now = time.perf_counter()
    if now - at > 0.002:
        print(at + 0.001, now, flush=True)  # to a file: a pipe that nobody reads is full after some hours
    at = now
"""


class Watch:
    """When a processor itself stood still."""

    def __init__(self, processor: int) -> None:
        self._file = tempfile.TemporaryFile("w+")  # noqa: SIM115 (closed by end)
        self._process = subprocess.Popen([sys.executable, "-c", _WATCH, str(processor)], stdout=self._file)

    def end(self) -> NDArray[np.float64]:
        """Begin and end (k, 2) of each time it did."""
        self._process.terminate()
        self._process.wait()
        self._file.seek(0)
        lines = (line.split() for line in self._file if line.endswith("\n"))
        still = np.array([[float(v) for v in line] for line in lines]).reshape(-1, 2)
        self._file.close()
        return still


def joined(spans: NDArray[np.float64]) -> NDArray[np.float64]:
    """Begin and end (k, 2) of all the time that lies in any of some spans."""
    out: list[list[float]] = []
    for begin, end in sorted(spans.tolist()):
        if out and begin <= out[-1][1]:
            out[-1][1] = max(out[-1][1], end)
        else:
            out.append([begin, end])
    return np.array(out).reshape(-1, 2)


def within(spans: NDArray[np.float64], begin: float, end: float) -> float:
    """How much of begin to end lies in spans (k, 2)."""
    return float(np.maximum(np.minimum(spans[:, 1], end) - np.maximum(spans[:, 0], begin), 0.0).sum())


class Day(Opened):
    """The desk with the demo, stand-in receivers in a process of their own, and a clock that looks at the
    window."""

    def __init__(self) -> None:
        from PySide6.QtCore import QTimer

        super().__init__("Sessions")
        self.looks = array("d")  # of each time between two: begin, end, and how long the window worked
        self.last = self._now()
        self.clock = QTimer()
        self.clock.setInterval(2)
        self.clock.timeout.connect(self._look)

    @staticmethod
    def _now() -> tuple[float, float]:
        return time.perf_counter(), time.thread_time()

    def _look(self) -> None:
        now = self._now()
        self.looks.extend((self.last[0], now[0], now[1] - self.last[1]))
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
        watches = [Watch(k) for k in os.sched_getaffinity(0)]
        begin, first, memory, turn = time.perf_counter(), devices.epoch.time, [], 0
        self.clock.start()
        self.last = self._now()

        def gone() -> float:
            return float((devices.epoch.time - first).total_seconds())

        while gone() < hours * 3600.0:
            name, turn = MARKS[turn % len(MARKS)], turn + 1
            panel.say("rover", do="go", mark=name)
            at = gone()
            self.until(lambda at=at: gone() > at + 30.0 and devices.epoch.solution == "fixed")
            self.w.bridge.select(name)
            looks = len(self.looks)
            self.until(lambda looks=looks: len(self.looks) > looks)  # nobody clicks twice at once
            rover.measure.click()
            self.until(lambda: devices.measuring is None)
            memory.append((gone(), _resident_mb()))
        taken = time.perf_counter() - begin
        self.clock.stop()
        begins, ends, worked = np.array(self.looks).reshape(-1, 3).T
        still = joined(np.concatenate([watch.end() for watch in watches]))
        wall = ends - begins
        gaps = wall.copy()
        for k in np.flatnonzero(wall > 0.005):
            gaps[k] -= within(still, begins[k], ends[k])
        longest = gaps > 0.04
        print(f"{gone() / 3600.0:.2f} h in {taken:.0f} s, {turn} marks, {devices.heard.sentences} sentences")
        say(f"real time over simulated time, 1/{speed}", taken * speed / gone(), 1.05, "x")
        print(f"a processor stood still for {np.diff(still, axis=1).sum():.1f} s, {len(still)} times")
        for what, some in (("by the clock on the wall", wall), ("while no processor did", gaps)):
            half, most = np.quantile(some, (0.5, 0.999)) * 1e3
            over = f"over 50 ms {(some > 0.05).sum()} times, at most {some.max() * 1e3:.0f} ms"
            print(f"window still {what}: half of all {half:.1f} ms, 999 of 1,000 {most:.1f} ms, {over}")
        print(f"window worked {worked.max() * 1e3:.0f} ms at most between two looks")
        if longest.any():
            mean, own = gaps[longest].mean() * 1e3, worked[longest].mean() * 1e3
            print(
                f"over 40 ms: {longest.sum()} times, {mean:.0f} ms on average, {own:.0f} of which it worked"
            )
        say("window stands still at most, while no processor did", gaps.max() * 1000.0, 50.0, "ms")
        later = [m for at, m in memory if at > gone() / 2.0]
        print(
            f"memory {memory[0][1]:.0f} MB after a mark, {later[0]:.0f} halfway, {later[-1]:.0f} at the end"
        )
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
