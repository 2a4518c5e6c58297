"""Resection from the command line: simulated truth, an independent solver, a worked example, blunders that
must be named, and bad input."""

import csv
import io
import math
from typing import Any, ClassVar

import numpy as np
from pyproj import CRS, Transformer
from scipy.optimize import least_squares

from tests.support import CommandCase

#: Marks of a figure of our own, feet of nobody: metres.
MARKS = {
    "A": (1000.0, 2000.0, 50.0), "B": (1200.0, 2100.0, 52.0), "C": (1350.0, 2050.0, 51.0),
    "D": (1500.0, 2220.0, 55.0), "E": (1700.0, 2180.0, 54.0), "X": (900.0, 2100.0, 49.0),
    "Y": (1800.0, 2300.0, 58.0), "S": (1400.0, 1950.0, 47.0),
}  # fmt: skip
R, K = 6_372_000.0, 0.13


class Command(CommandCase):
    def rules(self, found: dict[str, Any]) -> list[str]:
        return [d["rule"] for d in found["doubts"]]

    def table(self, name: str, head: str, rows: list[list[Any]]) -> str:
        out = io.StringIO()
        csv.writer(out, lineterminator="\n").writerows([head.split(","), *rows])
        return self.write(name, out.getvalue())


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
                self.assertNotIn("resect.residual", [d["rule"] for d in found["doubts"]], "it is explained")

    def test_orientation_only(self) -> None:
        """The instrument where it stands: e, n as typed, the orientation of the shots; a prism and a mark
        that is another are told."""
        e, n, h = self.STATION
        on = f"S,{e},{n},{h}"
        free = self.run_json("resect", self.shots("ABC", noise=0.0), self.control(), "--hi", "1.5", code=0)
        found = self.run_json(
            "resect", self.shots("ABC", noise=0.0), self.control(), "--hi", "1.5", "--on", on
        )
        self.assertEqual((found["e"], found["n"], found["doubts"]), (e, n, []))
        self.assertAlmostEqual(found["orientation_deg"], free["orientation_deg"], 6)
        prism = self.shots("ABC", prism={"B": 0.0344}, noise=0.3)
        told = self.run_json("resect", prism, self.control(), "--hi", "1.5", "--on", on, code=1)["doubts"]
        self.assertEqual([(d["rule"], d["names"]) for d in told], [("setup.backsight", ["B"])])
        self.assertAlmostEqual(told[0]["value"], 0.0344, delta=0.008)
        names = self.shots("ABCDE", names={"A": "B"}, noise=0.3)
        told = self.run_json("resect", names, self.control(), "--hi", "1.5", "--on", on, code=1)["doubts"]
        self.assertEqual((told[0]["rule"], told[0]["names"]), ("setup.orientation", ["B"]))
        bearing = {m: math.atan2(MARKS[m][0] - self.STATION[0], MARKS[m][1] - self.STATION[1]) for m in "AB"}
        turned = math.remainder(bearing["A"] - bearing["B"], 2.0 * math.pi)
        self.assertAlmostEqual(told[0]["value"], math.degrees(turned) * 3600.0, delta=60.0)

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
        refused = ((("--frame", code, "--factor", "0.9"), "same twice"), (("--geoid", "g"), "needs"))
        for more, word in refused:
            self.assertIn(word, self.run_json("resect", seen, known, *more, code=2))
