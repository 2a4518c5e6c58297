"""The pieces of a fit against algebra written apart: turned covariances, rms, levels, departures,
majorities."""

import gc
import math
import unittest
import weakref
from dataclasses import replace
from unittest import mock

import numpy as np

from fenwind.doubts.rules import doubts_about_fit
from fenwind.errors import ProcedureError
from fenwind.geodesy.frames import FrameSpec, open_frame
from fenwind.procedures.average import average
from fenwind.procedures.compare import compare
from fenwind.procedures.coverage import coverage
from fenwind.procedures.fit import FitOptions, fit
from fenwind.procedures.move import turn_between
from fenwind.procedures.network_case import determined
from fenwind.procedures.network_model import Given, Network, Row, computed
from fenwind.procedures.network_weights import CONTROL, scaled
from fenwind.procedures.own_projection import Area, Lines, _rounded, design
from fenwind.procedures.positions import positions
from fenwind.procedures.resection import _faces
from fenwind.procedures.similarity import _ratio, turn_covariance
from fenwind.procedures.to_plane import _require, to_plane
from fenwind.procedures.unseen import Unseen, unseen_words
from tests.support import made_up_pairs


class Parts(unittest.TestCase):
    """Small parts of procedures, each by a case worked by hand."""

    def test_a_case_goes_with_who_holds_it(self) -> None:
        """Nothing of it holds the case itself: a day of work would else keep every fit of the day."""
        case = made_up_pairs().case()
        self.assertIs(case.in_plan, case)
        self.assertGreater(case.in_plan.in_plan.pairs.source.size, 0)
        list(doubts_about_fit(case))
        watched = weakref.ref(case)
        gc.disable()
        try:
            del case
            self.assertIsNone(watched())
        finally:
            gc.enable()

    def test_a_majority_allows_for_what_its_pairs_are_known_to(self) -> None:
        """Three times 1.5 sigmas of 40 mm, where that is more than three tolerances of 10 mm."""
        for sigma, off, agrees in ((0.040, 0.17, True), (0.040, 0.19, False), (0.004, 0.04, False)):
            pairs = made_up_pairs(noise=0.0)
            pairs.sigma_h = sigma
            pairs.known[0, 3] += off
            majority = pairs.case().majority
            assert majority is not None
            self.assertEqual((majority.agrees[3], majority.agrees.sum()), (agrees, 7 + agrees))

    def test_what_could_hide_in_words(self) -> None:
        none = np.zeros(0)
        both = Unseen(scale=17.2e-6, turn_rad=math.radians(3.1 / 3600.0), outside_m=none, effect_m=none)
        self.assertEqual(unseen_words(both), "A scale of up to 17.2 ppm and a turn of up to 3.1 seconds")

    def test_a_projection_looked_for_at_some_places_serves_all(self) -> None:
        """The worst of 1,500 places of a valley with a peak, from a look at 30 and at all of them."""
        rng = np.random.default_rng(4)
        lat, lon = np.radians(46.0 + 0.3 * rng.random(1500)), np.radians(9.0 + 0.5 * rng.random(1500))
        h = 400.0 + 5e4 * np.abs(lon - math.radians(9.3))
        h[700] += 900.0
        area = Area(lat=lat, lon=lon, h=h, weight=np.ones(1500), a=6378137.0, b=6356752.314)
        for kind in ("tm", "lcc"):
            largest = []
            for count in (30, 2000):
                with mock.patch("fenwind.procedures.own_projection.SEARCHED", count):
                    largest.append(design(area, kind).figures.largest)
            self.assertLess(largest[0], largest[1] + 0.2e-6)

    def test_a_rounded_meridian_stays_within_half_a_turn(self) -> None:
        for lon, wanted in ((180.2, -179.75), (-180.2, 179.75), (179.8, 179.75), (-12.1, -12.0)):
            found = _rounded(Lines(kind="om", lat=-40.13, lon=lon, azimuth=-95.0), 4.0)
            self.assertEqual((found.lat, found.lon, found.azimuth), (-40.25, wanted, 85.0))

    def test_the_middle_of_an_area(self) -> None:
        """Halfway between its edges, wherever most of it lies; across 180 degrees as well."""
        for east in (10.0, 175.0):
            lon = np.radians(east + np.array([0.0, 1.0, 10.0, 30.0]))
            lat = np.radians([-40.0, -40.5, -41.0, 0.0])
            area = Area(lat=lat, lon=lon, h=np.zeros(4), weight=np.array([1.0, 1.0, 1.0, 0.0]), a=1.0, b=1.0)
            found = np.degrees(area.middle())
            np.testing.assert_allclose(found, [-40.5, east + 5.0], atol=1e-9)

    def test_how_far_control_spans(self) -> None:
        """Two targets over half of a field's one way and a quarter of the other, which is not at zero."""
        corners = np.array([[1000.0, 1400.0, 1400.0, 1000.0], [5000.0, 5000.0, 5200.0, 5200.0], [9.0] * 4])
        for along, across in ((0.5, 0.25), (0.25, 0.5)):
            targets = np.array(
                [[1100.0, 1100.0 + 400.0 * along], [5050.0, 5050.0 + 200.0 * across], [9.0] * 2]
            )
            judged = {j.rule: j for j in coverage(targets, np.zeros(2, dtype=bool), corners).judgements}
            self.assertAlmostEqual(judged["coverage.spread"].value, 0.25)
            self.assertIn("span 25%", judged["coverage.spread"].text)

    def test_how_many_marks_lie_outside(self) -> None:
        for bad, words in ((1, "^D lies"), (2, "^C and 1 more lies"), (3, "^B and 2 more lies")):
            with self.assertRaisesRegex(ProcedureError, words):
                _require(np.arange(4) < 4 - bad, ("A", "B", "C", "D"), "lies outside", "x")

    def test_where_a_turn_and_a_scale_begin(self) -> None:
        """Exact pairs that lie in any way: wide, high, on a line."""
        pairs, ratio = made_up_pairs(k=4).case().pairs, complex(0.8, -0.6) * 1.5
        for places in ((0.0, 100.0, 300.0, 1j), (0.0, 100j, 300j, 1.0), (0.0, 1j, 2j, 5j)):
            source = np.array(places, dtype=complex)
            self.assertAlmostEqual(_ratio(pairs, source, source * ratio), ratio)

    def test_faces_of_which_some_lack_a_zenith_angle(self) -> None:
        """A collimation of 4 and an index of 3 milliradians; one of two rounds has no zenith angle."""
        c, i = 4e-3, 3e-3
        zenith = 0.5 * math.pi
        hz = np.array([1.0 + c, 1.0 + c, 1.0 - c, 1.0 - c])
        za = np.array([zenith + i, math.nan, zenith - i, math.nan])
        second = np.array([False, False, True, True])
        found = _faces(["A"] * 4, hz, za, second)
        np.testing.assert_allclose(found, [c, i], atol=1e-12)

    def test_control_is_weighed_by_its_own_factor(self) -> None:
        net = Network(
            rows=(), control={"A": Given(first=0.0, second=0.0, h=0.0, sh=0.02, sv=0.03)}, dimensions=3,
            plane=True,
        )  # fmt: skip
        given = scaled(net, {CONTROL: 4.0}).control["A"]
        np.testing.assert_allclose([given.sh, given.sv], [0.04, 0.06])

    def test_the_control_mark_that_keeps_a_network_from_settling(self) -> None:
        """One of three held marks stands 100 km off: without it the rest agrees."""
        rng = np.random.default_rng(3)
        truth = np.vstack([rng.uniform(0.0, 900.0, (2, 6)), np.zeros(6)])
        none, rows, plane = np.zeros(1), list[Row](), Network(rows=(), control={}, dimensions=2, plane=True)
        for a in range(6):
            for b in range(a):
                ends = truth[:, [a]], truth[:, [b]], truth[:, [b]]
                for kind, sigma in (("distance", 0.003), ("angle", 1e-5)):
                    back = (set(range(6)) - {a, b}).pop()
                    ends = (*ends[:2], truth[:, [back]])
                    rows.append(
                        Row(kind=kind, at=f"P{a}", to=f"P{b}", back=f"P{back}" if kind == "angle" else "",
                            value=computed(plane, kind, *ends, none, none)[0],
                            covariance=np.eye(1) * sigma**2)
                    )  # fmt: skip
        given = {
            f"P{k}": Given(first=float(truth[0, k]), second=float(truth[1, k]), h=math.nan) for k in (0, 1, 2)
        }
        given["P2"] = Given(first=1e5, second=float(truth[1, 2]), h=math.nan)
        found = determined(replace(plane, rows=tuple(rows), control=given))
        self.assertEqual(found.let_go, "P2")
        rest = [int(name[1:]) for name in found.marks.names]
        self.assertGreaterEqual(len(rest), 5)
        np.testing.assert_allclose(found.marks.place[:2], truth[:2, rest], atol=1e-4)


class Pieces(unittest.TestCase):
    def test_a_covariance_turns_with_its_axes(self) -> None:
        """An error to the north, turned clockwise by r, lies at azimuth r."""
        r, s = 0.3, 1.5
        north_only = np.zeros((2, 2, 1))
        north_only[1, 1] = 4.0
        axis = np.array([math.sin(r), math.cos(r)])
        wanted = 4.0 * s * s * np.outer(axis, axis)
        np.testing.assert_allclose(turn_covariance(north_only, r, s)[:, :, 0], wanted, atol=1e-12)
        mixed = np.array([[2.0, 0.7], [0.7, 1.0]])
        turn = np.array([[math.cos(r), math.sin(r)], [-math.sin(r), math.cos(r)]])
        found = turn_covariance(mixed[:, :, None], r, 1.0)[:, :, 0]
        np.testing.assert_allclose(found, turn @ mixed @ turn.T, atol=1e-12)

    def test_rms_is_the_root_of_the_mean_square_in_plan(self) -> None:
        result = made_up_pairs().fit(horizontal="turn")
        trial = next(t for t in result.models if t.model == "turn")
        misfit = np.hypot(result.pairs.de_m, result.pairs.dn_m)
        self.assertAlmostEqual(trial.rms_m, math.sqrt(float(np.mean(misfit**2))), places=9)

    def test_a_richer_model_needs_one_per_cent(self) -> None:
        between = below = 0
        for seed in range(150):
            trials = {t.model: t for t in made_up_pairs(scale=1.000004, seed=seed).fit().models}
            p = trials["scale"].p_value
            self.assertEqual(trials["scale"].recommended, p < 0.01)
            between += 0.01 < p < 0.05
            below += p < 0.01
        self.assertGreater(between, 5)
        self.assertGreater(below, 5)

    def test_departure_is_the_largest_of_each_axis(self) -> None:
        values = np.array([[0.0, 0.001, 0.050], [0.0, -0.030, 0.0], [1.0, 1.0, 1.2]])
        covariance = np.repeat(np.eye(3)[:, :, None], 3, axis=2)
        found = average(values, covariance)
        np.testing.assert_allclose(found.mean, values.mean(axis=1))
        np.testing.assert_allclose(found.departure, [0.033, 0.020, 0.4 / 3], atol=1e-9)
        np.testing.assert_allclose(found.covariance, np.eye(3) / 3)
        covariance[:, :, 2] *= 1e6
        np.testing.assert_allclose(average(values, covariance).mean, values[:, :2].mean(axis=1), atol=1e-6)

    def test_comparison_is_second_less_first(self) -> None:
        first = positions("AB", np.array([1.0, 5.0]), np.array([2.0, 6.0]), np.array([3.0, np.nan]))
        second = positions("BA", np.array([5.5, 1.1]), np.array([6.0, 2.3]), np.array([1.0, 2.0]))
        found = compare(first, second, 0.316, 0.9)
        self.assertEqual(found.names, ("A", "B"))
        np.testing.assert_allclose(found.de_m, [0.1, 0.5])
        np.testing.assert_allclose(found.dn_m, [0.3, 0.0])
        np.testing.assert_allclose(found.dh_m, [-1.0, np.nan])
        np.testing.assert_allclose(found.d_m, [math.hypot(0.1, 0.3), 0.5])
        self.assertEqual(list(compare(first, second, 0.317, 1.1).over), [False, True])
        self.assertEqual(list(compare(first, second, 0.317, 0.9).over), [True, True])
        self.assertEqual(list(compare(first, second, 0.316, 1.1).over), [True, True])

    def test_differences_of_carried_marks_by_simulation(self) -> None:
        """Seeded draws of all measured and known positions: the spread of the difference of two carried
        marks is the one stated, for marks that took part, a check and a mark of its own; what they share
        falls out."""
        rng = np.random.default_rng(11)
        exact = made_up_pairs(k=5, marks=2, noise=0.0, spread=300.0)
        sigmas = np.array([[0.004], [0.004], [0.009]])
        for options in (
            {"horizontal": "turn", "height": "plane"},
            {"horizontal": "shift", "height": "shift"},
            {"horizontal": "pivot", "pivot": ("T-02", "T-04"), "height": "shift"},
        ):
            drawn = []
            for _ in range(500):
                measured = exact.measured + sigmas * rng.normal(size=exact.measured.shape)
                known = exact.known + 0.5 * sigmas * rng.normal(size=exact.known.shape)
                k = known.shape[1]
                result = fit(
                    positions(exact.names, *measured, np.full(7, 0.004), np.full(7, 0.009)),
                    positions(exact.names[:k], *known, np.full(k, 0.002), np.full(k, 0.0045)),
                    FitOptions(**options, check=frozenset(["T-05"])),
                )
                drawn.append([result.carried.e_m, result.carried.n_m, result.carried.height_m])
            spread = np.array(drawn)
            for i, j in ((0, 1), (1, 3), (0, 4), (5, 6), (1, 5), (3, 6)):
                stated = result.carried.difference_covariance(i, j)
                found = np.cov((spread[:, :, j] - spread[:, :, i]).T)
                size = np.sqrt(np.outer(np.diag(found), np.diag(found)))
                np.testing.assert_allclose(
                    stated / size, found / size, atol=0.27, err_msg=f"{options} {i} {j}"
                )
        np.testing.assert_array_equal(result.carried.difference_covariance(2, 2), 0.0)
        taken = result.carried.take(np.array([6, 3]))
        np.testing.assert_allclose(
            taken.difference_covariance(1, 0), result.carried.difference_covariance(3, 6)
        )

    def test_height_planes_slope_the_way_they_say(self) -> None:
        pairs = made_up_pairs(noise=0.0)
        pairs.known[2] += 30e-6 * pairs.known[0] - 50e-6 * pairs.known[1]
        height = pairs.fit(height="plane").height
        np.testing.assert_allclose([height.slope_e, height.slope_n], [30e-6, -50e-6], atol=1e-9)
        self.assertAlmostEqual(height.tilt, math.hypot(30e-6, 50e-6), places=9)


class Places(unittest.TestCase):
    def test_some_rows_keep_what_is_theirs(self) -> None:
        e, n, h = np.array([[1.0, 2, 3], [10, 20, 30], [100, 200, 300]])
        sigma = np.array([0.01, np.nan, 0.03])
        every = positions(["A", "B", "C"], e, n, h, sigma, 2 * sigma)
        some = every.take(np.array([2, 0]))
        self.assertEqual(some.names, ("C", "A"))
        np.testing.assert_array_equal([some.e_m, some.n_m, some.height_m], [e[[2, 0]], n[[2, 0]], h[[2, 0]]])
        np.testing.assert_allclose([some.sigma_h_m, some.sigma_v_m], [[0.03, 0.01], [0.06, 0.02]])
        np.testing.assert_array_equal(every.covariance[0, 1], [0.0, np.nan, 0.0])
        np.testing.assert_array_equal(every.covariance[1, 2], [0.0, np.nan, 0.0])

    def test_sigmas_scale_with_the_projection_in_plan_alone(self) -> None:
        """A mark 3.5 degrees from the central meridian of UTM, where the scale is above 1.001 (formula of the
        scale by Frame.point_scale, checked elsewhere)."""
        frame = open_frame(FrameSpec(name="UTM", crs="EPSG:25832"))
        lat, lon, h = np.radians([10.0]), np.radians([12.5]), np.array([50.0])
        scale = float(frame.point_scale(lat, lon)[0][0])
        self.assertGreater(scale, 1.001)
        found = to_plane(frame, ["A"], lat, lon, h, np.array([0.5]), np.array([0.7]))
        self.assertAlmostEqual(float(found.sigma_h_m[0]), 0.5 * scale, places=12)
        self.assertAlmostEqual(float(found.sigma_v_m[0]), 0.7, places=12)

    def test_the_turn_between_two_directions(self) -> None:
        for about in ((0.0, 0.0), (500.0, -300.0)):
            e, n = about
            self.assertAlmostEqual(turn_between(about, (e, n + 10), (e + 5, n)), math.pi / 2)
            self.assertAlmostEqual(turn_between(about, (e + 5, n), (e, n + 10)), -math.pi / 2)
            self.assertAlmostEqual(turn_between(about, (e - 1, n - 1), (e - 2, n)), math.pi / 4)
            with self.assertRaises(ProcedureError):
                turn_between(about, about, (e, n + 1))
