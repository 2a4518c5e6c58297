"""The distortion map: its lines held against PROJ's factors, its bands, what is between the marks and what is
not, and how far one corner serves."""

import math
import unittest

import numpy as np
import pyproj

from fenwind.geodesy.frames import FrameSpec, open_frame
from fenwind.job.distortion_map import carried, distortion_map, valid_radius
from fenwind.job.ground_view import Marks

A, F = 6378137.0, 1.0 / 298.257222101  # GRS 80, EPSG dataset
E0, N0 = 540_000.0, 5_200_000.0


def marks(count: int = 40, slope: float = 0.02) -> Marks:
    """Marks on a plane that rises to the north-east, so that heights between them are exact."""
    rng = np.random.default_rng(4)
    plane = np.stack([E0 + rng.uniform(0, 20_000, count), N0 + rng.uniform(0, 14_000, count)])
    lon, lat = pyproj.Transformer.from_crs(25832, 4258, always_xy=True).transform(*plane)
    h = 500.0 + slope * (plane[0] - E0) + 0.5 * slope * (plane[1] - N0)
    ids = tuple(map(str, range(count)))
    return Marks(
        ids=ids, names=ids, plane=plane, height_m=h, lat=np.radians(lat), lon=np.radians(lon), h_m=h
    )  # fmt: skip


def off(e: np.ndarray, n: np.ndarray, h: np.ndarray) -> np.ndarray:
    """k R / (R + h) - 1 of UTM 32N, by PROJ's factors."""
    proj = pyproj.Proj("EPSG:25832")
    lon, lat = proj(e, n, inverse=True)
    e2 = F * (2.0 - F)
    radius = A * math.sqrt(1.0 - e2) / (1.0 - e2 * np.sin(np.radians(lat)) ** 2)
    return np.asarray(np.sqrt(proj.get_factors(lon, lat).areal_scale) * radius / (radius + h) - 1.0)


class Map(unittest.TestCase):
    def setUp(self) -> None:
        self.frame = open_frame(FrameSpec(name="map", crs="EPSG:25832"))

    def height(self, e: np.ndarray, n: np.ndarray) -> np.ndarray:
        return np.asarray(500.0 + 0.02 * (e - E0) + 0.01 * (n - N0))

    def test_lines_lie_where_the_distortion_has_their_value(self) -> None:
        found = distortion_map(self.frame, self.frame, marks(), lambda at: at, 500e-6)
        assert found is not None
        self.assertGreaterEqual(len(found.lines), 3)
        hull = found.outline
        for value, ways in (*found.lines, (-500e-6, found.limit)):
            e, n = np.concatenate(ways, axis=1)
            inside = _within(hull, e, n)
            self.assertTrue(inside.any(), value)
            got = off(e[inside], n[inside], self.height(e[inside], n[inside]))
            np.testing.assert_allclose(got, value, atol=0.05e-6)
        values = [v for v, _ in found.lines]
        steps = np.diff(values)
        np.testing.assert_allclose(steps, steps[0])
        self.assertIn(
            round(steps[0] / 10.0 ** math.floor(math.log10(steps[0] * 1.000001)), 6), (1.0, 2.0, 5.0)
        )
        # Each band holds the values between its ends.
        for low, high, outlines in found.bands:
            for ring in outlines:
                e, n = ring
                inside = _within(hull, e, n)
                if inside.sum() < 2:
                    continue
                got = off(e[inside], n[inside], self.height(e[inside], n[inside]))
                self.assertTrue(((low - 1e-7 <= got) & (got <= high + 1e-7)).all())

    def test_nothing_is_drawn_from_too_little(self) -> None:
        m = marks(3)
        one = Marks(**{**vars(m), "h_m": np.array([1.0, np.nan, 2.0])})
        line = np.array([[E0, E0 + 1.0, E0 + 2.0], [N0, N0 + 2.0, N0 + 4.0]])
        for few in (one, Marks(**{**vars(m), "plane": line})):
            self.assertIsNone(distortion_map(self.frame, self.frame, few, lambda at: at, 1e-5))

    def test_carried_to_the_frame_shown(self) -> None:
        m = marks()
        other = open_frame(FrameSpec(name="33", crs="EPSG:25833"))
        at = m.plane[:, :5]
        to = pyproj.Transformer.from_crs(25832, 25833, always_xy=True)
        np.testing.assert_allclose(
            carried(self.frame, other, m.plane, m.plane)(at), to.transform(*at), atol=1e-3
        )
        self.assertIs(carried(self.frame, self.frame, m.plane, m.plane)(at), at)
        # A local plane: turned by 30 gon, scaled, moved; one mark has no place there.
        z = 1.0001 * np.exp(-0.15j * np.pi) * ((m.plane[0] - E0) + 1j * (m.plane[1] - N0)) + 100 + 200j
        there = np.stack([z.real, z.imag])
        there[:, 7] = np.nan
        local = open_frame(FrameSpec(name="site"))
        np.testing.assert_allclose(
            carried(self.frame, local, m.plane, there)(at), [z.real[:5], z.imag[:5]], atol=1e-6
        )
        self.assertTrue(np.isnan(carried(self.frame, local, m.plane, np.full(there.shape, np.nan))(at)).all())

    def test_how_far_a_corner_serves(self) -> None:
        """A transverse Mercator through the corner, scaled to its height: off grows with E^2 / (2 R^2)
        (Snyder, Map Projections, chapter 8), so 20 ppm are reached at R sqrt(2 x 20e-6), to the east."""
        lat, lon, h = math.radians(47.0), math.radians(9.4), 700.0
        e2 = F * (2.0 - F)
        radius = A * math.sqrt(1.0 - e2) / (1.0 - e2 * math.sin(lat) ** 2)
        text = f"+proj=tmerc +lat_0=47 +lon_0=9.4 +k={1.0 + h / radius!r} +ellps=GRS80 +type=crs"
        frame = open_frame(FrameSpec(name="corner", crs=pyproj.CRS(text).to_wkt()))
        wanted = (radius + h) * math.sqrt(2.0 * 20e-6)
        self.assertAlmostEqual(valid_radius(frame, lat, lon, h, 20e-6) / wanted, 1.0, delta=0.03)
        self.assertEqual(valid_radius(frame, lat, lon, h + 200.0, 20e-6), 0.0)


def _within(hull: np.ndarray, e: np.ndarray, n: np.ndarray) -> np.ndarray:
    """Whether places are inside a convex outline, 300 m from its edge (a cell), counter-clockwise."""
    inside = np.ones(e.shape, dtype=bool)
    for (x1, y1), (x2, y2) in zip(hull.T, np.roll(hull, -1, axis=1).T, strict=True):
        dx, dy = x2 - x1, y2 - y1
        inside &= (dx * (n - y1) - dy * (e - x1)) / math.hypot(dx, dy) > 300.0
    return inside
