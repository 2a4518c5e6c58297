"""A line in place that asks for one text, instead of a box that stops everything."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QHideEvent, QKeyEvent, QResizeEvent
from PySide6.QtWidgets import QGridLayout, QLineEdit, QPushButton, QWidget

from fenwind.desk.shell import PlainLabel, look

#: A question that takes up more of the width than this stands above what is typed.
BESIDE = 0.42


class AskLine(QWidget):
    """Hidden until `ask`. Enter answers, Esc leaves it; `closed` tells that it is hidden again."""

    closed = Signal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 2, 0, 2)
        self._grid.setSpacing(8)
        self.label = PlainLabel("")
        self.edit = QLineEdit()
        self.ok = QPushButton("Do it")
        self.leave = QPushButton("Leave it")
        look(self.ok, "main")
        look(self.leave, "second")
        self._above = True
        self._arrange(False)
        self._answer: Callable[[str], object] = lambda text: None
        self.edit.returnPressed.connect(self._accept)
        self.ok.clicked.connect(self._accept)
        self.leave.clicked.connect(self.hide)
        self.hide()

    def ask(
        self,
        question: str,
        answer: Callable[[str], object],
        *,
        text: str = "",
        button: str = "Do it",
        placeholder: str = "",
    ) -> None:
        """Ask; `answer` gets the text. It may return False to keep the line open, for instance when the text
        will not do."""
        self._answer = answer
        self.label.setText(question)
        self._fit()
        self.edit.setText(text)
        self.edit.setPlaceholderText(placeholder)
        self.ok.setText(button)
        self.show()
        self.edit.setFocus(Qt.FocusReason.OtherFocusReason)
        self.edit.selectAll()

    def _fit(self) -> None:
        """A long question stands above what is typed, which would have no room beside it."""
        wide = self.label.fontMetrics().horizontalAdvance(self.label.text())
        self._arrange(wide > BESIDE * self.width())
        self.label.setMinimumHeight(self.label.heightForWidth(self.width()) if self._above else 0)

    def _arrange(self, above: bool) -> None:
        if above == self._above:
            return
        self._above = above
        widgets: tuple[QWidget, ...] = (self.label, self.edit, self.ok, self.leave)
        for widget in widgets:
            self._grid.removeWidget(widget)
        self.label.setWordWrap(above)
        self._grid.addWidget(self.label, 0, 0, 1, 4 if above else 1)
        for k, widget in enumerate(widgets[1:], 1):
            self._grid.addWidget(widget, int(above), k - 1 if above else k)
        self._grid.setColumnStretch(0, int(above))
        self._grid.setColumnStretch(1, int(not above))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit()

    def _accept(self) -> None:
        if self._answer(self.edit.text()) is not False:
            self.hide()

    def hideEvent(self, event: QHideEvent) -> None:
        super().hideEvent(event)
        if self.isHidden():  # not only out of sight with its page
            self.closed.emit()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.hide()
        else:
            super().keyPressEvent(event)
