"""Networks beyond the contract: biases of groups, centring, robust weights, SINEX both ways, two epochs."""

import math
import warnings
from typing import Any

import numpy as np

from tests.commands.test_adjust import PLANE, Adjust, azimuth

GRS80_A, GRS80_F = 6378137.0, 1.0 / 298.257222101
HEAD = "kind,at,to,value,sigma,group,dx,dy,dz,sxx,sxy,sxz,syy,syz,szz"


def length(a: str, b: str) -> float:
    return math.dist(PLANE[a][:2], PLANE[b][:2])


def vector(a: str, b: str, way: np.ndarray, sigma: float, group: str = "") -> list[Any]:
    s = sigma**2
    return ["vector", a, b, "", "", group, *(repr(float(v)) for v in way), s, 0, 0, s, 0, s]


class Biased(Adjust):
    """Observations without noise, of which a group has something in common: it is found, exactly."""

    CONTROL = "name,e,n,h\nA,0,0,10\nB,500,20,14\nC,520,480,22\n"
    LINES = ("A D", "B D", "C D", "A E", "B E", "C E", "D E")

    def one(self, rows: list[list[Any]], bias: str, *more: str) -> dict[str, Any]:
        found = self.adjust(self.table("o.csv", HEAD, rows), self.write("c.csv", self.CONTROL), "--plane",
                            "--bias", bias, *more)  # fmt: skip
        marks = {p["name"]: p for p in found["positions"]}
        for name in ("D", "E"):
            np.testing.assert_allclose(
                [marks[name][k] for k in "en"], PLANE[name][:2], atol=1e-6, err_msg=f"{bias} {name}"
            )
        (told,) = found["biases"]
        self.assertGreater(told["sigma"], 0.0)
        return dict(told)

    def test_each_kind(self) -> None:
        pairs = [line.split() for line in self.LINES]
        ways = {(a, b): np.subtract(PLANE[b], PLANE[a]) for a, b in pairs}
        r = math.radians(3.0 / 3600.0)
        clockwise = np.array([[math.cos(r), math.sin(r), 0], [-math.sin(r), math.cos(r), 0], [0, 0, 1]])
        cases: dict[str, tuple[float, list[list[Any]]]] = {
            "scale:tape": (40.0, [
                ["distance", a, b, repr(length(a, b) * 1.00004), 0.002, "tape"] for a, b in pairs
            ]),
            "turn:gyro": (12.0, [
                ["azimuth", a, b, repr(math.degrees(azimuth(a, b)) % 360 + 12 / 3600), 5, "gyro"]
                for a, b in pairs
            ]),
            "scale:gps": (-8.0, [vector(a, b, w * (1 - 8e-6), 0.003, "gps") for (a, b), w in ways.items()]),
            "turn:gps": (3.0, [vector(a, b, clockwise @ w, 0.003, "gps") for (a, b), w in ways.items()]),
            "height:pole": (0.012, [
                vector(a, b, w + np.array([0, 0, 0.012 * (b == "E")]), 0.003, "pole" if b == "E" else "")
                for (a, b), w in ways.items()
            ]),
        }  # fmt: skip
        for bias, (value, rows) in cases.items():
            if bias == "height:pole":  # a bias that is not of all lines to E would be E's own height
                rows.append(vector("E", "A", np.subtract(PLANE["A"], PLANE["E"]), 0.003))
            with self.subTest(bias=bias):
                self.assertAlmostEqual(self.one(rows, bias)["value"], value, 3)

    def test_refraction_beside_the_networks(self) -> None:
        """Zenith angles of a plane have none, so on the ellipsoid: 1.2 km lines bent by k = 0.30."""
        lat, lon = -41.0, 174.0
        control, rows = "name,lat,lon,h\n", []
        marks = {"P": (lat, lon, 100.0), "Q": (lat + 0.011, lon, 180.0), "S": (lat, lon + 0.014, 60.0)}
        for name, (a, b, h) in marks.items():
            control += f"{name},{a},{b},{h}\n"
        import pyproj

        to_xyz = pyproj.Transformer.from_crs("EPSG:4979", "EPSG:4978").transform
        for at in marks:
            for to in marks:
                if at != to:
                    a, b = (np.array(to_xyz(*marks[n])) for n in (at, to))
                    phi, lam = (math.radians(v) for v in marks[at][:2])
                    plan = math.cos(phi)
                    up = np.array([plan * math.cos(lam), plan * math.sin(lam), math.sin(phi)])
                    s = float(np.linalg.norm(b - a))
                    z = math.acos(float((b - a) @ up) / s) - 0.30 * s / (2 * 6_372_000.0)
                    rows.append(["zenith", at, to, repr(math.degrees(z)), 1, "sun"])
        rows.append(["height_difference", "P", "Q", 80.0, 0.0001, ""])
        found = self.adjust(self.table("o.csv", HEAD, rows), self.write("c.csv", control), "--hold", "P,S",
                            "--bias", "refraction:sun", code=0)  # fmt: skip
        self.assertAlmostEqual(found["biases"][0]["value"], 0.30 - 0.13, 3)

    def test_bad_input(self) -> None:
        rows = self.table("o.csv", HEAD, [["distance", "A", "D", 510.1, 0.01, "tape"]])
        control = self.write("c.csv", self.CONTROL)
        for bias, words in (("slip:tape", "expected one of scale"), ("turn:tape", "no azimuth or vector"),
                            ("scale:none", "in the group 'none'")):  # fmt: skip
            self.assertIn(words, self.run_json("adjust", rows, control, "--plane", "--bias", bias, code=2))
        for text in ("1,2,3", "-1", "x"):
            self.run_json("adjust", rows, control, "--plane", f"--centring={text}", code=2)
        self.run_json("adjust", rows, control, "--sinex", rows, code=2)


class Centring(Adjust):
    def test_what_it_adds_to_each_kind(self) -> None:
        """One check on each kind, whose smallest error found gives away the sigma: Ghilani's formulas (from
        memory) with 2 mm for the instrument and 3 mm for targets."""
        control = self.write("c.csv", "name,e,n,h,planned\nA,0,0,,\nC,520,480,,\nB,500,20,,yes\n")
        i, t = 0.002, 0.003
        ab, cb = (math.dist(PLANE[n][:2], PLANE["B"][:2]) for n in "AC")
        ac = math.dist(PLANE["A"][:2], PLANE["C"][:2])
        seconds = 3600.0 * math.degrees(1.0)
        both = math.hypot(i, t)
        angle = math.hypot(i * ac / (ab * cb), t * math.hypot(1 / ab, 1 / cb))
        want = {
            "distance": (math.hypot(0.004, both), ab, 0.004, ["B", "A", ""]),
            "azimuth": (
                math.hypot(6.0, both / ab * seconds), math.degrees(azimuth("B", "A")), 6.0, ["B", "A", ""]
            ),
            "angle": (
                math.hypot(6.0, angle * seconds), math.degrees(azimuth("B", "C") - azimuth("B", "A")), 6.0,
                ["B", "C", "A"],
            ),
        }  # fmt: skip
        for kind, (sigma, value, own, ends) in want.items():
            rows = self.table(
                "o.csv", "kind,at,to,from,value,sigma,group",
                [[kind, *ends, repr(value % 360 if kind != "distance" else value), own, "own"],
                 ["distance", "B", "C", "", repr(cb), 1e-7, ""],
                 ["distance", "B", "A", "", repr(ab), 1e-7, ""]],
            )  # fmt: skip
            found = self.adjust(rows, control, "--plane", "--centring", "2,3", "--components")
            first = found["observations"][0]
            sigma_l = first["mdb"] * math.sqrt(first["redundancy"]) / 4.1321
            with self.subTest(kind=kind):
                # The other two distances have centring as well, so only what is this row's own is compared.
                self.assertAlmostEqual(sigma_l / sigma, 1.0, 3)
        one = self.table("v.csv", HEAD, [vector("A", "B", np.subtract(PLANE["B"], PLANE["A"]), 0.004)])
        held = self.write("c.csv", "name,e,n,h\nA,0,0,10\n")
        found = self.adjust(one, held, "--plane", "--centring", "2,3")
        covariance = next(p for p in found["positions"] if p["name"] == "B")["covariance"]
        plan = 0.004**2 + both**2
        np.testing.assert_allclose(covariance, np.diag([plan, plan, 0.004**2]), atol=1e-12)

    def test_weighted_control_is_a_group(self) -> None:
        """Balanced by hand with the factors told, every group is 1: of control as of the others."""
        rng = np.random.default_rng(9)
        pairs = [(a, b) for a in "ABCDE" for b in "ABCDE" if a < b]
        lengths = [length(a, b) + rng.normal(0, 0.002) for a, b in pairs]
        places = {n: (PLANE[n][0] + rng.normal(0, 0.02), PLANE[n][1] + rng.normal(0, 0.02)) for n in "ABCD"}

        def adjusted(sigma: float, sh: float, *more: str) -> dict[str, float]:
            rows = [
                ["distance", a, b, repr(s), repr(sigma)] for (a, b), s in zip(pairs, lengths, strict=True)
            ]
            control = self.table(
                "w.csv", "name,e,n,h,sh", [[n, *map(repr, p), "", repr(sh)] for n, p in places.items()]
            )
            path = self.table("o.csv", "kind,at,to,value,sigma", rows)
            found = self.run_json("adjust", path, control, "--plane", "--weighted", "--components", *more)
            return {c["group"]: c["factor"] for c in found["components"]}

        factors = adjusted(0.002, 0.005, "--apply-components")
        self.assertGreater(factors["control"], 4.0)
        again = adjusted(0.002 * math.sqrt(factors["distance"]), 0.005 * math.sqrt(factors["control"]))
        for group, factor in again.items():
            self.assertAlmostEqual(factor, 1.0, 4, group)


class Robust(Adjust):
    def test_the_blunder_stands_out_and_nothing_else(self) -> None:
        control = self.write("c.csv", "name,e,n,h\nA,0,0,\nB,500,20,\nC,520,480,\n")
        rng = np.random.default_rng(3)
        pairs = [(a, b) for a in "ABCDE" for b in "ABCDE" if a < b]
        rows = [["distance", a, b, repr(length(a, b) + rng.normal(0, 0.002)), 0.002] for a, b in pairs]
        head = "kind,at,to,value,sigma"
        clean = self.adjust(self.table("o.csv", head, rows), control, "--plane", "--robust")
        self.assertEqual(clean["robust"]["stand_out"], [])
        wrong = next(i for i, pair in enumerate(pairs) if pair == ("B", "D"))
        rows[wrong][3] = repr(float(rows[wrong][3]) + 0.05)
        found = self.adjust(self.table("o.csv", head, rows), control, "--plane", "--robust", code=1)
        (one,) = found["robust"]["stand_out"]
        self.assertEqual((one["line"], one["at"], one["to"]), (wrong + 2, "B", "D"))
        # Not drawn to what it pulls, as in least squares.
        self.assertAlmostEqual(one["sigmas"] * 0.002, 0.05, delta=0.008)
        self.assertLess(abs(found["observations"][wrong]["residual"]), 0.030)
        self.assertLess(one["weight"], 0.25)


def read_independently(path: str) -> tuple[dict[str, np.ndarray], np.ndarray]:
    """Stations and the whole covariance of a SINEX file, by fixed columns."""
    block, xyz, cells, names = "", {}, {}, {}
    with open(path, encoding="ascii") as file:
        for line in file.read().splitlines():
            if line[0] in "+-":
                block = line[1:] if line[0] == "+" else ""
            elif line[0] == " " and block == "SITE/ID":
                names[line[1:5]] = line[21:43].strip()
            elif line[0] == " " and block == "SOLUTION/ESTIMATE":
                xyz.setdefault(names[line[14:18]], np.zeros(3))["XYZ".index(line[10])] = float(line[47:68])
            elif line[0] == " " and block.startswith("SOLUTION/MATRIX"):
                i, j = int(line[1:6]), int(line[7:12])
                for k in range((len(line) - 12) // 22):
                    cells[i, j + k] = cells[j + k, i] = float(line[13 + 22 * k : 34 + 22 * k])
    n = max(i for i, _ in cells)
    return xyz, np.array([[cells[i, j] for j in range(1, n + 1)] for i in range(1, n + 1)])


class Sinex(Adjust):
    """Two campaigns one after the other, the first handed on as SINEX, are both at once."""

    CONTROL = "name,lat,lon,h\nBASE,-36.5,-71.2,120\n"

    def campaign(self, seed: int, pairs: str) -> list[list[Any]]:
        rng = np.random.default_rng(seed)
        truth = {
            "BASE": np.zeros(3), "N1": np.array([900.0, 300.0, -200.0]),
            "A long name": np.array([-400.0, 800.0, 500.0]), "N3": np.array([200.0, -700.0, 900]),
        }  # fmt: skip
        names = list(truth)
        out = []
        for a, b in pairs.split():
            a, b = names[int(a)], names[int(b)]
            root = rng.normal(0, 0.002, (3, 3)) + 0.003 * np.eye(3)
            c = root @ root.T
            way = truth[b] - truth[a] + root @ rng.standard_normal(3)
            out.append(["vector", a, b, "", "", "", *map(repr, way.tolist()), c[0, 0], c[0, 1], c[0, 2],
                        c[1, 1], c[1, 2], c[2, 2]])  # fmt: skip
        return out

    def test_one_after_the_other_is_both_at_once(self) -> None:
        control = self.write("c.csv", self.CONTROL)
        first, second = self.campaign(1, "01 02 12 13 23"), self.campaign(2, "12 23 13 03")
        out = str(self.folder / "first.snx")
        alone = self.adjust(self.table("1.csv", HEAD, first), control, "--sinex-out", out, code=0)
        xyz, covariance = read_independently(out)
        for p in alone["positions"][1:]:
            np.testing.assert_allclose(xyz[p["name"]], [p[k] for k in "xyz"], atol=1e-7)
        np.testing.assert_allclose(covariance, covariance.T, atol=0)
        self.assertGreater(np.linalg.eigvalsh(covariance)[0], 0.0)
        both = self.adjust(self.table("b.csv", HEAD, [*first, *second]), control)
        after = self.adjust(self.table("2.csv", HEAD, second), control, "--sinex", out)
        for p, q in zip(sorted(both["positions"], key=lambda m: m["name"]),
                        sorted(after["positions"], key=lambda m: m["name"]), strict=True):  # fmt: skip
            np.testing.assert_allclose([p[k] for k in "xyz"], [q[k] for k in "xyz"], atol=2e-7)
            np.testing.assert_allclose(p["covariance"], q["covariance"], atol=1e-13, rtol=1e-6)
        self.assertEqual(both["dof"], alone["dof"] + after["dof"])
        self.assertAlmostEqual(
            both["variance_factor"] * both["dof"],
            alone["variance_factor"] * alone["dof"] + after["variance_factor"] * after["dof"], 4,
        )  # fmt: skip

    def test_other_forms_and_bad_files(self) -> None:
        control = self.write("c.csv", self.CONTROL)
        out = str(self.folder / "first.snx")
        self.adjust(
            self.table("1.csv", HEAD, self.campaign(1, "01 02 12 13 23")), control, "--sinex-out", out
        )
        text = (self.folder / "first.snx").read_text()
        _, covariance = read_independently(out)
        second = self.table("2.csv", HEAD, self.campaign(2, "12 23 13 03"))
        want = self.adjust(second, control, "--sinex", out)["positions"]
        head, _ = text.split("+SOLUTION/MATRIX_ESTIMATE L COVA")
        sigma = np.sqrt(np.diag(covariance))
        correlation = covariance / np.outer(sigma, sigma)
        np.fill_diagonal(correlation, sigma)
        for form, matrix in (("L CORR", correlation), ("U INFO", np.linalg.inv(covariance))):
            cells = [f" {i + 1:5d} {j + 1:5d} {matrix[i, j]:21.14E}" for i in range(9) for j in range(9)
                     if (j <= i) == (form[0] == "L") or i == j]  # fmt: skip
            other = self.write(
                f"{form[2:]}.snx",
                head
                + "\n".join(
                    [
                        f"+SOLUTION/MATRIX_ESTIMATE {form}", *cells, f"-SOLUTION/MATRIX_ESTIMATE {form}",
                        "%ENDSNX",
                    ]
                ),
            )  # fmt: skip
            for p, q in zip(want, self.adjust(second, control, "--sinex", other)["positions"], strict=True):
                np.testing.assert_allclose([p[k] for k in "xyz"], [q[k] for k in "xyz"], atol=1e-7)
        bad = {
            "no.snx": "name,e,n\n", "bare.snx": head + "%ENDSNX\n", "cut.snx": text.replace("STAX", "STAQ"),
            "words.snx": text.replace(" m    2 ", " m    2 x"),
        }  # fmt: skip
        for name, words in bad.items():
            self.run_json("adjust", second, control, "--sinex", self.write(name, words), code=2)


class Nonsense(Adjust):
    def test_distances_that_make_no_figure_are_answered_in_words(self) -> None:
        """No warning of a library comes out of the search for what is wrong with them."""
        sides = {"AC": 500.003, "BC": 480.001, "AD": 300.002, "BD": 600.004, "CD": 520.001, "AB": 700.0}
        rows = self.table("o.csv", "kind,at,to,value", [["distance", *k, v] for k, v in sides.items()])
        control = self.write("c.csv", "name,e,n,h\nA,0,0,\nB,700,0,\n")
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            found = self.adjust(rows, control, "--plane", code=1)
        self.assertTrue(self.grave(found))


class FieldWork(Adjust):
    def test_landxml_is_adjusted_like_a_list(self) -> None:
        """The rows of the file typed as a list: the same positions."""
        shots = []
        rows: list[list[Any]] = []
        for number, at in enumerate("AB", 1):
            for to in ("D", "E", "B" if at == "A" else "A"):
                reading = repr((math.degrees(azimuth(at, to)) - 10.0) % 360.0)
                way = np.subtract(PLANE[to], PLANE[at])
                length = float(np.linalg.norm(way))
                zenith, slope = repr(math.degrees(math.acos(way[2] / length))), repr(length + 0.002 * number)
                shots.append(
                    f'<RawObservation setupID="{number}" horizAngle="{reading}" zenithAngle="{zenith}" '
                    f'slopeDistance="{slope}"><TargetPoint name="{to}"/></RawObservation>'
                )
                rows += [
                    ["direction", at, to, reading, str(number)], ["zenith", at, to, zenith, ""],
                    ["distance", at, to, slope, ""],
                ]  # fmt: skip
        setups = "".join(f'<InstrumentSetup id="{i}" stationName="{n}"/>' for i, n in ((1, "A"), (2, "B")))
        xml = self.write("s.xml", f"<LandXML>{setups}<Survey>{''.join(shots)}</Survey></LandXML>")
        listed = self.table("o.csv", "kind,at,to,value,set", rows)
        control = self.write("c.csv", "name,e,n,h\nA,0,0,10\nB,500,20,14\n")
        one, other = (self.adjust(path, control, "--plane") for path in (xml, listed))
        for p, q in zip(one["positions"], other["positions"], strict=True):
            np.testing.assert_allclose([p[k] for k in "enh"], [q[k] for k in "enh"], atol=1e-9)
        self.assertEqual(one["dof"], other["dof"])
        self.run_json("loops", xml, "--plane")


class Epochs(Adjust):
    def test_which_moved(self) -> None:
        control = self.write("c.csv", "name,e,n,h\nA,0,0,\nB,500,20,\n")
        moved = {**PLANE, "D": (PLANE["D"][0] + 0.020, PLANE["D"][1] - 0.010, 5)}

        def epoch(name: str, places: Any, seed: int) -> str:
            rng = np.random.default_rng(seed)
            rows = []
            for a in "ABCDE":
                turn = rng.uniform(0, 360)
                for b in "ABCDE":
                    if a != b:
                        de, dn = places[b][0] - places[a][0], places[b][1] - places[a][1]
                        reading = (math.degrees(math.atan2(de, dn)) - turn) % 360
                        rows += [["distance", a, b, repr(math.hypot(de, dn) + rng.normal(0, 0.001)), 0.001],
                                 ["direction", a, b, repr(reading + rng.normal(0, 2 / 3600)), 2]]  # fmt: skip
            return self.table(name, "kind,at,to,value,sigma", rows)

        first, same, other = epoch("1.csv", PLANE, 1), epoch("2.csv", PLANE, 2), epoch("3.csv", moved, 3)
        quiet = self.run_json("epochs", first, same, control, "--plane", code=0)
        self.assertGreater(quiet["before"]["p_value"], 0.01)
        self.assertTrue(all(m["stable"] and not m["moved"] for m in quiet["marks"]))
        found = self.run_json("epochs", first, other, control, "--plane", code=0)
        marks = {m["name"]: m for m in found["marks"]}
        self.assertEqual((found["taken_out"], [n for n in marks if marks[n]["moved"]]), (["D"], ["D"]))
        np.testing.assert_allclose(marks["D"]["move"][:2], [0.020, -0.010], atol=0.003)
        self.assertIsNone(marks["D"]["move"][2])
        sigma = math.sqrt(marks["D"]["covariance"][0][0])
        self.assertTrue(0.0003 < sigma < 0.002)
        chosen = self.run_json("epochs", first, other, control, "--plane", "--stable", "A,B,C", code=0)
        self.assertEqual([m["name"] for m in chosen["marks"] if m["stable"]], ["A", "B", "C"])
        np.testing.assert_allclose(chosen["marks"][3]["move"][:2], [0.020, -0.010], atol=0.003)
        self.run_json("epochs", first, other, control, "--plane", "--stable", "A,X", code=2)
        self.run_json("epochs", first, other, control, "--plane", "--stable", "A", code=2)
        self.run_json("epochs", first, other, control, "--plane", "--level", "2", code=2)
