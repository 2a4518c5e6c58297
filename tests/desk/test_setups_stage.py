"""The Setups stage through the window: what each sighting leaves over, checks, a file taken in."""

import numpy as np

from fenwind.job.gestures import change_frame
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.records.setups import Setup
from tests.desk.qt_case import QtTestCase

SHOTS = "target,hz_deg,za_deg,sd,ht,prism_mm\nT-04,10.0,90.2,300.0,1.3,0\nT-09,80.0,89.0,310.0,1.3,0\n"


class SetupsStage(QtTestCase):
    def setUp(self) -> None:
        super().setUp()
        self.w = self.open()
        self.w.show_stage("Setups")
        self.page, self.b = self.w.pages["Setups"].setups, self.w.bridge

    def cells(self, key: str) -> list[str]:
        column = next(c for c in self.page.table.records.columns if c.key == key)
        return [column.text(row) for row in self.page.table.records.rows]

    def test_the_free_setup(self) -> None:
        page, found = self.page, self.page.found()
        self.assertEqual(
            page.statement.text(),
            "The instrument at St-1 is placed by what it sighted in ETRS89 / UTM 32N, 0.000 m high, heights "
            f"too, distances to the grid by {found.factor:.7f}.",
        )
        self.assertIn("8 left over", page.verdict.text())
        self.assertEqual(self.cells("part"), ["known"] * 3 + ["check", "known", "new", "new"])
        for k, unit in enumerate((RAD_PER_SECOND, 0.001, 0.001)):
            wanted = [f"{v / unit:+.1f}".replace("-", "−") for v in found.found.residuals[k]]
            shown = [t for t in self.cells(f"v{k}") if t]
            nought = ("−0.0", "+0.0")
            self.assertEqual(shown, ["0.0" if t in nought else t for t in wanted])
        away = (found.shots.position[:, 3] - found.known["T-09"].at) * 1000.0
        for k in range(3):
            self.assertEqual(self.cells(f"d{k}")[3], f"{away[k]:+.1f}".replace("-", "−"))
        self.assertIn(
            f"The check on T-09 misses by {float(np.hypot(*away[:2])):.1f} mm in plan, "
            f"{abs(away[2]):.1f} mm in",
            page.verdict.text(),
        )
        self.assertEqual(self.cells("p2")[5].replace("\u2009", ""), f"{found.shots.position[2, 5]:.3f}")
        self.assertEqual(self.w.plan_pane.plan.scene.lines.shape[1], 7)
        self.b.do(change_frame(self.b.state.frames["map"], "northing first", axis_order="NE"))
        titles = [c.title for c in page.table.records.columns if c.key[0] == "p" and c.key[1:].isdigit()]
        self.assertEqual(titles, ["N", "E", "H"])
        for k in range(2):
            self.assertEqual(
                self.cells(f"p{k}")[5].replace("\u2009", ""), f"{found.shots.position[k, 5]:.3f}"
            )

    def test_what_sightings_do_and_where_it_stands(self) -> None:
        page, b = self.page, self.b
        before = page.found().found.e
        page.table.setCurrentIndex(page.table.proxy.index(0, 1))
        self.w.actions.run("setups.off")
        self.assertEqual(dict(b.state.of(Setup)["setup-1"].use)[0], "off")
        self.assertNotEqual(page.found().found.e, before)
        b.undo()
        self.assertEqual(page.found().found.e, before)
        page._toggle(page.table.records.rows[3])
        self.assertEqual(self.cells("part")[3], "left out")
        self.choose(page.statement.parts["grid"], "as they were measured")
        self.assertIn("distances as they were measured", page.statement.text())
        self.choose(page.statement.parts["setup"], "Setup 2, P-12")
        self.assertIn("The instrument at P-12 stands on a known mark", page.statement.text())
        self.choose(page.statement.parts["heights"], "in plan alone")
        self.assertIn("in plan alone", page.statement.text())
        page.statement.parts["height"].click()
        for text, kept in (("tall", False), ("1.6", True)):
            page.ask.edit.setText(text)
            page.ask.ok.click()
            self.assertEqual(page.ask.isHidden(), kept)
        self.assertEqual(b.state.of(Setup)["setup-2"].height_m, 1.6)

    def test_a_file_is_taken_in(self) -> None:
        page, b = self.page, self.b
        path = self.folder / "shots.csv"
        path.write_text(SHOTS.replace("300.0", "far"))
        page.ask_station(str(path))
        page.ask.edit.setText("N-1, 1.55")
        page.ask.ok.click()
        self.assertIn("line 2: column sd", self.w.line.text())
        path.write_text(SHOTS)
        page.ask.edit.setText("N-1, 1.55")
        page.ask.ok.click()
        self.assertTrue(page.ask.isHidden())
        setup = list(b.state.of(Setup).values())[-1]
        self.assertEqual((setup.height_m, setup.word, setup.frame), (1.55, "free", b.frame_id))
        self.assertEqual(b.state.marks[setup.station].name, "N-1")
        self.assertIn("The instrument at N-1", page.statement.text())

    def test_field_work_out_and_in(self) -> None:
        """Written as LandXML and as a field book, each taken in again: the same setups, under new names."""
        page, b = self.page, self.b
        known = [s for s in b.state.of(Setup).values() if s.active]
        for name in ("work.xml", "work.csv"):
            path = str(self.folder / name)
            self.assertTrue(page.write_to(path))
            self.assertIn(f"{len(known)} setups are in", self.w.line.text())
            before = len(b.state.of(Setup))
            page.open_file(path)
            fresh = list(b.state.of(Setup).values())[before:]
            self.assertEqual(len(fresh), len(known), name)
            for old, new in zip(known, fresh, strict=True):
                self.assertEqual((new.station, new.target, new.face), (old.station, old.target, old.face))
                self.assertAlmostEqual(new.height_m, old.height_m, 4)
                for a, c, p, q in zip(old.distance_m, new.distance_m, old.prism_m, new.prism_m, strict=True):
                    if a is not None and c is not None:
                        self.assertAlmostEqual(a + p, c + q, 4)
            b.undo()
        self.assertFalse(page.write_to(str(self.folder / "nowhere" / "work.xml")))
        page.open_file(str(self.folder / "nothing.xml"))
        self.assertTrue(page.ask.isHidden())
