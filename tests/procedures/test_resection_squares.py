"""The lean solution of a resection against one written out here: derivatives by differences, the covariance
of everything as one matrix, NumPy's least squares."""

import math
import unittest
from dataclasses import replace

import numpy as np

from fenwind.errors import EstimationError
from fenwind.estimation.engine import Problem, adjust
from fenwind.estimation.few import settle
from fenwind.procedures.resection import (
    Case,
    Reduced,
    _best,
    _squares,
    moves_with_targets,
    part_of,
    solve,
    tried,
)  # fmt: skip

TRUTH = np.array([11.0, -7.0, 0.4, 2.0, 1.0003])
SECOND = math.pi / 648000.0


def case_of(seed: int, heights: bool, scale: float, lacking: bool) -> Case:
    """Seven sightings with correlated errors, in all directions, one across the end of the circle."""
    rng = np.random.default_rng(seed)
    bearing = np.linspace(-3.0, 3.1, 7) + rng.uniform(-0.1, 0.1, 7)
    far = rng.uniform(40.0, 300.0, 7)
    known = np.stack([
        TRUTH[0] + far * np.sin(bearing), TRUTH[1] + far * np.cos(bearing), rng.uniform(-9.0, 9.0, 7),
    ])  # fmt: skip
    half = rng.normal(size=(7, 3, 3)) * np.array([5 * SECOND, 0.004, 0.006])[:, None]
    covariance = half @ half.transpose(0, 2, 1) + np.diag([(2 * SECOND) ** 2, 1e-6, 1e-6])
    noise = np.stack([rng.multivariate_normal(np.zeros(3), c) for c in covariance]).T
    used = np.ones((3, 7), dtype=bool)
    used[2] = heights
    if lacking:
        used[1:, 2], used[2, 4] = False, False
    read = np.stack([(bearing - TRUTH[2]) % math.tau, far / scale, known[2] - TRUTH[3]]) + noise
    read[~used] = np.nan
    reduced = Reduced(
        targets=tuple("ABCDEFG"), direction=read[0], hd=read[1], dh=read[2],
        covariance=covariance.transpose(1, 2, 0), collimation=math.nan, index=math.nan,
    )  # fmt: skip
    return Case(reduced=reduced, known=known, used=used, heights=heights)


def written_out(case: Case, heights: bool, free: bool) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """x, its covariance, and standardised residuals of the used observations, sighting by sighting."""
    place = np.flatnonzero(case.used.T.ravel())
    whole = np.zeros((21, 21))
    for k in range(7):
        whole[3 * k : 3 * k + 3, 3 * k : 3 * k + 3] = case.reduced.covariance[:, :, k]
    weight = np.linalg.inv(whole[np.ix_(place, place)])

    def off(x: np.ndarray) -> np.ndarray:
        e, n = case.known[0] - x[0], case.known[1] - x[1]
        h, scale = (x[3] if heights else 0.0), (x[-1] if free else 1.0)
        turn = np.angle(np.exp(1j * (np.arctan2(e, n) - x[2] - case.reduced.direction)))
        values = [turn, np.hypot(e, n) / scale - case.reduced.hd, case.known[2] - h - case.reduced.dh]
        return np.stack(values).T.ravel()[place]

    x = np.concatenate([TRUTH[: 3 + heights], TRUTH[4:] if free else []])
    for _ in range(9):
        steps = 1e-5 * np.eye(x.size)
        rows = np.stack([(off(x + s) - off(x - s)) / 2e-5 for s in steps], axis=1)
        q = np.linalg.inv(rows.T @ weight @ rows)
        x = x - q @ rows.T @ weight @ off(x)
    v = off(x)
    spread = weight - weight @ rows @ q @ rows.T @ weight
    return x, q, np.abs(weight @ v) / np.sqrt(np.diag(spread))


class AgainstWrittenOut(unittest.TestCase):
    """Every kind of case."""

    def test_solution_and_statistics(self) -> None:
        kinds = [(h, f, k) for h in (False, True) for f in (False, True) for k in (False, True)]
        for seed, (heights, free, lacking) in enumerate(kinds):
            case = case_of(seed, heights, TRUTH[4] if free else 1.0, lacking)
            found = solve(case, "apply" if free else "fixed")
            x, q, w = written_out(case, heights, free)
            mine = [found.e, found.n, found.orientation, *[found.h] * heights, *[found.applied] * free]
            with self.subTest(heights=heights, free=free, lacking=lacking):
                np.testing.assert_array_less(np.abs(np.array(mine) - x), 1e-5 * np.sqrt(np.diag(q)))
                np.testing.assert_allclose(found.whole, q, rtol=1e-5, atol=1e-6 * np.abs(q).min())
                used = case.used.T.ravel()
                np.testing.assert_allclose(found.standardised.T.ravel()[used], w, atol=1e-4)
                self.assertEqual(found.dof, int(used.sum()) - x.size)
                for shown in (found.standardised, found.residuals):
                    np.testing.assert_array_equal(np.isnan(shown), ~case.used)

    def test_moves_with_the_targets(self) -> None:
        for free in (False, True):
            case = case_of(5, True, TRUTH[4] if free else 1.0, True)
            found = solve(case, "apply" if free else "fixed")
            moves = moves_with_targets(case, found)
            for component, k in ((0, 1), (1, 5), (2, 6), (0, 2)):
                known = case.known.copy()
                known[component, k] += 0.01
                other = solve(replace(case, known=known), "apply" if free else "fixed")
                pairs = ((found.e, other.e), (found.n, other.n), (found.orientation, other.orientation),
                         (found.h, other.h))  # fmt: skip
                moved = [b - a for a, b in pairs]
                np.testing.assert_allclose(moves[:4, component, k] * 0.01, moved, rtol=2e-3, atol=1e-9)

    def test_the_best_of_several_starts(self) -> None:
        case = case_of(3, True, 1.0, False)
        squares = _squares(case, True, False)
        away, right = np.array([-100.0, 100.0, 3.5]), np.append(case.known[:2, 0], 0.4)
        wrong = squares.solve(away)
        self.assertGreater(wrong.sum_squares, 1e4, "a start that leads elsewhere")
        best = _best(case, squares, [away, right])
        there = solve(case, "fixed")
        np.testing.assert_allclose(best.x, [there.e, there.n, there.orientation, there.h], rtol=1e-6)

    def test_what_is_only_tried_leaves_the_same(self) -> None:
        for distances in (True, False):
            case = case_of(6, distances, 1.0, False)
            if not distances:
                case.used[1] = False
            whole, (found, dof) = solve(case, "fixed"), tried(case, "fixed")
            self.assertAlmostEqual(found.sum_squares, whole.sum_squares, places=6)
            self.assertEqual(dof, whole.dof)
            self.assertAlmostEqual(found.x[0], whole.e, places=6)
        away = np.array([-2000.0, 4.0, 2.0])
        with self.assertRaises(EstimationError):
            _squares(case_of(6, True, 1.0, False), True, False).solve(away, damped=False)

    def test_what_nothing_controls_has_no_test(self) -> None:
        case = part_of(case_of(4, False, 1.0, False), np.arange(7) < 3)
        case.used[1] = False
        found = solve(case, "fixed")
        self.assertEqual((found.dof, np.nanmax(found.standardised)), (0, 0.0))


class Settling(unittest.TestCase):
    """Whole steps with a handful of unknowns."""

    def test_takes_the_last_step(self) -> None:
        def at(x: np.ndarray) -> np.ndarray:
            t = np.arange(9.0)
            return np.stack([np.exp(-x[1] * t), -x[0] * t * np.exp(-x[1] * t), x[0] * np.exp(-x[1] * t) - y])

        y = 3.0 * np.exp(-0.2 * np.arange(9.0)) + 0.05 * np.cos(np.arange(9.0))

        def model(x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
            rows = at(x)
            return rows[-1:], rows[None, :-1]

        problem = Problem(
            names=("a", "b"), start=np.array([2.5, 0.3]), observed=np.zeros((1, 9)),
            covariance=np.ones((1, 1, 9)), model=model,
        )  # fmt: skip
        best = adjust(problem)
        found = settle(at, problem.start)
        sigma = np.sqrt(np.diag(best.cofactors))
        np.testing.assert_array_less(np.abs(found.x - best.x), 2e-6 * sigma)
        np.testing.assert_allclose(found.cofactors, best.cofactors, rtol=1e-4)
        np.testing.assert_allclose(found.rows[-1], at(found.x)[-1], atol=1e-9)
        self.assertGreater(found.steps, 3)
        self.assertEqual(settle(at, problem.start, most=2).steps, 2)
        start = settle(at, found.x + 1e-6 * sigma)
        self.assertEqual(start.steps, 1, "a millionth of a sigma off, one step is all")
        np.testing.assert_array_less(np.abs(start.x - best.x), 1e-7 * sigma)

    def test_what_is_hardly_determined_does_not_settle(self) -> None:
        columns = np.stack([np.ones(5), 1.0 + 1e-8 * np.arange(5.0)])
        found = settle(lambda x: np.concatenate([columns, [x @ columns - 1.0]]), np.zeros(2))
        self.assertIsNone(found.cofactors)

    def test_one_mark_read_twice_is_told(self) -> None:
        case = case_of(1, False, 1.0, False)
        case.known[:, :] = case.known[:, :1]
        with self.assertRaises(EstimationError):
            solve(case, "fixed", np.append(case.known[:2, 0], 0.0))
