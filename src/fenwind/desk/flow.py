"""Widgets set one after the other, with lines broken like text."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QEvent, QSize
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QSizePolicy, QWidget


class Flow(QWidget):
    """Left to right, then the next line; as high as its lines are.

    No QLayout: of one made in Python Qt asks a thousand questions for one change of a page, and while a
    worker computes each answer has to wait for the interpreter.
    """

    def __init__(
        self, gap: int = 0, line_gap: int = 4, least: int = 0, parent: QWidget | None = None
    ) -> None:
        """Pixels between widgets, between lines, and the least height."""
        super().__init__(parent)
        self._gap, self._line_gap, self._least = gap, line_gap, least
        self._widgets: tuple[QWidget, ...] = ()
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)

    def set_widgets(self, widgets: Sequence[QWidget]) -> list[QWidget]:
        """Set these, in order; those that were there and are not among them are hidden and given back. One
        with the property `glued` stays on the line of the one before it: a comma, a full stop, the blank
        after a part."""
        gone = [widget for widget in self._widgets if widget not in widgets]
        for widget in gone:
            widget.hide()
        self._widgets = tuple(widgets)
        for before, widget in zip((None, *self._widgets), self._widgets, strict=False):
            widget.setParent(self)
            widget.show()
            if before is not None:
                QWidget.setTabOrder(before, widget)
        self._place()
        return gone

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.LayoutRequest:  # a widget wants another size, or came or went
            self._place()
        return super().event(event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if event.size().width() != event.oldSize().width():
            self._place()

    def _place(self) -> None:
        shown = [widget for widget in self._widgets if not widget.isHidden()]
        hints = [_wanted(widget) for widget in shown]
        glued = [bool(widget.property("glued")) for widget in shown] + [False]
        x, y, line, width = 0, 0, 0, max(self.width(), 100)
        for place, (widget, hint) in enumerate(zip(shown, hints, strict=True)):
            if x > 0 and not glued[place]:
                after = next(k for k in range(place + 1, len(glued)) if not glued[k])
                whole = sum(h.width() for h in hints[place:after]) + self._gap * (after - place - 1)
                if x + whole > width:
                    x, y, line = 0, y + line + self._line_gap, 0
            widget.setGeometry(x, y, hint.width(), hint.height())
            x += hint.width() + self._gap
            line = max(line, hint.height())
        self.setMinimumWidth(max((hint.width() for hint in hints), default=0))
        self.setFixedHeight(max(y + line, self._least))


def _wanted(widget: QWidget) -> QSize:
    hint = widget.sizeHint().expandedTo(widget.minimumSizeHint()).expandedTo(widget.minimumSize())
    return hint.boundedTo(widget.maximumSize())
