"""The window: a change in a 1,000-mark job until it is on screen; the plan with 50,000 marks; start against
an empty window.

Run under any platform; QT_QPA_PLATFORM=offscreen when there is no display.
"""

from __future__ import annotations

import math
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

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
            workspace.bridge.wait()
            app.processEvents()

        taken = median(change, 15) * 1e3
        say("a change in a 1,000-mark job, derived again and on screen", taken, 80.0, "ms")
        print(f"   of which derivation {workspace.bridge.derive_seconds * 1e3:.0f} ms")
        shell.close()


def _vectors_job(folder: str, rows: int, columns: int) -> Any:
    """A job with a network of stations some kilometres apart, joined by about five vectors each."""
    from fenwind.geodesy.frames import FrameSpec, open_frame
    from fenwind.geodesy.geocentric import from_xyz, to_xyz
    from fenwind.job.job import Job
    from fenwind.records.network import NetworkStep, ObservationSet
    from fenwind.records.records import FrameRecord, GivenPosition, Mark

    rng, n = np.random.default_rng(4), rows * columns
    spec = FrameSpec(name="map", crs="EPSG:25832")
    i, j = np.divmod(np.arange(n), columns)
    lat, lon = np.radians(61.0 + 0.01 * i), np.radians(8.0 + 0.02 * j)
    xyz = to_xyz(lat, lon, rng.uniform(500.0, 550.0, n))
    h, (e, north) = from_xyz(xyz)[2], open_frame(spec).forward(lat, lon)
    records: list[Any] = [FrameRecord(id="map", spec=spec)]
    records += [Mark(id=f"m{k}", name=f"M{k}") for k in range(n)]
    for k in (0, columns - 1, n - columns, n - 1):
        given = GivenPosition(
            id=f"g{k}", mark=f"m{k}", frame="map", e_m=float(e[k]), n_m=float(north[k]), height_m=float(h[k])
        )
        records.append(given)
    at, pairs = np.arange(n).reshape(rows, columns), []
    for down, right in ((0, 1), (1, 0), (1, 1), (1, -1), (0, 1)):
        a = at[: rows - down, max(-right, 0) : columns - max(right, 0)]
        b = at[down:, max(right, 0) : columns + min(right, 0)]
        pairs.append(np.stack([a.ravel(), b.ravel()]))
    first, second = np.hstack(pairs)
    k, none = first.size, ("",) * first.size
    values = xyz[:, second] - xyz[:, first] + 0.005 * rng.normal(size=(3, k))
    records.append(
        ObservationSet(
            id="obs", name="vectors", line=tuple(range(1, k + 1)), kind=("vector",) * k,
            at=tuple(f"m{x}" for x in first), to=tuple(f"m{x}" for x in second), back=none, setup=none,
            group=none, hi_m=(0.0,) * k, ht_m=(0.0,) * k, value=tuple(map(tuple, values.T.tolist())),
            covariance=((25e-6, 0.0, 0.0, 25e-6, 0.0, 25e-6),) * k,
        )
    )  # fmt: skip
    records.append(NetworkStep(id="net", name="Network 1", frame="map", observations="obs"))
    return Job.create(Path(folder) / "net.fenwind", "net", records, frame="map")


def network_on_screen() -> None:
    """An observation of a network of 1,000 stations left out: its new figures on screen, and all else that
    follows."""
    from PySide6.QtCore import QEventLoop, QTimer
    from PySide6.QtWidgets import QApplication

    from fenwind.desk.shell import Shell
    from fenwind.desk.workspace import Workspace

    app = QApplication.instance() or QApplication([])
    with tempfile.TemporaryDirectory() as folder:
        shell = Shell()
        shell.resize(1280, 800)
        shell.show()
        workspace = Workspace(shell, _vectors_job(folder, 25, 40))
        workspace.show_stage("Network")
        page: Any = workspace.pages["Network"]
        sheet, bridge = page.network, workspace.bridge
        shown: list[float] = []
        bridge.came_ahead.connect(lambda: (app.processEvents(), shown.append(time.perf_counter())))

        def change(row: int) -> tuple[float, float]:
            shown.clear()
            begin = time.perf_counter()
            sheet._toggle(sheet.table.records.rows[row])
            loop, looks = QEventLoop(), QTimer()
            looks.timeout.connect(lambda: None if bridge.deriving else loop.quit())
            looks.start(15)
            loop.exec()
            return shown[0] - begin if shown else math.inf, time.perf_counter() - begin

        change(0)
        ahead, rest = np.array([change(row) for row in range(1, 10)]).T
        say(
            "an observation of 1,000 stations: its figures on screen",
            float(np.median(ahead)) * 1e3,
            150.0,
            "ms",
        )
        print(f"   with all that follows {np.median(rest) * 1e3:.0f} ms")
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
    network_on_screen()
    plan_repaint()
