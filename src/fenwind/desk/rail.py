"""The rail at the left: the stages of the work, in their order."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Signal
from PySide6.QtGui import QPainter, QPainterPath, QPaintEvent
from PySide6.QtWidgets import QAbstractButton, QVBoxLayout, QWidget

from fenwind.desk.icons import paint_icon
from fenwind.desk.stage_table import STAGES
from fenwind.desk.theme import MEDIUM, SEMIBOLD, colour, fill, font, scaled, write

WIDTH = 88


class _StageButton(QAbstractButton):
    """One stage: icon, word, and the number of doubts that belong to it."""

    def __init__(self, name: str, key: int, parent: QWidget) -> None:
        super().__init__(parent)
        self.setText(name)
        self.setCheckable(True)
        self.setAutoExclusive(True)
        self.setFixedSize(scaled(WIDTH), scaled(66))
        self.setToolTip(f"Go to {name} (Ctrl+{key})")
        self.setAccessibleName(name)
        self.doubts = 0

    def sizeHint(self) -> QSize:
        return QSize(scaled(WIDTH), scaled(66))

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        chosen = self.isChecked()
        if chosen:
            path = QPainterPath()
            path.addRoundedRect(QRectF(10, 0, self.width() + 12, self.height()), 9, 9)
            fill(p, path, "paper")
        elif self.underMouse() or self.hasFocus():
            path = QPainterPath()
            path.addRoundedRect(QRectF(10, 4, self.width() - 20, self.height() - 8), 9, 9)
            p.fillPath(path, colour("ink").lighter(140))
        ink = "ink" if chosen else "rail_text"
        middle = self.width() / 2 + (5 if chosen else 0)
        paint_icon(p, self.text(), QRectF(middle - 12, 10, 24, 24), colour(ink).name())
        p.setFont(font(11, SEMIBOLD if chosen else MEDIUM))
        room = QRectF(middle - scaled(40), 38, scaled(80), self.height() - 48)
        write(p, self, room.toRect(), self.text(), ink)
        if self.doubts:
            circle = QPainterPath()
            circle.addEllipse(QPointF(middle + 17, 13), 8, 8)
            fill(p, circle, "flare")
            p.setFont(font(10, SEMIBOLD))
            count = str(min(self.doubts, 99))
            write(p, self, QRectF(middle + 9, 5, 16, 16).toRect(), count, "sheet")


class Rail(QWidget):
    """All stages; `stage_chosen` carries the name."""

    stage_chosen = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedWidth(scaled(WIDTH))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 10, 0, 0)
        layout.setSpacing(0)
        self.buttons: dict[str, _StageButton] = {}
        for key, name in enumerate((stage.name for stage in STAGES), 1):
            button = _StageButton(name, key, self)
            button.clicked.connect(lambda _=False, n=name: self.stage_chosen.emit(n))
            layout.addWidget(button)
            self.buttons[name] = button
        layout.addStretch(1)

    def choose(self, name: str) -> None:
        """Show a stage as the current one."""
        self.buttons[name].setChecked(True)

    def show_doubts(self, name: str, count: int) -> None:
        """Set the number of doubts at a stage."""
        if self.buttons[name].doubts != count:
            self.buttons[name].doubts = count
            self.buttons[name].update()

    def paintEvent(self, event: QPaintEvent) -> None:
        path = QPainterPath()
        path.addRect(QRectF(self.rect()))
        fill(QPainter(self), path, "rail")
