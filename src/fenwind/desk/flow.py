"""A layout that sets widgets one after the other and breaks lines like text."""

from __future__ import annotations

from PySide6.QtCore import QPoint, QRect, QSize, Qt
from PySide6.QtWidgets import QLayout, QLayoutItem, QWidget


class FlowLayout(QLayout):
    """Left to right, then the next line."""

    def __init__(self, parent: QWidget | None = None, gap: int = 0, line_gap: int = 4) -> None:
        super().__init__(parent)
        self._items: list[QLayoutItem] = []
        self._heights: dict[int, int] = {}
        self._gap, self._line_gap = gap, line_gap
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, width: int) -> int:
        # Qt asks many times for one layout; while a worker computes, each answer in Python has to wait for
        # the interpreter several times.
        if width not in self._heights:
            self._heights[width] = self._place(QRect(0, 0, width, 0), move=False)
        return self._heights[width]

    def invalidate(self) -> None:
        self._heights.clear()
        super().invalidate()

    def setGeometry(self, rect: QRect) -> None:
        super().setGeometry(rect)
        self._place(rect, move=True)

    def sizeHint(self) -> QSize:
        return self.minimumSize()

    def minimumSize(self) -> QSize:
        width = max((item.minimumSize().width() for item in self._items), default=0)
        return QSize(width, max((item.sizeHint().height() for item in self._items), default=0))

    def _glued(self, place: int) -> bool:
        """Whether an item stays on the line of the one before it: a comma, a full stop, the blank after a
        part."""
        widget = self._items[place].widget() if place < len(self._items) else None
        return widget is not None and bool(widget.property("glued"))

    def _together(self, place: int, hints: list[QSize]) -> int:
        """Width of an item with those glued to it."""
        width, following = hints[place].width(), place + 1
        while self._glued(following):
            width += hints[following].width()
            following += 1
        return width

    def _place(self, rect: QRect, *, move: bool) -> int:
        x, y, line = rect.x(), rect.y(), 0
        hints = [item.sizeHint() for item in self._items]
        for place, item in enumerate(self._items):
            hint = hints[place]
            if (
                x > rect.x()
                and not self._glued(place)
                and x + self._together(place, hints) > rect.right() + 1
            ):
                x, y, line = rect.x(), y + line + self._line_gap, 0
            if move:
                item.setGeometry(QRect(QPoint(x, y), hint))
            x += hint.width() + self._gap
            line = max(line, hint.height())
        return y + line - rect.y()
