"""Finding a system without knowing its number: words of its name, a code, a country, or where the job
lies."""

from __future__ import annotations

import math
from collections.abc import Callable

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from fenwind.desk.cells import Column
from fenwind.desk.shell import PlainLabel, look
from fenwind.desk.table import RecordTable
from fenwind.geodesy.catalogue import System, SystemKind, search, town_in, typed_place


class SystemSearch(QWidget):
    """A line to type in, a chip for "where the job lies", and what was found; `chosen` gets the system
    picked."""

    def __init__(self, chosen: Callable[[System], object]) -> None:
        super().__init__()
        self._chosen = chosen
        self._kind: SystemKind = "projected"
        self._place: tuple[float, float] | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        line = QHBoxLayout()
        line.setSpacing(8)
        self.edit = QLineEdit()
        self.edit.setPlaceholderText(
            "Name, code, country, state, town or place: utm 32 norway, Nairobi, 36.17, -86.78"
        )
        self.edit.setClearButtonEnabled(True)
        self.here = QPushButton("only where the job lies")
        self.here.setCheckable(True)
        look(self.here, "chip")
        self.take = QPushButton("Use it")
        look(self.take, "main")
        self.leave = QPushButton("Leave it")
        look(self.leave, "second")
        self.count = PlainLabel("")
        look(self.count, "faint")
        line.addWidget(self.edit, 1)
        for widget in (self.here, self.take, self.leave):
            line.addWidget(widget)
        column.addLayout(line)
        column.addWidget(self.count)
        self.table = RecordTable(
            [
                Column(key="code", title="code", text=lambda s: s.code, tone=lambda s: "bold", width=96),
                Column(key="name", title="system", text=lambda s: s.name, width=230),
                Column(key="area", title="for", text=_area, tone=lambda s: "faint", width=210),
                Column(
                    key="projection",
                    title="projection",
                    text=lambda s: s.projection,
                    tone=lambda s: "faint",
                    width=150,
                ),
            ]
        )
        self.table.setAccessibleName("Systems found")
        column.addWidget(self.table, 1)
        self._wait = QTimer(self)
        self._wait.setSingleShot(True)
        self._wait.setInterval(120)
        self._wait.timeout.connect(self.show_found)
        self.edit.textChanged.connect(lambda _text: self._wait.start())
        self.edit.returnPressed.connect(self._use)
        self.here.toggled.connect(lambda _on: self.show_found())
        self.take.clicked.connect(self._use)
        self.leave.clicked.connect(self.hide)
        self.table.doubleClicked.connect(lambda _index: self._use())
        self.hide()

    def open(self, kind: SystemKind, place: tuple[float, float] | None) -> None:
        """Ask for a system of a kind; `place` (lat, lon in radians) is where the job lies, None when that is
        not known yet."""
        self._kind, self._place = kind, place
        self.here.setVisible(place is not None)
        self.here.setChecked(place is not None)
        words = "horizontal system" if kind == "projected" else "height system"
        self.edit.setAccessibleName(f"Find a {words}")
        self.table.setColumnHidden(3, kind == "vertical")
        self.edit.clear()
        self.show()
        self.show_found()
        self.edit.setFocus(Qt.FocusReason.OtherFocusReason)

    def show_found(self) -> None:
        """Search now."""
        self._wait.stop()
        place = self._place if self.here.isChecked() else None
        found = search(self.edit.text(), self._kind, place)
        self.table.records.set_rows(found)
        if found:
            self.table.setCurrentIndex(self.table.proxy.index(0, 0))
        many = f"{len(found)} found" if len(found) < 200 else "200 and more"
        town = town_in(self.edit.text())[0] if found and typed_place(self.edit.text()) is None else None
        at = town is not None and any(s.covers(town.lat, town.lon) for s in found)
        self.count.setText(f"{many}, at {town.title}" if town is not None and at else many)
        self.take.setEnabled(bool(found))

    def _use(self) -> None:
        self.show_found() if self._wait.isActive() else None
        system = self.table.row_at(self.table.currentIndex())
        if system is not None and self._chosen(system) is not False:
            self.hide()


def _area(system: System) -> str:
    """Where a system is for, after what is newer there."""
    return f"newer: {system.newer}; {system.area}" if system.newer else system.area


def degrees_of(place: tuple[float, float]) -> str:
    """A place for people: 61.30° N, 8.40° E."""
    lat, lon = (math.degrees(v) for v in place)
    return f"{abs(lat):.2f}° {'N' if lat >= 0 else 'S'}, {abs(lon):.2f}° {'E' if lon >= 0 else 'W'}"
