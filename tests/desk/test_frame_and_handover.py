"""The Frame stage, lists of other formats, handover and moving, in the real window."""

from pathlib import Path

import numpy as np
import pyproj
from PySide6.QtTest import QTest

from fenwind.desk.stages import shift_asked, velocity_asked
from fenwind.desk.workspace import Workspace
from fenwind.exchange.formats import read_table
from fenwind.geodesy.frames import FrameSpec
from fenwind.geodesy.plate_motion import plates, rates
from fenwind.job import gestures
from fenwind.job.job import Job
from fenwind.records.entries import amend
from fenwind.records.records import FrameRecord, GivenPosition, Mark
from tests.desk.qt_case import QtTestCase
from tests.geodesy.test_plate_motion import utm_on
from tests.geodesy.test_shift_grid import ntv2


class Frame(QtTestCase):
    def test_a_system_is_found_and_used_and_says_what_it_means(self) -> None:
        w = self.open()
        w.show_stage("Frame")
        self.assertIn("local plane", w.pages["Frame"].note.text())
        w.pages["Frame"].find_system()
        self.assertTrue(w.pages["Frame"].search.here.isChecked(), "the job lies somewhere")
        w.pages["Frame"].search.edit.setText("utm zone 33")
        w.pages["Frame"].search.show_found()
        self.assertEqual(len(w.pages["Frame"].search.table.records.rows), 0, "zone 33 is not here")
        w.pages["Frame"].search.edit.setText("utm nairobi")
        w.pages["Frame"].search.show_found()
        self.assertRegex(w.pages["Frame"].search.count.text(), r"^\d+ found, at Nairobi, Kenya$")
        w.pages["Frame"].search.here.setChecked(False)
        w.pages["Frame"].search.edit.setText("25833")
        w.pages["Frame"].search.show_found()
        w.pages["Frame"].search.take.click()
        self.assertIn("ETRS89 / UTM zone 33N", w.pages["Frame"].statement.text())
        self.assertIn("on the grid (combined factor", w.pages["Frame"].note.text())
        self.assertIn("outside the area", w.pages["Frame"].note.text())
        texts = [
            [c.text(r) for c in w.pages["Frame"].places.records.columns]
            for r in w.pages["Frame"].places.records.rows
        ]
        self.assertEqual(
            [t[0] for t in texts], ["centre", "north-west", "north-east", "south-west", "south-east"]
        )
        adopted = w.bridge.derived.adopted[w.bridge.frame_id]
        self.assertEqual(len(adopted.names), 35, "everything measured is derived in the new frame")
        self.choose(w.pages["Frame"].statement.parts["unit"], "US survey feet (ftUS)")
        self.choose(w.pages["Frame"].statement.parts["decimals"], "2 decimals")
        w.pages["Frame"]._ask_epoch()
        w.pages["Frame"].ask.edit.setText("soon")
        w.pages["Frame"].ask.ok.click()
        self.assertTrue(w.pages["Frame"].ask.isVisible(), "an epoch that is none is asked again")
        w.pages["Frame"].ask.edit.setText("2026.5")
        w.pages["Frame"].ask.ok.click()
        spec = w.bridge.frame.spec
        self.assertEqual((spec.unit, spec.epoch_year, w.bridge.state.info.decimals), ("ftUS", 2026.5, 2))
        w.pages["Frame"]._find_heights()
        w.pages["Frame"].search.edit.setText("nn2000")
        w.pages["Frame"].search.show_found()
        w.pages["Frame"].search.take.click()
        self.assertEqual(w.bridge.frame.spec.height.crs, "EPSG:5941")
        self.assertIn("frame.grid-missing", [d.rule for d in w.bridge.findings.open])
        w.pages["Frame"].use_grid(str(next(Path(w.bridge.folder).glob("*.gtx"))))
        self.assertEqual(
            (w.bridge.frame.spec.height.kind, w.bridge.frame.spec.height.crs), ("vertical", "EPSG:5941")
        )
        self.assertNotIn("frame.grid-missing", [d.rule for d in w.bridge.findings.open])
        for _ in range(6):
            w.bridge.undo()
        self.assertEqual(w.bridge.frame_id, "dam")

    def test_the_ways_from_another_datum_are_listed(self) -> None:
        w = self.open()
        w.bridge.do(gestures.set_field([w.bridge.state.info], "frame", "map", "map"))
        w.show_stage("Frame")
        self.wait_for(lambda: "no operation stands between" in w.pages["Frame"].ways_note.text())
        changed = [amend(m, crs="EPSG:9989", epoch_year=2026.5) for m in w.bridge.state.measured.values()]
        w.bridge.do(("to ITRF2020", tuple(changed)))
        self.wait_for(lambda: w.pages["Frame"].ways.records.rows)
        rows = [
            [c.text(r) for c in w.pages["Frame"].ways.records.columns]
            for r in w.pages["Frame"].ways.records.rows
        ]
        self.assertEqual((rows[0][0], rows[0][1], rows[0][3]), ("used", "ITRF2020", "0.1"))
        self.assertIn("lacks a grid", [r[0] for r in rows])
        self.assertLess(len(rows), 10, "only those for where the job lies")
        w.bridge.select("P-05")
        self.assertTrue(
            any("ITRF2020 to ETRF2020" in k.note for k in w.trail_pane.links.links),
            "and the trail says which",
        )

    def test_velocities_of_marks_move_what_is_of_another_epoch(self) -> None:
        w = self.open()
        w.bridge.do(gestures.set_field([w.bridge.state.info], "frame", "map", "map"))
        sheet, frame = w.show_stage("Frame") or w.pages["Frame"], w.bridge.frame
        w.bridge.do(gestures.change_frame(frame, "epoch", epoch_year=2020.0))
        moved = [amend(m, epoch_year=2010.0) for m in w.bridge.state.measured.values()]
        w.bridge.do(("at 2010", tuple(moved)))
        before = w.bridge.derived.adopted["map"]
        row = before.index["P-05"]
        w.bridge.select("P-05")
        w.actions.run("frame.velocity")
        self.assertEqual(sheet.ask.edit.text(), "P-05, ")
        sheet.ask.edit.setText("P-05, 4, -3, 10")
        sheet.ask.ok.click()
        after = w.bridge.derived.adopted["map"]
        way = [after.e_m - before.e_m, after.n_m - before.n_m, after.height_m - before.height_m]
        for axis, wanted in zip(way, (0.04, -0.03, 0.10), strict=True):
            self.assertAlmostEqual(axis[row], wanted, delta=1e-3)
            self.assertEqual(axis[before.index["P-06"]], 0.0)
        self.assertIn("moving as 1 mark does", sheet.statement.text())
        self.assertIn("P-05 moves east +4.0, north −3.0, up +10.0 mm a year.", sheet.note.text())
        choice = "the mean of the marks with velocities"
        self.choose(sheet.statement.parts["plate"], choice)
        told = sheet.ask.label.text()  # east and north of the grid, which is turned by half a degree here
        self.assertRegex(told, r"^Move as the marks with velocities do moves \d\d marks by up to 111\.\d mm,")
        self.assertIn("in the mean east +39.7 mm, north −30.4 mm, up +100.0 mm: see the plan.", told)
        scene = w.plan_pane.plan.scene
        drawn = [scene.names[row] for row in scene.vector_rows]
        np.testing.assert_allclose(scene.vector_m[:, drawn.index("P-06")], (0.04, -0.03), atol=1e-3)
        self.assertNotIn("P-05", drawn, "it moves by itself already")
        w.show_stage("Marks")
        self.assertFalse(w.plan_pane.plan.scene.vector_rows.size)
        w.show_stage("Frame")
        self.assertEqual(w.plan_pane.plan.scene.vector_rows.size, len(drawn), "still asked, still shown")
        sheet.ask.leave.click()
        self.assertFalse(w.plan_pane.plan.scene.vector_rows.size)
        self.assertIn("moving as 1 mark does", sheet.statement.text())
        self.choose(sheet.statement.parts["plate"], choice)
        sheet.ask.ok.click()
        self.assertFalse(w.plan_pane.plan.scene.vector_rows.size)
        self.assertIn("moving with the marks' mean", sheet.statement.text())
        more = w.bridge.derived.adopted["map"]
        self.assertAlmostEqual(more.e_m[before.index["P-06"]] - before.e_m[before.index["P-06"]], 0.04, 3)
        listed = self.folder / "v.csv"
        listed.write_text("name,ve,vn\nP-06,1,2\nnobody,1,1\n")
        self.assertTrue(velocity_asked.use_list(w.bridge, str(listed)))
        self.assertIn("left out: nobody", w.line.text())
        self.assertIn("2 marks have velocities", sheet.note.text())
        w.actions.run("frame.no-velocities")
        self.assertNotIn("velocit", sheet.note.text())
        b = w.bridge
        moving = {"crs": utm_on("EPSG:7912", 32), "plate": "ITRF2014:EURA"}
        b.do(gestures.change_frame(b.frame, "plate", plate=moving["plate"]))
        self.assertNotIn("The plate", sheet.note.text(), "ETRS89 goes with it")
        b.do(gestures.change_frame(b.frame, "ITRF", **moving))
        at = [np.array([v]) for v in sheet.place()]
        rate = rates(pyproj.CRS("EPSG:7912"), plates("ITRF2014")["EURA"], *at, np.zeros(1))[:, 0] * 1e3
        east, north = (f"{v:+.1f}" for v in rate[:2])
        self.assertIn(f"The plate EURA moves east {east}, north {north}, up ", sheet.note.text())
        self.assertTrue(10.0 < rate[1] < 20.0 < 1.5 * rate[0])

    def test_an_empty_job_asks_for_a_system(self) -> None:
        w = self.open("--empty")
        w.show_stage("Frame")
        self.assertEqual(w.pages["Frame"].statement.text(), "The job is in no frame yet.")
        w.pages["Frame"].find_system()
        w.pages["Frame"].search.edit.setText("no such system anywhere")
        w.pages["Frame"].search.show_found()
        self.assertFalse(w.pages["Frame"].search.take.isEnabled())
        w.pages["Frame"].search.edit.setText("25832")
        w.pages["Frame"].search.show_found()
        w.pages["Frame"].search._use()
        self.assertIn("No marks yet", w.pages["Frame"].note.text())


class Handover(QtTestCase):
    def test_formats_layouts_and_targets(self) -> None:
        w = self.open()
        w.show_stage("Handover")
        sheet = w.pages["Handover"]
        for kind, ending in (("landxml", "xml"), ("xlsx", "xlsx"), ("dxf", "dxf"), ("pdf", "pdf")):
            sheet.set_kind(kind)
            sheet.write.click()
            self.assertTrue(sheet.path.text().endswith(ending))
            self.wait_for(lambda: Path(sheet.path.text()).is_file())
            self.wait_for(sheet.write.isEnabled)
        sheet.set_kind("csv")
        Path(sheet.path.text()).write_text("somebody else's")
        sheet.write.click()
        self.assertIn("was not written here", w.line.text())
        self.assertEqual(Path(sheet.path.text()).read_text(), "somebody else's")
        for _ in range(2):  # agreed to once, the next time it is our own
            sheet.write.click()
            self.wait_for(lambda: "Written" in w.line.text() and sheet.write.isEnabled())
        kept = [p for p in self.folder.rglob("*(before*") if p.is_file()]
        self.assertEqual([p.read_text() for p in kept], ["somebody else's"])
        self.assertIn("T-01", Path(sheet.path.text()).read_text())
        sheet._ask_columns()
        sheet.ask.edit.setText("name, colour")
        sheet.ask.ok.click()
        self.assertIn("colour is no column", w.line.text())
        sheet.ask.edit.setText("name, n, e, class")
        sheet.ask.ok.click()
        sheet.ask.edit.setText("short")
        sheet.ask.ok.click()
        self.assertEqual(sheet.text.toPlainText().splitlines()[0], "name,n (m),e (m),class")
        self.assertIn("columns short", sheet.statement.text())
        self.assertEqual([x.name for x in w.bridge.state.layouts.values()], ["short"])
        sheet.set_kind("targets")
        self.assertIn("check target", sheet.note.text())
        self.choose(sheet.statement.parts["class"], "main")
        self.assertIn("main, 9", sheet.statement.text())
        self.assertEqual(w.plan_pane.plan.scene.hull.shape, (2, 4), "the area is drawn on the plan")
        sheet.set_kind("kml")
        self.assertIn("local plane", sheet.text.toPlainText())
        sheet.write.click()
        self.wait_for(lambda: "local plane" in w.line.text())


class OtherFormats(QtTestCase):
    def test_a_file_of_another_format_comes_in_and_its_parts_can_be_chosen(self) -> None:
        w = self.open()
        w.show_stage("Handover")
        w.pages["Handover"].set_kind("geopackage")
        w.pages["Handover"].write.click()
        path = w.pages["Handover"].path.text()
        self.wait_for(lambda: Path(path).is_file())
        self.assertEqual(len(read_table(path).rows), 40)
        w.show_stage("Marks")
        w.pages["Marks"].read_file(path)
        incoming = w.pages["Marks"].incoming
        self.wait_for(
            lambda: w.pages["Marks"].stack.currentWidget() is incoming and incoming.take.isEnabled()
        )
        self.assertIn("Dam grid 1968, metres", incoming.statement.text())
        self.assertEqual(
            incoming.chips["same"].text(), "same 8", "T-05 is given in plan only and goes out with a height"
        )
        incoming.close_list()
        self._known_from_kml(w)
        w.pages["Marks"].read_file(str(self.folder / "nothing.xlsx"))
        QTest.qWait(1)
        self.assertIn("cannot be read", w.line.text())

    def _known_from_kml(self, w: Workspace) -> None:
        """Control that comes in latitude and longitude is given on the plane of the frame."""
        w.bridge.do(gestures.set_field([w.bridge.state.info], "frame", "map", "map"))
        before = w.bridge.derived.adopted["map"]
        w.show_stage("Handover")
        w.pages["Handover"].set_kind("kml")
        w.pages["Handover"].write.click()
        path = w.pages["Handover"].path.text()
        self.wait_for(lambda: Path(path).is_file())
        w.show_stage("Marks")
        incoming = w.pages["Marks"].incoming
        w.pages["Marks"].read_file(path)
        self.wait_for(
            lambda: w.pages["Marks"].stack.currentWidget() is incoming and incoming.take.isEnabled()
        )
        self.assertIn("measured positions", incoming.statement.text())
        self.choose(incoming.statement.parts["kind"], "known positions")
        incoming.take.click()
        state = w.bridge.state
        given = {state.marks[g.mark].name: g for g in state.given.values() if g.frame == "map"}
        self.assertEqual(len(given), 40)
        row = before.index["P-05"]
        self.assertAlmostEqual(given["P-05"].e_m, float(before.e_m[row]), places=4)
        self.assertAlmostEqual(given["P-05"].height_m, float(before.height_m[row]), places=3)
        self.assertIn("converted by", given["P-05"].source)
        w.bridge.undo()
        w.bridge.undo()


class ShiftGrid(QtTestCase):
    def test_a_grid_for_the_datum(self) -> None:
        """Used where it reaches a mark, told where it does not, left out again."""
        path = str(self.folder / "old.fenwind")
        given = [("A", 600_000.0, 2_200_000.0), ("Z", 600_000.0, 1_700_000.0)]  # Z lies south of the grid
        records = [
            FrameRecord(id="f", spec=FrameSpec(name="Old zone II", crs="EPSG:27572")),
            *(Mark(id=name.lower(), name=name) for name, _, _ in given),
            *(GivenPosition(id=f"g{k}", mark=k.lower(), frame="f", e_m=e, n_m=n) for k, e, n in given),
        ]
        Job.create(path, "old", records, "f").close()
        w = self.open(path)
        b, page = w.bridge, w.pages["Frame"]
        w.show_stage("Frame")
        grid, away = self.folder / "shift.gsb", self.folder / "away.gsb"
        grid.write_bytes(ntv2())
        away.write_bytes(ntv2(edge=(-30.0, -20.0, 0.0, 6.0, 0.5)))
        w.actions.run("frame.no-shift")
        self.assertIn("has no shift grid", w.line.text())
        self.assertFalse(shift_asked.use(b, str(away), "EPSG:4171"))
        self.assertIn("reaches no mark of the job", w.line.text())
        self.assertEqual(b.frame.spec.crs, "EPSG:27572")
        shift_asked.ask_target(b, page.ask, str(grid))
        page.ask.edit.setText("EPSG:4171")
        page.ask.ok.click()
        self.assertIn("The grid does not reach Z.", w.line.text())
        self.assertIn("Its way to RGF93 v1 goes by the grid shift.gsb.", page.note.text())
        w.actions.run("frame.no-shift")
        self.assertNotIn("by the grid", page.note.text())
        b.undo()
        self.assertIn("by the grid", page.note.text())
