"""What is painted: vectors, ellipses, symbols, bars and counts, read back from the pixels."""

import math
from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel

from fenwind.desk.cells import Column
from fenwind.desk.plan import Plan
from fenwind.desk.plan_extras import Coming
from fenwind.desk.plan_scene import Scene
from fenwind.desk.plan_symbols import CROSS, DOT, RING, SQUARE, TRIANGLE
from fenwind.desk.rail import Rail
from fenwind.desk.scene import build_scene, error_ellipses
from fenwind.desk.sky_charts import ScatterChart, SkyChart
from fenwind.desk.table import RecordTable
from fenwind.desk.theme import colour
from fenwind.job.steps.fit import fit_node
from fenwind.procedures.hull import convex_hull
from fenwind.quantities.lengths import METRE, US_SURVEY_FOOT, LengthUnit
from fenwind.records.entries import amend
from tests.desk.qt_case import QtTestCase


def pixels(image: QImage, role: str, near: int = 40) -> np.ndarray:
    """Columns and rows (2, k) of the pixels that have about the colour of a role."""
    image = image.convertToFormat(QImage.Format.Format_RGB32)
    raw = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine() // 4, 4)
    wanted = colour(role)
    target = np.array([wanted.blue(), wanted.green(), wanted.red()], dtype=int)
    rows, columns = np.nonzero(np.abs(raw[:, : image.width(), :3].astype(int) - target).sum(axis=2) < near)
    return np.stack([columns, rows])


class PlanCase(QtTestCase):
    def plan(self, unit: LengthUnit = METRE, **parts: object) -> Plan:
        """A plan 400 x 400 of a square of 200 m with a mark in its middle, the fifth."""
        plan = Plan()
        plan.resize(400, 400)
        e, n = np.array([0.0, 200.0, 200.0, 0.0, 100.0]), np.array([0.0, 0.0, 200.0, 200.0, 100.0])
        common = {"names": tuple("ABCDE"), "symbol": np.zeros(5, np.int8), "off": np.zeros(5, bool)}
        common |= {"labelled": np.zeros(5, bool), "title": "square", "unit": unit}
        plan.hidden = {"map grid"}
        plan.show_scene(Scene(e_m=e, n_m=n, **(common | parts)))
        plan.show()
        return plan

    def around_middle(self, plan: Plan, role: str, reach: int = 60, near: int = 40) -> np.ndarray:
        """Pixels of a role near the mark in the middle, as (east, north) from it."""
        found = pixels(plan.grab().toImage(), role, near)
        offset = np.stack([found[0] - 200.0, 200.0 - found[1]])
        return offset[:, np.hypot(*offset) < reach]


class Vectors(PlanCase):
    def test_a_residual_points_where_the_computed_position_lies(self) -> None:
        """computed - known = (de, dn): the arrow goes from the mark east by de and north by dn."""
        for de, dn in ((0.01, 0.0), (0.0, 0.01), (-0.006, 0.008), (0.008, -0.006)):
            with self.subTest(de=de, dn=dn):
                plan = self.plan(vector_rows=np.array([4]), vector_m=np.array([[de], [dn]]))
                found = self.around_middle(plan, "flare", near=220)
                self.assertGreater(found.shape[1], 20)
                unit = np.array([de, dn]) / math.hypot(de, dn)
                along = unit @ found
                self.assertAlmostEqual(float(along.max()), 34.0, delta=3.0)
                self.assertGreater(float(along.min()), -4.0)
                self.assertLess(float(np.abs(unit[::-1] * [1, -1] @ found).max()), 5.0, "head of the arrow")

    def test_an_ellipse_lies_along_its_azimuth(self) -> None:
        for azimuth in (0.0, 0.5 * math.pi, 0.6, -0.6):
            with self.subTest(azimuth):
                ellipse = np.array([[0.030], [0.008], [azimuth]])
                plan = self.plan(ellipse_rows=np.array([4]), ellipse=ellipse, vector_rows=np.array([4]),
                                 vector_m=np.array([[0.0], [0.0]]))  # fmt: skip
                found = self.around_middle(plan, "ellipse")
                unit = np.array([math.sin(azimuth), math.cos(azimuth)])
                long, short = np.ptp(unit @ found), np.ptp(unit[::-1] * [1, -1] @ found)
                self.assertAlmostEqual(long / short, 30.0 / 8.0, delta=0.7)

    def test_the_measure_beside_the_scale_bar_is_true(self) -> None:
        """34 px stand for the largest residual of 10 mm, so 50 px would be 14.7 mm: the bar shows 10 mm,
        34 px."""
        plan = self.plan(vector_rows=np.array([4]), vector_m=np.array([[0.010], [0.0]]))
        found = pixels(plan.grab().toImage(), "flare", near=120)
        corner = found[:, (found[0] > 220) & (np.abs(found[1] - 342) < 2)]
        self.assertAlmostEqual(float(np.ptp(corner[0])) + 1, 34.0, delta=2.0)


class Symbols(PlanCase):
    def test_each_role_has_its_shape(self) -> None:
        """Filled triangle: held control; open square: check; open ring: derived; cross: one occupation."""
        centre_filled = {TRIANGLE: True, SQUARE: False, RING: False, CROSS: True, DOT: True}
        inks = {}
        for kind, filled in centre_filled.items():
            plan = self.plan(symbol=np.array([RING, RING, RING, RING, kind], np.int8))
            role = "ink" if kind in (TRIANGLE, SQUARE, DOT) else "faint"
            found = self.around_middle(plan, role, reach=14)
            inks[kind] = found.shape[1]
            with self.subTest(kind):
                self.assertEqual(bool((np.hypot(*found) < 1.6).any()), filled)
            self.assertLess(np.abs(found.min(axis=1) + found.max(axis=1)).max(), 3.0, "about its mark")
        self.assertGreater(inks[TRIANGLE], inks[SQUARE])
        plan = self.plan(off=np.array([False] * 4 + [True]))
        self.assertGreater(self.around_middle(plan, "off", reach=14).shape[1], 8, "switched off is grey")

    def test_what_is_wanted_is_labelled(self) -> None:
        plain = self.plan()
        without = self.around_middle(plain, "faint", reach=30).shape[1]
        labelled = self.plan(labelled=np.array([False] * 4 + [True]))
        self.assertGreater(self.around_middle(labelled, "faint", reach=30).shape[1], without + 8)

    def test_names_keep_clear_of_the_scale_bar_and_the_north_arrow(self) -> None:
        """A mark whose name would stand there: at places of the plan, with the box that stays clear."""
        for (right, down), (left, top, width, height) in (
            ((100.0, 168.0), (306, 352, 74, 30)), ((145.0, -155.0), (352, 20, 36, 48))
        ):  # fmt: skip
            seen = []
            for labelled in (False, True):
                plan = self.plan(labelled=np.array([False] * 4 + [labelled]))
                plan._scale, plan._centre = 1.45, np.array([100.0 - right / 1.45, 100.0 + down / 1.45])
                found = pixels(plan.grab().toImage(), "faint")
                across = (found[0] > left) & (found[0] < left + width)
                inside = across & (found[1] > top) & (found[1] < top + height)
                seen.append((np.count_nonzero(inside), found.shape[1]))
            self.assertEqual(seen[0][0], seen[1][0])
            self.assertGreater(seen[1][1], seen[0][1] + 8, "it stands elsewhere")


class Charts(QtTestCase):
    def test_east_is_right_and_north_is_up(self) -> None:
        scatter, sky = ScatterChart(), SkyChart()
        scatter.show_ways(np.array([[0.004], [0.006], [0.0]]))
        found = pixels(scatter.grab().toImage(), "ink", near=120)
        plan = found[:, found[0] < scatter.height() - 16].mean(axis=1)
        middle = 0.5 * (scatter.height() - 16)
        self.assertGreater(plan[0], middle + 10)
        self.assertLess(plan[1], middle - 15)
        for azimuth, way in ((90, (1, 0)), (0, (0, -1)), (270, (-1, 0))):
            sky.show_sky({"GP01": (30, azimuth, 45)})
            off = pixels(sky.grab().toImage(), "water", near=60).mean(axis=1) - 0.5 * sky.width()
            self.assertGreater(float(off @ np.array(way)), 20.0, azimuth)
            self.assertLess(abs(float(off @ np.array(way[::-1]))), 4.0, azimuth)


class Pictures(PlanCase):
    """What stays is painted once and shown from a picture."""

    def test_what_changes_is_seen(self) -> None:
        plan = self.plan()
        plan.hidden = set()
        seen = [bytes(plan.grab().toImage().constBits())]
        for change in (
            lambda: plan.hidden.add("map grid"), lambda: plan.hidden.add("marks"),
            lambda: plan.hidden.clear(), lambda: plan.zoom(1.3), lambda: plan.show_rover((90.0, 120.0)),
            lambda: plan.show_scene(Scene(title="none")),
        ):  # fmt: skip
            change()
            seen.append(bytes(plan.grab().toImage().constBits()))
            self.assertNotEqual(seen[-1], seen[-2])

    def test_a_zoomed_mark_stands_where_it_is_picked(self) -> None:
        plan = self.plan(symbol=np.array([RING, RING, TRIANGLE, RING, RING], np.int8))
        plan.grab()
        plan.zoom(0.5)
        found = pixels(plan.grab().toImage(), "ink")
        x, y = plan.to_pixels(200.0, 200.0)
        self.assertGreater(np.count_nonzero(np.hypot(found[0] - x, found[1] - y) < 6.0), 20)

    def test_paper_gets_more_pixels_than_the_screen(self) -> None:
        plan = self.plan(symbol=np.array([TRIANGLE] * 5, np.int8))
        plan.grab()
        image = QImage(1600, 1600, QImage.Format.Format_RGB32)
        image.setDevicePixelRatio(4.0)
        plan.render(image)
        raw = np.frombuffer(image.constBits(), np.uint32).reshape(400, 4, 400, 4)
        mark = raw[190:210, :, 190:210]
        uniform = (mark == mark[:, :1, :, :1]).all(axis=(1, 3))
        self.assertGreater(np.count_nonzero(~uniform), 20, "edges of the symbol are finer than the screen's")


class Places(PlanCase):
    def test_pixels_and_ground_and_the_marks_between(self) -> None:
        plan = self.plan()
        x, y = plan.to_pixels(np.array([100.0, 200.0, 100.0]), np.array([100.0, 100.0, 200.0]))
        self.assertEqual((x[0], y[0]), (200, 200))
        self.assertGreater(x[1], x[0])
        self.assertLess(y[2], y[0], "north is up")
        self.assertAlmostEqual(x[1] - x[0], y[0] - y[2])
        back = plan.to_ground(QPointF(float(x[1]), float(y[2])))
        np.testing.assert_allclose(back, [200.0, 200.0])
        self.assertEqual(plan.name_at(QPointF(float(x[1]) - 5, float(y[2]))), "C")
        self.assertEqual(plan.name_at(QPointF(230, 230)), "")
        self._clicked(plan)
        gap = self.plan(gaps=np.array([[100.0], [100.0]]))
        self.assertGreater(self.around_middle(gap, "sun", reach=26).shape[1], 10)

    def _clicked(self, plan: Plan) -> None:
        """A click takes the place it is at where one is asked for, a drag moves the plan and takes none;
        what was moved by hand is not fitted to the window again."""
        places: list[tuple[float, float]] = []
        plan.place_picked.connect(lambda e, n: places.append((e, n)))
        plan.picking = True
        QTest.mousePress(plan, Qt.MouseButton.LeftButton, pos=QPoint(200, 200))
        QTest.mouseMove(plan, QPoint(229, 200))
        QTest.mouseRelease(plan, Qt.MouseButton.LeftButton, pos=QPoint(229, 200))
        self.assertEqual((places, plan.picking), ([], True))
        QTest.mouseClick(plan, Qt.MouseButton.LeftButton, pos=QPoint(229, 171))
        self.assertEqual(plan.picking, False)
        np.testing.assert_allclose(places, [(100.0, 120.0)], atol=1.0)
        for again, wide in ((False, 145.0), (True, 217.5)):  # pixels of 100 m
            if again:
                plan.fit_all()
            plan.resize(400, 400)
            plan.resize(545, 545)
            x, _ = plan.to_pixels(np.array([0.0, 100.0]), np.zeros(2))
            self.assertAlmostEqual(float(x[1] - x[0]), wide, delta=1.0)

    def test_a_plan_without_marks_says_so_unless_some_come_in(self) -> None:
        plan = Plan()
        plan.resize(400, 400)
        plan.show_scene(Scene())
        self.assertGreater(pixels(plan.grab().toImage(), "faint", near=150).shape[1], 100)
        ends = np.array([[0.0, 100.0], [0.0, 100.0]])
        coming = Coming(names=("X", "Y"), at=ends, now=np.full((2, 2), np.nan))
        plan.show_scene(Scene(coming=coming))
        middle = pixels(plan.grab().toImage(), "faint", near=150)
        self.assertLess(np.count_nonzero(np.abs(middle[1] - 200) < 12), 20)

    def test_scale_bar_and_coordinates_in_the_unit(self) -> None:
        """290 px show 200 m: 110 px are 75.9 m or 249 ftUS, so bars of 50 m (72.5 px) and 200 ftUS (88.4
        px)."""
        for unit, length in ((METRE, 72.5), (US_SURVEY_FOOT, 200 * 1200 / 3937 * 1.45)):
            with self.subTest(unit.key):
                plan = self.plan(unit=unit)
                found = pixels(plan.grab().toImage(), "ink", near=150)
                bar = found[0, (found[1] == 374) & (found[0] > 230)]
                self.assertAlmostEqual(float(np.ptp(bar)) + 1, length, delta=2.5)


class OfTheDemo(QtTestCase):
    def test_the_scene_is_the_fit(self) -> None:
        w = self.open()
        w.doubts.findChild(type(w.doubts.all), "settle-swap-axes").click()
        b = w.bridge
        result = b.derived.fits["fit-1"].case.result
        scene = build_scene(b, fit_node("fit-1"))
        place = {n: i for i, n in enumerate(scene.names)}
        for i, name in enumerate(result.pairs.names):
            row = place[name]
            self.assertEqual(scene.symbol[row], SQUARE if name == "T-07" else TRIANGLE)
            self.assertEqual(list(scene.vector_rows)[i], row)
            self.assertAlmostEqual(scene.vector_m[0, i], result.pairs.de_m[i])
            self.assertAlmostEqual(scene.vector_m[1, i], result.pairs.dn_m[i])
        c = result.carried.covariance[:2, :2, result.pairs.measured_rows[0]]
        values, vectors = np.linalg.eigh(c)
        a, small, azimuth = scene.ellipse[:, 0]
        # chi-square with two degrees of freedom at 95 % is 5.991 (any table).
        np.testing.assert_allclose([a, small], np.sqrt(5.991465 * values[::-1]), rtol=1e-6)
        axis = vectors[:, 1] * np.sign(vectors[1, 1])
        if values[1] - values[0] > 1e-9:
            self.assertAlmostEqual(abs(float(axis @ [math.sin(azimuth), math.cos(azimuth)])), 1.0, places=9)
        b.do(("off", (amend(b.fit, uses=(("T-07", "check"), ("T-03", "off"))),)))
        scene = build_scene(b, fit_node("fit-1"))
        self.assertEqual([scene.names[i] for i in np.flatnonzero(scene.off)], ["T-03"])

    def test_counts_and_colours_of_doubts(self) -> None:
        w = self.open()
        open_doubts = w.bridge.findings.open
        self.assertTrue(open_doubts and open_doubts[0].grave)
        counts = {name: button.doubts for name, button in w.shell.rail.buttons.items()}
        self.assertEqual(counts["Fits"], len([d for d in open_doubts if d.subject == "fit-1"]))
        self.assertEqual(sum(counts.values()), len(open_doubts))
        self.assertEqual(w.doubts._role, "alarm")
        self.assertIn(str(len(open_doubts)), w.doubts.count.text())
        w.actions.run("edit.doubts")
        words = {label.text() for label in w.doubts.list.findChildren(QLabel)}
        self.assertIn("grave", words)
        w.doubts.findChild(type(w.doubts.all), "settle-swap-axes").click()
        self.assertEqual(w.shell.rail.buttons["Fits"].doubts, 0)


class Rails(QtTestCase):
    def test_a_number_is_painted_where_doubts_are(self) -> None:
        rail = Rail()
        rail.resize(88, 600)
        rail.show()
        QTest.qWaitForWindowExposed(rail)
        button = rail.buttons["Marks"]
        self.assertEqual(pixels(button.grab().toImage(), "flare").size, 0)
        rail.show_doubts("Marks", 3)
        self.assertGreater(pixels(button.grab().toImage(), "flare").shape[1], 60)
        self.assertEqual(pixels(rail.buttons["Frame"].grab().toImage(), "flare").size, 0)


class Bars(QtTestCase):
    def test_a_bar_is_as_long_as_its_part_of_the_tolerance(self) -> None:
        for size, role, length in (
            (0.5, "reed", 16), (-1.0, "reed", 32), (1.25, "flare", 40), (9.0, "flare", 51),
        ):  # fmt: skip
            with self.subTest(size):
                table = RecordTable(
                    [Column(key="v", title="v", text=lambda r: "", bar=lambda r: r, right=True, width=200)]
                )
                table.records.set_rows([size])
                table.resize(240, 120)
                table.show()
                found = pixels(table.viewport().grab().toImage(), role, near=12)
                self.assertAlmostEqual(float(np.ptp(found[0])) + 1, length, delta=1)
                other = {"reed": "flare", "flare": "reed"}[role]
                self.assertEqual(pixels(table.viewport().grab().toImage(), other, near=12).size, 0)
                table.close()

    def test_boxes(self) -> None:
        table = RecordTable([Column(key="b", title="b", box=lambda r: r, width=60)])
        table.records.set_rows([True, False, "dashed"])
        table.resize(100, 200)
        table.show()
        image = table.viewport().grab().toImage()
        inked = [pixels(image.copy(0, 30 * i, 60, 29), "ink").shape[1] for i in range(3)]
        self.assertGreater(inked[0], 120)
        self.assertLess(inked[1], 90)
        self.assertLess(inked[2], inked[1])


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
