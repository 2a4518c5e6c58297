"""The trail of the selected mark: links from the raw reading to the adopted value, painted one under the
other."""

from __future__ import annotations

import re

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QFontMetrics, QPainter, QPaintEvent, QPen, QResizeEvent
from PySide6.QtWidgets import QFrame, QScrollArea, QVBoxLayout, QWidget

from fenwind.desk.theme import MEDIUM, colour, font, scaled
from fenwind.reports.trail import Link

#: Height of a line.
LINE = 17.0
#: Links whose heights are remembered.
MANY = 400


def _metrics() -> QFontMetrics:
    return QFontMetrics(font(12))


def broken(value: str, width: float) -> list[str]:
    """A value in as many lines as it takes, broken between its numbers; a piece that is too long for a line
    of its own ends in an ellipsis."""
    metrics, lines = _metrics(), [""]
    for piece in re.split(r" {2,}", value):
        longer = f"{lines[-1]}   {piece}" if lines[-1] else piece
        if lines[-1] and metrics.horizontalAdvance(longer) > width:
            lines.append(piece)
        else:
            lines[-1] = longer
    return [metrics.elidedText(line, Qt.TextElideMode.ElideRight, int(width)) for line in lines]


class _Links(QWidget):
    """Paints the links; as high as they need."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.title, self.links = "", ()  # type: str, tuple[Link, ...]
        self._placed: tuple[int, list[float]] | None = None  # a width, and where links begin and end there
        self._tall: dict[Link, float] = {}  # how tall links are at a width
        self._tall_at = 0
        self.empty = "Pick a mark to see where its coordinates come from."

    def show_links(self, title: str, links: tuple[Link, ...]) -> None:
        if (title, links) == (self.title, self.links):
            return
        self.title, self.links, self._placed = title, links, None
        self.setAccessibleName(
            ". ".join([title, *(f"{k.title}, {k.note}: {' '.join(k.values)}" for k in links)])
        )
        self.setMinimumHeight(self._needed())
        self.update()

    def _edges(self) -> list[float]:
        """Where each link begins, and the last one ends, at the width there is."""
        if self._placed is None or self._placed[0] != self.width():
            edges = [12.0 + scaled(24)]
            if len(self._tall) > MANY or self._tall_at != self.width():
                self._tall, self._tall_at = {}, self.width()
            for link in self.links:
                if link not in self._tall:  # most links of a mark stay as they were
                    self._tall[link] = self._one(None, link, edges[-1])
                edges.append(edges[-1] + self._tall[link])
            self._placed = (self.width(), edges)
        return self._placed[1]

    def _needed(self) -> int:
        """The height that the links take at the width there is."""
        return int(self._edges()[-1] + 8) if self.links else 60

    def sizeHint(self) -> QSize:
        return QSize(300, self._needed())

    def resizeEvent(self, event: QResizeEvent) -> None:
        self.setMinimumHeight(self._needed())

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(colour("faint"))
        if not self.links:
            p.setFont(font(12))
            p.drawText(self.rect().adjusted(14, 14, -14, 0), Qt.TextFlag.TextWordWrap, self.empty)
            return
        p.setFont(font(11, spacing=0.4))
        p.drawText(QRectF(14, 12, self.width() - 28, scaled(16)), 0, self.title)
        seen, edges = event.rect(), self._edges()
        for place, (link, y, end) in enumerate(zip(self.links, edges, edges[1:], strict=False)):
            if end >= seen.top() and y <= seen.bottom():
                self._one(p, link, y)
                self._dot(p, link, y, end - y if place < len(self.links) - 1 else 0)

    def _one(self, p: QPainter | None, link: Link, y: float) -> float:
        """A link at a height: values to the right of the words, or below them where they would be cut."""
        width = self.width() - 36 - 14
        split = max(width * 0.42, 130.0)
        beside = all(_metrics().horizontalAdvance(v) <= width - split for v in link.values)
        words = QRectF(36, y, split - 10 if beside and link.values else width, 400)
        values = [
            (k, part)
            for k, value in enumerate(link.values)
            for part in ([value] if beside else broken(value, width))
        ]
        lines = 1 + (self._note_lines(link.note, words.width()) if link.note else 0)
        top = y if beside else y + lines * scaled(LINE)
        if p is not None:
            self._paint_words(p, link, words)
            p.setFont(font(12))
            for i, (k, value) in enumerate(values):
                p.setPen(colour("ink") if k == 0 else colour("faint"))
                box = (
                    QRectF(36 + split, top, width - split, scaled(16))
                    if beside
                    else QRectF(36, top, width, scaled(16))
                )
                side = Qt.AlignmentFlag.AlignRight if beside else Qt.AlignmentFlag.AlignLeft
                p.drawText(box.translated(0, i * scaled(LINE)), side | Qt.AlignmentFlag.AlignVCenter, value)
        return (max(lines, len(values)) if beside else lines + len(values)) * scaled(LINE) + 9

    @staticmethod
    def _paint_words(p: QPainter, link: Link, box: QRectF) -> None:
        p.setPen(colour("ink"))
        p.setFont(font(12, MEDIUM))
        title = p.fontMetrics().elidedText(link.title, Qt.TextElideMode.ElideRight, int(box.width()))
        p.drawText(QRectF(box.left(), box.top(), box.width(), scaled(LINE)), 0, title)
        p.setPen(colour("faint"))
        p.setFont(font(12))
        if link.note:
            p.drawText(box.translated(0, scaled(LINE)), Qt.TextFlag.TextWordWrap, link.note)

    def _note_lines(self, note: str, width: float) -> int:
        box = _metrics().boundingRect(0, 0, int(width), 400, int(Qt.TextFlag.TextWordWrap), note)
        return max(1, round(box.height() / scaled(LINE)))

    def _dot(self, p: QPainter, link: Link, y: float, below: float) -> None:
        x, middle = 22.0, y + scaled(8)
        if below:
            p.setPen(QPen(colour("rule"), 1.2))
            p.drawLine(QPointF(x, middle + 6), QPointF(x, middle + below - 6))
        if link.kind == "record":
            p.fillRect(QRectF(x - 5, middle - 5, 10, 10), colour("ink"))
        elif link.kind == "amendment":
            p.setPen(QPen(colour("sun"), 1.6))
            p.drawRect(QRectF(x - 4.5, middle - 4.5, 9, 9))
        else:
            p.setPen(QPen(colour("ink"), 1.8))
            p.setBrush(colour("reed") if link.kind == "adopted" else colour("sheet"))
            p.drawEllipse(QPointF(x, middle), 5, 5)
            p.setBrush(Qt.BrushStyle.NoBrush)


class TrailPane(QFrame):
    """The trail in a scroll area."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        self.links = _Links()
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setWidget(self.links)
        for widget in (self, self.area, self.area.viewport(), self.links):
            widget.setObjectName("trail")
        layout.addWidget(self.area)

    def show_links(self, title: str, links: tuple[Link, ...]) -> None:
        """Show a trail."""
        self.links.show_links(title, links)
