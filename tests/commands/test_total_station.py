"""Traverse, resection and levelling from the command line: simulated truth, an independent solver, a worked
example, blunders that must be named, and bad input."""

import csv
import io
import itertools
import math
from typing import Any, ClassVar

import numpy as np
from pyproj import CRS, Geod, Transformer
from scipy.optimize import least_squares

from fenwind.exchange.line_csv import read_runs, runs_record
from tests.standins.test_station import read, station
from tests.support import CommandCase

#: Marks of a figure of our own, feet of nobody: metres.
MARKS = {
    "A": (1000.0, 2000.0, 50.0), "B": (1200.0, 2100.0, 52.0), "C": (1350.0, 2050.0, 51.0),
    "D": (1500.0, 2220.0, 55.0), "E": (1700.0, 2180.0, 54.0), "X": (900.0, 2100.0, 49.0),
    "Y": (1800.0, 2300.0, 58.0), "S": (1400.0, 1950.0, 47.0),
}  # fmt: skip
R, K = 6_372_000.0, 0.13


def azimuth(a: str, b: str) -> float:
    (e1, n1, _), (e2, n2, _) = MARKS[a], MARKS[b]
    return math.degrees(math.atan2(e2 - e1, n2 - n1)) % 360.0


def length(a: str, b: str) -> float:
    return math.dist(MARKS[a][:2], MARKS[b][:2])


class Command(CommandCase):
    def rules(self, found: dict[str, Any]) -> list[str]:
        return [d["rule"] for d in found["doubts"]]

    def table(self, name: str, head: str, rows: list[list[Any]]) -> str:
        out = io.StringIO()
        csv.writer(out, lineterminator="\n").writerows([head.split(","), *rows])
        return self.write(name, out.getvalue())


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
                found = self.run_json(*given, "--heights-by", by)
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


class Resect(Command):
    STATION = (1380.0, 2130.0, 53.2)

    def shots(
        self, targets: str, *, noise: float = 0.0, faces: bool = False, c: float = 0.0, i: float = 0.0,
        names: dict[str, str] | None = None, prism: dict[str, float] | None = None, directions: bool = False,
        heights: dict[str, float] | None = None, factor: float = 1.0,
    ) -> str:  # fmt: skip
        """Sightings computed from the formulas of the contract, turned by 37.5 degrees."""
        rng = np.random.default_rng(8)
        rows: list[list[Any]] = []
        for t in targets:
            de, dn, dh = (a - b for a, b in zip(MARKS[t], self.STATION, strict=True))
            hd, up = math.hypot(de, dn), dh - 1.5 + 1.8
            z, s = math.atan2(hd, up), math.hypot(hd, up)
            for _ in range(20):  # the slope distance and zenith angle that reduce to hd and dh
                a = s * math.sin(z) - (1 - K / 2) * s * s * math.sin(z) * math.cos(z) / R
                b = s * math.cos(z) + (1 - K) * (s * math.sin(z)) ** 2 / (2 * R)
                z, s = z + math.atan2(hd, up) - math.atan2(a, b), s + math.hypot(hd, up) - math.hypot(a, b)
            hz = math.degrees(math.atan2(de, dn)) - 37.5
            for face in (1, 2) if faces else (1,):
                cc, ii = c / 3600.0 / math.sin(z), i / 3600.0
                hz_f = hz + cc if face == 1 else hz + 180.0 - cc
                za_f = math.degrees(z) + ii if face == 1 else 360.0 - (math.degrees(z) - ii)
                hz_f += noise * rng.standard_normal() * 5 / 3600.0
                za_f += noise * rng.standard_normal() * 5 / 3600.0
                d = (s + noise * 0.003 * rng.standard_normal() + (prism or {}).get(t, 0.0)) * factor
                ht = 1.8 + (heights or {}).get(t, 0.0)
                rows.append([(names or {}).get(t, t), f"{hz_f % 360.0:.10f}",
                             f"{za_f:.10f}" if not directions else "", f"{d:.8f}" if not directions else "",
                             ht, ""])  # fmt: skip
        return self.table("shots.csv", "target,hz_deg,za_deg,sd,ht,prism_mm", rows)

    def control(self) -> str:
        return self.table("control.csv", "name,e,n,h", [[n, *p] for n, p in MARKS.items()])

    def test_marks_with_sigmas_take_part_with_their_weight(self) -> None:
        """The same in `fenwind adjust --weighted`, where the marks are unknowns of their own: a mark known to
        20 mm pulls less, and its uncertainty is in the station's."""
        rng = np.random.default_rng(12)
        sigmas = dict(zip(MARKS, (0.004, 0.020, 0.002, 0.008, 0.003, 0.005, 0.006), strict=False))
        shots, observed = [], []
        for t in sigmas:
            de, dn = MARKS[t][0] - self.STATION[0], MARKS[t][1] - self.STATION[1]
            hz = (math.degrees(math.atan2(de, dn)) - 37.5 + rng.normal() * 5 / 3600) % 360
            d = math.hypot(de, dn) + rng.normal() * 0.006
            shots.append([t, repr(hz), "", repr(d), "", ""])
            observed += [
                ["direction", "ST", t, repr(hz), 5],
                ["distance", "ST", t, repr(d), repr(0.003 + 2e-6 * d)],
            ]
        head = "target,hz_deg,za_deg,sd,ht,prism_mm"
        control = self.table("k.csv", "name,e,n,h,sh", [[t, *MARKS[t], s] for t, s in sigmas.items()])
        found = self.run_json("resect", self.table("s.csv", head, shots), control, "--plane")
        rows = self.table("o.csv", "kind,at,to,value,sigma", observed)
        net = self.run_json("adjust", rows, control, "--plane", "--weighted")
        station = next(p for p in net["positions"] if p["name"] == "ST")
        np.testing.assert_allclose([found["e"], found["n"]], [station["e"], station["n"]], atol=2e-6)
        np.testing.assert_allclose(found["covariance"], station["covariance"], rtol=1e-4)
        held = self.run_json("resect", self.table("s.csv", head, shots), self.control(), "--plane")
        self.assertGreater(abs(held["e"] - found["e"]) + abs(held["n"] - found["n"]), 2e-4)
        self.assertGreater(found["covariance"][0][0], 1.2 * held["covariance"][0][0])

    def test_exact_sightings_give_the_station_back(self) -> None:
        for targets, options in (("ABCDE", ()), ("AE", ()), ("ACE", ("--scale", "apply"))):
            with self.subTest(targets=targets, options=options):
                found = self.run_json(
                    "resect", self.shots(targets), self.control(), "--hi", "1.5", "--heights", *options
                )
                np.testing.assert_allclose([found["e"], found["n"], found["h"]], self.STATION, atol=1e-5)
                self.assertAlmostEqual(found["orientation_deg"], 37.5, 6)
                self.assertAlmostEqual(found["scale"], 1.0, 7)

    def test_three_directions_of_a_worked_example(self) -> None:
        """Tienstra's method: A, B, C and the angles BPC 115.0889, APB 109.5125 give P (2128.3903, 5578.1443)
        to 0.1 mm (worked example in the tests of pygeodesy, a general geodesy library)."""
        control = self.table(
            "k.csv", "name,e,n,h", [["A", 1000, 5300, ""], ["B", 2200, 6300, ""], ["C", 3100, 5000, ""]]
        )
        shots = self.table(
            "s.csv", "target,hz_deg,za_deg,sd,ht,prism_mm",
            [[n, hz, "", "", "", ""] for n, hz in (("A", 0), ("B", 109.5125), ("C", 109.5125 + 115.0889))],
        )  # fmt: skip
        found = self.run_json("resect", shots, control)
        np.testing.assert_allclose([found["e"], found["n"]], [2128.3903, 5578.1443], atol=2e-4)
        self.assertEqual((found["dof"], found["variance_factor"], found["h"]), (0, None, None))

    def test_collimation_and_index_are_found_and_taken_off(self) -> None:
        found = self.run_json(
            "resect", self.shots("ABCE", faces=True, c=12.0, i=-8.0), self.control(), "--hi", "1.5",
            "--heights",
        )  # fmt: skip
        self.assertAlmostEqual(found["collimation_s"], 12.0, 4)
        self.assertAlmostEqual(found["index_s"], -8.0, 4)
        np.testing.assert_allclose([found["e"], found["n"], found["h"]], self.STATION, atol=1e-5)
        self.assertLess(max(abs(r["v_hz_s"]) for r in found["residuals"]), 1e-3)
        self.assertEqual(len(found["residuals"]), 8)

    def test_prisms_and_the_factor(self) -> None:
        """A prism of 30 mm booked, 10 mm applied already: 20 mm are added. A factor of 1.001 stretches hd."""
        path = self.shots("ABCE", prism=dict.fromkeys("ABCE", -0.02))
        with open(path, encoding="utf-8") as file:
            text = file.read().replace(",1.8,\n", ",1.8,30\n")
        found = self.run_json(
            "resect", self.write("p.csv", text), self.control(), "--hi", "1.5", "--applied-prism", "10"
        )
        np.testing.assert_allclose([found["e"], found["n"]], self.STATION[:2], atol=1e-5)
        scaled = self.run_json(
            "resect", self.shots("ABCE"), self.control(), "--hi", "1.5", "--factor", "1.001", "--scale",
            "apply",
        )  # fmt: skip
        self.assertAlmostEqual(scaled["scale"], 1.0 / 1.001, 8)
        shown = self.run_json("resect", self.shots("ABCE"), self.control(), "--hi", "1.5", "--scale", "show")
        self.assertAlmostEqual(shown["scale"], 1.0, 7)

    def test_weak_figures_and_faces_deserve_a_look(self) -> None:
        for collimation, more, rule in (
            (31.0, (), "resect.faces"),
            (29.0, (), None),
            (0.0, ("--sigma-distance", "90,0", "--sigma-direction", "60"), "resect.weak"),
            (0.0, ("--sigma-distance", "30,0", "--sigma-direction", "20"), None),
        ):
            with self.subTest(collimation=collimation, more=more):
                shots = self.shots("ABCE", faces=collimation > 0.0, c=collimation)
                found = self.run_json("resect", shots, self.control(), "--hi", "1.5", *more)
                if rule == "resect.faces":
                    self.assertIn("differ by an error of 31 s: adjust it", found["doubts"][0]["text"])
                rules = [r for r in self.rules(found) if r != "resect.unchecked"]
                self.assertEqual(rules, [rule] if rule else [])

    def test_covariance_against_scipy(self) -> None:
        """Plan with distances: the numerical Jacobian of an independent model."""
        found = self.run_json("resect", self.shots("ABCE", noise=1.0), self.control(), "--hi", "1.5")
        with open(self.path("shots.csv"), encoding="utf-8") as file:
            rows = list(csv.DictReader(file))

        def off(x: np.ndarray) -> np.ndarray:
            out = []
            for r in rows:
                de, dn = MARKS[r["target"]][0] - x[0], MARKS[r["target"]][1] - x[1]
                z, s = math.radians(float(r["za_deg"])), float(r["sd"])
                hd = s * math.sin(z) - (1 - K / 2) * s * s * math.sin(z) * math.cos(z) / R
                miss = math.degrees(math.atan2(de, dn)) - x[2] - float(r["hz_deg"])
                sd = math.hypot((0.003 + 2e-6 * s) * math.sin(z), math.radians(5 / 3600.0) * s * math.cos(z))
                out += [((miss + 180) % 360 - 180) * 720.0, (math.hypot(de, dn) - hd) / sd]
            return np.array(out)

        wanted = least_squares(off, [1380.0, 2130.0, 37.5], x_scale=[1, 1, 1e-3], xtol=1e-15, ftol=1e-15)
        np.testing.assert_allclose([found["e"], found["n"]], wanted.x[:2], atol=1e-5)
        np.testing.assert_allclose(
            found["covariance"], np.linalg.inv(wanted.jac.T @ wanted.jac)[:2, :2], rtol=1e-3, atol=1e-12
        )
        self.assertAlmostEqual(found["variance_factor"], 2.0 * wanted.cost / found["dof"], 4)

    def test_blunders_are_named(self) -> None:
        for case, rule, names, value in (
            (dict(prism={"C": 0.0344}), "resect.prism", ["C"], 0.0344),
            (dict(names={"B": "D", "D": "B"}), "resect.names", ["B", "D"], None),
            (dict(names={"S": "D"}), "resect.wrong-mark", ["D", "S"], None),
            (dict(heights={"E": 0.1}), "resect.target-height", ["E"], 0.1),
            (dict(factor=1 / 0.3048), "resect.unit", [], 0.3048),
        ):  # fmt: skip
            with self.subTest(case=case):
                targets = "ABCSE" if "S" in case.get("names", {}) else "ABCDE"
                found = self.run_json(
                    "resect", self.shots(targets, noise=0.3, **case), self.control(), "--hi", "1.5",
                    "--heights", code=1,
                )  # fmt: skip
                first = found["doubts"][0]
                self.assertEqual((first["rule"], sorted(first["names"])), (rule, names))
                if value is not None:
                    self.assertAlmostEqual(first["value"], value, delta=0.1 * value)
                left = next(d for d in found["doubts"] if d["rule"] == "resect.residual")
                size = r"(?:direction to \w is left over by −?[\d\u2009]+\.\d s|"
                size += (
                    r"(?:distance|height) to \w is left over by −?(?:\d{1,3}\.\d mm|[\d\u2009]+\.\d{3} m))"
                )
                self.assertRegex(left["text"], rf"^The {size}, {left['value']:.1f} sigmas\.$")

    def test_two_marks_in_nearly_one_direction(self) -> None:
        """Told where less than 15° lie between them, or between one and what is opposite the other."""
        (ae, an, _), (ee, en, _) = MARKS["A"], MARKS["E"]
        for along, across, weak in ((1.8, 0.1, True), (0.5, 0.03, True), (1.8, 0.6, False)):
            east = ae + along * (ee - ae) + across * (en - an)
            north = an + along * (en - an) - across * (ee - ae)
            self.STATION = (east, north, 53.2)
            sharp = ("--sigma-distance", "1,0", "--sigma-direction", "1")
            found = self.run_json("resect", self.shots("AE"), self.control(), "--hi", "1.5", *sharp)
            told = [d["value"] for d in found["doubts"] if d["rule"] == "resect.weak"]
            turn = math.atan2(ae - east, an - north) - math.atan2(ee - east, en - north)
            between = abs(math.degrees(math.remainder(turn, 2.0 * math.pi)))
            np.testing.assert_allclose(told, [between] if weak else [], atol=1e-3)

    def test_a_prism_is_told_beside_a_scale_that_is_applied(self) -> None:
        for factor in (0.9994, 1.0006):
            shots = self.shots("ABCDE", noise=0.3, prism={"C": 0.0344}, factor=factor)
            told = self.run_json(
                "resect", shots, self.control(), "--hi", "1.5", "--heights", "--scale", "apply", code=1
            )
            self.assertEqual((told["doubts"][0]["rule"], told["doubts"][0]["names"]), ("resect.prism", ["C"]))
            self.assertAlmostEqual(told["doubts"][0]["value"], 0.0344, delta=0.004)

    def test_the_danger_circle(self) -> None:
        """On the circle through A, C and E as computed by its equation."""
        p = np.array([MARKS[n][:2] for n in "ACE"])
        a = 2.0 * (p[1:] - p[0])
        centre = np.linalg.solve(a, (p[1:] ** 2).sum(axis=1) - (p[0] ** 2).sum())
        radius = math.dist(centre, p[0])
        for part, code in ((1.0005, 2), (1.05, 1), (0.5, 0)):
            with self.subTest(part=part):
                east, north = (float(v) for v in centre + part * radius * np.array([0.2955, 0.9553]))
                self.STATION = (east, north, 53.2)
                found = self.run_json("resect", self.shots("ACE", directions=True), self.control(), code=code)
                said = found if code == 2 else " ".join(d["text"] for d in found["doubts"])
                self.assertEqual("danger circle" in said, code > 0)

    def test_a_check_is_compared_and_takes_no_part(self) -> None:
        found = self.run_json(
            "resect", self.shots("ABCDE", prism={"D": 0.05}), self.control(), "--hi", "1.5", "--heights",
            "--check", "D",
        )  # fmt: skip
        (check,) = found["checks"]
        de, dn = MARKS["D"][0] - self.STATION[0], MARKS["D"][1] - self.STATION[1]
        away = math.atan2(de, dn)
        self.assertAlmostEqual(check["de"], 0.05 * math.sin(away), 4)
        self.assertAlmostEqual(check["dn"], 0.05 * math.cos(away), 4)
        self.assertEqual((self.rules(found), len(found["residuals"])), ([], 4))
        # A scale that is only shown moves no check; one that is applied does.
        short = self.shots("ABCDE", factor=0.99998)
        missed = {}
        for scale in ("fixed", "show", "apply"):
            told = self.run_json(
                "resect", short, self.control(), "--hi", "1.5", "--heights", "--check", "D", "--scale", scale
            )
            missed[scale] = math.hypot(told["checks"][0]["de"], told["checks"][0]["dn"])
        self.assertEqual(missed["show"], missed["fixed"])
        self.assertGreater(missed["show"], 0.003)
        self.assertLess(missed["apply"], 0.0005)

    def test_bad_input(self) -> None:
        for shots, words in (
            ("target,hz_deg,za_deg,sd,ht,prism_mm\nA,1,,,,\nB,2,,,,\n", "cannot place the instrument"),
            ("target,hz_deg,za_deg,sd,ht,prism_mm\nQ,1,,,,\n", "line 2: column target: 'Q' found"),
            ("target,hz_deg,za_deg,sd,ht,prism_mm\nA,1,,-5,,\n", "a distance above 0"),
            ("target,hz_deg,za_deg,sd,ht,prism_mm,face\nA,1,,5,,,3\n", "1 or 2"),
            ("", "nothing in it"),
        ):
            with self.subTest(shots=shots):
                said = self.run_json("resect", self.write("s.csv", shots), self.control(), code=2)
                self.assertIn(words, said)


class OnTheGrid(Command):
    """Directions and distances of the ellipsoid, by pyproj's geodesics and nothing of ours, far from the
    middle of a zone in the south, and in a system of the meridian of Paris: --frame gives the places back."""

    SYSTEMS: ClassVar = {"EPSG:32734": (380_000.0, 6_250_000.0), "EPSG:27572": (210_000.0, 2_350_000.0)}
    PLACES: ClassVar = {
        "P": (0, 0), "A": (800, 2600), "B": (3600, 3900), "C": (5800, 6700), "Q": (8200, 8000),
    }  # fmt: skip
    H = 620.0

    def geodesics(self, code: str) -> Any:
        """Azimuth (degrees) and level distance at the height of all marks between two of them."""
        crs = CRS(code)
        back = Transformer.from_crs(crs, crs.geodetic_crs, always_xy=True)
        geod, east, north = crs.get_geod(), *self.SYSTEMS[code]
        meridian = math.degrees(crs.prime_meridian.longitude * crs.prime_meridian.unit_conversion_factor)

        def line(a: str, b: str) -> tuple[float, float]:
            (x1, y1), (x2, y2) = (
                back.transform(east + self.PLACES[k][0], north + self.PLACES[k][1]) for k in (a, b)
            )
            unit = crs.geodetic_crs.axis_info[0].unit_conversion_factor * 180.0 / math.pi
            lon1, lat1, lon2, lat2 = x1 * unit + meridian, y1 * unit, x2 * unit + meridian, y2 * unit
            azimuth, _, length = geod.inv(lon1, lat1, lon2, lat2)
            s2 = math.sin(math.radians(lat1)) ** 2
            radius = geod.b / (1.0 - geod.es * s2)  # of Gauss
            return azimuth % 360.0, length * (radius + self.H) / radius

        return line

    def place(self, code: str, name: str) -> str:
        (e, n), (de, dn) = self.SYSTEMS[code], self.PLACES[name]
        return f"{name},{e + de:.4f},{n + dn:.4f}"

    def test_traverses_and_setups(self) -> None:
        for code in self.SYSTEMS:
            line = self.geodesics(code)
            rows = []
            for kind, back, here, there in (("right", "P", "A", "B"), ("left", "A", "B", "C")):
                turn = line(here, there)[0] - line(here, back)[0]
                angle = (turn if kind == "right" else -turn) % 360.0
                rows.append([here, there, kind, f"{angle:.9f}", f"{line(here, there)[1]:.5f}", 0])
            book = self.table("b.csv", "from,to,direction_kind,direction_dms,distance,dh", rows)
            closing = (line("C", "Q")[0] - line("C", "B")[0]) % 360.0
            ends = (
                "--start", f"{self.place(code, 'A')},{self.H}", "--backsight", self.place(code, "P"),
                "--close", f"{self.place(code, 'C')},{self.H}", "--foresight", self.place(code, "Q"),
                "--closing-angle", f"{-closing % 360.0:.9f}", "--method", "none",
            )  # fmt: skip
            plain = self.run_json("traverse", book, *ends, "--spec", "1:10")
            found = self.run_json("traverse", book, *ends, "--frame", code)
            self.assertGreater(plain["misclosure"], 0.2)
            self.assertLess(found["misclosure"], 0.002, code)
            self.assertLess(abs(found["angular_misclosure_s"]), 0.02, code)
            self.assertGreater(abs(plain["angular_misclosure_s"]), 1.0)
            shots = [[n, f"{(line('B', n)[0] - 40.0) % 360.0:.9f}", "", f"{line('B', n)[1]:.5f}", "", ""]
                     for n in "PACQ"]  # fmt: skip
            seen = self.table("s.csv", "target,hz_deg,za_deg,sd,ht,prism_mm", shots)
            marks = [[*self.place(code, n).split(","), self.H] for n in "PACQ"]
            known = self.table("k.csv", "name,e,n,h", marks)
            found = self.run_json("resect", seen, known, "--frame", code)
            e, n = (o + d for o, d in zip(self.SYSTEMS[code], self.PLACES["B"], strict=True))
            self.assertLess(math.hypot(found["e"] - e, found["n"] - n), 0.002, code)
            self.assertLess(max(abs(v["v_hz_s"]) for v in found["residuals"]), 0.02, code)
        for more, word in ((("--frame", code, "--factor", "0.9"), "same twice"), (("--geoid", "g"), "needs"),
                           (("--frame", "EPSG:2225"), "in metres")):  # fmt: skip
            self.assertIn(word, self.run_json("resect", seen, known, *more, code=2))


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
