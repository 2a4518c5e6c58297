"""The line above the doubts: what just happened, and the list of what moved by it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from fenwind.desk.cells import Column
from fenwind.desk.shell import PlainLabel, look, show_look
from fenwind.desk.table import RecordTable
from fenwind.desk.theme import scaled
from fenwind.job.moved import Moved
from fenwind.reports.fit_report import mm


@dataclass(frozen=True, slots=True)
class _MovedRow:
    """One mark of the before/after list, metres."""

    name: str
    frame: str
    de: float
    dn: float
    dh: float


def _way(key: str, title: str) -> Column:
    return Column(
        key=key,
        title=title,
        unit="mm",
        text=lambda r: mm(getattr(r, key), sign=True, decimals=2),
        value=lambda r: getattr(r, key) * 1000.0,
        right=True,
        width=110,
        tip="After - before",
    )


class MessageLine(QWidget):
    """A text, and after a change a table with the way each mark went."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._changes: tuple[Moved, ...] = ()
        self._frames: dict[str, str] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        columns = [
            Column(
                key="name", title="mark", text=lambda r: r.name, tone=lambda r: "bold", whole=True, width=120
            ),
            Column(key="frame", title="moved in", text=lambda r: r.frame, tone=lambda r: "faint", width=180),
            _way("de", "ΔE"),
            _way("dn", "ΔN"),
            _way("dh", "ΔH"),
            Column(key="room", title=""),
        ]
        self.table = RecordTable(columns)
        self.table.setAccessibleName("Before and after")
        self.table.setFixedHeight(scaled(200))
        self.table.hide()
        column.addWidget(self.table)
        line = QWidget()
        line.setObjectName("message")
        row = QHBoxLayout(line)
        row.setContentsMargins(16, 6, 16, 6)
        self.label = PlainLabel("")
        self.label.setWordWrap(True)
        self.list = QPushButton("list")
        self.list.setToolTip("Show every mark that moved, after - before")
        look(self.list, "link")
        self.list.clicked.connect(self.toggle_list)
        row.addWidget(self.label, 1)
        row.addWidget(self.list)
        column.addWidget(line)
        self.hide()

    def text(self) -> str:
        """What is said."""
        return self.label.text()

    def say(self, text: str, tone: str) -> None:
        """Say something; tone "doubt" for errors."""
        self.table.hide()
        self.list.hide()
        self.label.setText(text)
        show_look(self.label, tone)
        self.setVisible(bool(text))

    def show_rows(self, changes: Sequence[Moved], frames: dict[str, str]) -> None:
        """Offer the list of what moved; it is made when somebody opens it."""
        self._changes, self._frames = tuple(changes), frames
        self.list.setVisible(any(c.names for c in changes))
        self.list.setText("list")

    def _fill(self) -> None:
        rows = [
            _MovedRow(
                name, self._frames.get(c.frame, c.frame), float(c.de_m[i]), float(c.dn_m[i]), float(c.dh_m[i])
            )
            for c in self._changes
            for i, name in enumerate(c.names)
        ]
        self.table.records.set_rows(rows)

    def toggle_list(self) -> None:
        """Open or close the list."""
        if not self.table.isVisible():
            self._fill()
        self.table.setVisible(not self.table.isVisible())
        self.list.setText("close" if self.table.isVisible() else "list")

    def fade(self) -> None:
        """Go away, unless the list is being read."""
        if not self.table.isVisible():
            self.hide()
