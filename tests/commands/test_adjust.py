"""Networks from the command line: by hand, against an independent solver, in a plane and in space, simulated
truth, blunders, and bad input."""

import csv
import io
import math
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import pyproj
from scipy.optimize import least_squares

from tests.support import CommandCase, write_plane_geoid

PLANE = {"A": (0, 0, 10), "B": (500, 20, 14), "C": (520, 480, 22), "D": (-10, 510, 5), "E": (240, 260, 30)}
R, K = 6_372_000.0, 0.13


def azimuth(a: str, b: str) -> float:
    return math.atan2(PLANE[b][0] - PLANE[a][0], PLANE[b][1] - PLANE[a][1])


class Adjust(CommandCase):
    def table(self, name: str, head: str, rows: list[list[Any]]) -> str:
        out = io.StringIO()
        csv.writer(out, lineterminator="\n").writerows([head.split(","), *rows])
        return self.write(name, out.getvalue())

    def adjust(self, rows: str, control: str, *more: str, code: int = 0, verb: str = "adjust") -> Any:
        return self.run_json(verb, rows, control, *more, code=code)

    def grave(self, found: dict[str, Any]) -> list[str]:
        return [d["rule"] for d in found["doubts"] if d["grave"]]


class Heights(Adjust):
    ROWS = "kind,at,to,value,sigma\nheight_difference,A,B,1,{0}\nheight_difference,B,C,1,{0}\n" \
        "height_difference,C,A,-1.997,{1}\n"  # fmt: skip

    def test_a_loop_by_hand(self) -> None:
        """3 mm over with variances 1, 1 and 4: corrections of 0.5, 0.5 and 2 mm; redundancies 1/6, 1/6,
        4/6."""
        rows = self.write("o.csv", self.ROWS.format(0.001, 0.002))
        found = self.adjust(rows, self.write("c.csv", "name,h\nA,10\n"))
        self.assertEqual((found["dimensions"], found["dof"]), (1, 1))
        np.testing.assert_allclose([p["h"] for p in found["positions"]], [10.0, 10.9995, 11.999], atol=1e-9)
        seen = found["observations"]
        np.testing.assert_allclose([o["residual"] for o in seen], [-0.0005, -0.0005, -0.002], atol=1e-9)
        np.testing.assert_allclose([o["redundancy"] for o in seen], [1 / 6, 1 / 6, 4 / 6], atol=1e-9)
        w = 0.003 / math.sqrt(6e-6)
        np.testing.assert_allclose(np.abs([o["w"] for o in seen]), w, atol=1e-9)
        self.assertAlmostEqual(found["variance_factor"], w**2, 9)
        # 4.1321 sigma / sqrt(r), and that error's shift of B: 5/6 of it.
        self.assertAlmostEqual(seen[0]["mdb"], 4.1321 * 0.001 * math.sqrt(6.0), 6)
        self.assertAlmostEqual(seen[0]["external"], 5 / 6 * seen[0]["mdb"], 9)
        self.assertEqual((seen[0]["external_at"], seen[0]["line"]), ("B", 2))
        self.assertAlmostEqual(found["positions"][1]["covariance"][0][0], 1e-6 * 5 / 6, 12)
        self.assertEqual(
            (found["positions"][0]["held"], found["positions"][0]["covariance"]), (True, [[0.0]])
        )

    def test_weighted_and_free(self) -> None:
        """Two marks 5 mm apart from their difference: weights share it; free leaves their mean alone."""
        rows = self.write("o.csv", "kind,at,to,value,sigma\nheight_difference,A,B,1.005,0.001\n")
        control = self.write("c.csv", "name,h,sv\nA,10,0.001\nB,11,0.002\n")
        found = self.adjust(rows, control, "--weighted")
        np.testing.assert_allclose(
            [p["h"] for p in found["positions"]], [10 - 0.005 / 6, 11 + 0.005 * 4 / 6], atol=1e-9
        )
        self.assertEqual(found["dof"], 1)
        one = found["control"][0]
        self.assertAlmostEqual(one["difference"][2], -0.005 / 6, 9)
        self.assertAlmostEqual(one["redundancy"][2], 1 / 6, 9)
        free = self.adjust(rows, control, "--free")
        np.testing.assert_allclose([p["h"] for p in free["positions"]], [9.9975, 11.0025], atol=1e-9)
        self.assertEqual((free["dof"], free["variance_factor"]), (0, None))


class Plane(Adjust):
    def rows(self, noise: float = 1.0, blunder: dict[int, float] | None = None) -> str:
        rng = np.random.default_rng(4)
        out: list[list[Any]] = []
        for a in PLANE:
            turn = rng.uniform(0, 360)
            for b in PLANE:
                if a != b:
                    value = math.degrees(azimuth(a, b)) - turn + noise * rng.normal() * 5 / 3600
                    out.append(["direction", a, b, f"{value % 360.0:.10f}", ""])
                    if a < b:
                        d = math.dist(PLANE[a][:2], PLANE[b][:2]) + noise * rng.normal() * 0.003
                        out.append(["distance", a, b, d, 0.003])
        for k, size in (blunder or {}).items():
            out[k][3] = float(out[k][3]) + size
        return self.table("o.csv", "kind,at,to,value,sigma", out)

    def control(self, names: str = "AB") -> str:
        return self.table("c.csv", "name,e,n,h", [[n, *PLANE[n][:2], ""] for n in names])

    def test_against_scipy(self) -> None:
        found = self.adjust(self.rows(), self.control(), "--plane")
        self.assertEqual((found["dimensions"], found["doubts"]), (2, []))
        with open(self.path("o.csv"), encoding="utf-8") as file:
            seen = list(csv.DictReader(file))

        def off(x: np.ndarray) -> np.ndarray:
            at = {"A": PLANE["A"][:2], "B": PLANE["B"][:2]}
            at |= {n: tuple(x[2 * i : 2 * i + 2]) for i, n in enumerate("CDE")}
            turn = dict(zip("ABCDE", x[6:], strict=True))
            out = []
            for r in seen:
                (e1, n1), (e2, n2) = at[r["at"]], at[r["to"]]
                if r["kind"] == "distance":
                    out.append((math.hypot(e2 - e1, n2 - n1) - float(r["value"])) / 0.003)
                else:
                    miss = math.degrees(math.atan2(e2 - e1, n2 - n1)) - turn[r["at"]] - float(r["value"])
                    out.append(((miss + 180.0) % 360.0 - 180.0) * 720.0)
            return np.array(out)

        first = {r["at"]: r for r in reversed(seen) if r["kind"] == "direction"}
        turns = [math.degrees(azimuth(a, first[a]["to"])) - float(first[a]["value"]) for a in "ABCDE"]
        start = np.concatenate([np.ravel([PLANE[n][:2] for n in "CDE"]), turns])
        wanted = least_squares(off, start, x_scale=[1.0] * 6 + [1e-3] * 5, xtol=1e-15, ftol=1e-15, gtol=1e-15)
        got = {p["name"]: p for p in found["positions"]}
        np.testing.assert_allclose(
            [[got[n]["e"], got[n]["n"]] for n in "CDE"], wanted.x[:6].reshape(3, 2), atol=1e-6
        )
        q = np.linalg.inv(wanted.jac.T @ wanted.jac)
        np.testing.assert_allclose(got["C"]["covariance"], q[:2, :2], rtol=1e-3, atol=1e-10)
        self.assertAlmostEqual(found["variance_factor"] * found["dof"], 2.0 * wanted.cost, 4)
        self.assertAlmostEqual(sum(o["redundancy"] for o in found["observations"]), found["dof"], 8)
        half = np.linalg.eigvalsh(q[:2, :2])
        self.assertAlmostEqual(got["C"]["ellipse"]["a"], math.sqrt(5.991465 * half[1]), 6)

    def test_a_design_is_worth_what_the_adjustment_is(self) -> None:
        path = self.rows(noise=0.0)
        found = self.adjust(path, self.control(), "--plane")
        with open(path, encoding="utf-8") as file:
            seen = list(csv.DictReader(file))
        planned = self.table(
            "d.csv", "kind,at,to,sigma", [[r["kind"], r["at"], r["to"], r["sigma"]] for r in seen]
        )
        rows = [[n, *PLANE[n][:2], "", "" if n in "AB" else "yes"] for n in PLANE]
        control = self.table("p.csv", "name,e,n,h,planned", rows)
        design = self.adjust(planned, control, "--plane", verb="design")
        self.assertEqual((design["dof"], design["variance_factor"]), (found["dof"], None))
        for one, other in zip(design["positions"], found["positions"], strict=True):
            np.testing.assert_allclose(one["covariance"], other["covariance"], rtol=1e-5, atol=1e-12)
        for one, other in zip(design["observations"], found["observations"], strict=True):
            self.assertIsNone(one["residual"])
            for key in ("redundancy", "mdb", "external"):
                self.assertAlmostEqual(one[key], other[key], delta=1e-5 * abs(other[key]) + 1e-12)
        self.assertIn("nothing, in a design", self.adjust(path, control, "--plane", verb="design", code=2))

    def test_a_wrong_value_is_named(self) -> None:
        for k, size, rule in ((7, 0.1, "adjust.distance"), (0, 0.02, "adjust.direction")):
            with self.subTest(rule=rule):
                rows = self.rows(0.5, {k: size})
                found = self.adjust(rows, self.control(), "--plane", code=1)
                with open(rows, encoding="utf-8") as file:
                    line = list(csv.DictReader(file))[k]
                first = found["doubts"][0]
                self.assertEqual((first["rule"], first["names"]), (rule, [line["at"], line["to"]]))
                wanted = size * 3600 if rule == "adjust.direction" else size
                self.assertAlmostEqual(first["value"], wanted, delta=0.15 * wanted)
                self.assertNotIn("adjust.global", self.grave(found))

    def test_free_keeps_the_mean_and_the_turn(self) -> None:
        found = self.adjust(self.rows(), self.control("ABCDE"), "--plane", "--free")
        d = np.array([c["difference"][:2] for c in found["control"]])
        x = np.array([PLANE[c["name"]][:2] for c in found["control"]])
        x = x - x.mean(axis=0)
        np.testing.assert_allclose(d.sum(axis=0), 0.0, atol=1e-9)
        self.assertAlmostEqual(float(np.sum(x[:, 0] * d[:, 1] - x[:, 1] * d[:, 0])), 0.0, 6)
        self.assertGreater(float(np.abs(d).max()), 1e-5)

    def test_control_far_apart(self) -> None:
        """Two control marks that do not see each other: the rest is placed by itself first."""
        path = self.rows(noise=0.0)
        with open(path, encoding="utf-8") as file:
            lines = [line for line in file if "A,C" not in line and "C,A" not in line]
        found = self.adjust(self.write("o.csv", "".join(lines)), self.control("AC"), "--plane")
        for one in found["positions"]:
            np.testing.assert_allclose([one["e"], one["n"]], PLANE[one["name"]][:2], atol=1e-5)

    def test_components(self) -> None:
        found = self.adjust(self.rows(), self.control(), "--plane", "--components")
        total = sum(c["redundancy"] * c["factor"] for c in found["components"])
        self.assertAlmostEqual(total / found["dof"], found["variance_factor"], 9)
        again = self.adjust(self.rows(), self.control(), "--plane", "--apply-components")
        self.assertAlmostEqual(again["variance_factor"], 1.0, 5)
        # A fine azimuth turns the network, and only a coarse one checks it; a distance that happens to agree
        # with the rest would shrink its sigma until it determined all. Both keep what was stated.
        turn, value = math.degrees(azimuth("A", "B")) % 360.0, 0.0
        line = f"azimuth,A,B,{turn!r},1,\nazimuth,A,B,{turn + 15 / 3600!r},20,coarse\n"
        for _ in range(3):
            alone = f"distance,D,E,{value!r},0.003,alone\n" if value else ""
            rows = Path(self.rows()).read_text().replace("sigma\n", "sigma,group\n").replace("\n", ",\n")
            rows = self.write("more.csv", rows.replace("group,", "group") + line + alone)
            told = self.adjust(rows, self.control("A"), "--plane", "--apply-components")
            factors = {c["group"]: c["factor"] for c in told["components"]}
            self.assertIsNone(factors.pop("azimuth"))
            self.assertIsNone(factors.pop("alone", None))
            self.assertTrue(all(0.2 < f < 5.0 for f in factors.values()), factors)
            marks = {p["name"]: (p["e"], p["n"]) for p in told["positions"]}
            value = math.dist(marks["D"], marks["E"])

    def test_what_cannot_be_determined(self) -> None:
        rows = self.table(
            "o.csv", "kind,at,to,value",
            [["distance", "A", "C", math.dist(PLANE["A"][:2], PLANE["C"][:2])],
             ["distance", "B", "C", math.dist(PLANE["B"][:2], PLANE["C"][:2])],
             ["azimuth", "A", "C", math.degrees(azimuth("A", "C"))], ["azimuth", "A", "X", 10]],
        )  # fmt: skip
        found = self.adjust(rows, self.control(), "--plane", code=1)
        self.assertEqual(self.grave(found), ["adjust.undetermined"])
        alone = self.table(
            "u.csv", "kind,at,to,value", [["distance", "A", "C", 500], ["azimuth", "A", "C", 10]]
        )
        lone = self.adjust(alone, self.control(), "--plane")
        self.assertEqual([d["rule"] for d in lone["doubts"]], ["adjust.unchecked"] * 2)
        self.assertIsNone(lone["observations"][0]["w"])
        lost = next(p for p in found["positions"] if p["name"] == "X")
        self.assertEqual((lost["e"], lost["covariance"]), (None, None))
        self.assertIsNone(found["observations"][3]["residual"])
        place = next(p for p in found["positions"] if p["name"] == "C")
        np.testing.assert_allclose([place["e"], place["n"]], [520, 480], atol=1e-6)

    def test_bad_input(self) -> None:
        rows = self.write("o.csv", "kind,at,to,value\ndistance,A,B,5\n")
        for control, more, words in (
            ("A,0,0,\nB,5,0,\n", ("--plane",), "every mark is held"),
            ("A,0,0,\n", (), "--frame CODE, or --plane"),
            ("A,0,,\n", ("--plane",), "both coordinates"),
            ("A,0,0,\n", ("--plane", "--hold", "Q"), "Q is not"),
            ("A,0,0,\n", ("--plane", "--alpha", "2"), "--alpha"),
        ):
            with self.subTest(words=words):
                path = self.write("c.csv", "name,e,n,h\n" + control)
                said = self.adjust(rows, path, *more, code=2)
                self.assertIn(words, said)


class Space(Adjust):
    #: West and south, heights of a mountain.
    MARKS: Mapping[str, tuple[float, float, float]] = {
        "A": (-33.5, -70.6, 2000.0), "B": (-33.49, -70.585, 2150.0), "C": (-33.507, -70.58, 1900.0),
        "D": (-33.512, -70.61, 2050.0),
    }  # fmt: skip

    def xyz(self, name: str, up: float = 0.0) -> np.ndarray:
        lat, lon, h = self.MARKS[name]
        way = pyproj.Transformer.from_pipeline("+proj=cart +ellps=GRS80")
        return np.array(way.transform(lon, lat, h + up))

    def axes(self, name: str) -> np.ndarray:
        lat, lon = map(math.radians, self.MARKS[name][:2])
        s, c, sl, cl = math.sin(lat), math.cos(lat), math.sin(lon), math.cos(lon)
        return np.array([[-sl, cl, 0.0], [-s * cl, -s * sl, c], [c * cl, c * sl, s]])

    def rows(
        self, vectors: bool = True, *, noise: float = 0.0, hi: str = "", ht: str = "", swap: str = "",
        feet: str = "",
    ) -> str:  # fmt: skip
        """Observations by the contract's own geometry, with heights of instruments and targets. hi: a station
        whose instrument is booked 0.5 m too high; ht: a line whose target is; swap: a station and two targets
        that were exchanged; feet: a line measured in feet, or all."""
        rng = np.random.default_rng(6)
        out: list[list[Any]] = []
        for a in self.MARKS:
            for b in self.MARKS:
                if a == b:
                    continue
                d = self.xyz(b, 1.7) - self.xyz(a, 1.5)
                e, n, u = self.axes(a) @ d
                s = float(np.linalg.norm(d))
                az = math.degrees(math.atan2(e, n))
                za = math.degrees(math.acos(u / s) - K * s / (2 * R))
                az += noise * rng.normal() * 5 / 3600.0
                za += noise * rng.normal() * 5 / 3600.0
                s += noise * rng.normal() * (0.003 + 2e-6 * s)
                s /= 0.3048 if feet in ("all", a + b) else 1.0
                to = b
                if swap[:1] == a and b in swap[1:]:
                    to = swap[2] if b == swap[1] else swap[1]
                up = [2.0 if hi == a else 1.5, 2.2 if ht == a + b else 1.7, "", "", "", *[""] * 6]
                out.append(["direction", a, to, f"{(az - 40) % 360:.12f}", *up])
                out.append(["zenith", a, to, f"{za:.12f}", *up])
                out.append(["distance", a, to, repr(s), *up])
        if vectors:
            for a, b in ("AB", "AD"):
                v = self.xyz(b) - self.xyz(a)
                out.append(
                    ["vector", a, b, "", "", "", *map(repr, map(float, v)), 4e-6, 1e-6, 0, 5e-6, 0, 6e-6]
                )
        return self.table("o.csv", "kind,at,to,value,hi,ht,dx,dy,dz,sxx,sxy,sxz,syy,syz,szz", out)

    def test_exact_observations_give_the_marks_back(self) -> None:
        for head, names in (("name,lat,lon,h", "A"), ("name,lat,lon,h", "AB")):
            with self.subTest(names=names):
                control = self.table("c.csv", head, [[n, *self.MARKS[n]] for n in names])
                found = self.adjust(self.rows(), control)
                self.assertEqual(found["dimensions"], 3)
                for one in found["positions"]:
                    np.testing.assert_allclose(
                        [one["x"], one["y"], one["z"]], self.xyz(one["name"]), atol=2e-6
                    )
                    np.testing.assert_allclose(
                        [one["lat"], one["lon"], one["h"]],
                        self.MARKS[one["name"]],
                        atol=[2e-11, 2e-11, 2e-6][0] + 2e-6,
                    )
                self.assertLess(found["variance_factor"], 1e-6)
                self.assertEqual(found["doubts"][-1]["rule"], "adjust.deflection")

    def test_blunders_are_named(self) -> None:
        for case, rule, names, value in (
            (dict(hi="B"), "adjust.instrument-height", ["B"], 0.5),
            (dict(ht="BC"), "adjust.target-height", ["B", "C"], 0.5),
            (dict(swap="BCD"), "adjust.names", ["B", "C", "D"], None),
            (dict(feet="CD"), "adjust.unit", ["C", "D"], None),
        ):  # fmt: skip
            with self.subTest(case=case):
                control = self.table("c.csv", "name,lat,lon,h", [[n, *self.MARKS[n]] for n in "AB"])
                found = self.adjust(self.rows(noise=0.5, **case), control, code=1)
                first = found["doubts"][0]
                self.assertEqual((first["rule"], sorted(first["names"])), (rule, names))
                if value is not None:
                    self.assertAlmostEqual(first["value"], value, delta=0.06)

    def test_two_rounds_under_one_number_and_what_does_not_settle(self) -> None:
        """A second round whose circle was turned by 40 degrees, under the set number of the first; a control
        mark 100 km off."""
        control = self.table("c.csv", "name,lat,lon,h", [[n, *self.MARKS[n]] for n in "AB"])
        path = self.rows(noise=0.5)
        with open(path, newline="") as file:
            rows = list(csv.reader(file))
        kind, at, value = (rows[0].index(c) for c in ("kind", "at", "value"))
        second = [list(r) for r in rows if r[kind] == "direction" and r[at] == "C"]
        for i, row in enumerate(second):
            row[value] = repr((float(row[value]) + 40.0 + 0.4 * (-1) ** i / 3600) % 360.0)
        found = self.adjust(self.table("two.csv", ",".join(rows[0]), [*rows[1:], *second]), control, code=1)
        first = found["doubts"][0]
        self.assertEqual((first["rule"], first["names"]), ("adjust.set", ["C"]))
        self.assertIn("set", first["text"])
        columns = [rows[0].index(c) for c in ("dx", "dy", "dz")]
        turned = [list(r) for r in rows]
        i = next(i for i, r in enumerate(rows) if r[kind] == "vector")
        for c in columns:
            turned[i][c] = repr(-float(turned[i][c]))
        held = self.table("c.csv", "name,lat,lon,h", [[n, *self.MARKS[n]] for n in "ABD"])
        found = self.adjust(self.table("turned.csv", ",".join(rows[0]), turned[1:]), held, code=1)
        first = found["doubts"][0]
        self.assertEqual(
            (first["rule"], first["names"]), ("adjust.sign", [rows[i][at], rows[i][rows[0].index("to")]])
        )
        off = [[n, *self.MARKS[n]] for n in "ABC"]
        off[2][1] += 0.9
        found = self.adjust(path, self.table("c.csv", "name,lat,lon,h", off), code=1)
        first = found["doubts"][0]
        self.assertEqual((first["rule"], first["names"]), ("adjust.control", ["C"]))
        self.assertAlmostEqual(first["value"], 0.9 * 110_900.0, delta=300.0)

    def test_a_control_mark_elsewhere_is_named(self) -> None:
        rows = [[n, *self.MARKS[n]] for n in "ABC"]
        rows[2][3] = 1900.2
        found = self.adjust(self.rows(noise=0.5), self.table("c.csv", "name,lat,lon,h", rows), code=1)
        first = found["doubts"][0]
        self.assertEqual((first["rule"], first["names"]), ("adjust.control", ["C"]))
        self.assertAlmostEqual(first["value"], 0.2, delta=0.02)

    def test_a_projected_frame_in_feet(self) -> None:
        """The same marks given and told in a frame of their own in US survey feet."""
        frame = (
            "+proj=tmerc +lat_0=-33.5 +lon_0=-71 +k=1.0003 +x_0=100000 +y_0=200000 +ellps=GRS80 +units=us-ft"
        )
        foot = 1200.0 / 3937.0
        plane = {n: (*pyproj.Proj(frame)(lon, lat), h / foot) for n, (lat, lon, h) in self.MARKS.items()}
        control = self.table("c.csv", "name,e,n,h", [["A", *plane["A"]]])
        found = self.adjust(self.rows(), control, "--frame", frame)
        for one in found["positions"]:
            np.testing.assert_allclose([one[k] for k in "enh"], plane[one["name"]], atol=1e-5)

    def test_over_a_geoid(self) -> None:
        """Plumb lines 20 s off to the north and -12 s to the east, by the contract's own words: up = u +
        xi n + eta e, the rest turned with it; heights above the geoid."""
        lat, lon, _ = self.MARKS["A"]
        e2 = 0.00669438002290
        w = math.sqrt(1.0 - e2 * math.sin(math.radians(lat)) ** 2)
        north = 6378137.0 * (1.0 - e2) / w**3 * math.radians(1.0)  # metres a degree
        east = 6378137.0 / w * math.cos(math.radians(lat)) * math.radians(1.0)
        xi, eta = math.radians(20.0 / 3600.0), math.radians(-12.0 / 3600.0)
        geoid = self.path("n.gtx")
        write_plane_geoid(geoid, lat, lon, 27.0, -xi * north, -eta * east)

        def above(name: str) -> float:
            y, x, h = self.MARKS[name]
            return h - (27.0 - xi * north * (y - lat) - eta * east * (x - lon))

        def tilted(name: str) -> np.ndarray:
            e, n, u = self.axes(name)
            up = u + xi * n + eta * e
            up /= np.linalg.norm(up)
            n = n - (n @ up) * up
            n /= np.linalg.norm(n)
            return np.array([np.cross(n, up), n, up])

        out: list[list[Any]] = []
        for a in self.MARKS:
            for b in self.MARKS:
                if a != b:
                    d = self.xyz(b) + 1.7 * tilted(b)[2] - self.xyz(a) - 1.5 * tilted(a)[2]
                    e, n, u = tilted(a) @ d
                    s = float(np.linalg.norm(d))
                    za = math.degrees(math.acos(u / s) - K * s / (2 * R))
                    out.append(["azimuth", a, b, f"{math.degrees(math.atan2(e, n)) % 360:.12f}", 1.5, 1.7])
                    out.append(["zenith", a, b, f"{za:.12f}", 1.5, 1.7])
                    out.append(["distance", a, b, repr(s), 1.5, 1.7])
                    out.append(["height_difference", a, b, repr(above(b) - above(a)), "", ""])
        rows = self.table("o.csv", "kind,at,to,value,hi,ht", out)
        control = self.table("c.csv", "name,lat,lon,h", [["A", lat, lon, above("A")]])
        found = self.adjust(rows, control, "--geoid", geoid)
        self.assertEqual(self.grave(found), [])
        self.assertNotIn("adjust.deflection", [d["rule"] for d in found["doubts"]])
        for one in found["positions"]:
            np.testing.assert_allclose([one["x"], one["y"], one["z"]], self.xyz(one["name"]), atol=1e-3)
            self.assertAlmostEqual(one["h"], above(one["name"]), 3)
        self.assertLess(found["variance_factor"], 1e-3)

    def test_covariance_along_the_axes_of_the_grid(self) -> None:
        """Far from the central meridian grid north is 4 degrees off: the same covariance, turned."""
        frame = "+proj=tmerc +lat_0=-33.5 +lon_0=-78 +k=1 +x_0=100000 +y_0=200000 +ellps=GRS80 +units=m"
        proj = pyproj.Proj(frame)
        lat, lon, h = self.MARKS["A"]
        grid = self.table("g.csv", "name,e,n,h", [["A", *proj(lon, lat), h]])
        there = {p["name"]: p for p in self.adjust(self.rows(), grid, "--frame", frame)["positions"]}
        plain = self.table("c.csv", "name,lat,lon,h", [["A", lat, lon, h]])
        here = {p["name"]: p for p in self.adjust(self.rows(), plain)["positions"]}
        for name in "BCD":
            y, x, _ = self.MARKS[name]
            g = math.radians(proj.get_factors(x, y).meridian_convergence)
            self.assertGreater(abs(g), 0.06)
            turn = np.array([[math.cos(g), -math.sin(g), 0], [math.sin(g), math.cos(g), 0], [0, 0, 1]])
            # An azimuth of a grid is that of the ellipsoid less the convergence.
            np.testing.assert_allclose(
                there[name]["covariance"], turn @ np.array(here[name]["covariance"]) @ turn.T, atol=1e-9
            )

    def test_vectors_alone_need_no_turn(self) -> None:
        """Four vectors round four marks and one across: 15 values, 12 coordinates, 3 conditions."""
        rows = [
            ["vector", a, b, *map(repr, map(float, self.xyz(b) - self.xyz(a))), 4e-6, 0, 0, 4e-6, 0, 4e-6]
            for a, b in ("AB", "BC", "CD", "DA", "AC")
        ]
        path = self.table("v.csv", "kind,at,to,dx,dy,dz,sxx,sxy,sxz,syy,syz,szz", rows)
        control = self.table("c.csv", "name,lat,lon,h", [[n, *p] for n, p in self.MARKS.items()])
        self.assertEqual(self.adjust(path, control, "--free")["dof"], 15 - 12 + 3)
        rows[1][3:6] = [repr(-float(v)) for v in rows[1][3:6]]
        path = self.table("v.csv", "kind,at,to,dx,dy,dz,sxx,sxy,sxz,syy,syz,szz", rows)
        first = self.adjust(path, control, "--free", code=1)["doubts"][0]
        self.assertEqual((first["rule"], first["names"]), ("adjust.sign", ["B", "C"]))

    def test_weights_in_plan_and_height_are_their_own(self) -> None:
        rows = [[n, *p, 0.01, 0.5] for n, p in self.MARKS.items()]
        rows[2][3] += 0.2
        control = self.table("c.csv", "name,lat,lon,h,sh,sv", rows)
        found = self.adjust(self.rows(), control, "--weighted")
        self.assertEqual(self.grave(found), [])
        c = next(one for one in found["control"] if one["name"] == "C")
        # With 0.5 m in height its 0.2 m are shared there by four marks, where 0.01 m would have fought.
        self.assertAlmostEqual(c["difference"][2], -0.15, delta=0.002)
        self.assertGreater(min(c["redundancy"]), 0.5)

    def test_a_free_network_in_space(self) -> None:
        control = self.table("c.csv", "name,lat,lon,h", [[n, *p] for n, p in self.MARKS.items()])
        found = self.adjust(self.rows(vectors=False), control, "--free")
        # 36 observations, 12 coordinates and 4 orientations, 4 conditions.
        self.assertEqual(found["dof"], 36 - 16 + 4)
        self.assertLess(max(abs(v) for c in found["control"] for v in c["difference"]), 2e-6)


class Determined(Adjust):
    """Networks that are determined though nothing leads to their heights step by step."""

    def test_heights_by_slope_distances(self) -> None:
        """Two marks from four by slope distances, and by directions beside them: the truth is geometry on the
        ellipsoid by PROJ."""
        rng = np.random.default_rng(1)
        local = {"A": (0, 0, 10), "B": (500, 20, 60), "C": (450, 480, 120), "D": (30, 510, 30),
                 "P": (240, 260, 75), "Q": (300, 150, 40)}  # fmt: skip
        origin = "+proj=topocentric +ellps=GRS80 +lon_0=8.4 +lat_0=61.3 +h_0=1200"
        up = pyproj.Transformer.from_pipeline(origin)
        down = pyproj.Transformer.from_crs("EPSG:4978", "EPSG:4979", always_xy=True)
        at = {n: np.array(up.transform(*p, direction="INVERSE")) for n, p in local.items()}
        place = {n: down.transform(*x) for n, x in at.items()}
        control = self.table(
            "c.csv", "name,lat,lon,h",
            [[n, f"{place[n][1]:.11f}", f"{place[n][0]:.11f}", f"{place[n][2]:.5f}"] for n in "ABCD"],
        )  # fmt: skip
        slopes = [["distance", s, n, f"{np.linalg.norm(at[s] - at[n]) + 0.002 * rng.standard_normal():.4f}",
                   0.003, ""] for n in "PQ" for s in "ABCD"]  # fmt: skip
        turned = [["direction", s, t, f"{(self.azimuth(place, s, t) - 33.0) % 360.0:.7f}", 3, "1"]
                  for s in "ABCD" for t in "ABCDPQ" if s != t]  # fmt: skip
        for rows in (slopes, slopes + turned):
            obs = self.table("o.csv", "kind,at,to,value,sigma,set", rows)
            found = self.run_json("adjust", obs, control)
            for one in found["positions"]:
                if not one["held"]:
                    self.assertLess(abs(one["h"] - place[one["name"]][2]), 0.1, one["name"])
                    self.assertLess(abs(one["lat"] - place[one["name"]][1]), 2e-7)

    def azimuth(self, place: Any, here: str, there: str) -> float:
        geod = pyproj.Geod(ellps="GRS80")
        return float(geod.inv(*place[here][:2], *place[there][:2])[0])

    def test_what_has_no_place_is_refused_in_words(self) -> None:
        """Positive values in Krovak's system, whose own are negative, do not come back through it."""
        rows = [["distance", "A", "P", 300], ["distance", "B", "P", 250]]
        obs = self.table("o.csv", "kind,at,to,value", rows)
        marks = [["A", 598000, 1160000, 200], ["B", 598400, 1160100, 210]]
        control = self.table("c.csv", "name,e,n,h", marks)
        for code in ("EPSG:5514", "EPSG:5513"):
            self.assertIn("a place of", self.run_json("adjust", obs, control, "--frame", code, code=2))
