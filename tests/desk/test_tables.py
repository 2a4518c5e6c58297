"""Tables: sorted, copied, edited, and painted where and as they are."""

import math
from unittest import mock

import numpy as np
from PySide6.QtCore import QPoint, QRect, Qt
from PySide6.QtGui import QFontMetrics, QGuiApplication
from PySide6.QtTest import QAbstractItemModelTester, QTest

from fenwind.desk.cells import Column, shortened
from fenwind.desk.table import RecordTable
from fenwind.desk.theme import DAY, NIGHT, font
from fenwind.desk.trail import broken
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
        table.records.set_rows([{"name": "2026-06-09", "e": 1.0, "held": True}])
        table.horizontalScrollBar().setValue(0)
        for width, whole in ((400, True), (70, False)):
            table.resize(width, 200)
            with mock.patch("fenwind.desk.cells.shortened", side_effect=shortened) as asked:
                table.viewport().grab()
            self.assertEqual(asked.call_args_list == [], whole, "an ellipsis where a word leaves the table")

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
