"""Stages that wait for their time: what will be done there, in a line."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QVBoxLayout

from fenwind.desk.bridge import JobBridge
from fenwind.desk.shell import PlainLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.page import StagePage
from fenwind.desk.theme import font


class WaitingPage(StagePage):
    """One line about a stage that is not there yet."""

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(20, 16, 18, 16)
        caption = PlainLabel(stage.name.upper())
        look(caption, "caption")
        text = PlainLabel(stage.empty)
        text.setFont(font(15))
        text.setWordWrap(True)
        look(text, "faint")
        layout.addWidget(caption)
        layout.addSpacing(6)
        layout.addWidget(text)
        layout.addStretch(1)
        layout.setAlignment(Qt.AlignmentFlag.AlignTop)
