"""The Sessions stage through the window: a base tied, an antenna height put right, an occupation left out."""

from fenwind.desk.stages.sessions import SessionsSheet
from fenwind.records.sessions import BaseSetup, Occupation
from tests.desk.qt_case import QtTestCase
from tests.session_job import session_job


class SessionsStage(QtTestCase):
    def test_two_days(self) -> None:
        path = self.folder / "two days.fenwind"
        session_job(str(path), blunder=0.11).close()
        workspace = self.open(str(path))
        bridge = workspace.bridge
        bridge.show_stage("Sessions")
        self.wait_for(lambda: isinstance(workspace.page, SessionsSheet) and workspace.page.isVisible())
        sheet = workspace.page
        self.assertEqual(
            sheet.statement.text(),
            "Base D1 stands on the known mark A, its antenna 1.5000 m vertical; 2 occupations follow from "
            "it.",
        )
        self.assertEqual(self.cells(sheet, "part"), ["used", "used", "not used", "not used"])
        self.assertEqual(self.cells(sheet, "d0")[2], "+3\u2009000.0")  # the jump of D2, east
        self.choose(sheet.statement.parts["base"], "D2, 2026-05-02, the average of 50 epochs")
        self.choose(sheet.statement.parts["word"], "a tie: B was measured from it")
        self.assertEqual(bridge.state.of(BaseSetup)["d2"].word, "tie")
        self.assertIn("D2 stands on a tie to B", sheet.statement.text())
        self.assertEqual(self.cells(sheet, "part"), ["used"] * 4)
        self.assertEqual(self.cells(sheet, "d2"), ["0.0", "\u221255.0", "0.0", "+55.0"])
        (doubt,) = [d for d in bridge.findings.open if d.grave]
        self.assertIn("antenna height 2.1100 m", doubt.text)
        row = next(r for r in sheet.table.records.rows if r.one.id == "o2")
        self.assertFalse(sheet._edit_height(row, "2 sideways"))
        self.assertTrue(sheet._edit_height(row, "2.0 vertical"))
        self.assertEqual(self.cells(sheet, "d2"), ["0.0"] * 4)
        self.assertEqual([d for d in bridge.findings.open if d.grave], [])
        sheet._toggle(sheet.table.records.rows[3])
        self.assertFalse(bridge.state.of(Occupation)["o4"].active)
        self.assertEqual(self.cells(sheet, "part")[3], "left out")
        bridge.undo()
        self.assertEqual(self.cells(sheet, "part")[3], "used")

    def cells(self, sheet: SessionsSheet, key: str) -> list[str]:
        """Texts of a column as they are shown."""
        column = next(c for c in sheet.table.records.columns if c.key == key)
        return [column.text(row) for row in sheet.table.records.rows]
