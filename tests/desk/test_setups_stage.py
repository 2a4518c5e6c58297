"""The Setups stage through the window: what each sighting leaves over, checks, a file taken in."""

import math
import socket
from unittest import mock

import numpy as np
from PySide6.QtWidgets import QApplication

from fenwind.desk.stages.instrument_panel import InstrumentPanel
from fenwind.devices.instrument import Instrument, InstrumentState
from fenwind.job.gestures import change_frame
from fenwind.job.job import Job
from fenwind.job.setup_gestures import change
from fenwind.job.steps.sightings import air_ppm
from fenwind.quantities.angles import RAD_PER_GON, RAD_PER_SECOND
from fenwind.records.entries import Gesture, amend
from fenwind.records.setups import Air, Setup
from fenwind.records.tools import TapedDistance
from tests.desk.qt_case import QtTestCase

SHOTS = "target,hz_deg,za_deg,sd,ht,prism_mm\nT-04,10.0,90.2,300.0,1.3,0\nT-09,80.0,89.0,310.0,1.3,0\n"


class SetupsStage(QtTestCase):
    own_windows = True

    def setUp(self) -> None:
        super().setUp()
        self.w = self.open()
        self.w.show_stage("Setups")
        self.page, self.b = self.w.pages["Setups"].setups, self.w.bridge

    def cells(self, key: str) -> list[str]:
        column = next(c for c in self.page.table.records.columns if c.key == key)
        return [column.text(row) for row in self.page.table.records.rows]

    def test_the_free_setup(self) -> None:
        page, found = self.page, self.page.found()
        self.assertEqual(
            page.statement.text(),
            "The instrument at St-1 is placed by what it sighted in ETRS89 / UTM 32N, 0.000 m high, heights "
            f"too, distances to the grid by {found.factor:.7f}, targets held, scale 1, air not corrected "
            "for.",
        )
        self.assertIn("8 left over", page.verdict.text())
        self.assertEqual(self.cells("part"), ["known"] * 3 + ["check", "known", "new", "new"])
        for k, unit in enumerate((RAD_PER_SECOND, 0.001, 0.001)):
            wanted = [f"{v / unit:+.1f}".replace("-", "−") for v in found.found.residuals[k]]
            shown = [t for t in self.cells(f"v{k}") if t]
            nought = ("−0.0", "+0.0")
            self.assertEqual(shown, ["0.0" if t in nought else t for t in wanted])
        away = (found.shots.position[:, 3] - found.known["T-09"].at) * 1000.0
        for k in range(3):
            self.assertEqual(self.cells(f"d{k}")[3], f"{away[k]:+.1f}".replace("-", "−"))
        self.assertIn(
            f"The check on T-09 misses by {float(np.hypot(*away[:2])):.1f} mm in plan, "
            f"{abs(away[2]):.1f} mm in",
            page.verdict.text(),
        )
        self.assertEqual(self.cells("p2")[5].replace("\u2009", ""), f"{found.shots.position[2, 5]:.3f}")
        self.assertEqual(self.w.plan_pane.plan.scene.lines.shape[1], 7)
        self.b.do(change_frame(self.b.state.frames["map"], "northing first", axis_order="NE"))
        titles = [c.title for c in page.table.records.columns if c.key[0] == "p" and c.key[1:].isdigit()]
        self.assertEqual(titles, ["N", "E", "H"])
        for k in range(2):
            self.assertEqual(
                self.cells(f"p{k}")[5].replace("\u2009", ""), f"{found.shots.position[k, 5]:.3f}"
            )

    def test_an_azimuth_turns_the_circle(self) -> None:
        page, b = self.page, self.b
        self.w.actions.run("setups.azimuth")  # nothing is selected, nothing is asked
        self.assertFalse(page.ask.isVisible())
        page.table.setCurrentIndex(page.table.proxy.index(6, 1))
        self.w.actions.run("setups.azimuth")
        for text in ("far", "158.3451 gon"):
            page.ask.edit.setText(text)
            page.ask.ok.click()
        self.assertAlmostEqual(dict(b.state.of(Setup)["setup-1"].azimuths)[6], 158.3451 * RAD_PER_GON, 12)
        self.assertEqual(self.cells("part")[5:], ["new", "azimuth"])
        self.assertTrue(self.cells("v0")[6] and not self.cells("v1")[6], "its direction alone takes part")
        self.assertEqual(page.found().found.dof, 9)
        self.w.actions.run("setups.azimuth")
        page.ask.edit.setText("")
        page.ask.ok.click()
        self.assertEqual(b.state.of(Setup)["setup-1"].azimuths, ())

    def test_instruments_are_kept_and_distances_taped(self) -> None:
        page, b, run = self.page, self.b, self.w.actions.run
        run("setups.with")
        self.assertIn("No instrument is kept yet", self.w.line.text())
        run("setups.keep")
        page.ask.edit.setText("TS-7")
        page.ask.ok.click()
        self.assertEqual(page.caption.text(), "SETUP 1 · TS-7")
        page.look_at("setup-2")
        run("setups.with")
        self.assertEqual(page.ask.edit.text(), "TS-7")
        page.ask.ok.click()
        self.assertEqual(page.caption.text(), "SETUP 2 · TS-7")
        self.assertIn("Observed with TS-7", b.undo_text or "")
        run("setups.tape")
        for text in ("T-04, T-09", "T-04, T-09, 700.1, h"):
            page.ask.edit.setText(text)
            page.ask.ok.click()
        (taped,) = b.state.of(TapedDistance).values()
        self.assertEqual((taped.length_m, taped.slope), (700.1, False))

    def test_what_sightings_do_and_where_it_stands(self) -> None:
        page, b = self.page, self.b
        before = page.found().found.e
        page.table.setCurrentIndex(page.table.proxy.index(0, 1))
        self.w.actions.run("setups.off")
        self.assertEqual(dict(b.state.of(Setup)["setup-1"].use)[0], "off")
        self.assertNotEqual(page.found().found.e, before)
        b.undo()
        self.assertEqual(page.found().found.e, before)
        self.w.actions.run("setups.plan")
        self.assertEqual(self.cells("part")[0], "known, plan")
        b.undo()
        self.choose(page.statement.parts["scale"], "scale estimated and only shown")
        f = page.found().found
        ppm = f"{(f.scale - 1.0) * 1e6:+.1f} ± {f.sigma_scale * 1e6:.1f} ppm".replace("-", "−")
        self.assertIn(f"its distances are off by {ppm}", page.verdict.text())
        b.undo()
        page._toggle(page.table.records.rows[3])
        self.assertEqual(self.cells("part")[3], "left out")
        self.choose(page.statement.parts["grid"], "as they were measured")
        self.assertIn("distances as they were measured", page.statement.text())
        self.choose(page.statement.parts["setup"], "Setup 2, P-12")
        self.assertIn("The instrument at P-12 stands on a known mark", page.statement.text())
        self.choose(page.statement.parts["heights"], "in plan alone")
        self.assertIn("in plan alone", page.statement.text())
        page.statement.parts["height"].click()
        for text, kept in (("tall", False), ("1.6", True)):
            page.ask.edit.setText(text)
            page.ask.ok.click()
            self.assertEqual(page.ask.isHidden(), kept)
        self.assertEqual(b.state.of(Setup)["setup-2"].height_m, 1.6)
        self.choose(page.statement.parts["scale"], "scale estimated and only shown")
        self.assertEqual(b.state.of(Setup)["setup-2"].scale, "show")
        page.statement.parts["air"].click()
        page.ask.edit.setText("30, 900")
        page.ask.ok.click()
        shown = f"{air_ppm(b.state.of(Setup)['setup-2'].air):+.1f}"
        self.assertIn(f"air 30 °C, 900 hPa, 60 %: {shown} ppm", page.statement.text())
        self.choose(page.statement.parts["targets"], "targets by their weights")
        self.assertEqual(b.state.of(Setup)["setup-2"].targets, "weighted")
        b.do(change_frame(b.state.frames[b.frame_id], "feet", unit="ft"))
        self.assertIn("5.249 ft high", page.statement.text())
        page.statement.parts["height"].click()
        page.ask.edit.setText("5")
        page.ask.ok.click()
        self.assertEqual(b.state.of(Setup)["setup-2"].height_m, 1.524)

    def test_a_file_is_taken_in(self) -> None:
        page, b = self.page, self.b
        path = self.folder / "shots.csv"
        path.write_text(SHOTS.replace("300.0", "far"))
        page.ask_station(str(path))
        page.ask.edit.setText("N-1, 1.55")
        page.ask.ok.click()
        self.assertIn("line 2: column sd", self.w.line.text())
        path.write_text(SHOTS)
        page.ask.edit.setText("N-1, 1.55")
        page.ask.ok.click()
        self.assertTrue(page.ask.isHidden())
        setup = list(b.state.of(Setup).values())[-1]
        self.assertEqual((setup.height_m, setup.word, setup.frame), (1.55, "free", b.frame_id))
        self.assertEqual(b.state.marks[setup.station].name, "N-1")
        self.assertIn("The instrument at N-1", page.statement.text())

    def test_field_work_out_and_in(self) -> None:
        """Written as LandXML and as a field book, each taken in again: the same setups, under new names."""
        page, b = self.page, self.b
        first = b.state.of(Setup)["setup-1"]
        air, many = Air(temperature_c=30.0, pressure_hpa=900.0), len(first.target)
        b.do(change(first, "x", air=air, round=(1,) * many, time=("2026-05-04T08:00:00Z",) * many))
        known = [s for s in b.state.of(Setup).values() if s.active]
        for name in ("work.xml", "work.csv"):
            path = str(self.folder / name)
            self.assertTrue(page.write_to(path))
            self.assertIn(f"{len(known)} setups written to", self.w.line.text())
            before = len(b.state.of(Setup))
            page.open_file(path)
            fresh = list(b.state.of(Setup).values())[before:]
            self.assertEqual(len(fresh), len(known), name)
            for old, new in zip(known, fresh, strict=True):
                self.assertEqual((new.station, new.target, new.face), (old.station, old.target, old.face))
                self.assertAlmostEqual(new.height_m, old.height_m, 4)
                for a, c, p, q in zip(old.distance_m, new.distance_m, old.prism_m, new.prism_m, strict=True):
                    if a is not None and c is not None:
                        longer = 1.0 if old.air is None else 1.0 + air_ppm(air) * 1e-6
                        self.assertAlmostEqual(a * longer + p, c + q, 4)
                if name.endswith("csv"):
                    self.assertEqual((any(new.round), any(new.time)), (any(old.round), any(old.time)))
            b.undo()
        self.assertFalse(page.write_to(str(self.folder / "nowhere" / "work.xml")))
        page.open_file(str(self.folder / "nothing.xml"))
        self.assertTrue(page.ask.isHidden())


class WithAnInstrument(QtTestCase):
    """With a stand-in in a process of its own, through the window."""

    own_windows = True

    def setUp(self) -> None:
        super().setUp()
        self.w = self.open()
        self.w.show_stage("Setups")
        self.b, self.page = self.w.bridge, self.w.pages["Setups"].setups
        self.b.do(Gesture("x", (amend(self.b.state.info, frame="map"),)))
        self.panel, self.live, self.standin = self.page.instrument, self.page.live, self.page.standin
        self.w.actions.run("setups.standin")
        self.standin.stands.setCurrentText("P-12")
        self.standin.start.click()
        self.addCleanup(self.standin.stop)
        self.wait_for(lambda: self.live.state is not None and not self.live.doing)

    def carry(self, name: str, told: dict[str, str] | None = None) -> None:
        """Carry the prism to a mark, or tell the stand-in something else, and wait until that is done."""
        done: list[bool] = []
        told = told or {"do": "go", "mark": name}
        self.standin.say("station", then=lambda: done.append(True), **told)
        self.wait_for(lambda: done)

    def sight(self, name: str, carried: str = "") -> None:
        """Carry the prism, name it on the plan, find it and read it."""
        self.carry(carried or name)
        self.b.select(name)
        if self.panel.target != name:  # it was selected before
            self.panel.statement.parts["target"].click()
            self.answer(name)
        for button in ("find", "measure"):
            self.panel.buttons[button].click()
            self.wait_for(lambda: not self.live.doing)
            self.assertEqual(self.live.problem, "")

    def _kept(self) -> dict[str, Setup]:
        job = Job.open(self.b.path, read_only=True)
        self.addCleanup(job.close)
        return job.state.of(Setup)

    def answer(self, text: str) -> None:
        self.page.ask.edit.setText(text)
        self.page.ask.ok.click()

    def test_from_the_tripod_to_a_point_set_out(self) -> None:
        b, panel, before = self.b, self.panel, len(self.b.state.of(Setup))
        panel.buttons["begin"].click()
        self.answer("St-9, 1.6, 99, 1013")
        self.assertIn("temperature of 99", self.w.line.text())
        self.assertIn("its sensors say 6.7, 869, 60", self.page.ask.label.text())
        self.answer("St-9, 1.6")
        self.sight("T-04")
        self.assertIn("1 mark with a distance", panel.result.text())
        key = list(b.state.of(Setup))[-1]
        b.undo()  # the first reading is gone, the instrument still stands
        self.assertEqual(len([s for s in b.state.of(Setup).values() if s.active]), before)
        panel.buttons["measure"].click()
        self.wait_for(lambda: not self.live.doing)
        panel.statement.parts["faces"].click()
        QApplication.activePopupWidget().actions()[1].trigger()
        for name in ("T-08", "T-09"):
            self.sight(name)
        said = r"^T-09 leaves over: direction [+−]?\d\.\d″, distance [+−]?\d\.\d mm, height"
        self.assertRegex(panel.result.text(), said)
        setup = list(b.state.of(Setup).values())[-1]
        self.assertNotEqual(setup.id, key)
        self.assertEqual((setup.face, setup.round), ((1, 1, 2, 1, 2), (1, 1, 1, 1, 1)))
        self.assertEqual((setup.height_m, setup.frame, setup.targets), (1.6, "map", "weighted"))
        self.assertEqual((setup.sigma_direction_s, setup.air.applied_ppm), (1.0, 0.0))
        self.assertIn("as well would bring it to ±", self.page.verdict.text())
        self.assertTrue(all(setup.time))
        columns = {c.key: c for c in self.page.table.records.columns}
        row = self.page.table.records.rows[2]
        self.assertEqual([columns[k].text(row) for k in ("face", "round")], ["2", "1"])
        self.assertEqual(columns["time"].text(row), setup.time[2][11:19])
        placed = b.derived.of_kind("setup")[setup.id]
        self.assertLess(math.hypot(placed.found.e - 463_470.0, placed.found.n - 6_795_860.0), 0.008)
        # Every reading is in the file as it is shown.
        self.assertEqual(self._kept()[setup.id], setup)
        self.sight("K-77", carried="P-04")
        said = panel.result.text().replace("\u2009", "")
        self.assertRegex(said, r"^K-77 lies at E 463(209|210)\.\d+   N 67968(39|40)\.")
        self.sight("T-04")  # which was read in one face before
        self.assertEqual(list(b.state.of(Setup).values())[-1].round[-2:], (2, 1))
        self.misread(panel)
        rows = len(list(b.state.of(Setup).values())[-1].target)
        self.carry("T-07")
        b.select("T-07")
        panel.statement.parts["role"].click()
        QApplication.activePopupWidget().actions()[2].trigger()
        self.sight("T-07", carried="T-07")
        way = r"^To T-07: E [+−]?0\.00\d   N [+−]?0\.00\d   H [+−]?0\.0\d\d "
        self.assertRegex(panel.result.text(), way)
        self.assertEqual(len(list(b.state.of(Setup).values())[-1].target), rows)

    def test_instrument_and_prism_at_places_of_the_plan(self) -> None:
        self.standin.stop()
        self.wait_for(lambda: not self.standin.ports)
        self.standin._ask_place("station")
        self.page.place_picked(463_500.0, 6_795_900.0)
        self.live.leave()
        self.standin.start.click()
        self.wait_for(lambda: self.live.state is not None and not self.live.doing)
        self.panel.buttons["begin"].click()
        self.answer("St-9, 1.6")
        for name in ("T-04", "T-08", "T-09"):
            self.sight(name)
        found = self.b.derived.of_kind("setup")[list(self.b.state.of(Setup))[-1]].found
        self.assertLess(math.hypot(found.e - 463_500.0, found.n - 6_795_900.0), 0.02)
        self.standin._ask_place("pole")
        self.page.place_picked(463_600.0, 6_796_000.0)
        self.standin.pole.setValue(2.0)
        self.live.set_equipment(target_m=2.0)
        self.carry("T-09", told={"do": "status"})  # after what was told before
        self.panel._name("K-5")
        for button in ("find", "measure"):
            self.panel.buttons[button].click()
            self.wait_for(lambda: not self.live.doing)
        adopted = self.b.derived.adopted["map"]
        row = adopted.index["K-5"]
        self.assertLess(math.hypot(adopted.e_m[row] - 463_600.0, adopted.n_m[row] - 6_796_000.0), 0.02)
        away = np.hypot(adopted.e_m - 463_600.0, adopted.n_m - 6_796_000.0)
        away[row] = np.inf
        near = adopted.height_m[int(np.nanargmin(away))]  # the ground there is as high as the nearest mark
        self.assertAlmostEqual(float(adopted.height_m[row]), float(near), delta=0.03)

    def test_a_receiver_on_the_pole_points_the_search(self) -> None:
        """Five points that both saw are enough, though the instrument stands nobody knows where; what the
        receiver says is 36 m off everywhere, and is in no coordinate."""
        adopted, windows, search = self.b.derived.adopted["map"], [], Instrument.search

        def carried(name: str) -> None:
            row = adopted.index.get(name, adopted.index["P-12"])
            e, n = float(adopted.e_m[row]), float(adopted.n_m[row])
            if name == "south":
                e, n = e + 60.0, n - 80.0
            self.carry("", {"do": "go", **self.standin.place_of(e, n)})
            self.w.pages["Sessions"].rover_at.emit((e + 30.0, n - 20.0))

        def noted(instrument: Instrument, window: float) -> None:
            windows.append(window)
            search(instrument, window)

        self.panel.buttons["begin"].click()
        self.answer("K-0, 1.6")
        for k, name in enumerate(("T-04", "T-07", "T-08", "south", "P-11")):
            carried(name)
            self.panel._name(f"K-{k + 1}")
            for button in ("find", "measure"):
                self.panel.buttons[button].click()
                self.wait_for(lambda: not self.live.doing)
            if k == 1:
                self.assertIn("it needs 2 of 5 points farther than 20 m", self.panel._links())
        self.assertRegex(self.panel._links(), r"The receiver points the search, to \d+\.\d mm\.")
        carried("S-05")
        self.panel._name("K-6")
        with mock.patch.object(Instrument, "search", noted):
            self.panel.buttons["find"].click()
            self.wait_for(lambda: not self.live.doing)
        self.assertEqual((self.live.problem, len(windows)), ("", 1))
        self.assertLess(windows[0], 0.1)
        setup = list(self.b.state.of(Setup).values())[-1]
        self.assertNotIn("K-0", self.b.derived.adopted["map"].index)
        self.assertEqual(len(setup.target), 5)
        self.panel.end()
        self.assertEqual(self.panel._relation(), "0 of 5 points farther than 20 m")

    def test_while_results_are_on_their_way(self) -> None:
        """In a job whose results take their time a reading is kept, and judged when they are there."""
        self.let_run(self.w)
        self.enterContext(mock.patch("fenwind.desk.job_owner.SHORT_S", 0.0))
        column = next(c for c in self.page.table.records.columns if c.key == "part")
        seen: list[tuple[bool, str, str]] = []

        def look() -> None:
            self.page.refresh()
            parts = " ".join(column.text(row) for row in self.page.table.records.rows)
            seen.append((self.b.deriving, self.panel.result.text(), parts))

        self.live.read.connect(look)  # after the panel has heard of it
        self.panel.buttons["begin"].click()
        self.answer("St-9, 1.6")
        early: list[tuple[bool, str]] = []
        self.b.came_ahead.connect(lambda: early.append((self.b.deriving, self.panel.result.text())))
        for name in ("T-04", "T-08", "T-09"):
            self.wait_for(lambda: not self.b.deriving)
            self.sight(name)
        for deriving, text, parts in seen:
            self.assertTrue(deriving)
            self.assertRegex(text, "^Kept; what follows from it is being worked out.$")
            self.assertNotIn("left out", parts)
        self.wait_for(lambda: not self.b.deriving)
        self.assertTrue(early[-1][0], "what its setup says by itself is said before the rest")
        self.assertRegex(early[-1][1], r"^T-09 leaves over: direction ")
        self.assertRegex(self.panel.result.text(), r"^T-09 leaves over: direction ")
        self.assertEqual([column.text(row) for row in self.page.table.records.rows], ["known"] * 3)

    def misread(self, panel: InstrumentPanel) -> None:
        """With the prism on T-09 a check on T-07, and what is to go to it, show the way between them. What
        the instrument applies by itself is taken off, and must not change."""
        self.standin.say("station", do="set", prism_mm=5.0)
        self.sight("T-09")
        way = r"2(44\.9|45\.0)\d\d   N {}1(29\.9|30\.0)\d\d "
        for role, words in (("check", "T-07 misses by: E −" + way.format("−")),
                            ("set out", "To T-07: E \\+" + way.format("\\+"))):  # fmt: skip
            self.b.select("T-07")
            panel._use_role(role)
            panel.buttons["measure"].click()
            self.wait_for(lambda: not self.live.doing)
            self.assertRegex(panel.result.text(), words)
        last = list(self.b.state.of(Setup).values())[-1]
        self.assertEqual(last.prism_m[-1], -0.005)
        self.assertEqual(dict(last.use)[len(last.target) - 1], "check")
        self.standin.say("station", do="set", prism_mm=0.0, ppm=9.0)
        panel._use_role("check")
        panel.buttons["measure"].click()
        self.wait_for(lambda: not self.live.doing)
        self.assertIn("9.0 ppm now, 0.0 when it was set up", self.w.line.text())
        self.standin.say("station", do="set", ppm=0.0)

    def test_what_goes_wrong_is_said(self) -> None:
        panel = self.panel
        self.b.do(change_frame(self.b.state.frames["map"], "feet", unit="ft"))
        panel.buttons["begin"].click()
        self.answer("St-9, 5")
        self.assertEqual(panel.setup.height_m, 1.524)
        panel.live.set_equipment(height_m=2.1, method="vertical", antenna="")
        for text, metres in (("antenna -0.5", 2.1 - 0.1524), ("Antenna", 2.1), ("5", 1.524)):
            panel.statement.parts["height"].click()
            self.answer(text)
            self.assertAlmostEqual(self.live.equipment.target_m, metres, 9)
        panel.buttons["measure"].click()  # which mark?
        self.answer("T-04")
        panel.buttons["measure"].click()
        self.wait_for(lambda: not self.live.doing)
        self.assertIn("no prism in sight", panel.links.text())
        self.standin.troubles[0].click()
        panel.buttons["find"].click()
        self.wait_for(lambda: not self.live.doing)
        self.assertIn("It is out of level", panel.links.text())
        panel.buttons["measure"].click()
        self.wait_for(lambda: not self.live.doing)
        self.assertIn("the instrument is out of level", panel.links.text())
        with socket.create_server(("127.0.0.1", 0)) as deaf:  # it takes the question, and that is all
            where = self.live.where
            self.live.connect_to(f"127.0.0.1:{deaf.getsockname()[1]}")
            self.assertIn("It is connecting", panel.links.text())
            panel.buttons["stop"].click()
            self.wait_for(lambda: not self.live.doing)
            self.assertIn("You stopped it connecting", panel.links.text())
            self.live.connect_to(where)
            self.wait_for(lambda: not self.live.doing)
        self.standin.stop()
        panel.buttons["measure"].click()
        self.wait_for(lambda: not self.live.doing)
        self.assertIn("Cannot connect", panel.links.text())
        panel.buttons["end"].click()
        panel.statement.parts["where"].click()
        self.answer("nowhere")
        self.assertIn("no place to connect to", self.w.line.text())


class OnAnEmptyJob(QtTestCase):
    def test_nothing_is_sighted_that_cannot_be_kept(self) -> None:
        w = self.open("--empty")
        w.show_stage("Setups")
        page = w.pages["Setups"].setups
        self.assertTrue(page.second.isVisible())
        page.instrument.live.state = InstrumentState(
            name="x", battery=90.0, face=1, locked=False, prism_m=0.0, applied_ppm=0.0, carrier_um=0.658,
            reference=286.3, sigma_direction_s=1.0, sigma_zenith_s=1.0, sigma_distance_m=0.001,
            sigma_distance_ppm=1.0,
        )  # fmt: skip
        self.assertFalse(page.instrument._begin("S, 1.6"))
        self.assertIn("no frame", w.line.text())
        self.assertIsNone(page.instrument.setup)
