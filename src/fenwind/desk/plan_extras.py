"""What the plan shows over its marks for a while: positions that are coming in, or where a file moves to;
and, in a corner of their own, marks that nothing ties to the frame shown."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen

from fenwind.desk.plan_symbols import arrow
from fenwind.desk.theme import MEDIUM, colour, font

FloatArray = NDArray[np.float64]
Pixels = Callable[[FloatArray, FloatArray], tuple[FloatArray, FloatArray]]
#: Labels and arrows drawn at most; more hide the ground.
MOST_LABELS = 60
#: Marks drawn apart: the part of the plan's size their corner takes.
CORNER = 0.36


def _none() -> FloatArray:
    return np.zeros((2, 0))


@dataclass(frozen=True, kw_only=True, eq=False)
class Coming:
    """Positions `at` (2, k) in the frame shown, by name, and where the same marks are now, `now` (2, k), nan
    where they are not. lines: line work (4, m), from and to, as it will lie; before: as it lies now. alone:
    the title of the frame they are in where nothing else of the job can be shown with them."""

    names: tuple[str, ...] = ()
    at: FloatArray = field(default_factory=_none)
    now: FloatArray = field(default_factory=_none)
    lines: FloatArray = field(default_factory=lambda: np.zeros((4, 0)))
    before: FloatArray = field(default_factory=lambda: np.zeros((4, 0)))
    alone: str = ""

    def places(self) -> FloatArray:
        """Every place (2, m) that should be in sight."""
        ends = [ways[rows] for ways in (self.lines, self.before) for rows in (slice(0, 2), slice(2, 4))]
        return np.hstack([self.at, *ends])

    def paint(self, p: QPainter, to_pixels: Pixels) -> None:
        """Draw with pixels of the plan."""
        p.setBrush(Qt.BrushStyle.NoBrush)
        for lines, role, width in ((self.before, "faint", 1.0), (self.lines, "reed", 1.4)):
            if lines.size:
                p.setPen(QPen(colour(role), width))
                ends = np.stack([*to_pixels(lines[0], lines[1]), *to_pixels(lines[2], lines[3])])
                for x1, y1, x2, y2 in ends.T[np.isfinite(ends).all(axis=0)].tolist():
                    p.drawLine(QPointF(x1, y1), QPointF(x2, y2))
        self._paint_positions(p, to_pixels)

    def _paint_positions(self, p: QPainter, to_pixels: Pixels) -> None:
        x, y = to_pixels(*self.at)
        fine = np.flatnonzero(np.isfinite(x + y))
        few = fine.size <= MOST_LABELS
        if self.now.size:
            from_x, from_y = to_pixels(*self.now)
            far = np.hypot(x - from_x, y - from_y) > 6.0
            p.setPen(QPen(colour("flare"), 1.4))
            for i in np.flatnonzero(far)[:MOST_LABELS].tolist():
                arrow(p, QPointF(from_x[i], from_y[i]), QPointF(x[i], y[i]))
        p.setPen(QPen(colour("reed"), 1.8))
        p.setBrush(Qt.BrushStyle.NoBrush)
        for i in fine.tolist():
            p.drawEllipse(QPointF(x[i], y[i]), 5.5, 5.5)
        p.setFont(font(11, MEDIUM))
        for i in fine.tolist() if few else ():
            p.drawText(QPointF(x[i] + 9, y[i] - 7), self.names[i])


@dataclass(frozen=True, kw_only=True, eq=False)
class Apart:
    """Marks that have no position in the frame shown: their frame, names and positions (2, k) there."""

    title: str
    names: tuple[str, ...]
    at: FloatArray

    def paint(self, p: QPainter, width: int, height: int) -> None:
        """Draw in the lower left corner, at a scale of its own."""
        box = QRectF(8, height * (1 - CORNER) - 30, width * CORNER, height * CORNER)
        p.fillRect(box, colour("sheet"))
        p.setPen(QPen(colour("sun"), 1.2, Qt.PenStyle.DashLine))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawRect(box)
        p.setFont(font(10))
        p.setPen(colour("faint"))
        head = f"{len(self.names)} not tied, in {self.title}"
        fitted = p.fontMetrics().elidedText(head, Qt.TextElideMode.ElideRight, int(box.width()) - 10)
        p.drawText(QPointF(box.left() + 5, box.top() + 14), fitted)
        inner = box.adjusted(12, 24, -12, -12)
        low, extent = np.nanmin(self.at, axis=1), np.maximum(np.ptp(self.at, axis=1), 1.0)
        scale = min(inner.width() / extent[0], inner.height() / extent[1])
        p.setPen(QPen(colour("sun"), 1.6))
        for e, n in (self.at - low[:, None]).T.tolist():
            if math.isfinite(e + n):
                x, y = inner.left() + e * scale, inner.bottom() - n * scale
                p.drawPolygon([QPointF(x, y - 4), QPointF(x + 3.5, y + 3), QPointF(x - 3.5, y + 3)])
