"""Ctrl+K: finds marks and commands by any part of the name."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QObject, QPoint, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from fenwind.desk.shell import look


@dataclass(frozen=True, slots=True)
class Found:
    """One thing to find: words, a grey hint behind them, and what choosing it does. also: other words that it
    is looked for by."""

    text: str
    hint: str
    run: Callable[[], object]
    also: str = ""


def matching(entries: Sequence[Found], text: str, most: int = 12) -> list[Found]:
    """Entries that hold every word of a text, in their own words or in others for it; those that begin
    with it first, then those that hold all of it themselves."""
    words = text.lower().split()
    hits = [e for e in entries if all(w in f"{e.text} {e.also}".lower() for w in words)]

    def far(e: Found) -> tuple[bool, bool]:
        own = e.text.lower()
        return not own.startswith(text.lower().strip()), not all(w in own for w in words)

    return sorted(hits, key=far)[:most]


class Finder(QFrame):
    """A line and the list of what it finds, over the desk."""

    def __init__(self, entries: Callable[[], Sequence[Found]], parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("finder")
        self._entries, self._all = entries, ()  # type: Callable[[], Sequence[Found]], Sequence[Found]
        layout = QVBoxLayout(self)
        layout.setContentsMargins(8, 8, 8, 8)
        self.edit = QLineEdit()
        self.edit.setPlaceholderText("Mark or command, any part of the name")
        self.list = QListWidget()
        look(self.list, "found")
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        layout.addWidget(self.edit)
        layout.addWidget(self.list)
        self.edit.textChanged.connect(self._search)
        self.edit.returnPressed.connect(self._run)
        self.edit.installEventFilter(self)
        self.list.itemClicked.connect(lambda item: self._run())
        self.hide()

    def open(self, at: QPoint) -> None:
        """Show the line under a point of the parent, empty."""
        self._all = self._entries()
        self.edit.clear()
        self._search("")
        self.setGeometry(at.x(), at.y(), 420, 380)
        self.show()
        self.raise_()
        self.edit.setFocus()

    def _search(self, text: str) -> None:
        self.list.clear()
        for found in matching(self._all, text):
            item = QListWidgetItem(f"{found.text}    {found.hint}")
            item.setData(Qt.ItemDataRole.UserRole, found)
            self.list.addItem(item)
        if self.list.count():
            self.list.setCurrentRow(0)
        elif text:
            self.list.addItem("Nothing of that name. Marks are found by name, commands by their words.")

    def _run(self) -> None:
        item = self.list.currentItem()
        found = item.data(Qt.ItemDataRole.UserRole) if item else None
        if found is not None:
            self.hide()
            found.run()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
                step = 1 if event.key() == Qt.Key.Key_Down else -1
                self.list.setCurrentRow(max(0, min(self.list.count() - 1, self.list.currentRow() + step)))
                return True
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                return True
        elif event.type() == QEvent.Type.FocusOut:
            self.hide()
        return super().eventFilter(watched, event)
