"""Figures of observations as columns: what is taken from them, by hand."""

import unittest

import numpy as np

from fenwind.procedures.network_figures import FigureTable

NAN = np.nan


class Figures(unittest.TestCase):
    def setUp(self) -> None:
        # Two observations of two components, the second with one that nothing tests, and one of one.
        pairs = np.array([
            [[1.0, 2.0], [3.0, 4.0]], [[0.6, 0.0], [0.5, 0.4]], [[-4.0, NAN], [3.0, -1.0]],
            [[5.0, NAN], [6.0, 7.0]], [[8.0, NAN], [9.0, 10.0]],
        ])  # fmt: skip
        single = np.array([11.0, 0.9, 0.5, 12.0, 13.0])[:, None, None]
        self.table = FigureTable(
            [
                (np.array([0, 3]), pairs, np.array([[0, 1], [1, 2]])),
                (np.array([1]), single, np.array([[2]])),
            ],
            ("A", "B", "C"),
        )

    def test_the_component_that_departs_most(self) -> None:
        wanted = [[1, 0.6, -4, 5, 8], [11, 0.9, 0.5, 12, 13], [NAN] * 5, [4, 0.4, -1, 7, 10]]
        np.testing.assert_array_equal(self.table.worst(4).T, wanted)

    def test_the_least_redundancy_and_all_tests(self) -> None:
        np.testing.assert_array_equal(self.table.least_redundancy(4), [0.5, 0.9, NAN, 0.0])
        np.testing.assert_array_equal(self.table.tests(), [-4.0, NAN, 3.0, -1.0, 0.5])
        self.assertEqual(FigureTable().tests().size, 0)

    def test_one_observation(self) -> None:
        self.assertEqual((list(self.table), len(self.table)), ([0, 3, 1], 3))
        one = self.table[3]
        np.testing.assert_array_equal(
            [one.residual, one.redundancy, one.w, one.mdb, one.external],
            [[2, 4], [0, 0.4], [NAN, -1], [NAN, 7], [NAN, 10]],
        )
        self.assertEqual([self.table[k].external_at for k in (0, 3, 1)], [("A", "B"), ("B", "C"), ("C",)])
        self.assertNotIn(2, self.table)
