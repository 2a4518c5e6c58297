"""The rail at the left: the stages of the work, in their order."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPainterPath, QPaintEvent
from PySide6.QtWidgets import QAbstractButton, QVBoxLayout, QWidget

from fenwind.desk.icons import paint_icon
from fenwind.desk.stage_table import STAGES
from fenwind.desk.theme import MEDIUM, SEMIBOLD, colour, font, scaled

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
            p.fillPath(path, colour("paper"))
        elif self.underMouse() or self.hasFocus():
            path = QPainterPath()
            path.addRoundedRect(QRectF(10, 4, self.width() - 20, self.height() - 8), 9, 9)
            p.fillPath(path, colour("ink").lighter(140))
        ink = colour("ink" if chosen else "rail_text").name()
        middle = self.width() / 2 + (5 if chosen else 0)
        paint_icon(p, self.text(), QRectF(middle - 12, 10, 24, 24), ink)
        p.setPen(ink)
        p.setFont(font(11, SEMIBOLD if chosen else MEDIUM))
        p.drawText(
            QRectF(middle - scaled(40), 38, scaled(80), self.height() - 48),
            Qt.AlignmentFlag.AlignCenter,
            self.text(),
        )
        if self.doubts:
            p.setBrush(colour("flare"))
            p.setPen(Qt.PenStyle.NoPen)
            p.drawEllipse(QPointF(middle + 17, 13), 8, 8)
            p.setPen(colour("sheet"))
            p.setFont(font(10, SEMIBOLD))
            p.drawText(QRectF(middle + 9, 5, 16, 16), Qt.AlignmentFlag.AlignCenter, str(min(self.doubts, 99)))


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
        QPainter(self).fillRect(self.rect(), colour("rail"))
