"""Properties of the engine that hold for any problem, and what it says when it cannot solve one."""

import unittest

import numpy as np

from fenwind.errors import DatumDefectError, EstimationError
from fenwind.estimation import blocks
from fenwind.estimation.distributions import detectable_shift
from fenwind.estimation.engine import Adjustment, Problem, adjust


def _random(seed: int, k: int = 12, b: int = 2, n: int = 4) -> tuple[Problem, np.ndarray, np.ndarray]:
    """A linear problem with correlated blocks, its design (b, n, k) and full weight matrix (m, m), rows
    ordered block by block."""
    rng = np.random.default_rng(seed)
    design = rng.normal(size=(b, n, k))
    roots = 0.4 * rng.normal(size=(k, b, b)) + 2 * np.eye(b)
    covariance = (roots @ roots.transpose(0, 2, 1)).transpose(1, 2, 0)
    observed = rng.normal(size=(b, k))
    problem = Problem(
        names=tuple(f"x{i}" for i in range(n)), start=np.zeros(n), observed=observed, covariance=covariance,
        model=lambda x: (np.einsum("bnk,n->bk", design, x), design), linear=True,
    )  # fmt: skip
    weight = np.zeros((b * k, b * k))
    for i in range(k):
        weight[i * b : (i + 1) * b, i * b : (i + 1) * b] = np.linalg.inv(covariance[:, :, i])
    return problem, design.transpose(2, 0, 1).reshape(b * k, n), weight


class Properties(unittest.TestCase):
    def test_against_the_textbook_in_full_matrices(self) -> None:
        """x, v, Q, redundancy, standardised residuals and MDE by full matrices (Koch 1999, sections 3.2 and
        4.3) for b = 1, 2, 3."""
        for seed, b in ((1, 1), (2, 2), (3, 3)):
            with self.subTest(b=b):
                problem, a, p = _random(seed, b=b)
                result = adjust(problem)
                q = np.linalg.inv(a.T @ p @ a)
                observed = problem.observed.T.ravel()
                x = q @ a.T @ p @ observed
                v = a @ x - observed
                qvv = np.linalg.inv(p) - a @ q @ a.T
                np.testing.assert_allclose(result.x, x, atol=1e-10)
                np.testing.assert_allclose(result.residuals.T.ravel(), v, atol=1e-10)
                np.testing.assert_allclose(result.cofactors, q, atol=1e-10)
                np.testing.assert_allclose(a.T @ p @ result.residuals.T.ravel(), 0.0, atol=1e-9)
                np.testing.assert_allclose(result.redundancy.T.ravel(), np.diag(qvv @ p), atol=1e-10)
                self.assertAlmostEqual(float(result.redundancy.sum()), result.dof, places=8)
                sensitivity = np.sqrt(np.diag(p @ qvv @ p))
                np.testing.assert_allclose(result.standardised.T.ravel(), (p @ v) / sensitivity, atol=1e-9)
                np.testing.assert_allclose(
                    result.detectable.T.ravel(), detectable_shift(0.001, 0.8) / sensitivity, rtol=1e-9
                )

    def test_deleted_residuals_are_those_of_a_fit_without_the_block(self) -> None:
        problem, _, _ = _random(4)
        result = adjust(problem)
        for i in range(problem.observed.shape[1]):
            keep = np.arange(problem.observed.shape[1]) != i
            design = problem.model(np.zeros(4))[1]
            rest = Problem(
                names=problem.names,
                start=np.zeros(4),
                observed=problem.observed[:, keep],
                covariance=problem.covariance[:, :, keep],
                model=lambda x, d=design[:, :, keep]: (np.einsum("bnk,n->bk", d, x), d),
                linear=True,
            )
            without = adjust(rest)
            misfit = np.einsum("bn,n->b", design[:, :, i], without.x) - problem.observed[:, i]
            np.testing.assert_allclose(result.deleted_residuals[:, i], misfit, atol=1e-8)
            self.assertAlmostEqual(
                float(result.deleted_statistic[i]), result.sum_squares - without.sum_squares, places=7
            )

    def test_constraints_hold_exactly_and_reach_the_covariance(self) -> None:
        problem, a, p = _random(5)
        rows = np.array([[1.0, 1.0, 0.0, 0.0], [0.0, 0.0, 1.0, 0.0]])
        held = Problem(**{**problem.__dict__, "constraints": lambda x: (rows @ x - [2.0, -1.0], rows)})
        result = adjust(held)
        np.testing.assert_allclose(rows @ result.x, [2.0, -1.0], atol=1e-12)
        np.testing.assert_allclose(rows @ result.cofactors @ rows.T, 0.0, atol=1e-12)
        bordered = np.block([[a.T @ p @ a, rows.T], [rows, np.zeros((2, 2))]])
        np.testing.assert_allclose(result.cofactors, np.linalg.inv(bordered)[:4, :4], atol=1e-10)
        right = np.concatenate([a.T @ p @ problem.observed.T.ravel(), [2.0, -1.0]])
        np.testing.assert_allclose(result.x, np.linalg.solve(bordered, right)[:4], atol=1e-10)
        self.assertEqual(result.dof, problem.observed.size + 2 - 4)

    def test_every_step_is_counted_and_no_model_asked_in_vain(self) -> None:
        """A circle through points: each iteration asks the model once; two of them may not be enough."""
        rng = np.random.default_rng(3)
        turn = np.linspace(0.0, 5.0, 30)
        at = np.array([[4.0], [-2.0]]) + 7.0 * np.array([np.cos(turn), np.sin(turn)])
        at += 0.01 * rng.normal(size=at.shape)
        asked: list[int] = []

        def model(x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
            asked.append(1)
            d = at - x[:2, None]
            r = np.hypot(*d)
            return (r - x[2])[None], np.stack([-d[0] / r, -d[1] / r, -np.ones(r.size)])[None]

        problem = Problem(names=("e", "n", "r"), start=np.array([1.0, 1.0, 3.0]), observed=np.zeros((1, 30)),
                          covariance=np.full((1, 1, 30), 1e-4), model=model)  # fmt: skip
        found = adjust(problem)
        self.assertEqual(found.iterations, len(asked))
        np.testing.assert_allclose(found.x, (4.0, -2.0, 7.0), atol=0.01)
        for most in range(1, found.iterations):
            with self.assertRaises(EstimationError):
                adjust(problem, max_iterations=most)
        adjust(problem, max_iterations=found.iterations)

    def test_covariance_and_global_test_by_simulation(self) -> None:
        """Seeded simulation: the spread of estimates is the covariance promised, and the global test rejects
        at its level."""
        problem, _, _ = _random(6, k=8)
        rng = np.random.default_rng(8)
        lower = blocks.cholesky(problem.covariance)
        truth = np.array([1.0, -2.0, 0.5, 3.0])
        exact = problem.model(truth)[0]
        results: list[Adjustment] = []
        for _ in range(2500):
            noise = np.einsum("ijk,jk->ik", lower, rng.normal(size=problem.observed.shape))
            results.append(adjust(Problem(**{**problem.__dict__, "observed": exact + noise})))
        spread = np.cov(np.array([r.x for r in results]).T)
        np.testing.assert_allclose(spread, results[0].cofactors, rtol=0.12, atol=0.02 * np.abs(spread).max())
        rejected = np.mean([not r.global_test.accepted for r in results])
        self.assertAlmostEqual(rejected, 0.05, delta=0.014)  # three standard deviations of 2500 draws

    def test_detectable_shift(self) -> None:
        # Baarda 1968: 4.13 for alpha 0.001 and power 0.80.
        self.assertAlmostEqual(detectable_shift(0.001, 0.80), 4.13, delta=0.005)


class Refusals(unittest.TestCase):
    def _defective(self, design: np.ndarray, names: tuple[str, ...]) -> DatumDefectError:
        d = design.T[None]
        problem = Problem(
            names=names, start=np.zeros(len(names)), observed=np.zeros((1, design.shape[0])),
            covariance=np.ones((1, 1, design.shape[0])), model=lambda x: ((x @ d[0])[None], d), linear=True,
        )  # fmt: skip
        with self.assertRaises(DatumDefectError) as caught:
            adjust(problem)
        return caught.exception

    def test_says_which_unknown_and_why(self) -> None:
        rng = np.random.default_rng(1)
        lone = rng.normal(size=(6, 3))
        lone[:, 1] = 0.0
        error = self._defective(lone, ("shift", "rotation", "scale"))
        self.assertEqual(error.parameters, ("rotation",))
        self.assertIn("rotation changes no observation", str(error))
        tied = rng.normal(size=(6, 3))
        tied[:, 2] = -2.0 * tied[:, 0]
        error = self._defective(tied, ("shift", "rotation", "height"))
        self.assertEqual(error.parameters, ("shift", "height"))
        self.assertIn("can change together", str(error))

    def test_bad_input(self) -> None:
        problem, _, _ = _random(9)
        for change, words in (
            ({"covariance": np.zeros_like(problem.covariance)}, "positive definite"),
            ({"observed": np.full_like(problem.observed, np.nan)}, "not finite"),
            ({"constraints": lambda x: (np.zeros(2), np.ones((2, 4)))}, "repeat"),
        ):
            with self.subTest(words), self.assertRaisesRegex(EstimationError, words):
                adjust(Problem(**{**problem.__dict__, **change}))

    def test_without_redundancy(self) -> None:
        problem, _, _ = _random(10, k=2)
        result = adjust(problem)
        self.assertEqual(result.dof, 0)
        self.assertIsNone(result.global_test)
        self.assertIsNone(result.variance_factor)
        self.assertTrue(
            np.isnan(result.standardised).all()
            and np.isinf(result.detectable).all()
            and np.isnan(result.deleted_residuals).all()
        )
