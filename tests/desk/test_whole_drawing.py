"""Plan, rail and tables as they paint themselves, stroke by stroke, against copies that were looked at
(tests/data/whole). FENWIND_COPIES=write makes the copies anew."""

import os
import re
import unittest

import numpy as np
from PySide6.QtCore import QBuffer, QPoint, QSize
from PySide6.QtSvg import QSvgGenerator
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QWidget

from fenwind.desk.plan import Plan
from fenwind.desk.plan_extras import Apart, Coming
from fenwind.desk.rail import Rail
from tests.desk.qt_case import QtTestCase
from tests.support import DATA


def strokes(widget: QWidget) -> str:
    """What a widget paints, as SVG with pictures left out and numbers to a tenth of a pixel."""
    buffer, picture = QBuffer(), QSvgGenerator()
    buffer.open(QBuffer.OpenModeFlag.WriteOnly)
    picture.setOutputDevice(buffer)
    picture.setSize(QSize(widget.width(), widget.height()))
    widget.render(picture, QPoint())
    text = bytes(buffer.data().data()).decode()
    text = re.sub(r'xlink:href="data:[^"]*"', "", text)
    return re.sub(r"-?\d+\.\d+", lambda m: f"{float(m[0]):.1f}".replace("-0.0", "0.0"), text)


@unittest.skipUnless(os.environ.get("QT_QPA_PLATFORM") == "offscreen", "letters are as wide as elsewhere")
class Drawn(QtTestCase):
    def held(self, name: str, text: str) -> None:
        path = DATA / "whole" / f"{name}.txt"
        if os.environ.get("FENWIND_COPIES") == "write":
            path.write_text(text)
        self.assertEqual(path.read_text().splitlines(), text.splitlines(), name)

    def test_plan_rail_and_tables(self) -> None:
        w = self.open()
        doubt = next(d for d in w.bridge.findings.open if d.remedies)
        w.bridge.settle(doubt, doubt.remedies[0])
        w.show_stage("Fits")
        scene = w.plan_pane.plan.scene
        scene.gaps = np.array([[900.0], [2000.0]])
        scene.apart = Apart(title="old grid", names=("A", "B"), at=np.array([[0, 100.0], [0, 60.0]]))
        scene.coming = Coming(
            names=("N1", "N2"),
            at=np.array([[1000.0, 1500.0], [2500.0, 2700.0]]),
            now=np.array([[1100.0, np.nan], [2600.0, np.nan]]),
            lines=np.array([[500.0], [1500.0], [900.0], [1900.0]]),
            before=np.array([[520.0], [1480.0], [920.0], [1880.0]]),
        )
        plan = Plan()
        plan.resize(520, 420)
        plan.show_scene(scene)
        plan.select("T-05")
        plan.start_measuring(True)
        plan._click("T-01")
        plan._click("P-07")
        self.held("plan", strokes(plan))
        rail = Rail(w.shell)
        rail.resize(88, 640)
        rail.choose("Fits")
        rail.show_doubts("Fits", 3)
        rail.show_doubts("Marks", 120)
        self.held("rail", strokes(rail))
        table = w.pages["Fits"].fits.table
        table.setFixedSize(900, 400)  # whatever stands above it at the moment
        QTest.qWait(1)
        table.sortByColumn(3, table.horizontalHeader().sortIndicatorOrder())
        self.held("table", strokes(table.viewport()) + strokes(table.horizontalHeader()))
