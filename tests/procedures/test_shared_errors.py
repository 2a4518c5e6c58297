"""Errors of positions by source, against the same written out source by source."""

import unittest

import numpy as np

from fenwind.geodesy.geocentric import enu_axes, to_xyz
from fenwind.procedures.rover import Measured, Point, ground_of, grounds_of, mean, tied_arp
from fenwind.procedures.shared_errors import Errors, combined, shared, shared_by, totals


def reference(one: Errors, other: Errors) -> np.ndarray:
    """Covariance from all sources of both, one after the other."""
    total = np.zeros((3, 3))
    for key, (act, covariance) in one.flat.items():
        if key in other.flat:
            total += act @ covariance @ other.flat[key][0].T
    return total


class SharedErrors(unittest.TestCase):
    def test_against_all_sources_written_out(self) -> None:
        """Positions that stand on sums of others, with sources of their own that others have too."""
        rng = np.random.default_rng(5)
        sources = {}
        for k in range(30):
            half = rng.normal(size=(3, 3))
            sources[f"s{k}"] = half @ half.T

        def own(count: int) -> dict[str, tuple[np.ndarray, np.ndarray]]:
            chosen = rng.choice(30, count, replace=False)
            return {f"s{k}": (rng.normal(size=(3, 3)), sources[f"s{k}"]) for k in chosen}

        every = [Errors(own(3)), Errors(own(12))]
        for _ in range(20):
            below = [every[k] for k in rng.choice(len(every), int(rng.integers(1, 3)), replace=False)]
            one = Errors(own(int(rng.integers(0, 10))), [(rng.normal(size=(3, 3)), e) for e in below])
            every.append(one if rng.uniform() < 0.5 else one.plus(own(2)))
            every.append(combined((rng.normal(size=(3, 3)), e) for e in every[-3:]))
        for k in range(6):  # on one other, with nothing of it among its own
            one = Errors(
                {f"own {k}": (rng.normal(size=(3, 3)), sources["s0"])}, [(rng.normal(size=(3, 3)), every[k])]
            )
            every.append(one)
        sizes = [np.abs(reference(one, one)).max() + 1.0 for one in every]
        for one, whole, size in zip(every, totals(every), sizes, strict=True):
            np.testing.assert_allclose(whole, reference(one, one), atol=1e-9 * size)
        for one in every:
            for other, found in zip(every, shared_by(every, one), strict=True):
                wanted = reference(other, one)
                np.testing.assert_allclose(found, wanted, atol=1e-9 * (np.abs(wanted).max() + 1.0))
            for other in every:
                wanted = reference(one, other)
                size = np.abs(wanted).max() + 1.0
                np.testing.assert_allclose(shared(one, other), wanted, atol=1e-9 * size)
                np.testing.assert_allclose(one.shared_with(other), wanted, atol=1e-9 * size)

    def test_a_weighted_sum(self) -> None:
        """What is written out of a sum is the sum of what is written out."""
        base = Errors({"b": (np.eye(3), np.eye(3))})
        a = Errors({"x": (2.0 * np.eye(3), np.eye(3))}, [(np.eye(3), base)])
        b = Errors({"x": (np.eye(3), np.eye(3)), "y": (np.eye(3), np.eye(3))}, [(np.eye(3), base)])
        found = combined([(0.25 * np.eye(3), a), (0.75 * np.eye(3), b)])
        acts = {key: float(act[0, 0]) for key, (act, _) in found.flat.items()}
        self.assertEqual(acts, {"b": 1.0, "x": 1.25, "y": 0.75})
        self.assertEqual(len(found.common), 1, "what both stand on is kept once")

    def test_the_mark_of_a_tie_is_as_good_as_what_it_is_tied_to(self) -> None:
        """The vector that ties a base cancels at the mark of the tie, and stays in every other mark."""
        rng = np.random.default_rng(6)
        target = Point(xyz=to_xyz(-0.6, 2.1, 300.0), errors=Errors({"given": (np.eye(3), 4e-6 * np.eye(3))}))
        axes = enu_axes(-0.6, 2.1)

        def one(name: str, mark: str) -> Measured:
            half = rng.normal(0.0, 0.004, (3, 3))
            vector = axes.T @ rng.normal(0.0, 300.0, 3)
            return Measured(
                id=name, mark=mark, base="b", vector=vector, covariance=half @ half.T, height_m=2.0
            )

        tie, other = one("tie", "m"), one("other", "p")
        arp = tied_arp(target, [tie])
        at_mark, at_other = grounds_of(arp, [tie, other])
        np.testing.assert_allclose(at_mark.xyz, target.xyz, atol=1e-3)
        np.testing.assert_allclose(at_mark.errors.total, target.errors.total, atol=1e-9)
        np.testing.assert_allclose(shared(at_mark.errors, target.errors), target.errors.total, atol=1e-12)
        more = at_other.covariance() - axes @ (target.errors.total) @ axes.T
        self.assertGreater(np.linalg.eigvalsh(more).min(), 0.0)
        np.testing.assert_allclose(
            more, tie.covariance + other.covariance + np.diag([0.0, 0.0, 2e-6]), atol=2e-8
        )
        both = mean([target, ground_of(arp, tie)])
        np.testing.assert_allclose(both.errors.total, target.errors.total, atol=1e-9)
