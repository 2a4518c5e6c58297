"""A fit in space through the window: made, said, a pair compared only, copied for others."""

import numpy as np
from pyproj import CRS, Transformer
from PySide6.QtWidgets import QApplication

from fenwind.desk.stages.space_fits import SEEN_M
from fenwind.geodesy.geocentric import to_xyz
from tests.desk.qt_case import QtTestCase
from tests.job.test_space_fit import SpaceFits, truth


class SpaceFitSheet(QtTestCase):
    def test_from_the_keyboard(self) -> None:
        made = SpaceFits("test_sigmas_and_which_model")
        made.setUp()
        self.addCleanup(made.doCleanups)
        job = made.job_of(noise=0.002)
        path = job.path
        job.undo()
        job.close()
        w = self.open(path)
        w.actions.run("fits.space")
        page = w.pages["Fits"]
        sheet = page.space
        self.assertTrue(page.isVisible() and page.stack.currentWidget() is sheet)
        words = "carries Lambert-93 onto Old zone II in space by a shift, a turn and a scale."
        self.assertEqual(sheet.statement.text(), f"Space fit 1 {words}")
        self.assertIn("the turn and the scale are not chance", sheet.verdict.text())
        self.assertIn("coordinate frame: X \u2212", sheet.said.text())
        self.assertEqual(len(sheet.table.records.rows), 6)
        self.assertEqual(w.plan_pane.plan.scene.vector_m.shape, (2, 6))
        self.assertIsNotNone(w.bridge.derived.adopted["old"].index.get("N"))
        row = sheet.table.records.rows[2]
        sheet._toggle(row)
        self.assertIn("5 pairs, 1 compared only", sheet.verdict.text())
        self.assertFalse(sheet.table.records.rows[2].used)
        found = sheet.found()
        up = float(found.residuals[2, 2]) * 1000.0
        cells = {c.key: c.text(sheet.table.records.rows[2]) for c in sheet.table.records.columns}
        self.assertEqual(cells["v2"], f"{up:+.1f}".replace("-", "\u2212"))
        away = float(np.linalg.norm(found.without[:, 2])) * 1000.0
        self.assertEqual(cells["without"], f"{away:.1f}")
        bars = {c.key: c.bar for c in sheet.table.records.columns}
        for k in range(3):
            bar = bars[f"v{k}"](sheet.table.records.rows[2])
            self.assertAlmostEqual(bar, float(found.residuals[k, 2]) / SEEN_M)
        w.bridge.undo()
        sheet.copy_proj()
        way = Transformer.from_pipeline(QApplication.clipboard().text())
        xyz = to_xyz(0.81, 0.045, 300.0)
        for value, wanted in zip(way.transform(*xyz), truth(xyz), strict=True):
            self.assertAlmostEqual(value, wanted, delta=0.02)
        sheet.copy_wkt()
        self.assertTrue(CRS.from_wkt(QApplication.clipboard().text()).is_bound)
        self.choose(sheet.statement.parts["parameters"], "a shift")
        self.assertIn("in space by a shift.", sheet.statement.text())
        self.assertNotIn("Turn", sheet.said.text())
        self.choose(sheet.statement.parts["target"], "Lambert-93")
        self.assertIn("onto itself", sheet.verdict.text())
        sheet.back.click()
        self.assertIs(page.stack.currentWidget(), page.fits)
