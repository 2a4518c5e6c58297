"""Many unknowns: groups of observations, the sparse solver against the dense one, and both against full
matrices."""

import unittest

import numpy as np
from scipy import sparse

from fenwind.errors import DatumDefectError
from fenwind.estimation.band import BandSolver
from fenwind.estimation.engine import GroupAdjustment, GroupProblem, ObservationGroup, adjust
from fenwind.estimation.solver import DenseSolver, SparseSolver


def network(points: int, seed: int, free: bool = False) -> GroupProblem:
    """A made-up network in space: vectors with full covariances between near points, height differences,
    two or more held points by constraints; `free`: inner constraints over all points instead."""
    rng = np.random.default_rng(seed)
    truth = rng.uniform(-1000, 1000, (3, points))
    chain = np.stack([np.arange(points - 1), np.arange(1, points)])
    extra = np.array([rng.choice(points, 2, replace=False) for _ in range(2 * points)]).T
    ends = np.hstack([chain, extra])
    k = ends.shape[1]
    roots = 0.0012 * rng.normal(size=(k, 3, 3)) + 0.006 * np.eye(3)
    covariance = (roots @ roots.transpose(0, 2, 1)).transpose(1, 2, 0)
    noise = np.einsum("kij,kj->ik", roots, rng.normal(size=(k, 3)))
    unknowns = np.concatenate([3 * ends[1] + np.arange(3)[:, None], 3 * ends[0] + np.arange(3)[:, None]])
    partials = np.zeros((3, 6, k))
    for axis in range(3):
        partials[axis, axis], partials[axis, 3 + axis] = 1.0, -1.0
    vectors = ObservationGroup(
        name="vectors", observed=truth[:, ends[1]] - truth[:, ends[0]] + noise, covariance=covariance,
        unknowns=unknowns, model=lambda x: (np.einsum("bpk,pk->bk", partials, x[unknowns]), partials),
    )  # fmt: skip
    levelled = extra[:, :points]
    rises = np.stack([3 * levelled[1] + 2, 3 * levelled[0] + 2])
    up = np.stack([np.ones(points), -np.ones(points)])[None]
    heights = ObservationGroup(
        name="levelled",
        observed=(truth[2, levelled[1]] - truth[2, levelled[0]] + 0.002 * rng.normal(size=points))[None],
        covariance=np.full((1, 1, points), 0.002**2),
        unknowns=rises,
        model=lambda x: (np.einsum("bpk,pk->bk", up, x[rises]), up),
    )
    rows = np.tile(np.eye(3), points) if free else np.eye(3 * points)[: 3 if points < 20 else 6]
    held = rows @ truth.T.ravel()
    return GroupProblem(
        names=tuple(f"{axis} of {i}" for i in range(points) for axis in "xyz"), start=np.zeros(3 * points),
        groups=(vectors, heights), constraints=lambda x: (rows @ x - held, rows), linear=True,
    )  # fmt: skip


def full(problem: GroupProblem) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Design (m, n), weights (m, m) and observations (m,) as full matrices, block after block."""
    n = len(problem.start)
    designs, weights, observed = [], [], []
    for group in problem.groups:
        _, partials = group.model(problem.start)
        b, _, k = partials.shape
        for i in range(k):
            row = np.zeros((b, n))
            for p, u in enumerate(group.unknowns[:, i]):
                row[:, u] += partials[:, p, i]
            designs.append(row)
            weights.append(np.linalg.inv(group.covariance[:, :, i]))
            observed.append(group.observed[:, i])
    m = sum(w.shape[0] for w in weights)
    weight, at = np.zeros((m, m)), 0
    for w in weights:
        weight[at : at + len(w), at : at + len(w)] = w
        at += len(w)
    return np.vstack(designs), weight, np.concatenate(observed)


class Sparse(unittest.TestCase):
    def test_sparse_and_dense_agree_on_fifty_networks(self) -> None:
        """Estimates to 1e-8 sigma; covariances, redundancy, tests and determinant with them."""
        for seed in range(50):
            points = int(np.rint(5 * 60 ** (seed / 49)))  # 5 to 300
            problem = network(points, seed, free=seed % 3 == 0)
            dense, sparse = adjust(problem, DenseSolver()), adjust(problem, SparseSolver())
            with self.subTest(points=points):
                self.same(dense, sparse)
                if seed % 3 == 0:
                    self.assertEqual(type(sparse.factor).__name__, "_ByFronts")

    def same(self, a: GroupAdjustment, b: GroupAdjustment) -> None:
        n = len(a.x)
        every = np.arange(n)[None]
        variance = a.factor.cofactor_blocks(every, every)[0, 0]
        sigma = np.sqrt(np.maximum(variance, 0.0))
        self.assertLess(float(np.abs(a.x - b.x).max()), 1e-8 * float(sigma.max()))
        np.testing.assert_allclose(
            b.factor.cofactor_blocks(every, every)[0, 0], variance, atol=1e-8 * variance.max()
        )
        rng = np.random.default_rng(3)
        first, second = rng.integers(0, n, (2, 40)), rng.integers(0, n, (3, 40))
        blocks = a.factor.cofactor_blocks(first, second)
        np.testing.assert_allclose(
            b.factor.cofactor_blocks(first, second), blocks, atol=1e-8 * variance.max()
        )
        np.testing.assert_allclose(blocks, a.factor.cofactors()[first[:, None], second[None]], atol=1e-16)
        self.assertAlmostEqual(a.factor.log_determinant(), b.factor.log_determinant(), delta=1e-7 * n)
        self.assertEqual(a.dof, b.dof)
        for one, other in zip(a.groups, b.groups, strict=True):
            np.testing.assert_allclose(other.redundancy, one.redundancy, atol=1e-8)
            tested = one.redundancy > 1e-3  # with less, 1 - h has lost its last digits in both
            np.testing.assert_allclose(other.standardised[tested], one.standardised[tested], atol=1e-6)
            np.testing.assert_allclose(other.residuals, one.residuals, atol=1e-10)
        total = sum(float(g.redundancy.sum()) for g in a.groups)
        self.assertAlmostEqual(total, a.dof, places=6)

    def test_both_against_full_matrices(self) -> None:
        """x, Q, v and log-determinant from the bordered normal equations written out (Koch 1999, section
        3.2.7)."""
        for free in (False, True):
            problem = network(12, 7, free)
            a, p, observed = full(problem)
            _, rows = problem.constraints(problem.start)
            c = rows.shape[0]
            normal = a.T @ p @ a
            bordered = np.block([[normal, rows.T], [rows, np.zeros((c, c))]])
            right = np.concatenate([a.T @ p @ observed, -problem.constraints(problem.start)[0]])
            x = np.linalg.solve(bordered, right)[: normal.shape[0]]
            q = np.linalg.inv(bordered)[: normal.shape[0], : normal.shape[0]]
            null = np.linalg.qr(rows.T, mode="complete")[0][:, c:]
            for solver in (DenseSolver(), SparseSolver()):
                found = adjust(problem, solver)
                np.testing.assert_allclose(found.x, x, atol=1e-8)
                np.testing.assert_allclose(found.factor.cofactors(), q, atol=1e-12)
                determinant = np.linalg.slogdet(null.T @ normal @ null)[1]
                self.assertAlmostEqual(found.factor.log_determinant(), determinant, places=6)
                v = a @ x - observed
                np.testing.assert_allclose(
                    np.concatenate([g.residuals.T.ravel() for g in found.groups]), v, atol=1e-8
                )
                self.assertAlmostEqual(found.sum_squares, float(v @ p @ v), places=5)

    def test_what_is_not_determined_is_named_by_both(self) -> None:
        whole = network(6, 3)
        for solver in (DenseSolver(), SparseSolver()):
            loose = GroupProblem(names=whole.names, start=whole.start, groups=whole.groups, linear=True)
            with self.assertRaises(DatumDefectError) as caught:
                adjust(loose, solver)
            self.assertEqual(set(caught.exception.parameters), set(whole.names))
            lone = GroupProblem(
                names=(*whole.names, "lone"), start=np.zeros(19), groups=whole.groups, linear=True,
                constraints=lambda x: (x[:3], np.eye(19)[:3]),
            )  # fmt: skip
            with self.assertRaises(DatumDefectError) as caught:
                adjust(lone, solver)
            self.assertEqual(caught.exception.parameters, ("lone",))
            self.assertIn("lone changes no observation", str(caught.exception))

    def test_the_solver_follows_the_size(self) -> None:
        self.assertEqual(type(adjust(network(10, 1)).factor).__name__, "_Dense")
        self.assertEqual(type(adjust(network(150, 1)).factor).__name__, "_Sparse")

    def test_a_band_against_the_whole(self) -> None:
        """A chain of unknowns that touch five places on: the same solution, inverse and determinant; one that
        nothing observes is named by the sparse solver."""
        rng = np.random.default_rng(9)
        rows = np.zeros((120, 60))
        for k in range(60):
            rows[k, max(0, k - 5) : k + 1] = rng.normal(size=min(k, 5) + 1)
            rows[60 + k, k] = 0.5
        normal, none = rows.T @ rows, np.zeros((0, 60))
        names = tuple(str(k) for k in range(60))
        one = BandSolver(5).factorise(sparse.csc_matrix(normal), none, names)
        self.assertEqual(type(one).__name__, "_Band")
        right = rng.normal(size=60)
        np.testing.assert_allclose(one.solve(right, np.zeros(0)), np.linalg.solve(normal, right), rtol=1e-9)
        inverse = np.linalg.inv(normal)
        np.testing.assert_allclose(one.cofactors(), inverse, atol=1e-9 * inverse.max())
        first, second = np.array([[1, 7], [2, 8]]), np.array([[3, 59]])
        found = one.cofactor_blocks(first, second)
        np.testing.assert_allclose(found[:, 0], inverse[first, second], atol=1e-9 * inverse.max())
        self.assertAlmostEqual(one.log_determinant(), np.linalg.slogdet(normal)[1], 8)
        rows[:, 30] = 0.0
        with self.assertRaises(DatumDefectError) as caught:
            BandSolver(5).factorise(sparse.csc_matrix(rows.T @ rows), none, names)
        self.assertIn("30", str(caught.exception))
