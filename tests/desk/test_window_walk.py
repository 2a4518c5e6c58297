"""Through the real window: the demo's walk, and a job made from nothing by pasting. Runs offscreen and under
Xvfb."""

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest

from fenwind.job.job import Job
from fenwind.records.setups import Setup
from fenwind.standins import tarnholt
from tests.desk.qt_case import QtTestCase


def control_list() -> str:
    true = tarnholt.truth()
    rows = [
        f"{true.names[i]}\t{true.dam_e_m[i]:.3f}\t{true.dam_n_m[i]:.3f}\t{true.dam_height_m[i]:.3f}\tmain"
        for i in range(8)
    ]
    return "\n".join(["Point\tEasting\tNorthing\tHeight\tClass", *rows])


def measured_list() -> str:
    records = [
        r for r in tarnholt.records() if type(r).__name__ == "MeasuredPosition" and r.session == "day 1"
    ]
    import math

    rows = [
        f"{r.mark},{math.degrees(r.lat_rad)!r},{math.degrees(r.lon_rad)!r},{r.h_m!r},0.004,0.008"
        for r in records
    ]
    return "\n".join(["name,lat,lon,h,sh,sv", *rows])


class Walk(QtTestCase):
    own_windows = True

    def test_the_demo(self) -> None:
        w = self.open()
        b, fits = w.bridge, w.pages["Fits"].fits
        # The planted blunder is named; its remedy is one click, and everything follows.
        self.assertIn("T-09", w.doubts.text.text())
        remedy = w.doubts.findChild(type(w.doubts.all), "settle-swap-axes")
        QTest.mouseClick(remedy, Qt.MouseButton.LeftButton)
        self.assertIn("moved in Dam grid 1968", w.line.text())
        # So is the slant that was given as vertical, over S-05.
        self.assertIn("S-05 lies 85.5 mm too low", w.doubts.text.text())
        remedy = w.doubts.findChild(type(w.doubts.all), "settle-as-slant")
        QTest.mouseClick(remedy, Qt.MouseButton.LeftButton)
        # And the prism that was another than booked.
        self.assertIn("The distances to T-08 are off by −33.4 mm", w.doubts.text.text())
        remedy = w.doubts.findChild(type(w.doubts.all), "settle-sighted-prism")
        self.assertEqual(remedy.text(), "amend its prism constant to 33.4 mm")
        QTest.mouseClick(remedy, Qt.MouseButton.LeftButton)
        self.assertAlmostEqual(b.state.of(Setup)["setup-3"].prism_m[2], 0.0334, places=4)
        # And the angle of the traverse that was booked with two digits exchanged.
        self.assertIn("The angle at V-02 is too small by 113 s", w.doubts.text.text())
        remedy = w.doubts.findChild(type(w.doubts.all), "settle-booked-angle")
        QTest.mouseClick(remedy, Qt.MouseButton.LeftButton)
        self.assertEqual(w.doubts.count.text(), "No doubts")
        # Read residuals, switch a pair off by its boxes; the carried marks move and are told.
        rows = {r.mark.name: r for r in fits.table.records.rows}
        self.assertLess(abs(rows["T-04"].de), 0.010)
        before = b.derived.adopted["dam"].e_m.copy()
        place = next(i for i, r in enumerate(fits.table.records.rows) if r.mark.name == "T-04")
        for _ in range(2):
            fits.table.setCurrentIndex(fits.table.proxy.index(place, 0))
            QTest.keyClick(fits.table, Qt.Key.Key_Space)
        fits.table.selectRow(place)
        w.actions.run("fits.use.off")
        row = fits.table.records.rows[place]
        self.assertEqual((row.use, row.role), ("off", "off"))
        self.assertTrue((b.derived.adopted["dam"].e_m != before).any())
        for _ in range(3):
            w.actions.run("edit.undo")
        self.assertEqual(fits.table.records.rows[place].use, "both")
        self.assertTrue((b.derived.adopted["dam"].e_m == before).all())
        # Another model by its card, by the sentence, and back.
        QTest.mouseClick(fits.cards[2], Qt.MouseButton.LeftButton)
        self.assertIn("shift, turn and scale", fits.statement.text())
        self.choose(fits.statement.parts["horizontal"], "pivot and direction")
        self.assertIn("holding T-01 towards T-02", fits.statement.text())
        self.choose(fits.statement.parts["pivot-towards"], "T-06")
        self.assertIn("towards T-06", fits.statement.text())
        self.choose(fits.statement.parts["horizontal"], "the simplest model the pairs accept")
        # A held-out pair over its tolerance is a doubt; it is accepted for a reason, in place.
        fits.tolerance.click()
        fits.ask.edit.setText("2 20")
        QTest.keyClick(fits.ask.edit, Qt.Key.Key_Return)
        self.assertIn("2 mm", w.doubts.text.text())
        w.doubts.findChild(type(w.doubts.all), "accept").click()
        QTest.keyClick(w.doubts.ask.edit, Qt.Key.Key_Return)
        self.assertTrue(w.doubts.ask.isVisible(), "no reason, no acceptance")
        QTest.keyClicks(w.doubts.ask.edit, "tight on purpose")
        QTest.keyClick(w.doubts.ask.edit, Qt.Key.Key_Return)
        self.assertEqual(w.doubts.count.text(), "No doubts")
        # One selection everywhere; the trail goes down to the raw reading.
        x, y = w.plan_pane.plan.to_pixels(
            *(
                float(v[b.derived.adopted["dam"].index["P-05"]])
                for v in (b.derived.adopted["dam"].e_m, b.derived.adopted["dam"].n_m)
            )
        )
        QTest.mouseClick(
            w.plan_pane.plan, Qt.MouseButton.LeftButton, pos=QPointF(float(x), float(y)).toPoint()
        )
        self.assertEqual(b.selection, "P-05")
        titles = [k.title for k in w.trail_pane.links.links]
        self.assertEqual(titles, ["Occupation", "Projected", "Fit 1", "Adopted"])
        # Hand over, close, open again: all is there.
        w.show_stage("Handover")
        w.pages["Handover"].path.setText(str(self.folder / "list.csv"))
        w.pages["Handover"].write.click()
        self.wait_for(w.pages["Handover"].write.isEnabled)
        w.pages["Handover"].set_kind("html")
        w.pages["Handover"].path.setText(str(self.folder / "report.html"))
        w.pages["Handover"].write.click()
        self.wait_for(w.pages["Handover"].write.isEnabled)
        self.assertIn("P-05,", (self.folder / "list.csv").read_text())
        report = (self.folder / "report.html").read_text()
        self.assertIn("tight on purpose", report)
        self.assertIn(fits.statement.text().rstrip("."), report)
        state = dict(b.state.records)
        w.shell.close()
        job = Job.open(b.path)
        self.addCleanup(job.close)
        self.assertEqual(job.state.records, state)

    def test_from_nothing(self) -> None:
        """Paste eight control marks, then what the rover measured; make the fit; read residuals; undo all."""
        w = self.open("--empty")
        b, marks = w.bridge, w.pages["Marks"]
        self.assertTrue(marks.marks.empty.isVisible())
        QGuiApplication.clipboard().setText(control_list())
        QTest.keyClick(marks.marks, Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
        self.assertIn(
            "Take 8 rows from the clipboard as known positions in a new local plane, metres.",
            marks.incoming.statement.text(),
        )
        self.assertEqual(len(b.state.marks), 0, "nothing changed yet")
        marks.incoming.take.click()
        self.assertEqual((len(b.state.marks), len(b.state.given)), (8, 8))
        QGuiApplication.clipboard().setText(measured_list())
        w.actions.run("marks.paste")
        self.assertIn("measured positions", marks.incoming.statement.text())
        marks.incoming.take.click()
        self.assertEqual(marks.incoming.ask.edit.text(), "ETRS89", "what is likely is offered")
        QTest.keyClick(marks.incoming.ask.edit, Qt.Key.Key_Return)
        self.assertEqual(
            (len(b.state.measured), {m.crs for m in b.state.measured.values()}), (22, {"EPSG:4258"})
        )
        w.actions.run("fits.new")
        self.assertEqual(w.stage, "Fits")
        rows = w.pages["Fits"].fits.table.records.rows
        self.assertEqual(len(rows), 8)
        self.assertLess(max(abs(r.de) + abs(r.dn) for r in rows), 0.02)
        # The dam grid has the map grid's scale; the plane made for the list that of the ground.
        self.assertEqual(b.derived.fits[b.fit.id].case.result.model, "scale")
        self.assertTrue(b.state.frames[b.fit.source_frame].spec.name.startswith("Plane at 61°"))
        while b.undo_text:
            w.actions.run("edit.undo")
        w.show_stage("Marks")
        self.assertEqual((len(b.state.marks), marks.marks.first.isVisible()), (0, True))
        while b.redo_text:
            w.actions.run("edit.redo")
        w.show_stage("Fits")
        self.assertEqual(len(w.pages["Fits"].fits.table.records.rows), 8)
