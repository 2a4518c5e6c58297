"""The window that runs the stand-in receivers: carries the rover about and makes trouble."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QPushButton, QSpinBox, QWidget

from fenwind.desk.receivers import Receivers
from fenwind.desk.shell import look
from fenwind.desk.standin_window import StandinWindow, at_port, fill
from fenwind.standins.of_job import world_of_job

#: Height of the simulated base's antenna over its mark, metres.
BASE_HEIGHT_M = 1.5
#: Trouble as people say it: what the control port calls it, whose port, and what it is told.
TROUBLES: tuple[tuple[str, str, str, dict[str, Any]], ...] = (
    ("Trees around the rover", "obstruction", "rover", {"mask": 50}),
    ("Radio on another channel", "wrong_channel", "rover", {}),
    ("Somebody else on the radio's channel", "jammed", "base", {}),
    ("No link to the base", "link", "rover", {}),
    ("Rover out of level, 2 degrees", "bubble", "rover", {"degrees": 2.0, "bearing": 90.0}),
    ("Rover's battery empty", "battery", "rover", {"percent": 0}),
    ("Base's storage full", "storage", "base", {"mb": 0}),
    ("Base bumped, 60 mm east", "bump", "base", {"de": 0.06}),
)


class StandinPanel(StandinWindow):
    """See the module."""

    title, verb = "Stand-in receivers", "gnss"
    said = (
        "Simulated receivers on ports of this machine, to practise with. Nothing here belongs to the "
        "survey: what they send is made up, and the job should say so in its name."
    )

    def __init__(self, receivers: Receivers, parent: QWidget) -> None:
        self.devices = receivers
        super().__init__(receivers.bridge, parent)

    def choices(self) -> list[tuple[str, QWidget]]:
        self.base_mark, self.speed = QComboBox(), QSpinBox()
        self.speed.setRange(1, 100)
        self.speed.setSuffix(" simulated s a second")
        return [("The base stands over", self.base_mark), ("Time runs at", self.speed)]

    def fill_marks(self, names: list[str]) -> None:
        fill(self.base_mark, names)

    def fill_running(self, grid: QGridLayout) -> None:
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
        for k, (text, what, which, more) in enumerate(TROUBLES):
            box = QCheckBox(text)
            box.toggled.connect(partial(self._trouble, what, which, more))
            self.troubles.append(box)
            grid.addWidget(box, 2 + k, 0, 1, 2)
        legacy = QCheckBox("The base sends the older messages")
        legacy.toggled.connect(lambda on: self.say("base", do="corrections", set="legacy" if on else "msm7"))
        self.troubles.append(legacy)
        grid.addWidget(legacy, 2 + len(TROUBLES), 0, 1, 2)

    def world(self) -> dict[str, Any]:
        b = self.bridge
        world = world_of_job(b.state, b.derived, b.folder, self.base_mark.currentText(), BASE_HEIGHT_M)
        fill(self.rover_mark, [m["name"] for m in world["marks"]])
        return world

    def arguments(self) -> list[str]:
        return ["--speed", str(self.speed.value())]

    def came_up(self) -> str:
        base, rover = self.ports["base"], self.ports["rover"]
        self.devices.set_equipment(
            rover=at_port(rover["nmea"]), rover_control=at_port(rover["control"]), base=at_port(base["nmea"]),
            base_control=at_port(base["control"]), corrections=at_port(base["rtcm"]),
        )  # fmt: skip
        return (
            f"Running: the rover on {at_port(rover['nmea'])}, its pole 2.000 m; the base on "
            f"{at_port(base['nmea'])}, its antenna {BASE_HEIGHT_M:.3f} m over "
            f"{self.base_mark.currentText()}, corrections on {at_port(base['rtcm'])}. The job's equipment "
            "now names them."
        )

    def control_port(self, which: str) -> int:
        return int(self.ports[which]["control"])

    def _trouble(self, what: str, which: str, more: dict[str, Any], on: bool) -> None:
        self.say(which, do="trouble", what=what, on=on, **more)

    def carry(self, e_m: float, n_m: float) -> None:
        """Carry the rover to a place on the plane of the frame shown."""
        place = self.place_of(e_m, n_m)
        if place is not None:
            self.say("rover", do="go", **place)
