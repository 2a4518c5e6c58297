"""Traverse and levelling from the command line: simulated truth, an independent solver, rules by hand,
blunders that must be named, and bad input."""

import csv
import itertools
import math
from typing import Any

import numpy as np
from pyproj import Geod
from scipy.optimize import least_squares

from fenwind.exchange.line_csv import read_runs, runs_record
from tests.commands.test_resect import MARKS, Command
from tests.standins.test_station import read, station


def azimuth(a: str, b: str) -> float:
    (e1, n1, _), (e2, n2, _) = MARKS[a], MARKS[b]
    return math.degrees(math.atan2(e2 - e1, n2 - n1)) % 360.0


def length(a: str, b: str) -> float:
    return math.dist(MARKS[a][:2], MARKS[b][:2])


class Traverse(Command):
    START = ("--start", "A,1000,2000,50", "--backsight", "X,900,2100")
    CLOSE = ("--close", "E,1700,2180,54", "--foresight", "Y,1800,2300")

    def book(
        self, kind: str = "right", angles: dict[str, float] | None = None,
        distances: dict[str, float] | None = None, noise: float = 0.0, factor: float = 1.0,
    ) -> str:  # fmt: skip
        rng = np.random.default_rng(3)
        rows: list[list[Any]] = []
        for i, (a, b) in enumerate(itertools.pairwise("ABCDE")):
            back = "X" if i == 0 else "ABCD"[i - 1]
            turn = azimuth(a, b) - azimuth(a, back)
            value = {
                "azimuth": azimuth(a, b), "right": turn % 360.0, "left": -turn % 360.0,
                "deflection": (turn - 180.0 + 180.0) % 360.0 - 180.0,
            }[kind]  # fmt: skip
            value += (angles or {}).get(a, 0.0) / 3600.0 + noise * rng.standard_normal() * 5.0 / 3600.0
            d = (
                length(a, b) + (distances or {}).get(a, 0.0) + noise * 0.003 * rng.standard_normal()
            ) * factor
            rows.append([a, b, kind, f"{value:.10f}", f"{d:.8f}", MARKS[b][2] - MARKS[a][2]])
        rows.insert(2, ["B", "S", "azimuth", f"{azimuth('B', 'S'):.9f}", length("B", "S"), -5.0])
        return self.table("book.csv", "from,to,direction_kind,direction_dms,distance,dh", rows)

    def closing(self, kind: str = "right", off: float = 0.0) -> str:
        turn = azimuth("E", "Y") - azimuth("E", "D")
        value = {"right": turn, "left": -turn, "deflection": turn - 180.0}[kind]
        return f"{value + off / 3600.0:.10f}"

    def test_every_kind_gives_the_same_stations(self) -> None:
        for kind, method in itertools.product(
            ("right", "left", "deflection"), ("none", "compass", "transit", "lsq")
        ):
            with self.subTest(kind=kind, method=method):
                found = self.run_json(
                    "traverse", self.book(kind), *self.START, *self.CLOSE, "--method", method,
                    "--closing-angle", self.closing(kind),
                )  # fmt: skip
                self.assertEqual((found["figure"], found["angles"], found["doubts"]), ("link", 5, []))
                for one in found["adjusted"]:
                    np.testing.assert_allclose([one["e"], one["n"], one["h"]], MARKS[one["name"]], atol=1e-5)
                (shot,) = found["side_shots"]
                np.testing.assert_allclose([shot["e"], shot["n"], shot["h"]], MARKS["S"], atol=1e-5)

    def test_least_squares_against_scipy(self) -> None:
        book = self.book(noise=1.0)
        found = self.run_json(
            "traverse", book, *self.START, *self.CLOSE, "--closing-angle", self.closing(off=4.0), "--method",
            "lsq",
        )  # fmt: skip
        with open(book, encoding="utf-8") as file:
            rows = [r for r in csv.DictReader(file) if r["to"] != "S"]
        angles = [float(r["direction_dms"]) for r in rows] + [float(self.closing(off=4.0))]
        lengths = [float(r["distance"]) for r in rows]

        def off(x: np.ndarray) -> np.ndarray:
            p = np.vstack([MARKS["X"][:2], MARKS["A"][:2], x.reshape(3, 2), MARKS["E"][:2], MARKS["Y"][:2]])
            d = np.diff(p, axis=0)
            az = np.arctan2(d[:, 0], d[:, 1])
            turn = np.degrees(az[1:] - az[:-1] + math.pi)
            miss = (turn - angles + 180.0) % 360.0 - 180.0
            far = np.hypot(d[1:-1, 0], d[1:-1, 1])
            return np.concatenate([miss * 3600.0 / 5.0, (far - lengths) / (0.003 + 2e-6 * np.array(lengths))])

        wanted = least_squares(off, np.array([MARKS[n][:2] for n in "BCD"]).ravel(), xtol=1e-15, ftol=1e-15)
        got = [[s["e"], s["n"]] for s in found["adjusted"][1:4]]
        np.testing.assert_allclose(got, wanted.x.reshape(3, 2), atol=1e-6)
        self.assertEqual(found["dof"], 3)
        self.assertAlmostEqual(found["variance_factor"], 2.0 * wanted.cost / 3.0, 6)

    def test_rules_by_hand(self) -> None:
        """A square of 100 m whose last leg is 0.08 m short: 0.02 m a leg, or by |dE|."""
        legs = ("P", "Q", 0, 100), ("Q", "R", 90, 100), ("R", "T", 180, 100), ("T", "P", 270, 99.92)
        rows: list[list[Any]] = [[a, b, "azimuth", az, d] for a, b, az, d in legs]
        book = self.table("square.csv", "from,to,direction_kind,direction_dms,distance", rows)
        found = self.run_json("traverse", book, "--start", "P,0,0", "--spec", "1:5000", code=1)
        self.assertEqual(found["figure"], "loop")
        self.assertAlmostEqual(found["misclosure_e"], 0.08, 9)
        self.assertAlmostEqual(found["ratio"], 399.92 / 0.08, 6)
        share = 0.08 / 399.92
        np.testing.assert_allclose(
            [s["e"] for s in found["adjusted"]],
            [0.0, -100 * share, 100.0 - 200 * share, 100.0 - 300 * share, 0.0], atol=1e-9,
        )  # fmt: skip
        transit = self.run_json(
            "traverse", book, "--start", "P,0,0", "--spec", "1:5000", "--method", "transit", code=1
        )
        half = 0.08 * 100.0 / 199.92
        np.testing.assert_allclose(
            [s["e"] for s in transit["adjusted"]], [0.0, 0.0, 100.0 - half, 100.0 - half, 0.0], atol=1e-9
        )
        # Each of two parallel legs may be the wrong one.
        self.assertEqual(
            [d["names"] for d in found["doubts"][:2]], [["Q", "R"], ["T", "P"]],
        )  # fmt: skip
        last = found["doubts"][-1]
        self.assertEqual((last["rule"], last["names"]), ("traverse.ratio", ["P"]))

    def test_balanced_angles(self) -> None:
        """10 seconds over in the closing angle, 5 angles: 2 seconds each."""
        closing = ("--closing-angle", self.closing(off=10.0))
        found = self.run_json(
            "traverse", self.book(), *self.START, *self.CLOSE, *closing, "--angles", "equal"
        )
        self.assertAlmostEqual(found["angular_misclosure_s"], 10.0, 4)
        first = found["unadjusted"][1]
        turned = math.degrees(math.atan2(first["e"] - 1000.0, first["n"] - 2000.0)) - azimuth("A", "B")
        self.assertAlmostEqual(turned * 3600.0, -2.0, 4)

    def test_heights_by_distance_and_by_setups(self) -> None:
        """30 mm over in legs of 100, 200 and 300 m: 5, 10, 15 mm, or 10 each."""
        rows = [
            ["P", "Q", "azimuth", 0, 100, 1],
            ["Q", "R", "azimuth", 0, 200, 1],
            ["R", "S", "azimuth", 0, 300, 1.03],
        ]
        book = self.table("h.csv", "from,to,direction_kind,direction_dms,distance,dh", rows)
        given = ("traverse", book, "--start", "P,0,0,10", "--close", "S,0,600,13")
        for by, wanted in (("distance", [10, 10.995, 11.985, 13]), ("setups", [10, 10.99, 11.98, 13])):
            with self.subTest(by=by):
                found = self.run_json(*given, "--heights-by", by, code=1)
                np.testing.assert_allclose([s["h"] for s in found["adjusted"]], wanted, atol=1e-9)
        self.assertAlmostEqual(found["misclosure_h"], 0.03, 9)

    def test_the_transit_rule_by_hand(self) -> None:
        """dE 30 and 80, dN 40 and 60: 0.11 m over in E goes 3 to 8, 0.10 m in N 4 to 6."""
        rows = [["P", "Q", "azimuth", math.degrees(math.atan2(30, 40)), 50],
                ["Q", "R", "azimuth", math.degrees(math.atan2(80, 60)), 100]]  # fmt: skip
        book = self.table("t.csv", "from,to,direction_kind,direction_dms,distance", rows)
        found = self.run_json(
            "traverse", book, "--start", "P,0,0", "--close", "R,109.89,99.9", "--method", "transit",
            "--spec", "1:500",
        )  # fmt: skip
        np.testing.assert_allclose([found["adjusted"][1][k] for k in "en"], [29.97, 39.96], atol=1e-9)

    def test_a_booked_angle_to_the_left_is_told_in_its_own_sense(self) -> None:
        found = self.run_json(
            "traverse", self.book("left", angles={"C": 600.0}), *self.START, *self.CLOSE, "--closing-angle",
            self.closing("left"), code=1,
        )  # fmt: skip
        self.assertAlmostEqual(found["doubts"][0]["value"], 600.0, delta=5.0)

    def test_blunders_are_named(self) -> None:
        closing = ("--closing-angle", self.closing())
        for book, more, rule, names, value in (
            (dict(angles={"C": 600.0}), closing, "traverse.angle", ["C"], 600.0),
            (dict(angles={"C": 600.0}), (), "traverse.angle", ["C"], 600.0),
            (dict(distances={"B": 0.5}), closing, "traverse.distance", ["B", "C"], 0.5),
            (dict(distances={"B": -0.5}), closing, "traverse.distance", ["B", "C"], -0.5),
            (dict(factor=1 / 0.3048), closing, "traverse.unit", ["E"], 0.3048),
            ({}, ("--closing-angle", self.closing(off=300.0)), "traverse.closing-angle", ["E"], 300.0),
        ):  # fmt: skip
            with self.subTest(book=book, more=more):
                found = self.run_json(
                    "traverse", self.book(noise=0.3, **book), *self.START, *self.CLOSE, *more, code=1
                )
                first = found["doubts"][0]
                self.assertEqual((first["rule"], first["names"]), (rule, names))
                self.assertAlmostEqual(first["value"], value, delta=0.05 * abs(value))
                if rule == "traverse.distance":
                    self.assertIn("too long by" if value > 0 else "too short by", first["text"])
        for factor, words in (
            (1 / 0.3048, "The distances are in feet."),
            (0.3048, "The coordinates are in feet."),
            (3937 / 1200, "The distances are in feet."),
        ):
            book = self.book(factor=factor)
            found = self.run_json("traverse", book, *self.START, *self.CLOSE, *closing, code=1)
            self.assertEqual(found["doubts"][0]["text"], words)
        # Two wrong angles: no single one brings the end to its place, so none is blamed.
        two = self.book(noise=0.3, angles={"B": 300.0, "D": 400.0})
        rules = self.rules(self.run_json("traverse", two, *self.START, *self.CLOSE, *closing, code=1))
        self.assertEqual(rules, ["traverse.angular", "traverse.ratio"])
        found = self.run_json("traverse", self.book(), *self.START, *self.CLOSE, code=1)
        self.assertEqual(self.rules(found), ["traverse.closing-angle"])
        self.assertIn("left out", found["doubts"][0]["text"])
        found = self.run_json("traverse", self.book(), *self.START)
        self.assertEqual((found["figure"], self.rules(found)), ("open", ["traverse.unchecked"]))

    def test_a_book_read_on_slopes(self) -> None:
        """Steep, by what a simulated instrument reads: the geodesic at the mean height, and the heights."""
        one = station(marks={"A": (-33.5, -70.6, 812.0), "B": (-33.488, -70.614, 1204.0)})
        seen = read(one)
        head = "from,to,direction_kind,direction_dms,distance,za,sd,hi,ht"
        row = f"A,B,azimuth,45,,{seen['za']:.9f},{seen['sd']:.6f},1.6,1.3"
        book = self.write("b.csv", f"{head}\n{row}\n")
        found = self.run_json("traverse", book, "--start", "A,0,0,812")
        e, n, h = (found["unadjusted"][1][k] for k in "enh")
        flat = Geod(ellps="GRS80").inv(-70.6, -33.5, -70.614, -33.488)[2]
        self.assertAlmostEqual(
            math.hypot(e, n), flat * (1.0 + 0.5 * (812.0 + 1204.0) / 6.3745e6), delta=0.006
        )
        self.assertAlmostEqual(h, 1204.0, delta=0.006)
        for cells, words in (
            ("12,80,100,,", "column distance: '12' found, expected nothing"), (",80,,,", "column sd"),
            (",,100,,", "column za"), (",200,100,,", "column za"), (",,,,", "a distance above 0"),
        ):  # fmt: skip
            book = self.write("b.csv", f"{head}\nA,B,azimuth,45,{cells}\n")
            self.assertIn(words, self.run_json("traverse", book, "--start", "A,0,0", code=2))

    def test_a_side_shot_turned_from_a_line(self) -> None:
        """From a later station from the leg that led there; from the first only where its line is given."""
        head = "from,to,direction_kind,direction_dms,distance"
        rows = ["A,B,azimuth,90,100", "B,S,right,90,50", "B,C,right,180,100"]
        book = self.write("b.csv", "\n".join([head, *rows]))
        found = self.run_json("traverse", book, "--start", "A,0,0")
        self.assertEqual([round(found["side_shots"][0][k], 9) for k in "en"], [100.0, 50.0])
        book = self.write("b.csv", "\n".join([head, "A,T,right,90,50", *rows]))
        said = self.run_json("traverse", book, "--start", "A,0,0", code=2)
        self.assertIn("the side shot from A has no start line", said)
        found = self.run_json("traverse", book, "--start", "A,0,0", "--backsight", "X,0,10")
        self.assertEqual([round(found["side_shots"][0][k], 9) for k in "en"], [50.0, 0.0])

    def test_bad_input(self) -> None:
        head = "from,to,direction_kind,direction_dms,distance"
        for text, words in (
            (f"{head}\nA,B,right,10,5\n", "no start line"),
            (f"{head}\nA,B,turn,10,5\n", "line 2: column direction_kind: 'turn' found"),
            (f"{head}\nA,B,azimuth,10,0\n", "a distance above 0"),
            (f"{head}\nA,B,azimuth,x,5\n", "line 2: column direction_dms"),
            (f"{head},more\nA,B,azimuth,10,5,1\n", "column 'more' found"),
            (f"{head},to\nA,B,azimuth,10,5,1\n", "column to stands twice"),
            ("from,to,distance\nA,B,5\n", "column direction_kind is missing"),
            (f"{head}\nQ,B,azimuth,10,5\n", "expected the start A"),
            (f"{head}\nA,B,azimuth,10,5\nC,D,azimuth,1,5\n", "no row leads from A to C"),
        ):
            with self.subTest(text=text):
                said = self.run_json("traverse", self.write("b.csv", text), "--start", "A,0,0", code=2)
                self.assertIn(words, said)


class Level(Command):
    HEAD = "from,to,dh,distance_km"

    def level(self, rows: str, control: str = "name,h\nA,10\n", *more: str, code: int = 0) -> Any:
        return self.run_json(
            "level", self.write("runs.csv", rows), self.write("control.csv", control), *more, code=code
        )

    def test_a_loop_by_hand(self) -> None:
        """3 mm over in 1 + 1 + 4 km: 0.5, 0.5 and 2 mm."""
        found = self.level(f"{self.HEAD}\nA,B,1,1\nB,C,1,1\nC,A,-1.997,4\n")
        heights = {m["name"]: m["h"] for m in found["heights"]}
        np.testing.assert_allclose([heights["B"], heights["C"]], [10.9995, 11.999], atol=1e-9)
        np.testing.assert_allclose(
            [r["v"] for r in found["residuals"]], [-0.0005, -0.0005, -0.002], atol=1e-9
        )
        (loop,) = found["misclosures"]
        self.assertAlmostEqual(abs(loop["misclosure"]), 0.003, 9)
        self.assertAlmostEqual(loop["length"], 6.0)
        self.assertAlmostEqual(loop["limit"], 0.004 * math.sqrt(6.0), 9)
        self.assertEqual((found["dof"], loop["names"][0]), (1, loop["names"][-1]))
        self.assertAlmostEqual(found["variance_factor"], 0.003**2 / (6.0 * 1e-6), 6)
        sigma = {m["name"]: m["sigma"] for m in found["heights"]}
        self.assertAlmostEqual(sigma["B"], 0.001 * math.sqrt(1.0 * 5.0 / 6.0), 9)
        self.assertEqual(sigma["A"], 0.0)

    def test_lengths_are_kilometres_or_set_ups(self) -> None:
        for head, kind in (("distance_km", "km"), ("setups", "setups")):
            path = self.write("r.csv", f"from,to,dh,{head}\nA,B,1.5,4\n")
            self.assertEqual(runs_record(read_runs(path), "r").length_kind, kind)

    def test_a_line_between_control_and_a_repeated_run(self) -> None:
        found = self.level(f"{self.HEAD}\nA,B,1,1\nB,C,1.002,1\nB,A,-1.001,1\n", "name,h\nA,10\nC,12\n")
        self.assertEqual(found["dof"], 2)
        ends = sorted((m["names"][0], m["names"][-1]) for m in found["misclosures"])
        self.assertTrue(any(a != b for a, b in ends))
        line = next(m for m in found["misclosures"] if m["names"][0] != m["names"][-1])
        wanted = 0.002 if line["names"][0] == "A" else -0.002
        self.assertAlmostEqual(line["misclosure"], wanted, 9)

    def test_the_wrong_run_is_named(self) -> None:
        for error in (0.05, -0.05):
            rows = ["A,B,1,1", "B,C,1,1", f"C,D,{1.0 + error},1", "D,A,-3,1", "A,C,2,1", "B,D,2,1"]
            found = self.level("\n".join([self.HEAD, *rows]), code=1)
            first = found["doubts"][0]
            self.assertEqual((first["rule"], first["names"]), ("level.run", ["C", "D"]))
            self.assertAlmostEqual(first["value"], error, 3)
            self.assertIn("level.misclosure", self.rules(found))

    def test_bad_input(self) -> None:
        for rows, words in (
            (f"{self.HEAD}\nB,C,1,1\n", "no run leads from control to B, C"),
            (f"{self.HEAD}\nA,A,1,1\n", "another mark than from"),
            (f"{self.HEAD}\nA,B,1,0\n", "a number above 0"),
            ("from,to,dh\nA,B,1\n", "one of the columns distance_km and setups"),
            (f"{self.HEAD}\nA,B,1e400,1\n", "column dh"),
        ):
            with self.subTest(rows=rows):
                self.assertIn(words, self.level(rows, code=2))
