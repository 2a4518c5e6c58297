"""Marks: their table, or the list that is coming in, and the commands of both."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import (
    QFileDialog,
    QStackedLayout,
    QWidget,
)

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.plan_scene import Scene
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.incoming import IncomingSheet
from fenwind.desk.stages.marks import MarksTable
from fenwind.desk.stages.page import StagePage
from fenwind.reports.trail import Link

PASTE_TIP = "Show a list against the job, before anything is changed"


SET_DOWN_TIP = "Topmost selected value into all selected cells of its column"


CONTROL_TIP = "Derived marks keep the position they have now, with its uncertainty, and may be held"


RELEASE_TIP = "Given positions are switched off; fits carry the marks again"


MERGE_TIP = "All that was given, measured and booked of one goes over to the other, and is kept"


ADOPT_TIP = "All positions the selected mark could have, with their differences; choose one, with a reason"


OFF_TIP = "Selected marks take no part; they stay, greyed"


class MarksPage(StagePage):
    """The table of marks, or the list that is coming in."""

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self.stack = QStackedLayout(self)
        self.marks = MarksTable(bridge, stage)
        self.incoming = IncomingSheet(bridge, stage)
        self._looked_at: int | None = None
        self.stack.addWidget(self.marks)
        self.stack.addWidget(self.incoming)
        self.marks.table.paste_requested.connect(self.paste)
        self.incoming.opened.connect(lambda: self.stack.setCurrentWidget(self.incoming))
        self.incoming.looked_at.connect(self._look_at)
        self.incoming.tried.connect(self.trail_changed)
        self.incoming.closed.connect(self._leave)
        self.incoming.shown.connect(self.plan_changed)

    def paste(self, text: str) -> None:
        """Show a pasted list against the job; nothing is changed yet."""
        if self.incoming.load_text(text, "the clipboard"):
            self.stack.setCurrentWidget(self.incoming)
            self.plan_changed.emit()

    def read_file(self, path: str) -> None:
        """Show a file's list against the job; nothing is changed yet."""
        if self.incoming.load_file(path):
            self.stack.setCurrentWidget(self.incoming)

    def take_file(self, path: str) -> bool:
        self.bridge.show_stage(self.stage.name)
        self.read_file(path)
        return True

    def _look_at(self, point: int) -> None:
        self._looked_at = point
        self.trail_changed.emit()

    def _leave(self) -> None:
        self._looked_at = None
        self.stack.setCurrentWidget(self.marks)
        self.trail_changed.emit()
        self.plan_changed.emit()

    def refresh(self) -> None:
        self.marks.refresh()
        self.incoming.refresh()

    def shut_down(self) -> None:
        self.incoming.shut_down()

    def focus(self) -> QWidget:
        return self.marks.table if self.marks.table.isVisible() else self.marks.first

    def overlay(self, scene: Scene) -> None:
        """What is coming in, over what is there."""
        if self.stack.currentWidget() is self.incoming:
            scene.coming = self.incoming.coming(self.bridge.frame_id)
            if scene.coming is not None and scene.coming.alone:
                scene.show_alone(scene.coming)

    def trail(self) -> tuple[str, Sequence[Link]] | None:
        """That of the point looked at in the list that is coming in."""
        if self._looked_at is None or not self.incoming.name_of(self._looked_at):
            return None
        return f"{self.incoming.name_of(self._looked_at)}, COMING IN", self.incoming.links(self._looked_at)

    def plan_selection(self) -> str | None:
        return self.incoming.name_of(self._looked_at) or None if self._looked_at is not None else None

    def select(self, name: str) -> None:
        self.marks.table.pick(lambda r: r.mark.name == name)

    def pick(self, names: set[str]) -> bool:
        self.marks.table.pick_all(lambda r: r.mark.name in names)
        return True

    def _paste_clipboard(self) -> None:
        self.bridge.show_stage(self.stage.name)
        self.paste(QGuiApplication.clipboard().text())

    def _browse(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Read a list", self.bridge.folder)
        if path:
            self.bridge.show_stage(self.stage.name)
            self.read_file(path)

    def commands(self) -> Sequence[ActionSpec]:
        table = self.marks
        rows: tuple[tuple[str, str, str, Callable[[], object], str, bool], ...] = (
            ("paste", "Paste a list", PASTE_TIP, self._paste_clipboard, "Ctrl+Shift+V", False),
            ("read", "Read a list from a file …", PASTE_TIP, self._browse, "Ctrl+O", False),
            ("set_down", "Set down the selection", SET_DOWN_TIP, table.set_down, "Ctrl+Down", True),
            ("control", "Make control of the selection", CONTROL_TIP, table.make_control, "", True),
            ("derive", "Derive the selection again", RELEASE_TIP, table.release_control, "", True),
            ("merge", "Merge two marks into one …", MERGE_TIP, table.merge, "", True),
            (
                "centre",
                "Make the centre of the selection …",
                "Of two opposite points, or of a circle through three or more on its rim",
                table.make_centre,
                "",
                True,
            ),
            (
                "no_centre",
                "No centre any more",
                "The selected marks are no centres of others",
                table.no_centre,
                "",
                True,
            ),
            ("adopt", "Adopt another position …", ADOPT_TIP, table.choose_position, "", True),
            ("off", "Switch marks off", OFF_TIP, partial(table.switch, False), "", True),
            (
                "on",
                "Switch marks on",
                "Selected marks take part again",
                partial(table.switch, True),
                "",
                True,
            ),
        )
        return tuple(
            ActionSpec(
                id=f"marks.{key}",
                menu=self.stage.name,
                text=text,
                tip=tip,
                run=run,
                shortcut=shortcut,
                enabled=self.isVisible if here else lambda: True,
            )
            for key, text, tip, run, shortcut, here in rows
        )
