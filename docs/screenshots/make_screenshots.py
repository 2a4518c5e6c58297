"""Pictures of the main views from the demo job, 1280 by 800: QT_QPA_PLATFORM=offscreen .venv/bin/python docs/screenshots/make_screenshots.py"""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
with tempfile.TemporaryDirectory() as home:
    os.environ["FENWIND_HOME"] = home
    from PySide6.QtCore import QSettings
    from PySide6.QtTest import QTest
    from PySide6.QtWidgets import QApplication

    from fenwind.desk.launch import Launch, parse_arguments
    from fenwind.desk.theme import apply_theme

    app = QApplication([])
    apply_theme(app)
    launch = Launch(parse_arguments([]), QSettings(f"{home}/s.ini", QSettings.Format.IniFormat))
    launch.shell.resize(1280, 800)
    launch.shell.show()
    while launch.workspace is None:
        QTest.qWait(20)
    w = launch.workspace
    b = w.bridge  # type: ignore[attr-defined]

    def shot(name: str) -> None:
        QTest.qWait(120)
        launch.shell.grab().save(str(Path(__file__).parent / f"{name}.png"))

    QTest.qWait(200)
    b.select("T-09")
    w.doubts.toggle_list()
    shot("doubts")
    w.doubts.toggle_list()
    b.settle(b.findings.open[0], b.findings.open[0].remedies[0])
    w.line.hide()
    b.select("T-04")
    shot("fits")
    w.fits._choose_horizontal("pivot")
    w.line.hide()
    w.plan_pane.measure.setChecked(True)
    w.plan_pane.plan._click("T-01")
    w.plan_pane.plan._click("T-03")
    b.select("T-05")
    shot("pivot")
    b.undo()
    w.plan_pane.measure.setChecked(False)
    w.line.hide()
    w.show_stage("Marks")
    b.select("P-05")
    shot("marks")
    rows = [
        "Pt.\tY\tX\tZ\tclass\tremark",
        "T-01\t693.422\t3240.303\t1241.083\tmain\tbronze bolt",
        "T-02\t1527.775\t3320.016\t1239.683\tmain\tbronze bolt",
    ]
    rows += ["T-04\t1733.652\t2356.901\t1238.383\tmain\trock drill", "T-21\t1533.618\t1921.400\t1237.5\tsecondary\tnail"]
    rows += ["T-22\t1610.072\t1846.559\t1237.204\tsecondary\tnail", "T-23\t16x5.438\t1790.021\t1236.880\tsecondary\tnail"]
    w.marks.paste("\n".join(rows))
    b.select("T-04")
    shot("incoming")
    w.marks.incoming.close_list()
    w.show_stage("Handover")
    w.handover.set_kind("html")
    w.line.hide()
    shot("handover")
    w.shell.close()
