"""Stages that wait for their time: what will be done there, in a line."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QVBoxLayout, QWidget

from fenwind.desk.shell import look
from fenwind.desk.theme import font

WORDS = {
    "Sessions": "Base and rover sessions will be kept here: base positions, antenna heights, occupations, "
    "raw data.",
    "Setups": "Total-station setups will be kept here: orientation, rounds, resections, traverses, "
    "side shots.",
    "Network": "The network adjustment will stand here: everything observed in one solution, with its "
    "statistics.",
    "Ground": "Ground and grid will be compared here: combined factors, ground-scaled coordinates, "
    "low-distortion projections.",
}


class WaitingSheet(QWidget):
    """One line about a stage that is not there yet."""

    def __init__(self, stage: str) -> None:
        super().__init__()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 16, 18, 16)
        caption = QLabel(stage.upper())
        look(caption, "caption")
        text = QLabel(WORDS[stage])
        text.setFont(font(15))
        text.setWordWrap(True)
        look(text, "faint")
        layout.addWidget(caption)
        layout.addSpacing(6)
        layout.addWidget(text)
        layout.addStretch(1)
        layout.setAlignment(Qt.AlignmentFlag.AlignTop)
