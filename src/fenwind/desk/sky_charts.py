"""Two small charts of a receiver: the satellites in its sky, and the scatter of the epochs that count."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from fenwind.desk.theme import colour, font, scaled

FloatArray = NDArray[np.float64]

SIDE = 142
#: Systems by the talker of their sentences: a letter for each on the chart.
LETTERS = {"GP": "G", "GL": "R", "GA": "E", "GB": "C", "BD": "C", "GQ": "J"}
#: C/N0 from which a satellite is strong (common practice, no source), dB-Hz.
STRONG_DBHZ = 38


def draw_dots(p: QPainter, places: list[QPointF], role: str, radius: float) -> None:
    """Filled dots, all in one call: the interpreter is asked for before and after each."""
    p.setPen(QPen(colour(role), 2.0 * radius, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
    p.drawPoints(QPolygonF(places))


class SkyChart(QWidget):
    """Satellites by azimuth and elevation, the zenith in the middle, the horizon the outer ring; a letter for
    the system, filled where the signal is strong."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.satellites: dict[str, tuple[int, int, int]] = {}
        self.setFixedSize(scaled(SIDE), scaled(SIDE))

    def show_sky(self, satellites: dict[str, tuple[int, int, int]]) -> None:
        """Name to elevation, azimuth (degrees) and C/N0."""
        if satellites != self.satellites:
            self.satellites = satellites
            self.setAccessibleName(f"Sky: {len(satellites)} satellites in view")
            self.update()

    def place(self, elevation: float, azimuth: float) -> QPointF:
        """Where a direction is drawn."""
        r = 0.5 * self.width() - scaled(13)
        out = r * (1.0 - max(elevation, 0.0) / 90.0)
        turn = math.radians(azimuth)
        return QPointF(0.5 * self.width() + out * math.sin(turn), 0.5 * self.height() - out * math.cos(turn))

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        middle = QPointF(0.5 * self.width(), 0.5 * self.height())
        r = 0.5 * self.width() - scaled(13)
        p.setPen(QPen(colour("rule"), 1))
        p.setBrush(colour("sheet"))
        for part in (1.0, 2.0 / 3.0, 1.0 / 3.0):
            p.drawEllipse(middle, r * part, r * part)
        for a in (0.0, 90.0):
            p.drawLine(self.place(0.0, a), self.place(0.0, a + 180.0))
        p.setFont(font(10))
        p.setPen(colour("faint"))
        for text, azimuth in (("N", 0.0), ("E", 90.0), ("S", 180.0), ("W", 270.0)):
            at = middle + (self.place(0.0, azimuth) - middle) * ((r + scaled(7)) / r)
            p.drawText(QRectF(at.x() - 10, at.y() - 9, 20, 18), Qt.AlignmentFlag.AlignCenter, text)
        p.setFont(font(9))
        for strong in (False, True):
            shown = {
                name: self.place(elevation, azimuth)
                for name, (elevation, azimuth, strength) in self.satellites.items()
                if (strength >= STRONG_DBHZ) == strong
            }
            draw_dots(p, list(shown.values()), "water", scaled(6) + 0.6)
            if not strong:
                draw_dots(p, list(shown.values()), "sheet", scaled(6) - 0.6)
            p.setPen(colour("sheet" if strong else "water"))
            for name, at in shown.items():
                box = QRectF(at.x() - 10, at.y() - 9, 20, 18)
                p.drawText(box, Qt.AlignmentFlag.AlignCenter, LETTERS.get(name[:2], "?"))


class ScatterChart(QWidget):
    """Epochs east and north of their mean, the latest dark, with a scale that is said; height beside it on an
    axis of its own."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.ways: FloatArray = np.zeros((3, 0))
        self.setFixedSize(scaled(SIDE + 22), scaled(SIDE))

    def show_ways(self, ways: FloatArray) -> None:
        """East, north, up (3, k) from the mean, metres."""
        self.ways = ways
        self.setAccessibleName(f"Scatter of {ways.shape[1]} epochs, half width {self.half_m() * 1000:.0f} mm")
        self.update()

    def half_m(self) -> float:
        """What half the chart stands for: 1, 2 or 5 times a power of ten, metres."""
        most = float(np.abs(self.ways).max(initial=0.0))
        if most <= 0.0:
            return 0.01
        power = 10.0 ** math.floor(math.log10(most))
        return next(k * power for k in (1.0, 2.0, 5.0, 10.0) if k * power >= most)

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        side, top = self.height() - scaled(16), 1.0
        middle = QPointF(0.5 * side, top + 0.5 * side)
        p.setPen(QPen(colour("rule"), 1))
        p.setBrush(colour("sheet"))
        p.drawRect(QRectF(0.5, top, side - 1, side))
        p.drawLine(QPointF(0.5, middle.y()), QPointF(side - 0.5, middle.y()))
        p.drawLine(QPointF(middle.x(), top), QPointF(middle.x(), top + side))
        column = QRectF(side + scaled(6), top, scaled(14), side)
        p.drawRect(column)
        p.drawLine(QPointF(column.left(), middle.y()), QPointF(column.right(), middle.y()))
        half = self.half_m()
        scale = 0.5 * side / half
        count = self.ways.shape[1]
        plan = [middle + QPointF(e * scale, -n * scale) for e, n in self.ways[:2].T.tolist()]
        height = [QPointF(column.center().x(), middle.y() - u * scale) for u in self.ways[2].tolist()]
        draw_dots(p, plan[:-1] + height[:-1], "water", scaled(1.8))
        draw_dots(p, plan[-1:] + height[-1:], "ink", scaled(3.4))
        p.setFont(font(10))
        p.setPen(colour("faint"))
        words = f"±{half * 1000:g} mm" if count else "nothing counted yet"
        below = QRectF(0, top + side + 1, self.width(), scaled(15))
        p.drawText(below, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, words)
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        p.drawText(below, right, "H")
