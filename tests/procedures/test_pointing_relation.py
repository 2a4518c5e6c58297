"""A receiver that wanders, seen by an instrument whose circle points anywhere: good to point a search."""

import math
import unittest

import numpy as np

from fenwind.procedures.pointing_relation import Relation, relation_of

STATION, TURN = np.array([300_500.0, 6_300_200.0]), 2.345


def seen_from(points: np.ndarray) -> np.ndarray:
    """Abscissa and ordinate by the instrument: its circle's zero lies TURN clockwise of north."""
    d = points - STATION[:, None]
    hz = np.arctan2(d[0], d[1]) - TURN
    return np.hypot(*d) * np.stack([np.sin(hz), np.cos(hz)])


class Pointing(unittest.TestCase):
    def test_it_points_to_within_what_it_says(self) -> None:
        rng = np.random.default_rng(4)
        inside, missed = 0, []
        for _ in range(300):
            azimuth = np.linspace(0.0, 2.0 * math.pi, 7)[:-1] + rng.uniform(-0.3, 0.3, 6)
            away = rng.uniform(25.0, 180.0, 6)
            points = STATION[:, None] + away * np.stack([np.sin(azimuth), np.cos(azimuth)])
            wander = np.array([[40.0], [-30.0]])  # another datum, the same everywhere
            receiver = points + wander + 1.0 * rng.standard_normal((2, 6))
            found = relation_of(receiver, seen_from(points))
            assert isinstance(found, Relation)
            new = STATION + np.array([90.0, 60.0])
            said = new + wander[:, 0] + 1.0 * rng.standard_normal(2)
            direction, window = found.direction(*said)
            true = math.atan2(*seen_from(new[:, None])[:, 0])
            off = abs((direction - true + math.pi) % (2.0 * math.pi) - math.pi)
            missed.append(off * math.hypot(90.0, 60.0))
            inside += off <= window
            self.assertLess(window, 0.15)
        self.assertGreaterEqual(inside / 300, 0.97)
        self.assertLess(np.median(missed), 2.0)

    def test_what_is_missing_is_said(self) -> None:
        azimuth = np.linspace(0.0, 2.0 * math.pi, 7)[:-1]
        points = STATION[:, None] + 60.0 * np.stack([np.sin(azimuth), np.cos(azimuth)])
        self.assertIsInstance(relation_of(points, seen_from(points)), Relation)
        near = STATION[:, None] + 19.0 * np.stack([np.sin(azimuth), np.cos(azimuth)])
        still = np.repeat(points[:, :1], 6, axis=1)
        side = STATION[:, None] + 60.0 * np.stack([np.sin(azimuth / 2.1), np.cos(azimuth / 2.1)])
        for receiver, seen, words in (
            (points[:, :4], points[:, :4], "4 of 5 points"), (near, near, "0 of 5 points"),
            (side, side, "all around"), (still, points, "moves with the prism"),
            (np.zeros((2, 0)), np.zeros((2, 0)), "0 of 5"),
        ):  # fmt: skip
            found = relation_of(receiver, seen_from(seen))
            self.assertIsInstance(found, str)
            self.assertIn(words, found)
