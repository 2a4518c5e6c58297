"""What is told of the observations of a network, with the numbers that tell it."""

import math
import unittest

import numpy as np

from fenwind.doubts.network_blunders import _told
from fenwind.doubts.network_rules import _looked_at
from fenwind.procedures.network_case import determined
from fenwind.procedures.network_figures import row_figures
from fenwind.procedures.network_model import Given, Network, Row


def levelled(at: str, to: str, value: float) -> Row:
    return Row(kind="height_difference", at=at, to=to, value=np.array([value]), covariance=np.eye(1) * 1e-6)


class Levelled(unittest.TestCase):
    def test_what_is_left_over_and_what_nothing_checks(self) -> None:
        """A square with a diagonal, one side 12 mm off, and a spur: that side is told, and the spur."""
        rows = (
            levelled("A", "B", 1.0), levelled("B", "C", 2.012), levelled("C", "D", -1.5),
            levelled("D", "A", -1.5), levelled("A", "C", 3.0), levelled("C", "E", 0.7),
        )  # fmt: skip
        given = {"A": Given(first=math.nan, second=math.nan, h=100.0)}
        net = Network(rows=rows, control=given, dimensions=1, plane=True)
        found = determined(net)
        told = list(_looked_at(found, row_figures(found, 0.001, 0.8), 3.29))
        w = np.abs(row_figures(found, 0.001, 0.8).worst(6)[2])
        over = [(rows[k].at, rows[k].to) for k in range(6) if w[k] > 3.29]
        self.assertIn(("B", "C"), over)
        left = [d for d in told if d.rule == "adjust.residual"]
        self.assertEqual([d.names for d in left], over)
        for doubt in left:
            k = [(r.at, r.to) for r in rows].index(doubt.names)
            self.assertEqual((doubt.value, doubt.limit), (w[k], 3.29))
            self.assertIn(f"has a residual of {w[k]:.1f} sigmas", doubt.text)
        self.assertEqual([d.names for d in told if d.rule == "adjust.unchecked"], [("C", "E")])

    def test_a_sign_whichever_it_has(self) -> None:
        """An error of twice the value, within two parts of a hundred of it, is a sign."""
        for value in (120.0, -120.0, -0.8):
            for part, rule in ((2.0, "adjust.sign"), (2.019, "adjust.sign"), (2.021, None), (-2.0, None)):
                doubt = _told(levelled("A", "B", value), 0, part * value)
                self.assertEqual(doubt.rule == "adjust.sign", rule is not None, (value, part))
                if rule is not None:
                    self.assertEqual(doubt.text, "The sign of the height difference A – B is reversed.")
