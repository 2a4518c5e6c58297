"""What does not agree, each with what explains it, under the Ground stage's statement: drawings against the
grid, and two figures for one line."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QEvent, QObject, QSize, Qt
from PySide6.QtWidgets import QFrame, QGridLayout, QPushButton, QScrollArea, QSizePolicy, QWidget

from fenwind.desk.askline import AskLine
from fenwind.desk.bridge import JobBridge
from fenwind.desk.shell import WholeLabel, look
from fenwind.errors import FenwindError
from fenwind.geodesy.frames import Frame
from fenwind.job.adopted import Adopted
from fenwind.job.figures import drawings_held, drop_figures, explain_figures, keep_figures, two_figures
from fenwind.job.ground_view import Marks
from fenwind.records.records import TwoFigures
from fenwind.reports.ratio_words import drawing_words, ratio_words


class Quarrels(QScrollArea):
    """A drawing or two figures a row, rolled where the desk is low; hidden where there are none."""

    def __init__(self, bridge: JobBridge, ask: AskLine) -> None:
        super().__init__()
        self.bridge, self.ask = bridge, ask
        self.frame: Frame | None = None
        self.marks: Marks | None = None
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        self.setMinimumHeight(56)
        self.inside = QWidget()
        self.rows = QGridLayout(self.inside)
        self.setWidget(self.inside)
        self.setWidgetResizable(True)
        self.rows.setContentsMargins(0, 0, 0, 0)
        self.rows.setHorizontalSpacing(10)
        self.rows.setVerticalSpacing(8)
        self.rows.setColumnStretch(0, 1)
        self.labels: list[WholeLabel] = []

    def sizeHint(self) -> QSize:
        return QSize(200, max(self.inside.minimumSizeHint().height(), self.minimumHeight()))

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.inside and event.type() == QEvent.Type.LayoutRequest:
            self.updateGeometry()
        return super().eventFilter(watched, event)

    def show_for(self, shown: str, frame: Frame, marks: Marks, adopted: Adopted) -> None:
        """Explain all drawings and figures by a frame (its id, and itself) and its marks."""
        self.frame, self.marks = frame, marks
        while (item := self.rows.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        pairs = [pair for pair in self.bridge.state.of(TwoFigures).values() if pair.active]
        self.labels = []
        for words in self._drawings(shown, adopted):
            self._add(words)
        for pair in pairs:
            off = QPushButton("take off")
            look(off, "link")
            off.clicked.connect(partial(self._drop, pair))
            self.rows.addWidget(off, self._add(self._words(pair)), 1, Qt.AlignmentFlag.AlignTop)
        for row in range(self.rows.rowCount()):
            self.rows.setRowStretch(row, int(row == len(self.labels)))  # what is over goes under the last
        self.setVisible(bool(self.labels))

    def _add(self, words: str) -> int:
        label, row = WholeLabel(words), len(self.labels)
        label.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.rows.addWidget(label, row, 0)
        self.labels.append(label)
        return row

    def _drawings(self, shown: str, adopted: Adopted) -> list[str]:
        """Frames that marks are given in against the frame shown."""
        assert self.frame is not None and self.marks is not None
        held = drawings_held(self.bridge.state, shown, self.frame, self.marks, adopted)
        names = {key: record.spec.name for key, record in self.bridge.state.frames.items()}
        grid, unit = self.frame.spec.name, self.bridge.unit
        return [
            f"{names[key]}: {one.sentences}" if isinstance(one, FenwindError)
            else drawing_words(names[key], grid, one, unit)
            for key, one in held
        ]  # fmt: skip

    def _words(self, pair: TwoFigures) -> str:
        assert self.frame is not None and self.marks is not None
        name = self.bridge.state.mark_name(pair.mark)
        line = pair.line or "one line"
        head = f"{line[:1].upper()}{line[1:]}, at {name}: {pair.first} and {pair.second}"
        try:
            found = explain_figures(pair, self.frame, self.marks)
        except FenwindError as error:
            return f"{head}. {error.sentences}"
        return f"{head}: {ratio_words(found)}"

    def ask_figures(self) -> None:
        """Ask for two figures at the selected mark, else at the first that has a height."""
        if self.marks is None or not self.marks.ids:
            self.bridge.told.emit("Show a frame with a datum and a mark first.", "")
            return
        chosen = self.bridge.mark()
        key = chosen.id if chosen is not None and chosen.id in self.marks.ids else self.marks.ids[0]
        name = self.bridge.state.marks[key].name

        def answer(text: str) -> bool:
            try:
                pair = two_figures(text, key)
                if self.frame is not None and self.marks is not None:
                    explain_figures(pair, self.frame, self.marks)
            except FenwindError as error:
                self.bridge.tell_error(error)
                return False
            return self.bridge.do(keep_figures(pair))

        question = (
            f"Two figures for one line at {name}, as they are written, and its height difference if known:"
        )
        self.ask.ask(question, answer, placeholder="1640.00 1639.33 tape and drawing", button="Explain")

    def _drop(self, pair: TwoFigures) -> None:
        self.bridge.do(drop_figures(pair))
