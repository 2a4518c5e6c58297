"""Labels whose text changes many times a second.

A label in a layout asks at every text for all around it to be laid out again, up to the window, which takes
ten milliseconds. These ask for it only where a text needs more room than the last.
"""

from __future__ import annotations

from PySide6.QtGui import QFont, QResizeEvent
from PySide6.QtWidgets import QWidget

from fenwind.desk.shell import PlainLabel, in_steps


class SteadyLabel(PlainLabel):
    """One line, as wide as its text needs, in steps."""

    def setText(self, text: str) -> None:
        super().setText(text)  # of a fixed size it asks nobody for room
        need = in_steps(self.fontMetrics().horizontalAdvance(text))
        height = self.fontMetrics().height() + 1
        if (need, height) != (self.minimumWidth(), self.minimumHeight()):
            self.setFixedSize(need, height)


class SteadyText(QWidget):
    """As wide as there is room, its lines broken, as high as they are."""

    def __init__(self, letters: QFont | None = None) -> None:
        super().__init__()
        self.label = PlainLabel("", self)  # in no layout: it asks this widget, which does not ask on
        self.label.setWordWrap(True)
        if letters is not None:
            self.label.setFont(letters)
        self._keep()

    def text(self) -> str:
        """What is shown."""
        return self.label.text()

    def setText(self, text: str) -> None:
        """Show a text."""
        if text != self.label.text():
            self.label.setText(text)
            self._keep()

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.label.resize(event.size())
        if event.size().width() != event.oldSize().width():
            self._keep()

    def _keep(self) -> None:
        height = max(self.label.heightForWidth(max(self.width(), 60)), 0)
        if height != self.minimumHeight() or height != self.maximumHeight():
            self.setFixedHeight(height)
