"""Figures for one line that do not agree, each with what explains it, under the Ground stage's statement."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QPushButton, QWidget

from fenwind.desk.askline import AskLine
from fenwind.desk.bridge import JobBridge
from fenwind.desk.shell import WholeLabel, look
from fenwind.errors import FenwindError
from fenwind.geodesy.frames import Frame
from fenwind.job.figures import drop_figures, explain_figures, keep_figures, two_figures
from fenwind.job.ground_view import Marks
from fenwind.quantities.numbers import format_fixed
from fenwind.records.records import TwoFigures


class Quarrels(QWidget):
    """Two figures a row; hidden where there are none."""

    def __init__(self, bridge: JobBridge, ask: AskLine) -> None:
        super().__init__()
        self.bridge, self.ask = bridge, ask
        self.frame: Frame | None = None
        self.marks: Marks | None = None
        self.rows = QGridLayout(self)
        self.rows.setContentsMargins(0, 0, 0, 0)
        self.rows.setHorizontalSpacing(10)
        self.rows.setVerticalSpacing(4)
        self.rows.setColumnStretch(0, 1)
        self.labels: list[WholeLabel] = []

    def show_for(self, frame: Frame, marks: Marks) -> None:
        """Explain all figures by a frame and its marks."""
        self.frame, self.marks = frame, marks
        while (item := self.rows.takeAt(0)) is not None:
            if (widget := item.widget()) is not None:
                widget.deleteLater()
        pairs = [pair for pair in self.bridge.state.of(TwoFigures).values() if pair.active]
        self.labels = []
        for row, pair in enumerate(pairs):
            label, off = WholeLabel(self._words(pair)), QPushButton("take off")
            label.setAlignment(Qt.AlignmentFlag.AlignTop)
            look(off, "link")
            off.clicked.connect(partial(self._drop, pair))
            self.rows.addWidget(label, row, 0)
            self.rows.addWidget(off, row, 1, Qt.AlignmentFlag.AlignTop)
            self.labels.append(label)
        self.setVisible(bool(pairs))

    def _words(self, pair: TwoFigures) -> str:
        assert self.frame is not None and self.marks is not None
        name = self.bridge.state.mark_name(pair.mark)
        line = pair.line or "one line"
        head = f"{line[:1].upper()}{line[1:]}, at {name}: {pair.first} and {pair.second}"
        try:
            found = explain_figures(pair, self.frame, self.marks)
        except FenwindError as error:
            return f"{head}. {error.sentences}"
        off = f"{format_fixed((found.ratio - 1.0) * 1e6, 1, sign=True)} ppm, known to "
        head = f"{head}: {off}{format_fixed(found.rounding_ppm, 1)} ppm."
        if found.agree:
            return f"{head} They agree within their rounding."
        if not found.causes:
            return f"{head} No cause that is known here explains it."
        causes = [f"{c.text} (leaves {format_fixed(c.left_ppm, 1, sign=True)} ppm)" for c in found.causes]
        return f"{head} {causes[0][:1].upper()}{'; or '.join(causes)[1:]}."

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
