"""A list of 100,000 rows read, validated, compared with a job and shown, against csv.reader alone on the same
text; and a comparison of two sets of 100,000 positions."""

from __future__ import annotations

import csv
import os
import random
import tempfile
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from bench.timing import best, say

ROWS = 100_000


def text() -> str:
    """A made-up list."""
    source = random.Random(1)
    rows = (
        f"P{i},{468000 + source.random() * 1e4:.4f},{6790000 + source.random() * 1e4:.4f},"
        f"{source.random() * 1e3:.3f},main\n"
        for i in range(ROWS)
    )
    return "name,e,n,h,class\n" + "".join(rows)


def main() -> None:
    """Measure and print the ratios."""
    from PySide6.QtWidgets import QApplication

    from fenwind.desk.bridge import JobBridge
    from fenwind.desk.stage_table import STAGES
    from fenwind.desk.stages.incoming import IncomingSheet
    from fenwind.desk.stages.incoming_rows import IncomingList, as_incoming, columns
    from fenwind.desk.theme import apply_theme
    from fenwind.exchange.formats import read_table
    from fenwind.exchange.point_list import interpret, match_header
    from fenwind.geodesy.frames import FrameSpec
    from fenwind.job.incoming import against_job
    from fenwind.job.job import Job
    from fenwind.records.records import FrameRecord

    app = QApplication([])
    apply_theme(app)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "list.csv")
        path.write_text(text())
        frame = FrameRecord(id="utm", spec=FrameSpec(name="UTM", crs="EPSG:25832"))
        job = Job.create(Path(folder, "job.fenwind"), "Bench", [frame], frame="utm")
        sheet = IncomingSheet(JobBridge(job), STAGES[1])
        sheet.resize(760, 720)
        sheet.show()

        def plain() -> None:
            with open(path, newline="") as file:
                list(csv.reader(file))

        def whole() -> None:
            raw = read_table(path)
            match = match_header(raw)
            points = interpret(raw, match)
            against = against_job(job.state, as_incoming(points, raw.place), "utm", False)
            rows = IncomingList(raw, points, against)
            sheet.table.records.set_columns(columns(rows, match, lambda row: None))
            sheet.table.records.set_rows(rows.rows("all"))
            sheet.table.grab()
            sheet.table.records.set_rows([])

        reader, ours = best(plain, 5), best(whole, 5)
        say(
            "100,000 rows read, validated, compared with the job and shown",
            ours / reader,
            4.0,
            "x csv.reader alone",
        )
    _comparison()


def _comparison() -> None:
    import numpy as np

    from fenwind.procedures.compare import compare
    from fenwind.procedures.positions import positions

    rng = np.random.default_rng(1)
    names = [f"P{i}" for i in range(ROWS)]
    one = positions(names, *rng.uniform(0, 1e4, (3, ROWS)))
    order = rng.permutation(ROWS)
    two = positions([names[i] for i in order], one.e_m[order] + 0.01, one.n_m[order], one.height_m[order])
    took = best(lambda: compare(one, two, 0.02, 0.02), 5)
    say("comparison of 2 x 100,000 positions by name", took, 1.0, "s")


if __name__ == "__main__":
    main()
