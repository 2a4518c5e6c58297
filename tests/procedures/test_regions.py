"""Stated 95 % regions hold the truth in about 95 of 100 cases, with given sigmas and with few degrees of
freedom; what is not known is not stated."""

import math
import unittest

import numpy as np

from fenwind.procedures.fit import FitOptions, FitResult, fit
from fenwind.procedures.positions import Positions, positions
from fenwind.procedures.regions import ellipses, factors95, regions95

SIGMA = 0.008


def trial(
    dice: np.random.Generator, pairs: int, given: bool, **options: object
) -> tuple[FitResult, Positions]:
    """A fit of measured marks on a plane turned by 0.3 rad, and the true positions; the last mark is no
    pair."""
    names = [f"P{i}" for i in range(pairs + 1)]
    e, n = dice.uniform(-500, 500, (2, pairs + 1))
    h, turn = dice.uniform(0, 40, pairs + 1), 0.0 if options["horizontal"] == "shift" else 0.3
    true = (
        1000 + e * math.cos(turn) + n * math.sin(turn),
        2000 - e * math.sin(turn) + n * math.cos(turn),
        h + 5,
    )
    noisy = [v + dice.normal(0, SIGMA, pairs + 1) for v in (e, n, h)]
    sigmas = (np.full(pairs + 1, SIGMA),) * 2 if given else ()
    known = positions(names[:pairs], *(v[:pairs] for v in true))
    result = fit(positions(names, *noisy, *sigmas), known, FitOptions(**options))  # type: ignore[arg-type]
    return result, positions(names, *true)


def holds(result: FitResult, true: Positions) -> tuple[bool, bool]:
    """Whether the regions of the last mark hold it, in plan and in height."""
    found, c = regions95(result), result.carried
    de, dn = c.e_m[-1] - true.e_m[-1], c.n_m[-1] - true.n_m[-1]
    bearing = found.bearing_rad[-1]
    along, across = de * np.sin(bearing) + dn * np.cos(bearing), de * np.cos(bearing) - dn * np.sin(bearing)
    inside = (along / found.a_m[-1]) ** 2 + (across / found.b_m[-1]) ** 2 <= 1.0
    return bool(inside), bool(abs(c.height_m[-1] - true.height_m[-1]) <= found.v_m[-1])


class Regions(unittest.TestCase):
    def test_they_hold_what_they_say(self) -> None:
        dice, count = np.random.default_rng(8), 400
        cases = (("turn", 3), ("shift", 2), ("scale", 4), ("turn", 8))
        for model, pairs in cases:
            for given in (False, True):
                seen = [
                    holds(*trial(dice, pairs, given, horizontal=model, height="shift")) for _ in range(count)
                ]
                for axis, word in enumerate(("plan", "height")):
                    share = sum(s[axis] for s in seen) / count
                    # 400 draws of 0.95 lie within 0.028 at 1 %.
                    self.assertAlmostEqual(share, 0.95, delta=0.03, msg=f"{model} {pairs} {given} {word}")

    def test_few_degrees_of_freedom_widen_them(self) -> None:
        """F(0.95; 2, 3) = 9.55 and t(0.975; 2) = 4.303, any table of the distributions (from memory)."""
        result, _ = trial(np.random.default_rng(1), 3, False, horizontal="turn", height="shift")
        plan, height = factors95(result)
        self.assertAlmostEqual(plan, math.sqrt(2 * 9.552), places=3)
        self.assertAlmostEqual(height, 4.303, places=3)
        given, _ = trial(np.random.default_rng(1), 3, True, horizontal="turn", height="shift")
        self.assertAlmostEqual(factors95(given)[0], 2.4477, places=4)
        self.assertAlmostEqual(factors95(given)[1], 1.9600, places=4)

    def test_nothing_left_over_says_nothing(self) -> None:
        result, _ = trial(np.random.default_rng(2), 2, False, horizontal="scale", height="none")
        found = regions95(result)
        self.assertTrue(np.isnan([found.a_m, found.b_m, found.bearing_rad, found.v_m]).all())
        self.assertTrue(np.isnan(result.carried.sigma_h_m).all())
        exact = positions(["A", "B", "C"], *np.array([[0, 100, 0], [0, 0, 100], [1, 2, 3.0]]))
        moved = positions(["A", "B", "C"], exact.e_m + 5, exact.n_m - 7, exact.height_m + 1)
        result = fit(exact, moved, FitOptions(horizontal="shift", height="shift"))
        self.assertTrue(np.isnan(result.carried.sigma_h_m).all() and np.isnan(result.carried.sigma_v_m).all())

    def test_given_is_given_for_each_position(self) -> None:
        """A sigma for one pair makes none for the others; a mark without one among given ones has none."""
        dice = np.random.default_rng(5)
        names = [f"P{i}" for i in range(6)]
        e, n, h = dice.uniform(-500, 500, (3, 6))
        known = positions(names[:5], *(v[:5] + dice.normal(0, SIGMA, 5) for v in (e, n, h)))
        for given, estimated, stated in (
            ([0], True, [True] * 6), ([0, 1, 2, 3, 4], False, [True] * 5 + [False]),
            ([0, 1, 2, 3, 4, 5], False, [True] * 6), ([5], True, [True] * 6),
        ):  # fmt: skip
            sigma = np.where(np.isin(np.arange(6), given), SIGMA, np.nan)
            result = fit(
                positions(names, e, n, h, sigma, sigma), known, FitOptions(horizontal="turn", height="shift")
            )
            self.assertEqual(result.sigmas_assumed, estimated, given)
            self.assertEqual(np.isfinite(result.carried.sigma_h_m).tolist(), stated, given)

    def test_ellipses_of_correlated_coordinates(self) -> None:
        """Against the eigenvectors: length and bearing of both axes, the correlation of either sign."""
        for see, snn, rho in ((3.0, 1.0, 0.4), (1.0, 3.0, -0.7), (2.0, 2.0, 0.5), (1.0, 4.0, 0.0)):
            c = np.array([[see**2, rho * see * snn], [rho * see * snn, snn**2]])
            values, vectors = np.linalg.eigh(c)
            (a,), (b,), (bearing,) = ellipses(c[:, :, None])
            np.testing.assert_allclose([b, a], np.sqrt(values))
            self.assertAlmostEqual(abs(float(vectors[:, 1] @ [math.sin(bearing), math.cos(bearing)])), 1.0)
            self.assertTrue(0.0 <= bearing < math.pi)

    def test_a_pair_held_in_plan_alone_has_a_region_in_height_alone(self) -> None:
        options = {"horizontal": "turn", "height": "shift", "no_height": frozenset(["P2"])}
        result, _ = trial(np.random.default_rng(3), 4, False, **options)
        found = regions95(result)
        self.assertEqual(np.isfinite(found.a_m).tolist(), [False] * 4 + [True])
        self.assertEqual(np.isfinite(found.v_m).tolist(), [False, False, True, False, True])

    def test_held_pairs_have_none_of_an_estimated_factor(self) -> None:
        result, _ = trial(
            np.random.default_rng(3), 4, False, horizontal="turn", height="shift", check=frozenset(["P1"])
        )
        found = regions95(result)
        np.testing.assert_array_equal(np.isfinite(found.a_m), [False, True, False, False, True])
        np.testing.assert_array_equal(np.isfinite(found.v_m), [False, True, False, False, True])
