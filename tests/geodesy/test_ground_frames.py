"""Planes on the ground as frames: against the factor's own arithmetic, the base frame's factors, and a
pipeline that PROJ alone carries out."""

import unittest

import numpy as np
import pyproj

from fenwind.errors import FrameError
from fenwind.geodesy.frames import FrameSpec, axes_of, open_frame, unit_key_of
from fenwind.geodesy.ground_frame import GroundScale, derived_wkt, proj_pipeline

#: Base systems with a place in each: north, south, US survey feet, and one that counts south and west.
CASES = (
    ("EPSG:25832", 61.3, 8.4, "m"), ("EPSG:32719", -33.5, -70.6, "m"), ("EPSG:2274", 36.1, -86.7, "ftUS"),
    ("EPSG:2048", -33.9, 18.6, "m"),
)  # fmt: skip


class GroundFrames(unittest.TestCase):
    def test_forward_inverse_and_factors(self) -> None:
        for code, lat, lon, unit in CASES:
            with self.subTest(code=code):
                base = open_frame(FrameSpec(name="grid", crs=code, unit=unit))
                la = np.radians(lat + np.array([0.0, 0.02, -0.05]))
                lo = np.radians(lon + np.array([0.0, -0.03, 0.04]))
                metres = pyproj.CRS(code).axis_info[0].unit_conversion_factor
                grid = np.stack(base.forward(la, lo)) / metres
                scale = GroundScale(
                    factor=1.000312345,
                    origin=(float(grid[0, 0]), float(grid[1, 0])),
                    offset=(-12345.0, 67890.0),
                )
                wkt = derived_wkt(base, scale)
                ground = open_frame(FrameSpec(name="ground", crs=wkt, unit=unit))
                found = np.stack(ground.forward(la, lo)) / metres
                np.testing.assert_allclose(found, scale.forward(grid), atol=5e-8)
                back = ground.inverse(*(found * metres))
                np.testing.assert_allclose(np.stack(back), np.stack([la, lo]), atol=2e-15 * 1e6)
                own, under = ground.point_scale(la, lo), base.point_scale(la, lo)
                np.testing.assert_allclose(own[0], under[0] * scale.factor, atol=3e-9)
                np.testing.assert_allclose(own[1], under[1], atol=1e-9)
                self.assertEqual(unit_key_of(wkt), unit)
                self.assertEqual(
                    [a.title for a in axes_of(ground.spec)], [a.title for a in axes_of(base.spec)]
                )
                pipeline = pyproj.Transformer.from_pipeline(proj_pipeline(base, scale))
                away = pipeline.transform(np.degrees(lo), np.degrees(la))
                np.testing.assert_allclose(np.stack(away), found, atol=5e-8)

    def test_a_geographic_system_is_still_no_plane(self) -> None:
        with self.assertRaises(FrameError):
            open_frame(FrameSpec(name="x", crs="EPSG:4258"))
