"""Symbols of marks on the plan: filled triangle = held control, open ring = derived, open square = check,
cross = a single occupation."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen, QPolygonF

from fenwind.desk.theme import colour

FloatArray = NDArray[np.float64]

#: Redundancy under which a line is hardly checked (common practice, no source).
LITTLE = 0.1
RING, TRIANGLE, SQUARE, CROSS, DOT = range(5)
#: How many there are; from there on the same, switched off.
COUNT = 5
#: Names in records to symbols.
BY_NAME = {"ring": RING, "triangle": TRIANGLE, "square": SQUARE, "cross": CROSS, "dot": DOT}


def arrow(p: QPainter, start: QPointF, end: QPointF) -> None:
    p.drawLine(start, end)
    direction = math.atan2(end.y() - start.y(), end.x() - start.x())
    if math.hypot(end.x() - start.x(), end.y() - start.y()) > 5:
        for turn in (2.6, -2.6):
            p.drawLine(
                end,
                QPointF(end.x() + 5 * math.cos(direction + turn), end.y() + 5 * math.sin(direction + turn)),
            )


def draw_symbol(p: QPainter, at: QPointF, symbol: int, off: bool) -> None:
    ink = colour("off") if off else colour("ink")
    if symbol == DOT and not off:
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(ink)
        p.drawEllipse(at, 2.4, 2.4)
    elif symbol == TRIANGLE and not off:
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(ink)
        p.drawPolygon(QPolygonF([at + QPointF(0, -7), at + QPointF(6.4, 4.6), at + QPointF(-6.4, 4.6)]))
    elif symbol == SQUARE and not off:
        p.setPen(QPen(ink, 1.5))
        p.setBrush(colour("sheet"))
        p.drawRect(QRectF(at.x() - 5, at.y() - 5, 10, 10))
    elif symbol == CROSS or off:
        p.setPen(QPen(ink if off else colour("faint"), 1.3))
        for dx in (-4, 4):
            p.drawLine(at + QPointF(dx, -4), at + QPointF(-dx, 4))
    else:
        p.setPen(QPen(colour("faint"), 1.2))
        p.setBrush(colour("sheet"))
        p.drawEllipse(at, 3, 3)


def draw_rover(p: QPainter, at: QPointF) -> None:
    """Where the rover is now: a pole's foot, unlike any mark."""
    p.setBrush(colour("sun"))
    p.setPen(QPen(colour("sheet"), 1.5))
    p.drawPolygon(QPolygonF([at, at + QPointF(-6, -13), at + QPointF(0, -10), at + QPointF(6, -13)]))


def draw_lines(p: QPainter, x: FloatArray, y: FloatArray, lines: FloatArray) -> None:
    """Lines observed between marks at pixels (k,): dashed where hardly anything checks them."""
    for a, b, redundancy in lines.T.tolist():
        role, style = "water", Qt.PenStyle.SolidLine
        if redundancy < LITTLE:
            role, style = "flare", Qt.PenStyle.DashLine
        p.setPen(QPen(colour(role), 1.0, style))
        p.drawLine(QPointF(x[int(a)], y[int(a)]), QPointF(x[int(b)], y[int(b)]))
