"""Cells of a table: what a column is, and how they are painted with boxes, bars under residuals, thin rules
between rows.

A table paints all cells of a paint event in one go. Qt's own way asks the model a dozen things for every
cell, each of them a call of Python, and a screen has hundreds.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import QRect, QRectF, Qt
from PySide6.QtGui import QColor, QFontMetrics, QPainter, QPen

from fenwind.desk.theme import MEDIUM, NORMAL, SEMIBOLD, colour, font

if TYPE_CHECKING:
    from fenwind.desk.table import RecordTable

#: Colours and weights of tones, where they are not those of plain text.
_INK = {"faint": "faint", "off": "off_text", "doubt": "flare", "reed": "reed", "sun": "sun"}
_WEIGHT = {"bold": SEMIBOLD, "doubt": SEMIBOLD, "reed": MEDIUM, "sun": MEDIUM}
_RIGHT = int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight)
_LEFT = int(Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft)


@dataclass(frozen=True, kw_only=True)
class Column:
    """One column. text and value take a row; value is for sorting and full-precision copying, text when None.

    edit(row, text): puts a typed text into the job and returns whether that went well. box(row): True, False
    or "dashed" draws a box to click, toggle(row) is what a click does. bar(row): size against the tolerance,
    1 at it. tone(row): "", faint, bold, doubt, reed. whole: a name, which the column grows to like numbers.
    """

    key: str
    title: str
    unit: str = ""
    text: Callable[[Any], str] = lambda row: ""
    value: Callable[[Any], Any] | None = None
    edit: Callable[[Any, str], bool] | None = None
    editable: Callable[[Any], bool] = lambda row: True
    box: Callable[[Any], Any] | None = None
    toggle: Callable[[Any], object] | None = None
    bar: Callable[[Any], float] | None = None
    tone: Callable[[Any], str] = lambda row: ""
    right: bool = False
    whole: bool = False
    width: int = 80
    tip: str = ""


def shortened(text: str, metrics: QFontMetrics, width: int) -> str:
    """A text as it fits: whole, or with an ellipsis at its end. A number that lost its first digits would be
    another number."""
    if metrics.horizontalAdvance(text) <= width:
        return text
    return metrics.elidedText(text, Qt.TextElideMode.ElideRight, width)


def paint_cells(painter: QPainter, table: RecordTable, asked: QRect) -> None:
    """Paint the cells of a table that touch a part of its viewport."""
    columns = list(_columns(table, asked))
    first, last = table.rowAt(max(asked.top(), 0)), table.rowAt(asked.bottom())
    if first < 0 or not columns:
        return
    last = last if last >= 0 else table.proxy.rowCount() - 1
    edge, rows, height = table.viewport().width(), table.records.rows, table.rowHeight(first)
    ranges = table.selectionModel().selection().toList()
    chosen = [(r.top(), r.bottom(), r.left(), r.right()) for r in ranges]
    current = table.currentIndex() if table.hasFocus() or table.viewport().hasFocus() else None
    for place in range(first, last + 1):
        source = table.proxy.mapToSource(table.proxy.index(place, 0)).row()
        if not 0 <= source < len(rows):
            continue
        row, y = rows[source], table.rowViewportPosition(place)
        here = [(left, right) for top, bottom, left, right in chosen if top <= place <= bottom]
        for number, column, x, width in columns:
            rect = QRect(x, y, width, height)
            if here and any(left <= number <= right for left, right in here):
                painter.fillRect(rect, colour("chosen"))
            _paint(painter, rect, column, row, edge)
            if current is not None and (current.row(), current.column()) == (place, number):
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(colour("water"), 1))
                painter.drawRect(rect.adjusted(0, 0, -1, -2))


def _columns(table: RecordTable, asked: QRect) -> Iterator[tuple[int, Column, int, int]]:
    """Columns in sight: number, column, left edge and width."""
    header = table.horizontalHeader()
    for number, column in enumerate(table.records.columns):
        x, width = header.sectionViewportPosition(number), header.sectionSize(number)
        if not header.isSectionHidden(number) and x <= asked.right() and x + width > asked.left():
            yield number, column, x, width


def _paint(painter: QPainter, rect: QRect, column: Column, row: Any, edge: int) -> None:
    """One cell; edge: where the viewport ends."""
    painter.fillRect(rect.left(), rect.bottom(), rect.width(), 1, colour("rule"))
    tone = column.tone(row)
    if column.box is not None:
        _paint_box(painter, rect, column.box(row), tone)
    else:
        _paint_text(painter, rect, column, row, tone, edge)


def _paint_box(painter: QPainter, rect: QRect, box: Any, tone: str) -> None:
    square = QRectF(rect.left() + 9.5, rect.center().y() - 6.5, 14, 14)
    ink = colour("off") if tone == "faint" else colour("ink")
    pen = QPen(ink, 1.2)
    if box == "dashed":
        pen.setDashPattern([2.2, 2.0])
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(pen)
    painter.setBrush(ink if box is True else QColor(0, 0, 0, 0))
    painter.drawRoundedRect(square, 2.5, 2.5)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)


def _in_sight(
    text: str, right: bool, rect: QRect, inner: QRect, metrics: QFontMetrics, edge: int
) -> tuple[str, QRect]:
    """What a cell partly out of sight shows, and where: no number without some of its digits, and an ellipsis
    where a word leaves the table at its right edge. Pixels."""
    width = metrics.horizontalAdvance(text)
    if not right:
        room = max(edge - inner.left(), 0)
        return (shortened(text, metrics, room) if width > room else text), inner
    begins = inner.right() - width
    if begins < 0 or inner.right() >= edge:
        return "…", rect.intersected(QRect(0, rect.top(), edge, rect.height()))
    return text, inner


def _paint_text(painter: QPainter, rect: QRect, column: Column, row: Any, tone: str, edge: int) -> None:
    bar = column.bar(row) if column.bar is not None else math.nan
    has_bar = not math.isnan(bar)
    painter.setPen(colour(_INK.get(tone, "ink")))
    face = font(13, _WEIGHT.get(tone, NORMAL))
    painter.setFont(face)
    inner = rect.adjusted(9, 0, -9, -6 if has_bar else 0)
    text = column.text(row)
    if len(text) * face.pixelSize() > inner.width():  # no letter is wider than its face is high
        text = shortened(text, painter.fontMetrics(), inner.width())
    if text and (rect.left() < 0 or rect.right() >= edge):
        text, inner = _in_sight(text, column.right, rect, inner, painter.fontMetrics(), edge)
    painter.drawText(inner, _RIGHT if column.right else _LEFT, text)
    if has_bar:
        width = max(round(32 * min(abs(bar), 1.6)), 1 if bar else 0)
        role = "off" if tone == "off" else "reed" if abs(bar) <= 1.0 else "flare"
        painter.fillRect(rect.right() - 8 - width, rect.bottom() - 6, width, 3, colour(role))
