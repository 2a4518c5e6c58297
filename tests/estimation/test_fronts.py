"""Sparse systems front by front, against NumPy's dense inverse: solutions, the inverse where it is asked for,
the determinant, what is singular; and the engine with them against the dense solver."""

import unittest
from dataclasses import replace
from unittest import mock

import numpy as np
from scipy import sparse

from fenwind.errors import DatumDefectError
from fenwind.estimation.dissection import LEAF, nested_order
from fenwind.estimation.engine import ObservationGroup, adjust
from fenwind.estimation.fronts import Fronts
from fenwind.estimation.solver import DenseSolver, SparseSolver
from tests.estimation.test_sparse import network


def system(points: int, seed: int, parts: int = 1) -> tuple[sparse.csc_matrix, np.ndarray]:
    """Weights of random vectors between near points of a plane, three unknowns each, in no order; a little
    on the diagonal, so that nothing is undetermined. Also the pairs of points."""
    rng = np.random.default_rng(seed)
    at = rng.uniform(0.0, 1.0, (2, points))
    pairs = set()
    for i in range(points):
        mine = np.flatnonzero(np.arange(points) % parts == i % parts)
        near = mine[np.argsort(np.hypot(*(at[:, mine] - at[:, [i]])))][1:5]
        pairs |= {(min(i, j), max(i, j)) for j in near.tolist()}
    ends = np.array(sorted(pairs), dtype=int).reshape(-1, 2).T
    n = 3 * points
    whole = np.diag(rng.uniform(0.01, 0.1, n))
    for a, b in ends.T:
        root = rng.normal(size=(3, 3)) + 2.0 * np.eye(3)
        weight = root @ root.T
        for i, j, sign in ((a, a, 1.0), (b, b, 1.0), (a, b, -1.0), (b, a, -1.0)):
            whole[3 * i : 3 * i + 3, 3 * j : 3 * j + 3] += sign * weight
    return sparse.csc_matrix(whole), ends


def factorised(matrix: sparse.csc_matrix) -> Fronts:
    n = matrix.shape[0]
    return Fronts(matrix, 1e-13, np.ones(n), np.zeros(n))


class FrontByFront(unittest.TestCase):
    def test_against_the_dense_inverse(self) -> None:
        for points, parts in ((1, 1), (2, 1), (30, 1), (60, 2), (150, 1), (260, 3), (400, 1), (1100, 3)):
            with self.subTest(points=points, parts=parts):
                matrix, ends = system(points, points, parts)
                fronts = factorised(matrix)
                self.assertTrue(fronts.sound)
                dense = matrix.toarray()
                inverse = np.linalg.inv(dense)
                rng = np.random.default_rng(1)
                for shape in ((3 * points,), (3 * points, 2)):
                    x = rng.normal(size=shape)
                    np.testing.assert_allclose(fronts.solve(dense @ x), x, atol=1e-9)
                self.assertAlmostEqual(fronts.log_determinant, np.linalg.slogdet(dense)[1], places=7)
                axes = np.arange(3)[:, None]
                first, second = (3 * ends[k] + axes for k in (0, 1))
                for a, b in ((first, second), (second, second), (np.vstack([first, second]), second)):
                    found, there = fronts.inverse_blocks(a, b)
                    self.assertTrue(there.all(), "what was observed together stands in one front")
                    np.testing.assert_allclose(
                        found, inverse[a[:, None], b[None]], atol=1e-10 * np.abs(inverse).max()
                    )

    def test_scales_and_a_little_more_on_the_diagonal(self) -> None:
        matrix, ends = system(60, 3)
        scale, more = np.random.default_rng(2).uniform(0.5, 2.0, (2, 180))
        fronts = Fronts(matrix, 1e-13, scale, more)
        whole = matrix.toarray() * scale[:, None] * scale + np.diag(more)
        x = np.arange(180.0)
        np.testing.assert_allclose(fronts.solve(whole @ x), x, atol=1e-9)
        first = 3 * ends + np.array([[0], [2]])
        found, _ = fronts.inverse_blocks(first, first)
        wanted = np.linalg.inv(whole)[first[:, None], first[None]]
        np.testing.assert_allclose(found, wanted, atol=1e-12)
        design = np.random.default_rng(5).normal(size=(3, *first.shape))
        scaled = design * scale[first]
        np.testing.assert_allclose(
            fronts.hat_blocks(design, first, scale),
            np.einsum("xpk,pqk,yqk->xyk", scaled, wanted, scaled), atol=1e-11,
        )  # fmt: skip

    def test_in_lanes_and_in_one(self) -> None:
        """Fronts that two threads share give the same to the last digit as one after the other."""
        matrix, ends = system(500, 4, 2)
        one = factorised(matrix)
        with mock.patch("fenwind.estimation.layout.LARGE", 0):
            two = factorised(matrix)
        lanes = two.layout.lanes
        self.assertEqual([len(one.layout.lanes), len(lanes)], [1, 3])
        np.testing.assert_array_equal(np.sort(np.concatenate(lanes)), one.layout.lanes[0])
        self.assertGreater(min(map(len, lanes[:2])), 20)
        x = np.arange(1500.0)
        np.testing.assert_array_equal(one.solve(x), two.solve(x))
        for mine, other in zip(
            one.inverse_blocks(3 * ends, 3 * ends + 1),
            two.inverse_blocks(3 * ends, 3 * ends + 1),
            strict=True,
        ):
            np.testing.assert_array_equal(mine, other)

    def test_an_order_serves_its_own_pattern_alone(self) -> None:
        """Two rings have columns of the same lengths."""
        solver, n = SparseSolver(), 400
        for seed in (1, 2):
            ring = np.random.default_rng(seed).permutation(n)
            ones = sparse.coo_matrix((np.ones(n), (ring, np.roll(ring, 1))), (n, n))
            matrix = (3.0 * sparse.identity(n) - ones - ones.T).tocsc()
            found = solver.factorise(matrix, np.zeros((0, n)), tuple(map(str, range(n))))
            x = np.arange(float(n))
            np.testing.assert_allclose(found.solve(matrix @ x, np.zeros(0)), x, atol=1e-9)

    def test_what_does_not_stand_together_is_said(self) -> None:
        matrix, _ = system(400, 5)
        fronts = factorised(matrix)
        inverse = np.linalg.inv(matrix.toarray())
        first, second = np.random.default_rng(2).integers(0, 1200, (2, 1, 300))
        found, there = fronts.inverse_blocks(first, second)
        self.assertTrue(0 < there.sum() < 300)
        wanted = inverse[first, second][0]
        np.testing.assert_allclose(found[0, 0, there], wanted[there], atol=1e-10)
        self.assertTrue(np.isnan(found[0, 0, ~there]).all())

    def test_a_graph_that_no_cut_parts_well(self) -> None:
        """Everyone touches a few others anywhere: borders are long, more than is laid out for at first."""
        n = 900
        ends = np.random.default_rng(8).integers(0, n, (2, 4 * n))
        ones = sparse.coo_matrix((np.full(4 * n, -1.0), ends), (n, n))
        matrix = (ones + ones.T + sparse.diags(np.full(n, 40.0))).tocsc()
        fronts = factorised(matrix)
        self.assertGreater(fronts.layout.border.size, 4 * n + 64)
        x = np.arange(float(n))
        np.testing.assert_allclose(fronts.solve(matrix @ x), x, atol=1e-9)

    def test_singular_systems_are_not_sound(self) -> None:
        n = 500  # a ring that could turn as a whole, but for what rounding holds
        ring = sparse.coo_matrix((np.full(n, -0.5), (np.arange(n), np.roll(np.arange(n), 1))), (n, n))
        for held, sound in ((1e-14, False), (1e-9, True)):
            whole = (ring + ring.T + sparse.diags(np.r_[1.0 + held, np.ones(n - 1)])).tocsc()
            self.assertEqual(factorised(whole).sound, sound)
        matrix, _ = system(150, 3)
        for unknown in (0, 200, 449):
            whole = matrix.toarray()
            whole[unknown] = whole[:, unknown] = 0.0
            self.assertFalse(factorised(sparse.csc_matrix(whole)).sound)

    def test_the_order(self) -> None:
        matrix, _ = system(400, 8, 2)
        order = nested_order(matrix)
        np.testing.assert_array_equal(np.sort(order.unknowns), np.arange(1200))
        fronts = np.diff(order.begins)
        self.assertEqual((order.begins[-1], fronts.size), (1200, order.parent.size))
        self.assertTrue(((order.parent > np.arange(fronts.size)) | (order.parent == -1)).all())
        self.assertTrue((fronts[:-1] <= LEAF).all() or fronts.max() < 300, "pieces are small")
        self.assertGreater(fronts.size, 10)

    def test_the_engine_with_fronts_and_with_lapack(self) -> None:
        for points in (20, 80, 200):
            with self.subTest(points=points):
                problem = network(points, points)
                held = np.arange(6)[None]
                start = problem.start
                value = problem.constraints(start)[0]  # what the constraints miss at zero
                count = value.size
                control = ObservationGroup(
                    observed=-value[None], covariance=np.full((1, 1, count), 1e-8), unknowns=held[:, :count],
                    model=lambda x, held=held, count=count: (x[held[:, :count]], np.ones((1, 1, count))),
                )  # fmt: skip
                problem = replace(problem, groups=(*problem.groups, control), constraints=None)
                dense, fronts = adjust(problem, DenseSolver()), adjust(problem, SparseSolver())
                every = np.arange(3 * points)[None]
                sigma = np.sqrt(dense.factor.cofactor_blocks(every, every)[0, 0])
                self.assertLess(float((np.abs(dense.x - fronts.x) / sigma).max()), 1e-8)
                rng = np.random.default_rng(4)
                first, second = rng.integers(0, 3 * points, (2, 40)), rng.integers(0, 3 * points, (3, 40))
                for a, b in ((every, every), (first, second)):
                    wanted = dense.factor.cofactor_blocks(a, b)
                    np.testing.assert_allclose(
                        fronts.factor.cofactor_blocks(a, b), wanted, atol=1e-9 * float(sigma.max()) ** 2
                    )
                np.testing.assert_allclose(
                    fronts.factor.cofactors(), dense.factor.cofactors(), atol=1e-9 * float(sigma.max()) ** 2
                )
                self.assertAlmostEqual(
                    dense.factor.log_determinant(), fronts.factor.log_determinant(), delta=1e-6 * points
                )
                for one, other in zip(dense.groups, fronts.groups, strict=True):
                    np.testing.assert_allclose(other.redundancy, one.redundancy, atol=1e-8)
        loose = replace(problem, groups=problem.groups[:2])
        with self.assertRaises(DatumDefectError):
            adjust(loose, SparseSolver())
