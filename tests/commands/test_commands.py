"""The command line, as a shell would run it."""

import contextlib
import io
import json
import math
import os
import subprocess
import sys
from html.parser import HTMLParser
from pathlib import Path

import numpy as np

from fenwind.cli import main
from fenwind.geodesy.frames import open_frame, working_frame_spec
from fenwind.quantities.lengths import US_SURVEY_FOOT
from tests.support import DATA, CommandCase, TempFolder, made_up_pairs


def run(*arguments: str) -> tuple[int, str, str]:
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            code = main(list(arguments))
        except SystemExit as leave:
            code = int(leave.code or 0)
    return code, out.getvalue(), err.getvalue()


class Areas(CommandCase):
    def test_outside_the_area_of_a_system(self) -> None:
        """UTM zone 32N is meant for 6 to 12 degrees east (EPSG dataset)."""
        for rows, code, grave, words in (
            ("A,61.3,8.3,100", 0, None, ""),
            ("A,61.3,-8.3,100", 1, True, "with the other sign of the longitude"),
            ("A,8.3,61.3,100", 1, True, "latitude and longitude exchanged"),
            ("A,61.3,12.4,100", 0, False, "zone of ETRS89 / UTM zone 33N"),
            ("A,61.3,15.4,100", 1, True, "zone of ETRS89 / UTM zone 33N"),
            ("A,61.3,40.0,100", 1, True, "another zone"),
        ):
            path = self.folder / "points.csv"
            path.write_text(f"name,lat,lon,h\n{rows}\n")
            ground = self.run_json(
                "ground", str(path), "--frame", "EPSG:25832", "--factor", "mean", code=code
            )
            converted = self.run_json("convert", str(path), "--from", "EPSG:4258", "--to", "EPSG:25832")
            for found in (ground, converted):
                told = [d for d in found["doubts"] if d["rule"] == "frame.area"]
                self.assertEqual([d["grave"] for d in told], [] if grave is None else [grave], rows)
                self.assertTrue(all(words in d["text"] and d["names"] == ["A"] for d in told), told)


class Fit(TempFolder):
    def files(self, **options: object) -> tuple[str, str]:
        pairs = made_up_pairs(marks=4, **options)
        measured = ["name,e,n,h,sh,sv"] + [
            f"{n},{e!r},{m!r},{h!r},0.004,0.008"
            for n, e, m, h in zip(pairs.names, *pairs.measured.tolist(), strict=True)
        ]
        known = ["name,e,n,h"] + [
            f"{n},{e!r},{m!r},{h!r}" for n, e, m, h in zip(pairs.names, *pairs.known.tolist(), strict=False)
        ]
        return self.write("m.csv", "\n".join(measured)), self.write("k.csv", "\n".join(known))

    def json(self, *arguments: str, code: int = 0) -> dict:
        exit_code, out, err = run("fit", *arguments, "--json")
        self.assertEqual((exit_code, err), (code, ""))
        return json.loads(out)

    def test_json_is_complete_and_its_formulas_hold(self) -> None:
        measured, known = self.files()
        found = self.json(
            measured, known, "--check", "T-02", "--height", "plane", "--no-height", "T-03", "--tolerance-v",
            "0.05",
        )  # fmt: skip
        self.assertEqual(list(found), ["horizontal", "height", "pairs", "models", "positions", "doubts"])
        h, v = found["horizontal"], found["height"]
        self.assertEqual((h["model"], h["scale"], v["model"]), ("turn", 1.0, "plane"))
        rows = {r["name"]: r for r in found["pairs"]}
        self.assertEqual(
            (rows["T-02"]["used_horizontal"], rows["T-02"]["used_height"], rows["T-03"]["used_height"]),
            (False, False, False),
        )
        self.assertEqual(rows["T-02"]["loo_h"], math.hypot(rows["T-02"]["de"], rows["T-02"]["dn"]))
        source = {
            line.split(",")[0]: [float(x) for x in line.split(",")[1:4]]
            for line in Path(measured).read_text().splitlines()[1:]
        }
        r = math.radians(h["rotation_deg"])
        for p in found["positions"]:
            e, n, height = source[p["name"]]
            self.assertAlmostEqual(
                p["e"], h["shift_e"] + h["scale"] * (e * math.cos(r) + n * math.sin(r)), delta=1e-6
            )
            self.assertAlmostEqual(
                p["n"], h["shift_n"] + h["scale"] * (-e * math.sin(r) + n * math.cos(r)), delta=1e-6
            )
            self.assertAlmostEqual(
                p["h"],
                height + v["shift"] + v["slope_e"] * (p["e"] - v["e0"]) + v["slope_n"] * (p["n"] - v["n0"]),
                delta=1e-8,
            )
        used = [p for p in found["positions"] if rows.get(p["name"], {}).get("used_height")]
        self.assertAlmostEqual(v["e0"], np.mean([p["e"] for p in used]), delta=1e-6)
        self.assertEqual([m["model"] for m in found["models"]], ["shift", "turn", "scale"])
        self.assertEqual([m["recommended"] for m in found["models"]], [False, True, False])
        self.assertIsNone(found["models"][0]["p_value"])

    def test_choices_and_exit_codes(self) -> None:
        measured, known = self.files()
        self.assertEqual(
            self.json(
                measured, known, "--pivot", "T-04,T-06", "--height", "none", "--tolerance-h", "0.1",
                "--tolerance-v", "99",
            )["horizontal"]["model"],
            "pivot",
        )  # fmt: skip
        self.assertEqual(
            self.json(
                measured, known, "--horizontal", "scale", "--rotation", "12 00 00", "--tolerance-h", "99"
            )["horizontal"]["rotation_deg"],
            12.0,
        )
        grave = self.json(measured, known, "--horizontal", "shift", code=1)
        self.assertIn("fit.residual-plan", [d["rule"] for d in grave["doubts"]])
        self.assertEqual(set(grave["doubts"][0]), {"rule", "names", "text", "value", "limit", "grave"})

    def test_report_and_list(self) -> None:
        measured, known = self.files()
        report, out = str(self.folder / "r.html"), str(self.folder / "o.csv")
        code, text, _ = run("fit", measured, known, "--check", "T-01", "--report", report, "--out", out)
        self.assertEqual(code, 0)
        self.assertIn("shift and turn", text)
        html = Path(report).read_text(encoding="utf-8")
        page = _Page()
        page.feed(html)
        self.assertEqual(page.open, [])
        self.assertEqual(page.outside, [], "nothing is loaded from elsewhere")
        self.assertIn("<svg", html)
        self.assertIn("holding out T-01 as a check", html)
        again = self.json(out, known, "--horizontal", "shift", "--check", "T-01")
        self.assertAlmostEqual(again["horizontal"]["shift_e"], 0.0, delta=1e-3)

    def test_geographic_in_feet_over_a_geoid(self) -> None:
        """State Plane in US survey feet, over EGM96: shifts, coordinates and heights in feet, residuals in
        metres."""
        frame = open_frame(working_frame_spec("EPSG:2278"))
        lat, lon = np.array([29.0, 29.01, 29.005, 28.995]), np.array([-99.0, -99.01, -98.99, -99.005])
        e, n = frame.forward(np.radians(lat), np.radians(lon))
        from fenwind.geodesy.geoid import GeoidGrid

        undulation = GeoidGrid(DATA / "egm96_15.gtx").height(np.radians(lat), np.radians(lon))
        foot = US_SURVEY_FOOT.metres
        measured = self.write(
            "m.csv",
            "name,lat,lon,h\n"
            + "\n".join(
                f"P{i},{a!r},{b!r},150.0"
                for i, (a, b) in enumerate(zip(lat.tolist(), lon.tolist(), strict=True))
            ),
        )
        rows = zip(
            ((e + 3) / foot).tolist(), (n / foot).tolist(), ((150.0 - undulation + 0.25) / foot).tolist(),
            strict=True,
        )  # fmt: skip
        known = self.write(
            "k.csv", "name,e,n,h\n" + "\n".join(f"P{i},{x!r},{y!r},{h!r}" for i, (x, y, h) in enumerate(rows))
        )
        found = self.json(
            measured, known, "--frame", "EPSG:2278", "--geoid", str(DATA / "egm96_15.gtx"), "--check", "P3"
        )
        self.assertEqual(found["horizontal"]["model"], "shift")
        self.assertAlmostEqual(found["horizontal"]["shift_e"], 3 / foot, delta=1e-5)
        self.assertAlmostEqual(found["height"]["shift"], 0.25 / foot, delta=1e-6)
        self.assertLess(abs(found["pairs"][3]["de"]), 1e-6)

    def test_bad_input_is_one_line_and_code_2(self) -> None:
        measured, known = self.files()
        geographic = self.write("g.csv", "name,lat,lon,h\nA,61,8,3\n")
        rows = [
            ((measured, str(self.folder / "none.csv")), "none.csv.*cannot be read"),
            (
                (measured, self.write("b.csv", "name,e,n,h\nA,1,2,3\nB,1,x,3\n")),
                "b.csv, line 3.*column n.*expected a number",
            ),
            ((measured, self.write("d.csv", "name,e,n\nA,1,2\nA,1,2\n")), "line 3.*line 2 already"),
            ((measured, self.write("q.csv", "name,e,n\nQ,1,2\n")), "same name"),
            ((geographic, known), "--frame"),
            ((measured, geographic), "known positions are geographic"),
            ((geographic, known, "--frame", "EPSG:4326"), "not a projected system"),
            ((geographic, known, "--frame", "EPSG:999999"), "not a known coordinate system"),
            ((measured, known, "--geoid", "x.gtx"), "needs a frame"),
            (
                (
                    measured, known, "--frame", "EPSG:25832", "--geoid",
                    str(DATA / "test_vgrid_unsupported_byte.tif"),
                ),
                "geoid grid",
            ),
            ((measured, known, "--pivot", "T-01"), "two names"),
            ((measured, known, "--check", "XX"), "XX is not a pair"),
            ((measured, known, "--tolerance-h", "-1"), "above zero"),
            ((measured, known, "--report", str(self.folder / "no" / "r.html")), "cannot be written"),
        ]  # fmt: skip
        for arguments, words in rows:
            with self.subTest(words):
                code, out, err = run("fit", *arguments, *([] if "--report" in arguments else ["--json"]))
                self.assertEqual((code, out.count("\n") if "--json" in arguments else 0), (2, 0))
                self.assertRegex(err, words)
                self.assertEqual(err.count("\n"), 1)


class _Page(HTMLParser):
    """Open tags must close; src and href may not lead outside."""

    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.outside: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag not in ("meta", "br", "img", "line", "circle", "rect", "path"):
            self.open.append(tag)
        self.outside += [
            v or ""
            for k, v in attrs
            if k in ("src", "href", "xlink:href") and not (v or "").startswith("data:")
        ]

    def handle_endtag(self, tag: str) -> None:
        if self.open and self.open[-1] == tag:
            self.open.pop()


class Others(TempFolder):
    def test_inverse(self) -> None:
        frame = open_frame(working_frame_spec("EPSG:28355"))
        path = self.write(
            "p.csv",
            "name,lat,lon,h\nF,-37 57 03.7203,144 25 29.5244,0\nB,-37 39 10.1561,143 55 "
            "35.3839,0\nC,-37.5,144,\n",
        )
        code, out, _ = run("inverse", path, "F", "B", "--frame", "EPSG:28355", "--json")
        found = json.loads(out)
        self.assertEqual(code, 0)
        # ICSM GDA technical manual: 54 972.271 m and 306°52'05.37".
        self.assertAlmostEqual(found["ellipsoid_distance"], 54972.271, delta=1e-3)
        self.assertAlmostEqual(found["geodetic_azimuth_deg"], 306.86816, delta=3e-6)
        self.assertAlmostEqual(
            found["ground_distance"] * found["combined_factor"], found["grid_distance"], places=6
        )
        e, n = (float(v) for v in frame.forward(*np.radians([-37.5, 144.0])))
        plane = self.write("e.csv", f"name,e,n,h\nC,{e!r},{n!r},\nD,{e + 30!r},{n + 40!r},5\n")
        found = json.loads(run("inverse", plane, "C", "D", "--json")[1])
        self.assertAlmostEqual(found["grid_distance"], 50.0, places=9)
        self.assertEqual(
            [
                found[k]
                for k in ("ellipsoid_distance", "geodetic_azimuth_deg", "ground_distance", "combined_factor")
            ],
            [None] * 4,
        )
        code, _, err = run("inverse", plane, "C", "X")
        self.assertEqual(code, 2)
        self.assertIn("no mark 'X'", err)
        self.assertEqual(run("inverse", plane, "C", "D")[0], 0)

    def test_convert(self) -> None:
        path = self.write("p.csv", "name,lat,lon,h\nA,61.3,8.4,1240\nB,61.31,8.41,\n")
        found = json.loads(run("convert", path, "--from", "EPSG:4937", "--to", "EPSG:25832", "--json")[1])
        e, n = open_frame(working_frame_spec("EPSG:25832")).forward(*np.radians([61.3, 8.4]))
        self.assertAlmostEqual(found["positions"][0]["e"], float(e), places=6)
        self.assertAlmostEqual(found["positions"][0]["n"], float(n), places=6)
        self.assertEqual(
            (found["positions"][0]["h"], found["positions"][1]["h"], found["doubts"]), (1240.0, None, [])
        )
        moving = json.loads(run("convert", path, "--from", "EPSG:7912", "--to", "EPSG:9989", "--json")[1])
        self.assertEqual([d["rule"] for d in moving["doubts"]], ["convert.no-epoch"])
        self.assertEqual(set(moving["positions"][0]), {"name", "lat", "lon", "h"})
        self.assertTrue(moving["operation"])
        code, _, err = run("convert", path, "--from", "EPSG:25832", "--to", "EPSG:4937")
        self.assertEqual((code, "expected name,e,n,h" in err), (2, True))

    def test_compare(self) -> None:
        a = self.write("a.csv", "name,e,n,h\nA,1,2,3\nB,10,20,30\nC,5,5,\nX,0,0,0\n")
        b = self.write("b.csv", "name,e,n,h\nC,5.003,5.004,7\nB,10,20,30.025\nA,1,2,3\nY,0,0,0\n")
        code, out, _ = run("compare", a, b, "--json")
        found = json.loads(out)
        self.assertEqual((code, found["only_a"], found["only_b"], found["over"]), (1, ["X"], ["Y"], ["B"]))
        rows = {r["name"]: r for r in found["differences"]}
        self.assertAlmostEqual(rows["C"]["d"], 0.005, places=12)
        self.assertIsNone(rows["C"]["dh"])
        self.assertAlmostEqual(rows["B"]["dh"], 0.025, places=12)
        self.assertEqual(run("compare", a, b, "--tolerance-v", "0.03")[0], 0)
        self.assertEqual(run("compare", a, self.write("g.csv", "name,lat,lon\nA,1,2\n"))[0], 2)

    def test_frame(self) -> None:
        # ICSM GDA technical manual, Flinders Peak (from memory): k 1.00023056, convergence 1°35'03.65" in
        # size.
        code, out, _ = run("frame", "EPSG:28355", "--at=-37 57 03.7203,144 25 29.5244,1000", "--json")
        found = json.loads(out)
        self.assertEqual(code, 0)
        self.assertAlmostEqual(found["e"], 273741.297, delta=1e-3)
        self.assertAlmostEqual(found["scale_factor"], 1.00023056, delta=0.5e-8)
        self.assertAlmostEqual(found["convergence_deg"], 1 + 35 / 60 + 3.65 / 3600, delta=3e-6)
        self.assertAlmostEqual(found["elevation_factor"], 1 - 1000 / 6.37e6, delta=3e-7)
        self.assertAlmostEqual(
            found["combined_factor"], found["scale_factor"] * found["elevation_factor"], places=12
        )
        self.assertEqual(found["doubts"], [])
        # A southern latitude apart from its option; a place elsewhere; scales that depend on the direction.
        for code, place, rules in (
            ("EPSG:28355", "-37.95,144.42,1000", []),
            ("EPSG:25832", "-33,19,0", ["frame.outside-area"]),
            ("EPSG:3035", "50,10,0", ["frame.not-conformal"]),
        ):
            status, out, _ = run("frame", code, "--at", place, "--json")
            self.assertEqual((status, [d["rule"] for d in json.loads(out)["doubts"]]), (0, rules))
            self.assertEqual("scale_meridian" in json.loads(out), code == "EPSG:3035")
        self.assertEqual(run("frame", "EPSG:28355", "--at", "61.3")[0], 2)
        self.assertEqual(run("frame", "EPSG:4326", "--at", "61.3,8.4,5")[0], 2)

    def test_runs_as_a_module_without_qt(self) -> None:
        """Everything but the desk imports and works where Qt is not installed."""
        code = "import sys; sys.modules['PySide6'] = None; import pkgutil, importlib, fenwind\n"
        code += "for m in pkgutil.walk_packages(fenwind.__path__, 'fenwind.'):\n"
        code += (
            "    if not m.name.startswith('fenwind.desk') and not m.name.endswith('__main__'): "
            "importlib.import_module(m.name)\n"
        )
        subprocess.run([sys.executable, "-c", code], check=True)
        done = subprocess.run(
            [sys.executable, "-m", "fenwind", "--version"], capture_output=True, text=True, check=True,
            env=dict(os.environ),
        )  # fmt: skip
        self.assertIn("fenwind", done.stdout)


class Move(TempFolder):
    PAIRS = "name,from_e,from_n,from_h,to_e,to_n,to_h\nA,0,0,10,1000,2000,10.5\nB,100,0,,1000,1900,\n"
    FILE = "name,e,n,h\nA,0,0,10\nP,50,20,3\nQ,1,1,\nB new,1000,1900,7\nFIX,5,5,5\n"

    def go(self, *options: str) -> tuple[int, dict, list[str]]:
        pairs, file = self.write("pairs.csv", self.PAIRS), self.write("file.csv", self.FILE)
        code, out, err = run("move", file, pairs, "--out", self.path("out.csv"), "--json", *options)
        self.assertEqual(err, "")
        return code, json.loads(out), Path(self.path("out.csv")).read_text().splitlines()

    def test_a_quarter_turn_by_hand(self) -> None:
        """A turn of 90 degrees clockwise: (e, n) becomes (1000 + n, 2000 - e)."""
        _, got, lines = self.go("--stay", "FIX", "--height", "shift")
        self.assertEqual((got["moved"], got["stayed"]), (["A", "P", "Q"], ["B new", "FIX"]))
        self.assertAlmostEqual(got["horizontal"]["rotation_deg"], 90.0)
        self.assertEqual(got["horizontal"]["scale"], 1.0)
        self.assertEqual(lines[2], "P,1020.000000,1950.000000,3.500000")
        self.assertEqual(lines[3], "Q,1001.000000,1999.000000,")
        self.assertEqual(
            lines[4:6], ["B new,1000.000000,1900.000000,7.000000", "FIX,5.000000,5.000000,5.000000"]
        )
        self.assertEqual(got["distances"], [{"a": "A", "b": "B", "from": 100.0, "to": 100.0}])
        _, untouched, _ = self.go("--pivot", "B,A")
        self.assertEqual([p["h"] for p in untouched["positions"]], [10, 3, None, 7, 5])

    def test_backwards_and_in_words(self) -> None:
        self.go("--height", "shift")
        _, out, _ = run(
            "move", self.path("out.csv"), self.path("pairs.csv"), "--out", self.path("back.csv"), "--back",
            "--height", "shift",
        )  # fmt: skip
        self.assertEqual(
            Path(self.path("back.csv")).read_text().splitlines()[2], "P,50.000000,20.000000,3.000000"
        )
        for words in ("turn 90°00'00.000\"", "A - B", "moved 5, stayed 0"):
            self.assertIn(words, out)
        _, out, _ = run(
            "move", self.path("file.csv"), self.path("pairs.csv"), "--out", self.path("s.csv"),
            "--horizontal", "scale",
        )  # fmt: skip
        self.assertIn("say why with --reason", out)

    def test_what_else_a_list_holds_is_kept(self) -> None:
        text = "n;Pt.;e;colour;h;sh\n0,5;A;2;red;10;0,004\n1;=B;3;;;\n"
        pairs = self.write("pairs.csv", self.PAIRS)
        run("move", self.write("f.csv", text), pairs, "--out", self.path("o.csv"))
        lines = Path(self.path("o.csv")).read_text().splitlines()
        self.assertEqual(lines[0], "n;Pt.;e;colour;h;sh")
        self.assertRegex(lines[1], r"^1998,000000;A;1000,500000;red;10,000000;0,00\d+$")
        self.assertEqual(lines[2], "1997,000000;'=B;1001,000000;;;")

    def test_a_drawing_moves_as_well(self) -> None:
        import ezdxf

        drawing = ezdxf.new()
        drawing.modelspace().add_line((0, 0), (100, 0))
        drawing.modelspace().add_line((0, 0), (50, 20), dxfattribs={"layer": "frame"})
        drawing.saveas(self.path("d.dxf"))
        pairs = self.write("pairs.csv", self.PAIRS)
        _, out, _ = run(
            "move", self.path("d.dxf"), pairs, "--out", self.path("o.dxf"), "--stay", "frame", "--json"
        )
        got = json.loads(out)
        self.assertEqual((len(got["moved"]), len(got["stayed"]), got["kinds"]), (1, 1, {"LINE": 1}))
        line = ezdxf.readfile(self.path("o.dxf")).modelspace()[0]
        self.assertTrue(line.dxf.end.isclose((1000, 1900)))

    def test_units_of_file_and_pairs_are_read_alike(self) -> None:
        """The quarter turn above with heads in feet: whichever of the two says so, P comes to one place."""
        feet = self.PAIRS.replace("_e", "_e (ft)").replace("_n", "_n (ft)").replace("_h", "_h (ft)")
        metres = "name,e (m),n (m),h (m)\nP,15.24,6.096,3\n"
        for pairs, file, place, units in (
            (self.PAIRS, "name,e (ft),n (ft)\nP,50,20\n", (1020.0, 1950.0), ("ft", None)),
            (feet, "name,e,n\nP,50,20\n", (1020.0, 1950.0), ("ft", "ft")),
            (feet, metres, (1020.0 * 0.3048, 1950.0 * 0.3048), ("m", "ft")),
            (self.PAIRS, "name,e,n\nP,50,20\n", (1020.0, 1950.0), (None, None)),
        ):
            with self.subTest(pairs=pairs[:12], file=file[:12]):
                paths = self.write("f.csv", file), self.write("p.csv", pairs)
                _, out, _ = run("move", *paths, "--out", self.path("o.csv"), "--json")
                got = json.loads(out)
                self.assertEqual((got["units"]["file"], got["units"]["pairs"]), units)
                self.assertAlmostEqual(got["positions"][0]["e"], place[0])
                self.assertAlmostEqual(got["positions"][0]["n"], place[1])
                written = Path(self.path("o.csv")).read_text().splitlines()[1]
                self.assertTrue(written.startswith(f"P,{place[0]:.6f},{place[1]:.6f}"), written)
                self.assertEqual(got["columns"]["e"], file.split(",")[1])

    def test_a_drawing_moves_in_the_unit_it_states(self) -> None:
        import ezdxf

        feet = self.PAIRS.replace("_e", "_e (ft)").replace("_n", "_n (ft)").replace("_h", "_h (ft)")
        for units, pairs, end in ((6, feet, 0.3048), (2, feet, 1.0), (2, self.PAIRS, 1.0), (0, feet, 1.0)):
            drawing = ezdxf.new(units=units)
            drawing.modelspace().add_line((0, 0), (100 * end, 0))
            drawing.saveas(self.path("d.dxf"))
            run("move", self.path("d.dxf"), self.write("p.csv", pairs), "--out", self.path("o.dxf"), "--json")
            line = ezdxf.readfile(self.path("o.dxf")).modelspace()[0]
            self.assertTrue(line.dxf.end.isclose((1000 * end, 1900 * end)), (units, pairs[:14], line.dxf.end))

    def test_bad_input_is_refused_in_one_line(self) -> None:
        file, pairs = self.write("file.csv", self.FILE), self.write("pairs.csv", self.PAIRS)
        out = self.path("o.csv")
        cases = [
            (
                ("move", file, self.write("p1.csv", "name,from_e\nA,1\n"), "--out", out),
                "no column for from_n and to_e",
            ),
            (
                ("move", file, self.write("p2.csv", self.PAIRS + "A,1,2,,3,4,\n"), "--out", out),
                "line 4: column name: 'A'",
            ),
            (
                ("move", file, self.write("p3.csv", self.PAIRS.replace("100,0", "1oo,0")), "--out", out),
                "line 3: column from_e: '1oo'",
            ),
            (("move", file, pairs, "--out", file), "a file the command reads"),
            (("move", self.path("none.csv"), pairs, "--out", file), "none.csv: cannot be read"),
            (("move", file, pairs, "--out", out, "--stay", "NOBODY"), "no mark 'NOBODY'"),
            (("move", file, pairs, "--out", out, "--pivot", "A"), "two names"),
            (
                ("move", self.write("g.csv", "name,lat,lon\nA,1,2\n"), pairs, "--out", out),
                "cannot be moved by a plane fit",
            ),
            (
                ("move", self.write("bad.dxf", "0\nSECTION"), pairs, "--out", self.path("o.dxf")),
                "bad.dxf: the drawing cannot be read",
            ),
        ]
        for arguments, words in cases:
            with self.subTest(words):
                code, printed, err = run(*arguments)
                self.assertEqual((code, printed, err.count("\n")), (2, "", 1))
                self.assertIn(words, err)
