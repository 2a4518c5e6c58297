"""The Sessions stage through the window: a base tied, an antenna height put right, an occupation left out."""

import os
from dataclasses import replace
from functools import partial
from unittest import mock

import numpy as np
from PySide6.QtCore import QEvent, QObject
from PySide6.QtWidgets import QWidget

from fenwind.desk.bridge import JobBridge
from fenwind.desk.sky_charts import ScatterChart, SkyChart
from fenwind.desk.stages.antennas import take_file
from fenwind.desk.stages.sessions import SessionsSheet
from fenwind.devices.control import command
from fenwind.devices.transport import address
from fenwind.errors import FenwindError, JobError
from fenwind.geodesy.geocentric import from_xyz, to_xyz
from fenwind.job.file import Blob
from fenwind.job.live_place import LivePlane, ground_xyz
from fenwind.job.session_view import enu_between, rover_of
from fenwind.procedures.rover import Point
from fenwind.quantities.lengths import US_SURVEY_FOOT
from fenwind.records.sessions import Antenna, BaseSetup, Occupation
from tests.desk.qt_case import QtTestCase
from tests.desk.test_drawing import pixels
from tests.session_job import arp, place, session_job


class LaidOut(QObject):
    """Counts how often something is laid out again."""

    def __init__(self, widget: QWidget) -> None:
        super().__init__(widget)
        self.times = 0
        widget.installEventFilter(self)

    def eventFilter(self, widget: QObject, event: QEvent) -> bool:
        self.times += event.type() == QEvent.Type.LayoutRequest
        return False


class SessionsStage(QtTestCase):
    def test_two_days(self) -> None:
        path = self.folder / "two days.fenwind"
        session_job(str(path), blunder=0.11).close()
        workspace = self.open(str(path))
        bridge = workspace.bridge
        bridge.show_stage("Sessions")
        self.wait_for(lambda: isinstance(workspace.page, SessionsSheet) and workspace.page.isVisible())
        sheet = workspace.page
        self.assertEqual(
            sheet.statement.text(),
            "Base D1 stands on the known mark A, its antenna 1.5000 m vertical; 2 occupations follow from "
            "it.",
        )
        self.assertEqual(self.cells(sheet, "part"), ["used", "used", "not used", "not used"])
        self.assertEqual(self.cells(sheet, "d0")[2], "+3\u2009000.0")  # the jump of D2, east
        self.choose(sheet.statement.parts["base"], "D2, 2026-05-02, the average of 50 epochs")
        self.choose(sheet.statement.parts["word"], "a tie: B was measured from it")
        self.assertEqual(bridge.state.of(BaseSetup)["d2"].word, "tie")
        self.assertIn("D2 stands on a tie to B", sheet.statement.text())
        self.assertEqual(self.cells(sheet, "part"), ["used"] * 4)
        self.assertEqual(self.cells(sheet, "d2"), ["0.0", "\u221255.0", "0.0", "+55.0"])
        (doubt,) = [d for d in bridge.findings.open if d.grave]
        self.assertIn("antenna height 2.1100 m", doubt.text)
        self.choose(sheet.statement.parts["weights"], "by their covariance")
        self.assertIn("Several of a mark count by their covariance.", sheet.statement.text())
        bridge.undo()
        row = next(r for r in sheet.table.records.rows if r.one.id == "o2")
        self.assertFalse(sheet._edit_height(row, "2 sideways"))
        self.assertTrue(sheet._edit_height(row, "2.0 vertical"))
        self.assertEqual(self.cells(sheet, "d2"), ["0.0"] * 4)
        self.assertEqual([d for d in bridge.findings.open if d.grave], [])
        sheet._toggle(sheet.table.records.rows[3])
        self.assertFalse(bridge.state.of(Occupation)["o4"].active)
        self.assertEqual(self.cells(sheet, "part")[3], "left out")
        bridge.undo()
        self.assertEqual(self.cells(sheet, "part")[3], "used")

    def test_bars_against_their_limits(self) -> None:
        """Departures of 3 m east and 1.5 m up, drawn against 15 and 25 mm."""
        path = self.folder / "two days.fenwind"
        session_job(str(path), blunder=0.0).close()
        workspace = self.open(str(path))
        workspace.bridge.show_stage("Sessions")
        sheet = workspace.pages["Sessions"]
        self.wait_for(sheet.isVisible)
        row = next(r for r in sheet.table.records.rows if r.one.id == "o3")
        columns = {c.key: c for c in sheet.table.records.columns}
        for key, value, limit in (("d0", 3000.0, 15.0), ("d1", -2000.0, 15.0), ("d2", 1500.0, 25.0)):
            with self.subTest(key=key):
                # East, north, up at B and at A differ by what 1.4 km turn: below 1 mm of 3 m.
                self.assertAlmostEqual(columns[key].value(row), value, delta=1.0)
                self.assertAlmostEqual(columns[key].bar(row), value / limit, delta=0.1)

    def test_a_list_goes_out_and_comes_in(self) -> None:
        path, out = self.folder / "two days.fenwind", str(self.folder / "list.csv")
        session_job(str(path), blunder=0.0).close()
        workspace = self.open(str(path))
        workspace.bridge.show_stage("Sessions")
        sheet = workspace.pages["Sessions"]
        self.wait_for(sheet.isVisible)
        self.assertTrue(sheet.write_list(out))
        self.assertIn("Written: 4 occupations to", workspace.line.text())
        sheet.take_list(out)
        self.assertIn("Taken in: 0 occupations; 4 were in the job already.", workspace.line.text())
        written = self.folder / "list.csv"
        written.write_text(written.read_text("utf-8").replace("D1,B,", "D1,E,"), "utf-8")
        sheet.take_list(out)
        self.assertIn("Taken in: 1 occupation; 3 were in the job already.", workspace.line.text())
        self.assertIsNotNone(workspace.bridge.state.mark_named("E"))
        workspace.bridge.undo()
        self.assertIsNone(workspace.bridge.state.mark_named("E"))

    def cells(self, sheet: SessionsSheet, key: str) -> list[str]:
        """Texts of a column as they are shown."""
        column = next(c for c in sheet.table.records.columns if c.key == key)
        return [column.text(row) for row in sheet.table.records.rows]


class Live(QtTestCase):
    """With stand-in receivers in a process of their own, through the window."""

    def setUp(self) -> None:
        super().setUp()
        path = self.folder / "live.fenwind"
        session_job(str(path), blunder=0.0).close()
        self.w = self.open(str(path))
        self.b = self.w.bridge
        self.b.show_stage("Sessions")
        self.page = self.w.pages["Sessions"]
        self.wait_for(self.page.isVisible)
        panel = self.page.standins
        panel.open()
        panel.base_mark.setCurrentText("A")
        panel.speed.setValue(40)
        panel.start.click()
        self.addCleanup(panel.stop)
        self.wait_for(lambda: panel.ports)
        nice = os.getpriority(os.PRIO_PROCESS, panel._process.processId())
        self.assertGreater(nice, os.getpriority(os.PRIO_PROCESS, 0), "it gives way to the window")

    def ask(self, widget: object, key: str, text: str) -> None:
        """Click a part and answer the line that asks."""
        widget.statement.parts[key].click()  # type: ignore[attr-defined]
        self.page.ask.edit.setText(text)
        self.page.ask.ok.click()

    def start_base(self) -> BaseSetup:
        start = self.page.start
        self.b.select("A")
        self.w.actions.run("sessions.start")
        self.assertIn("Start base D3 on the known mark A", start.statement.text())
        start.start.click()  # without an antenna height nothing starts
        self.assertIn("no antenna height", self.w.line.text())
        self.ask(start, "height", "1.5 vertical")
        start.start.click()
        self.assertTrue(self.b.in_turns)
        self.wait_for(start.isHidden)
        self.wait_for(lambda: not self.b.in_turns)
        return next(b for b in self.b.state.of(BaseSetup).values() if b.name == "D3")

    def test_a_base_a_mark_and_the_raw_files(self) -> None:
        page, rover = self.page, self.page.rover
        base = self.start_base()
        self.assertTrue(base.read_back)
        sent = np.array([base.broadcast_x_m, base.broadcast_y_m, base.broadcast_z_m])
        np.testing.assert_allclose(sent, arp("A", 1.5), atol=1e-3)
        part = page.statement.parts["base"]
        size = (part.height(), part.width())
        rover.listen.click()
        self.wait_for(lambda: part.height() < size[0] and part.width() < size[1])  # the rover needs room
        self.b.select("C")
        # The rover still is at B, 1.4 km west and 1.6 km south of C.
        self.wait_for(lambda: rover.to_mark.text() and page.devices.epoch.solution == "fixed")
        self.assertRegex(rover.to_mark.text(), r"^To C: E \+1.39\d\.\d{3}   N \+1.55\d\.\d{3}   H −18\.\d")
        self.assertRegex(rover.to_mark.text(), r" 2.08\d\.\d{3} m at 46\.6 gon$")
        page.standins.say("rover", do="go", mark="C")
        self._new_mark()
        self.assertIn("Measure C as a further occupation from base D3", rover.statement.text())
        self.wait_for(lambda: self._there() and page.devices.epoch.solution == "fixed")
        self.assertIn("The stream says the base where the job has it", rover.links.text())
        self._in_feet()
        self.assertRegex(
            rover.to_mark.text(), r"^To C: E .?0\.0\d\d   N .?0\.0\d\d   H .?0\.0\d\d   0\.0\d\d m at "
        )
        self.assertIn("Rover fixed", self.w.shell.header.kept.text())
        again, heard = LaidOut(self.w.shell.split), page.devices.heard.sentences
        self.wait_for(lambda: page.devices.heard.sentences > heard + 400)
        self.assertLess(again.times, 4)  # not for every epoch
        for label in rover.figures.values():
            self.assertGreaterEqual(label.width(), label.fontMetrics().horizontalAdvance(label.text()))
        for text in (rover.place, rover.to_mark, rover.links):
            self.assertGreaterEqual(text.height(), text.label.heightForWidth(text.width()))
        kept = self.w.shell.header.kept
        self.assertGreaterEqual(kept.width(), kept.fontMetrics().horizontalAdvance("Rover fixed · 31"))
        self.assertGreater(pixels(kept.grab().toImage(), "ink", 40).shape[1], 20)
        self.ask(rover, "epochs", "25")
        rover.measure.click()
        self.wait_for(lambda: page.devices.measuring is None)
        one = list(self.b.state.of(Occupation).values())[-1]
        self.assertEqual((one.epochs, one.finished, one.base, one.solution), (25, True, base.id, "fixed"))
        self.wait_for(lambda: not self.b.deriving)
        found = rover_of(self.b.derived).each[one.id]
        self.assertLess(float(np.abs(enu_between(found, Point(xyz=to_xyz(*place("C"))))).max()), 0.05)
        self._broadcast_error(base)
        self._early(one.mark)
        self._raw()
        rover.listen.click()
        self.assertIn("all kept", self.w.shell.header.kept.text())
        self.wait_for(lambda: (part.height(), part.width()) == size)

    def test_receivers_are_set(self) -> None:
        """A sentence whose parts reach both receivers, and the job keeps them; nothing is said yes to that is
        none."""
        page, settings = self.page, self.page.settings
        self.w.actions.run("sessions.settings")
        for key, text in (
            ("mask", "95"), ("strength", "-1"), ("interval", "0.2"), ("channel", "17"), ("channel", "1.5"),
            ("naming", "{where}"),
        ):  # fmt: skip
            self.ask(settings, key, text)
            self.assertIn("will not do", self.w.line.text(), text)
        self.assertEqual(page.devices.equipment, replace(page.devices.equipment, mask_deg=10.0, channel=1))
        where = address(page.devices.equipment.rover_control)
        many = command(where, do="status")["satellites"]
        for key, text in (
            ("mask", "20"), ("strength", "44"), ("interval", "10"), ("channel", "5"),
            ("naming", "{base}-{day}"),
        ):  # fmt: skip
            self.ask(settings, key, text)
        self.choose(settings.statement.parts["rate"], "5 times a second")
        self.choose(settings.statement.parts["messages"], "MSM 4")
        self.assertEqual(
            settings.statement.text(),
            "Receivers use satellites above 20° of 44 dB-Hz or more; the rover speaks 5 times a second; raw "
            "data every 10 s go into {base}-{day}; the base sends MSM 4 on channel 5.",
        )
        settings.send.click()
        self.wait_for(lambda: "Set: base and rover." in self.w.line.text())
        said = command(where, do="status")
        self.assertEqual(said["channel"], 5)
        self.assertLess(said["satellites"], many)
        command(where, do="mask", degrees=20.0, strength=0.0)
        self.assertLess(said["satellites"], command(where, do="status")["satellites"])
        one = page.devices.equipment
        self.assertEqual(
            (one.mask_deg, one.strength_dbhz, one.interval_s, one.channel, one.rate_hz, one.message_set),
            (20.0, 44.0, 10.0, 5, 5, "msm4"),
        )

    def test_antenna_models_from_nothing(self) -> None:
        """Typed, chosen for the rover, from a file, and put right at an occupation."""
        page, rover = self.page, self.page.rover
        rover.listen.click()
        self.choose(rover.statement.parts["antenna"], "another model …")
        for text in ("ANT-2, 0.1, 0.2, 0.3, 0.4, 0.5", "ANT-2, 3", "ANT-2, 0.0750, 25 mm, 0.0400"):
            page.ask.edit.setText(text)
            page.ask.ok.click()
        self.assertEqual(page.devices.equipment.antenna, "ANT-2")
        self.assertIn(", antenna ANT-2 2.000 m vertical,", rover.statement.text())
        self.ask(rover, "height", "1.8020 slant")
        self.assertAlmostEqual(page.devices.pole_m(), 1.8004386 - 0.025, delta=1e-6)
        path = self.folder / "models.json"
        path.write_text('{"antennas": [{"model": "ANT-2", "radius": 0.08}, {"model": "ANT-3"}]}', "utf-8")
        self.assertTrue(take_file(self.b, str(path)))
        models = {a.model: a.radius_m for a in self.b.state.of(Antenna).values()}
        self.assertEqual(models, {"RIM": 0.15, "ANT-2": 0.08, "ANT-3": 0.0})
        row = page.table.records.rows[1]
        self.assertTrue(page._edit_height(row, "2.05 slant ant-2"))
        one = self.b.state.of(Occupation)[row.one.id]
        self.assertEqual((one.height_m, one.method, one.antenna), (2.05, "slant", "ANT-2"))
        self.w.actions.run("sessions.start")
        self.choose(page.start.statement.parts["antenna"], "ANT-3")
        self.assertIn("its antenna ANT-3", page.start.statement.text())

    def test_limits_of_an_epoch(self) -> None:
        rover = self.page.rover
        rover.listen.click()
        for text, words in (
            ("10, 20, 3.5", "plan to 10 mm, height to 20 mm, PDOP to 3.5"), ("0, 20", "height to 20 mm"),
            ("0, 0, 2", "PDOP to 2"), ("", "any precision"),
        ):  # fmt: skip
            self.ask(rover, "limits", text)
            self.assertIn(f"count: fixed, {words}.", rover.statement.text())
        self.ask(rover, "limits", "10, 20, 3.5")
        self.ask(rover, "limits", "1, -2")
        self.assertIn("will not do", self.w.line.text())
        one = self.page.devices.equipment
        self.assertEqual((one.max_sigma_h_m, one.max_sigma_v_m, one.max_pdop), (0.01, 0.02, 3.5))

    def _broadcast_error(self, base: BaseSetup) -> None:
        """What the base sends wrongly is in the rover's position too, and goes out of what is shown."""
        devices, shift = self.page.devices, np.array([3.0, -2.0, 1.5])
        lat, lon, h = (float(v) for v in from_xyz(arp("C", 2.0) + shift))
        devices.epoch = replace(devices.epoch, lat=lat, lon=lon, h=h, solution="fixed")
        devices.broadcast = arp("A", 1.5) + shift
        np.testing.assert_allclose(devices.ground(), to_xyz(*place("C")), atol=2e-3)
        devices.epoch = replace(devices.epoch, solution="autonomous")
        self.assertGreater(float(np.linalg.norm(devices.ground() - to_xyz(*place("C")))), 3.0)

    def _new_mark(self) -> None:
        """A mark is new until its first occupation ends, though it is in the job from the first epoch on."""
        rover = self.page.rover
        rover.look_at("NEW")
        rover.measure.click()
        self.wait_for(lambda: self.b.state.mark_named("NEW") is not None)
        with mock.patch.object(rover._turns, "run") as shown:
            self.page.devices.came.emit()
            self.page.devices.changed.emit()
        self.assertEqual([call.kwargs["apart"] for call in shown.call_args_list], [True, False])
        rover.refresh()
        self.assertIn("Measure NEW as a new mark", rover.statement.text())
        rover.leave.click()
        self.assertIn("Measure NEW as a further occupation", rover.statement.text())
        wanted = self.page.devices.equipment.epochs
        for epochs in (7, wanted):  # the job changes, and the panel says so a turn later
            self.page.devices.set_equipment(epochs=epochs)
            self.wait_for(lambda epochs=epochs: f"until {epochs} epoch" in rover.statement.text())
        rover.look_at("C")

    def _there(self) -> bool:
        ground = self.page.devices.ground()
        return ground is not None and float(np.linalg.norm(ground - to_xyz(*place("C")))) < 0.1

    def _early(self, mark: str) -> None:
        """Too few epochs are kept for a reason only; what is left stays unfinished."""
        page, rover = self.page, self.page.rover
        self.ask(rover, "epochs", "100000")
        for how in ("early", "refused", "lost", "left"):
            rover.measure.click()
            self.wait_for(lambda: page.devices.measuring.keeper.rows)
            here = page.devices.measuring.keeper.occupation.id
            self.wait_for(partial(self._is_told, here, "measuring", False))
            if how == "left":
                rover.leave.click()
            elif how == "refused":
                gone = JobError("piece 1 of its epochs is missing", hint="Open a copy")
                with mock.patch("fenwind.desk.receivers.kept_rows", side_effect=gone):
                    page.devices.finish()
            elif how == "lost":
                full = FenwindError("the disk is full", hint="Make room")
                with mock.patch.object(page.devices.measuring.keeper, "take", side_effect=full):
                    self.wait_for(lambda: page.devices.measuring is None)
            else:
                rover.early.click()
                page.ask.ok.click()
                self.assertIsNotNone(page.devices.measuring)
                page.ask.edit.setText("rain")
                page.ask.ok.click()
                self.assertIn("early: rain", self.b.undo_text or "")
            if how != "early":
                self.wait_for(partial(self._is_told, here, "unfinished", True))
        last = list(self.b.state.of(Occupation).values())[-1]
        self.assertFalse(last.finished)
        self.wait_for(lambda: not self.b.deriving)
        self.assertIn("occupation.unfinished", [d.rule for d in self.b.findings.open])

    def _is_told(self, key: str, state: str, doubted: bool) -> bool:
        """Whether the table says an occupation's state, and the doubts that it is not finished."""
        shown = [r.part for r in self.page.table.records.rows if r.one.id == key] == [state]
        told = [d.rule for d in self.b.findings.open if d.subject == key and "unfinished" in d.rule]
        count = self.w.doubts.count.text() == f"{len(self.b.findings.open)} doubts"
        return not self.b.deriving and shown and count and bool(told) == doubted

    def _in_feet(self) -> None:
        """The base's distance is in the unit of the frame, as what is under it."""
        rover, away = self.page.rover, self.page.devices.base_away_m()
        with mock.patch.object(JobBridge, "unit", US_SURVEY_FOOT):
            rover.refresh()
            header, figure = self.w.shell.header.kept.text(), rover.figures["from base"].text()
        rover.refresh()
        feet = f"{away * 3937 / 1200:,.3f} ftUS".replace(",", "\u2009")
        self.assertEqual(figure, feet)
        self.assertIn(f"base D3, {feet}", header)

    def _raw(self) -> None:
        raw = self.page.raw
        self.w.actions.run("sessions.end")
        self.wait_for(lambda: "writes no raw data" in raw.note.text())
        raw.log.click()
        self.wait_for(lambda: raw._states and all(s.logging for s in raw._states.values()))
        raw.log.click()
        self.wait_for(lambda: not any(s.logging for s in raw._states.values()))
        self.assertEqual(len(raw._rows), 2)
        self.assertFalse(raw.delete.isEnabled())
        raw.fetch.click()
        self.wait_for(lambda: raw.delete.isEnabled() and all(r.hash for r in raw._rows))
        kept: list[Blob] = []
        self.b.ask(lambda job: job.blob(raw._rows[0].hash), kept.append)
        self.assertEqual(len(kept[0].data), raw._rows[0].file.size)
        raw.delete.click()
        self.wait_for(lambda: not raw._rows)

    def test_trouble_is_said(self) -> None:
        self.start_base()
        page, rover = self.page, self.page.rover
        rover.listen.click()
        self.wait_for(lambda: page.devices.epoch is not None and page.devices.epoch.solution == "fixed")
        next(t for t in page.standins.troubles if t.text().startswith("No link")).click()
        self.wait_for(lambda: "gets no corrections" in rover.links.text())
        self.assertIn("The base does send", rover.links.text())
        page.standins.stop()
        self.wait_for(lambda: "The rover is not there" in rover.links.text())


class Charts(QtTestCase):
    def test_places_and_scales(self) -> None:
        sky, scatter = SkyChart(), ScatterChart()
        middle = sky.place(90.0, 0.0)
        for azimuth, dx, dy in ((0.0, 0, -1), (90.0, 1, 0), (180.0, 0, 1), (270.0, -1, 0)):
            at = sky.place(0.0, azimuth) - middle
            size = float(np.hypot(at.x(), at.y()))
            np.testing.assert_allclose([at.x() / size, at.y() / size], [dx, dy], atol=1e-9)
        for most, half in ((0.0, 0.01), (0.004, 0.005), (0.0051, 0.01), (0.02, 0.02), (0.021, 0.05)):
            scatter.show_ways(np.array([[most], [0.0], [-most / 2]]))
            self.assertAlmostEqual(scatter.half_m(), half, 12)

    def test_where_a_rover_is_on_the_plane(self) -> None:
        """The broadcast error goes, the pole is taken off, and the plane's way back is the same."""
        job = session_job(str(self.folder / "p.fenwind"), blunder=0.0)
        self.addCleanup(job.close)
        from fenwind.desk.job_owner import Deriver

        derived = Deriver(str(self.folder)).derive(job.state)
        wrong = np.array([3.0, -2.0, 1.5])
        ground = ground_xyz(arp("B", 2.0) + wrong, 2.0, arp("A", 1.5) + wrong, arp("A", 1.5))
        np.testing.assert_allclose(ground, to_xyz(*place("B")), atol=1e-6)
        plane = LivePlane(job.state, derived, "f", str(self.folder))
        at = plane.place(ground)
        self.assertIsNotNone(at)
        back = plane.back(at.e_m, at.n_m, at.height_m)
        np.testing.assert_allclose(back, place("B"), atol=1e-9)
        adopted = derived.adopted["f"]
        row = adopted.place["b"]
        np.testing.assert_allclose(
            [at.e_m, at.n_m, at.height_m],
            [adopted.e_m[row], adopted.n_m[row], adopted.height_m[row]],
            atol=1e-5,
        )
