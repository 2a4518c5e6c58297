"""Designs, two epochs and the weights of a network through the window."""

import math
from typing import Any

import numpy as np
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMenu

from fenwind.desk.stages.network_options import REACH
from fenwind.job.gestures import change_frame
from fenwind.job.job import Job
from fenwind.procedures.network_model import positions_of
from fenwind.quantities.numbers import format_fixed
from fenwind.records.network import DesignStep, EpochsStep, NetworkStep
from tests.desk.qt_case import QtTestCase
from tests.job.test_design import Epochs as EpochsJob


class Designs(QtTestCase):
    def open_design(self) -> Any:
        w = self.open()
        w.actions.run("network.show.design")
        self.w, self.page = w, w.pages["Network"].designs
        return self.page

    def step(self) -> DesignStep:
        return self.w.bridge.state.of(DesignStep)["design-1"]

    def test_what_is_shown(self) -> None:
        page = self.open_design()
        self.assertEqual(
            page.statement.text(),
            "Plan Design 1, 9 lines in ETRS89 / UTM 32N, holding what is given there, no ellipse over 6.0 mm "
            "(95 %), vectors 3 mm + 0.5 ppm, sightings 3″, 4″, 2 mm + 2 ppm, centred to 1 mm, levelling "
            "1.5 mm on √km.",
        )
        found = page.found()
        worst = found.sizes["pillar-W-3"] * 1000
        self.assertIn(f"Worst is W-3, semi-axis at 95 % {worst:.1f} mm: over 6.0 mm.", page.verdict.text())
        columns = {c.key: c for c in page.table.records.columns}
        for row in page.table.records.rows:
            f = found.figures[row.number]
            told = {key: columns[key].text(row) for key in ("without", "redundancy", "external", "finds")}
            self.assertEqual(told["without"], f"{f.without_m * 1000:.1f}")
            self.assertEqual(columns["without"].tone(row), "doubt" if f.without_m > 0.006 else "")
            self.assertEqual(told["redundancy"], f"{f.redundancy:.2f}")
            self.assertEqual(told["external"], f"{f.would_move_m * 1000:.1f}")
            if row.kind == "vector":
                self.assertEqual(told["finds"], f"{f.finds['vector'] * 1000:.1f} mm")
            elif row.at == "W-1" and row.kind == "sighting":
                second = math.radians(1 / 3600)
                self.assertEqual(
                    told["finds"],
                    f"{f.finds['direction'] / second:.0f}″, {f.finds['zenith'] / second:.0f}″, "
                    f"{f.finds['distance'] * 1000:.1f} mm",
                )
        line, left = found.best[0]
        self.assertEqual(
            page.best.text(), f"Plan the vector {line.at} – {line.to}: {worst:.1f} → {left * 1000:.1f} mm"
        )
        then, size = found.best[1]
        self.assertIn(f"Then {then.kind} {then.at} – {then.to}: {size * 1000:.1f} mm", page.best.toolTip())

    def test_what_is_drawn(self) -> None:
        page = self.open_design()
        scene, found, step = self.w.plan_pane.plan.scene, page.found(), self.step()
        self.assertEqual(scene.title, "ETRS89 / UTM 32N")
        i = scene.names.index("W-2")
        self.assertEqual((scene.e_m[i], scene.n_m[i]), (464_260.0, 6_796_420.0))
        for k, (a, b, redundancy) in enumerate(scene.lines.T.tolist()):
            names = [self.w.bridge.state.mark_name(key) for key in (step.at[k], step.to[k])]
            self.assertEqual([scene.names[int(a)], scene.names[int(b)]], names)
            self.assertAlmostEqual(redundancy, found.figures[k].redundancy, 9)
        row = scene.ellipse_rows.tolist().index(scene.names.index("W-3"))
        self.assertAlmostEqual(scene.ellipse[0, row], found.sizes["pillar-W-3"], 9)
        page._toggle(page.table.records.rows[3])
        self.assertEqual(self.w.plan_pane.plan.scene.lines.shape[1], 8)
        self.assertIn("8 lines", page.statement.text())

    def test_by_hand(self) -> None:
        page = self.open_design()
        w, plan = self.w, self.w.plan_pane.plan
        page.best.click()
        self.assertEqual((self.step().at[-1], self.step().to[-1]), ("T-02", "pillar-W-3"))
        page.pens["vector"].click()
        for name in ("T-03", "W-3", "W-1"):
            plan._click(name)
        page.pens["vector"].click()
        plan._click("W-2")
        self.assertEqual(self.step().to[-2:], ("pillar-W-3", "pillar-W-1"))
        page.pens["sighting"].click()
        for name in ("W-3", "W-2", "W-1"):  # from one station
            plan._click(name)
        page.pens["sighting"].click()
        self.assertEqual(self.step().at[-2:], ("pillar-W-3", "pillar-W-3"))
        w.actions.run("design.mark")
        plan.place_picked.emit(463_900.0, 6_796_500.0)
        self.assertEqual(page.ask.edit.text(), "D-1")
        self.assertIn("as high as W-3 (1\u2009252.00 m)", page.ask.label.text())
        shown = w.bridge.frame_id
        w.bridge.do(change_frame(w.bridge.state.frames[shown], "feet", unit="ft"))
        plan.place_picked.emit(463_900.0, 6_796_500.0)
        self.assertIn("as high as W-3 (4\u2009107.61 ft)", page.ask.label.text())
        w.bridge.undo()
        page.ask.ok.click()
        self.assertEqual(self.step().marks[-1][1:], (463_900.0, 6_796_500.0, 1252.0))  # as high as W-3
        self.assertIn("D-1", plan.scene.names)
        w.actions.run("design.levelling")
        page.ask.edit.setText("W-3, D-1 W-2")
        page.ask.ok.click()
        self.assertEqual(self.step().kind[-2:], ("levelling", "levelling"))
        for key, text, field, value in (
            ("limit", "8", "limit_m", 0.008), ("vector", "5, 1", "vector_part", 1e-6),
            ("sighting", "2,3,1,1.5,0.5", "centring_m", 0.0005), ("levelling", "0.7", "levelling_m", 0.0007),
        ):  # fmt: skip
            page.statement.parts[key].click()
            page.ask.edit.setText(text)
            page.ask.ok.click()
            self.assertAlmostEqual(getattr(self.step(), field), value, 12)
            page.statement.parts[key].click()
            page.ask.edit.setText("1, x")
            page.ask.ok.click()
            self.assertTrue(page.ask.isVisible())
            self.assertAlmostEqual(getattr(self.step(), field), value, 12)
            page.ask.leave.click()
        self.assertIn("vectors 5 mm + 1 ppm, sightings 2″, 3″, 1 mm + 1.5 ppm, centred to 0.5 mm",
                      page.statement.text())  # fmt: skip
        w.actions.run("design.list")
        self.assertIn("Setup at W-3, sighting\n  [ ] W-2\n  [ ] W-1", QApplication.clipboard().text())
        page.table.setCurrentIndex(page.table.proxy.index(0, 1))
        page.table.selectRow(0)
        many = len(self.step().kind)
        w.actions.run("design.out")
        self.assertEqual(len(self.step().kind), many - 1)
        w.bridge.undo()
        self.assertEqual(len(self.step().kind), many)

    def test_a_new_one_from_nothing(self) -> None:
        w = self.open("--empty")
        w.show_stage("Network")
        w.actions.run("network.show.design")
        page = w.pages["Network"].designs
        page.first.click()
        self.assertIn("no frame to plan in", w.line.text())
        self.assertTrue(page.empty.isVisible())


class Weights(QtTestCase):
    def test_options_of_the_sentence(self) -> None:
        w = self.open()
        w.show_stage("Network")
        page = w.pages["Network"].network

        def choose(maker: Any, words: str) -> None:
            menu = QMenu()
            maker(menu)
            next(a for a in menu.actions() if words in a.text()).trigger()

        def step() -> NetworkStep:
            return w.bridge.state.of(NetworkStep)["net-1"]

        options = page.options
        choose(options.menu_weights, "balanced")
        choose(options.menu_robust, "robust")
        choose(options.menu_biases, "refraction of zenith")
        choose(options.menu_biases, "scale of distance")
        page.statement.parts["centring"].click()
        page.ask.edit.setText("0.5")
        page.ask.ok.click()
        self.assertEqual(
            (step().components, step().robust, step().biases, step().centring_m),
            (True, True, (("refraction", "zenith"), ("scale", "distance")), 0.0005),
        )
        self.assertIn(
            "weights balanced by group, 2 biases found, centred to 0.5 mm, a robust second opinion.",
            page.statement.text(),
        )
        for words in ("variance factor 1.00", "Sigmas balanced", "Found as well", "nothing that stands out"):
            self.assertIn(words, page.verdict.text())
        keeps = page.table.records.columns[-1]
        row = page.table.records.rows[0]
        found = page.found()
        self.assertEqual(keeps.text(row), f"{100 * found.opinion.weights[found.rows[0]]:.0f} %")
        choose(options.menu_biases, "refraction of zenith")
        choose(options.menu_biases, "no bias")
        self.assertEqual(step().biases, ())
        page.table.selectRow(1)
        w.actions.run("network.down")
        for text, factor in (("0.5", None), ("3", 3.0)):
            page.ask.edit.setText(text)
            page.ask.ok.click()
            self.assertEqual(dict(step().down).get(1), factor)
        self.assertIn("vector ÷ 3", [page.table.records.columns[1].text(r) for r in page.table.records.rows])
        w.actions.run("network.between")
        page.ask.edit.setText("T-04 nobody")
        page.ask.ok.click()
        self.assertIn("names of two marks", w.line.text())
        page.ask.edit.setText("T-04, T-09")
        page.ask.ok.click()
        found = page.found()
        at = [found.result.marks.index[n] for n in ("T-04", "T-09")]
        place = positions_of(found.result.net, found.result.marks.place[:, at])
        length = format_fixed(float(np.linalg.norm(place[:, 1] - place[:, 0])), 3)
        self.assertRegex(w.line.text(), rf"^T-04 – T-09, {length} m: at 95 % \d+\.\d by \d+\.\d mm in plan")
        self.assertIn("class B of FGCC 1989 (8 mm + 1 ppm)", w.line.text())

    def test_bars_of_tests(self) -> None:
        w = self.open()
        w.show_stage("Network")
        bars = w.pages["Network"].network.bars
        found = w.pages["Network"].network.found()
        every = np.concatenate([f.w for f in found.figures.values()])
        self.assertEqual(bars._w.size, int(np.isfinite(every).sum()))
        shown = np.zeros(20)
        shown[:3] = (REACH + 2.0, -9.0, math.nan)
        bars.show_tests(shown)
        self.assertIn("19 tests w; 2 beyond", bars.toolTip())
        picture = bars.grab().toImage()
        middle, edge = bars.width() // 2 + 4, bars.width() - 3
        tall = {x: next(y for y in range(bars.height()) if picture.pixelColor(x, y).lightness() < 150)
                for x in (middle, edge)}  # fmt: skip
        self.assertLess(tall[middle], tall[edge])


class Epochs(QtTestCase):
    def test_two_networks(self) -> None:
        w = self.open()
        w.actions.run("epochs.new")
        page = w.pages["Network"].epochs
        self.assertIn("It takes two networks", w.line.text())
        self.assertTrue(page.empty.isVisible())
        derived = w.bridge.derived

        def second(job: Job) -> None:
            case: Any = type("Case", (), {"job": job, "derive": lambda s, j: derived})()
            EpochsJob.second(case, "T-06", 0.030, -0.020, -0.015)

        w.bridge._change(second, None)
        w.actions.run("epochs.new")
        self.assertEqual(
            page.statement.text(),
            "From Network 1 to Network 2, on marks that stayed: found by themselves; tests at 1 %.",
        )
        self.assertRegex(page.verdict.text(), r"^That all 11 stayed has a probability of 0\.0000; without "
                         r"T-06 the others agree \([01]\.\d{3}\)\.$")  # fmt: skip
        (row,) = [r for r in page.table.records.rows if r.moved]
        columns = {c.key: c for c in page.table.records.columns}
        found = page.found()
        i = found.found.names.index("T-06")
        for key, at in (("way0", 0), ("way1", 1), ("way2", 2)):
            self.assertEqual(columns[key].text(row), format_fixed(found.moves[at, i] * 1000, 1, sign=True))
        self.assertTrue(columns["way0"].text(row).startswith("+"))
        self.assertTrue(columns["way1"].text(row).startswith("−"))
        self.assertEqual(columns["said"].text(row), "moved")
        up = 1.959964 * math.sqrt(found.covariance[2, 2, i])
        self.assertEqual(columns["height"].text(row), f"{up * 1000:.1f}")
        scene = w.plan_pane.plan.scene
        at = scene.vector_rows.tolist().index(scene.names.index("T-06"))
        np.testing.assert_allclose(scene.vector_m[:, at], found.moves[:2, i])
        step = next(iter(w.bridge.state.of(EpochsStep).values()))
        for maker, words, field, value in (
            (page._menu_level, "0.1 %", "alpha", 0.001), (page._menu_stable, "T-03", "stable", None),
        ):  # fmt: skip
            menu = QMenu()
            maker(menu)
            next(a for a in menu.actions() if a.text() == words).trigger()
            now = getattr(w.bridge.state.of(EpochsStep)[step.id], field)
            self.assertTrue(now == value if value else "T-03" not in now and "T-01" in now)
        page.table.selectRow(0)
        QTest.qWait(0)
