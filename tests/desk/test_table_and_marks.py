"""Tables, the marks sheet, lists matched by hand, and what the window says when things go wrong."""

import gc
import math
import threading
import weakref
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from unittest import mock

import numpy as np
from PySide6.QtCore import QItemSelectionModel, QPoint, QPointF, QRect, Qt
from PySide6.QtGui import QFontMetrics, QGuiApplication
from PySide6.QtTest import QAbstractItemModelTester, QTest
from PySide6.QtWidgets import QApplication, QLabel, QPushButton, QWidget

from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column, shortened
from fenwind.desk.finder import Found, matching
from fenwind.desk.flow import Flow
from fenwind.desk.plan import Plan
from fenwind.desk.plan_scene import Scene
from fenwind.desk.plan_symbols import RING, SQUARE, TRIANGLE
from fenwind.desk.scene import error_ellipses
from fenwind.desk.shell import Shell
from fenwind.desk.statement import Statement
from fenwind.desk.table import RecordTable, plain_tip
from fenwind.desk.tasks import AT_WORK, PATIENCE_S, Task
from fenwind.desk.theme import DAY, MEDIUM, NIGHT, font
from fenwind.desk.trail import broken
from fenwind.desk.turns import Turns
from fenwind.job import gestures
from fenwind.job.job import Job
from fenwind.procedures.hull import convex_hull
from fenwind.progress import breathe, in_pieces
from fenwind.records.entries import Gesture, amend
from fenwind.records.network import ObservationSet
from fenwind.records.records import Mark
from fenwind.reports.statement import Part
from fenwind.reports.trail import Link
from tests.desk.qt_case import QtTestCase
from tests.desk.test_drawing import pixels


class Tables(QtTestCase):
    def table(self) -> RecordTable:
        columns = [
            Column(
                key="name",
                title="mark",
                text=lambda r: r["name"],
                edit=lambda r, t: bool(r.update(name=t)) or True,
            ),
            Column(
                key="e", title="E", unit="m", text=lambda r: "" if math.isnan(r["e"]) else f"{r['e']:.3f}",
                value=lambda r: r["e"], right=True,
            ),
            Column(
                key="held", title="held", box=lambda r: r["held"],
                toggle=lambda r: r.update(held=not r["held"]),
            ),
        ]  # fmt: skip
        table = RecordTable(columns)
        table.records.set_rows(
            [{"name": n, "e": e, "held": True} for n, e in (("B", 1 / 3), ("A", math.nan), ("C", -5.0))]
        )
        table.resize(400, 200)
        table.show()
        return table

    def test_names_sort_as_people_count(self) -> None:
        table = self.table()
        names = ["P-10", "p-2", "", "P-1", "10", "9", "P-1a", "T-02"]
        table.records.set_rows([{"name": n, "e": 1.0, "held": True} for n in names])
        table.sortByColumn(0, Qt.SortOrder.AscendingOrder)
        shown = [table.proxy.index(i, 0).data() for i in range(len(names))]
        self.assertEqual(shown, ["9", "10", "P-1", "P-1a", "p-2", "P-10", "T-02", ""])

    def test_every_colour_of_text_stands_out(self) -> None:
        """Contrast of at least 4.5 by day and night (WCAG 2.1, 1.4.3, with its formula, from memory)."""

        def light(name: str) -> float:
            parts = [int(name[i : i + 2], 16) / 255.0 for i in (1, 3, 5)]
            r, g, b = (p / 12.92 if p <= 0.03928 else ((p + 0.055) / 1.055) ** 2.4 for p in parts)
            return 0.2126 * r + 0.7152 * g + 0.0722 * b

        paper = ("paper", "sheet", "chosen")
        text = {
            "ink": (*paper, "part", "alarm", "map"), "faint": (*paper, "map"), "off_text": (*paper, "map"),
            "water": ("paper", "sheet", "part", "part_hover", "alarm", "map"), "reed": ("paper", "sheet"),
            "sun": ("paper", "sheet", "alarm"), "flare": (*paper, "alarm"), "rail_text": ("rail",),
            "on_ink": ("ink",), "grid_text": ("map",),
        }  # fmt: skip
        for roles in (DAY, NIGHT):
            for role, grounds in text.items():
                for ground in grounds:
                    a, b = sorted((light(getattr(roles, role)), light(getattr(roles, ground))))
                    self.assertGreaterEqual((b + 0.05) / (a + 0.05), 4.5, (role, ground, roles is NIGHT))

    def test_numbers_are_never_cut(self) -> None:
        metrics = QFontMetrics(font(13))
        for text in ("36.100300000", "-149.123456789", "6 800 123.4567"):
            for width in range(0, 140, 7):
                shown = shortened(text, metrics, width)
                whole = metrics.horizontalAdvance(text) <= width
                start = shown in ("", "…") or text.startswith(shown[:-1])
                self.assertTrue(shown == text if whole else start)
                self.assertTrue(whole or shown == "" or shown.endswith("…"))
        table = self.table()
        table.setColumnWidth(1, 40)
        long = [{"name": "L", "e": 123456789.123, "held": True}] * 3
        table.records.set_rows(long)
        self.assertGreaterEqual(table.columnWidth(1) - 18, metrics.horizontalAdvance("123456789.123"))
        self.assertEqual(
            table.records.data(table.records.index(0, 1), Qt.ItemDataRole.ToolTipRole), "123456789.123"
        )
        way, last = (Column(key=k, title=k, text=lambda r: r, width=20, whole=True) for k in ("way", "last"))
        names = RecordTable([way, last])
        names.records.set_rows(["WWWWWWWW", *("i" * k + "j" * (8 - k) for k in range(9))])
        self.assertGreaterEqual(names.columnWidth(0) - 20, metrics.horizontalAdvance("WWWWWWWW"))

    def test_a_part_of_a_trail_is_painted_as_in_the_whole(self) -> None:
        w = self.open()
        w.bridge.select("T-05")
        links = w.trail_pane.links
        self.assertGreater(len(links.links), 5)
        whole = links.grab().toImage()
        for top in range(0, links.height() - 40, 37):
            box = QRect(0, top, links.width(), 23)
            self.assertEqual(links.grab(box).toImage(), whole.copy(box), top)
        self.wait_for(lambda: links.width() > 200)  # the window has been laid out
        tall = links.minimumHeight()
        w.trail_pane.setFixedWidth(150)
        self.wait_for(lambda: links.minimumHeight() > tall)  # notes take more lines where it is narrow

    def test_a_number_half_out_of_sight_shows_no_digit(self) -> None:
        table = self.table()
        table.setColumnWidth(0, 150)
        table.setColumnWidth(1, 150)
        table.show()
        for width, scrolled, differ in ((500, 0, True), (240, 0, False), (150, 250, False)):
            pictures = []
            for e in (111111.1111, 888888.8888):
                table.records.set_rows([{"name": "", "e": e, "held": True}])
                table.resize(width, 200)
                table.horizontalScrollBar().setValue(scrolled)
                pictures.append(table.viewport().grab(QRect(0, 0, width, 30)).toImage())
            self.assertEqual(pictures[0] != pictures[1], differ, width)

    def test_cells_are_painted_where_they_are(self) -> None:
        """A part is painted as in the whole, scrolled or not; what is chosen and where one is are painted in
        their cells; of rows kept back none is painted, and the others in their order."""
        table = self.table()
        rows = [{"name": f"M-{k:02d}", "e": 1000.0 - k, "held": k % 3 == 0} for k in range(30)]
        table.records.set_rows(rows)
        table.resize(300, 240)
        table.show()
        for down, right in ((0, 0), (37, 20), (10_000, 10_000)):
            table.verticalScrollBar().setValue(down)
            table.horizontalScrollBar().setValue(right)
            table.setCurrentIndex(table.indexAt(QPoint(60, 70)))
            view = table.viewport()
            whole = view.grab().toImage()
            for box in (
                QRect(0, 0, 90, 23), QRect(41, 60, 150, 61), QRect(0, view.height() - 9, view.width(), 9),
            ):  # fmt: skip
                self.assertEqual(view.grab(box).toImage(), whole.copy(box), (down, right, box))
        table.verticalScrollBar().setValue(0)
        table.horizontalScrollBar().setValue(0)
        table.setCurrentIndex(table.proxy.index(2, 1))
        rect = table.visualRect(table.proxy.index(2, 1))
        blue = pixels(table.viewport().grab().toImage(), "chosen", 6)
        self.assertGreater(blue.shape[1], 500)
        corners = QRect(QPoint(*blue.min(axis=1).tolist()), QPoint(*blue.max(axis=1).tolist()))
        self.assertTrue(rect.contains(corners), (rect, corners))
        with mock.patch.object(table, "hasFocus", return_value=True):
            ring = pixels(table.viewport().grab().toImage(), "water", 20)
        np.testing.assert_array_equal(ring.min(axis=1), [rect.left(), rect.top()])
        table.look_for("M-1")
        table.sortByColumn(1, Qt.SortOrder.AscendingOrder)
        table.verticalScrollBar().setValue(0)
        with mock.patch("fenwind.desk.cells._paint") as painted:
            table.viewport().grab()
        seen = list(dict.fromkeys(call.args[3]["name"] for call in painted.call_args_list))
        self.assertEqual(seen[:3], ["M-19", "M-18", "M-17"])
        self.assertTrue(all(name.startswith("M-1") for name in seen))

    def test_rows_that_come_after_others_leave_those_as_they_are(self) -> None:
        """What is equal is not told of anew; the others are, each run of them at once."""
        table = self.table()
        QAbstractItemModelTester(table.records, QAbstractItemModelTester.FailureReportingMode.Fatal, table)
        table.records.set_rows([{"name": f"M-{k}", "e": float(k), "held": False} for k in range(12)])
        table.setCurrentIndex(table.proxy.index(5, 1))
        told: list[tuple[int, int]] = []
        table.records.dataChanged.connect(lambda a, b: told.append((a.row(), b.row())))
        resets: list[int] = []
        table.records.modelReset.connect(lambda: resets.append(1))
        changed = {0, 3, 4, 5, 9, 11}
        rows = [dict(row, e=row["e"] + (k in changed)) for k, row in enumerate(table.records.rows)]
        rows += [{"name": "new", "e": 0.0, "held": True}]
        table.records.update_rows(rows)
        self.assertEqual(told, [(0, 0), (3, 5), (9, 9), (11, 11)])
        self.assertEqual((table.proxy.rowCount(), table.currentIndex().row(), resets), (13, 5, []))
        self.assertEqual(table.records.rows[12]["name"], "new")
        table.records.update_rows([dict(rows[0], name="other"), *rows[1:]])
        self.assertEqual(told[4:], [(0, 0)])
        self.assertEqual(table.records.rows[0]["name"], "other")
        table.records.update_rows(rows[:3])
        self.assertEqual((table.proxy.rowCount(), resets), (3, [1]))
        table.setCurrentIndex(table.proxy.index(2, 1))
        table.records.set_rows(rows[3:6])  # as many: what is selected stays so
        self.assertEqual((table.currentIndex().row(), resets, told[5:]), (2, [1], [(0, 2)]))
        table.records.set_rows(rows[:4])
        self.assertEqual((table.proxy.rowCount(), resets), (4, [1, 1]))

    def test_what_does_not_fit_ends_in_an_ellipsis(self) -> None:
        table = self.table()
        table.records.set_rows([{"name": "a name that is far too long for it", "e": 1.0, "held": True}])
        table.resize(400, 200)
        table.show()
        for wide, short in ((60, True), (600, False)):
            table.setColumnWidth(0, wide)
            with mock.patch("fenwind.desk.cells.shortened", side_effect=shortened) as asked:
                table.grab()
            found = [call.args[0] for call in asked.call_args_list if call.args[2] < wide]
            self.assertEqual(any(text.startswith("a name") for text in found), short, wide)

    def test_values_of_a_trail_are_broken_between_numbers_never_in_one(self) -> None:
        value = "463459.9983   6796549.9987   1238.8062"
        for width in range(90, 400, 10):
            lines = broken(value, float(width))
            self.assertEqual(" ".join(lines).split(), value.split(), width)
            self.assertTrue(all(QFontMetrics(font(12)).horizontalAdvance(x) <= width for x in lines))
        self.assertTrue(broken(value, 40.0)[0].startswith("46") and broken(value, 40.0)[0].endswith("…"))
        w = self.open()
        w.bridge.select("T-04")
        for width, breadth in ((1024, 3), (1800, 1)):
            w.shell.resize(width, 760)
            QTest.qWait(30)
            links = w.trail_pane.links
            self.assertGreaterEqual(links.minimumHeight(), breadth * 17 * len(links.links))
            self.assertEqual(links.minimumHeight(), links.sizeHint().height())
        note = "i " * int(0.7 * links.width() / QFontMetrics(font(12)).horizontalAdvance("i "))
        alone, beside = (Link(kind="record", title="t", note=note, values=v) for v in ((), ("1.0 m",)))
        self.assertLess(links._one(None, alone, 0.0), links._one(None, beside, 0.0))
        w.doubts.text.setText("A long doubt about a mark. " * 20)
        self.assertLess(w.doubts.text.minimumSizeHint().width(), 100)

    def test_model_obeys_qt(self) -> None:
        table = self.table()
        tester = QAbstractItemModelTester(
            table.records, QAbstractItemModelTester.FailureReportingMode.Warning
        )
        table.records.set_rows([{"name": "X", "e": 1.0, "held": False}])
        table.records.set_rows([])
        del tester  # what it finds becomes a Qt warning, which fails the test

    def test_sort_filter_copy_edit_and_boxes(self) -> None:
        table = self.table()
        table.sortByColumn(1, Qt.SortOrder.AscendingOrder)
        self.assertEqual(
            [table.row_at(table.proxy.index(i, 0))["name"] for i in range(3)],
            ["C", "B", "A"],
            "empty cells last",
        )
        table.sortByColumn(1, Qt.SortOrder.DescendingOrder)
        self.assertEqual([table.row_at(table.proxy.index(i, 0))["name"] for i in range(3)], ["B", "C", "A"])
        table.selectAll()
        QTest.keyClick(table, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
        self.assertEqual(
            QGuiApplication.clipboard().text(),
            f"mark\tE (m)\theld\nB\t{1 / 3!r}\tyes\nC\t-5.0\tyes\nA\t\tyes",
        )
        table.proxy.look_for("c")
        self.assertEqual(table.proxy.rowCount(), 1)
        table.proxy.look_for("")
        flags = [table.proxy.flags(table.proxy.index(1, k)) for k in (0, 1)]
        self.assertEqual([bool(flag & Qt.ItemFlag.ItemIsEditable) for flag in flags], [True, False])
        table.setCurrentIndex(table.proxy.index(1, 2))
        QTest.keyClick(table, Qt.Key.Key_Space)
        self.assertFalse(table.row_at(table.proxy.index(1, 0))["held"])
        self.assertTrue(table.model().setData(table.proxy.index(1, 0), "Z"))
        self.assertEqual(table.records.rows[2]["name"], "Z")
        self.assertFalse(
            table.model().setData(table.proxy.index(0, 1), "5"), "a column without edit stays as it is"
        )


class Marks(QtTestCase):
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
        text = "name,e,n,h\n" + "\n".join(f"P{i},{i * 1.5},{i * 2.5},10" for i in range(9000))
        w.pages["Marks"].paste(text)
        self.wait_for(
            lambda: (
                w.pages["Marks"].incoming.take.text() == "Take 9000 rows"
                and w.pages["Marks"].incoming.take.isEnabled()
            )
        )
        w.pages["Marks"].incoming.take.click()
        self.wait_for(lambda: w.bridge._keeping)
        w.bridge.undo()
        new = gestures.new_mark(w.bridge.state, "while it is kept")[1]
        self.assertFalse(w.bridge.do(new), "one gesture after the other")
        self.assertIn("Still keeping", w.line.text())
        self.wait_for(lambda: len(w.bridge.state.marks) == 9000)
        self.assertEqual(len(w.bridge.state.given), 9000)
        self.assertIs(w.pages["Marks"].stack.currentWidget(), w.pages["Marks"].marks)
        w.bridge.undo()
        self.assertEqual(len(w.bridge.state.marks), 0)
        w.pages["Marks"].paste(text)
        w.pages["Marks"].incoming._task.cancel()
        self.wait_for(lambda: w.pages["Marks"].stack.currentWidget() is w.pages["Marks"].marks)
        self.assertEqual(len(w.bridge.state.marks), 0)


class Window(QtTestCase):
    def test_every_command_is_unique_has_a_tip_and_a_menu_and_is_found(self) -> None:
        w = self.open()
        keys = [s.shortcut for s in w.actions.specs.values() if s.shortcut] + [
            f"Ctrl+{i}" for i in range(1, 9)
        ]
        self.assertEqual(len(keys), len(set(keys)))
        listed = [a.objectName() for m in w.actions.menu.actions() for a in m.menu().actions()]
        self.assertEqual(sorted(listed), sorted(w.actions.specs))
        self.assertTrue(all(s.tip and s.text for s in w.actions.specs.values()))
        QTest.keyClick(w.shell, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
        QTest.keyClicks(w.finder.edit, "hand report")
        QTest.keyClick(w.finder.edit, Qt.Key.Key_Return)
        self.assertEqual((w.stage, w.pages["Handover"].kind), ("Handover", "html"))
        w.open_finder()
        QTest.keyClicks(w.finder.edit, "p-07")
        QTest.keyClick(w.finder.edit, Qt.Key.Key_Return)
        self.assertEqual(w.bridge.selection, "P-07")
        entries = [
            Found("Undo", "", lambda: None),
            Found("P-01", "", lambda: None),
            Found("XP-01", "", lambda: None),
        ]
        self.assertEqual([f.text for f in matching(entries, "p-0")], ["P-01", "XP-01"])

    def test_stages_that_wait_and_measuring(self) -> None:
        w = self.open()
        for name in ("Sessions", "Setups", "Network", "Ground"):
            w.show_stage(name)
            self.assertEqual(w.stage, name)
        w.show_stage("Fits")
        w.actions.run("plan.measure")
        w.plan_pane.plan._click("T-01")
        w.plan_pane.plan._click("T-02")
        self.assertIn("T-01 → T-02", w.plan_pane.result.text())
        self.assertNotIn("combined factor", w.plan_pane.result.text(), "a local plane has no factor")
        w.bridge.attempt(
            lambda: (
                "show",
                __import__("fenwind.job.gestures", fromlist=["x"]).set_field(
                    [w.bridge.state.info], "frame", "map", "show"
                )[1],
            )
        )
        w.show_stage("Marks")
        w.plan_pane.plan._click("T-02")
        w.plan_pane.plan._click("T-03")
        self.assertRegex(w.plan_pane.result.text(), r"ellipsoid .* ground .*combined factor 0\.9994")

    def test_what_cannot_be_opened_is_said_in_the_window(self) -> None:
        launch = self.launch(str(self.folder / "none.fenwind"))
        self.wait_for(lambda: "no such job" in launch.shell.note.text())
        (self.folder / "bad.fenwind").write_bytes(b"SQLite format 3\x00" + b"\x07" * 5000)
        launch = self.launch(str(self.folder / "bad.fenwind"))
        self.wait_for(lambda: "damaged" in launch.shell.note.text())

    def test_the_intact_part_of_a_damaged_job_is_offered_and_read_only(self) -> None:
        path = self.folder / "hurt.fenwind"
        job = Job.create(path, "hurt", [Mark(id="m", name="M")])
        job.record("code", [amend(job.state.marks["m"], code="SEEN")])
        job.close()
        path.write_bytes(path.read_bytes().replace(b"SEEN", b"SEEM"))
        launch = self.launch(str(path))
        self.wait_for(lambda: launch.shell.note_button.isVisible())
        self.assertIn("damaged at gesture 2", launch.shell.note.text())
        QTest.keyClick(launch.shell.note_button, Qt.Key.Key_Space)
        self.wait_for(lambda: launch.workspace is not None)
        bridge = launch.workspace.bridge
        self.assertEqual(bridge.state.marks["m"].code, "")
        self.assertIn("read only", launch.shell.header.kept.text())
        self.assertFalse(bridge.do(Gesture("x", (amend(bridge.state.marks["m"], code="N"),))))
        self.assertIn("Copy the job", launch.workspace.line.text())

    def test_a_disk_that_fills_up_is_said_and_nothing_changes(self) -> None:
        w = self.open()
        db = w.bridge.job._file._db
        db.execute(f"PRAGMA max_page_count={db.execute('PRAGMA page_count').fetchone()[0]}")
        w.show_stage("Marks")
        before = w.bridge.state.records
        w.pages["Marks"].paste("name,e,n\n" + "\n".join(f"Z{i},1,{i}" for i in range(2000)))
        w.pages["Marks"].incoming.take.click()
        self.assertIn("disk is full", w.line.text())
        self.assertEqual(w.bridge.state.records, before)

    def test_a_job_file_taken_away_is_said_and_never_called_kept(self) -> None:
        w = self.open()
        self.assertIn("all kept", w.shell.header.kept.text())
        Path(w.bridge.job.path).unlink()
        mark = w.bridge.state.mark_named("P-01")
        self.assertFalse(w.bridge.do(gestures.rename_mark(w.bridge.state, mark, "Q")))
        self.assertIn("nothing is kept there any more", w.line.text())
        self.assertIn("not kept", w.shell.header.kept.text())
        w.bridge.copy_job(str(self.folder / "saved.fenwind"))
        self.assertEqual(len(Job.open(self.folder / "saved.fenwind").state.marks), len(w.bridge.state.marks))

    def test_demo_is_kept_and_fresh_keeps_the_old_one(self) -> None:
        w = self.open()
        path = Path(w.bridge.job.path)
        w.actions.run("job.quit")
        w = self.open("--fresh")
        self.assertEqual(len(list(self.folder.glob("*.fenwind"))), 2)
        self.assertEqual(Path(w.bridge.job.path), path)
        w.shell.close()
        Job.open(path).close()


class PlainText(QtTestCase):
    def test_names_are_shown_as_they_are(self) -> None:
        w = self.open()
        name = '<img src="x"> <b>T</b>'
        mark = w.bridge.state.mark_named("T-09")
        w.bridge.do(gestures.rename_mark(w.bridge.state, mark, name))
        w.bridge.select(name)
        w.doubts.toggle_list()
        for stage in ("Frame", "Marks", "Fits", "Handover"):
            w.show_stage(stage)
            for label in w.shell.findChildren(QLabel):
                if name in label.text():
                    self.assertEqual(label.textFormat(), Qt.TextFormat.PlainText, label.text())
        self.assertTrue(any(name in label.text() for label in w.shell.findChildren(QLabel)), "it is shown")
        self.assertEqual(plain_tip(name), "<span>&lt;img src=&quot;x&quot;&gt; &lt;b&gt;T&lt;/b&gt;</span>")


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


class LongWork(QtTestCase):
    def test_a_long_derivation_goes_to_a_worker_and_can_be_stopped(self) -> None:
        w = self.open()
        b = w.bridge
        b.long_s = 0.0
        step, marks = b.fit, b.state.marks
        before = b.derived
        b.do(gestures.set_use(b.state, step, [marks["T-03"]], "off"))
        self.assertTrue(b.deriving)
        self.assertIs(b.derived, before, "what is shown stays until the worker is done")
        b.do(
            gestures.set_use(b.state, b.fit, [marks["T-06"]], "off")
        )  # another change meanwhile: the worker starts again
        self.wait_for(lambda: b.derived is not before)
        self.assertEqual(b.derived.fits[b.fit.id].case.result.options.off, frozenset(["T-03", "T-06"]))
        self.assertFalse(b.deriving)
        before = b.derived
        b.undo()
        w.shell.header.stop.click()
        self.wait_for(lambda: not b.deriving)
        if b.derived is before:  # it was stopped in time
            self.assertIn("F5", w.line.text())
        w.actions.run("edit.derive")
        self.wait_for(lambda: "T-06" not in b.derived.fits[b.fit.id].case.result.options.off)

    def test_the_first_change_of_a_large_job_goes_to_a_worker(self) -> None:
        """Before it is known how long one takes: by its marks, or by the observations of its network."""
        job = self.open().bridge.job
        many, few = len(job.state.marks), {"MANY_MARKS": 10**6, "MANY_OBSERVATIONS": 10**6}
        rows = max(len(one.kind) for one in job.state.of(ObservationSet).values())
        for limits, apart in (
            ({}, False), ({"MANY_MARKS": many}, False), ({"MANY_MARKS": many - 1}, True),
            ({"MANY_OBSERVATIONS": rows}, False), ({"MANY_OBSERVATIONS": rows - 1}, True),
        ):  # fmt: skip
            with self.subTest(limits), mock.patch.multiple("fenwind.desk.bridge", **(few | limits)):
                bridge = JobBridge(job)
                self.addCleanup(bridge._runner.shut_down)
                bridge.rederive()
                self.assertEqual(bridge.deriving, apart)

    def test_short_work_is_not_shown_as_work(self) -> None:
        header = self.open().shell.header
        header.show_busy(True)
        self.assertFalse(header.stop.isVisible())
        self.wait_for(header.stop.isVisible)
        header.show_progress(3, 10, "")
        self.assertEqual((header.progress.value(), header.progress.maximum()), (3, 10))
        header.show_busy(False)
        self.assertFalse(header.stop.isVisible() or header.progress.isVisible())

    def test_the_before_and_after_list_and_axis_order(self) -> None:
        w = self.open()
        w.doubts.findChild(type(w.doubts.all), "settle-swap-axes").click()
        w.line.list.click()
        rows = {r.name: r for r in w.line.table.records.rows}
        self.assertEqual(len(rows), 32)
        self.assertAlmostEqual(abs(rows["T-09"].de), 31.014, places=3)
        self.choose(w.shell.header.parts["units"], "northing first")
        w.show_stage("Marks")
        heads = [c.title for c in w.pages["Marks"].marks.table.records.columns]
        self.assertLess(heads.index("N"), heads.index("E"))
        w.show_stage("Handover")
        self.assertTrue(w.pages["Handover"].text.toPlainText().startswith("name,n,e,h"))
        w.pages["Marks"].paste("Q-1 2000 1000 5\nQ-2 2001 1001 5\n")
        self.assertEqual(w.pages["Marks"].incoming._match.columns, {"name": 0, "n": 1, "e": 2, "h": 3})


class Ring:
    """Garbage that only a look at everything finds."""

    def __init__(self) -> None:
        self.own = self


class InAHurry(QtTestCase):
    def test_whoever_is_left_stays_in_a_hurry(self) -> None:
        b = self.open().bridge
        b.hurry("receivers", derive_apart=True)
        b.hurry("instrument")
        for who, hurried, apart in (("instrument", True, True), ("instrument", True, True),
                                    ("receivers", False, False)):  # fmt: skip
            b.take_time(who)
            self.assertEqual((b.in_turns, b.long_s == 0.0), (hurried, apart))
        with mock.patch("fenwind.desk.bridge.MANY_MARKS", 1):
            self.assertEqual((b.in_turns, b.long_s > 0.0), (True, True), "many marks")
        b.hurry("instrument")
        self.assertEqual((b.in_turns, b.long_s > 0.0), (True, True))

    def test_a_trail_follows_the_selected_mark_a_turn_later(self) -> None:
        w = self.open()
        w.show_stage("Marks")
        w.bridge.hurry("receivers")
        w.bridge.select("T-02")
        self.assertNotEqual(w.trail_pane.links.title, "TRAIL OF T-02", "the mark first")
        self.wait_for(lambda: w.trail_pane.links.title == "TRAIL OF T-02")
        w.bridge.take_time("receivers")
        w.bridge.select("T-03")
        self.assertEqual(w.trail_pane.links.title, "TRAIL OF T-03")


class Collected(QtTestCase):
    def test_what_stays_is_looked_at_once(self) -> None:
        launch = self.launch()
        self.wait_for(lambda: launch.workspace)
        held = gc.get_freeze_count()
        self.assertGreater(held, 10_000, "the job that was opened")
        kept = [[k] for k in range(50_000)]
        ring = Ring()
        left = weakref.ref(ring)
        with (
            mock.patch("fenwind.desk.collector.LONG_S", 0.0),
            mock.patch("fenwind.desk.collector.gc.get_count", return_value=(10_000, 0, 0)),
        ):
            launch._collector.collect()
        self.assertGreater(gc.get_freeze_count(), held + len(kept) - 1, "what a long look has left")
        del ring
        with (
            mock.patch("fenwind.desk.collector.gc.get_count", return_value=(50_000, 0, 0)),
            mock.patch("fenwind.desk.collector.gc.collect") as looked,
        ):
            launch._collector.collect()
        looked.assert_not_called()  # so much that is new is set aside unseen
        gc.collect()
        self.assertIsNotNone(left(), "set aside")
        with (
            mock.patch("fenwind.desk.collector._nobody_looks", return_value=True),
            mock.patch("fenwind.desk.collector.gc.get_count", return_value=(0, 0, 100)),
        ):
            launch._collector.collect()
        self.assertIsNone(left(), "while nobody works everything is looked at")


class Sentences(QtTestCase):
    def test_widgets_are_used_again_and_lines_break_like_text(self) -> None:
        statement = Statement()
        statement.resize(700, 60)
        statement.show()
        sentence = [
            Part(text="Held are "), Part(text="3 marks", key="held"), Part(text=", the rest is free."),
        ]  # fmt: skip

        def shown() -> list[QLabel | QPushButton]:
            found = [
                w for w in statement.children() if isinstance(w, (QLabel, QPushButton)) and w.isVisible()
            ]
            return sorted(found, key=lambda w: (w.y(), w.x()))

        statement.show_parts([*sentence, Part(text=" Nothing more is said.")])
        button = statement.parts["held"]
        for parts in (sentence, [sentence[0], Part(text="12 & more", key="held"), sentence[2]], sentence):
            statement.show_parts(parts)
            said = "".join(w.text() for w in shown()).replace("&&", "&")
            self.assertEqual(said, "".join(part.text for part in parts))
            self.assertIs(statement.parts["held"], button)
            statement.show_parts([*parts, *parts])  # a key that comes twice leaves nothing behind
            statement.show_parts(parts)
            self.assertEqual("".join(w.text() for w in shown()).replace("&&", "&"), said)
            button = statement.parts["held"]
            needed = QFontMetrics(font(19, MEDIUM)).horizontalAdvance(parts[1].text)
            self.assertGreater(button.width(), needed)
        for width in range(700, 100, -3):
            statement.resize(width, 60)
            boxes = [w.geometry() for w in shown()]
            self.assertTrue(all(b.left() >= 0 and b.right() < width for b in boxes), width)
            self.assertFalse(any(a.intersects(b) for k, a in enumerate(boxes) for b in boxes[:k]), width)
            self.assertEqual(statement.height(), max(b.bottom() for b in boxes) + 1)
            comma = next(w for w in shown() if w.text().startswith(","))
            self.assertEqual((comma.y(), comma.x()), (button.y(), button.x() + button.width()), "not alone")
        self.assertGreater(len({b.top() for b in boxes}), 2)

    def test_what_is_glued_stays_on_the_page(self) -> None:
        """A label, a value and two buttons with gaps between them go to the next line together."""
        flow = Flow(gap=6)
        widgets: list[QWidget] = []
        for group in range(3):
            for k in range(4):
                widget = QPushButton(f"{group}{k}")
                widget.setProperty("glued", k > 0)
                widget.setFixedSize(40, 20)
                widgets.append(widget)
        flow.set_widgets(widgets)
        flow.show()
        for width in range(180, 600, 2):
            flow.resize(width, flow.height())
            self.assertTrue(all(w.geometry().right() < width for w in widgets), width)
            lines = [{w.y() for w in widgets[4 * g : 4 * g + 4]} for g in range(3)]
            self.assertEqual([len(line) for line in lines], [1, 1, 1], width)


class GoingFirst(QtTestCase):
    def test_workers_pause_while_the_window_is_at_work(self) -> None:
        """For a while, not for ever, each time they look whether to stop or breathe; never its own thread."""
        task, slept = Task(lambda progress: None), []

        def sleep(seconds: float) -> None:
            slept.append(seconds)
            self.assertLess(len(slept), 1000)

        with (
            mock.patch("fenwind.desk.tasks.time.sleep", side_effect=sleep),
            mock.patch("fenwind.desk.tasks.time.monotonic", side_effect=lambda: sum(slept)),
        ):
            looks = (task.check, breathe, lambda: list(in_pieces(range(7), 4)))
            for look, times in zip(looks, (1, 1, 2), strict=True):
                self.in_a_worker(look)
                self.assertEqual(slept, [])
                with AT_WORK, AT_WORK:
                    look()
                    self.assertEqual(slept, [], "the window does not wait for itself")
                    self.in_a_worker(look)
                self.assertAlmostEqual(sum(slept), times * PATIENCE_S, delta=0.004)
                del slept[:]
                self.in_a_worker(look)
                self.assertEqual(slept, [])

    @staticmethod
    def in_a_worker(look: Callable[[], object]) -> None:
        worker = threading.Thread(target=look)
        worker.start()
        worker.join()

    def test_all_that_is_painted_goes_first(self) -> None:
        depths: list[int] = []

        class Probe(QWidget):
            def paintEvent(self, event: object) -> None:
                depths.append(AT_WORK._depth)

        shell = Shell()
        probe = Probe(shell.body)
        shell.show()
        self.wait_for(lambda: depths)
        del depths[:]
        probe.update()
        self.wait_for(lambda: depths)
        self.assertEqual((depths, AT_WORK._depth), ([1], 0))


class InTurns(QtTestCase):
    def test_pieces_come_one_a_turn_and_the_newest_only(self) -> None:
        done: list[str] = []
        turns = Turns(self.app)
        turns.run([lambda: done.append("old"), lambda: done.append("older")], apart=True)
        turns.run([lambda: done.append("a"), lambda: done.append("b")], apart=True)
        self.assertEqual(done, [])
        QApplication.processEvents()
        self.assertEqual(done, ["a"])
        self.wait_for(lambda: len(done) == 2)
        turns.run([lambda: done.append("c"), lambda: done.append("d")], apart=False)
        self.assertEqual(done, ["a", "b", "c", "d"])
        turns.run([lambda: done.append("e")], apart=True)
        turns.then(lambda: done.append("f"))
        self.wait_for(lambda: len(done) == 6)
        self.assertEqual(done[4:], ["e", "f"])


class Plans(QtTestCase):
    def test_pan_zoom_pick_and_many(self) -> None:
        rng = np.random.default_rng(5)
        k = 3000
        plan = Plan()
        plan.resize(400, 300)
        e, n = rng.uniform(0, 1000, k), rng.uniform(0, 1000, k)
        names = tuple(f"P{i}" for i in range(k))
        full = Scene(
            title="t", names=names, e_m=e, n_m=n, symbol=np.array([RING, TRIANGLE, SQUARE] * 1000, np.int8),
            off=np.zeros(k, bool),
        )  # fmt: skip
        plan.show_scene(replace(full, names=names[:1], e_m=e[:1], n_m=n[:1], symbol=full.symbol[:1],
                                off=full.off[:1]))  # fmt: skip
        for at in ((200, 290), (200, 10), (390, 150), (10, 150)):  # in view, its name hardly
            for k in (2, 3):
                three = [
                    np.append(v[:2], w) for v, w in zip((e, n), plan.to_ground(QPointF(*at)), strict=True)
                ]
                plan.show_scene(replace(full, names=names[:k], e_m=three[0][:k], n_m=three[1][:k],
                                        symbol=full.symbol[:k], off=full.off[:k]))  # fmt: skip
                if k == 2:
                    plan.fit_all()
            x, y = plan.to_pixels(*three)
            self.assertTrue(((x >= 30) & (x <= 370) & (y >= 30) & (y <= 270)).all())
        plan.show_scene(full)  # what comes in beyond the edge is brought into a view that nobody has moved
        x, y = plan.to_pixels(e, n)
        self.assertTrue(((x > 20) & (x < 380) & (y > 20) & (y < 280)).all())
        plan.show()
        QTest.qWait(1)
        picture = plan.grab().toImage()
        x, y = plan.to_pixels(e[7], n[7])
        self.assertLess(
            picture.pixelColor(int(x), int(y)).lightness(), 100, "a stamped mark is where it belongs"
        )
        at = QPointF(123.0, 88.0)
        before = plan.to_ground(at)
        plan.zoom(8.0, at)
        np.testing.assert_allclose(plan.to_ground(at), before, atol=1e-6)
        QTest.mousePress(plan, Qt.MouseButton.LeftButton, pos=QPoint(100, 100))
        QTest.mouseMove(plan, QPoint(160, 100))
        QTest.mouseRelease(plan, Qt.MouseButton.LeftButton, pos=QPoint(160, 100))
        x, y = plan.to_pixels(e[9], n[9])
        self.assertEqual(plan.name_at(QPointF(float(x), float(y))), "P9")
        plan.show_scene(Scene())
        self.assertEqual(plan.name_at(at), "")

    def test_ellipses_and_hull(self) -> None:
        covariance = np.zeros((2, 2, 2))
        covariance[0, 0], covariance[1, 1] = [4e-6, 1e-6], [1e-6, 1e-6]
        a, b, azimuth = error_ellipses(covariance, 2.4477)
        # 2.4477 sigma holds 95 % of a plane error (chi-square with 2 degrees of freedom, 5.991).
        np.testing.assert_allclose([a[0], b[0], a[1]], np.array([2, 1, 1]) * 1e-3 * 2.4477, rtol=1e-4)
        self.assertAlmostEqual(abs(math.degrees(azimuth[0])), 90.0)
        hull = convex_hull(np.array([0.0, 4, 4, 0, 2]), np.array([0.0, 0, 3, 3, 1]))
        self.assertEqual(hull.shape, (2, 4))
