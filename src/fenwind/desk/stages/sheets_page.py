"""A stage of several sheets, one in the place of the other, chosen by chips above them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.plan_scene import Scene
from fenwind.desk.shell import look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.page import StagePage
from fenwind.desk.stages.sheet import Sheet
from fenwind.job.steps.outcome import Node
from fenwind.reports.trail import Link

#: A sheet with the word on its chip, and how many things it shows (0 is left out).
Choice = tuple[str, Sheet, Callable[[], int]]


class SheetsPage(StagePage):
    """See the module."""

    def __init__(self, bridge: JobBridge, stage: Stage, choices: Sequence[Choice]) -> None:
        super().__init__(bridge, stage)
        self._choices = tuple(choices)
        self.sheets = tuple(sheet for _, sheet, _ in choices)
        self.stack = QStackedWidget()
        self.chips, group = [QPushButton() for _ in self.sheets], QButtonGroup(self)
        row = QHBoxLayout()
        row.setContentsMargins(20, 12, 18, 0)
        row.setSpacing(6)
        for chip, sheet in zip(self.chips, self.sheets, strict=True):
            chip.setCheckable(True)
            look(chip, "chip")
            group.addButton(chip)
            row.addWidget(chip)
            chip.clicked.connect(partial(self.show_sheet, sheet))
            self.stack.addWidget(sheet)
            sheet.plan_changed.connect(self.plan_changed)
            sheet.trail_changed.connect(self.trail_changed)
            sheet.wants_place.connect(self.wants_place)
        row.addStretch(1)
        self.chips[0].setChecked(True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(row)
        layout.addWidget(self.stack, 1)

    @property
    def sheet(self) -> Sheet:
        """The one shown."""
        return self.sheets[self.stack.currentIndex()]

    def show_sheet(self, sheet: Sheet) -> None:
        """Show one of them."""
        self.chips[self.sheets.index(sheet)].setChecked(True)
        self.stack.setCurrentWidget(sheet)
        self.bridge.show_stage(self.stage.name)
        self.plan_changed.emit()
        self.trail_changed.emit()

    def refresh(self) -> None:
        for chip, (name, sheet, count) in zip(self.chips, self._choices, strict=True):
            many = count()
            chip.setText(f"{name} {many}" if many else name)
            sheet.refresh()

    def shut_down(self) -> None:
        for sheet in self.sheets:
            sheet.shut_down()

    def focus(self) -> QWidget | None:
        return self.sheet.focus()

    def plan_step(self) -> Node | None:
        return self.sheet.plan_step()

    def rover_moved(self, at: tuple[float, float] | None) -> None:
        for sheet in self.sheets:
            sheet.rover_moved(at)

    def place_picked(self, e_m: float, n_m: float) -> None:
        self.sheet.place_picked(e_m, n_m)

    def overlay(self, scene: Scene) -> None:
        self.sheet.overlay(scene)

    def trail(self) -> tuple[str, Sequence[Link]] | None:
        return self.sheet.trail()

    def select(self, name: str) -> None:
        for sheet in self.sheets:
            sheet.select(name)

    def pick(self, names: set[str]) -> bool:
        return self.sheet.pick(names)

    def commands(self) -> Sequence[ActionSpec]:
        shows = [
            ActionSpec(
                id=f"{self.stage.name.lower()}.show.{name.lower()}", menu=self.stage.name,
                text=f"Show {name.lower()}", tip=f"{name} of the job", run=partial(self.show_sheet, sheet),
            )
            for name, sheet, _ in self._choices
        ]  # fmt: skip
        return (*shows, *(spec for sheet in self.sheets for spec in sheet.commands()))
