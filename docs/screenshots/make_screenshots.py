"""Pictures of the main views from the demo job, 1280 by 800: QT_QPA_PLATFORM=offscreen .venv/bin/python
docs/screenshots/make_screenshots.py"""

from __future__ import annotations

import os
import tempfile
from pathlib import Path
from typing import Any

import ezdxf
import numpy as np

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("FENWIND_HOME", tempfile.mkdtemp())

from PySide6.QtCore import QSettings
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from fenwind.desk.launch import Launch, parse_arguments
from fenwind.desk.theme import apply_theme
from fenwind.job import gestures

LIST = """Pt.\tY\tX\tZ\tclass\tremark
T-01\t693.422\t3240.303\t1241.083\tmain\tbronze bolt
T-02\t1527.775\t3320.016\t1239.683\tmain\tbronze bolt
T-04\t1733.652\t2356.901\t1238.383\tmain\trock drill
T-09\t1702.809\t1733.823\t1235.683\tmain\trock drill
T-21\t1533.618\t1921.400\t1237.5\tsecondary\tnail
T-22\t1610.072\t1846.559\t1237.204\tsecondary\tnail
T-23\t16x5.438\t1790.021\t1236.880\tsecondary\tnail
T 08\t1701.115\t1733.870\t1236.551\tsecondary\tnail
"""


class Pictures:
    """The open demo and its views, in the order they are taken."""

    def __init__(self) -> None:
        home = os.environ["FENWIND_HOME"]
        self.launch = Launch(parse_arguments([]), QSettings(f"{home}/s.ini", QSettings.Format.IniFormat))
        self.launch.shell.resize(1280, 800)
        self.launch.shell.show()
        while self.launch.workspace is None:
            QTest.qWait(20)
        QTest.qWait(200)
        self.w: Any = self.launch.workspace

    def shot(self, name: str, *, line: bool = False) -> None:
        """Take one; the line above the doubts is left out unless it belongs to the picture."""
        if not line:
            self.w.line.hide()
        QTest.qWait(120)
        self.launch.shell.grab().save(str(Path(__file__).parent / f"{name}.png"))

    def fits(self) -> None:
        w, b = self.w, self.w.bridge
        b.select("T-09")
        w.doubts.toggle_list()
        self.shot("doubts")
        w.doubts.toggle_list()
        b.settle(b.findings.open[0], b.findings.open[0].remedies[0])
        b.select("T-04")
        self.shot("fits")
        w.pages["Fits"].fits._choose_horizontal("pivot")
        w.plan_pane.measure.setChecked(True)
        w.plan_pane.plan._click("T-01")
        w.plan_pane.plan._click("T-03")
        b.select("T-05")
        self.shot("pivot")
        b.undo()
        w.plan_pane.measure.setChecked(False)

    def marks(self) -> None:
        w = self.w
        w.show_stage("Marks")
        w.bridge.select("P-05")
        self.shot("marks")
        w.pages["Marks"].paste(LIST)
        table = w.pages["Marks"].incoming.table
        table.setCurrentIndex(table.proxy.index(2, 2))
        self.shot("incoming")
        w.pages["Marks"].incoming.close_list()

    def frame(self) -> None:
        w, b = self.w, self.w.bridge
        b.do(gestures.set_field([b.state.info], "frame", "map", "Show the map frame"))
        w.show_stage("Frame")
        self.shot("frame")
        b.undo()

    def moving(self) -> None:
        w = self.w
        w.pages["Fits"].moving.open_file(self.site_plan())
        w.pages["Fits"].stack.setCurrentWidget(w.pages["Fits"].moving)
        w.show_stage("Fits")
        while not w.pages["Fits"].moving.table.records.rows:
            QTest.qWait(20)
        self.shot("moving")
        w.actions.run("fits.compare")
        w.pages["Fits"].comparing.set_side("b", "carried:fit-1")
        self.shot("comparing")
        w.pages["Fits"].stack.setCurrentWidget(w.pages["Fits"].fits)

    def handover(self) -> None:
        w = self.w
        w.show_stage("Handover")
        w.pages["Handover"].set_kind("html")
        self.shot("handover")
        w.plan_commands.add_backdrop(self.shore())
        w.pages["Handover"].set_kind("targets")
        w.pages["Handover"]._set_class("PL")
        while not w.plan_pane.plan.scene.under:
            QTest.qWait(20)
        self.shot("targets")

    def sessions(self) -> None:
        """With stand-in receivers in a process of their own."""
        w, page = self.w, self.w.pages["Sessions"]
        panel, devices = page.standins, page.devices
        w.show_stage("Sessions")
        panel.open()
        panel.base_mark.setCurrentText("T-02")
        panel.speed.setValue(20)
        panel.toggle()
        self.until(lambda: panel.ports)
        panel.hide()
        w.bridge.select("T-02")
        page.start.open()
        page.start._change(height_m=1.5)
        page.start._go()
        self.until(page.start.isHidden)
        devices.listen()
        panel.say("rover", do="go", mark="S-02")
        w.bridge.select("S-02")
        self.until(lambda: devices.epoch is not None and devices.epoch.solution == "fixed")
        self.until(lambda: " 0.0" in page.rover.to_mark.text().rpartition("H")[2])
        page.rover.begin()
        self.until(lambda: devices.measuring is not None and len(devices.measuring.keeper.rows) > 35)
        self.shot("sessions")
        devices.leave()
        devices.stop()
        panel.stop()
        while w.bridge.job.undo_text:
            w.bridge.undo()

    def instrument(self) -> None:
        """With a stand-in total station in a process of its own."""
        w, page = self.w, self.w.pages["Setups"].setups
        w.bridge.do(gestures.set_field([w.bridge.state.info], "frame", "map", "Show the map frame"))
        w.show_stage("Setups")
        panel, live, standin = page.instrument, page.live, page.standin
        standin.open()
        standin.stands.setCurrentText("P-12")
        standin.toggle()
        self.until(lambda: live.state is not None and not live.doing)
        standin.hide()
        panel._begin("St-3, 1.6")
        panel._set(both_faces=True)
        for name in ("T-04", "T-08", "T-09", "K-04"):
            told: list[bool] = []
            there = "P-04" if name == "K-04" else name
            standin.say("station", lambda told=told: told.append(True), do="go", mark=there)
            self.until(lambda told=told: told)
            panel._name(name)
            for work in (panel.find_prism, panel.measure):
                work()
                self.until(lambda: not live.doing and not w.bridge.deriving)
        self.shot("instrument")
        panel.end()
        standin.stop()

    def until(self, true: Any) -> None:
        """Let the window work until something is so."""
        while not true():
            QTest.qWait(20)

    def steps(self) -> None:
        w = self.w
        w.show_stage("Setups")
        w.bridge.select("K-01")
        self.shot("setups")
        setups = w.pages["Setups"]
        setups.show_sheet(setups.traverses)
        w.bridge.select("V-02")
        self.shot("traverse")
        setups.show_sheet(setups.levelling)
        w.bridge.select("P-01")
        self.shot("levelling")
        setups.show_sheet(setups.setups)
        w.show_stage("Network")
        table = w.pages["Network"].network.table
        table.setCurrentIndex(table.proxy.index(20, 1))
        self.shot("network")
        w.pages["Network"].show_sheet(w.pages["Network"].designs)
        w.bridge.select("T-01")
        self.shot("design")
        w.pages["Network"].show_sheet(w.pages["Network"].network)
        w.show_stage("Ground")
        ground = w.pages["Ground"]
        ground._use_method("own")
        self.until(lambda: ground.designs and ground._task is None)
        w.bridge.select("T-05")
        self.shot("ground")

    def night(self) -> None:
        w = self.w
        w.toggle_night()
        w.show_stage("Fits")
        self.shot("night")
        w.toggle_night()

    def site_plan(self) -> str:
        """A made-up site plan in the map's system, with three targets in the dam grid."""
        drawing, adopted = ezdxf.new(units=6), self.w.bridge.derived.adopted
        space = drawing.modelspace()
        for e, n, name in zip(adopted["map"].e_m, adopted["map"].n_m, adopted["map"].names, strict=True):
            space.add_point((e, n), dxfattribs={"layer": "marks"})
            space.add_text(name, dxfattribs={"layer": "labels"}).set_placement((e, n))
        for e, n in zip(adopted["dam"].e_m[:3], adopted["dam"].n_m[:3], strict=True):
            space.add_point((e, n), dxfattribs={"layer": "dam grid"})
        space.add_lwpolyline(
            [(462500, 6796000), (463100, 6796500), (463900, 6797000)], dxfattribs={"layer": "road"}
        )
        path = str(Path(self.w.bridge.folder) / "site plan.dxf")
        drawing.saveas(path)
        return path

    def shore(self) -> str:
        """A made-up shore in the dam grid."""
        drawing = ezdxf.new(units=6)
        turns = np.linspace(0.0, 2 * np.pi, 90)
        reach = 1.0 + 0.2 * np.sin(3 * turns)
        corners = np.stack([1300 + 760 * np.cos(turns) * reach, 2450 + 640 * np.sin(turns)]).T
        drawing.modelspace().add_lwpolyline(corners.tolist(), close=True, dxfattribs={"layer": "shore"})
        path = str(Path(self.w.bridge.folder) / "shore.dxf")
        drawing.saveas(path)
        return path


if __name__ == "__main__":
    app = QApplication([])
    apply_theme(app)
    pictures = Pictures()
    for take in (
        pictures.fits,
        pictures.marks,
        pictures.frame,
        pictures.moving,
        pictures.handover,
        pictures.steps,
        pictures.night,
        pictures.sessions,
        pictures.instrument,
    ):
        take()
    pictures.launch.shell.close()
