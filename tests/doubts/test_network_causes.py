"""What many values of a network share is named by its cause, in the demo's network with noise from a seed
(simulated truth); `bench.blunders` does it with all kinds and many draws."""

import math
import unittest
from dataclasses import replace

import numpy as np
from bench.blunders import clean, doubts, right, shared_kinds

from fenwind.doubts.network_causes import shared
from fenwind.procedures.network_case import determined
from fenwind.standins import tarnholt
from tests.support import TempFolder

#: One of each rule.
TRIED = (
    "a scale of 60 ppm",
    "a constant of -0.034 m",
    "antenna at T-04 -0.1 m",
    "instrument at P-12 0.1 m beside",
    "T-02 booked, T-04 sighted",
    "sigmas of distances 5 times too small",
    "easting and northing exchanged",
    "the sign of the longitude",
    "heights of the control without the geoid",
)


class Causes(TempFolder):
    def setUp(self) -> None:
        super().setUp()
        tarnholt.write_grid(self.folder)

    def test_each_is_named_and_nobody_else(self) -> None:
        kinds = {words: (change, expected) for words, change, expected in shared_kinds()}
        for seed, words in enumerate(TRIED):
            with self.subTest(words):
                change, expected = kinds[words]
                told = doubts(change(clean(self.folder, 420 + seed)))
                self.assertTrue(right(told, expected), [(d.rule, d.names, d.text) for d in told if d.grave])

    def test_a_clean_network_is_accused_of_nothing(self) -> None:
        for seed in range(4):
            self.assertEqual([d.text for d in doubts(clean(self.folder, 500 + seed)) if d.grave], [])

    def test_a_shared_error_is_what_leaving_it_out_would_find(self) -> None:
        """A size of one value alone is its residual over its redundancy, and what is left is w squared less
        (Baarda 1968)."""
        result = determined(clean(self.folder, 600))
        assert result.found is not None
        for part, group in zip(result.parts, result.found.groups, strict=True):
            if part.kind == "distance":
                found = shared(result, {int(part.rows[0]): np.ones(1)})
                assert found is not None
                size = -float(group.residuals[0, 0]) / float(group.redundancy[0, 0])
                self.assertTrue(math.isclose(float(found[1][0]), size, rel_tol=1e-6))
                left = result.found.sum_squares - float(group.standardised[0, 0]) ** 2
                self.assertTrue(math.isclose(found[0], left, rel_tol=1e-6))

    def test_two_blunders_are_both_named(self) -> None:
        net, off = (
            clean(self.folder, 601),
            {("distance", "T-09", "P-11"): 0.3, ("distance", "P-12", "T-08"): -0.4},
        )
        rows = tuple(replace(r, value=r.value + off.get((r.kind, r.at, r.to), 0.0)) for r in net.rows)
        told = [d.names for d in doubts(replace(net, rows=rows)) if d.rule == "adjust.distance"]
        self.assertEqual(sorted(told), [("P-12", "T-08"), ("T-09", "P-11")])


if __name__ == "__main__":
    unittest.main()
