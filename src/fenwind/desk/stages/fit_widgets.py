"""The model cards and the strip of parameters of the Fits sheet."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QAbstractButton, QWidget

from fenwind.desk.theme import SEMIBOLD, colour, font, scaled


class ModelCard(QAbstractButton):
    """One nested model: name, verdict, what it leaves over. A click chooses it."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.model = ""
        self.tag, self.tone, self.detail = "", "faint", ""
        self.used = False
        self.setMinimumSize(150, scaled(58))
        self.setFixedHeight(scaled(58))
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def show_model(self, model: str, title: str, tag: str, tone: str, detail: str, used: bool) -> None:
        """Fill the card."""
        self.model, self.tag, self.tone, self.detail, self.used = model, tag, tone, detail, used
        self.setText(title)
        self.setAccessibleName(f"{title}, {tag}, {detail}{', in use' if used else ''}")
        self.setToolTip("In use" if used else f"Use {title.lower()}")
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(scaled(210), scaled(58))

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        edge = "ink" if self.used else "water" if self.underMouse() or self.hasFocus() else "rule"
        p.setPen(QPen(colour(edge), 2 if self.used else 1))
        p.setBrush(colour("sheet"))
        p.drawRoundedRect(QRectF(1, 1, self.width() - 2, self.height() - 2), 4, 4)
        inner = QRectF(11, 8, self.width() - 22, scaled(20))
        p.setFont(font(11, SEMIBOLD if self.tone == "reed" else font().weight()))
        p.setPen(colour(self.tone))
        tag_width = p.fontMetrics().horizontalAdvance(self.tag)
        p.drawText(inner, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, self.tag)
        p.setPen(colour("ink"))
        p.setFont(font(13, SEMIBOLD))
        room = int(inner.width() - tag_width - 8)
        p.drawText(
            inner,
            Qt.AlignmentFlag.AlignVCenter,
            p.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, room),
        )
        p.setPen(colour("faint"))
        p.setFont(font(11.5))
        detail = p.fontMetrics().elidedText(self.detail, Qt.TextElideMode.ElideRight, int(inner.width()))
        p.drawText(inner.translated(0, scaled(21)), Qt.AlignmentFlag.AlignVCenter, detail)


class ParameterStrip(QWidget):
    """Parameters side by side: label, value, uncertainty."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.cells: list[tuple[str, str, str]] = []
        self.setFixedHeight(scaled(68))

    def show_cells(self, cells: list[tuple[str, str, str]]) -> None:
        """Show (label, value, uncertainty) cells."""
        self.cells = cells
        self.setVisible(bool(cells))
        self.setAccessibleName("; ".join(" ".join(cell) for cell in cells))
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        if not self.cells:
            return
        p = QPainter(self)
        p.fillRect(self.rect(), colour("sheet"))
        p.setPen(colour("rule"))
        p.drawRect(self.rect().adjusted(0, 0, -1, -1))
        p.setFont(font(13.5))
        wants = [max(p.fontMetrics().horizontalAdvance(value), 70) + 24 for _, value, _ in self.cells]
        spare = (self.width() - sum(wants)) / len(self.cells)
        x = 0.0
        for place, (label, value, sigma) in enumerate(self.cells):
            width = wants[place] + spare
            if place:
                p.setPen(colour("rule"))
                p.drawLine(int(x), 1, int(x), self.height() - 2)
            for text, y, size, role in (
                (label, 7, 11, "faint"),
                (value, 23, 13.5, "ink"),
                (sigma, 44, 11.5, "faint"),
            ):
                p.setFont(font(size))
                p.setPen(colour(role))
                box = QRectF(x + 12, scaled(y), width - 14, scaled(20))
                fitted = p.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, int(box.width()))
                p.drawText(box, Qt.AlignmentFlag.AlignVCenter, fitted)
            x += width
