"""How observations of a network change as marks move, against differences of the exact model."""

import math
import unittest
from dataclasses import replace

import numpy as np

from fenwind.geodesy.geocentric import enu_axes, from_xyz, to_xyz
from fenwind.procedures.network import covariances_of, solve
from fenwind.procedures.network_case import NetworkJoint
from fenwind.procedures.network_model import (
    Ends,
    Given,
    Marks,
    Network,
    Row,
    about_places,
    base_axes,
    computed,
    near,
    positions_of,
)  # fmt: skip
from fenwind.procedures.network_start import starting_marks

KINDS = (
    "distance", "horizontal_distance", "direction", "angle", "azimuth", "zenith", "height_difference",
    "vector",
)  # fmt: skip


class Slopes(unittest.TestCase):
    """Three marks up to 900 m apart; differences over 0.5 m each way, of the fourth order."""

    def both(self, net: Network, place: np.ndarray, kind: str, tolerance: float) -> None:
        unknowns = np.arange(9).reshape(3, 3, order="F")
        about = about_places(net, place, unknowns)
        k = np.array([0])
        ends = Ends(at=k, to=k + 1, back=k + 2, hi=np.array([1.6]), ht=np.array([1.3]))
        x = np.zeros(9)
        value, slopes = about.values_and_slopes(net, kind, ends, x)
        about.values_and_slopes(net, kind, ends, x + 0.1)
        again = about.values_and_slopes(net, kind, ends, x)[1]
        np.testing.assert_array_equal(again, slopes, "asked elsewhere, they are what they were")

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


class Horizontal(unittest.TestCase):
    def test_across_the_vertical_halfway(self) -> None:
        """From the axes of the station alone 600 m that rise by 80 m would be 3.8 mm off."""
        net = Network(rows=(), control={}, dimensions=3, plane=False)
        lat, lon, none = math.radians(61.3), math.radians(8.4), np.zeros(1)
        for azimuth, rise in ((0.0, 80.0), (1.2, 80.0), (2.0, -80.0), (4.0, 0.0)):
            e, n, _ = enu_axes(lat, lon)
            a = to_xyz(lat, lon, 500.0)
            lat_b, lon_b, _ = from_xyz(a + 600.0 * (math.sin(azimuth) * e + math.cos(azimuth) * n))
            b = to_xyz(lat_b, lon_b, 500.0 + rise)
            up = enu_axes(*from_xyz(0.5 * (a + b))[:2])[2]
            way = b - a
            wanted = math.sqrt(way @ way - (way @ up) ** 2)
            found = computed(net, "horizontal_distance", a[:, None], b[:, None], b[:, None], none, none)
            self.assertAlmostEqual(float(found[0, 0]), wanted, delta=5e-5)
        flat = replace(net, plane=True)
        a, b = np.array([[0.0], [0.0], [10.0]]), np.array([[300.0], [400.0], [90.0]])
        self.assertAlmostEqual(
            float(computed(flat, "horizontal_distance", a, b, b, none, none)[0, 0]), 500.0, delta=1e-12
        )


class Solved(unittest.TestCase):
    def rows(self, truth: np.ndarray, kinds: tuple[str, ...]) -> tuple[Row, ...]:
        """Exact distances and azimuths among all marks of a plane."""
        net = Network(rows=(), control={}, dimensions=2, plane=True)
        none, out = np.zeros(1), []
        for i in range(truth.shape[1]):
            for j in range(i):
                ends = truth[:, [i]], truth[:, [j]], truth[:, [j]]
                out += [
                    Row(kind=k, at=f"P{i}", to=f"P{j}", value=computed(net, k, *ends, none, none)[0],
                        covariance=np.array([[1e-6 if k == "distance" else 1e-10]]))
                    for k in kinds
                ]  # fmt: skip
        return tuple(out)

    def test_from_places_that_are_far_off(self) -> None:
        """Distances and azimuths bend: from 60 m beside, one step is metres away; more lead to the truth."""
        rng = np.random.default_rng(6)
        truth = np.vstack([rng.uniform(0.0, 900.0, (2, 6)), np.zeros(6)])
        control = {
            f"P{k}": Given(first=float(truth[0, k]), second=float(truth[1, k]), h=math.nan) for k in (0, 1)
        }
        net = Network(
            rows=self.rows(truth, ("distance", "azimuth")), control=control, dimensions=2, plane=True
        )
        off = truth + np.vstack([rng.uniform(-60.0, 60.0, (2, 6)), np.zeros(6)])
        off[:, :2] = truth[:, :2]
        start = Marks(names=tuple(f"P{k}" for k in range(6)), place=off)
        found = solve(net, start)
        np.testing.assert_allclose(found.marks.place[:2], truth[:2], atol=1e-5)

    def test_covariances_are_the_same_once_figures_were_asked_for(self) -> None:
        """Of marks in any order; P4 is only behind an angle, P0 is held."""
        truth = np.vstack([np.random.default_rng(8).uniform(0.0, 900.0, (2, 5)), np.zeros(5)])
        rows = self.rows(truth[:, :4], ("distance", "azimuth"))
        net = Network(rows=rows, control={}, dimensions=2, plane=True)
        ends, none = [truth[:, [k]] for k in range(5)], np.zeros(1)
        for at, to in ((0, 1), (1, 2), (2, 3)):
            value = computed(net, "angle", ends[at], ends[to], ends[4], none, none)[0]
            rows += (Row(kind="angle", at=f"P{at}", to=f"P{to}", back="P4", value=value,
                         covariance=np.array([[1e-10]])),)  # fmt: skip
        given = Given(first=float(truth[0, 0]), second=float(truth[1, 0]), h=math.nan)
        start = Marks(names=tuple(f"P{k}" for k in range(5)), place=truth)
        found = solve(replace(net, rows=rows, control={"P0": given}), start)
        columns = np.array([4, 2, 0, 3])
        before = covariances_of(found, columns)
        self.assertEqual([bool(before[0, 0, k] > 0.0) for k in range(4)], [True, True, False, True])
        for group in found.found.groups:
            self.assertGreater(group.cofactors.size, 0)
        np.testing.assert_allclose(covariances_of(found, columns), before, rtol=1e-9, atol=1e-18)
        # Between marks, the first unknown among them: what the whole matrix has, turned.
        turn = np.repeat(
            np.array([[0.0, 1.0, 0.0], [-1.0, 0.0, 0.0], [0.0, 0.0, 1.0]])[:, :, None], 5, axis=2
        )
        joint = NetworkJoint(result=found, unknowns=found.setup.unknowns, turn=turn)
        whole = np.zeros((15, 15))
        rows = found.setup.unknowns.T.ravel()
        free = np.flatnonzero(rows >= 0)
        whole[np.ix_(free, free)] = found.found.factor.cofactors()[np.ix_(rows[free], rows[free])]
        first, second = np.repeat(np.arange(5), 5), np.tile(np.arange(5), 5)
        for a, b, block in zip(first, second, joint.between(first, second).transpose(2, 0, 1), strict=True):
            t = turn[:, :, 0]
            wanted = t @ whole[3 * a : 3 * a + 3, 3 * b : 3 * b + 3] @ t.T
            np.testing.assert_allclose(block, wanted, atol=1e-15)

    def test_a_distance_serves_from_either_end(self) -> None:
        """Azimuths and distances lead from mark to mark whichever end each was measured at."""
        truth = np.array([[0.0, 300.0, 500.0, 150.0], [0.0, 400.0, -100.0, 700.0], [0.0] * 4])
        net, none, rows = Network(rows=(), control={}, dimensions=2, plane=True), np.zeros(1), []
        for i in range(3):
            for kind, at, to in (("azimuth", i, i + 1), ("distance", i + i % 2, i + 1 - i % 2)):
                ends = truth[:, [at]], truth[:, [to]], truth[:, [to]]
                rows.append(Row(kind=kind, at=f"P{at}", to=f"P{to}", covariance=np.eye(1),
                                value=computed(net, kind, *ends, none, none)[0]))  # fmt: skip
        given = {"P0": Given(first=0.0, second=0.0, h=math.nan)}
        marks, lost = starting_marks(replace(net, rows=tuple(rows), control=given))
        self.assertEqual(lost, ())
        order = [marks.index[f"P{k}"] for k in range(4)]
        np.testing.assert_allclose(marks.place[:2, order], truth[:2], rtol=0.0, atol=1e-8)

    def test_what_hangs_between_two_marks_is_turned_onto_them(self) -> None:
        """A walk from P0 to P4 by directions and distances, none of which leads from a known line: placed in
        a system of its own, then turned."""
        truth = np.array([[0.0, 300.0, 500.0, 650.0, 900.0], [0.0, 200.0, -100.0, 250.0, 50.0], [0.0] * 5])
        net, none, rows = Network(rows=(), control={}, dimensions=2, plane=True), np.zeros(1), []
        for at in range(5):
            for to in {max(at - 1, 0), min(at + 1, 4)} - {at}:
                ends = truth[:, [at]], truth[:, [to]], truth[:, [to]]
                for kind, turn in (("direction", 0.7 * at), ("distance", 0.0)):
                    rows.append(Row(kind=kind, at=f"P{at}", to=f"P{to}", set="1", covariance=np.eye(1),
                                    value=computed(net, kind, *ends, none, none)[0] - turn))  # fmt: skip
        given = {
            f"P{k}": Given(first=float(truth[0, k]), second=float(truth[1, k]), h=math.nan) for k in (0, 4)
        }
        marks, lost = starting_marks(replace(net, rows=tuple(rows), control=given))
        self.assertEqual(lost, ())
        order = [marks.index[f"P{k}"] for k in range(5)]
        np.testing.assert_allclose(marks.place[:2, order], truth[:2], rtol=0.0, atol=1e-6)

    def test_vectors_lead_everywhere_whichever_way_they_go(self) -> None:
        rng = np.random.default_rng(7)
        truth = rng.uniform(-2000.0, 2000.0, (3, 60))
        rows = []
        for i in range(59):
            a, b = (i, i + 1) if rng.random() < 0.5 else (i + 1, i)
            rows.append(Row(kind="vector", at=f"P{a}", to=f"P{b}", value=truth[:, b] - truth[:, a],
                            covariance=np.eye(3) * 1e-6))  # fmt: skip
        e, n, h = (float(v) for v in truth[:, 30])
        net = Network(
            rows=tuple(rows), control={"P30": Given(first=e, second=n, h=h)}, dimensions=3, plane=True
        )
        marks, lost = starting_marks(net)
        self.assertEqual(lost, ())
        order = [marks.index[f"P{k}"] for k in range(60)]
        np.testing.assert_allclose(marks.place[:, order], truth, atol=1e-9)
        rises = tuple(
            replace(r, kind="height_difference", value=r.value[2:], covariance=np.eye(1)) for r in rows
        )
        marks, lost = starting_marks(replace(net, rows=rises, dimensions=1))
        self.assertEqual(lost, ())
        order = [marks.index[f"P{k}"] for k in range(60)]
        np.testing.assert_allclose(marks.place[2, order], truth[2], atol=1e-9)
