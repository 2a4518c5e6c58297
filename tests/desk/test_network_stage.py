"""The Network stage through the window: a sentence, observations with their figures, what would be without
one, a file taken in."""

from dataclasses import replace
from unittest import mock

from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QContextMenuEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMenu

from fenwind.job.gestures import change_frame, set_field
from fenwind.job.steps.outcome import Node
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.quantities.numbers import format_fixed
from fenwind.records.network import NetworkStep, ObservationSet
from fenwind.records.sessions import Occupation
from fenwind.records.setups import Setup
from tests.desk.qt_case import QtTestCase


class NetworkStage(QtTestCase):
    own_windows = True

    def test_the_demo_network(self) -> None:
        w = self.open()
        w.show_stage("Network")
        page = w.pages["Network"].network
        self.assertEqual(
            page.statement.text(),
            "Adjust Tarnholt 2026, 51 observations in three dimensions in ETRS89 / UTM 32N, holding all "
            "that is known, plumb lines of TN geoid (made up), refraction 0.13, weights as stated, no bias, "
            "centring left out, no second opinion.",
        )
        self.assertRegex(
            page.verdict.text(), r"^49 left over; variance factor 1\.11, probability 0\.28\d: the"
        )
        found, columns = page.found(), {c.key: c for c in page.table.records.columns}
        for row in page.table.records.rows:
            if row.kind == "vector":
                continue
            figures = found.figures[found.rows[row.number]]
            angle = row.kind in ("direction", "zenith")
            unit, word = (RAD_PER_SECOND, "″") if angle else (1e-3, " mm")
            self.assertIn(f"{abs(figures.residual[0]) / unit:.1f}{word}", columns["residual"].text(row))
            if abs(figures.residual[0]) > 0.1 * unit:
                self.assertEqual(columns["residual"].text(row)[0], "−" if figures.residual[0] < 0 else "+")
            self.assertEqual(columns["mdb"].text(row), f"{figures.mdb[0] / unit:.1f}{word}")
            self.assertEqual(columns["external"].text(row), f"{figures.external[0] * 1000:.1f}")
            self.assertAlmostEqual(columns["w"].bar(row), figures.w[0] / 3.290527, 6)
        flat = replace(found, result=replace(found.result, net=replace(found.result.net, plane=True)))
        step = w.bridge.state.of(NetworkStep)["net-1"]
        for one, told in ((found, True), (flat, False)):  # plumb lines of a plane are parallel
            self.assertIs("slope" in {part.key for part in page._parts(step, one)}, told)
        scene = w.plan_pane.plan.scene
        self.assertEqual(scene.title, "ETRS89 / UTM 32N")
        self.assertEqual(scene.lines.shape[1], 20)

    def test_loops(self) -> None:
        w = self.open()
        w.actions.run("network.show.loops")
        page, b = w.pages["Network"], w.bridge
        sheet = page.sheet
        self.assertEqual(page.chips[1].text(), "Loops 11")
        self.assertEqual(sheet.statement.text(), "Each of 11 loops may miss by 3.29 of its sigmas.")
        self.assertEqual(sheet.verdict.text(), "None misses by more.")
        columns = {c.key: c for c in sheet.table.records.columns}
        rows = sheet.table.records.rows
        self.assertEqual([r.share for r in rows], sorted((r.share for r in rows), reverse=True))
        for row in rows:
            k = row.worst
            size, word = (1.0, "″") if row.loop.kind == "triangle" else (1000.0, " mm")
            value = f"{row.loop.misclosure[k] * size:+.1f}{word}".replace("-", "−")
            self.assertEqual(columns["misses"].text(row), value)
            self.assertAlmostEqual(columns["misses"].bar(row), row.loop.misclosure[k] / row.loop.limit[k])
            self.assertEqual(columns["limit"].text(row), f"{row.loop.limit[k] * size:.1f}{word}")
            parts = [f"{v * 1000.0:+.1f}".replace("-", "−") for v in row.loop.misclosure]
            self.assertEqual(columns["parts"].text(row).split(), parts if len(parts) == 3 else [])
        self.assertTrue(page.chips[1].isChecked())
        vector = [i for i, r in enumerate(rows) if r.loop.kind == "vector"][-1]
        sheet.table.setCurrentIndex(sheet.table.proxy.index(vector, 1))
        scene = w.plan_pane.plan.scene
        names = rows[vector].loop.names
        self.assertEqual(scene.coming.lines.shape, (4, len(names) - 1))
        first = scene.names.index(names[0])
        self.assertEqual(tuple(scene.coming.lines[:2, 0]), (scene.e_m[first], scene.n_m[first]))
        with mock.patch.object(page.network, "_choose_file") as asked:
            w.actions.run("network.take")
        asked.assert_called_once()
        self.assertIs(page.sheet, page.network, "what is taken in is seen")
        page.show_sheet(sheet)
        QTest.mouseClick(sheet.statement.parts["limit"], Qt.MouseButton.LeftButton)
        for text, stays in (("nonsense", True), ("0, 0", True), ("2, 1", False)):
            sheet.ask.edit.setText(text)
            QTest.keyClick(sheet.ask.edit, Qt.Key.Key_Return)
            self.assertEqual(sheet.ask.isVisible(), stays)
        self.assertEqual(b.state.of(NetworkStep)["net-1"].loop_limit, (0.002, 1e-6))
        self.assertIn("miss by more", sheet.verdict.text())
        self.assertIn("2 mm + 1 ppm", sheet.statement.text())
        tones = [columns["misses"].tone(row) for row in sheet.table.records.rows]
        self.assertEqual(tones, ["doubt" if r.loop.over else "" for r in sheet.table.records.rows])
        self.assertIn("doubt", tones)
        b.do(change_frame(b.frame, "feet", unit="ft"))
        column = next(c for c in sheet.table.records.columns if c.key == "length")
        row = sheet.table.records.rows[0]
        self.assertEqual((column.unit, column.text(row)), ("ft", format_fixed(row.loop.length / 0.3048, 1)))

    def test_leaving_out_and_trying_without(self) -> None:
        w = self.open()
        w.show_stage("Network")
        page, b = w.pages["Network"].network, w.bridge
        place = page.table.visualRect(page.table.proxy.index(2, 3)).center()
        QTest.mouseClick(page.table.viewport(), Qt.MouseButton.LeftButton, pos=place)
        row = page.table.records.rows[2]
        self.assertEqual(w.trail_pane.links.title, f"WITHOUT THE {row.kind.upper()} {row.at} – {row.to}")
        page.table.setCurrentIndex(page.table.proxy.index(20, 1))
        heading, links = page.trail()
        row = page.table.records.rows[20]
        self.assertEqual(heading, f"WITHOUT THE {row.kind.upper()} {row.at} – {row.to}")
        tried = links[0].values[0]
        w.actions.run("network.off")
        self.assertEqual(b.state.of(NetworkStep)["net-1"].off, (20,))
        self.assertIn("50 observations", page.statement.text())
        self.assertIn(f"variance factor {tried}", page.verdict.text())
        self.assertEqual([r.on for r in page.table.records.rows].count(False), 1)
        w.actions.run("network.on")
        self.assertEqual(b.state.of(NetworkStep)["net-1"].off, ())
        self.choose(page.statement.parts["hold"], "free, lying on what is known")
        self.assertIn("free, lying on what is known", page.statement.text())
        self.choose(page.statement.parts["hold"], "T-02")
        self.assertIn("holding T-01", page.statement.text())
        self.choose(page.statement.parts["slope"], "taken as normals of the ellipsoid")
        self.assertIn("adjust.deflection", [d.rule for d in b.findings.open])
        page.statement.parts["k"].click()
        page.ask.edit.setText("nine")
        page.ask.ok.click()
        self.assertTrue(page.ask.isVisible())
        page.ask.edit.setText("0.2")
        page.ask.ok.click()
        self.assertEqual(b.state.of(NetworkStep)["net-1"].k, 0.2)

    def test_figures_are_there_before_the_rest(self) -> None:
        """What is looked at is shown as soon as a worker knows it; not what another gesture has overtaken."""
        w = self.open()
        w.show_stage("Network")
        page, b = w.pages["Network"].network, w.bridge
        self.let_run(w)
        self.enterContext(mock.patch("fenwind.desk.job_owner.SHORT_S", 0.0))
        seen: list[tuple[bool, int, bool]] = []

        def look() -> None:
            self.assertTrue(b.deriving)
            self.assertIsNone(b.ahead_of(Node("loops", "net-1")))
            rows = page.table.records.rows
            old = b.derived.of_kind("network")["net-1"].step.off
            seen.append((rows[0].on, sum(r.lost for r in rows), bool(old)))

        b.came_ahead.connect(look)
        page._toggle(page.table.records.rows[0])
        self.wait_for(lambda: not b.deriving)
        self.assertEqual(seen, [(False, 1, False)])
        self.assertIsNone(b.ahead_of(page.node_of(page.step)))
        page._toggle(page.table.records.rows[0])
        page._toggle(page.table.records.rows[1])  # the first of the two is not told of
        self.wait_for(lambda: not b.deriving)
        self.assertEqual(len(seen), 2)
        w.show_stage("Marks")
        b.do(set_field(list(b.state.marks.values())[:1], "code", "X", "Set a code"))
        self.wait_for(lambda: not b.deriving)
        self.assertEqual(len(seen), 2, "nothing that is worked out is looked at")

    def test_a_file_is_taken_in_and_a_bad_one_says_where(self) -> None:
        w = self.open()
        w.show_stage("Network")
        page, b = w.pages["Network"].network, w.bridge
        bad = self.folder / "bad.csv"
        bad.write_text("kind,at,to,value\ndistance,T-01,T-02,far\n")
        self.assertFalse(page.take(str(bad)))
        self.assertIn("line 2: column value", w.line.text())
        good = self.folder / "rounds.csv"
        good.write_text(
            "kind,at,to,value\ndistance,T-01,N-1,400.0\ndistance,T-02,N-1,600.0\ndistance,T-04,N-1,900\n"
        )
        self.assertTrue(page.take(str(good)))
        self.assertEqual(len(b.state.of(ObservationSet)), 2)
        self.assertIn("Adjust rounds, 3 observations", page.statement.text())
        self.assertIsNotNone(b.state.mark_named("N-1"))
        b.undo()
        self.assertIsNone(b.state.mark_named("N-1"))
        self.assertIn("Tarnholt 2026", page.statement.text())


class Everyday(QtTestCase):
    """What every table does: Tab leaves it, Delete leaves out, a menu for the selection."""

    def test_tab_delete_and_menus(self) -> None:
        w = self.open()
        w.shell.activateWindow()
        for stage, table_of, off in (
            ("Network", lambda p: p.network.table, lambda s: s.of(NetworkStep)["net-1"].off),
            ("Setups", lambda p: p.setups.table, lambda s: s.of(Setup)["setup-1"].use[:1]),
            ("Sessions", lambda p: p.table, lambda s: not s.of(Occupation)["o-T-01-1"].active),
            ("Marks", lambda p: p.marks.table, lambda s: not s.marks["T-01"].active),
        ):
            with self.subTest(stage=stage):
                w.show_stage(stage)
                table = table_of(w.pages[stage])
                table.setCurrentIndex(table.proxy.index(0, 1))
                before = off(w.bridge.state)
                table.contextMenuEvent(
                    QContextMenuEvent(QContextMenuEvent.Reason.Keyboard, QPoint(5, 5), QPoint(50, 50))
                )
                menu = next(
                    m for m in QApplication.topLevelWidgets() if isinstance(m, QMenu) and m.isVisible()
                )
                words = [a.text() for a in menu.actions()]
                self.assertEqual(words[0], "Copy with headers")
                self.assertGreater(len(words), 3)
                menu.close()
                QTest.keyClick(table, Qt.Key.Key_Delete)
                self.assertNotEqual(off(w.bridge.state), before)
                w.bridge.undo()
                self.assertEqual(off(w.bridge.state), before)
                table.setFocus()
                QTest.keyClick(table, Qt.Key.Key_Tab)
                self.assertFalse(table.hasFocus())
        plan = w.plan_pane.plan
        x, y = plan.to_pixels(plan.scene.e_m, plan.scene.n_m)
        row = plan.scene.names.index("T-05")
        at = QPoint(int(x[row]), int(y[row]))
        plan.contextMenuEvent(QContextMenuEvent(QContextMenuEvent.Reason.Mouse, at, plan.mapToGlobal(at)))
        self.assertEqual(w.bridge.selection, "T-05")
        self.assertTrue(any(isinstance(m, QMenu) and m.isVisible() for m in QApplication.topLevelWidgets()))

    def test_everything_observed(self) -> None:
        w = self.open()
        b = w.bridge
        b.do(set_field([b.state.info], "frame", "map", "Show the map frame"))
        w.actions.run("network.everything")
        page = w.pages["Network"].network
        found, step = page.found(), page.step
        count = len(found.observations.kind)
        said = f"Adjust everything observed, {count} observations in three dimensions"
        self.assertIn(said, page.statement.text())
        rows = page.table.records.rows
        self.assertIn("B2", {row.at for row in rows})  # a base on no mark
        row = next(r for r in rows if r.at == "St-2" and r.to == "T-08" and r.kind == "distance")
        self.assertGreater(abs(row.w), 4.0)
        page._toggle(row)
        self.assertEqual(page.step.off, (row.key,))
        self.assertRegex(str(row.key), r"^setup-3:\d+:distance$")
        self.assertIn(f"{count - 1} observations", page.statement.text())
        row = next(r for r in page.table.records.rows if r.key == row.key)
        self.assertFalse(row.on)
        page._toggle(row)
        self.assertEqual((page.step.off, page.step.id), ((), step.id))
        menu = QMenu()
        page._menu_rows(menu)
        next(a for a in menu.actions() if a.text() == "Network 1").trigger()
        self.assertIn("51 observations", page.statement.text())
