"""100,000 rows taken into a job: how long the window stands still at most, from the click to the last mark on
screen."""

from __future__ import annotations

import os
import tempfile
import time
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from bench.incoming import ROWS, text
from bench.timing import say


def main() -> None:
    """Take, with a clock that ticks whenever the window is free."""
    from PySide6.QtCore import QEventLoop, QTimer
    from PySide6.QtWidgets import QApplication

    from fenwind.desk.collector import Collector
    from fenwind.desk.shell import Shell
    from fenwind.desk.theme import apply_theme
    from fenwind.desk.workspace import Workspace
    from fenwind.geodesy.frames import FrameSpec
    from fenwind.job.job import Job
    from fenwind.records.records import FrameRecord

    app = QApplication([])
    apply_theme(app)
    collector = Collector()  # as the launcher has it: garbage is collected from a timer
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "list.csv")
        path.write_text(text())
        frame = FrameRecord(id="utm", spec=FrameSpec(name="UTM", crs="EPSG:25832"))
        shell = Shell()
        shell.resize(1280, 800)
        shell.show()
        job = Job.create(Path(folder, "job.fenwind"), "Bench", [frame], frame="utm")
        workspace = Workspace(shell, job)  # type: ignore[arg-type]
        workspace.show_stage("Marks")
        marks = workspace.pages["Marks"]
        marks.read_file(str(path))

        def longest_stop(until: Callable[[], object]) -> float:
            """Longest time between two ticks of the window's clock until something is so, seconds."""
            loop, ticks, stamps = QEventLoop(), QTimer(), [time.perf_counter()]

            def tick() -> None:
                stamps.append(time.perf_counter())
                if until():
                    loop.quit()

            ticks.timeout.connect(tick)
            ticks.start(2)
            loop.exec()
            return max(b - a for a, b in pairwise(stamps))

        longest_stop(lambda: marks.incoming.take.isVisible() and marks.incoming.take.isEnabled())
        started = time.perf_counter()
        QTimer.singleShot(0, marks.incoming.take_rows)
        longest = longest_stop(lambda: len(workspace.bridge.derived.given.get("utm", ())) == ROWS)
        ends = iter([False] * 50 + [True])
        longest = max(longest, longest_stop(lambda: next(ends)))
        took = time.perf_counter() - started
        print(f"taken, derived and shown in {took:.1f} s")
        say("window standing still while 100,000 rows are taken", longest * 1e3, 100.0, "ms")
        shell.close()
    collector.collect()


if __name__ == "__main__":
    main()
