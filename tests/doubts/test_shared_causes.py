"""Blunders that many readings of a setup share, put into made-up work with a seed: the cause is named
first, or among
those that are as likely; clean work is not accused; an explained residual is not told again."""

import math
import unittest
from collections import Counter
from itertools import pairwise
from typing import Any

import numpy as np

from fenwind.doubts.level_rules import level_doubts
from fenwind.doubts.registry import Doubt
from fenwind.doubts.resect_rules import Looked, resect_doubts
from fenwind.doubts.setup_rules import known_setup_doubts
from fenwind.doubts.traverse_rules import Limits, traverse_doubts
from fenwind.procedures.causes import Cause, likely, minimised
from fenwind.procedures.levelling import Levelling, level
from fenwind.procedures.resection import ResectionOptions, Sighting, case_of, reduce, solve
from fenwind.procedures.side_shots import oriented
from fenwind.procedures.traverse import Ends, Options, Sight, Traverse
from fenwind.procedures.traverse import solve as walk
from fenwind.quantities.angles import RAD_PER_SECOND

FOOT = 0.3048


def figure(rng: np.random.Generator, k: int) -> np.ndarray:
    """Marks (3, k) around an instrument at 0, 0, 0."""
    bearing, far = np.sort(rng.uniform(0, 2 * math.pi, k)), rng.uniform(60, 400, k)
    return np.stack([far * np.sin(bearing), far * np.cos(bearing), rng.uniform(-15, 15, k)])


def sightings(rng: np.random.Generator, seen: np.ndarray, **wrong: Any) -> list[Sighting]:
    """Readings with 5 seconds and 3 mm + 2 ppm of noise, and what is put in: scale, constant, index
    (seconds), and by target `longer` (m), `feet`, `higher` (m)."""
    out = []
    for i, (e, n, h) in enumerate(seen.T.tolist()):
        hd = math.hypot(e, n)
        sd = math.hypot(hd, h) * wrong.get("scale", 1.0) + wrong.get("constant", 0.0)
        sd += wrong.get("longer", {}).get(i, 0.0)
        sd /= FOOT if i in wrong.get("feet", ()) else 1.0
        noise = rng.normal(0, 1, 3) * (5 * RAD_PER_SECOND, 5 * RAD_PER_SECOND, 0.003 + 2e-6 * sd)
        out.append(
            Sighting(
                target=f"T{i}",
                direction=(math.atan2(e, n) - 1.0 + noise[0]) % (2 * math.pi),
                zenith=math.atan2(hd, h) + wrong.get("index", 0.0) * RAD_PER_SECOND + noise[1],
                distance=sd + noise[2],
                target_height=-wrong.get("higher", {}).get(i, 0.0),
            )
        )
    return out


def resected(rng: np.random.Generator, kind: str) -> tuple[list[Doubt], tuple[str, ...]]:
    """Doubts about a free setup on five marks with a blunder, and whom it concerns."""
    marks = figure(rng, 8)
    seen, known, k = marks[:, :5].copy(), marks[:, :5].copy(), int(rng.integers(5))
    wrong: dict[str, Any] = {
        "all prisms": {"constant": 0.034},
        "one prism": {"longer": {k: 0.034}},
        "scale": {"scale": 1.0 + 4e-4},
        "feet": {"scale": 1.0 / FOOT},
        "feet of one": {"feet": (k,)},
        "index": {"index": 120.0},
        "target height": {"higher": {k: 0.2}},
    }.get(kind, {})
    if kind == "control":
        known[:2, k] += (0.4, -0.5)
    if kind == "wrong mark":
        seen[:, k] = marks[:, 6]
    reduced = reduce(sightings(rng, seen, **wrong), ResectionOptions(heights=True, plane=True))
    case = case_of(reduced, known, True)
    look = Looked(
        case=case,
        found=solve(case, "fixed"),
        scale="fixed",
        checks=1,
        others={f"T{i}": tuple(marks[:, i].tolist()) for i in range(5, 8)},
        collimation_s=math.nan,
        index_s=math.nan,
    )
    one = kind in ("one prism", "feet of one", "target height", "control", "wrong mark")
    return resect_doubts(look), (f"T{k}",) if one else ()


RESECT = {
    "all prisms": "resect.prism", "one prism": "resect.prism", "scale": "resect.scale", "feet": "resect.unit",
    "feet of one": "resect.unit", "index": "resect.index", "target height": "resect.target-height",
    "control": "resect.control", "wrong mark": "resect.wrong-mark",
}  # fmt: skip


class Resections(unittest.TestCase):
    def test_the_cause_is_named(self) -> None:
        for kind, rule in RESECT.items():
            with self.subTest(kind):
                rng, first = np.random.default_rng(31), 0
                for _ in range(8):
                    doubts, culprit = resected(rng, kind)
                    grave = [d for d in doubts if d.grave]
                    told = [(d.rule, d.names[:1]) for d in grave]
                    self.assertIn((rule, culprit), told, "it is among those that are as likely")
                    self.assertNotIn("resect.residual", [d.rule for d in grave])
                    first += told[0] == (rule, culprit)
                self.assertGreaterEqual(first, 6)

    def test_clean_work_is_not_accused(self) -> None:
        rng = np.random.default_rng(32)
        graves = [d for _ in range(60) for d in resected(rng, "clean")[0] if d.grave]
        self.assertEqual(graves, [])

    def test_what_nothing_explains_names_nobody(self) -> None:
        rng, marks = np.random.default_rng(33), figure(np.random.default_rng(33), 5)
        shots = sightings(rng, marks, longer={0: 0.2, 2: -0.31}, higher={1: 0.4}, index=300.0)
        case = case_of(reduce(shots, ResectionOptions(heights=True, plane=True)), marks, True)
        look = Looked(
            case=case, found=solve(case, "fixed"), scale="fixed", checks=1, others={}, collimation_s=math.nan,
            index_s=math.nan,
        )  # fmt: skip
        (doubt,) = [d for d in resect_doubts(look) if d.grave]
        self.assertEqual((doubt.rule, doubt.names), ("resect.residual", ()))


class OnAKnownMark(unittest.TestCase):
    def told(self, seed: int, count: int, kind: str) -> tuple[list[tuple[str, tuple[str, ...]]], str]:
        rng = np.random.default_rng(seed)
        marks, k = figure(rng, count), int(rng.integers(count))
        known = marks.copy()
        if kind == "mark":
            known[:2, k] += (0.8, -0.9)
        shots = sightings(rng, marks, longer={k: 0.034} if kind == "prism" else {})
        if kind == "direction":
            old = shots[k]
            shots[k] = Sighting(
                target=old.target, direction=old.direction + 200 * RAD_PER_SECOND, zenith=old.zenith,
                distance=old.distance, target_height=0.0,
            )  # fmt: skip
        case = case_of(reduce(shots, ResectionOptions(heights=True, plane=True)), known, True)
        found = known_setup_doubts(case, oriented(case, np.zeros(3), np.zeros((3, 3))))
        return [(d.rule, d.names) for d in found], f"T{k}"

    def test_backsights(self) -> None:
        for seed in range(12):
            self.assertEqual(self.told(seed, 3, "clean")[0], [])
            told, culprit = self.told(seed, 3, "direction")
            self.assertEqual(told, [("setup.orientation", (culprit,))])
            told, culprit = self.told(seed, 2, "direction")
            self.assertEqual((told[0][0], sorted(told[0][1])), ("setup.orientation", ["T0", "T1"]))
            told, culprit = self.told(seed, 1, "prism")
            self.assertEqual(told, [("setup.backsight", (culprit,))])
            told, culprit = self.told(seed, 2, "mark")
            self.assertIn(culprit, told[0][1])


class Traverses(unittest.TestCase):
    def told(self, rng: np.random.Generator, kind: str) -> list[Doubt]:
        count, bearing, at = 5, rng.uniform(0, 6), [np.array([0.0, 0.0, 50.0])]
        for _ in range(count):
            bearing += rng.uniform(-0.9, 0.9)
            far = rng.uniform(90, 280)
            at.append(at[-1] + (far * math.sin(bearing), far * math.cos(bearing), rng.uniform(-6, 6)))
        back, fore = at[0] + (-150, 60, 0), at[-1] + (120, 90, 0)

        def azimuth(a: np.ndarray, b: np.ndarray) -> float:
            return math.atan2(b[0] - a[0], b[1] - a[1])

        legs = []
        for i in range(count):
            behind = back if i == 0 else at[i - 1]
            far = math.hypot(*(at[i + 1] - at[i])[:2])
            turned = azimuth(at[i], at[i + 1]) - azimuth(at[i], behind) + rng.normal(0, 5) * RAD_PER_SECOND
            read = far * {"scale": 1.0005, "feet": 1 / FOOT}.get(kind, 1.0)
            read += 0.034 if kind == "constant" else 0.0
            rise = at[i + 1][2] - at[i][2] + (0.2 if kind == "height" and i == 2 else 0.0)
            legs.append(
                Sight(
                    here=f"S{i}", there=f"S{i + 1}", kind="right", direction=turned % (2 * math.pi),
                    distance=read + rng.normal(0, 0.003), dh=rise + rng.normal(0, 0.001),
                )
            )  # fmt: skip
        closing = azimuth(at[-1], fore) - azimuth(at[-1], at[-2]) + rng.normal(0, 5) * RAD_PER_SECOND
        ends = Ends(
            start=tuple(at[0]), close=tuple(at[-1]), loop=False, start_line=azimuth(at[0], back),
            closing_line=azimuth(at[-1], fore), closing_angle=closing % (2 * math.pi),
        )  # fmt: skip
        names = tuple(f"S{i}" for i in range(count + 1))
        work = Traverse(names=names, legs=tuple(legs), shots=(), ends=ends, options=Options(balance=True))
        found = walk(work)
        limit = 10.0 * RAD_PER_SECOND * math.sqrt(found.angles)
        return [d for d in traverse_doubts(work, found, Limits(spec=10_000, angle=limit)) if d.grave]

    def test_what_all_distances_share(self) -> None:
        rules = {"scale": "traverse.scale", "constant": "traverse.constant", "feet": "traverse.unit",
                 "height": "traverse.height"}  # fmt: skip
        for kind, rule in rules.items():
            with self.subTest(kind):
                rng = np.random.default_rng(34)
                told = [[d.rule for d in self.told(rng, kind)] for _ in range(25)]
                among = sum(rule in one for one in told)
                self.assertGreaterEqual(among, 23, Counter(one[0] for one in told if one))

    def test_clean_traverses_are_not_accused(self) -> None:
        rng = np.random.default_rng(35)
        self.assertLessEqual(sum(bool(self.told(rng, "clean")) for _ in range(200)), 1)


class Levellings(unittest.TestCase):
    def told(self, control: dict[str, float], factor: float = 1.0) -> list[tuple[str, tuple[str, ...]]]:
        """A line through A, X, B, Y, C, out and back."""
        true = {"A": 10.0, "X": 11.2, "B": 12.1, "Y": 9.8, "C": 8.4}
        line = list(true)
        runs = [*pairwise(line), *pairwise(line[::-1])]
        noise = np.random.default_rng(36).normal(0, 0.0005, len(runs))
        work = Levelling(
            first=tuple(a for a, _ in runs), second=tuple(b for _, b in runs), length=np.full(len(runs), 0.4),
            dh_m=factor * (np.array([true[b] - true[a] for a, b in runs]) + noise),
            control={n: true[n] for n in "ABC"} | control,
        )  # fmt: skip
        return [(d.rule, d.names) for d in level_doubts(work, level(work))]

    def test_a_known_height_and_a_unit(self) -> None:
        self.assertEqual(self.told({}), [])
        for name in "ABC":
            self.assertEqual(self.told({name: {"A": 10.0, "B": 12.1, "C": 8.4}[name] + 0.05})[0],
                             ("level.control", (name,)))  # fmt: skip
        self.assertEqual(self.told({}, 1.0 / FOOT)[0], ("level.unit", ()))


class Mechanism(unittest.TestCase):
    def test_the_shortest_that_passes_is_told(self) -> None:
        def cause(told: str, parameters: int, squares: float, dof: int) -> Cause[str]:
            return Cause(told=told, parameters=parameters, squares=squares, dof=dof)

        every = [cause("long", 4, 2.0, 6), cause("short", 1, 4.0, 9), cause("fails", 0, 400.0, 10),
                 cause("unjudged", 3, 0.0, 0), cause("as likely", 1, 6.0, 9)]  # fmt: skip
        self.assertEqual([c.told for c in likely(every, 1000.0, 0.001)], ["short", "as likely"])
        self.assertEqual(likely(every, 5.0, 0.001), [], "a cause that explains little")

    def test_one_parameter_is_found(self) -> None:
        at, least = minimised(lambda x: 3.0 + 50.0 * (x - 0.37) ** 2, 0.01)
        self.assertAlmostEqual(at, 0.37, places=6)
        self.assertAlmostEqual(least, 3.0, places=6)
