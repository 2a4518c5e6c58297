"""The sheet of marks, and lists matched by hand."""

import numpy as np
from PySide6.QtCore import QItemSelectionModel, Qt
from PySide6.QtTest import QTest

from fenwind.job import gestures
from fenwind.job.file import Blob
from tests.desk.qt_case import QtTestCase


class Marks(QtTestCase):
    own_windows = True

    def test_type_rename_flag_set_down_filter(self) -> None:
        w = self.open()
        w.show_stage("Marks")
        sheet, b = w.pages["Marks"].marks, w.bridge
        QTest.keyClicks(sheet.new, "Q-1")
        QTest.keyClick(sheet.new, Qt.Key.Key_Return)
        self.assertEqual(b.selection, "Q-1")
        row = next(r for r in sheet.table.records.rows if r.mark.name == "Q-1")
        edit = {c.key: c.edit for c in sheet.table.records.columns}
        self.assertTrue(edit["e"](row, "1 500.25"))
        self.assertEqual(b.state.mark_named("Q-1").name, "Q-1")
        self.assertFalse(
            any(g.mark == row.mark.id for g in b.state.given.values()), "an easting alone is no position"
        )
        self.assertTrue(edit["n"](row, "2000"))
        given = next(g for g in b.state.given.values() if g.mark == row.mark.id)
        self.assertEqual((given.e_m, given.n_m, given.height_m), (1500.25, 2000.0, None))
        row = next(r for r in sheet.table.records.rows if r.mark.name == "Q-1")
        self.assertTrue(edit["height"](row, "10 ft"))
        self.assertAlmostEqual(b.state.given[given.id].height_m, 3.048)
        self.assertEqual(b.state.amendments[given.id][0].old, {"height_m": None})
        self.assertFalse(edit["name"](row, "T-01"), "a name that is taken")
        self.assertIn("another mark's name", w.line.text())
        self.assertFalse(edit["e"](row, "abc"))
        # One value down a selection of a column, as one gesture.
        model, select = sheet.table.model(), QItemSelectionModel.SelectionFlag.Select
        sheet.table.setCurrentIndex(model.index(0, 1))
        for i in range(1, 4):
            sheet.table.selectionModel().select(model.index(i, 1), select)
        edit["class"](sheet.table.row_at(model.index(0, 1)), "first order")
        sheet.set_down()
        self.assertEqual(
            [r.mark.mark_class for r in sheet.table.records.rows[:5]], ["first order"] * 4 + ["main"]
        )
        w.actions.run("edit.undo")
        self.assertEqual(sheet.table.records.rows[1].mark.mark_class, "main")
        box = next(i for i, c in enumerate(sheet.table.records.columns) if c.key == "hold_h")
        QTest.mouseClick(
            sheet.table.viewport(),
            Qt.MouseButton.LeftButton,
            pos=sheet.table.visualRect(model.index(0, box)).center(),
        )
        self.assertFalse(b.state.marks["T-01"].hold_horizontal)
        self.assertEqual(sheet.table.records.rows[0].basis, "given", "its height is still held")
        sheet.filter.setText("quarry")
        self.assertEqual(model.rowCount(), 1)
        sheet.filter.clear()
        sheet.table.selectRow(0)
        w.actions.run("marks.off")
        self.assertFalse(b.state.marks["T-01"].active)
        self.assertIn("T-01", [r.mark.name for r in sheet.table.records.rows], "switched off, not gone")
        self.choose(sheet.statement.parts["class"], "portal")
        self.assertEqual([r.mark.name for r in sheet.table.records.rows], ["P-11", "P-12"])

    def test_units_and_frame_in_the_head(self) -> None:
        w = self.open()
        w.show_stage("Marks")
        menu_of = w.shell.header.parts
        self.choose(menu_of["units"], "US survey feet (ftUS)")
        self.choose(menu_of["units"], "degrees, minutes, seconds")
        self.assertEqual(menu_of["units"].text(), "ftUS, degrees")
        row = w.pages["Marks"].marks.table.records.rows[0]
        column = next(c for c in w.pages["Marks"].marks.table.records.columns if c.key == "e")
        self.assertAlmostEqual(column.value(row), row.e * 3937 / 1200, places=6)
        self.choose(menu_of["frame"], "ETRS89 / UTM 32N")
        self.assertIn("ETRS89 / UTM 32N", w.pages["Marks"].marks.statement.text())
        self.assertGreater(w.pages["Marks"].marks.table.records.rows[0].e, 400_000)

    def test_a_list_matched_by_hand_and_left(self) -> None:
        w = self.open()
        w.show_stage("Marks")
        incoming, b = w.pages["Marks"].incoming, w.bridge
        w.pages["Marks"].paste(
            "1;T-01;693,422;3240,303;1241,083\n2;T-30;700,0;800,0;900,0\n3;T-31;oops;800;900\n"
        )
        self.assertEqual(incoming.chips["all"].text(), "all 3")
        for index, meaning in ((1, "name"), (2, "e"), (3, "n"), (4, "h"), (0, "")):
            incoming.heads.set_meaning(index, meaning)
        self.assertEqual(
            [incoming.chips[k].text() for k in ("new", "same", "unreadable")],
            ["new 1", "same 1", "unreadable 1"],
        )
        self.assertEqual(incoming.take.text(), "Take 1 row")
        QTest.mouseClick(incoming.chips["unreadable"], Qt.MouseButton.LeftButton)
        self.assertEqual(len(incoming.table.records.rows), 1)
        self.choose(incoming.statement.parts["unit"], "international feet")
        self.assertEqual(incoming.chips["differs"].text(), "differs 1")
        over = np.array(incoming._list.against.verdict, dtype=object) == "differs"
        self.assertEqual(over.sum(), 1)
        self.assertFalse(set(np.flatnonzero(over)) & set(incoming._list.taken()), "over the tolerance: look")
        before = len(b.state.records)
        incoming.leave.click()
        self.assertEqual(
            (len(b.state.records), w.pages["Marks"].stack.currentWidget()), (before, w.pages["Marks"].marks)
        )
        w.pages["Marks"].paste("")
        self.assertIn("no rows", w.line.text())
        w.pages["Marks"].read_file(str(self.folder / "none.csv"))
        self.assertIn("cannot be read", w.line.text())
        # A column headed X may be northing: the job knows.
        w.pages["Marks"].paste("Pt\tX\tY\nT-01\t3240.303\t693.422\nT-02\t3320.016\t1527.775\n")
        self.assertEqual(incoming.chips["same"].text(), "same 0", "no height came in where the job has one")
        self.assertEqual(incoming._match.columns, {"name": 0, "n": 1, "e": 2})

    def test_a_long_list_is_read_with_progress_and_can_be_stopped(self) -> None:
        w = self.open("--empty")
        self.let_run(w)
        text = "name,e,n,h\n" + "\n".join(f"P{i},{i * 1.5},{i * 2.5},10" for i in range(9000))
        w.pages["Marks"].paste(text)
        self.wait_for(
            lambda: (
                w.pages["Marks"].incoming.take.text() == "Take 9000 rows"
                and w.pages["Marks"].incoming.take.isEnabled()
            )
        )
        w.pages["Marks"].incoming.take.click()
        self.wait_for(lambda: not w.bridge.kept)
        new = gestures.new_mark(w.bridge.state, "while it is kept")[1]
        raw = Blob(name="000000", origin="epochs of x", data=b"what comes meanwhile")
        w.bridge.ask(lambda job: job.file.append_blobs([raw]), meanwhile=True)
        self.assertTrue(w.bridge.do(new), "after the list, and nothing of either is lost")
        w.bridge.wait()
        self.assertEqual((len(w.bridge.state.marks), len(w.bridge.state.given)), (9001, 9000))
        self.wait_for(lambda: w.pages["Marks"].stack.currentWidget() is w.pages["Marks"].marks)
        pieces: list[Blob] = []
        w.bridge.ask(lambda job: job.file.blobs_of("epochs of x"), pieces.extend)
        self.wait_for(lambda: pieces)
        self.assertEqual(pieces, [raw])
        w.bridge.undo()
        w.bridge.undo()
        self.assertEqual(len(w.bridge.state.marks), 0)
        w.pages["Marks"].paste(text)
        w.pages["Marks"].incoming._task.cancel()
        self.wait_for(lambda: w.pages["Marks"].stack.currentWidget() is w.pages["Marks"].marks)
        self.assertEqual(len(w.bridge.state.marks), 0)
