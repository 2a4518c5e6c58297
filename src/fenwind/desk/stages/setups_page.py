"""The Setups stage: setups, traverses and levelling, one in the place of the other."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QPushButton, QStackedWidget, QVBoxLayout, QWidget

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.shell import look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.levellings import LevellingSheet
from fenwind.desk.stages.page import StagePage
from fenwind.desk.stages.setups import SetupsSheet
from fenwind.desk.stages.sheet import Sheet
from fenwind.desk.stages.traverses import TraverseSheet
from fenwind.job.steps.outcome import Node
from fenwind.records.lines import LevelBook, TraverseBook
from fenwind.records.records import Record
from fenwind.records.setups import Setup

KINDS: tuple[tuple[str, type[Record]], ...] = (
    ("Setups", Setup), ("Traverses", TraverseBook), ("Levelling", LevelBook),
)  # fmt: skip


class SetupsPage(StagePage):
    """See the module."""

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self.setups = SetupsSheet(bridge, stage)
        self.traverses = TraverseSheet(bridge, stage)
        self.levelling = LevellingSheet(bridge, stage)
        self.sheets: tuple[Sheet, ...] = (self.setups, self.traverses, self.levelling)
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
        row.addStretch(1)
        self.chips[0].setChecked(True)
        self.traverses.wanted.connect(partial(self.show_sheet, self.traverses))
        self.levelling.wanted.connect(partial(self.show_sheet, self.levelling))
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
        """Show setups, traverses or levelling."""
        self.chips[self.sheets.index(sheet)].setChecked(True)
        self.stack.setCurrentWidget(sheet)
        self.bridge.show_stage(self.stage.name)
        self.plan_changed.emit()

    def refresh(self) -> None:
        for chip, (name, kind) in zip(self.chips, KINDS, strict=True):
            count = sum(record.active for record in self.bridge.state.of(kind).values())
            chip.setText(f"{name} {count}" if count else name)
        for sheet in self.sheets:
            sheet.refresh()

    def focus(self) -> QWidget | None:
        return self.sheet.focus()

    def plan_step(self) -> Node | None:
        return self.sheet.plan_step()

    def select(self, name: str) -> None:
        for sheet in self.sheets:
            sheet.select(name)

    def pick(self, names: set[str]) -> bool:
        return self.sheet.pick(names)

    def commands(self) -> Sequence[ActionSpec]:
        def show(text: str, sheet: Sheet) -> ActionSpec:
            return ActionSpec(
                id=f"setups.show.{text.lower()}", menu=self.stage.name, text=f"Show {text.lower()}",
                tip=f"{text} of the job", run=partial(self.show_sheet, sheet),
            )  # fmt: skip

        shows = [show(text, sheet) for (text, _), sheet in zip(KINDS, self.sheets, strict=True)]
        return (*shows, *(spec for sheet in self.sheets for spec in sheet.commands()))
