"""A line in place that asks for one text, instead of a box that stops everything."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QWidget

from fenwind.desk.shell import PlainLabel, look


class AskLine(QWidget):
    """Hidden until `ask`. Enter answers, Esc leaves it."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 2, 0, 2)
        layout.setSpacing(8)
        self.label = PlainLabel("")
        self.edit = QLineEdit()
        self.ok = QPushButton("Do it")
        self.leave = QPushButton("Leave it")
        look(self.ok, "main")
        look(self.leave, "second")
        layout.addWidget(self.label)
        layout.addWidget(self.edit, 1)
        layout.addWidget(self.ok)
        layout.addWidget(self.leave)
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
        self.edit.setText(text)
        self.edit.setPlaceholderText(placeholder)
        self.ok.setText(button)
        self.show()
        self.edit.setFocus(Qt.FocusReason.OtherFocusReason)
        self.edit.selectAll()

    def _accept(self) -> None:
        if self._answer(self.edit.text()) is not False:
            self.hide()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.hide()
        else:
            super().keyPressEvent(event)
