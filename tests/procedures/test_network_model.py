"""How observations of a network change as marks move, against differences of the exact model."""

import math
import unittest

import numpy as np

from fenwind.procedures.network_model import (
    Ends,
    Network,
    about_places,
    base_axes,
    computed,
    near,
    positions_of,
)  # fmt: skip

KINDS = ("distance", "direction", "angle", "azimuth", "zenith", "height_difference", "vector")


class Slopes(unittest.TestCase):
    """Three marks up to 900 m apart; differences over 0.5 m each way, of the fourth order."""

    def both(self, net: Network, place: np.ndarray, kind: str, tolerance: float) -> None:
        unknowns = np.arange(9).reshape(3, 3, order="F")
        about = about_places(net, place, unknowns)
        k = np.array([0])
        ends = Ends(at=k, to=k + 1, back=k + 2, hi=np.array([1.6]), ht=np.array([1.3]))
        x = np.zeros(9)
        value, slopes = about.values_and_slopes(net, kind, ends, x)

        def exact(moves: np.ndarray) -> np.ndarray:
            axes = base_axes(net, place)
            p = positions_of(net, place) + np.einsum("ijm,im->jm", axes, moves)
            return computed(net, kind, p[:, :1], p[:, 1:2], p[:, 2:], ends.hi, ends.ht)[:, 0]

        np.testing.assert_allclose(value[:, 0], exact(np.zeros((3, 3))), atol=1e-9)
        for role in range(slopes.shape[1] // 3):
            for axis in net.axes:
                ways = []
                for times in (-2.0, -1.0, 1.0, 2.0):
                    moves = np.zeros((3, 3))
                    moves[axis, role] = 0.5 * times
                    ways.append(near(kind, exact(moves), value[:, 0]))
                a, b, c, d = ways
                numerical = (a - 8.0 * b + 8.0 * c - d) / 6.0
                scale = max(float(np.abs(slopes).max()), 1e-12)
                np.testing.assert_allclose(
                    slopes[:, 3 * role + axis, 0] / scale, numerical / scale, atol=tolerance,
                    err_msg=f"{kind}, mark {role}, axis {axis}",
                )  # fmt: skip

    def test_on_the_ellipsoid_above_a_geoid_and_on_a_plane(self) -> None:
        lat, lon = math.radians(-41.2), math.radians(174.8)
        d = 900.0 / 6.37e6
        place = np.array([[lat, lat + d, lat - 0.4 * d], [lon, lon + 0.5 * d, lon + d], [120.0, 310.0, 85.0]])

        def geoid(lat_rad: np.ndarray, lon_rad: np.ndarray) -> np.ndarray:
            """Rises by 40 mm a kilometre north, falls by 25 mm a kilometre east."""
            return 15.0 + 4e-5 * 6.37e6 * (lat_rad - lat) - 2.5e-5 * 4.8e6 * (lon_rad - lon)

        flat = np.array([[0.0, 450.0, 800.0], [0.0, 760.0, -300.0], [10.0, 60.0, 35.0]])
        for kind in KINDS:
            with self.subTest(kind=kind):
                self.both(Network(rows=(), control={}, dimensions=3, plane=False), place, kind, 2e-6)
                # Plumb lines stand still: what a geoid bends over half a metre is below this.
                self.both(
                    Network(rows=(), control={}, dimensions=3, plane=False, geoid=geoid), place, kind, 2e-5
                )
                self.both(Network(rows=(), control={}, dimensions=3, plane=True), flat, kind, 1e-8)
                if kind not in ("zenith", "height_difference", "vector"):
                    self.both(Network(rows=(), control={}, dimensions=2, plane=True), flat, kind, 1e-8)
