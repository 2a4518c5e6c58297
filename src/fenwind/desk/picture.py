"""A picture of something that is painted once and shown until it changes."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtGui import QColor, QPaintEngine, QPainter, QPixmap
from PySide6.QtWidgets import QWidget


class Picture:
    """Kept for one widget, in its size and at the resolution of what it is painted on."""

    def __init__(self, widget: QWidget) -> None:
        self._widget = widget
        self._key: object = None
        self._pixmap = QPixmap()

    def show(self, p: QPainter, key: object, ground: QColor, paint: Callable[[QPainter], object]) -> None:
        """Put the picture there; it is painted anew, on `ground`, where the key or the widget's size is
        another than it was."""
        widget = self._widget
        if p.paintEngine().type() != QPaintEngine.Type.Raster:  # strokes stay strokes
            if ground.alpha():
                p.fillRect(widget.rect(), ground)
            paint(p)
            return
        ratio = p.deviceTransform().m11()  # on paper there are more pixels to one of the screen
        whole = (key, widget.width(), widget.height(), ratio)
        if whole != self._key:
            if self._pixmap.size() != widget.size() * ratio:
                self._pixmap = QPixmap(widget.size() * ratio)
            self._pixmap.setDevicePixelRatio(ratio)
            self._pixmap.fill(ground)
            own = QPainter(self._pixmap)
            paint(own)
            own.end()
            self._key = whole
        p.drawPixmap(0, 0, self._pixmap)
