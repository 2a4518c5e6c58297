"""Setups and traverses in a frame that counts westwards and southwards, in feet: every coordinate, difference
and length on the desk, in the trail and in the reports is in its order, with its signs and in its unit."""

import math
import re

import numpy as np

from fenwind.geodesy.frames import FrameSpec
from fenwind.job.job import Job
from fenwind.job.steps.outcome import Node
from fenwind.quantities.lengths import FOOT
from fenwind.quantities.numbers import format_fixed
from fenwind.records.lines import TraverseBook
from fenwind.records.records import FrameRecord, GivenPosition, Mark
from fenwind.records.setups import Setup
from fenwind.reports.kinds import report_of
from fenwind.reports.model import Figure, Table
from fenwind.reports.trail import trail
from tests.desk.qt_case import QtTestCase

E0, N0 = 9_500.0, -3_309_000.0  # true easting and northing
PLACES = {"A": (0.0, 0.0), "B": (-80.0, 310.0), "C": (410.0, 150.0), "D": (260.0, -120.0), "S": (150.0, 90.0)}


def feet(metres: float, decimals: int, sign: bool = False) -> str:
    return format_fixed(metres / FOOT.metres, decimals, sign=sign)


def bearing(a: tuple[float, float], b: tuple[float, float]) -> float:
    return math.atan2(b[0] - a[0], b[1] - a[1])


class Westing(QtTestCase):
    def setUp(self) -> None:
        super().setUp()
        at = PLACES["S"]
        targets = ("A", "B", "C", "D")
        setup = Setup(
            id="s1", name="Setup 1", frame="f", station="s", target=tuple(t.lower() for t in targets),
            direction_rad=tuple(bearing(at, PLACES[t]) % (2 * math.pi) for t in targets),
            zenith_rad=(None,) * 4, target_height_m=(0.0,) * 4, prism_m=(0.0,) * 4, face=(1,) * 4,
            distance_m=tuple(math.dist(at, PLACES[t]) for t in targets), heights=False, grid=False,
            use=((3, "check"),),
        )  # fmt: skip
        # From A, turned to B, over P to C, which it misses by 15 mm east and 24 mm south.
        p = (200.0, 260.0)
        end = (PLACES["C"][0] + 0.015, PLACES["C"][1] - 0.024)
        book = TraverseBook(
            id="t1", name="Traverse 1", frame="f", here=("a", "p"), there=("p", "c"), kind=("right", "right"),
            direction_rad=(
                bearing(PLACES["A"], p) - bearing(PLACES["A"], PLACES["B"]),
                bearing(p, end) - bearing(p, PLACES["A"]),
            ),
            distance_m=(math.dist(PLACES["A"], p), math.dist(p, end)), dh_m=(None, None), back="b", close="c",
            grid=False,
        )  # fmt: skip
        given = {n: xy for n, xy in PLACES.items() if n != "S"} | {"D": (260.020, -120.035)}
        records = [
            FrameRecord(id="f", spec=FrameSpec(name="Lo31", crs="EPSG:2054", unit="ft")),
            *(Mark(id=n.lower(), name=n) for n in (*PLACES, "P")),
            *(GivenPosition(id=f"g{n}", mark=n.lower(), frame="f", e_m=E0 + e, n_m=N0 + m,
                            height_m=120.0 if n == "A" else None)
              for n, (e, m) in given.items()),
            setup, book,
        ]  # fmt: skip
        path = self.folder / "lo.fenwind"
        Job.create(path, "Lo", records, frame="f").close()
        self.w = self.open(str(path))
        self.w.show_stage("Setups")
        self.page, self.b = self.w.pages["Setups"], self.w.bridge

    def cells(self, sheet: object, key: str) -> tuple[str, str, list[str]]:
        table = sheet.table.records  # type: ignore[attr-defined]
        column = next(c for c in table.columns if c.key == key)
        return column.title, column.unit, [column.text(row) for row in table.rows]

    def report(self, kind: str, key: str):
        found = report_of(self.b.state, self.b.derived, self.b.findings, Node(kind, key))
        assert found is not None
        return found

    def table(self, report, title: str) -> Table:
        section = next(s for s in report.sections if s.title == title)
        return next(b for b in section.blocks if isinstance(b, Table))

    def test_a_setup(self) -> None:
        s = self.page.setups
        y, x = -(E0 + PLACES["S"][0]), -(N0 + PLACES["S"][1])
        self.assertTrue(s.verdict.text().startswith(f"It stands at Y {feet(y, 3)}   X {feet(x, 3)} ft ("))
        # The check is observed 20 mm west and 35 mm north of where it is given.
        self.assertEqual(self.cells(s, "d0"), ("ΔY", "mm", ["", "", "", "+20.0"]))
        self.assertEqual(self.cells(s, "d1"), ("ΔX", "mm", ["", "", "", "−35.0"]))
        report = self.report("setup", "s1")
        self.assertIn(f": Y {feet(y, 4)}, X {feet(x, 4)} ft; ", report.statement)
        table = self.table(report, "Sightings")
        place = [title for title, _ in table.headers].index("slope distance")
        self.assertEqual([table.headers[k][1] for k in (place, place + 1, place + 3)], ["ft"] * 3)
        self.assertEqual(table.rows[0][place], feet(math.dist(PLACES["S"], PLACES["A"]), 4))
        self.assertEqual(table.rows[0][place + 3], feet(math.dist(PLACES["S"], PLACES["A"]), 4))

    def test_a_traverse(self) -> None:
        t = self.page.traverses
        self.page.show_sheet(t)
        length = feet(sum(t.book.distance_m), 3)
        self.assertIn(f"It misses by Y −15.0, X +24.0 mm: 28.3 mm on {length} ft", t.verdict.text())
        found = t.found().found
        way = -(found.adjusted - found.unadjusted)[:2, 1] * 1000.0
        self.assertGreater(np.abs(way).min(), 1.0)
        y, x = (format_fixed(float(v), 1, sign=True) for v in way)
        title, unit, cells = self.cells(t, "moved0")
        self.assertEqual((title, unit, cells[0]), ("ΔY", "mm", y))
        bar = next(c for c in t.table.records.columns if c.key == "moved0").bar(t.table.records.rows[0])
        self.assertEqual(math.copysign(1.0, bar), math.copysign(1.0, way[0]), "a bar points as its figure")
        links = trail(self.b.state, self.b.derived, self.b.state.marks["p"], "f", FOOT, self.b.axes)
        self.assertEqual(links[0].values[-1], f"adjusted by  Y {y}  X {x} mm")
        report = self.report("traverse", "t1")
        rows = {row[0]: row[1] for row in self.table(report, "Misclosures").rows}
        self.assertEqual((rows["Y"], rows["X"]), ("−15.0 mm", "+24.0 mm"))
        self.assertTrue(rows["of the length"].endswith(f"of {length} ft"))
        figure = next(b for s in report.sections for b in s.blocks if isinstance(b, Figure))
        bar, unit = re.search(r">([\d\u2009]+) (\w+)</text>", figure.svg).groups()  # type: ignore[union-attr]
        wide = float(re.search(r"m0 3h([\d.]+)m", figure.svg)[1])  # type: ignore[index]
        legs = [[float(v) for v in m] for m in re.findall(
            r'<line x1="([\d.]+)" y1="([\d.]+)" x2="([\d.]+)" y2="([\d.]+)"', figure.svg)]  # fmt: skip
        pixels = math.hypot(legs[0][2] - legs[0][0], legs[0][3] - legs[0][1])
        self.assertEqual((unit, bar[0] in "125", 40.0 < wide <= 120.0), ("ft", True, True))
        control = self.table(report, "Control")
        self.assertEqual(
            [row[2:4] for row in control.rows if row[0] == "B"],
            [(feet(-E0 - PLACES["B"][0], 4), feet(-N0 - PLACES["B"][1], 4))],
        )
        self.assertAlmostEqual(
            wide / float(bar.replace("\u2009", "")), pixels / t.book.distance_m[0] * FOOT.metres, delta=1e-3
        )
        booked = self.table(report, "As it was booked")
        self.assertEqual([h[1] for h in booked.headers[4:6]], ["ft", "ft"])
        self.assertEqual(booked.rows[0][4], feet(t.book.distance_m[0], 4))

    def test_the_unit_of_a_file_is_said(self) -> None:
        told: list[str] = []
        self.b.told.connect(lambda text, tone: told.append(text))
        path = self.folder / "runs.csv"
        path.write_text("from,to,dh_m,distance_km\nA,B,1.0,0.5\n")
        self.page.show_sheet(self.page.levelling)
        self.assertTrue(self.page.levelling.take(str(path)))
        self.assertEqual(told[-1], "Lengths whose heads state no unit were read as international feet.")
        self.assertEqual(self.cells(self.page.levelling, "dh"), ("dh", "ft", ["+3.2808"]))
        self.assertEqual(self.cells(self.page.levelling, "h1"), ("H to", "ft", [feet(121.0, 4)]))
        runs = self.table(self.report("levelling", self.page.levelling.book.id), "Runs")
        self.assertEqual((runs.headers[2], runs.rows[0][2]), (("dh", "ft"), "+3.2808"))
        path.write_text("from,to,dh,distance_km\nC,D,1.0,0.5\n")
        self.assertTrue(self.page.levelling.take(str(path)))
        self.assertEqual(
            self.page.levelling.verdict.text(),
            "No run leads from control to C, D. Give the height of a mark there.",
        )
