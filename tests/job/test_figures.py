"""Two figures as they are typed, and what explains them: against factors worked out by pyproj alone, and the
second demo job against what it was made from."""

import math
from dataclasses import replace

import numpy as np
import pyproj

from fenwind.errors import FenwindError
from fenwind.geodesy.frames import FrameSpec, HeightReference
from fenwind.job.figures import drawings_held, drop_figures, explain_figures, keep_figures, two_figures
from fenwind.job.ground_view import marks_of, opened
from fenwind.job.job import Job
from fenwind.procedures.held_drawing import HeldDrawing
from fenwind.records.entries import Add, amend
from fenwind.records.records import FrameRecord, GivenPosition, Mark, TwoFigures
from fenwind.standins.ketterly import factor, make_ketterly
from tests.support import CommandCase


class Figures(CommandCase):
    def test_as_they_are_typed(self) -> None:
        for text, wanted in (
            ("1640.00 1639.33", ("1640.00", "1639.33", "", "")),
            ("1640.00, 1639.33, 12.5, tape and drawing", ("1640.00", "1639.33", "12.5", "tape and drawing")),
            ("1640,00; 1639,33; -3", ("1640.00", "1639.33", "-3", "")),
            ("812 813 to K-06", ("812", "813", "", "to K-06")),
            ("812 813 4 1994 sheet", ("812", "813", "4", "1994 sheet")),
        ):
            pair = two_figures(text, "m")
            self.assertEqual((pair.first, pair.second, pair.dh, pair.line), wanted)
        for text in ("", "1640.00", "1640.00,1639.33", "tape 1640 1639"):
            with self.assertRaises(FenwindError, msg=text):
                two_figures(text, "m")

    def test_factors_of_a_mark_south_of_the_equator(self) -> None:
        """EPSG:31983 at 2,500 m: grid = ground times scale times elevation factor."""
        lat, lon, h = -15.8, -47.9, 2500.0
        e, n = pyproj.Transformer.from_crs("EPSG:4674", "EPSG:31983", always_xy=True).transform(lon, lat)
        spec = FrameSpec(name="utm", crs="EPSG:31983", height=HeightReference(kind="ellipsoid"))
        records = [
            FrameRecord(id="f", spec=spec), Mark(id="m", name="A"), Mark(id="n", name="B"),
            GivenPosition(id="g", mark="m", frame="f", e_m=e, n_m=n, height_m=h),
            GivenPosition(id="k", mark="n", frame="f", e_m=e + 100.0, n_m=n),
        ]  # fmt: skip
        job = Job.create(self.path("s.fenwind"), "s", records, frame="f")
        self.addCleanup(job.close)
        frame = opened(spec, "")
        marks = marks_of(frame, self.derive(job).adopted["f"])
        a, e2 = 6378137.0, 0.00669438002290
        w2 = 1 - e2 * math.sin(math.radians(lat)) ** 2
        radius = a * math.sqrt(1 - e2) / w2
        scale = pyproj.Proj("EPSG:31983").get_factors(lon, lat).parallel_scale
        combined = scale * radius / (radius + h)
        for ratio, dh, key in (
            (combined, "", "combined-factor"), (1 / combined, "", "combined-factor"),
            (radius / (radius + h), "", "elevation-factor"), (scale, "", "grid-scale"),
            (math.sqrt(1 - 0.1**2), "800.0", "slope"), (1.003, "", ""),
        ):  # fmt: skip
            pair = TwoFigures(
                id="p", mark="m", first="8000.0000", second=f"{8000.0 * ratio:.4f}", dh=dh and "800.0"
            )
            found = explain_figures(pair, frame, marks)
            self.assertEqual(found.causes[0].key if found.causes else "", key, ratio)
            self.assertFalse(found.agree)
        self.assertTrue(
            explain_figures(TwoFigures(id="p", mark="m", first="10.00", second="10.01"), frame, marks).agree
        )
        for mark in ("n", "gone"):
            with self.assertRaises(FenwindError):
                explain_figures(TwoFigures(id="p", mark=mark, first="1", second="2"), frame, marks)

    def test_a_geoid_height_left_out(self) -> None:
        job = self.demo()
        frame = opened(job.state.frames["map"].spec, str(self.folder))
        marks = marks_of(frame, self.derive(job).adopted["map"])
        lat, h, i = float(marks.lat[0]), float(marks.h_m[0]), marks.ids[0]
        a, e2 = 6378137.0, 0.00669438002290
        reach = a * math.sqrt(1 - e2) / (1 - e2 * math.sin(lat) ** 2) + h
        undulation = h - float(marks.height_m[0])
        pair = TwoFigures(
            id="p", mark=i, first="90000.000", second=f"{90000.0 * (reach - undulation) / reach:.3f}"
        )
        self.assertEqual([c.key for c in explain_figures(pair, frame, marks).causes], ["geoid-left-out"])

    def test_the_second_demo_shows_its_quarrel(self) -> None:
        job = make_ketterly(self.folder / "k.fenwind")
        self.addCleanup(job.close)
        derived = self.derive(job)
        grid, drawing = derived.adopted["grid"], derived.adopted["drawing"]
        both = [drawing.names.index(name) for name in grid.names]
        flat = np.stack([grid.e_m, grid.n_m])
        drawn = np.stack([drawing.e_m, drawing.n_m])[:, both]
        on_grid = np.hypot(*(flat[:, 1:] - flat[:, :1]))
        on_drawing = np.hypot(*(drawn[:, 1:] - drawn[:, :1]))
        np.testing.assert_allclose(on_drawing / on_grid, factor(), atol=2e-5)
        frame = opened(job.state.frames["grid"].spec, "")
        marks = marks_of(frame, grid)
        pairs = list(job.state.of(TwoFigures).values())
        causes = [[c.key for c in explain_figures(pair, frame, marks).causes] for pair in pairs]
        self.assertEqual(causes, [["combined-factor"], ["ft-ftus"], []])
        self.assertEqual(job.state.info.angle_style, "degrees")
        ((key, one),) = drawings_held(job.state, "grid", frame, marks, grid)
        self.assertEqual((key, one.names), ("drawing", ("K-01", "K-04", "K-07", "K-10", "K-12")))
        self.assertEqual([c.key for c in one.found.causes], ["combined-factor"])
        self.assertLess(abs(one.ratio / factor() - 1.0) * 1e6, one.limit_ppm)
        job.record("off", [amend(job.state.given["drawing-K-04"], active=False)])
        ((_, fewer),) = drawings_held(job.state, "grid", frame, marks, grid)
        self.assertEqual(fewer.names, ("K-01", "K-07", "K-10", "K-12"))
        frame_of = job.state.frames["drawing"]
        job.record("mirror", [
            Add(record=replace(frame_of, id="mirror")),
            *(Add(record=replace(g, id=f"m-{g.id}", frame="mirror", e_m=g.n_m, n_m=g.e_m))
              for g in list(job.state.given.values()) if g.frame == "drawing"),
        ])  # fmt: skip
        both = dict(drawings_held(job.state, "grid", frame, marks, grid))
        self.assertIsInstance(both["drawing"], HeldDrawing)
        self.assertIn("mirror image", both["mirror"].sentences)
        job.record("mirror", [amend(job.state.frames["mirror"], active=False)])
        job.record("without", [amend(job.state.frames["drawing"], active=False)])
        self.assertEqual(list(drawings_held(job.state, "grid", frame, marks, grid)), [])

    def test_kept_and_taken_off(self) -> None:
        job = make_ketterly(self.folder / "k.fenwind")
        self.addCleanup(job.close)
        pair = two_figures("10 11 here", "K-02")
        job.record(*keep_figures(pair))
        self.assertEqual(job.state.of(TwoFigures)[pair.id], pair)
        job.record(*drop_figures(pair))
        self.assertFalse(job.state.of(TwoFigures)[pair.id].active)
        job.undo()
        self.assertTrue(job.state.of(TwoFigures)[pair.id].active)
