"""The sentence of a fit: every part of it."""

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from tests.desk.qt_case import QtTestCase


class FitSentence(QtTestCase):
    def test_every_part_of_the_sentence_changes_what_it_says(self) -> None:
        w = self.open()
        w.doubts.findChild(type(w.doubts.all), "settle-swap-axes").click()
        b, fits = w.bridge, w.pages["Fits"].fits
        part = lambda key: fits.statement.parts[key]  # noqa: E731
        self.choose(part("source"), "day 1")
        self.assertIn("Carry day 1, 22 onto", fits.statement.text())
        self.choose(part("source"), "day 2")
        self.assertIn("day 2, 11", fits.statement.text())
        self.choose(part("height"), "a tilted plane")
        self.assertEqual(len(fits.strip.cells), 7)
        self.choose(part("geoid"), "the ellipsoid")
        self.assertIn("over the ellipsoid", fits.statement.text())
        w.actions.run("edit.undo")
        self.assertIn("over TN geoid (made up)", fits.statement.text())
        self.choose(part("checks"), "T-07")
        self.assertIn("holding out no pair", fits.statement.text())
        self.assertTrue(any("No pair is left to check with" in d.text for d in w.bridge.findings.open))
        for entry, typed, cell in (
            ("hold the turn at …", "13.2 gon", "13.200000 gon"),
            ("hold the scale at …", "1.00001", "1.000010000"),
        ):
            self.choose(part("horizontal"), entry)
            fits.ask.edit.setText("nonsense")
            QTest.keyClick(fits.ask.edit, Qt.Key.Key_Return)
            self.assertTrue(fits.ask.isVisible(), "what cannot be read is asked again")
            fits.ask.edit.setText(typed)
            QTest.keyClick(fits.ask.edit, Qt.Key.Key_Return)
            self.assertIn(cell, [c[1] for c in fits.strip.cells])
        fits.tolerance.click()
        fits.ask.edit.setText("0")
        QTest.keyClick(fits.ask.edit, Qt.Key.Key_Return)
        self.assertIn("is not a tolerance in plan", w.line.text())
        QTest.keyClick(fits.ask.edit, Qt.Key.Key_Escape)
        self.assertFalse(fits.ask.isVisible())
        self.choose(part("geoid"), "a geoid grid file …")
        fits.ask.edit.setText(str(self.folder / "none.gtx"))
        QTest.keyClick(fits.ask.edit, Qt.Key.Key_Return)
        self.assertIn("geoid grid not found", w.line.text())
        w.actions.run("fits.new")
        self.assertIn("2 OF 2", fits.caption.text())
        w.actions.run("fits.next")
        self.assertIn("1 OF 2", fits.caption.text())
        fits.table.selectAll()
        w.actions.run("fits.use.check")
        self.assertIn("no pair is held", w.doubts.text.text().lower())
        self.assertEqual(fits.strip.cells, [], "no result, no parameters")
        self.assertEqual(len(b.state.fits), 2)
