"""Traverses and levelling through the window: what is shown of them, booked by keyboard, put right in the
table, in other units and axes."""

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from fenwind.exchange.line_csv import typed_row
from fenwind.geodesy.frames import FrameSpec
from fenwind.job.gestures import change_frame
from fenwind.job.job import Job
from fenwind.job.line_gestures import book_row
from fenwind.quantities.angles import RAD_PER_GON, RAD_PER_SECOND
from fenwind.records.entries import Gesture, amend
from fenwind.records.lines import LevelBook, TraverseBook
from fenwind.records.records import FrameRecord, GivenPosition, Mark
from fenwind.records.setups import Setup
from tests.desk.qt_case import QtTestCase
from tests.procedures.test_collected import HI, SIGHTS, TRUTH, K, sighted

MINUS = "−"


def shown(value: float, decimals: int, sign: bool = False) -> str:
    return (f"{value:+.{decimals}f}" if sign else f"{value:.{decimals}f}").replace("-", MINUS)


class LinesStage(QtTestCase):
    def setUp(self) -> None:
        super().setUp()
        self.w = self.open()
        self.page, self.b = self.w.pages["Setups"], self.w.bridge
        self.w.actions.run("setups.show.traverses")
        self.sheet = self.page.sheet

    def cells(self, key: str) -> list[str]:
        column = next(c for c in self.sheet.table.records.columns if c.key == key)
        return [column.text(row).replace("\u2009", "") for row in self.sheet.table.records.rows]

    def test_the_traverse(self) -> None:
        s, found = self.sheet, self.sheet.found()
        f = found.found
        self.assertEqual((self.w.stage, self.page.chips[1].text()), ("Setups", "Traverses 1"))
        self.assertEqual(
            s.statement.text(),
            "The traverse Traverse 1 begins at T-07, turned to T-03, and closes on T-08 with the closing "
            "angle 240.0611 gon to T-06; angles balanced, stations by the compass rule, distances as they "
            "were measured, heights by distance; 1:10000 is asked for, of 5″ and 3 mm + 2 ppm.",
        )
        e, n, h = (shown(v * 1000.0, 1, True) for v in f.misclosure)
        self.assertEqual(
            s.verdict.text(),
            f"6 angles miss by {shown(f.angular / RAD_PER_SECOND, 1, True)}″, 24.5″ is allowed. "
            f"It misses by E {e}, N {n}, H {h} mm: {f.linear * 1000.0:.1f} mm on {f.length:.3f} m, "
            f"1:{f.ratio:.0f}; "
            "1:10000 is asked for.",
        )
        legs = [0, 1, 2, 3, None, 4]
        for k, title in enumerate("ENH"):
            moved = f.adjusted[k] - f.unadjusted[k]
            wanted = ["" if i is None else shown(moved[i + 1] * 1000.0, 1, True) for i in legs]
            self.assertEqual(self.cells(f"moved{k}"), wanted, title)
            place = [f.shots[k, 0] if i is None else f.adjusted[k, i + 1] for i in legs]
            self.assertEqual(self.cells(f"place{k}"), [shown(v, 3) for v in place])
            self.assertEqual(
                self.cells(f"before{k}"),
                ["" if i is None else shown(f.unadjusted[k, i + 1], 3) for i in legs],
            )
        self.assertEqual(self.cells("direction")[2], "243.4376 gon")
        self.assertEqual(self.w.plan_pane.plan.scene.lines.shape[1], 6)
        # Northing first, counted south, in feet: the same places, written as the frame writes them.
        self.b.do(change_frame(self.b.state.frames["dam"], "axes", axis_order="NE", unit="ft"))
        titles = [c.title for c in s.table.records.columns if c.key.startswith("place")]
        self.assertEqual(titles, ["N", "E", "H"])
        self.assertEqual(self.cells("place1")[0], shown(f.adjusted[1, 1] / 0.3048, 3))
        self.assertEqual(self.cells("distance")[0], shown(found.book.distance_m[0] / 0.3048, 4))
        bar = next(c for c in s.table.records.columns if c.key == "moved1").bar(s.table.records.rows[3])
        self.assertAlmostEqual(bar, (f.adjusted[1, 4] - f.unadjusted[1, 4]) / (f.length / 10_000.0))
        # Where a system counts south and west, so do places and what they were moved by.
        self.b.do(change_frame(self.b.state.frames["dam"], "axes", crs="EPSG:2053", unit="m"))
        self.choose(s.statement.parts["grid"], "as they were measured")
        f = s.found().found
        titles = {c.key: c.title for c in s.table.records.columns}
        self.assertEqual((titles["place0"], titles["place1"]), ("Y", "X"))
        for k in range(2):
            self.assertEqual(self.cells(f"place{k}")[0], shown(-f.adjusted[k, 1], 3))
            moved = -(f.adjusted[k, 1] - f.unadjusted[k, 1]) * 1000.0
            self.assertEqual(self.cells(f"moved{k}")[0], shown(moved, 1, True))

    def test_put_right_in_the_table_and_by_the_sentence(self) -> None:
        s = self.sheet
        row = s.table.records.rows[2]
        columns = {c.key: c for c in s.table.records.columns}
        self.assertTrue(columns["direction"].edit(row, "243.4736"))
        self.assertAlmostEqual(s.book.direction_rad[2] / RAD_PER_GON, 243.4736)
        self.assertNotIn("traverse", " ".join(d.rule for d in self.b.findings.open))
        self.assertFalse(columns["distance"].edit(row, "-3"))
        self.assertTrue(columns["distance"].edit(row, "200 ft"))
        self.assertAlmostEqual(s.book.distance_m[2], 60.96)
        another = typed_row("V-03, V-12, 50.5, 20, 1", "gon")
        self.b.attempt(lambda: book_row(self.b.state, s.book, another))
        for k in range(2):
            self.assertEqual(self.cells(f"place{k}")[6], shown(s.found().found.shots[k, 1], 3))
        self.b.undo()
        self.assertTrue(columns["dh"].edit(row, ""))
        self.assertIsNone(s.book.dh_m[2])
        for part, entry, field, value in (
            ("method", "by least squares", "method", "lsq"), ("angles", "as booked", "balance", False),
            ("heights", "by set-ups", "heights_by", "setups"),
            ("grid", "as they were measured", "grid", False), ("close", "stays open", "close", ""),
        ):  # fmt: skip
            with self.subTest(part=part):
                self.choose(s.statement.parts[part], entry)
                self.assertEqual(getattr(s.book, field), value)
        self.assertIn("It is open", s.verdict.text())
        for part, text, field, value in (
            ("back", "100", "start_azimuth_rad", 100 * RAD_PER_GON), ("back", "T-04", "back", "T-04"),
            ("spec", "1:20000", "spec", 20000.0), ("sigmas", "3, 2, 1", "sigma_angle_s", 3.0),
            ("sigmas", "3, 7, 1", "sigma_distance_m", 0.007),
        ):  # fmt: skip
            with self.subTest(part=part, text=text):
                QTest.mouseClick(s.statement.parts[part], Qt.MouseButton.LeftButton)
                s.ask.edit.setText("nonsense")
                QTest.keyClick(s.ask.edit, Qt.Key.Key_Return)
                self.assertTrue(s.ask.isVisible(), "what will not do is asked for again")
                s.ask.edit.setText(text)
                QTest.keyClick(s.ask.edit, Qt.Key.Key_Return)
                self.assertFalse(s.ask.isVisible())
                self.assertAlmostEqual(getattr(s.book, field), value) if isinstance(
                    value, float
                ) else self.assertEqual(getattr(s.book, field), value)

    def test_booked_by_keyboard(self) -> None:
        s = self.sheet
        self.w.actions.run("traverses.start")
        for text in ("T-07, N-1, 230.5, 101.5, -2.5", "N-1, N-2, left 190.25, 80.25, 1"):
            s.ask.edit.setText(text)
            QTest.keyClick(s.ask.edit, Qt.Key.Key_Return)
        self.assertEqual(s.ask.edit.text(), "N-2, ")
        s.ask.edit.setText("N-2, N-3, what, 4")
        QTest.keyClick(s.ask.edit, Qt.Key.Key_Return)
        self.assertEqual((len(s.book.here), s.ask.edit.text()), (2, "N-2, N-3, what, 4"))
        QTest.keyClick(s.ask.edit, Qt.Key.Key_Escape)
        self.assertIn("has no start line", s.verdict.text())
        QTest.mouseClick(s.statement.parts["back"], Qt.MouseButton.LeftButton)
        QTest.keyClicks(s.ask.edit, "T-03")
        QTest.keyClick(s.ask.edit, Qt.Key.Key_Return)
        self.assertIn("It is open: 181.750 m that nothing checks.", s.verdict.text())
        s.table.selectRow(1)
        self.w.actions.run("traverses.drop")
        self.assertEqual(len(s.book.here), 1)
        self.choose(s.statement.parts["traverse"], "Traverse 1")
        self.assertEqual(len(s.book.here), 6)
        path = self.folder / "b.csv"
        path.write_text("from,to,direction_kind,direction_dms,distance\nT-08,N-4,right,90,10\n")
        self.assertTrue(s.take(str(path)))
        self.assertTrue(s.ask.isVisible(), "what was sighted back to is asked for")
        self.assertEqual(len(self.b.state.of(TraverseBook)), 3)

    def test_levelling(self) -> None:
        self.w.actions.run("setups.show.levelling")
        self.sheet = s = self.page.sheet
        found = s.found().found
        self.assertEqual(
            s.statement.text(),
            "Heights of Levelling 1 in Dam grid 1968, holding T-01, T-02, T-03; a run is good to 1.0 mm, a "
            "loop may miss by 4.0 mm a root km.",
        )
        loop = "T-03 – P-03 – T-02 misses by −1.8 mm on 0.954 km, 3.9"
        self.assertTrue(s.verdict.text().startswith(loop))
        self.assertEqual(self.cells("v"), [shown(v * 1000.0, 2, True) for v in found.residuals_m])
        bar = next(c for c in s.table.records.columns if c.key == "v").bar(s.table.records.rows[3])
        self.assertAlmostEqual(bar, found.residuals_m[3] / (0.004 * s.book.length[3] ** 0.5))
        heights = dict(zip(found.names, found.height_m, strict=True))
        sigmas = dict(zip(found.names, found.sigma_m, strict=True))
        for key, names in (("h0", self.cells("first")), ("h1", self.cells("second"))):
            self.assertEqual(self.cells(key), [shown(heights[n], 4) for n in names])
        self.assertEqual(self.cells("sigma"), [shown(sigmas[n] * 1000.0, 1) for n in self.cells("second")])
        s.table.selectRow(3)
        self.w.actions.run("levelling.off")
        self.assertEqual(s.book.off, (3,))
        self.assertEqual(self.cells("v")[3], "")
        s.table.selectRow(3)
        self.w.actions.run("levelling.on")
        self.assertEqual(s.book.off, ())
        self.choose(s.statement.parts["hold"], "hold T-02")
        self.assertEqual((s.book.free, s.found().found.dof), (("T-02",), 6))
        QTest.mouseClick(s.statement.parts["limit"], Qt.MouseButton.LeftButton)
        s.ask.edit.setText("0.5")
        QTest.keyClick(s.ask.edit, Qt.Key.Key_Return)
        self.assertEqual(self.b.state.of(LevelBook)["levelling-1"].limit_m, 0.0005)
        self.assertIn("level.misclosure", [d.rule for d in self.b.findings.open])
        path = self.folder / "r.csv"
        path.write_text("from,to,dh,setups\nT-01,L-9,1.5,3\n")
        self.assertTrue(s.take(str(path)))
        self.assertIn("nothing checks it", s.verdict.text().lower())
        self.assertIn("a root set-up", s.statement.text())
        self.assertEqual(self.page.chips[2].text(), "Levelling 2")
        self.b.do(Gesture("off", (amend(s.book, active=False),)))
        self.assertEqual((s.book.id, self.page.chips[2].text()), ("levelling-1", "Levelling 1"))
        self.assertEqual(list(self.b.derived.of_kind("levelling")), ["levelling-1"])
        self.assertTrue(self.page.chips[2].isChecked())


class Collected(QtTestCase):
    """A traverse out of setups: a plane, sightings of a known truth, by the desk's own gestures."""

    def setUp(self) -> None:
        super().setUp()
        path = str(self.folder / "walk.fenwind")
        frame = FrameRecord(id="f", spec=FrameSpec(name="Plane"))
        marks = [Mark(id=name.lower(), name=name) for name in TRUTH]
        given = [
            GivenPosition(id=f"g{n}", mark=n.lower(), frame="f", e_m=p[0], n_m=p[1], height_m=p[2])
            for n, p in TRUTH.items() if n in ("A", "S1", "S4", "B")
        ]  # fmt: skip
        setups = [self.setup_record(k, here, there) for k, (here, there) in enumerate(SIGHTS.items())]
        Job.create(path, "walk", [frame, *marks, *given, *setups], "f").close()
        self.w = self.open(path)
        self.b, self.page = self.w.bridge, self.w.pages["Setups"]
        self.b.show_stage("Setups")
        self.sheet = self.page.traverses

    def setup_record(self, k: int, here: str, there: tuple[str, ...]) -> Setup:
        shots = [sighted(here, name, 0.3 * k, face) for name in there for face in (1, 2)]
        return Setup(
            id=f"setup{k}", name=f"Setup {k + 1}", frame="f", station=here.lower(), height_m=HI[here], k=K,
            word="known" if here in ("S1", "S4") else "free", target=tuple(s.target.lower() for s in shots),
            direction_rad=tuple(s.direction for s in shots), zenith_rad=tuple(s.zenith for s in shots),
            distance_m=tuple(s.distance for s in shots), target_height_m=(1.3,) * len(shots),
            prism_m=(0.0,) * len(shots), face=tuple(s.face for s in shots),
        )  # fmt: skip

    def test_collect(self) -> None:
        self.assertIn("resect.failed", [d.rule for d in self.b.findings.open])
        self.w.actions.run("traverses.collect")
        self.assertEqual(self.sheet.ask.edit.text(), "Setup 1, Setup 2, Setup 3, Setup 4")
        self.sheet.ask.edit.setText("Setup 1, Setup 9")
        self.sheet.ask.ok.click()
        self.assertIn("here is no setup Setup 9", self.w.line.text())
        self.sheet.ask.edit.setText("Setup 1, setup 2, Setup 3, Setup 4")
        self.sheet.ask.ok.click()
        found = self.sheet.found()
        self.assertEqual(
            self.sheet.statement.text(),
            "The traverse Traverse 1 begins at S1, turned to A, and closes on S4 with the closing angle "
            "184.0112 gon to B; angles as booked, stations by the compass rule, distances as they were "
            "measured, heights by distance; 1:10000 is asked for, of 5\u2033 and 3 mm + 2 ppm.",
        )
        self.assertRegex(
            self.sheet.verdict.text(),
            r"^3 legs were measured both ways: they differ by at most \u22120\.\d mm in distance "
            r"\(S1 to S2\) and \+4\.1 mm in height \(S3 to S4\)\. 4 angles miss by",
        )
        self.assertLess(found.found.linear, 5e-4)
        column = next(c for c in self.sheet.table.records.columns if c.key == "distance")
        self.assertIsNone(column.edit, "the setups hold the readings")
        self.assertEqual([d for d in self.b.findings.open if d.rule.startswith("resect")], [])
        adopted = self.b.derived.adopted["f"]
        for name in ("S2", "S3"):
            row = adopted.index[name]
            self.assertEqual((adopted.basis[row], adopted.why[row]), ("traversed", "Traverse 1"))
            place = (adopted.e_m[row], adopted.n_m[row], adopted.height_m[row])
            for value, truth in zip(place, TRUTH[name], strict=True):
                self.assertAlmostEqual(value, truth, delta=5e-4)
        # A reading put right in its setup moves the traverse; without the setup there is none.
        setup = self.b.state.of(Setup)["setup1"]
        longer = tuple(v + 0.05 for v in setup.distance_m)
        self.b.do(Gesture("x", (amend(setup, distance_m=longer),)))
        self.assertGreater(self.sheet.found().found.linear, 0.03)
        self.b.do(Gesture("x", (amend(self.b.state.of(Setup)["setup2"], active=False),)))
        self.assertIn("is gone", self.sheet.verdict.text())
