"""The plan of a report read back from its SVG: east to the right, north up, ellipses as they lie, one
scale."""

import math
import re
import unittest
import xml.etree.ElementTree as ET

import numpy as np

from fenwind.reports.plan_figure import PlanContent, plan_figure

SVG = "{http://www.w3.org/2000/svg}"


class PlanFigure(unittest.TestCase):
    def test_places_lines_and_ellipses(self) -> None:
        at = np.array([[0.0, 400.0, 0.0], [0.0, 0.0, 300.0]]) + np.array([[5000.0], [1200.0]])
        ellipses = np.array(
            [[0.02, np.nan, np.nan], [0.005, np.nan, np.nan], [math.radians(30.0)] + [np.nan] * 2]
        )
        content = PlanContent(
            names=("A", "B", "C"), at=at, held=frozenset("B"), lines=[("A", "B"), ("A", "C"), ("A", "gone")],
            ellipses=ellipses,
        )  # fmt: skip
        root = ET.fromstring(plan_figure(content, "plan"))
        ab, ac = (
            [float(line.get(k)) for k in ("x1", "y1", "x2", "y2")] for line in root.findall(f"{SVG}line")
        )
        self.assertEqual(ab[1], ab[3])
        self.assertEqual(ac[0], ac[2])
        self.assertAlmostEqual(ab[0] + ab[2], 720.0, delta=0.2)
        self.assertAlmostEqual(ac[1] + ac[3], 460.0, delta=0.2)
        scale = (ab[2] - ab[0]) / 400.0
        self.assertGreater(scale, 0.0)
        self.assertAlmostEqual((ac[1] - ac[3]) / 300.0, scale, delta=1e-3)  # y runs down the page
        ring = next(p.get("d") for p in root.findall(f"{SVG}path") if p.get("d").count("L") > 10)
        corners = np.array(re.findall(r"(-?[\d.]+) (-?[\d.]+)", ring), dtype=float) - ab[:2]
        corners[:, 1] *= -1.0
        far = corners[np.hypot(*corners.T).argmax()]
        self.assertAlmostEqual(math.degrees(math.atan2(far[0], far[1])) % 180.0, 30.0, delta=1.0)
        sizes = np.hypot(*corners.T)
        self.assertAlmostEqual(sizes.min() / sizes.max(), 0.25, delta=0.02)
        words = "".join(root.itertext())
        times = float(re.search(r"drawn ([\d\u2009]+) times", words)[1].replace("\u2009", ""))
        self.assertAlmostEqual(sizes.max(), 0.02 * times * scale, delta=0.2)
        triangle = next(p.get("d") for p in root.findall(f"{SVG}path") if p.get("d").endswith("l6 10h-12z"))
        self.assertTrue(triangle.startswith(f"M{ab[2]:.1f} "))
        self.assertEqual(plan_figure(PlanContent(names=("A",), at=np.full((2, 1), np.nan)), "none"), "")
