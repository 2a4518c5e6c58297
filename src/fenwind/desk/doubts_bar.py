"""The doubts at the foot of the desk: how many, the gravest in words, ways to settle it; and the list of all,
in place."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from fenwind.desk.askline import AskLine
from fenwind.desk.bridge import JobBridge
from fenwind.desk.shell import PlainLabel, ShortLabel, look
from fenwind.desk.stage_table import stage_of
from fenwind.desk.theme import SEMIBOLD, colour, font, scaled
from fenwind.doubts.registry import Doubt
from fenwind.quantities.numbers import counted
from fenwind.records.records import Acceptance


def _link(text: str, tip: str) -> QPushButton:
    button = QPushButton(text)
    look(button, "link")
    button.setToolTip(tip)
    button.setCursor(Qt.CursorShape.PointingHandCursor)
    return button


class DoubtsBar(QWidget):
    """Count, gravest doubt, and what settles it; opens into the list."""

    def __init__(self, bridge: JobBridge, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.bridge = bridge
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 1, 0, 0)
        outer.setSpacing(0)
        self.list = QScrollArea()
        self.list.setWidgetResizable(True)
        self.list.setObjectName("doubts-list")
        self.list.hide()
        outer.addWidget(self.list)
        self.ask = AskLine()
        self.ask.setContentsMargins(16, 4, 16, 4)
        outer.addWidget(self.ask)
        line = QWidget()
        line.setFixedHeight(scaled(34))
        self.row = QHBoxLayout(line)
        self.row.setContentsMargins(16, 0, 16, 0)
        self.row.setSpacing(10)
        self.count = PlainLabel("")
        self.count.setFont(font(13, SEMIBOLD))
        self.text = ShortLabel("")
        self.text.setMinimumWidth(100)
        self.row.addWidget(self.count)
        self.row.addWidget(self.text, 1)
        self.links = QHBoxLayout()
        self.links.setSpacing(12)
        self.row.addLayout(self.links)
        outer.addWidget(line)
        self.all = _link("all", "Show all doubts, open and accepted")
        self.all.clicked.connect(self.toggle_list)
        bridge.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the doubts as they are now."""
        doubts = self.bridge.findings.open
        accepted = self.bridge.findings.accepted
        count = len(doubts)
        self.count.setText(counted(count, "doubt") if count else "No doubts")
        role = "flare" if any(d.grave for d in doubts) else "sun" if doubts else "reed"
        self.count.setStyleSheet(f"color: {colour(role).name()};")
        self._role = "alarm" if doubts else "sheet"
        words = doubts[0].text if doubts else f"{len(accepted)} accepted." if accepted else ""
        self.text.setText(words)
        self.text.setToolTip(words)
        self._fill_links(doubts, count > 1 or bool(accepted))
        if self.list.isVisible():
            self._fill()
        self.update()

    def _fill_links(self, doubts: tuple[Doubt, ...], more: bool) -> None:
        """What settles the gravest doubt, and the way to the others."""
        while (item := self.links.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None and widget is not self.all:
                widget.hide()
                widget.deleteLater()
        for button in self._buttons(doubts[0]) if doubts else ():
            self.links.addWidget(button)
        if more:
            self.links.addWidget(self.all)
        self.all.setVisible(more)

    def _buttons(self, doubt: Doubt) -> list[QPushButton]:
        buttons = []
        for remedy in doubt.remedies:
            button = _link(remedy.label, "Settle it this way; undo takes it back")
            button.setObjectName(f"settle-{remedy.kind}")
            button.clicked.connect(partial(self._settle, doubt, remedy))
            buttons.append(button)
        go = _link("go there", "Select what this doubt is about")
        go.clicked.connect(partial(self._go, doubt))
        accept = _link("accept …", "Let it stand, with a reason that the report will show")
        accept.setObjectName("accept")
        accept.clicked.connect(partial(self._accept, doubt))
        return [*buttons, go, accept]

    def _settle(self, doubt: Doubt, remedy: object) -> None:
        self.bridge.settle(doubt, remedy)  # type: ignore[arg-type]

    def _go(self, doubt: Doubt) -> None:
        if doubt.subject in self.bridge.state.fits:
            self.bridge.fit_id = doubt.subject
        self.bridge.stage_requested.emit(stage_of(doubt, self.bridge.state))
        if doubt.names:
            self.bridge.select(doubt.names[0])

    def _accept(self, doubt: Doubt) -> None:
        self.ask.ask(
            "Accept, because",
            partial(self.bridge.accept, doubt),
            button="Accept",
            placeholder="the reason, for the report",
        )

    def toggle_list(self) -> None:
        """Open or close the list of all doubts."""
        if self.list.isVisible():
            self.list.hide()
            self.all.setText("all")
        else:
            self._fill()
            self.list.show()
            self.all.setText("close")

    def _fill(self) -> None:
        body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(16, 8, 16, 4)
        column.setSpacing(6)
        for doubt in self.bridge.findings.open:
            column.addWidget(
                self._entry(
                    "grave" if doubt.grave else "caution", "flare" if doubt.grave else "sun", doubt, None
                )
            )
        for doubt, acceptance in self.bridge.findings.accepted:
            column.addWidget(self._entry("accepted", "reed", doubt, acceptance))
        body.setObjectName("doubts")
        self.list.setWidget(body)
        self.list.setFixedHeight(min(self._needed_height(), 260))
        if not self.bridge.findings.open and not self.bridge.findings.accepted:
            self.list.hide()

    def _needed_height(self) -> int:
        """Height of the list: word wrapping beside buttons of any width is only known roughly before it is
        laid out."""
        texts = [d.text for d in self.bridge.findings.open] + [
            d.text + a.reason for d, a in self.bridge.findings.accepted
        ]
        room = max(self.width() - 480, 300)
        lines = [1 + self.fontMetrics().horizontalAdvance(text) // room for text in texts]
        return 16 + sum(18 * n + 8 for n in lines)

    def _entry(self, word: str, role: str, doubt: Doubt, acceptance: Acceptance | None) -> QWidget:
        entry = QWidget()
        row = QHBoxLayout(entry)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(10)
        state = PlainLabel(word)
        state.setFixedWidth(scaled(64))
        state.setFont(font(12, SEMIBOLD))
        state.setStyleSheet(f"color: {colour(role).name()};")
        text = doubt.text if acceptance is None else f"{doubt.text} Accepted: {acceptance.reason}"
        label = PlainLabel(text)
        label.setWordWrap(True)
        label.setAlignment(Qt.AlignmentFlag.AlignTop)
        label.setToolTip(_measure(doubt))
        row.addWidget(state, 0, Qt.AlignmentFlag.AlignTop)
        row.addWidget(label, 1)
        if acceptance is None:
            for button in self._buttons(doubt):
                row.addWidget(button, 0, Qt.AlignmentFlag.AlignTop)
        return entry

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if self.list.isVisible():
            self.list.setFixedHeight(min(self._needed_height(), 260))

    def paintEvent(self, event: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), colour(self._role))
        p.fillRect(0, 0, self.width(), 1, colour("rule"))


def _measure(doubt: Doubt) -> str:
    """What was measured, the limit, and who set it."""
    if doubt.value is None:
        return doubt.limit_source
    limit = "" if doubt.limit is None else f", limit {doubt.limit:.6g}"
    return f"{doubt.value:.6g} {doubt.unit}{limit} ({doubt.limit_source})"
