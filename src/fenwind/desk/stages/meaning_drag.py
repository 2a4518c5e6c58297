"""Meanings of columns as words that are dragged onto a column's head."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QMimeData, QObject, Qt
from PySide6.QtGui import QDrag, QDropEvent, QMouseEvent
from PySide6.QtWidgets import QHeaderView, QLabel

from fenwind.desk.flow import Flow
from fenwind.desk.shell import PlainLabel, look

MIME = "application/x-fenwind-meaning"


class _Word(QLabel):
    """One meaning; dragging it starts a drag with its key."""

    def __init__(self, key: str, text: str) -> None:
        super().__init__(text)
        self._key = key
        look(self, "draggable")
        self.setCursor(Qt.CursorShape.OpenHandCursor)
        self.setToolTip("Drag onto the head of the column that holds it")

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if event.buttons() & Qt.MouseButton.LeftButton:
            drag = QDrag(self)
            data = QMimeData()
            data.setData(MIME, self._key.encode())
            drag.setMimeData(data)
            drag.setPixmap(self.grab())
            drag.exec(Qt.DropAction.CopyAction)


class MeaningChips(Flow):
    """All meanings in a row."""

    def __init__(self, meanings: dict[str, str]) -> None:
        super().__init__(gap=10, least=18)
        lead = PlainLabel("drag")
        look(lead, "faint")
        self.set_widgets([lead, *(_Word(key, text.split(",")[0]) for key, text in meanings.items())])


class HeadDrop(QObject):
    """Lets a table's head take meanings that are dropped on it."""

    def __init__(self, header: QHeaderView, dropped: Callable[[int, str], object]) -> None:
        super().__init__(header)
        self._header, self._dropped = header, dropped
        header.viewport().setAcceptDrops(True)
        header.viewport().installEventFilter(self)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() not in (
            QEvent.Type.DragEnter,
            QEvent.Type.DragMove,
            QEvent.Type.Drop,
        ) or not isinstance(event, QDropEvent):
            return False
        if not event.mimeData().hasFormat(MIME):
            return False
        section = self._header.logicalIndexAt(event.position().toPoint())
        event.setAccepted(section >= 2)
        if event.type() == QEvent.Type.Drop and section >= 2:
            self._dropped(section, bytes(event.mimeData().data(MIME).data()).decode())
        return True
