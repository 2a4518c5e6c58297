"""A map of distortion under the marks: bands that read in grey as well, lines with their values, and where
the limit is passed."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen

from fenwind.desk.theme import MEDIUM, colour, font
from fenwind.job.distortion_map import DistortionMap, words

FloatArray = NDArray[np.float64]
#: How dark the band that is farthest from nothing gets, of 255.
DARKEST = 120
#: A line shorter than this on the screen has no room for its value, pixels.
ROOM = 90.0


class DistortionLayer:
    """Paints a map under the plan; below nothing in one colour, above in another, darker with size. `key`
    says in words what is painted."""

    def __init__(self, found: DistortionMap, limit: float) -> None:
        self.found = found
        self.key = f"plane less ground, ppm; dashed: {words(limit).lstrip('+')}"
        ends = [abs(v) for low, high, _ in found.bands for v in (low, high)]
        self._most = max(ends, default=1.0)

    def paint(self, p: QPainter, to_pixels: Any, scale: float) -> None:
        """Draw with pixels of the plan."""
        p.save()
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        outline = QPainterPath()
        _add(outline, to_pixels(*self.found.outline), True)
        p.setClipPath(outline)
        for low, high, outlines in self.found.bands:
            path = QPainterPath()
            for ring in outlines:
                _add(path, to_pixels(*ring), True)
            p.fillPath(path, self.shade(0.5 * (low + high)))
        longest: list[tuple[float, tuple[FloatArray, FloatArray], float]] = []
        p.setBrush(Qt.BrushStyle.NoBrush)
        for value, ways in self.found.lines:
            p.setPen(QPen(colour("faint"), 1.6 if value == 0.0 else 0.8))
            for way in ways:
                pixels = to_pixels(*way)
                path = QPainterPath()
                _add(path, pixels, False)
                p.drawPath(path)
                longest.append((float(np.hypot(*map(np.diff, pixels)).sum()), pixels, value))
        self._label(p, sorted(longest, key=lambda one: -one[0]), outline)
        p.setPen(QPen(colour("flare"), 1.6, Qt.PenStyle.DashLine))
        for way in self.found.limit:
            path = QPainterPath()
            _add(path, to_pixels(*way), False)
            p.drawPath(path)
        p.restore()

    def shade(self, value: float) -> QColor:
        """The colour of a band about a value."""
        shade = QColor(colour("water" if value < 0.0 else "sun"))
        shade.setAlpha(round(DARKEST * min(abs(value) / self._most, 1.0)))
        return shade

    def _label(
        self,
        p: QPainter,
        ways: list[tuple[float, tuple[FloatArray, FloatArray], float]],
        inside: QPainterPath,
    ) -> None:
        """Values on the longest lines, where none is written yet."""
        p.setFont(font(10, MEDIUM))
        taken: list[QRectF] = []
        for length, (x, y), value in ways:
            text = words(value)
            width = p.fontMetrics().horizontalAdvance(text)
            for k in (x.size // 2, x.size // 4, 3 * x.size // 4):
                box = QRectF(float(x[k]) - width / 2 - 2, float(y[k]) - 7, width + 4, 14)
                free = inside.contains(box) and not any(
                    box.adjusted(-6, -4, 6, 4).intersects(b) for b in taken
                )
                if length >= ROOM and free:
                    taken.append(box)
                    back = QColor(colour("map"))
                    back.setAlpha(190)
                    p.fillRect(box, back)
                    p.setPen(colour("ink"))
                    p.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
                    break


def _add(path: QPainterPath, pixels: tuple[FloatArray, FloatArray], closed: bool) -> None:
    places = [QPointF(x, y) for x, y in zip(pixels[0].tolist(), pixels[1].tolist(), strict=True)]
    if places:
        path.moveTo(places[0])
        for place in places[1:]:
            path.lineTo(place)
        if closed:
            path.closeSubpath()
