"""A drawing held against positions of the same marks, from the numbers and from the command line: its scale
against factors worked out by pyproj alone."""

import math
from contextlib import redirect_stdout
from io import StringIO

import numpy as np
import pyproj

from fenwind.cli import main
from fenwind.errors import ProcedureError
from fenwind.geodesy.frames import FrameSpec, HeightReference, open_frame
from fenwind.procedures.held_drawing import HeldDrawing, hold_drawing
from fenwind.quantities.lengths import FOOT
from fenwind.reports.ratio_words import drawing_words
from tests.support import CommandCase

LAT, LON, H = -15.8, -47.9, 2500.0
FRAME = open_frame(FrameSpec(name="utm", crs="EPSG:31983", height=HeightReference(kind="ellipsoid")))
NAMES = tuple("ABCDEFGH")


def grid() -> np.ndarray:
    """Eight marks (2, 8) within 900 m, south of the equator."""
    to = pyproj.Transformer.from_crs("EPSG:4674", "EPSG:31983", always_xy=True)
    middle = np.array(to.transform(LON, LAT))
    around = np.random.default_rng(5).uniform(-900.0, 900.0, (2, 8))
    return middle[:, None] + around


def factors() -> tuple[float, float]:
    """Point scale by pyproj, elevation factor by the formula."""
    a, e2 = 6378137.0, 0.00669438002290
    radius = a * math.sqrt(1 - e2) / (1 - e2 * math.sin(math.radians(LAT)) ** 2)
    return pyproj.Proj("EPSG:31983").get_factors(LON, LAT).parallel_scale, radius / (radius + H)


def drawn(scale: float, noise: float = 0.002) -> np.ndarray:
    """The marks on a drawing that is turned by 12 degrees, moved, and of another scale."""
    here = grid() - grid()[:, :1]
    c, s = math.cos(math.radians(12.0)), math.sin(math.radians(12.0))
    turned = scale * np.array([[c, s], [-s, c]]) @ here + np.array([[5000.0], [1000.0]])
    return turned + np.random.default_rng(6).normal(0.0, noise, turned.shape)


def held(drawing: np.ndarray, h: float = H) -> HeldDrawing:
    return hold_drawing(FRAME, NAMES, drawing, grid(), np.full(8, h))


class HoldADrawing(CommandCase):
    def test_its_scale_is_explained(self) -> None:
        k, elevation = factors()
        for scale, h, unit, cause in (
            (1.0 / (k * elevation), H, "", "combined-factor"), (1.0 / k, H, "", "grid-scale"),
            (1.0 / k, math.nan, "", "grid-scale"), (1.0 / (k * elevation), math.nan, "", ""),
            (1.0 / (k * elevation) / 0.3048, H, "feet taken for metres", "combined-factor"),
            (0.3048 / k, H, "metres taken for feet", "grid-scale"), (1.00123, H, "", ""),
        ):  # fmt: skip
            with self.subTest(scale=scale, h=h):
                one = held(drawn(scale), h)
                self.assertEqual((one.unit, one.found.agree), (unit, False))
                self.assertEqual([c.key for c in one.found.causes][:1], [cause] if cause else [])
                self.assertLess(one.limit_ppm, 15.0)
                self.assertAlmostEqual(one.rms_m * scale, 0.0029, delta=0.0002)
                said = {"": 1.0, "f": 0.3048, "m": 1.0 / 0.3048}[unit[:1]]
                self.assertLess(abs(one.ratio / (scale * said) - 1.0) * 1e6, one.limit_ppm)

    def test_how_well_it_is_known(self) -> None:
        """95 of 100 drawn drawings lie within their limit, less what one factor for all adds."""
        flat = hold_drawing(FRAME, NAMES, drawn(1.0, 0.0), grid(), np.full(8, H))
        size = math.sqrt(np.sum((grid().T - grid().mean(axis=1)) ** 2))
        spread = flat.limit_ppm - 1e6 * 2.179 * 0.0005 / size  # Student's t of twelve
        inside = 0
        for seed in range(200):
            noise = np.random.default_rng(seed).normal(0.0, 0.01, (2, 8))
            one = held(drawn(1.0, 0.0) + noise)
            inside += abs(one.ratio - 1.0) * 1e6 <= one.limit_ppm - spread
        self.assertTrue(0.91 <= inside / 200 <= 0.98, inside)
        known = 2.179 * math.sqrt(np.sum(one.left_m**2) / 12) / size
        self.assertAlmostEqual(one.limit_ppm - spread, known * 1e6, delta=0.01)

    def test_one_point_that_is_wrong_is_named(self) -> None:
        k, _ = factors()
        wrong = drawn(1.0 / k)
        wrong[0, 3] += 0.5
        wrong[:, 5] = wrong[:, 6]
        one = held(wrong)
        self.assertEqual([n for n, off in zip(one.names, one.off, strict=True) if off], ["D", "F"])
        self.assertNotIn(one.names[one.worst], "DF")
        self.assertAlmostEqual(one.left_m[3], 0.5 * k, delta=0.02)
        self.assertLess(one.rms_m, 0.004)
        self.assertEqual(one.found.causes[0].key, "grid-scale")
        words = drawing_words("d.dxf", "utm", one, FOOT)
        self.assertIn("d.dxf against utm by 6 marks: −79", words)
        self.assertIn(f"left out: D ({one.left_m[3] / 0.3048:.3f} ft), F (", words)

    def test_a_rough_drawing_is_held_with_all_its_marks(self) -> None:
        rough = drawn(1.0, 0.08)
        self.assertFalse(held(rough).off.any())
        rough[0, 2] += 5.0
        self.assertEqual(held(rough).off.nonzero()[0].tolist(), [2])
        self.assertFalse(held(drawn(1.0, 30.0)).off.any(), "no majority: all take part")

    def test_what_cannot_be_held(self) -> None:
        for drawing, rows, words in (
            (drawn(1.0)[::-1], 8, "mirror image"), (drawn(1.0), 2, "has 2 of the marks"),
            (np.ones((2, 8)), 8, "different places"),
        ):  # fmt: skip
            with self.assertRaises(ProcedureError, msg=words) as caught:
                hold_drawing(FRAME, NAMES[:rows], drawing[:, :rows], grid()[:, :rows], np.full(rows, H))
            self.assertIn(words, caught.exception.sentences)

    def test_marks_on_both_sides_of_180_degrees(self) -> None:
        """The Fiji map grid; pyproj gives the point scale at the middle of the marks."""
        fiji = open_frame(FrameSpec(name="fiji", crs="EPSG:3460", height=HeightReference(kind="ellipsoid")))
        lat = np.radians([-17.0, -17.01, -16.99, -17.0])
        lon = np.radians([179.99, 179.995, 179.992, -179.99])  # their mean is 90 degrees
        here = np.stack(fiji.forward(lat, lon))
        k = pyproj.Proj("EPSG:3460").get_factors(179.99675, -17.0).parallel_scale
        one = hold_drawing(fiji, NAMES[:4], here / k, here, np.full(4, 5.0))
        self.assertEqual(one.found.causes[0].key, "grid-scale")
        self.assertLess(abs(one.found.causes[0].left_ppm), 0.2)

    def test_from_the_command_line(self) -> None:
        k, elevation = factors()
        on_ground = drawn(1.0 / (k * elevation))
        names = [*NAMES[:7], "Z"]
        rows = [f"{n},{e:.4f},{m:.4f},{H}" for n, e, m in zip(names, *grid(), strict=True)]
        marks = self.write("m.csv", "\n".join(["name,e,n,h", *rows]))
        rows = [f"{n},{e:.4f},{m:.4f}" for n, e, m in zip(NAMES, *on_ground, strict=True)]
        drawing = self.write("d.csv", "\n".join(["name,e,n", *rows]))
        how = ("--frame", "EPSG:31983", "--marks", marks)
        found = self.run_json("explain", "--drawing", drawing, *how)
        self.assertEqual(found["names"], list(NAMES[:7]))
        self.assertEqual(found["causes"][0]["cause"], "combined-factor")
        self.assertLess(abs(found["ratio"] * k * elevation - 1.0) * 1e6, found["rounding_ppm"])
        self.assertEqual(len(found["left"]), 7)
        with redirect_stdout(StringIO()) as out:
            self.assertEqual(main(["explain", "--drawing", drawing, *how]), 0)
        self.assertIn("d.csv against SIRGAS 2000 / UTM zone 23S by 7 marks: −39", out.getvalue())
        for bad in (
            how, ("--drawing", drawing, "--frame", "EPSG:31983"), ("--drawing", drawing, *how, "1"),
            ("1.0", "--at", "1,2,3", "--frame", "EPSG:31983"), ("1", "2", "--frame", "EPSG:31983"),
        ):  # fmt: skip
            self.run_json("explain", *bad, code=2)
