"""Fits of made-up pairs with a known truth: parameters, leave-one-out, models, covariance, the way back."""

import math
import unittest
from dataclasses import replace
from typing import Any

import numpy as np

from fenwind.errors import ProcedureError
from fenwind.geodesy.frames import FrameSpec, HeightReference, open_frame, working_frame_spec
from fenwind.geodesy.geoid import GeoidGrid
from fenwind.procedures.average import average
from fenwind.procedures.fit import FitOptions, fit
from fenwind.procedures.positions import Positions, positions
from fenwind.procedures.to_plane import mean_place, to_plane
from tests.support import DATA, made_up_pairs


class Parameters(unittest.TestCase):
    def test_sigmas_that_are_not_given_are_a_fixed_position_s(self) -> None:
        """10 and 20 mm (common practice, no source)."""
        assumed, stated = made_up_pairs(), made_up_pairs()
        assumed.sigmas_given, (stated.sigma_h, stated.sigma_v) = False, (0.010, 0.020)
        a, b = (p.fit(height="shift") for p in (assumed, stated))
        for one, two in ((a.plan_adjustment, b.plan_adjustment), (a.height_adjustment, b.height_adjustment)):
            self.assertAlmostEqual(one.sum_squares / two.sum_squares, 1.0, 9)

    def test_exact_pairs_give_the_truth_back(self) -> None:
        for model, turn, scale in (
            ("shift", 0.0, 1.0), ("turn", 0.21, 1.0), ("turn", -2.9, 1.0), ("scale", 0.4, 1.00037),
        ):  # fmt: skip
            with self.subTest(model=model, turn=turn):
                pairs = made_up_pairs(turn=turn, scale=scale, noise=0.0, marks=5)
                result = pairs.fit(horizontal="auto")
                self.assertEqual(result.model, model)
                self.assertAlmostEqual(result.plan.rotation_rad, turn, places=10)
                self.assertAlmostEqual(result.plan.scale, scale, places=10)
                self.assertAlmostEqual(result.height.shift_m, -45.0, places=9)
                self.assertLess(np.nanmax(result.pairs.misfit_h_m), 1e-6)
                # The formula of the command line, counted from the origins.
                e, n = pairs.measured[0], pairs.measured[1]
                shift_e, shift_n = result.plan.shift
                c, s = scale * math.cos(turn), scale * math.sin(turn)
                np.testing.assert_allclose(shift_e + c * e + s * n, result.carried.e_m, atol=1e-6)
                np.testing.assert_allclose(shift_n - s * e + c * n, result.carried.n_m, atol=1e-6)

    def test_the_simplest_model_the_data_accept(self) -> None:
        chosen = {name: 0 for name in ("shift", "turn", "scale")}
        for seed in range(60):
            chosen[made_up_pairs(turn=0.3, seed=seed).fit().model] += 1
        self.assertEqual(chosen["shift"], 0)
        self.assertLessEqual(chosen["scale"], 3)  # 1 % of 60 by the test's own level
        self.assertEqual(made_up_pairs(turn=0.3, scale=1.00005).fit().model, "scale")
        self.assertEqual(made_up_pairs(turn=0.0, seed=3).fit().model, "shift")

    def test_given_rotation_and_scale_are_held(self) -> None:
        pairs = made_up_pairs(turn=0.21, scale=1.0)
        result = pairs.fit(horizontal="scale", rotation_rad=0.2, scale=1.0001)
        self.assertEqual((result.plan.rotation_rad, result.plan.scale), (0.2, 1.0001))
        self.assertEqual(result.plan_adjustment.dof, 2 * 8 - 2)

    def test_pivot(self) -> None:
        pairs = made_up_pairs(noise=0.01)
        result = pairs.fit(pivot=("T-03", "T-05"), horizontal="pivot")
        t = result.pairs
        i, j = t.names.index("T-03"), t.names.index("T-05")
        self.assertAlmostEqual(t.misfit_h_m[i], 0.0, places=8)
        known = pairs.known[:2, j] - pairs.known[:2, i]
        across = t.de_m[j] * known[1] - t.dn_m[j] * known[0]
        self.assertAlmostEqual(across / np.hypot(*known), 0.0, places=8)
        self.assertEqual(result.plan.scale, 1.0)
        self.assertEqual(list(np.flatnonzero(t.used_h)), [i, j])
        self.assertGreater(t.misfit_h_m.max(), 0.005)

    def test_height_plane(self) -> None:
        pairs = made_up_pairs(noise=0.0)
        pairs.known[2] += 12e-6 * (pairs.known[0] - 1300) - 30e-6 * (pairs.known[1] - 2100)
        h = pairs.fit(height="plane").height
        self.assertAlmostEqual(h.slope_e, 12e-6, places=12)
        self.assertAlmostEqual(h.slope_n, -30e-6, places=12)
        self.assertAlmostEqual(h.e0_m, pairs.known[0].mean(), places=6)
        none = pairs.fit(height="none")
        np.testing.assert_allclose(none.carried.height_m, pairs.measured[2])

    def test_inverse(self) -> None:
        pairs = made_up_pairs(marks=4)
        result = pairs.fit(height="plane", horizontal="scale")
        c = result.carried
        e, n, h = result.inverse(c.e_m, c.n_m, c.height_m)
        np.testing.assert_allclose([e, n, h], pairs.measured, atol=1e-8)
        again = result.forward(pairs.positions()[0])
        np.testing.assert_allclose(again.e_m, c.e_m, atol=1e-9)

    def test_backward_is_the_way_back_with_its_errors(self) -> None:
        """Errors turn back as differences of the inverse do; the fit's own come on top, and nothing else."""
        result = made_up_pairs(turn=0.7, scale=1.0004, marks=4).fit(horizontal="scale", height="plane")
        there = result.carried.take(np.arange(4))
        own = np.zeros((3, 3, 4))
        own[:, :, :] = np.array([[4.0, 1.0, 0.5], [1.0, 1.0, 0.2], [0.5, 0.2, 9.0]])[:, :, None] * 1e-6
        back, plain = (
            result.backward(replace(there, covariance=c, joint=None)) for c in (own, np.zeros((3, 3, 4)))
        )
        places = result.inverse(there.e_m, there.n_m, there.height_m)
        np.testing.assert_allclose([back.e_m, back.n_m, back.height_m], places)
        step = np.eye(2)[:, :, None] * 1000.0
        turn = np.zeros((3, 3))
        for k in range(2):
            moved = result.inverse(there.e_m + step[k, 0], there.n_m + step[k, 1], there.height_m)
            turn[:2, k] = [(moved[i] - places[i])[0] / 1000.0 for i in range(2)]
        turn[2, 2] = 1.0
        for i in range(4):
            np.testing.assert_allclose(
                (back.covariance - plain.covariance)[:, :, i], turn @ own[:, :, i] @ turn.T, atol=1e-11
            )
        again = result.forward(replace(plain, covariance=np.zeros((3, 3, 4)))).covariance
        self.assertTrue((plain.covariance[0, 0] > 0.9 * again[0, 0] / 1.1).all())


class Evidence(unittest.TestCase):
    def test_leave_one_out_is_what_a_fit_without_the_pair_gives(self) -> None:
        for blunder in (0.0, 0.5, 40.0):
            pairs = made_up_pairs()
            pairs.known[0, 2] += blunder
            result = pairs.fit(horizontal="turn", height="plane")
            for i, name in enumerate(result.pairs.names):
                without = pairs.fit(horizontal="turn", height="plane", check=frozenset([name]))
                self.assertAlmostEqual(
                    result.pairs.loo_h_m[i], without.pairs.misfit_h_m[i], delta=2e-4 if blunder > 1 else 2e-5
                )
            self.assertEqual(
                np.nanargmax(result.pairs.loo_h_m), 2 if blunder else np.nanargmax(result.pairs.loo_h_m)
            )
        # In height the model is linear and the plan hardly changes, so it is exact to the plan's part.
        for i, name in enumerate(result.pairs.names[:3]):
            without = pairs.fit(horizontal="turn", height="plane", no_height=frozenset([name]))
            self.assertAlmostEqual(result.pairs.loo_v_m[i], without.pairs.dh_m[i], delta=1e-5)

    def test_covariance_of_carried_marks_by_simulation(self) -> None:
        """Seeded simulation for marks that took part, checks, and marks carried only; known positions have
        sigmas too."""
        true = made_up_pairs(k=6, marks=3, noise=0.0)
        rng = np.random.default_rng(2)
        for options in (
            {"horizontal": "turn", "height": "plane"},
            {"horizontal": "pivot", "pivot": ("T-01", "T-02"), "height": "shift"},
        ):
            errors = []
            for _ in range(1200):
                m = true.measured + rng.normal(size=true.measured.shape) * [[0.01], [0.01], [0.02]]
                k = true.known + rng.normal(size=true.known.shape) * 0.005
                measured = positions(true.names, *m, np.full(9, 0.01), np.full(9, 0.02))
                known = positions(true.names[:6], *k, np.full(6, 0.005), np.full(6, 0.005))
                result = fit(measured, known, FitOptions(check=frozenset(["T-06"]), **options))
                errors.append(np.stack([result.carried.e_m, result.carried.n_m, result.carried.height_m]))
            spread = np.std(np.array(errors), axis=0)
            promised = np.sqrt(np.einsum("iik->ik", result.carried.covariance))
            np.testing.assert_allclose(promised, spread, rtol=0.085)

    def test_without_sigmas_uncertainties_follow_the_residuals(self) -> None:
        pairs = made_up_pairs(k=10, noise=0.03, marks=2)
        pairs.sigmas_given = False
        result = pairs.fit(horizontal="turn")
        self.assertTrue(result.sigmas_assumed)
        given = made_up_pairs(k=10, noise=0.03, marks=2).fit(horizontal="turn")
        ratio = result.carried.sigma_h_m[-1] / given.carried.sigma_h_m[-1]
        self.assertAlmostEqual(ratio, math.sqrt(given.plan_adjustment.variance_factor), delta=1e-9)

    def test_uses(self) -> None:
        pairs = made_up_pairs()
        pairs.known[2, 4] = np.nan
        result = pairs.fit(
            check=frozenset(["T-01"]), no_height=frozenset(["T-02"]), no_horizontal=frozenset(["T-03"]),
            off=frozenset(["T-08"]),
        )  # fmt: skip
        rows = {
            n: (bool(h), bool(v))
            for n, h, v in zip(result.pairs.names, result.pairs.used_h, result.pairs.used_v, strict=True)
        }
        expected = {
            "T-01": (False, False), "T-02": (True, False), "T-03": (False, True), "T-04": (True, True),
            "T-05": (True, False),
        }  # fmt: skip
        self.assertEqual({k: rows[k] for k in expected}, expected)
        self.assertNotIn("T-08", rows)
        self.assertTrue(np.isnan(result.pairs.dh_m[4]))

    def test_refusals_say_what_to_do(self) -> None:
        pairs = made_up_pairs(k=3)
        rows = [
            ({"check": frozenset(["X"])}, "not a pair"),
            ({"horizontal": "pivot"}, "two different pairs"),
            (
                {"horizontal": "pivot", "pivot": ("T-01", "T-02"), "check": frozenset(["T-01"])},
                "cannot be a check",
            ),
            ({"check": frozenset(pairs.names)}, "no pair is held"),
            ({"horizontal": "turn", "check": frozenset(["T-01", "T-02"])}, "two or more pairs"),
            ({"height": "plane", "no_height": frozenset(["T-01"])}, "tilted plane"),
            ({"horizontal": "warp"}, "is not a fit"),
            ({"horizontal": "scale", "scale": -1.0}, "above zero"),
        ]
        for options, words in rows:
            with self.subTest(words), self.assertRaisesRegex(ProcedureError, words):
                pairs.fit(**options)
        other = positions(["Q"], np.zeros(1), np.zeros(1), np.zeros(1))
        with self.assertRaisesRegex(ProcedureError, "same name"):
            fit(pairs.positions()[0], other, FitOptions())


class Plane(unittest.TestCase):
    def test_to_plane_reduces_by_the_geoid(self) -> None:
        spec = replace(
            working_frame_spec("EPSG:25832"),
            height=HeightReference(kind="geoid", grid=str(DATA / "egm96_15.gtx")),
        )
        lat, lon = np.radians([61.3, 61.31]), np.radians([8.4, 8.41])
        plane = to_plane(
            open_frame(spec), ["A", "B"], lat, lon, np.array([1285.0, np.nan]), np.full(2, 0.01),
            np.full(2, 0.02),
        )  # fmt: skip
        undulation = GeoidGrid(DATA / "egm96_15.gtx").height(lat, lon)
        self.assertAlmostEqual(plane.height_m[0], 1285.0 - undulation[0], places=9)
        self.assertTrue(np.isnan(plane.height_m[1]))
        self.assertAlmostEqual(
            plane.sigma_h_m[0] / 0.01, float(open_frame(spec).point_scale(lat[0], lon[0])[0]), places=9
        )
        self.assertAlmostEqual(
            mean_place(open_frame(spec), plane).combined, 0.9996 * (1 - 1285 / 6.38e6), delta=2e-5
        )
        self.assertIsNone(mean_place(open_frame(FrameSpec(name="plane")), plane))
        with self.assertRaisesRegex(ProcedureError, "A .*cannot be projected"):
            to_plane(open_frame(spec), ["A"], np.radians([95.0]), np.radians([8.0]), np.zeros(1))

    def test_average(self) -> None:
        values = np.array([[10.0, 10.01], [5.0, 5.02], [1.0, 0.98]])
        covariance = np.zeros((3, 3, 2))
        for axis in range(3):
            covariance[axis, axis] = [1e-4, 3e-4]
        mean = average(values, covariance)
        np.testing.assert_allclose(mean.mean, [10.0025, 5.005, 0.995], atol=1e-9)
        np.testing.assert_allclose(np.diag(mean.covariance), 0.75e-4, atol=1e-12)
        with self.assertRaises(ProcedureError):
            average(np.zeros((3, 0)), np.zeros((3, 3, 0)))


class OneBase(unittest.TestCase):
    def test_the_error_of_a_base_is_left_to_the_shift(self) -> None:
        """Marks measured from one base that is known to 1.5 m: the turn is as good as the vectors, and 95 %
        regions hold what they state, by simulated bases and vectors."""
        rng = np.random.default_rng(3)
        e, n = np.array([0.0, 400.0, 150.0, 600.0, -500.0]), np.array([0.0, 80.0, 350.0, 500.0, 300.0])
        base, own = 1.5**2 * np.eye(3), 0.005**2 * np.eye(3)

        class FromBase:
            def between(self, first: Any, second: Any) -> Any:
                return np.repeat(base[:, :, None], first.size, axis=2)

        known = positions(list("ABC"), e[:3] + 1000.0, n[:3] + 2000.0, np.full(3, np.nan))
        inside = 0
        for _ in range(200):
            off = 1.5 * rng.standard_normal(2)
            at = [values + off[k] + 0.005 * rng.standard_normal(5) for k, values in enumerate((e, n))]
            measured = Positions(
                names=tuple("ABCXY"), e_m=at[0], n_m=at[1], height_m=np.full(5, np.nan),
                covariance=np.repeat((base + own)[:, :, None], 5, axis=2), joint=FromBase(),
            )  # fmt: skip
            found = fit(measured, known, FitOptions(horizontal="turn", height="none"))
            self.assertLess(math.sqrt(found.plan.covariance[2, 2]), 5e-5)
            carried = found.carried
            for k in (3, 4):
                away = np.array([carried.e_m[k] - e[k] - 1000.0, carried.n_m[k] - n[k] - 2000.0])
                inside += float(away @ np.linalg.solve(carried.covariance[:2, :2, k], away)) < 5.991
        # 400 draws in pairs of one fit: 95 % within three standard deviations of so many.
        self.assertTrue(0.91 < inside / 400 < 0.985, inside / 400)
