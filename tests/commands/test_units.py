"""The same survey told in other units, other delimiters and decimal commas gives the same answers."""

import csv
import io
import math
import unittest
from typing import Any

from fenwind.exchange.list_units import column_of
from tests.support import CommandCase

FOOT = 1200.0 / 3937.0
#: Columns by what they hold; all others are as they stand.
LENGTHS = {"e", "n", "h", "distance", "dh", "sd", "hi", "ht", "dx", "dy", "dz", "sh", "sv", "value", "sigma",
           "from_e", "from_n", "to_e", "to_n"}  # fmt: skip
SQUARES = {"sxx", "sxy", "sxz", "syy", "syz", "szz"}
ANGLES = {"direction_dms": "direction", "hz_deg": "hz", "za_deg": "za", "lat": "lat", "lon": "lon"}
#: Keys of answers in the power of the unit, under any other key a number is the same in every unit.
SQUARED = {"covariance"}
TOLD = {"e", "n", "h", "x", "y", "z", "a", "b", "v", "d", "de", "dn", "dh", "se", "sn", "sh", "sv", "v_d",
        "v_h", "sigma", "misclosure", "misclosure_e", "misclosure_n", "misclosure_h", "length", "limit",
        "external", "difference", "shift", "shift_e", "shift_n", "e0", "n0", "loo_h", "loo_v", "move",
        "grid_distance", "ellipsoid_distance", "ground_distance", "from", "to"}  # fmt: skip

MARKS = "name,e,n,h\nA,1000,2000,10\nB,1400,2100,14\nC,1300,1600,22\nD,900,1500,8\n"
GRID = "name,e,n,h\nA,220000,3390000,110\nB,220400,3390100,114\nC,220300,3389600,122\n"
OBS = """kind,at,to,value,sigma,unit,hi,ht
distance,A,P,282.86,0.002,,1.5,1.6
distance,B,P,223.63,0.002,,1.5,1.6
distance,C,P,316.25,0.002,,1.5,1.6
zenith,A,P,89.2,5,dms,1.5,1.6
zenith,B,P,90.3,5,dms,1.5,1.6
height_difference,A,P,4.001,0.002,,,
height_difference,B,P,-0.001,0.002,,,
"""
PLAN = """kind,at,to,sigma,hi,ht
distance,A,P,0.002,1.5,1.6
distance,B,P,0.002,1.5,1.6
distance,C,P,0.002,1.5,1.6
zenith,A,P,5,1.5,1.6
"""
NEW = """name,e,n,h,planned
A,1000,2000,10,
B,1400,2100,14,
C,1300,1600,22,
P,1200,2200,14,yes
"""
LINES = """kind,at,to,dx,dy,dz,sxx,sxy,sxz,syy,syz,szz
vector,A,B,400.001,100.002,4.003,1e-6,0,0,1e-6,0,1e-6
vector,B,C,-100.001,-500.002,8.003,1e-6,0,0,1e-6,0,1e-6
vector,C,A,-300.004,399.997,-12.001,1e-6,0,0,1e-6,0,1e-6
"""
BOOK = """from,to,direction_kind,direction_dms,distance,dh
A,P,right,191.3099325,223.61,2.0
P,C,right,156.8014095,316.23,10.0
"""
SHOTS = """target,hz_deg,za_deg,sd,ht,prism_mm
A,225.0,90.2,282.85,1.5,-30
B,63.4,89.9,223.6,1.5,-30
C,161.6,88.5,316.2,1.5,-30
"""
RUNS = "from,to,dh,distance_km\nA,P,4.001,0.6\nP,B,0.002,0.7\nP,C,8.004,0.5\n"
PAIRS = "name,from_e,from_n,to_e,to_n\nA,1000,2000,5001,8002\nB,1400,2100,5401,8102\nC,1300,1600,5301,7602\n"
#: Verb, its files, options whose numbers are lengths, and other options.
CASES: tuple[tuple[str, tuple[str, ...], tuple[str, ...], tuple[str, ...]], ...] = (
    ("traverse", (BOOK,), ("--start=A,1000,2000,10", "--close=C,1300,1600,22", "--backsight=B,1400,2100"),
     ()),
    ("resect", (SHOTS, MARKS), ("--hi=1.6",), ("--heights",)),
    ("level", (RUNS, "name,h\nA,10\nB,14\nC,22\n"), (), ()),
    ("adjust", (OBS, MARKS), (), ("--plane",)),
    ("adjust", (LINES, MARKS), (), ("--plane", "--free")),
    ("design", (PLAN, NEW), (), ("--plane",)),
    ("loops", (LINES,), (), ()),
    ("epochs", (LINES, LINES.replace("400.001", "400.051"), MARKS), (), ("--plane", "--free")),
    ("fit", (MARKS, MARKS.replace("1000,", "1000.01,")), (), ()),
    ("compare", (MARKS, MARKS.replace("1000,", "1000.01,")), (), ()),
    ("inverse", (GRID, "A", "B"), (), ("--frame", "EPSG:26911")),
    ("ground", (GRID,), ("--offset=1000,2000",), ("--frame", "EPSG:26911")),
    ("convert", (GRID,), (), ("--from", "EPSG:26911", "--to", "EPSG:26910")),
    ("move", (MARKS, PAIRS), (), ("--horizontal", "turn")),
)  # fmt: skip


def retold(text: str, unit: float, gon: bool, heads: str) -> list[list[str]]:
    """A list with lengths in a unit of so many metres and angles in gon; heads: what is put behind those of
    lengths, nothing where they say nothing."""
    rows = list(csv.DictReader(io.StringIO(text)))
    lengths = LENGTHS | SQUARES
    names = {n: ANGLES[n] if n in ANGLES and gon else f"{n}{heads}" if n in lengths else n for n in rows[0]}
    if heads:  # of an angle's row these are no lengths: they keep their names, and the row says its unit
        names |= {n: n for n in ("value", "sigma") if n in names and "kind" in names}
    out = [list(names.values())]
    for row in rows:
        angle = row.get("kind") == "zenith"
        scaled = dict(row)
        for name, cell in row.items():
            if cell and (name in ANGLES or (angle and name == "value")):
                scaled[name] = repr(float(cell) / 0.9) if gon else cell
            elif cell and name in lengths and not (angle and name == "sigma"):
                scaled[name] = repr(float(cell) / (unit**2 if name in SQUARES else unit))
        if "unit" in row:
            scaled["unit"] = (
                ("" if gon else row["unit"]) if angle else heads.strip(" _()") if row["value"] else ""
            )
        if heads and "kind" in row and not angle:
            scaled |= {n: row[n] for n in ("sigma",) if n in row}
        out.append(list(scaled.values()))
    return out


class Units(CommandCase):
    def ask(self, case: Any, unit: float = 1.0, gon: bool = False, heads: str = "", more: Any = (),
            comma: bool = False) -> Any:  # fmt: skip
        verb, files, lengths, options = case
        names = []
        for k, text in enumerate(files):
            if "\n" not in text:
                names.append(text)
                continue
            path = self.folder / f"{k}.csv"
            rows = retold(text, unit, gon, heads)
            lines = [(";" if comma else ",").join(row) for row in rows]
            if comma:
                lines = ["Survey of the dam", "", *(line.replace(".", ",") for line in lines)]
            path.write_text("\n".join(lines) + "\n")
            names.append(str(path))
        typed = []
        for option in lengths:
            word, _, values = option.partition("=")
            parts = (p if p.isalpha() else repr(float(p) / unit) for p in values.split(","))
            typed.append(f"{word}={','.join(parts)}")
        extra = ("--out", str(self.folder / "out.csv")) if verb == "move" else ()
        return self.any_json(verb, *names, *typed, *options, *more, *extra)

    def any_json(self, *arguments: str) -> Any:
        for code in (0, 1):
            try:
                return self.run_json(*arguments, code=code)
            except AssertionError as error:
                last = error
        raise last

    def test_the_same_answers(self) -> None:
        for case in CASES:
            with self.subTest(case[0], options=case[3]):
                plain = self.ask(case)
                if case[0] != "move":  # which tells in the unit of the file
                    # Options carry no unit of their own: metres, as the answer.
                    alone = (case[0], case[1], (), (*case[2], *case[3]))
                    self.alike(plain, self.ask(alone, FOOT, heads="_ftUS"), 1.0)
                    self.alike(plain, self.ask(alone, FOOT, heads=" (ftUS)"), 1.0)
                with self.subTest("--unit"):
                    told = self.ask(case, FOOT, more=("--unit", "ftUS"))
                    self.assertEqual(told.get("unit"), "ftUS")
                    self.alike(plain, told, FOOT)
                with self.subTest("decimal comma"):
                    self.alike(plain, self.ask(case, comma=True), 1.0)
                if set(",".join(text.split("\n")[0] for text in case[1]).split(",")) & {*ANGLES, "value"}:
                    with self.subTest("gon"):
                        self.alike(plain, self.ask(case, gon=True, more=("--angle-unit", "gon")), 1.0)

    def alike(self, one: Any, other: Any, unit: float, key: str = "", angle: bool = False) -> None:
        """Whether `other`, told in a unit of so many metres, says what `one` says in metres."""
        if isinstance(one, dict):
            angle = one.get("kind") in ("zenith", "triangle")
            if set(one) == {"names", "misclosure", "length", "limit"}:  # of levelling: kilometres
                one, other = ({k: v for k, v in told.items() if k != "length"} for told in (one, other))
            for name, value in one.items():
                if name not in ("doubts", "units", "columns", "proj", "wkt", "line", "lines"):
                    self.alike(value, other[name], unit, name, angle)
            self.assertEqual(
                [d["rule"] for d in one.get("doubts", ())], [d["rule"] for d in other.get("doubts", ())]
            )
        elif isinstance(one, list):
            for a, b in zip(one, other, strict=True):
                self.alike(a, b, unit, key, angle)
        elif isinstance(one, float | int) and not isinstance(one, bool):
            length = key in TOLD or (key in ("residual", "mdb") and not angle)
            metres = unit**2 if key in SQUARED else unit if length else 1.0
            if abs(one) > 1e-9 or abs(other) > 1e-9:
                self.assertTrue(
                    math.isclose(one, other * metres, rel_tol=2e-6, abs_tol=2e-8), (key, one, other)
                )
        else:
            self.assertEqual(one, other, key)

    def test_a_frame_in_feet(self) -> None:
        """Coordinates and heights are in the unit of the frame, other lengths in metres, in lists, options
        and answers alike."""
        origin = "+proj=tmerc +lat_0=31 +lon_0=-110 +k=0.9999 +x_0=213360 +y_0=0 +ellps=GRS80"
        book = BOOK.replace("2.0\n", "2.0\n", 1)
        cases = (
            (
                "traverse",
                (book,),
                ("--start=A,1000,2000,10", "--close=C,1300,1600,22", "--backsight=B,1400,2100"),
            ),
            ("resect", (SHOTS, MARKS), ("--heights", "--hi=1.6")),
            ("adjust", (OBS, MARKS), ()),
            ("fit", (MARKS, MARKS.replace("1000,", "1000.01,")), ()),
        )
        for verb, files, options in cases:
            told = []
            for unit, word in ((1.0, "m"), (FOOT, "us-ft")):
                names = []
                for k, text in enumerate(files):
                    rows = retold(text, unit if text.startswith("name") else 1.0, False, "")
                    path = self.folder / f"{k}.csv"
                    path.write_text("\n".join(",".join(row) for row in rows) + "\n")
                    names.append(str(path))
                typed = [
                    ",".join([v.split(",")[0], *(repr(float(p) / unit) for p in v.split(",")[1:])])
                    for v in options
                ] if verb == "traverse" else options  # fmt: skip
                told.append(self.any_json(verb, *names, *typed, "--frame", f"{origin} +units={word}"))
            for one, other in zip(*(self.placed(t) for t in told), strict=True):
                self.assertTrue(
                    math.isclose(one, other * FOOT, rel_tol=1e-9, abs_tol=1e-6), (verb, one, other)
                )

    def placed(self, told: Any) -> list[float]:
        """Coordinates and heights of an answer."""
        places = told.get("adjusted") or told.get("positions") or [told]
        return [one[key] for one in places for key in "enh"]


class Heads(unittest.TestCase):
    def test_names_of_gons(self) -> None:
        for head in ("hz (gon)", "hz_gon", "hz (grad)", "hz_grad"):
            self.assertEqual(column_of(head, ("hz_deg",)), ("hz_deg", "gon"), head)
