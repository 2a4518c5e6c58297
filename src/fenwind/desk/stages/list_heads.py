"""The columns of a list under what they mean: a table whose heads are clicked, or take a word dropped on
them."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Signal
from PySide6.QtGui import QCursor
from PySide6.QtWidgets import QMenu, QVBoxLayout, QWidget

from fenwind.desk.cells import Column
from fenwind.desk.stages.incoming_rows import MEANING_WORDS
from fenwind.desk.stages.meaning_drag import HeadDrop, MeaningChips
from fenwind.desk.statement import choice
from fenwind.desk.table import RecordTable, column_width
from fenwind.exchange.point_list import MEANINGS, ColumnMatch

#: Meanings that cannot stand beside one.
_INSTEAD = {"e": ("lat", "lon"), "n": ("lat", "lon"), "lat": ("e", "n"), "lon": ("e", "n")}


class ListHeads(QWidget):
    """`match` is what the columns mean; `changed` tells that somebody said otherwise. lead: columns of the
    table before those of the list."""

    changed = Signal()

    def __init__(self, lead: int) -> None:
        super().__init__()
        self.match = ColumnMatch(columns={})
        self._lead, self._width = lead, 0
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(9)
        column.addWidget(MeaningChips({m: MEANING_WORDS[m] for m in MEANINGS}))
        self.table = RecordTable([], filtered=False)
        head = self.table.horizontalHeader()
        head.sectionClicked.connect(self._ask)
        self._drop = HeadDrop(head, lambda section, meaning: self.set_meaning(section - lead, meaning))
        column.addWidget(self.table, 1)

    def show_columns(self, columns: list[Column], width: int) -> None:
        """Columns of the table; width: how many the list has."""
        self._width = width
        self.table.records.set_columns(columns)
        for i, column in enumerate(columns):
            self.table.setColumnWidth(i, column_width(column))

    def _ask(self, section: int) -> None:
        """A click on a column's head: say what it means."""
        index = section - self._lead
        if not 0 <= index < self._width:
            return
        menu = QMenu(self)
        current = next((m for m, i in self.match.columns.items() if i == index), "")
        for meaning in (*MEANINGS, ""):
            set_it = partial(self.set_meaning, index, meaning)
            choice(menu, MEANING_WORDS[meaning], set_it, checked=meaning == current)
        menu.aboutToHide.connect(menu.deleteLater)
        menu.popup(QCursor.pos())

    def set_meaning(self, index: int, meaning: str) -> None:
        """Say what a column means; whatever meant that before, or the column before, is let go."""
        columns = {m: i for m, i in self.match.columns.items() if i != index and m != meaning}
        if meaning:
            columns[meaning] = index
            for gone in _INSTEAD.get(meaning, ()):
                columns.pop(gone, None)
        self.match = ColumnMatch(
            columns=columns,
            units={m: u for m, u in self.match.units.items() if m in columns},
            opposite=self.match.opposite & set(columns),
        )
        self.changed.emit()
