"""The window that runs the stand-in total station: carries the prism about, changes it, makes trouble."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QGridLayout,
    QPushButton,
    QWidget,
)

from fenwind.desk.instrument import LiveInstrument
from fenwind.desk.shell import PlainLabel, look
from fenwind.desk.standin_window import StandinWindow, at_port, fill
from fenwind.standins.of_job import station_world_of_job

#: Trouble as people say it, and what the port is told with it on and off.
TROUBLES: tuple[tuple[str, dict[str, Any], dict[str, Any]], ...] = (
    ("Instrument out of level", {"do": "tilt", "along_s": 400.0}, {"do": "tilt"}),
    ("Tripod bumped, 8 mm and 40″", {"do": "bump", "de": 0.008, "turn_s": 40.0},
     {"do": "bump", "turn_s": -40.0}),
    ("Another prism, 34.4 mm", {"do": "pole", "prism_mm": 34.4}, {"do": "pole", "prism_mm": 0.0}),
)  # fmt: skip


class StandinStation(StandinWindow):
    """See the module."""

    title, verb, it_runs = "Stand-in total station", "station", "It is not running."
    said = (
        "A simulated total station on a port of this machine, to practise with. Nothing here belongs to the "
        "survey: what it reads is made up, and the job should say so in its name."
    )

    def __init__(self, live: LiveInstrument, parent: QWidget) -> None:
        self.live = live
        super().__init__(live.bridge, parent)
        self._place_for = "pole"
        self._stands: dict[str, Any] | None = None

    def choices(self) -> list[tuple[str, QWidget]]:
        self.stands, self.tall = QComboBox(), _metres(1.6)
        self.stands.currentTextChanged.connect(self._on_mark)
        elsewhere = QPushButton("… or at a place on the plan")
        look(elsewhere, "link")
        elsewhere.clicked.connect(partial(self._ask_place, "station"))
        return [
            ("It stands over", self.stands), ("in truth", elsewhere), ("so high, in metres", self.tall),
        ]  # fmt: skip

    def _on_mark(self, name: str) -> None:
        self._stands = None

    def fill_marks(self, names: list[str]) -> None:
        fill(self.stands, names)

    def fill_running(self, grid: QGridLayout) -> None:
        self.pole_mark, self.pole = QComboBox(), _metres(1.5)
        self.pole_mark.setAccessibleName("Where the prism is carried")
        self.pole.setAccessibleName("Height of the prism over the ground, metres")
        there, place = QPushButton("Carry the prism there"), QPushButton("… or to a place on the plan")
        look(there, "second")
        look(place, "link")
        there.clicked.connect(lambda: self.say("station", do="go", mark=self.pole_mark.currentText()))
        place.clicked.connect(partial(self._ask_place, "pole"))
        self.pole.valueChanged.connect(lambda metres: self.say("station", do="pole", height=metres))
        grid.addWidget(self.pole_mark, 0, 0)
        grid.addWidget(there, 0, 1)
        grid.addWidget(PlainLabel("The prism over the ground, metres"), 1, 0)
        grid.addWidget(self.pole, 1, 1)
        grid.addWidget(place, 2, 1)
        for k, (text, on, off) in enumerate(TROUBLES):
            box = QCheckBox(text)
            box.toggled.connect(partial(self._trouble, on, off))
            self.troubles.append(box)
            grid.addWidget(box, 3 + k, 0, 1, 2)

    def _trouble(self, told_on: dict[str, Any], told_off: dict[str, Any], on: bool) -> None:
        self.say("station", **(told_on if on else told_off))

    def world(self) -> dict[str, Any]:
        b = self.bridge
        stands: Any = self._stands or {"mark": self.stands.currentText()}
        world = station_world_of_job(b.state, b.derived, b.folder, stands, self.tall.value())
        fill(self.pole_mark, [m["name"] for m in world["marks"]])
        return world

    def came_up(self) -> str:
        where = at_port(self.control_port(""))
        self.live.set_equipment(instrument=where)
        self.live.connect_to(where)
        return f"Running on {where}, {self.tall.value():.3f} m over its mark. The job's equipment names it."

    def control_port(self, which: str) -> int:
        return int(self.ports["station"]["port"])

    def _ask_place(self, what: str) -> None:
        self._place_for = what
        self.wants_place.emit()

    def carry(self, e_m: float, n_m: float) -> None:
        """Carry the prism, or before the start the instrument, to a place on the plane of the frame shown."""
        place = self.place_of(e_m, n_m)
        if place is None:
            return
        if self._place_for == "station" and not self.ports:
            self._stands = place
            self.state.setText(f"It will stand at {place['lat']:.6f}, {place['lon']:.6f}.")
        else:
            self.say("station", do="go", **place)


def _metres(value: float) -> QDoubleSpinBox:
    box = QDoubleSpinBox()
    box.setRange(0.0, 10.0)
    box.setDecimals(3)
    box.setSingleStep(0.1)
    box.setValue(value)
    return box
