"""The window before there is a job in it: header, rail, empty sheet, plan side, doubts bar.

Paints in the first moments, so it imports nothing but Qt and the theme, and of Qt not its namespace: asked
for, as by a pen of a colour, that makes a hundred classes of enumerations, a fifth of the time until
something is seen. Numbers and palettes do instead.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import QByteArray, QRect, QRectF, QSettings, QSize, QTimer, Signal
from PySide6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QFont,
    QFontMetrics,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QResizeEvent,
)
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QProgressBar,
    QPushButton,
    QSplitter,
    QStackedWidget,
    QStyleOptionButton,
    QVBoxLayout,
    QWidget,
)

from fenwind.desk.rail import Rail
from fenwind.desk.theme import CENTRED, SEMIBOLD, fill, font, scaled, write

HEADER_HEIGHT = 44
#: Work that takes less time than this is not shown as work.
BUSY_MS = 250
#: Of Qt's namespace: alignment left and right at mid-height, a label's format, a splitter's orientation.
LEFT, RIGHT, PLAIN_TEXT, VERTICAL = 0x81, 0x82, 0, 2
#: At least as much as any look has at both sides of a button's text together.
AROUND = 30
#: Widths of texts that change many times a second grow and shrink by so many pixels.
STEP = 24


def in_steps(width: int) -> int:
    """A width that changes seldom, at least as large."""
    return -(-width // STEP) * STEP


def look(widget: QWidget, name: str) -> QWidget:
    """Give a widget one of the style sheet's looks."""
    widget.setProperty("look", name)
    return widget


class PlainLabel(QLabel):
    """A label that shows its text as it is: names of marks and files may look like HTML."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(text, parent)
        self.setProperty("textFormat", PLAIN_TEXT)


class WholeLabel(PlainLabel):
    """A label that breaks its lines and keeps the height they need, whatever is under it."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(text, parent)
        self.setWordWrap(True)

    def _keep(self) -> None:
        self.setMinimumHeight(0)  # a label's height for a width is never under its least height
        self.setFixedHeight(max(self.heightForWidth(max(self.width(), 60)), 0))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._keep()

    def setText(self, text: str) -> None:
        if text != self.text():
            super().setText(text)
            self._keep()


class ShortLabel(PlainLabel):
    """A label of one line that ends in an ellipsis where it does not fit."""

    def minimumSizeHint(self) -> QSize:
        return QSize(40, super().minimumSizeHint().height())

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        text = _elided(self.text(), p.fontMetrics(), self.width())
        p.drawText(self.rect(), LEFT, text)


class ShortButton(QPushButton):
    """A button whose text ends in an ellipsis where it does not fit; the whole of it is its tip."""

    def minimumSizeHint(self) -> QSize:
        least = super().minimumSizeHint()
        return QSize(min(60, least.width()), least.height())

    def initStyleOption(self, option: QStyleOptionButton) -> None:
        super().initStyleOption(option)
        metrics = self.fontMetrics()
        if metrics.horizontalAdvance(self.text()) + AROUND > self.width():
            from PySide6.QtWidgets import QStyle

            inside = self.style().subElementRect(QStyle.SubElement.SE_PushButtonContents, option, self)
            option.text = _elided(self.text(), metrics, inside.width() or self.width())


def _elided(text: str, metrics: QFontMetrics, width: int) -> str:
    """A text, ended by an ellipsis where it is wider."""
    if metrics.horizontalAdvance(text) <= width:
        return text
    from PySide6.QtCore import Qt

    return metrics.elidedText(text, Qt.TextElideMode.ElideRight, width)


def show_look(widget: QWidget, name: str) -> None:
    """Change the look of a widget that is shown already."""
    if widget.property("look") != name:
        widget.setProperty("look", name)
        widget.style().unpolish(widget)
        widget.style().polish(widget)


class _Strip(QWidget):
    """A band in one colour with a thin rule along one edge."""

    def __init__(self, role: str, edge: str, parent: QWidget) -> None:
        super().__init__(parent)
        self.role, self.edge = role, edge

    def paintEvent(self, event: QPaintEvent) -> None:
        p, y = QPainter(self), 0 if self.edge == "top" else self.height() - 1
        for role, top, height in ((self.role, 0, self.height()), ("rule", y, 1)):
            path = QPainterPath()
            path.addRect(QRectF(0, top, self.width(), height))
            fill(p, path, role)


class _Kept(QWidget):
    """Two short lines at the right that may change many times a second: its width changes in steps, since
    the window is laid out again for each."""

    def __init__(self) -> None:
        super().__init__()
        self._lines = ("", "")
        self.setFixedSize(0, scaled(HEADER_HEIGHT))

    def text(self) -> str:
        """Both lines."""
        return "\n".join(self._lines)

    def say(self, bold: str, grey: str) -> None:
        """Show two lines."""
        if (bold, grey) == self._lines:
            return
        self._lines = (bold, grey)
        wide = max(QFontMetrics(f).horizontalAdvance(t) for f, t in zip(_fonts(), self._lines, strict=True))
        width = in_steps(wide)
        if width != self.minimumWidth():
            self.setFixedWidth(width)
        self.setAccessibleName(self.text())
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        p, line = QPainter(self), scaled(15)
        top = self.height() // 2 - line
        for k, (letters, role) in enumerate(zip(_fonts(), ("ink", "faint"), strict=True)):
            p.setFont(letters)
            write(p, self, QRect(0, top + k * line, self.width(), line), self._lines[k], role, RIGHT)


def _fonts() -> tuple[QFont, QFont]:
    return font(11, SEMIBOLD), font(11)


class Header(_Strip):
    """Job name, frame, heights and units as things to click, the finder, and what is kept. slow: what was
    done takes so long to keep and derive that this is said."""

    slow = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__("sheet", "bottom", parent)
        self.setFixedHeight(scaled(HEADER_HEIGHT))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(10, 0, 14, 0)
        layout.setSpacing(7)
        self.job = ShortButton("Fenwind")
        self.job.setToolTip("All commands, by subject")
        look(self.job, "job")
        layout.addWidget(self.job)
        layout.addSpacing(4)
        self.parts: dict[str, QPushButton] = {}
        for key, lead, tip in (
            ("frame", "", "Frame shown: click to change"),
            ("heights", "· heights", "Height reference of the frame: click to change"),
            ("units", "·", "Units shown: click to change"),
        ):
            if lead:
                word = PlainLabel(lead)
                look(word, "faint")
                layout.addWidget(word)
            button = ShortButton("")
            look(button, "head")
            button.setToolTip(tip)
            button.setEnabled(False)
            self.parts[key] = button
            layout.addWidget(button)
        layout.addStretch(1)
        self.finder = ShortButton("Find a mark or an action                Ctrl K")
        look(self.finder, "find")
        self.finder.setMaximumWidth(scaled(252))
        self.finder.setToolTip("Find marks and commands by any part of the name (Ctrl+K)")
        layout.addWidget(self.finder)
        layout.addSpacing(8)
        self.progress = QProgressBar()
        self.progress.setFixedWidth(90)
        self.progress.setTextVisible(False)
        self.stop = QPushButton("stop")
        self.stop.setToolTip("Stop deriving; what is shown stays as it was")
        look(self.stop, "link")
        for widget in (self.progress, self.stop):
            widget.hide()
            layout.addWidget(widget)
        self.progress.setRange(0, 0)
        self._busy = QTimer(self)
        self._busy.setSingleShot(True)
        self._busy.timeout.connect(partial(self._show_work, True))
        self._kept, self._live = ("", ""), None  # type: tuple[str, str], tuple[str, str] | None
        self.kept = _Kept()
        self.kept.setToolTip("Every change is written to the job file at once; there is nothing to save")
        layout.addWidget(self.kept)

    def show_busy(self, busy: bool) -> None:
        """Show that results are being derived."""
        if busy:
            self._busy.start(BUSY_MS)
        else:
            self._busy.stop()
            self._show_work(False)

    def _show_work(self, shown: bool) -> None:
        self.progress.setRange(0, 0)
        self.progress.setVisible(shown)
        self.stop.setVisible(shown)
        if shown:
            self.slow.emit()

    def show_progress(self, done: int, total: int, _text: str) -> None:
        """Show how far that is."""
        if self.progress.isVisible():
            self.progress.setRange(0, max(total, 1))
            self.progress.setValue(done)

    def show_live(self, bold: str, grey: str) -> None:
        """What runs now, in the place of what is kept; empty for nothing."""
        self._live = (bold, grey) if bold else None
        self._show_words(*(self._live or self._kept))

    def show_kept(self, bold: str, grey: str) -> None:
        """What is kept, two short lines at the right."""
        self._kept = (bold, grey)
        self._show_words(*(self._live or self._kept))

    def _show_words(self, bold: str, grey: str) -> None:
        self.kept.say(bold, grey)


class _Pages(QStackedWidget):
    """The sheets. How large they would like to be is not asked: the splitter's halves are as they are drawn,
    and to answer, hundreds of labels would break their lines again whenever any text changes."""

    def sizeHint(self) -> QSize:
        return QSize(716, 600)


class Shell(QMainWindow):
    """The window. A workspace fills `pages`, `side` and `bar` once the job is read."""

    stage_requested = Signal(str)
    first_painted = Signal()
    closing = Signal()
    dropped = Signal(str)  # the path of a file that was dropped on the window

    def __init__(self, settings: QSettings | None = None) -> None:
        super().__init__()
        self.settings = settings
        self.setWindowTitle("Fenwind")
        self.resize(1280, 800)
        self.setMinimumSize(1000, 620)
        self.setAcceptDrops(True)
        self.setAnimated(False)
        self.body = body = QWidget(self)
        body.setObjectName("sheet")
        outer = QVBoxLayout(body)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        self.header = Header(body)
        self.rail = Rail(body)
        self.pages = _Pages()
        self.pages.setObjectName("sheet")
        self._make_note()
        self.pages.addWidget(self._note_page)
        self.side = QSplitter()
        self.side.setProperty("orientation", VERTICAL)
        self.side.setHandleWidth(1)
        self.split = QSplitter()
        self.split.setHandleWidth(1)
        self.split.addWidget(self.pages)
        self.split.addWidget(self.side)
        self.split.setStretchFactor(0, 1)
        self.split.setSizes([716, 476])
        self.split.setCollapsible(0, False)
        middle = QHBoxLayout()
        middle.setSpacing(0)
        middle.addWidget(self.rail)
        middle.addWidget(self.split, 1)
        self.bar = QFrame()
        self.bar_layout = QVBoxLayout(self.bar)
        self.bar_layout.setContentsMargins(0, 0, 0, 0)
        self.bar_layout.setSpacing(0)
        outer.addWidget(self.header)
        outer.addLayout(middle, 1)
        outer.addWidget(self.bar)
        self.setCentralWidget(body)
        self.rail.stage_chosen.connect(self.stage_requested)
        self.rail.choose("Fits")
        self._painted = False
        if settings is not None and isinstance(settings.value("window/geometry"), QByteArray):
            self.restoreGeometry(settings.value("window/geometry"))

    def _make_note(self) -> None:
        self.note = PlainLabel("Opening the job …")
        self.note.setProperty("alignment", CENTRED)
        self.note.setWordWrap(True)
        look(self.note, "faint")
        self.note_button = QPushButton("")
        look(self.note_button, "main")
        self.note_button.hide()
        self._note_page = QWidget()
        column = QVBoxLayout(self._note_page)
        column.addStretch(1)
        column.addWidget(self.note)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(self.note_button)
        row.addStretch(1)
        column.addLayout(row)
        column.addStretch(1)

    def say(self, text: str, button: str = "", run: Callable[[], object] = lambda: None) -> None:
        """Show a text where the sheet will be, such as why a job could not be opened, and a button for what
        can be done about it."""
        self.note.setText(text)
        self.note_button.setText(button)
        self.note_button.setVisible(bool(button))
        if button:
            self.note_button.clicked.connect(self.note_button.hide)
            self.note_button.clicked.connect(lambda _=False: run())
            self.note_button.setFocus()
        self.pages.setCurrentWidget(self._note_page)

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        if not self._painted:
            self._painted = True
            self.first_painted.emit()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(url.isLocalFile() for url in event.mimeData().urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        for url in event.mimeData().urls():
            if url.isLocalFile():
                self.dropped.emit(url.toLocalFile())
        event.acceptProposedAction()

    def closeEvent(self, event: QCloseEvent) -> None:
        if self.settings is not None:
            self.settings.setValue("window/geometry", self.saveGeometry())
        self.closing.emit()
        super().closeEvent(event)
        # With all that hangs on it: what a signal is connected to lives as long as the signal does.
        self.deleteLater()
