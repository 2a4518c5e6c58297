"""A window of its own, plainly outside the survey, that runs the stand-in receivers: carries the rover about
and makes trouble."""

from __future__ import annotations

import json
import math
import os
import sys
import tempfile
from collections.abc import Callable
from functools import partial
from typing import Any

from PySide6.QtCore import QProcess, Qt, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QPushButton, QSpinBox, QVBoxLayout, QWidget

from fenwind.desk.receivers import Receivers
from fenwind.desk.shell import PlainLabel, WholeLabel, look
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.devices.control import command
from fenwind.devices.transport import address
from fenwind.errors import FenwindError
from fenwind.job.live_place import LivePlane
from fenwind.progress import Progress
from fenwind.standins.of_job import world_of_job

#: Height of the simulated base's antenna over its mark, metres.
BASE_HEIGHT_M = 1.5
SAID = (
    "Simulated receivers on ports of this machine, to practise with. Nothing here belongs to the "
    "survey: what "
    "they send is made up, and the job should say so in its name."
)
#: Trouble as people say it: what the control port calls it, whose port, and what it is told.
TROUBLES: tuple[tuple[str, str, str, dict[str, Any]], ...] = (
    ("Trees around the rover", "obstruction", "rover", {"mask": 50}),
    ("Radio on another channel", "wrong_channel", "rover", {}),
    ("No link to the base", "link", "rover", {}),
    ("Rover out of level, 2 degrees", "bubble", "rover", {"degrees": 2.0, "bearing": 90.0}),
    ("Rover's battery empty", "battery", "rover", {"percent": 0}),
    ("Base's storage full", "storage", "base", {"mb": 0}),
    ("Base bumped, 60 mm east", "bump", "base", {"de": 0.06}),
)


def _say(where: str, values: dict[str, Any], *, progress: Progress) -> dict[str, Any]:
    """In a worker: one command of a control port."""
    return command(address(where), **values)


class StandinPanel(QWidget):
    """See the module. wants_place: asks for a place picked on the plan."""

    wants_place = Signal()

    def __init__(self, receivers: Receivers, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Tool)
        self.devices, self.bridge = receivers, receivers.bridge
        self.setWindowTitle("Stand-in receivers")
        self.setObjectName("sheet")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.ports: dict[str, Any] = {}
        self._process: QProcess | None = None
        self._folder: tempfile.TemporaryDirectory[str] | None = None
        self._runner = TaskRunner(self, "devices")
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 16)
        column.setSpacing(9)
        said = WholeLabel(SAID)
        look(said, "sun")
        column.addWidget(said)
        column.addLayout(self._make_start())
        self.state = WholeLabel("")
        look(self.state, "faint")
        column.addWidget(self.state)
        self.running = QWidget()
        self._fill_running(QGridLayout(self.running))
        column.addWidget(self.running)
        column.addStretch(1)
        self.resize(400, 520)
        self._show()

    def _make_start(self) -> QGridLayout:
        grid = QGridLayout()
        self.base_mark, self.speed, self.seed = QComboBox(), QSpinBox(), QSpinBox()
        self.speed.setRange(1, 100)
        self.seed.setRange(1, 100_000)
        self.speed.setSuffix(" simulated s a second")
        self.start = QPushButton("Start them")
        look(self.start, "main")
        self.start.clicked.connect(self.toggle)
        rows = (
            ("The base stands over", self.base_mark),
            ("Time runs at", self.speed),
            ("Errors from seed", self.seed),
        )
        for k, (text, widget) in enumerate(rows):
            grid.addWidget(PlainLabel(text), k, 0)
            grid.addWidget(widget, k, 1)
            widget.setAccessibleName(text)
        grid.addWidget(self.start, len(rows), 1)
        return grid

    def _fill_running(self, grid: QGridLayout) -> None:
        grid.setContentsMargins(0, 0, 0, 0)
        self.rover_mark = QComboBox()
        self.rover_mark.setAccessibleName("Where the rover is carried")
        there, place = QPushButton("Carry the rover there"), QPushButton("… or to a place on the plan")
        look(there, "second")
        look(place, "link")
        there.clicked.connect(lambda: self.say("rover", do="go", mark=self.rover_mark.currentText()))
        place.clicked.connect(self.wants_place)
        restart = QPushButton("Switch the base off and on")
        look(restart, "link")
        restart.clicked.connect(lambda: self.say("base", do="restart"))
        grid.addWidget(self.rover_mark, 0, 0)
        grid.addWidget(there, 0, 1)
        grid.addWidget(place, 1, 1)
        grid.addWidget(restart, 1, 0)
        self.troubles: list[QCheckBox] = []
        for k, (text, what, which, more) in enumerate(TROUBLES):
            box = QCheckBox(text)
            box.toggled.connect(partial(self._trouble, what, which, more))
            self.troubles.append(box)
            grid.addWidget(box, 2 + k, 0, 1, 2)
        legacy = QCheckBox("The base sends the older messages")
        legacy.toggled.connect(lambda on: self.say("base", do="corrections", set="legacy" if on else "msm7"))
        self.troubles.append(legacy)
        grid.addWidget(legacy, 2 + len(TROUBLES), 0, 1, 2)

    def _show(self) -> None:
        on = bool(self.ports)
        self.running.setVisible(on)
        self.start.setText("Stop them" if on else "Start them")
        for widget in (self.base_mark, self.speed, self.seed):
            widget.setEnabled(not on)
        if not on:
            self.state.setText("They are not running.")

    def open(self) -> None:
        """Show the window, with the marks of the job."""
        names = [m.name for m in self.bridge.state.marks.values() if m.active]
        if not self.ports:
            _fill(self.base_mark, names)
        self.show()
        self.raise_()
        self.activateWindow()

    # Running

    def toggle(self) -> None:
        """Start them, or stop them."""
        if self._process is not None:
            self.stop()
            return
        b = self.bridge
        try:
            world = world_of_job(b.state, b.derived, b.folder, self.base_mark.currentText(), BASE_HEIGHT_M)
        except FenwindError as error:
            self.state.setText(error.sentences)
            return
        self._folder = tempfile.TemporaryDirectory(prefix="fenwind-standin-")
        path = os.path.join(self._folder.name, "world.json")
        with open(path, "w", encoding="utf-8") as file:
            json.dump(world, file)
        self._process = QProcess(self)
        self._process.readyReadStandardOutput.connect(self._on_ports)
        self._process.finished.connect(self._on_finished)
        self._process.start(
            sys.executable,
            ["-m", "fenwind", "standin", "gnss", "--world", path, "--seed", str(self.seed.value()), "--speed",
             str(self.speed.value())],
        )  # fmt: skip
        self.state.setText("Starting.")
        _fill(self.rover_mark, [m["name"] for m in world["marks"]])

    def _on_ports(self) -> None:
        if self._process is None or self.ports or not self._process.canReadLine():
            return
        self.ports = json.loads(bytes(self._process.readLine().data()))
        base, rover = self.ports["base"], self.ports["rover"]
        self.devices.set_equipment(
            rover=_at(rover["nmea"]), rover_control=_at(rover["control"]), base=_at(base["nmea"]),
            base_control=_at(base["control"]), corrections=_at(base["rtcm"]),
        )  # fmt: skip
        self.state.setText(
            f"Running: the rover on {_at(rover['nmea'])}, its pole 2.000 m; the base on "
            f"{_at(base['nmea'])}, its "
            f"antenna {BASE_HEIGHT_M:.3f} m over {self.base_mark.currentText()}, corrections on "
            f"{_at(base['rtcm'])}. The job's equipment now names them."
        )
        self._show()

    def _on_finished(self) -> None:
        self._process, self.ports = None, {}
        if self._folder is not None:
            self._folder.cleanup()
            self._folder = None
        for box in self.troubles:
            box.blockSignals(True)
            box.setChecked(False)
            box.blockSignals(False)
        self._show()

    def stop(self) -> None:
        """Stop them and wait until they are gone."""
        if self._process is not None:
            self._process.terminate()
            if not self._process.waitForFinished(3000):
                self._process.kill()
                self._process.waitForFinished(1000)

    # What they are told

    def say(self, which: str, then: Callable[[], object] = lambda: None, **values: Any) -> None:
        """Tell a receiver something through its control port."""
        if not self.ports:
            return
        task = Task(_say, _at(self.ports[which]["control"]), values)
        task.signals.succeeded.connect(lambda _: then())
        task.signals.failed.connect(lambda error: self.state.setText(f"It was not told: {error}."))
        self._runner.start(task)

    def _trouble(self, what: str, which: str, more: dict[str, Any], on: bool) -> None:
        self.say(which, do="trouble", what=what, on=on, **more)

    def carry(self, e_m: float, n_m: float) -> None:
        """Carry the rover to a place on the plane of the frame shown, at the height of the nearest mark."""
        b = self.bridge
        adopted = b.derived.adopted.get(b.frame_id)
        if adopted is None or not len(adopted.e_m):
            return
        away = (adopted.e_m - e_m) ** 2 + (adopted.n_m - n_m) ** 2
        away[~(adopted.height_m == adopted.height_m)] = float("inf")
        height = float(adopted.height_m[int(away.argmin())])
        at = LivePlane(b.state, b.derived, b.frame_id, b.folder).back(e_m, n_m, height)
        if at is None:
            self.state.setText("That place cannot be carried to the earth: the frame shown has no way there.")
            return
        self.say("rover", do="go", lat=math.degrees(at[0]), lon=math.degrees(at[1]), h=at[2])

    def shut_down(self) -> None:
        """Stop everything."""
        self._runner.shut_down()
        self.stop()


def _at(port: int) -> str:
    return f"127.0.0.1:{port}"


def _fill(box: QComboBox, names: list[str]) -> None:
    now = box.currentText()
    box.clear()
    box.addItems(names)
    box.setCurrentIndex(max(box.findText(now), 0))
