"""Means of many marks at once are the means of each alone; an occupation without a height weighs in plan."""

import unittest

import numpy as np

from fenwind.errors import EstimationError
from fenwind.procedures.average import average, means


def occupations(k: int, marks: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Values (3, k), covariances (3, 3, k) with correlations, and the mark of each."""
    dice = np.random.default_rng(7)
    roots = dice.normal(size=(3, 3, k)) * 0.01 + 0.02 * np.eye(3)[:, :, None]
    covariance = np.einsum("iak,jak->ijk", roots, roots)
    group = np.concatenate([np.arange(marks), dice.integers(0, marks, k - marks)])
    values = np.array([[5e5], [68e5], [120.0]]) + 0.03 * dice.normal(size=(3, k)) + group
    return values, covariance, group


class Means(unittest.TestCase):
    def test_each_as_alone(self) -> None:
        values, covariance, group = occupations(40, 9)
        found = means(values, covariance, group)
        for mark in range(9):
            mine = group == mark
            alone = average(values[:, mine], covariance[:, :, mine])
            np.testing.assert_allclose(found.mean[:, mark], alone.mean, rtol=0, atol=1e-7)
            np.testing.assert_allclose(found.covariance[:, :, mark], alone.covariance, rtol=1e-7)
            np.testing.assert_allclose(found.departure[:, mark], alone.departure, rtol=0, atol=1e-7)
            self.assertEqual(found.count[mark], mine.sum())

    def test_missing_heights_weigh_in_plan_alone(self) -> None:
        values, covariance, group = occupations(40, 9)
        values[2, group == 3] = np.nan
        many = int(np.bincount(group).argmax())
        lacking = np.flatnonzero(group == many)[0]
        values[2, lacking] = np.nan
        found = means(values, covariance, group)
        mine = group == 3
        alone = average(values[:2, mine], covariance[:2, :2, mine])
        np.testing.assert_allclose(found.mean[:2, 3], alone.mean, rtol=0, atol=1e-7)
        np.testing.assert_allclose(found.covariance[:2, :2, 3], alone.covariance, rtol=1e-7)
        self.assertTrue(np.isnan(found.mean[2, 3]) and np.isnan(found.covariance[2, :, 3]).all())
        # Generalised least squares with the rows that are there, written out.
        near, normal, right = np.array([5e5, 68e5, 120.0]), np.zeros((3, 3)), np.zeros(3)
        for k in np.flatnonzero(group == many):
            rows = np.eye(3)[: 2 if k == lacking else 3]
            weight = rows.T @ np.linalg.inv(rows @ covariance[:, :, k] @ rows.T)
            normal += weight @ rows
            right += weight @ (rows @ np.nan_to_num(values[:, k]) - rows @ near)
        mean = near + np.linalg.solve(normal, right)
        np.testing.assert_allclose(found.mean[:, many], mean, rtol=0, atol=1e-7)
        np.testing.assert_allclose(found.covariance[:, :, many], np.linalg.inv(normal), rtol=1e-7)

    def test_a_sigma_of_zero_is_refused(self) -> None:
        values, covariance, group = occupations(4, 2)
        covariance[:, :, 1] = 0.0
        with self.assertRaises(EstimationError):
            means(values, covariance, group)
