"""The window: a change in a 1,000-mark job until it is on screen; the plan with 50,000 marks; start against
an empty window.

Run under any platform; QT_QPA_PLATFORM=offscreen when there is no display.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from bench.timing import median, say

EMPTY = """
import sys, time
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QMainWindow
class Window(QMainWindow):
    def paintEvent(self, event):
        super().paintEvent(event)
        QTimer.singleShot(0, app.quit)
app = QApplication([])
window = Window(); window.resize(1280, 800); window.show()
app.exec()
"""
DEMO = """
import sys
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication
from fenwind.desk.launch import Launch, parse_arguments
from fenwind.desk.theme import apply_theme
app = QApplication([])
app.setApplicationName("fenwind-bench")
apply_theme(app)
launch = Launch(parse_arguments([]))
if sys.argv[1] == "first":
    launch.shell.first_painted.connect(lambda: QTimer.singleShot(0, lambda: __import__("os")._exit(0)))
else:
    launch.ready.connect(lambda: QTimer.singleShot(0, lambda: __import__("os")._exit(0)))
launch.shell.show()
app.exec()
"""


def start_times() -> None:
    """Seconds from starting Python to the first painting: an empty window, Fenwind's, and Fenwind with the
    demo job read."""
    with tempfile.TemporaryDirectory() as home:
        environment = dict(os.environ, FENWIND_HOME=home)

        def run(code: str, *arguments: str) -> float:
            taken = []
            for _ in range(9):
                begin = time.perf_counter()
                subprocess.run([sys.executable, "-c", code, *arguments], check=False, env=environment)
                taken.append(time.perf_counter() - begin)
            return sorted(taken[1:])[4]

        empty, first, ready = run(EMPTY), run(DEMO, "first"), run(DEMO, "ready")
    print(f"empty window {empty:.2f} s, first painted {first:.2f} s, demo job on screen {ready:.2f} s")
    say("start to first painted demo window / empty window", first / empty, 1.5, "x")


def change_on_screen() -> None:
    """A pair switched in a job of 1,000 marks: recorded, derived again, painted."""
    from PySide6.QtWidgets import QApplication

    from fenwind.desk.shell import Shell
    from fenwind.desk.theme import apply_theme
    from fenwind.desk.workspace import Workspace
    from fenwind.job.job import Job
    from fenwind.records.records import FitStep, FrameRecord, GivenPosition, Mark, MeasuredPosition
    from fenwind.standins import tarnholt

    app = QApplication.instance() or QApplication([])
    assert isinstance(app, QApplication)
    apply_theme(app)
    rng = np.random.default_rng(2)
    with tempfile.TemporaryDirectory() as folder:
        tarnholt.write_grid(Path(folder))
        records: list[object] = [
            FrameRecord(id="map", spec=tarnholt.map_frame()),
            FrameRecord(id="dam", spec=tarnholt.dam_frame()),
        ]
        lat, lon = (
            np.radians(61.3 + rng.uniform(-0.02, 0.02, 1000)),
            np.radians(8.4 + rng.uniform(-0.04, 0.04, 1000)),
        )
        from fenwind.geodesy.frames import FrameSpec, open_frame

        e, n = open_frame(FrameSpec(name="map", crs="EPSG:25832")).forward(lat, lon)
        for i in range(1000):
            records.append(Mark(id=f"m{i}", name=f"M{i}"))
            records.append(
                MeasuredPosition(
                    id=f"o{i}",
                    mark=f"m{i}",
                    lat_rad=lat[i],
                    lon_rad=lon[i],
                    h_m=1285.0,
                    sigma_h_m=0.01,
                    sigma_v_m=0.02,
                )
            )
            if i < 200:
                noise = rng.normal(0, 0.003, 2)
                given = GivenPosition(
                    id=f"g{i}",
                    mark=f"m{i}",
                    frame="dam",
                    e_m=e[i] - 4.6e5 + noise[0],
                    n_m=n[i] - 6.79e6 + noise[1],
                    height_m=1240.0,
                )
                records.append(given)
        records.append(
            FitStep(id="fit", name="Fit 1", source_frame="map", target_frame="dam", tolerance_v_m=10.0)
        )
        shell = Shell()
        shell.show()
        big = Job.create(Path(folder) / "big.fenwind", "big", records, frame="dam")
        workspace = Workspace(shell, big)  # type: ignore[arg-type]
        app.processEvents()
        fits, places = workspace.pages["Fits"].fits, iter(range(1, 190))

        def change() -> None:
            fits._toggle_plan(fits.table.records.rows[next(places)])
            app.processEvents()

        taken = median(change, 15) * 1e3
        say("a change in a 1,000-mark job, derived again and on screen", taken, 80.0, "ms")
        print(f"   of which derivation {workspace.bridge.derive_seconds * 1e3:.0f} ms")
        shell.close()


def plan_repaint() -> None:
    """Repainting 50,000 marks while panning."""
    from PySide6.QtWidgets import QApplication

    from fenwind.desk.plan import Plan
    from fenwind.desk.plan_scene import Scene
    from fenwind.desk.theme import apply_theme

    app = QApplication.instance() or QApplication([])
    assert isinstance(app, QApplication)
    apply_theme(app)
    rng = np.random.default_rng(3)
    k = 50_000
    plan = Plan()
    plan.resize(476, 470)
    plan.show()
    e, n = rng.uniform(0, 5000, k), rng.uniform(0, 5000, k)
    plan.show_scene(
        Scene(
            title="many",
            names=tuple(f"P{i}" for i in range(k)),
            e_m=e,
            n_m=n,
            symbol=np.zeros(k, np.int8),
            off=np.zeros(k, bool),
        )
    )
    app.processEvents()

    def pan() -> None:
        plan._centre += 3.0
        plan.repaint()

    say("plan repaint with 50,000 marks, median", median(pan, 31) * 1e3, 16.0, "ms")
    plan.resize(1280, 800)
    app.processEvents()
    say("the same over a whole screen of 1280 x 800", median(pan, 31) * 1e3, 16.0, "ms")


if __name__ == "__main__":
    start_times()
    change_on_screen()
    plan_repaint()
