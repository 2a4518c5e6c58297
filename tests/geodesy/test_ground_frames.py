"""Planes on the ground as frames: against the factor's own arithmetic, the base frame's factors, and a
pipeline that PROJ alone carries out."""

import unittest

import numpy as np
import pyproj

from fenwind.errors import FrameError
from fenwind.geodesy.axes import from_greenwich
from fenwind.geodesy.frames import FrameSpec, axes_of, open_frame, unit_key_of, working_frame_spec
from fenwind.geodesy.ground_frame import GroundScale, derived_wkt, proj_pipeline

#: Base systems with a place in each: north, south, US survey feet, and one that counts south and west.
CASES = (
    ("EPSG:25832", 61.3, 8.4, "m"),
    ("EPSG:32719", -33.5, -70.6, "m"),
    ("EPSG:2274", 36.1, -86.7, "ftUS"),
    ("EPSG:2048", -33.9, 18.6, "m"),
)
#: Systems whose axes PROJ has in ways of its own: Krovak, counted from Ferro and Paris, polar ones.
ODD = (
    *(5513, 2065, 5514, 27572, 3031, 5041, 32661, 5042, 32761, 3413, 3995, 3408),
    *(2193, 3035, 22275, 2400),
)


def _way(values: np.ndarray, order: tuple[int, int], signs: tuple[int, int]) -> np.ndarray:
    return np.stack([sign * values[column] for column, sign in zip(order, signs, strict=True)])


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

    def test_what_is_handed_over_gives_the_same_positions_in_odd_systems(self) -> None:
        """The pipeline and the WKT carried out by PROJ, within 0.1 mm; of the WKT in the order and with the
        signs in which PROJ writes the base system itself."""
        for code in ODD:
            with self.subTest(code=code):
                base = open_frame(working_frame_spec(f"EPSG:{code}"))
                west, south, east, north = base.crs.area_of_use.bounds
                la = np.radians(south + np.array([0.3, 0.5, 0.6]) * (north - south))
                lo = np.radians(west + np.array([0.3, 0.6, 0.5]) * (east - west))
                grid = np.stack(base.forward(la, lo))
                origin = (float(grid[0, 0]), float(grid[1, 0]))
                scale = GroundScale(factor=1.000312345, origin=origin, offset=(1000.0, 2000.0))
                wanted = scale.forward(grid)
                pipeline = pyproj.Transformer.from_pipeline(proj_pipeline(base, scale))
                found = np.stack(pipeline.transform(np.degrees(lo), np.degrees(la)))
                np.testing.assert_allclose(found, wanted, atol=1e-4)
                geodetic, derived = base.crs.geodetic_crs, pyproj.CRS.from_wkt(derived_wkt(base, scale))
                degrees = from_greenwich(geodetic, la, lo)
                plain, carried = (
                    np.stack(pyproj.Transformer.from_crs(geodetic, crs, always_xy=True).transform(*degrees))
                    for crs in (base.crs, derived)
                )
                ways = [(order, signs) for order in ((0, 1), (1, 0)) for signs in ((1, 1), (-1, -1))]
                order, signs = next(
                    (o, s) for o, s in ways if np.allclose(_way(plain, o, s), grid, atol=1e-2)
                )
                np.testing.assert_allclose(_way(carried, order, signs), wanted, atol=1e-4)

    def test_a_geographic_system_is_still_no_plane(self) -> None:
        with self.assertRaises(FrameError):
            open_frame(FrameSpec(name="x", crs="EPSG:4258"))
