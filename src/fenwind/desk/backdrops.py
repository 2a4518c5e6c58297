"""Drawings and images under the plan: read in the worker, kept while the file stays the same, painted once a
view."""

from __future__ import annotations

import os
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QRectF, Qt, Signal
from PySide6.QtGui import QImage, QPainter, QPainterPath, QPen, QTransform

from fenwind.desk.bridge import JobBridge
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.desk.theme import colour
from fenwind.errors import FenwindError
from fenwind.exchange.backdrop import GroundImage, LineWork, read_backdrop
from fenwind.progress import Progress
from fenwind.quantities.lengths import UNITS
from fenwind.records.records import Backdrop


class Layer:
    """One thing to paint under the plan: the path of a drawing's layer, or an image."""

    def __init__(self, name: str, lines: np.ndarray | None = None, image: GroundImage | None = None) -> None:
        self.name = name
        self.path = QPainterPath()
        self.origin = (0.0, 0.0)
        self.image: QImage | None = None
        if lines is not None and lines.size:
            # Counted from near: the path's numbers stay small and exact however far the map's origin is.
            self.origin = (float(lines[0, 0]), float(lines[1, 0]))
            near = (lines.T - np.array(self.origin * 2)).tolist()
            for x1, y1, x2, y2 in near:
                if self.path.currentPosition().x() != x1 or self.path.currentPosition().y() != y1:
                    self.path.moveTo(x1, y1)
                self.path.lineTo(x2, y2)
        if image is not None:
            self._pixels = np.ascontiguousarray(image.pixels)
            height, width = self._pixels.shape[:2]
            self.image = QImage(self._pixels.data, width, height, 4 * width, QImage.Format.Format_RGBA8888)
            a, b, c, d, f, g = image.place
            self.origin = (a, d)
            self.transform = QTransform(b, f, c, g, 0.0, 0.0)

    def paint(self, p: QPainter, to_pixels: Any, scale: float) -> None:
        """Draw with pixels of the plan: `scale` pixels a metre, north up."""
        x, y = (float(v) for v in to_pixels(*self.origin))
        p.save()
        p.setTransform(QTransform(scale, 0.0, 0.0, -scale, x, y), True)
        if self.image is not None:
            p.setTransform(self.transform, True)
            p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            p.setOpacity(0.75)
            p.drawImage(QRectF(0, 0, self.image.width(), self.image.height()), self.image)
        else:
            pen = QPen(colour("backdrop"), 1)
            pen.setCosmetic(True)
            p.setPen(pen)
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawPath(self.path)
        p.restore()


class BackdropStore(QObject):
    """The backdrops of a job by record; `loaded` tells that another one can be painted."""

    loaded = Signal()

    def __init__(self, bridge: JobBridge) -> None:
        super().__init__(bridge)
        self._bridge = bridge
        self._runner = TaskRunner(self, "files")
        self._known: dict[str, tuple[Any, list[Layer]]] = {}
        self._asked: set[str] = set()

    def layers(self, frame: str) -> tuple[Layer, ...]:
        """What to paint under the plan of a frame now; what is not read yet is read, and told by `loaded`."""
        out: list[Layer] = []
        for record in self._bridge.state.backdrops.values():
            if record.frame == frame and record.active:
                out += [layer for layer in self._layers_of(record) if layer.name not in record.hidden_layers]
        return tuple(out)

    def names(self, record: Backdrop) -> list[str]:
        """Layers of a backdrop as far as it is read."""
        return [layer.name for layer in self._layers_of(record)]

    def _layers_of(self, record: Backdrop) -> list[Layer]:
        path = os.path.join(self._bridge.folder, record.path)
        try:
            stamp: Any = os.stat(path).st_mtime_ns
        except OSError:
            stamp = None
        known = self._known.get(record.id)
        if known is not None and known[0] == stamp:
            return known[1]
        if record.id not in self._asked:
            self._asked.add(record.id)
            frame = self._bridge.state.frames.get(record.frame)
            unit = UNITS[frame.spec.unit] if frame is not None else UNITS["m"]
            task = Task(_read, path, unit)
            task.signals.succeeded.connect(partial(self._on_read, record.id, stamp))
            task.signals.failed.connect(partial(self._on_failed, record.id, stamp))
            self._runner.start(task)
        return known[1] if known is not None else []

    def _on_read(self, key: str, stamp: object, found: object) -> None:
        if isinstance(found, LineWork):
            layers = [Layer(name, lines=lines) for name, lines in found.layers.items()]
        else:
            assert isinstance(found, GroundImage)
            layers = [Layer("image", image=found)]
        self._known[key] = (stamp, layers)
        self._asked.discard(key)
        self.loaded.emit()

    def _on_failed(self, key: str, stamp: object, error: Exception) -> None:
        self._known[key] = (stamp, [])
        self._asked.discard(key)
        words = error.one_line if isinstance(error, FenwindError) else str(error)
        self._bridge.told.emit(f"The backdrop cannot be shown: {words}", "doubt")

    def shut_down(self) -> None:
        """Stop reading."""
        self._runner.shut_down()


def _read(path: str, unit: Any, progress: Progress) -> LineWork | GroundImage:
    return read_backdrop(path, unit, progress)
