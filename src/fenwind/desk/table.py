"""Tables that are tables: sort, filter, edit, copy with headers, one value set down a selection, bars under
residuals."""

from __future__ import annotations

import html
import math
import re
from collections.abc import Callable, Sequence
from typing import Any

from PySide6.QtCore import (
    QAbstractTableModel,
    QItemSelection,
    QItemSelectionModel,
    QModelIndex,
    QPersistentModelIndex,
    QPoint,
    QRect,
    QRegularExpression,
    QSize,
    QSortFilterProxyModel,
    Qt,
    Signal,
)
from PySide6.QtGui import (
    QContextMenuEvent,
    QFontMetrics,
    QGuiApplication,
    QKeyEvent,
    QKeySequence,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
)
from PySide6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QWidget,
)

from fenwind.desk.cells import Column, paint_cells, shortened
from fenwind.desk.theme import MEDIUM, SEMIBOLD, colour, font, scaled

Index = QModelIndex | QPersistentModelIndex
_WHOLE_ROW = QItemSelectionModel.SelectionFlag.ClearAndSelect | QItemSelectionModel.SelectionFlag.Rows
SortRole = Qt.ItemDataRole.UserRole
CopyRole = Qt.ItemDataRole.UserRole + 1
#: All texts of a row, at its first cell.
FilterRole = Qt.ItemDataRole.UserRole + 2
#: Rows whose numbers decide how wide a column is.
LOOKED_AT = 64


class RecordTableModel(QAbstractTableModel):
    """Rows are whatever the columns' functions take; the model never changes the job itself."""

    filled = Signal()  # rows have come, all or some of them

    def __init__(self, columns: Sequence[Column], parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.columns = list(columns)
        self.rows: Sequence[Any] = []

    def set_rows(self, rows: Sequence[Any]) -> None:
        """Replace the rows; selections survive when their number stays the same."""
        if len(rows) == len(self.rows):
            self.rows = rows
            if rows:
                self._show(0, len(rows) - 1)
        else:
            self.beginResetModel()
            self.rows = rows
            self.endResetModel()
        self.filled.emit()

    def update_rows(self, rows: Sequence[Any]) -> None:
        """Replace rows of which those that are equal look alike: only what differs is painted anew, and
        where more follow, the others stay selected and where they are."""
        old, count = self.rows, len(self.rows)
        if not 0 < count <= len(rows):
            self.set_rows(rows)
            return
        if len(rows) > count:
            self.beginInsertRows(QModelIndex(), count, len(rows) - 1)
            self.rows = rows
            self.endInsertRows()
        self.rows = rows
        for first, last in _runs([i for i in range(count) if rows[i] != old[i]]):
            self._show(first, last)
        self.filled.emit()

    def _show(self, first: int, last: int) -> None:
        self.dataChanged.emit(self.index(first, 0), self.index(last, len(self.columns) - 1))

    def set_columns(self, columns: Sequence[Column]) -> None:
        """Replace the columns, for instance when the unit shown changes; rows made for another number of
        columns go."""
        if len(columns) == len(self.columns):
            self.columns = list(columns)
            self.headerDataChanged.emit(Qt.Orientation.Horizontal, 0, len(columns) - 1)
        else:
            self.beginResetModel()
            self.columns, self.rows = list(columns), []
            self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.rows)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.columns)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if not index.isValid() or index.row() >= len(self.rows):
            return None
        column, row = self.columns[index.column()], self.rows[index.row()]
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return column.text(row) if column.box is None else None
        if role == SortRole:
            return column.value(row) if column.value else column.text(row)
        if role == CopyRole:
            return _copy_text(column, row)
        if role == FilterRole:
            return " ".join(c.text(row) for c in self.columns if c.box is None)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignVCenter | (
                Qt.AlignmentFlag.AlignRight if column.right else Qt.AlignmentFlag.AlignLeft
            )
        if role == Qt.ItemDataRole.ToolTipRole:
            text = column.text(row) if column.box is None else ""
            # The whole value when it may be shortened in its cell, else what the column is.
            return plain_tip(text) if len(text) * 6 > column.width - 18 else column.tip or None
        return None

    def headerData(
        self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole
    ) -> Any:
        if orientation != Qt.Orientation.Horizontal or section >= len(self.columns):
            return None
        column = self.columns[section]
        if role == Qt.ItemDataRole.DisplayRole:
            return f"{column.title}\n{column.unit}" if column.unit else column.title
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignBottom | (
                Qt.AlignmentFlag.AlignRight if column.right else Qt.AlignmentFlag.AlignLeft
            )
        return (column.tip or None) if role == Qt.ItemDataRole.ToolTipRole else None

    def flags(self, index: Index) -> Qt.ItemFlag:
        if not index.isValid():
            return Qt.ItemFlag.NoItemFlags
        column = self.columns[index.column()]
        edited = column.edit is not None and column.editable(self.rows[index.row()])
        return _EDITED if edited else _SHOWN

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        column = self.columns[index.column()]
        if (
            column.edit is None
            or role != Qt.ItemDataRole.EditRole
            or str(value) == column.text(self.rows[index.row()])
        ):
            return False
        return column.edit(self.rows[index.row()], str(value))


def _runs(places: Sequence[int]) -> list[tuple[int, int]]:
    """First and last of places that follow each other, in their order."""
    begins = [p for k, p in enumerate(places) if not k or p > places[k - 1] + 1]
    ends = [p for k, p in enumerate(places) if k == len(places) - 1 or p < places[k + 1] - 1]
    return list(zip(begins, ends, strict=True))


def _copy_text(column: Column, row: Any) -> str:
    """A cell for the clipboard: every digit there is."""
    if column.box is not None:
        state = column.box(row)
        return state if isinstance(state, str) else ("yes" if state else "no")
    value = column.value(row) if column.value else column.text(row)
    if isinstance(value, float):
        return "" if math.isnan(value) else repr(value)
    return str(value)


class SortFilter(QSortFilterProxyModel):
    """Sorts by value, with empty cells last, and keeps rows that hold every word looked for."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFilterRole(FilterRole)
        self.setFilterKeyColumn(0)

    def look_for(self, text: str) -> None:
        """Show only rows that contain all words of a text."""
        # By Qt's own filter: asked for each row in Python, a long list would hold the window up even while
        # nothing is looked for.
        pattern = "".join(f"(?=.*{QRegularExpression.escape(word)})" for word in text.split())
        options = (
            QRegularExpression.PatternOption.CaseInsensitiveOption
            | QRegularExpression.PatternOption.DotMatchesEverythingOption
        )
        self.setFilterRegularExpression(QRegularExpression(pattern and f"^{pattern}", options))

    def lessThan(self, left: Index, right: Index) -> bool:
        a, b = left.data(SortRole), right.data(SortRole)
        rising = self.sortOrder() == Qt.SortOrder.AscendingOrder
        empty_a, empty_b = _empty(a), _empty(b)
        if empty_a or empty_b:
            return (not empty_a and empty_b) if rising else (empty_a and not empty_b)
        if isinstance(a, str) or not isinstance(a, (type(b), int, float)):
            return natural(str(a)) < natural(str(b))
        return bool(a < b)


def natural(text: str) -> tuple[tuple[int, int, str], ...]:
    """A key that sorts names as people do: P-2 before P-10, whatever the case of letters."""
    parts = _PARTS.findall(text.casefold())
    return tuple((0, int(number), "") if number else (1, 0, word) for number, word in parts)


def _empty(value: Any) -> bool:
    return value is None or value == "" or (isinstance(value, float) and math.isnan(value))


#: Numbers and what is between them; digits of any script that int() reads.
_PARTS = re.compile(r"(\d{1,18})|(\D+|\d)")
#: Put together once: of a whole screen every cell is asked.
_SHOWN = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
_EDITED = _SHOWN | Qt.ItemFlag.ItemIsEditable


def plain_tip(text: str) -> str:
    """A text as a tip that shows it as it is, even where it looks like HTML."""
    return f"<span>{html.escape(text)}</span>" if "<" in text or "&" in text else text


class _Cells(QStyledItemDelegate):
    """How high rows are and where editors lie; cells are painted by the table (`cells`)."""

    def sizeHint(self, option: QStyleOptionViewItem, index: Index) -> QSize:
        return QSize(40, scaled(30))

    def updateEditorGeometry(self, editor: QWidget, option: QStyleOptionViewItem, index: Index) -> None:
        editor.setGeometry(option.rect.adjusted(0, 0, 0, -1))


class _Header(QHeaderView):
    """Column heads: title, unit under it, a small arrow on the sorted one."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(Qt.Orientation.Horizontal, parent)
        self.setSectionsClickable(True)
        self.setHighlightSections(False)
        self.setSortIndicatorShown(False)
        self.setStretchLastSection(True)
        self.setMinimumSectionSize(30)

    def sizeHint(self) -> QSize:
        return QSize(super().sizeHint().width(), scaled(38))

    def paintSection(self, painter: QPainter, rect: QRect, logical: int) -> None:
        painter.save()
        painter.fillRect(rect, colour("sheet"))
        painter.fillRect(rect.left(), rect.bottom(), rect.width(), 1, colour("rule"))
        model = self.model()
        text = model.headerData(logical, Qt.Orientation.Horizontal) or ""
        flags = model.headerData(logical, Qt.Orientation.Horizontal, Qt.ItemDataRole.TextAlignmentRole)
        painter.setPen(colour("faint"))
        painter.setFont(font(11, MEDIUM))
        inner = rect.adjusted(9, 2, -9, -5)
        metrics = painter.fontMetrics()
        fitted = "\n".join(shortened(line, metrics, inner.width()) for line in str(text).split("\n"))
        painter.drawText(inner, int(flags), fitted)
        proxy = model if isinstance(model, QSortFilterProxyModel) else None
        if proxy is not None and proxy.sortColumn() == logical:
            x, y = rect.left() + 3, rect.bottom() - 10
            tip = -3 if proxy.sortOrder() == Qt.SortOrder.AscendingOrder else 3
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(colour("water"), 1.3))
            painter.drawPolyline(
                [QPoint(x, y - tip // 2), QPoint(x + 3, y + tip), QPoint(x + 6, y - tip // 2)]
            )
        painter.restore()


def column_width(column: Column) -> int:
    """Pixels of a column as it begins: wide enough for its head."""
    metrics = QFontMetrics(font(11, MEDIUM))
    head = max((metrics.horizontalAdvance(line) for line in (column.title, column.unit)), default=0)
    return max(scaled(column.width), min(head + 20, scaled(220)))


class RecordTable(QTableView):
    """A table view over columns and rows, with its proxy. Emits the row picked and texts pasted."""

    row_picked = Signal(object)
    paste_requested = Signal(str)
    off_requested = Signal()  # Delete was pressed on the selection
    menu_requested = Signal(QPoint)  # on the screen, for the selection

    def __init__(
        self, columns: Sequence[Column], parent: QWidget | None = None, *, filtered: bool = True
    ) -> None:
        """filtered False for very long lists, which are neither sorted nor filtered here."""
        super().__init__(parent)
        self.records = RecordTableModel(columns, self)
        self.proxy = SortFilter(self) if filtered else QSortFilterProxyModel(self)
        self.proxy.setSourceModel(self.records)
        self.setModel(self.proxy)
        self.setItemDelegate(_Cells(self))
        self.setHorizontalHeader(_Header(self))
        self.verticalHeader().hide()
        self.verticalHeader().setDefaultSectionSize(scaled(30))
        self.setShowGrid(False)
        self.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        self.setEditTriggers(
            QAbstractItemView.EditTrigger.DoubleClicked | QAbstractItemView.EditTrigger.EditKeyPressed
        )
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.setTabKeyNavigation(False)  # Tab leaves the table; arrows walk in it
        self.setSortingEnabled(filtered)
        self.proxy.sort(-1)
        for i, column in enumerate(columns):
            self.setColumnWidth(i, column_width(column))
        self.selectionModel().currentRowChanged.connect(self._on_row)
        self.records.filled.connect(self._grow)

    def _grow(self) -> None:
        """Widen columns of numbers and names to what stands in them; a user's wider one stays."""
        count = len(self.records.rows)
        looked_at = min(count, LOOKED_AT)
        rows = [self.records.rows[i * count // looked_at] for i in range(looked_at)]
        metrics = QFontMetrics(font(13, SEMIBOLD))
        for place, column in enumerate(self.records.columns):
            if (column.right or column.whole) and column.box is None:
                texts = {column.text(row) for row in rows}
                most = max(map(len, texts), default=0)
                # Letters are not equally wide: all that are about as long.
                long = [text for text in texts if len(text) >= most - 1]
                needed = max(map(metrics.horizontalAdvance, long), default=0) + 20
                if needed > self.columnWidth(place):
                    self.setColumnWidth(place, needed)

    def paintEvent(self, event: QPaintEvent) -> None:
        with QPainter(self.viewport()) as painter:
            paint_cells(painter, self, event.rect())

    def _on_row(self, current: QModelIndex, _previous: QModelIndex) -> None:
        row = self.row_at(current)
        if row is not None:
            self.row_picked.emit(row)

    def look_for(self, text: str) -> None:
        """Keep the rows that hold every word of a text."""
        if isinstance(self.proxy, SortFilter):
            self.proxy.look_for(text)

    def row_at(self, index: Index) -> Any:
        """The row behind an index of the view, None when there is none."""
        source = self.proxy.mapToSource(index)
        return (
            self.records.rows[source.row()]
            if source.isValid() and source.row() < len(self.records.rows)
            else None
        )

    def selected_rows(self) -> list[Any]:
        """Rows with a selected cell, from the top."""
        indexes = sorted({i.row() for i in self.selectionModel().selectedIndexes()})
        return [self.row_at(self.proxy.index(r, 0)) for r in indexes]

    def pick(self, test: Callable[[Any], bool]) -> None:
        """Make the first row that passes the current one, without telling it back."""
        for position, row in enumerate(self.records.rows):
            if test(row):
                index = self.proxy.mapFromSource(self.records.index(position, 0))
                if index.isValid() and index.row() != self.currentIndex().row():
                    column = max(self.currentIndex().column(), 0)
                    self.setCurrentIndex(self.proxy.index(index.row(), column))
                    self.selectionModel().select(index, _WHOLE_ROW)
                return

    def pick_all(self, test: Callable[[Any], bool]) -> None:
        """Select every row that passes."""
        chosen = QItemSelection()
        last = self.records.columnCount() - 1
        for position, row in enumerate(self.records.rows):
            if test(row):
                index = self.proxy.mapFromSource(self.records.index(position, 0))
                if index.isValid():
                    chosen.select(index, self.proxy.index(index.row(), last))
        self.selectionModel().select(chosen, QItemSelectionModel.SelectionFlag.ClearAndSelect)

    def copy(self) -> None:
        """Copy the selected cells with headers, tab separated, every digit kept."""
        indexes = self.selectionModel().selectedIndexes()
        if not indexes:
            return
        rows, columns = sorted({i.row() for i in indexes}), sorted({i.column() for i in indexes})
        if len(rows) == 1 and len(columns) == 1:
            QGuiApplication.clipboard().setText(str(indexes[0].data(CopyRole) or ""))
            return
        heads = [self.records.columns[c] for c in columns]
        lines = ["\t".join(f"{h.title} ({h.unit})" if h.unit else h.title for h in heads)]
        lines += ["\t".join(str(self.proxy.index(r, c).data(CopyRole) or "") for c in columns) for r in rows]
        QGuiApplication.clipboard().setText("\n".join(lines))

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Copy):
            self.copy()
        elif event.matches(QKeySequence.StandardKey.Paste):
            self.paste_requested.emit(QGuiApplication.clipboard().text())
        elif event.key() in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace) and self.selected_rows():
            self.off_requested.emit()
        elif event.key() == Qt.Key.Key_Space and self._toggle(self.currentIndex()):
            pass
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        """For the row under the mouse; for the selection where the keyboard asks."""
        index = self.indexAt(event.pos())
        pointed = event.reason() == QContextMenuEvent.Reason.Mouse and index.isValid()
        if pointed and not self.selectionModel().isSelected(index):
            self.setCurrentIndex(index)
        if self.selected_rows():
            self.menu_requested.emit(event.globalPos())

    def mousePressEvent(self, event: QMouseEvent) -> None:
        super().mousePressEvent(event)
        if event.button() == Qt.MouseButton.LeftButton:
            self._toggle(self.indexAt(event.position().toPoint()))

    def _toggle(self, index: Index) -> bool:
        if not index.isValid():
            return False
        column = self.records.columns[index.column()]
        row = self.row_at(index)
        if column.box is None or column.toggle is None or row is None:
            return False
        column.toggle(row)
        return True
