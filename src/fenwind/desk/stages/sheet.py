"""What all sheets share: caption, statement, the line that asks, and the sheet's margins."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QVBoxLayout

from fenwind.desk.askline import AskLine
from fenwind.desk.bridge import JobBridge
from fenwind.desk.shell import PlainLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.page import StagePage
from fenwind.desk.statement import Statement
from fenwind.desk.theme import font
from fenwind.errors import FenwindError
from fenwind.job.steps.outcome import Node
from fenwind.quantities.lengths import METRE, parse_tolerances
from fenwind.records.entries import Gesture
from fenwind.records.records import Record

R = TypeVar("R", bound=Record)


class Sheet(StagePage):
    """A working area: `column` is where a stage puts its own things, under statement and ask line."""

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(20, 16, 18, 14)
        self.column.setSpacing(9)
        self.caption = PlainLabel("")
        self.caption.setFont(font(11, spacing=0.4))
        look(self.caption, "caption")
        self.statement = Statement()
        self.ask = AskLine()
        self.column.addWidget(self.caption)
        self.column.addWidget(self.statement)
        self.column.addWidget(self.ask)

    def ask_tolerances(self, question: str, text: str, use: Callable[[float, float], object]) -> None:
        """Ask for a tolerance in plan and one in height; `use` gets them in metres."""

        def answer(typed: str) -> bool:
            try:
                plan, height = parse_tolerances(typed)
            except FenwindError as error:
                self.bridge.tell_error(error)
                return False
            return use(plan, height) is not False

        self.ask.ask(question, answer, text=text, placeholder="10, 20", button="Use it")

    def refresh(self) -> None:
        """Show the job as it is now; a sheet that is out of sight does so when it is shown."""
        if self.isVisible():
            self.show_job()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.show_job()

    def show_job(self) -> None:
        """Fill the sheet from the job."""
        raise NotImplementedError


class RecordSheet(Sheet):
    """A sheet of one record at a time; `kind` is the step that records of its class are."""

    kind = ""
    _key = ""

    def looked_at(self, record_class: type[R]) -> R | None:
        """The record looked at: the one chosen, else the first that is on."""
        every: dict[str, Any] = {k: r for k, r in self.bridge.state.of(record_class).items() if r.active}
        return every.get(self._key) or next(iter(every.values()), None)

    def came_of(self, record: Record | None) -> Any:
        """What came of a record, or why nothing did; None where there is no record, and while the result is
        that of a record with fewer rows, or with more."""
        ahead = self.bridge.ahead_of(self.node_of(record))
        if ahead is not None:
            return ahead.result if ahead.error is None else ahead.error
        found: Any = self.bridge.derived.of_kind(self.kind).get(record.id) if record is not None else None
        own = next((getattr(found, name) for name in ("setup", "book") if hasattr(found, name)), record)
        return found if _rows(own) == _rows(record) else None

    def node_of(self, record: Record | None) -> Node | None:
        """The step of a record."""
        return Node(self.kind, record.id) if record is not None else None

    def take_in(self, record_class: type[Record], make: Callable[[], Gesture]) -> bool:
        """Keep what a file says and look at it. Lengths whose heads state no unit are in that of the frame
        shown, which is said where it is not metres."""
        done = self.bridge.attempt(make)
        if done:
            self._key = list(self.bridge.state.of(record_class))[-1]
            self.refresh()
            if self.bridge.unit != METRE:
                self.bridge.tell_then(
                    f"Lengths whose heads state no unit were read as {self.bridge.unit.plural}."
                )
        return done

    def look_at(self, key: str) -> None:
        """Look at a record by its id."""
        self._key = key
        self.show_job()
        self.plan_changed.emit()


def _rows(record: object) -> int:
    """How many rows a record of field work has, those that are collected from setups by their number."""
    setups = getattr(record, "setups", ())
    if setups:
        return -len(setups)
    return next(
        (len(getattr(record, name)) for name in ("target", "here", "first") if hasattr(record, name)), 0
    )
