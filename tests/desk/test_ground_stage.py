"""The Ground stage through the window: a factor, a projection laid along the marks, and the system taken as a
frame."""

import json
import math
from dataclasses import replace
from itertools import permutations
from unittest import mock

import numpy as np
import pyogrio
import pyproj
import shapely
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton

from fenwind.desk.distortion_layer import words as value_words
from fenwind.desk.stages.area_writing import written
from fenwind.desk.stages.ground_area import Wanted
from fenwind.desk.theme import colour
from fenwind.errors import ProcedureError
from fenwind.exchange.area_out import write_area
from fenwind.geodesy.frames import open_frame
from fenwind.job.gestures import set_field
from fenwind.job.ground_view import projection_spec, worst_line
from fenwind.procedures.own_projection import distortions
from fenwind.quantities.lengths import FOOT
from tests.desk.qt_case import QtTestCase

WRAP = int(Qt.TextFlag.TextWordWrap)


class GroundStage(QtTestCase):
    own_windows = True

    def setUp(self) -> None:
        super().setUp()
        self.w = self.open()
        self.w.show_stage("Ground")
        self.page, self.b = self.w.pages["Ground"], self.w.bridge

    def cells(self, key: str) -> list[str]:
        column = next(c for c in self.page.table.records.columns if c.key == key)
        return [column.text(row) for row in self.page.table.records.rows]

    def test_a_factor_at_a_mark_and_the_frame_it_makes(self) -> None:
        page, adopted = self.page, self.b.derived.adopted["map"]
        self.assertEqual(
            page.statement.text(),
            "Put 40 marks of ETRS89 / UTM 32N on the ground by the mean factor of all about zero, moved by "
            "nothing.",
        )
        self.b.select("T-02")
        self.choose(page.statement.parts["at"], "the factor at T-02")
        self.choose(page.statement.parts["origin"], "T-02")
        page.statement.parts["offset"].click()
        for text, kept in (("x, y", False), ("1", False), ("-400000, -6700000", True)):
            page.ask.edit.setText(text)
            page.ask.ok.click()
            self.assertEqual(page.ask.isHidden(), kept, text)
        # By hand, from PROJ's own factors and R = sqrt(M N): the factor at T-02, and T-05 away from it.
        marks, proj = page.found.marks, pyproj.Proj("EPSG:25832")
        a, f = 6378137.0, 1.0 / 298.257222101
        e2 = f * (2.0 - f)

        def combined(i: int) -> float:
            k = proj.get_factors(np.degrees(marks.lon[i]), np.degrees(marks.lat[i])).meridional_scale
            w = np.sqrt(1.0 - e2 * np.sin(marks.lat[i]) ** 2)
            radius = a * np.sqrt(1.0 - e2) / w**2
            return float(k * radius / (radius + marks.h_m[i]))

        t2, t5 = marks.names.index("T-02"), marks.names.index("T-05")
        self.assertAlmostEqual(page.found.factor, 1.0 / combined(t2), 9)
        off = combined(t5) / combined(t2) - 1.0
        self.assertEqual(self.cells("off")[t5], f"{off * 1e6:+.1f}".replace("-", "−"))
        column = next(c for c in page.table.records.columns if c.key == "off")
        self.assertAlmostEqual(column.bar(page.table.records.rows[t5]), off * 1e6 / 20.0, 4)
        row = adopted.index["T-05"]
        e = adopted.e_m[adopted.index["T-02"]] + page.found.factor * (
            adopted.e_m[row] - adopted.e_m[adopted.index["T-02"]]
        ) - 400000.0  # fmt: skip
        self.assertEqual(self.cells("e")[t5].replace("\u2009", ""), f"{e:.3f}")
        page.adopt.click()
        page.ask.edit.setText("Tarnholt ground")
        page.ask.ok.click()
        key = next(k for k, r in self.b.state.frames.items() if r.spec.name == "Tarnholt ground")
        ground = self.b.derived.adopted[key]
        self.assertAlmostEqual(float(ground.e_m[ground.index["T-05"]]), float(e), 6)
        self.assertEqual(
            float(ground.height_m[ground.index["T-05"]]), float(adopted.height_m[row]), "heights stay"
        )
        self.b.undo()
        self.assertNotIn(key, self.b.state.frames)

    def test_the_map_under_the_marks(self) -> None:
        page = self.page
        plan = self.w.plan_pane.plan
        self.assertIs(plan.scene.under[-1], page.layer)
        self.assertEqual(page.layer.key, "plane less ground, ppm; dashed: 20")
        first = page.layer
        self.choose(page.statement.parts["at"], "the factor at T-01")
        self.assertIsNot(page.layer, first, "another system, another map")
        below, above = page.layer.shade(-2e-6), page.layer.shade(1e-6)
        self.assertEqual((below.rgb(), above.rgb()), (colour("water").rgb(), colour("sun").rgb()))
        self.assertGreater(below.alpha(), above.alpha())
        # Painted: inside the marks it is not paper, outside it is; read at places without line or label.
        for name, inside in (("P-07", True), ("T-03", False)):
            row = plan.scene.names.index(name)
            shift = 60.0 if inside else 260.0
            x, y = (
                float(v) for v in plan.to_pixels(plan.scene.e_m[row] + shift, plan.scene.n_m[row] - shift / 4)
            )
            pixel = plan.grab().toImage().pixelColor(round(x), round(y))
            self.assertEqual(pixel != colour("map"), inside, name)
        # Between the marks' box and the marks' outline there is nothing.
        x, y = (float(v) for v in plan.to_pixels(480.0, 1760.0))
        self.assertEqual(plan.grab().toImage().pixelColor(round(x), round(y)), colour("map"))
        shown = [value_words(v) for v in (-2e-5, 5e-7, 0.0, 1.25e-6)]
        self.assertEqual(shown, ["−20", "+0.5", "0", "+1.25"])
        self.w.show_stage("Marks")
        self.assertEqual(plan.scene.under, ())

    def test_a_typed_factor_is_judged(self) -> None:
        page = self.page
        page._ask_part("typed")
        for text, kept in (("nine", False), ("5", False), ("0.99942", True)):
            page.ask.edit.setText(text)
            page.ask.ok.click()
            self.assertEqual(page.ask.isHidden(), kept, text)
        self.assertIn("the factor 0.99942", page.statement.text())
        self.assertIn("it goes from ground to grid", page.verdict.text())
        self.assertIn("The factor is rounded", page.verdict.text())

    def test_projections_laid_along_the_marks(self) -> None:
        page = self.page
        page.cards[2].click()
        self.wait_for(lambda: page.designs and page._task is None, 60_000)
        self.assertEqual(set(page.designs), {"tm", "lcc", "om"})
        for kind, words in (("tm", "a transverse Mercator"), ("lcc", "a Lambert conformal")):
            entry = next(w for w in self.entries("kind") if w.startswith(words))
            self.choose(page.statement.parts["kind"], entry)
            self.assertIn(f"by {words} laid for the marks, heights as at the marks", page.statement.text())
            # What PROJ says of the system that would be taken, at the mark that is worst.
            found = page.found
            crs = pyproj.CRS(found.spec.crs)
            k = pyproj.Proj(crs).get_factors(np.degrees(found.marks.lon), np.degrees(found.marks.lat))
            off = np.sqrt(k.areal_scale) * found.wanted.elevation - 1.0
            np.testing.assert_allclose(found.wanted.off, off, atol=1e-9)
            self.assertAlmostEqual(float(np.abs(off).max()), page.designs[kind].figures.largest, delta=2e-9)
        page.cards[0].click()
        self.assertIn("nothing is scaled", page.statement.text())
        self.assertFalse(page.adopt.isEnabled())

    def entries(self, key: str) -> list[str]:
        from PySide6.QtWidgets import QMenu

        menu = QMenu()
        self.page._menu_kind(menu)
        return [action.text() for action in menu.actions()]

    def test_what_a_projection_is_laid_for(self) -> None:
        """A corridor, an area between marks with a lowest and a highest height, an area from a file; the
        outline on the plan, the figures of all of it."""
        page, b = self.page, self.b
        b.do(set_field([b.state.info], "frame", "map", "Show the map frame"))
        page._use_method("own")
        self.wait_for(lambda: page.designs and page._task is None)

        def use(words: str, key: str, text: str) -> None:
            self.choose(page.statement.parts[key], words)
            page.ask.edit.setText(text)
            page.ask.ok.click()
            self.wait_for(lambda: page._task is None)

        use("a corridor along marks …", "area", "T-01 T-05 T-09, 250")
        told = "laid for a corridor 250 m wide along T-01 – T-05 – T-09, heights"
        self.assertIn(told + " as at", page.statement.text())
        hull, marks = self.w.plan_pane.plan.scene.hull, page.found.marks
        at = marks.plane[:, marks.names.index("T-05")]
        self.assertTrue(shapely.contains_xy(shapely.Polygon(hull.T), *at))
        area = shapely.Polygon(hull.T).area
        way = marks.plane[:, [marks.names.index(n) for n in ("T-01", "T-05", "T-09")]]
        length = float(np.hypot(*np.diff(way, axis=1)).sum())
        self.assertAlmostEqual(area / (250.0 * length), 1.0, delta=0.05)
        for name in ("a.geojson", "a.gpkg"):
            path = str(self.folder / name)
            written(path, page._laid, page.draft.kind, page.found.spec, page.found.frame, marks.plane)
            meta, _, shape, fields = pyogrio.raw.read(path)
            ring = shapely.from_wkb(shape[0])
            self.assertEqual(meta["crs"], "EPSG:4326")
            self.assertTrue(shapely.is_ccw(ring.exterior))
            geod = pyproj.Geod(ellps="GRS80")
            self.assertAlmostEqual(abs(geod.geometry_area_perimeter(ring)[0]) / area, 1.0, delta=2e-3)
            told = dict(zip(meta["fields"].tolist(), (f[0] for f in fields), strict=True))
            figures = page.designs[page.draft.kind].figures
            for key in ("largest", "p95", "rms"):
                self.assertAlmostEqual(told[f"{key}_ppm"], getattr(figures, key) * 1e6, 6)
            self.assertEqual(pyproj.CRS(told["definition"]), pyproj.CRS(page.found.spec.crs))
        for way in (1, -1):  # anticlockwise whichever way it is given (RFC 7946, section 3.1.6)
            path = str(self.folder / f"{way}.gpkg")
            write_area(
                path, np.array([8.0, 8.1, 8.1])[::way], np.array([61.0, 61.0, 61.1])[::way], {"name": "x"}
            )
            self.assertTrue(shapely.is_ccw(shapely.from_wkb(pyogrio.raw.read(path)[2][0]).exterior))
        feet = page.area.parts(Wanted(kind="corridor", names=("A", "B"), width_m=30.48), FOOT)
        self.assertIn("a corridor 100 ft wide along A – B", "".join(part.text for part in feet))
        line = np.array([[0.0, 1.0, 2.0], [0.0, 1.0, 2.0]])
        bare = replace(page._laid, outline=np.zeros((2, 0)))
        with self.assertRaises(ProcedureError):
            written(path, bare, page.draft.kind, page.found.spec, page.found.frame, line)
        use("the area between marks …", "area", "T-01 T-03 T-07 T-06")
        use("from the lowest to the highest …", "heights", "1180, 1300")
        self.assertIn(
            "the area T-01 – T-03 – T-07 – T-06, heights from 1\u2009180.0 to 1\u2009300.0 m",
            page.statement.text(),
        )
        one = page.designs[page.draft.kind]
        # 120 m of height alone are 18.8 ppm, of which the best scale leaves half on each side.
        self.assertAlmostEqual(one.figures.largest * 1e6, 0.5 * 120.0 / 6_385_000.0 * 1e6, delta=0.4)
        most = f"{one.figures.largest * 1e6:.1f}"
        self.assertIn(f"All it is laid for: at most {most} ppm, 1 : ", page.verdict.text())
        self.assertIn("0 % within 5 ppm, 100 % within 10 ppm.", page.verdict.text())
        before = page.designs
        self.choose(page.statement.parts["aim"], "the least rms")
        self.wait_for(lambda: page._task is None and page.designs is not before)
        self.assertIn("with the least rms", page.statement.text())
        path = self.folder / "area.geojson"
        ring = [[8.28, 61.29], [8.32, 61.29], [8.32, 61.31], [8.28, 61.31], [8.28, 61.29]]
        feature = {
            "type": "Feature", "properties": {}, "geometry": {"type": "Polygon", "coordinates": [ring]},
        }  # fmt: skip
        path.write_text(json.dumps(feature))
        page.area.use_file(page.draft.area, "file", str(path))
        self.wait_for(lambda: page._task is None)
        self.assertIn("laid for the area of area.geojson", page.statement.text())
        corner = pyproj.Transformer.from_crs(4258, 25832, always_xy=True).transform(8.28, 61.29)
        np.testing.assert_allclose(self.w.plan_pane.plan.scene.hull[:, 0], corner, atol=0.01)
        for words, key, text, said in (
            ("a corridor along marks …", "area", "T-01 X-9, 100", "X-9 has no place"),
            ("a corridor along marks …", "area", "T-01 T-05, wide", "wide"),
            ("the area between marks …", "area", "T-01 T-07 T-03 T-06", "self-intersection"),
            ("from the lowest to the highest …", "heights", "1300", "no lowest and highest"),
            ("more where the work is …", "work", "T-01, 10", "is not it"),
            ("more where the work is …", "work", "T-01, 10, 0", "That is no weight"),
            ("more where the work is …", "work", "T-01, 10, many", "many"),
        ):
            use(words, key, text)
            self.assertIn(said, self.w.line.text())
            page.ask.hide()
            self.assertIn("laid for the area of area.geojson", page.statement.text(), "nothing is changed")
            self.assertTrue(page.designs)

    def test_systems_side_by_side_and_by_hand(self) -> None:
        """Every system over what it is laid for, against PROJ's own factors; a parameter turned shows at
        once, and the best comes back."""
        page = self.page
        self.b.do(set_field([self.b.state.info], "frame", "map", "Show the map frame"))
        page.views.chips["systems"].click()
        self.wait_for(lambda: page.designs and page._task is None)
        self.assertTrue(page.table.isHidden() and page.systems.isVisible())
        rows = {row.key: row for row in page.systems.table.records.rows}
        self.assertEqual(list(rows), ["grid", "factor", "tm", "lcc", "om"])
        area = page._laid.area
        proj = pyproj.Proj("EPSG:25832")
        k = proj.get_factors(area.lon, area.lat, radians=True).meridional_scale
        off = np.abs(k * area.elevation - 1.0)
        texts = {c.key: c.text(rows["grid"]) for c in page.systems.table.records.columns}
        self.assertEqual(texts["most"], f"{off.max() * 1e6:.1f}")
        self.assertEqual(texts["long"], f"{off.max() * 1e5:.1f}")
        self.assertEqual(texts["rms"], f"{math.sqrt(np.mean(off**2)) * 1e6:.1f}")
        self.assertEqual(texts["p95"], f"{np.sort(off)[math.ceil(0.95 * off.size) - 1] * 1e6:.1f}")
        factor = 1.0 / (1.0 + page.found.grid.off.mean())  # that of the marks
        self.assertTrue(rows["factor"].looked_at)
        np.testing.assert_allclose(rows["factor"].off, factor * k * area.elevation - 1.0, atol=2e-7)
        page.systems.chosen.emit(page.draft.kind)
        loss = page.designs[page.draft.kind].loss * 1e6
        self.assertTrue(0.0 <= loss < 0.5)
        said = f"Rounding its parameters costs {loss:.2f} ppm."
        self.assertEqual(said in page.verdict.text(), loss >= 0.005, (loss, page.verdict.text()))
        own = next(row for row in page.systems.table.records.rows if row.looked_at)
        self.assertEqual(own.key, page.draft.kind)
        for ppm, share in zip((5.0, 10.0, 20.0, 50.0), own.within, strict=True):
            self.assertAlmostEqual(share, float(np.mean(np.abs(own.off) * 1e6 <= ppm)))
        page.systems.chosen.emit("tm")
        hand, best = page.systems.hand, page.designs["tm"]
        lon, scale = best.lines.lon, best.scale
        more = {b.accessibleName(): b for b in hand.findChildren(QPushButton)}
        more["axis more"].click()
        more["scale less"].click()
        turned = page.designs["tm"]
        self.assertAlmostEqual(turned.lines.lon, lon + 1.0 / 60.0, 9)
        self.assertAlmostEqual(turned.scale, scale - 1e-6, 12)
        proj = pyproj.Proj(f"+proj=tmerc +lon_0={turned.lines.lon} +k={turned.scale} +ellps=GRS80")
        wanted = proj.get_factors(area.lon, area.lat, radians=True)
        off = np.abs(wanted.meridional_scale * area.elevation - 1.0)
        self.assertAlmostEqual(turned.figures.largest, off.max(), delta=1e-9)
        titles = [row.title for row in page.systems.table.records.rows]
        self.assertIn("transverse Mercator, by hand", titles)
        self.assertIn(f"All it is laid for: at most {off.max() * 1e6:.1f} ppm", page.verdict.text())
        hand.values["lon"].click()
        for text, kept in (("east", True), ("8.5", False), ("120", True)):
            page.ask.edit.setText(text)
            page.ask.ok.click()
            self.assertEqual(page.ask.isVisible() and text == "east", kept and text == "east")
            hand.values["lon"].click()
        self.assertAlmostEqual(page.designs["tm"].lines.lon, 8.5, 9)
        hand._best.click()
        self.assertIs(page.designs["tm"], best)
        page.views.limit.click()
        for text, kept in (("none", True), ("0", True), ("1.5", False)):
            page.ask.edit.setText(text)
            page.ask.ok.click()
            self.assertEqual(page.ask.isVisible(), kept, text)
        self.assertEqual(
            (page.views.limit.text(), page.layer.key),
            ("limit 1.5 ppm", "plane less ground, ppm; dashed: 1.5"),
        )
        inside = float(np.mean(np.abs(distortions(area, best)) <= 1.5e-6))
        self.assertIn(f"{100.0 * (1.0 - inside):.0f} % over 1.5 ppm", page.systems.bars.toolTip())
        page.systems.chosen.emit("grid")
        self.assertEqual((page.draft.method, hand.isHidden()), ("grid", True))

    def test_the_worst_line_and_an_area_drawn(self) -> None:
        page = self.page
        self.b.do(set_field([self.b.state.info], "frame", "map", "Show the map frame"))
        line = worst_line(page.found.frame, page.found.marks)
        marks, geod = page.found.marks, pyproj.Geod(ellps="GRS80")
        i, j = line.first, line.second
        a, b = (marks.lon[i], marks.lat[i]), (marks.lon[j], marks.lat[j])
        h = 0.5 * (marks.h_m[i] + marks.h_m[j])
        ground = geod.inv(*a, *b, radians=True)[2] * (1.0 + h / 6_385_000.0)
        plane = math.dist(marks.plane[:, i], marks.plane[:, j])
        self.assertAlmostEqual(line.ground_m, ground, delta=2e-3)
        self.assertAlmostEqual(line.ground_m * line.off, plane - ground, delta=2e-3)
        every = [
            abs(geod.inv(marks.lon[p], marks.lat[p], marks.lon[q], marks.lat[q], radians=True)[2]
                * (1.0 + 0.5 * (marks.h_m[p] + marks.h_m[q]) / 6_385_000.0)
                - math.dist(marks.plane[:, p], marks.plane[:, q]))
            for p in range(len(marks.names)) for q in range(p)
        ]  # fmt: skip
        self.assertAlmostEqual(max(every), ground - plane, delta=2e-3)
        # Of many marks only lines between neighbours: the sides and spokes of a square, not its diagonals.
        at = np.array([[0.0, 1000.0, 0.0, 1000.0, 480.0], [0.0, 0.0, 1000.0, 1000.0, 520.0]])
        row = np.array([[0.0, 300.0, 900.0, 500.0], [0.0] * 4])
        corners = [at[:, list(turn)] for turn in ((0, 1, 4), *permutations(range(5)))]
        for places, away in ((at, 1000.0), (row, 400.0), *((three, 1000.0) for three in corners)):
            e, n = places + np.array([[463e3], [6.796e6]])
            lat, lon = page.found.frame.inverse(e, n)
            few = replace(marks, plane=np.stack([e, n]), lat=lat, lon=lon, h_m=np.full(e.size, 1250.0))
            with mock.patch("fenwind.job.ground_view.MOST_MARKS", 2):
                near = worst_line(page.found.frame, few)
            found = math.dist(few.plane[:, near.first], few.plane[:, near.second])
            self.assertAlmostEqual(found, away, delta=1e-6)
        told = f"{marks.names[i]} to {marks.names[j]}"
        page._use_method("grid")
        self.assertIn(f"The line that comes out worst: {told}, ", page.verdict.text())
        self.assertIn("m too short on the plane.", page.verdict.text())
        corners = [(marks.plane[0].min(), marks.plane[1].min()), (marks.plane[0].max(), marks.plane[1].min()),
                   (marks.plane[0].max(), marks.plane[1].max())]  # fmt: skip
        page._use_method("own")
        self.wait_for(lambda: page.designs and page._task is None)
        self.choose(page.statement.parts["area"], "an area drawn on the plan …")
        for corner in corners:
            self.assertTrue(self.w.plan_pane.plan.picking)
            self.w.plan_pane.plan.picking = False
            self.w.plan_pane.plan.place_picked.emit(*corner)
        self.assertEqual(page.ask.edit.text(), "3 corners")
        np.testing.assert_allclose(self.w.plan_pane.plan.scene.hull.T, corners)
        page.ask.ok.click()
        self.wait_for(lambda: page._task is None and page.designs)
        self.assertIn("laid for the area of 3 corners on the plan,", page.statement.text())
        inside = shapely.contains_xy(shapely.Polygon(corners).buffer(0.01), *page.found.frame.forward(
            page._laid.area.lat, page._laid.area.lon))  # fmt: skip
        self.assertTrue(inside.all())

    def test_coordinates_that_no_other_frame_has(self) -> None:
        """Where another frame has the same numbers the false origin goes farther out; PROJ reads it."""
        page = self.page
        page._use_method("own")
        self.wait_for(lambda: page.designs and page._task is None)
        one, frame = page.designs["tm"], page.found.frame
        plain = pyproj.CRS(projection_spec(frame, one, "x").crs)
        apart = pyproj.CRS(projection_spec(frame, one, "x", [one.box]).crs)
        at = np.degrees(page._laid.area.lon), np.degrees(page._laid.area.lat)
        e, n = pyproj.Transformer.from_crs(plain.geodetic_crs, plain, always_xy=True).transform(*at)
        self.assertAlmostEqual(e.min(), one.box[0, 0], delta=1e-3)
        moved, same = pyproj.Transformer.from_crs(plain.geodetic_crs, apart, always_xy=True).transform(*at)
        np.testing.assert_allclose(moved - e, 100_000.0, atol=1e-6)
        np.testing.assert_allclose(same, n, atol=1e-6)
        # In feet the origin is rounded up to whole thousands of them: what is met there counts.
        inches = open_frame(replace(frame.spec, unit="ft"))
        crs = pyproj.CRS(projection_spec(inches, one, "x").crs)
        there = pyproj.Transformer.from_crs(crs.geodetic_crs, crs, always_xy=True)
        e, n = (0.3048 * v for v in there.transform(*at))
        self.assertGreater(e.max(), one.box[0, 1] + 1.0)
        strip = np.array([[e.max() - 0.5, e.max() + 5.0], [n.min(), n.max()]])
        self.assertNotEqual(
            projection_spec(inches, one, "x", [strip]).crs, projection_spec(inches, one, "x").crs
        )

    def test_weights_where_the_work_is(self) -> None:
        """With the rms as aim a mark that weighs as much as all others together many times has no distortion
        left; the largest counts every place alike."""
        page = self.page
        page._use_method("own")
        self.wait_for(lambda: page.designs and page._task is None)

        def use(key: str, words: str, text: str = "") -> float:
            before = page.designs
            self.choose(page.statement.parts[key], words)
            if text:
                page.ask.edit.setText(text)
                page.ask.ok.click()
            self.wait_for(lambda: page._task is None and page.designs and page.designs is not before)
            return abs(float(page.found.wanted.off[page.found.marks.names.index("P-12")])) * 1e6

        largest = page.designs["tm"].figures.largest
        use("work", "more where the work is …", "P-12, 5, 1000000")
        self.assertIn("counts every place alike", self.w.line.text())
        self.assertAlmostEqual(page.designs["tm"].figures.largest * 1e6, largest * 1e6, delta=0.02)
        weighed = use("aim", "the least rms")
        self.assertIn("1e+06 times within 5 m of P-12.", page.statement.text())
        alike = use("work", "all of it alike")
        self.assertIn("with the least rms, all of it alike.", page.statement.text())
        self.assertGreater(alike, 0.5)
        self.assertLess(weighed, 0.1)
        feet = page.area.parts(Wanted(work=("A", "B"), near_m=304.8, times=10.0), FOOT)
        self.assertIn("10 times within 1\u2009000 ft of A – B.", "".join(part.text for part in feet))

    def test_in_us_survey_feet(self) -> None:
        """Tennessee's grid, a mark 1,000 feet up: coordinates are shown in feet."""
        from fenwind.geodesy.frames import working_frame_spec
        from fenwind.job.job import Job
        from fenwind.records.records import FrameRecord, GivenPosition, Mark

        foot = 1200.0 / 3937.0
        given = [
            GivenPosition(id=f"g{k}", mark=f"m{k}", frame="f", e_m=(1_740_000.0 + 900.0 * k) * foot,
                          n_m=660_000.0 * foot, height_m=1000.0 * foot) for k in range(2)
        ]  # fmt: skip
        records = [FrameRecord(id="f", spec=working_frame_spec("EPSG:2274")),
                   *(Mark(id=f"m{k}", name=f"M{k}") for k in range(2)), *given]  # fmt: skip
        path = self.folder / "feet.fenwind"
        Job.create(str(path), "feet", records, "f").close()
        self.w.shell.close()
        w = self.open(str(path))
        w.show_stage("Ground")
        self.page = w.pages["Ground"]
        self.page._use_method("grid")
        self.assertEqual([t.replace("\u2009", "") for t in self.cells("e")], ["1740000.000", "1740900.000"])
        self.assertEqual(next(c for c in self.page.table.records.columns if c.key == "e").unit, "ftUS")
        self.page._use_method("own")
        self.wait_for(lambda: self.page.designs and self.page._task is None)
        crs = pyproj.CRS(self.page.found.spec.crs)
        self.assertEqual(self.page.found.spec.unit, "ftUS")
        stated = {p.name: (p.value, p.unit_conversion_factor) for p in crs.coordinate_operation.params}
        for name in ("False easting", "False northing"):
            value, unit = stated[name]
            self.assertEqual((value % 1000.0, round(unit - foot, 12)), (0.0, 0.0), name)
        marks = self.page.found.marks
        there = pyproj.Transformer.from_crs(crs.geodetic_crs, crs, always_xy=True)
        e, _ = there.transform(*np.degrees([marks.lon, marks.lat]))
        self.assertEqual([t.replace("\u2009", "") for t in self.cells("e")], [f"{v:.3f}" for v in e])
        self.assertTrue(10_000.0 < e.min() * foot < 11_000.0, e)
        reach, frame = self.page.reach, self.page.found.frame
        self.assertIn(f"out to {reach.way_m / 1000.0:.3g} km.", self.page.verdict.text())
        lat, lon = frame.inverse(*w.plan_pane.plan.scene.hull)
        middle = [np.full(lat.size, np.degrees(v)) for v in reach.at]
        away = pyproj.Geod(ellps="GRS80").inv(middle[1], middle[0], *np.degrees([lon, lat]))[2]
        np.testing.assert_allclose(away, reach.way_m, rtol=1e-6)
        own = open_frame(self.page.found.spec)
        off = own.point_scale(lat, lon)[0] * own.elevation_factor(lat, np.full(lat.size, marks.h_m[0])) - 1.0
        self.assertAlmostEqual(np.abs(off).max() * 1e6, 20.0, delta=0.8)

    def test_a_projection_has_axes_of_its_own(self) -> None:
        """In a grid that counts westwards and southwards, in feet, what is laid counts east and north."""
        from fenwind.geodesy.frames import FrameSpec, HeightReference
        from fenwind.job.job import Job
        from fenwind.records.records import FrameRecord, GivenPosition, Mark

        spec = FrameSpec(name="Lo31", crs="EPSG:2054", unit="ft", height=HeightReference(kind="ellipsoid"))
        places = ((-9e3, -3.31e6, 900.0), (-1.2e4, -3.305e6, 1020.0), (-8e3, -3.302e6, 950.0))
        given = [GivenPosition(id=f"g{k}", mark=f"m{k}", frame="f", e_m=e, n_m=n, height_m=h)
                 for k, (e, n, h) in enumerate(places)]  # fmt: skip
        records = [
            FrameRecord(id="f", spec=spec), *(Mark(id=f"m{k}", name=f"M{k}") for k in range(3)), *given,
        ]  # fmt: skip
        path = self.folder / "west.fenwind"
        Job.create(str(path), "west", records, "f").close()
        self.w.shell.close()
        w = self.open(str(path))
        w.show_stage("Ground")
        page = self.page = w.pages["Ground"]
        page._use_method("own")
        self.wait_for(lambda: page.designs and page._task is None)
        titles = {c.key: c.title for c in page.table.records.columns}
        self.assertEqual((titles["e"], titles["n"]), ("E", "N"))
        crs, marks = pyproj.CRS(page.found.spec.crs), page.found.marks
        there = pyproj.Transformer.from_crs(crs.geodetic_crs, crs, always_xy=True)
        for key, values in zip("en", there.transform(*np.degrees([marks.lon, marks.lat])), strict=True):
            self.assertEqual([t.replace("\u2009", "") for t in self.cells(key)], [f"{v:.3f}" for v in values])
            self.assertGreater(values.min(), 10_000.0)
        page.systems.chosen.emit("grid")
        titles = {c.key: c.title for c in page.table.records.columns}
        self.assertEqual((titles["e"], titles["n"]), ("Y", "X"))

    def test_an_offset_is_typed_as_the_frame_is_written(self) -> None:
        """Northing first, and a system that counts southwards and westwards (EPSG 2053, Lo29, Y then X)."""
        page, b = self.page, self.b
        from fenwind.geodesy.frames import axes_of, open_frame, working_frame_spec
        from fenwind.job.gestures import change_frame

        page._change(origin="")
        for name, spec, typed, shown, kept in (
            ("north", None, "-6700000, -400000", "N −6\u2009700\u2009000.000, E −400\u2009000.000",
             (-400000.0, -6700000.0)),
            ("south", working_frame_spec("EPSG:2053"), "10, 20", "Y +10.000, X +20.000", (-10.0, -20.0)),
        ):  # fmt: skip
            if spec is None:
                b.do(change_frame(b.state.frames["map"], name, axis_order="NE"))
                self.assertEqual([c.key for c in page._columns()[5:7]], ["n", "e"])
            else:
                page.found = replace(page.found, frame=open_frame(spec))
                self.assertEqual([a.sign for a in axes_of(spec)], [-1.0, -1.0])
            found = page.found
            with self.subTest(name):
                page._ask_part("offset")
                self.assertIn("Y, X" if spec else "N, E", page.ask.label.text())
                page.ask.edit.setText(typed)
                page.ask.ok.click()
                self.assertEqual(page.draft.offset, kept)
                self.assertIn(shown, "".join(part.text for part in page._parts(found)))

    def test_two_figures_are_explained_kept_and_taken_off(self) -> None:
        w = self.open("--demo", "ketterly")
        page, b = w.pages["Ground"], w.bridge
        self.assertTrue(page.isVisible(), "it opens on the quarrel")
        self.assertEqual(len(page.quarrels.labels), 4)
        held, *texts = (label.text() for label in page.quarrels.labels)
        self.assertTrue(
            held.startswith("Levee drawing, ground feet against Ketterly grid (made up) by 5 marks")
        )
        self.assertIn("0.003 ft left over (rms), most at K-04 (0.003 ft). The combined factor", held)
        label = page.quarrels.labels[0]
        needed = label.fontMetrics().boundingRect(0, 0, label.width(), 999, WRAP, held).height()
        self.assertLess(label.height() - needed, label.fontMetrics().lineSpacing(), "no gap under it")
        self.assertIn(
            "at K-01: 1640.00 and 1640.39: +237.8 ppm, known to 6.1 ppm. The combined factor", texts[0]
        )
        self.assertTrue(texts[0].endswith("(leaves −0.3 ppm)."), texts[0])
        self.assertIn("−1.9 ppm, known to 0.4 ppm. International feet against US survey feet", texts[1])
        self.assertTrue(texts[2].endswith("No cause that is known here explains it."))
        plan = w.plan_pane.plan
        self.wait_for(lambda: page.layer is not None)
        _, y = plan.to_pixels(plan.scene.e_m, plan.scene.n_m)
        self.assertLess(float(y.max()), plan.height() - 64.0, "the key lies over a mark")
        b.select("K-07")
        QTest.mouseClick(page.explain, Qt.MouseButton.LeftButton)
        page.ask.edit.setText("1640.00")
        QTest.keyClick(page.ask.edit, Qt.Key.Key_Return)
        self.assertTrue(page.ask.isVisible(), "one figure is asked for again")
        page.ask.edit.setText("800.00 799.81 fence")
        QTest.keyClick(page.ask.edit, Qt.Key.Key_Return)
        self.assertFalse(page.ask.isVisible())
        self.assertIn("Fence, at K-07: 800.00 and 799.81: −237.5 ppm", page.quarrels.labels[-1].text())
        self.assertIn("The combined factor of this place", page.quarrels.labels[-1].text())
        off = page.quarrels.findChildren(QPushButton)[-1]
        QTest.mouseClick(off, Qt.MouseButton.LeftButton)
        self.assertEqual(len(page.quarrels.labels), 4)
        (other,) = (label.text() for label in self.w.pages["Ground"].quarrels.labels)
        self.assertIn(
            "They agree within that. Elsewhere on the drawing, and left out: T-09 (43.8601 m)", other
        )

    def test_an_empty_job_says_what_is_missing(self) -> None:
        w = self.open("--empty")
        w.show_stage("Ground")
        self.assertIn("frame that has a datum", w.pages["Ground"].empty.text())
        self.assertFalse(w.pages["Ground"].adopt.isVisible())
