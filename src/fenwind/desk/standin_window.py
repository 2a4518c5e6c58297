"""A window of its own, plainly outside the survey, that runs a stand-in as a process: what all of them
share."""

from __future__ import annotations

import json
import math
import os
import sys
import tempfile
from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QProcess, QProcessEnvironment, Qt, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QPushButton, QSpinBox, QVBoxLayout, QWidget

from fenwind.commands.standin import ENDS_WITH_PARENT
from fenwind.desk.bridge import JobBridge
from fenwind.desk.shell import PlainLabel, WholeLabel, look
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.devices.control import command
from fenwind.devices.transport import address
from fenwind.errors import FenwindError
from fenwind.job.live_place import LivePlane
from fenwind.progress import Progress


def _say(where: str, values: dict[str, Any], *, progress: Progress) -> dict[str, Any]:
    """In a worker: one command of a control port."""
    return command(address(where), **values)


class StandinWindow(QWidget):
    """See the module. A window says its words, which verb it runs with which world, what to do with the ports
    it prints, and has its own controls in `running`. wants_place: asks for a place picked on the plan."""

    title, said, verb, it_runs = "", "", "", "They are not running."
    wants_place = Signal()

    def __init__(self, bridge: JobBridge, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Tool)
        self.bridge = bridge
        self.setWindowTitle(self.title)
        self.setObjectName("sheet")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.ports: dict[str, Any] = {}
        self.troubles: list[QCheckBox] = []
        self._process: QProcess | None = None
        self._folder: tempfile.TemporaryDirectory[str] | None = None
        self._runner = TaskRunner(self, "devices")
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 16, 18, 16)
        column.setSpacing(9)
        said = WholeLabel(self.said)
        look(said, "sun")
        column.addWidget(said)
        self.before = QWidget()
        self.seed = QSpinBox()
        self.seed.setRange(1, 100_000)
        self.start = QPushButton("Start")
        look(self.start, "main")
        self.start.clicked.connect(self.toggle)
        grid = QGridLayout(self.before)
        grid.setContentsMargins(0, 0, 0, 0)
        rows = (*self.choices(), ("Errors from seed", self.seed))
        for k, (text, widget) in enumerate(rows):
            grid.addWidget(PlainLabel(text), k, 0)
            grid.addWidget(widget, k, 1)
            widget.setAccessibleName(text)
        column.addWidget(self.before)
        column.addWidget(self.start, 0, Qt.AlignmentFlag.AlignRight)
        self.state = WholeLabel("")
        look(self.state, "faint")
        column.addWidget(self.state)
        self.running = QWidget()
        inner = QGridLayout(self.running)
        inner.setContentsMargins(0, 0, 0, 0)
        self.fill_running(inner)
        column.addWidget(self.running)
        column.addStretch(1)
        self.resize(400, 520)
        self._show()

    # What a window has of its own

    def choices(self) -> list[tuple[str, QWidget]]:
        """What is chosen before the start."""
        raise NotImplementedError

    def fill_running(self, grid: QGridLayout) -> None:
        """What can be done while it runs."""
        raise NotImplementedError

    def fill_marks(self, names: list[str]) -> None:
        """Offer the marks of the job before the start."""
        raise NotImplementedError

    def world(self) -> dict[str, Any]:
        """The world to run in, and what is offered in it. Raises FenwindError."""
        raise NotImplementedError

    def arguments(self) -> list[str]:
        """More of the command line."""
        return []

    def came_up(self) -> str:
        """Use the ports; says in words that it runs."""
        raise NotImplementedError

    def control_port(self, which: str) -> int:
        """Where one of the devices is spoken to."""
        raise NotImplementedError

    # Running

    def _show(self) -> None:
        on = bool(self.ports)
        self.running.setVisible(on)
        self.start.setText("Stop" if on else "Start")
        self.before.setEnabled(not on)
        if not on:
            self.state.setText(self.it_runs)

    def open(self) -> None:
        """Show the window, with the marks of the job."""
        if not self.ports:
            self.fill_marks([m.name for m in self.bridge.state.marks.values() if m.active])
        self.show()
        self.raise_()
        self.activateWindow()

    def toggle(self) -> None:
        """Start it, or stop it."""
        if self._process is not None:
            self.stop()
            return
        try:
            world = self.world()
        except FenwindError as error:
            self.state.setText(error.sentences)
            return
        self._folder = tempfile.TemporaryDirectory(prefix="fenwind-standin-")
        path = os.path.join(self._folder.name, "world.json")
        with open(path, "w", encoding="utf-8") as file:
            json.dump(world, file)
        self._process = QProcess(self)
        environment = QProcessEnvironment.systemEnvironment()
        environment.insert(ENDS_WITH_PARENT, "1")
        self._process.setProcessEnvironment(environment)
        self._process.readyReadStandardOutput.connect(self._on_ports)
        self._process.finished.connect(self._on_finished)
        self._process.start(
            sys.executable,
            ["-m", "fenwind", "standin", self.verb, "--world", path, "--seed", str(self.seed.value()),
             *self.arguments()],
        )  # fmt: skip
        self.state.setText("Starting.")

    def _on_ports(self) -> None:
        if self._process is None or self.ports or not self._process.canReadLine():
            return
        self.ports = json.loads(bytes(self._process.readLine().data()))
        self.state.setText(self.came_up())
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
        """Stop it and wait until it is gone."""
        if self._process is not None:
            self._process.terminate()
            if not self._process.waitForFinished(3000):
                self._process.kill()
                self._process.waitForFinished(1000)

    def shut_down(self) -> None:
        """Stop everything."""
        self._runner.shut_down()
        self.stop()

    # What it is told

    def say(self, which: str, then: Callable[[], object] = lambda: None, **values: Any) -> None:
        """Tell a device something through its control port."""
        if not self.ports:
            return
        task = Task(_say, at_port(self.control_port(which)), values)
        task.signals.succeeded.connect(lambda _: then())
        task.signals.failed.connect(lambda error: self.state.setText(f"It was not told: {error}."))
        self._runner.start(task)

    def place_of(self, e_m: float, n_m: float) -> dict[str, Any] | None:
        """A place on the plane of the frame shown as the port takes it, at the height of the nearest mark;
        None, and said, for one that has no way to the earth."""
        b = self.bridge
        adopted = b.derived.adopted.get(b.frame_id)
        if adopted is None or not len(adopted.e_m):
            return None
        away = (adopted.e_m - e_m) ** 2 + (adopted.n_m - n_m) ** 2
        away[~(adopted.height_m == adopted.height_m)] = float("inf")
        height = float(adopted.height_m[int(away.argmin())])
        at = LivePlane(b.state, b.derived, b.frame_id, b.folder).back(e_m, n_m, height)
        if at is None:
            self.state.setText("That place cannot be carried to the earth: the frame shown has no way there.")
            return None
        return {"lat": math.degrees(at[0]), "lon": math.degrees(at[1]), "h": at[2]}


def at_port(port: int) -> str:
    """The address of a port of this machine."""
    return f"127.0.0.1:{port}"


def fill(box: QComboBox, names: list[str]) -> None:
    """Offer names, and keep the one chosen."""
    now = box.currentText()
    box.clear()
    box.addItems(names)
    box.setCurrentIndex(max(box.findText(now), 0))
