"""The plan: marks, residual vectors and error ellipses on a map grid; pan, zoom, pick, read out, measure.

Drawn with QPainter after NumPy has dropped what is out of view: real symbols while few marks are in view, one
stamped picture when there are many.
"""

from __future__ import annotations

import math
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QColor,
    QContextMenuEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PySide6.QtWidgets import QSizePolicy, QWidget

from fenwind.desk.picture import Picture
from fenwind.desk.plan_scene import Scene
from fenwind.desk.plan_symbols import (
    COUNT,
    CROSS,
    DOT,
    RING,
    SQUARE,
    TRIANGLE,
    arrow,
    draw_lines,
    draw_rover,
    draw_symbol,
)
from fenwind.desk.theme import MEDIUM, colour, font, is_night
from fenwind.quantities.numbers import format_fixed
from fenwind.reports.figure import nice_length

FloatArray = NDArray[np.float64]

#: With more marks than this in view they are stamped into one picture instead of drawn one by one.
MANY = 2000
LABELS = 250
PICK_PX = 12.0
#: Room that a mark and its name need to the edge.
EDGE_PX = 30.0
VECTOR_PX = 34.0


class Plan(QWidget):
    """The map itself."""

    mark_picked = Signal(str)
    measured = Signal(str, str)  # names of two marks
    menu_requested = Signal(str, QPoint)  # name of the mark under the mouse, place on the screen
    place_picked = Signal(float, float)  # easting and northing, metres
    window_picked = Signal(object)  # names of the marks in a window drawn with Shift

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.scene = Scene()
        self.selection = ""
        self.picking = False  # whether the next click picks a place
        self.rover: tuple[float, float] | None = None
        self.measuring = False
        self.measure_from = ""
        self.measure_to = ""
        self._centre = np.zeros(2)
        self._scale = 1.0  # pixels per metre
        self._pressed: QPointF | None = None
        self._dragged = False
        self._cursor: QPointF | None = None
        self.hidden: set[str] = set()
        self._window_from: QPointF | None = None
        self._under, self._still = Picture(self), Picture(self)
        self._fitted_key: tuple[object, ...] = ()
        self._fitted_said = 0
        self._untouched = True
        self._symbols: dict[tuple[int, float, bool], QPixmap] = {}
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(220, 200)
        self.setAccessibleName("Plan of the marks")

    def show_scene(self, scene: Scene) -> None:
        """Show marks; the view is kept unless the system or the first sight of marks asks for a new one, or
        marks lie beyond the edge of a view that nobody has moved."""
        key = (scene.title, bool(scene.names), scene.coming is not None)
        self.scene = scene
        said = len(self._keys())
        if key != self._fitted_key or (
            self._untouched and (said != self._fitted_said or self._beyond_edge())
        ):
            self._fitted_key, self._fitted_said = key, said
            self.fit_all()
        self.update()

    def _beyond_edge(self) -> bool:
        """Whether a mark, or its name, does not fit into the view."""
        x, y = self.to_pixels(self.scene.e_m, self.scene.n_m)
        width, height = self.width() - EDGE_PX, self.height() - EDGE_PX
        with np.errstate(invalid="ignore"):
            return bool(((x < EDGE_PX) | (x > width) | (y < EDGE_PX) | (y > height)).any())

    def select(self, name: str) -> None:
        """Ring a mark, and bring it into view when it is outside."""
        self.selection = name
        if name in self.scene.names:
            row = self.scene.names.index(name)
            x, y = self.to_pixels(self.scene.e_m[row], self.scene.n_m[row])
            known = bool(np.isfinite(x) and np.isfinite(y))  # a mark may have a height alone
            inside = known and self.rect().adjusted(20, 20, -20, -20).contains(int(x), int(y))
            if known and not inside and self.isVisible():
                self._centre = np.array([self.scene.e_m[row], self.scene.n_m[row]])
        self.update()

    def pick_place(self) -> None:
        """Let the next click pick a place."""
        self.picking = True
        self.setCursor(Qt.CursorShape.CrossCursor)

    def show_rover(self, at: tuple[float, float] | None) -> None:
        """Show a rover at an easting and northing (metres), or none."""
        if at != self.rover:
            self.rover = at
            self.update()

    def start_measuring(self, on: bool) -> None:
        """Let the next two picks measure."""
        self.measuring, self.measure_from, self.measure_to = on, "", ""
        self.setCursor(Qt.CursorShape.CrossCursor if on else Qt.CursorShape.ArrowCursor)
        self.update()

    def fit_all(self) -> None:
        """Show all marks, and go on doing so while the window changes, until the view is moved."""
        self._untouched = True
        s = self.scene
        places = np.stack([s.e_m, s.n_m])
        if s.coming is not None:
            places = np.hstack([places, s.coming.places()])
        places = places[:, np.isfinite(places).all(axis=0)]
        if places.size:
            low, high = places.min(axis=1), places.max(axis=1)
            self._centre = 0.5 * (low + high)
            extent, key = np.maximum(high - low, 1.0), 24.0 * len(self._keys())  # pixels for what layers say
            high_px = self.height() - 110 - key
            self._scale = float(min((self.width() - 110) / extent[0], high_px / extent[1]))
            self._scale = min(max(self._scale, 1e-6), 1e6)
            self._centre[1] -= 0.5 * key / self._scale
        self.update()

    def _keys(self) -> list[str]:
        """What layers under the marks say of themselves."""
        return [key for layer in self.scene.under if (key := getattr(layer, "key", ""))]

    def zoom(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom about a pixel, the middle when None."""
        self._untouched = False
        at = at or QPointF(self.width() / 2, self.height() / 2)
        before = np.array(self.to_ground(at))
        self._scale = min(max(self._scale * factor, 1e-6), 1e6)
        self._centre += before - np.array(self.to_ground(at))
        self.update()

    def to_pixels(self, e_m: FloatArray | float, n_m: FloatArray | float) -> tuple[FloatArray, FloatArray]:
        """Pixels of ground coordinates."""
        x = self.width() / 2 + (np.asarray(e_m) - self._centre[0]) * self._scale
        y = self.height() / 2 - (np.asarray(n_m) - self._centre[1]) * self._scale
        return x, y

    def to_ground(self, at: QPointF) -> tuple[float, float]:
        """Ground coordinates of a pixel."""
        return (
            float(self._centre[0] + (at.x() - self.width() / 2) / self._scale),
            float(self._centre[1] - (at.y() - self.height() / 2) / self._scale),
        )

    def name_at(self, at: QPointF) -> str:
        """Name of the mark nearest to a pixel within reach, else empty."""
        if not self.scene.names:
            return ""
        x, y = self.to_pixels(self.scene.e_m, self.scene.n_m)
        distance = np.hypot(x - at.x(), y - at.y())
        distance[~np.isfinite(distance)] = np.inf
        nearest = int(np.argmin(distance))
        return self.scene.names[nearest] if distance[nearest] <= PICK_PX else ""

    def names_in(self, window: QRectF) -> list[str]:
        """Names of the marks in a rectangle of pixels."""
        x, y = self.to_pixels(self.scene.e_m, self.scene.n_m)
        with np.errstate(invalid="ignore"):
            inside = (
                (x >= window.left()) & (x <= window.right()) & (y >= window.top()) & (y <= window.bottom())
            )
        return [self.scene.names[i] for i in np.flatnonzero(inside)]

    # Input
    # -------------------------------------------------------------------------------------------------------

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self._untouched:
            self.fit_all()

    def wheelEvent(self, event: QWheelEvent) -> None:
        self.zoom(1.0015 ** event.angleDelta().y(), event.position())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._pressed, self._dragged = event.position(), False
        if (
            event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            and event.button() == Qt.MouseButton.LeftButton
        ):
            self._window_from = event.position()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._cursor = event.position()
        if self._window_from is not None:
            self._dragged = True
        elif self._pressed is not None and event.buttons() & (
            Qt.MouseButton.LeftButton | Qt.MouseButton.MiddleButton
        ):
            move = event.position() - self._pressed
            if self._dragged or move.manhattanLength() > 4:
                self._dragged, self._untouched = True, False
                self._centre += np.array([-move.x(), move.y()]) / self._scale
                self._pressed = event.position()
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self._window_from is not None:
            self.window_picked.emit(self.names_in(QRectF(self._window_from, event.position()).normalized()))
            self._window_from = None
            self.update()
        if not self._dragged and event.button() == Qt.MouseButton.LeftButton and self.picking:
            self.picking = False
            self.setCursor(Qt.CursorShape.ArrowCursor)
            self.place_picked.emit(*self.to_ground(event.position()))
        elif not self._dragged and event.button() == Qt.MouseButton.LeftButton:
            self._click(self.name_at(event.position()))
        self._pressed = None

    def _click(self, name: str) -> None:
        if self.measuring and name:
            if not self.measure_from or self.measure_to:
                self.measure_from, self.measure_to = name, ""
            elif name != self.measure_from:
                self.measure_to = name
                self.measured.emit(self.measure_from, name)
        elif name:
            self.mark_picked.emit(name)
        self.update()

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        name = self.name_at(QPointF(event.pos()))
        if name:
            self.menu_requested.emit(name, event.globalPos())

    def leaveEvent(self, event: object) -> None:
        self._cursor = None
        self.update()

    def keyPressEvent(self, event: QKeyEvent) -> None:
        steps = {
            Qt.Key.Key_Left: (-1, 0),
            Qt.Key.Key_Right: (1, 0),
            Qt.Key.Key_Up: (0, 1),
            Qt.Key.Key_Down: (0, -1),
        }
        if event.key() in steps:
            self._centre += np.array(steps[Qt.Key(event.key())]) * 60.0 / self._scale
            self.update()
        elif event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(1.25)
        elif event.key() == Qt.Key.Key_Minus:
            self.zoom(0.8)
        elif event.key() == Qt.Key.Key_Escape and self.measuring:
            self.start_measuring(False)
        else:
            super().keyPressEvent(event)

    # Painting
    # ----------------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent) -> None:
        self._paint(QPainter(self))

    def _paint(self, p: QPainter) -> None:
        view = (tuple(self._centre), self._scale, is_night())
        # What stays as it is while a rover or the mouse moves is painted once.
        key = (view, self.scene, frozenset(self.hidden))
        self._still.show(p, key, colour("map"), partial(self._paint_still, view))
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.scene.coming is not None:
            self.scene.coming.paint(p, self.to_pixels)
        selected = self._pixel_of(self.selection)
        if selected is not None:
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.setPen(QPen(colour("water"), 2))
            p.drawEllipse(selected, 17, 17)
        if self.rover is not None:
            rx, ry = self.to_pixels(np.array([self.rover[0]]), np.array([self.rover[1]]))
            draw_rover(p, QPointF(float(rx[0]), float(ry[0])))
        self._paint_measure(p)
        if self._window_from is not None and self._cursor is not None:
            p.setPen(QPen(colour("water"), 1, Qt.PenStyle.DashLine))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(QRectF(self._window_from, self._cursor).normalized())
        self._paint_furniture(p)

    def _paint_still(self, view: object, p: QPainter) -> None:
        """Backdrops, which are kept as a picture of their own, grid and marks."""
        if self.scene.under:
            self._under.show(p, (view, self.scene.under), QColor(0, 0, 0, 0), self._paint_under)
        if "map grid" not in self.hidden:
            self._paint_grid(p)
        x, y = self.to_pixels(self.scene.e_m, self.scene.n_m)
        with np.errstate(invalid="ignore"):
            seen = np.flatnonzero((x > -20) & (x < self.width() + 20) & (y > -20) & (y < self.height() + 20))
        if "marks" in self.hidden:
            seen = seen[:0]
        if seen.size > MANY:
            self._stamp(p, x[seen], y[seen])
        else:
            p.setRenderHint(QPainter.RenderHint.Antialiasing)
            self._paint_hull(p)
            draw_lines(p, x, y, self.scene.lines)
            self._paint_residuals(p, x, y)
            self._paint_marks(p, x, y, seen)

    def _paint_under(self, p: QPainter) -> None:
        for layer in self.scene.under:
            layer.paint(p, self.to_pixels, self._scale)

    def _grid_step(self) -> float:
        """Distance of the grid's lines, in the unit."""
        return nice_length(110.0 / self._scale / self.scene.unit.metres)

    def _grid_words(self) -> str:
        """What the figures at the grid's lines are counted in."""
        key = self.scene.unit.key
        if self._grid_step() < 100.0:
            return key
        return "km" if key == "m" else f"thousands of {key}"

    def _paint_grid(self, p: QPainter) -> None:
        unit = self.scene.unit.metres
        step = self._grid_step() * unit
        thousands = step / unit >= 100.0
        divisor, decimals = (1000.0, 1) if thousands else (1.0, 0 if step / unit >= 1 else 2)
        p.setFont(font(10))
        signs = {a.component: a.sign for a in self.scene.axes}
        low, high = self.to_ground(QPointF(0, self.height())), self.to_ground(QPointF(self.width(), 0))
        for axis in (0, 1):
            value = math.ceil(low[axis] / step) * step
            for _ in range(60):
                if value > high[axis]:
                    break
                x, y = self.to_pixels(value, value)
                sign = signs["en"[axis]]
                text = format_fixed(sign * value / unit / divisor, decimals)
                p.setPen(QPen(colour("grid"), 1))
                if axis == 0:
                    p.drawLine(QPointF(float(x), 0), QPointF(float(x), self.height()))
                    p.setPen(colour("grid_text"))
                    p.drawText(QPointF(float(x) + 3, self.height() - 5), text)
                else:
                    p.drawLine(QPointF(0, float(y)), QPointF(self.width(), float(y)))
                    p.setPen(colour("grid_text"))
                    if 54 < y < self.height() - 18:  # between the title and the figures below
                        p.drawText(QPointF(5, float(y) - 3), text)
                value += step

    def _stamp(self, p: QPainter, x: FloatArray, y: FloatArray) -> None:
        """All marks as squares of 3 pixels in one picture."""
        width, height = self.width(), self.height()
        canvas = np.zeros((height + 4, width + 4), dtype=np.uint32)
        col, row = np.rint(x).astype(np.intp), np.rint(y).astype(np.intp)
        inside = (col >= 0) & (col < width) & (row >= 0) & (row < height)
        flat = canvas.ravel()
        start = (row[inside] + 1) * (width + 4) + col[inside] + 1
        ink = np.uint32(colour("ink").rgba())
        for dy in (0, 1, 2):
            for dx in (0, 1, 2):
                flat[start + dy * (width + 4) + dx] = ink
        image = QImage(
            canvas.data, width + 4, height + 4, 4 * (width + 4), QImage.Format.Format_ARGB32_Premultiplied
        )
        p.drawImage(-2, -2, image)

    def _exaggeration(self) -> float:
        """Pixels per metre of residual: a round factor that makes the largest one about VECTOR_PX long."""
        largest = 0.0
        if self.scene.vector_m.size:
            largest = float(np.nanmax(np.hypot(*self.scene.vector_m), initial=0.0))
        if self.scene.ellipse.size:
            largest = max(largest, 1.6 * float(np.nanmax(self.scene.ellipse[0], initial=0.0)))
        return VECTOR_PX / largest if largest > 1e-9 else 0.0

    def _paint_hull(self, p: QPainter) -> None:
        if "hull and area" in self.hidden:
            return
        if self.scene.gaps.size:
            p.setPen(QPen(colour("sun"), 1.6, Qt.PenStyle.DotLine))
            p.setBrush(Qt.BrushStyle.NoBrush)
            for a, b in np.stack(self.to_pixels(*self.scene.gaps)).T.tolist():
                p.drawEllipse(QPointF(a, b), 22, 22)
        if self.scene.hull.shape[1] > 2:
            x, y = self.to_pixels(self.scene.hull[0], self.scene.hull[1])
            p.setPen(QPen(colour("hull"), 1, Qt.PenStyle.DashLine))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawPolygon(QPolygonF([QPointF(a, b) for a, b in zip(x.tolist(), y.tolist(), strict=True)]))

    def _paint_residuals(self, p: QPainter, x: FloatArray, y: FloatArray) -> None:
        factor = self._exaggeration()
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(colour("ellipse"), 1))
        few = self.scene.vector_rows.size <= LABELS // 2
        few_ellipses = few and "error ellipses" not in self.hidden
        ellipses = (
            zip(self.scene.ellipse_rows.tolist(), *self.scene.ellipse.tolist(), strict=True)
            if few_ellipses
            else ()
        )
        for row, a, b, azimuth in ellipses:
            if math.isfinite(a + b):
                p.save()
                p.translate(x[row], y[row])
                p.rotate(math.degrees(azimuth))
                p.drawEllipse(QPointF(0, 0), max(b * factor, 1.0), max(a * factor, 1.0))
                p.restore()
        if "residuals" in self.hidden:
            return
        p.setPen(QPen(colour("flare"), 1.6))
        rows = self.scene.vector_rows
        ends = np.stack(
            [
                x[rows],
                y[rows],
                x[rows] + self.scene.vector_m[0] * factor,
                y[rows] - self.scene.vector_m[1] * factor,
            ]
        )
        for x1, y1, x2, y2 in ends.T.tolist():
            if few:
                arrow(p, QPointF(x1, y1), QPointF(x2, y2))
            else:
                p.drawLine(QPointF(x1, y1), QPointF(x2, y2))

    def _paint_marks(self, p: QPainter, x: FloatArray, y: FloatArray, seen: NDArray[np.intp]) -> None:
        labelled = seen.size <= LABELS and "labels" not in self.hidden
        taken = [QRectF(x[row] - 5, y[row] - 6, 10, 11) for row in seen.tolist()] if labelled else []
        # Names keep clear of the scale bar, of the measure of the vectors above it, and of the north arrow.
        taken.append(self._bar()[1].adjusted(0, -18 if self.scene.vector_rows.size else 0, 0, 0))
        taken.append(QRectF(self.width() - 43.0, 20.0, 30.0, 48.0))
        order = sorted(seen.tolist(), key=lambda r: -int(self.scene.symbol[r] in (TRIANGLE, SQUARE)))
        p.setFont(font(11, MEDIUM))
        metrics = p.fontMetrics()
        self._stamp_symbols(p, x, y, seen)
        wanted = self.scene.labelled
        for row in order if labelled else ():
            if wanted.size and not wanted[row]:
                continue
            name = self.scene.names[row]
            width = metrics.horizontalAdvance(name)
            for dx, dy in ((9, -8), (9, 13), (-9 - width, -8), (-9 - width, 13)):
                box = QRectF(x[row] + dx, y[row] + dy - 10, width, 12)
                if not any(box.intersects(other) for other in taken):
                    taken.append(box)
                    p.setPen(
                        colour("off_text")
                        if self.scene.off[row]
                        else colour("ink")
                        if self.scene.symbol[row]
                        else colour("faint")
                    )
                    p.drawText(QPointF(box.left(), box.bottom() - 2), name)
                    break

    def _stamp_symbols(self, p: QPainter, x: FloatArray, y: FloatArray, seen: NDArray[np.intp]) -> None:
        """Symbols are drawn once and stamped from then on, to half a pixel; important ones over the
        others."""
        kinds = self.scene.symbol[seen].astype(int) + COUNT * self.scene.off[seen]
        ratio = p.deviceTransform().m11()
        for kind in (RING, DOT, CROSS, SQUARE, TRIANGLE, *range(COUNT, 2 * COUNT)):
            rows = seen[kinds == kind]
            if not rows.size:
                continue
            pixmap = self._symbol_pixmap(kind, ratio)
            stamp = p.drawPixmap
            for left, top in (np.rint(2.0 * np.stack([x[rows], y[rows]])) / 2.0 - 9.0).T.tolist():
                stamp(QPointF(left, top), pixmap)

    def _symbol_pixmap(self, kind: int, ratio: float) -> QPixmap:
        """Picture of a symbol, drawn when first asked for; from COUNT on the same switched off."""
        key = (kind, ratio, is_night())
        if key not in self._symbols:
            pixmap = QPixmap(round(18 * ratio), round(18 * ratio))
            pixmap.setDevicePixelRatio(ratio)
            pixmap.fill(Qt.GlobalColor.transparent)
            own = QPainter(pixmap)
            own.setRenderHint(QPainter.RenderHint.Antialiasing)
            draw_symbol(own, QPointF(9, 9), kind % COUNT, kind >= COUNT)
            own.end()
            self._symbols[key] = pixmap
        return self._symbols[key]

    def _pixel_of(self, name: str) -> QPointF | None:
        """Where a mark is drawn; None for one that is not."""
        if not name or name not in self.scene.names:
            return None
        row = self.scene.names.index(name)
        x, y = self.to_pixels(self.scene.e_m[row], self.scene.n_m[row])
        return QPointF(float(x), float(y)) if math.isfinite(float(x + y)) else None

    def _paint_measure(self, p: QPainter) -> None:
        start = self._pixel_of(self.measure_from)
        end = self._pixel_of(self.measure_to) or self._cursor
        if start is not None and end is not None:
            p.setPen(QPen(colour("water"), 1.5, Qt.PenStyle.DashLine))
            p.drawLine(start, end)

    def _bar(self) -> tuple[float, QRectF]:
        """What the scale bar says, in the unit, and the box it stands in."""
        unit = self.scene.unit.metres
        length = nice_length(110.0 / self._scale / unit)
        pixels = length * unit * self._scale
        return length, QRectF(self.width() - 36.0 - pixels, self.height() - 48.0, pixels + 16, 30)

    def _paint_furniture(self, p: QPainter) -> None:
        """Title, north, scale bar, the measure of the vectors, read-out."""
        p.setPen(colour("faint"))
        p.setFont(font(11))
        if self.scene.apart is not None:
            self.scene.apart.paint(p, self.width(), self.height())
            p.setPen(colour("faint"))
            p.setFont(font(11))
        if not self.scene.names and self.scene.coming is None:
            if self.scene.apart is not None:
                return
            p.fillRect(self.rect(), colour("map"))
            p.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Marks with positions will show here.")
            return
        p.drawText(QPointF(12, 20), f"{self.scene.title}, {self._grid_words()}" if self.scene.title else "")
        for row, key in enumerate(self._keys()):
            p.drawText(QPointF(12, self.height() - 48.0 - 14 * row), key)
        right, bottom = self.width() - 28.0, self.height() - 26.0
        p.setPen(QPen(colour("ink"), 1.4))
        p.drawPolyline([QPointF(right, 52), QPointF(right, 22)])
        p.drawPolyline([QPointF(right - 4.5, 29), QPointF(right, 22), QPointF(right + 4.5, 29)])
        p.drawText(QRectF(right - 15, 54, 30, 14), Qt.AlignmentFlag.AlignCenter, "N")
        unit = self.scene.unit.metres
        length, box = self._bar()
        pixels = box.width() - 16
        p.fillRect(box, _veil("map"))
        p.drawPolyline([QPointF(right - pixels, bottom - 4), QPointF(right - pixels, bottom + 4)])
        p.drawLine(QPointF(right - pixels, bottom), QPointF(right, bottom))
        p.drawPolyline([QPointF(right, bottom - 4), QPointF(right, bottom + 4)])
        text = f"{format_fixed(length, 0 if length >= 1 else 3)} {self.scene.unit.key}"
        p.drawText(QRectF(right - pixels, bottom - 20, pixels, 14), Qt.AlignmentFlag.AlignCenter, text)
        factor = self._exaggeration()
        if factor and self.scene.vector_rows.size:
            shown = nice_length(50.0 / factor * 1000.0)
            start = right - pixels
            p.setPen(QPen(colour("flare"), 1.6))
            p.drawLine(QPointF(start, bottom - 32), QPointF(start + shown / 1000.0 * factor, bottom - 32))
            p.setPen(colour("ink"))
            words = f"{format_fixed(shown, 0)} mm" if shown < 1000 else f"{format_fixed(shown / 1000, 0)} m"
            p.drawText(QPointF(start + shown / 1000.0 * factor + 6, bottom - 28), words)
        if self._cursor is not None:
            e, n = self.to_ground(self._cursor)
            text = "   ".join(f"{a.title} {format_fixed(a.of(e, n) / unit, 2)}" for a in self.scene.axes)
            box = QRectF(8, self.height() - 40, p.fontMetrics().horizontalAdvance(text) + 12, 18)
            p.fillRect(box, _veil("sheet"))
            p.setPen(colour("ink"))
            p.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


def _veil(role: str) -> QColor:
    """A colour that what lies under it shines through, a little."""
    veil = QColor(colour(role))
    veil.setAlpha(215)
    return veil
