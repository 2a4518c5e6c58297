"""Handover: the list of positions and the report with the evidence, previewed, then written."""

from __future__ import annotations

import os
import re
from functools import partial

from PySide6.QtCore import QByteArray, QUrl
from PySide6.QtGui import QImage, QPainter, QTextDocument
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMenu,
    QPlainTextEdit,
    QPushButton,
    QStackedWidget,
    QTextBrowser,
    QWidget,
)

from fenwind.desk.bridge import JobBridge
from fenwind.desk.shell import look
from fenwind.desk.stages.sheet import Sheet
from fenwind.desk.statement import choice
from fenwind.desk.theme import font
from fenwind.errors import FenwindError
from fenwind.exchange.files import write_text
from fenwind.exchange.position_list import adopted_csv
from fenwind.job import gestures
from fenwind.reports.fit_report import fit_report
from fenwind.reports.html import to_html
from fenwind.reports.model import Report
from fenwind.reports.statement import Part

WORDS = {"list": "a list (CSV)", "report": "a report (HTML)"}


class HandoverSheet(Sheet):
    """What goes out, previewed as it will be written."""

    def __init__(self, bridge: JobBridge, parts_of_fit: object = None) -> None:
        super().__init__(bridge)
        self.kind = "list"
        self._parts_of_fit = parts_of_fit
        self.statement.set_menus({"kind": self._menu_kind, "frame": self._menu_frame})
        self.note = QLabel("")
        self.note.setWordWrap(True)
        look(self.note, "faint")
        self.column.addWidget(self.note)
        self.preview = QStackedWidget()
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setFont(font(12))
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.text.setStyleSheet("QPlainTextEdit { background: #FFFFFF; border: 1px solid #D9D4C7; }")
        self.page = QTextBrowser()
        self.page.document().setDocumentMargin(18)
        self.preview.addWidget(self.text)
        self.preview.addWidget(self.page)
        self.column.addWidget(self.preview, 1)
        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(8)
        self.path = QLineEdit()
        self.path.setAccessibleName("File to write")
        self.browse = QPushButton("choose …")
        look(self.browse, "link")
        self.browse.clicked.connect(self._browse)
        self.write = QPushButton("Write the list")
        look(self.write, "main")
        self.write.clicked.connect(self.write_file)
        row.addWidget(QLabel("to"))
        row.addWidget(self.path, 1)
        row.addWidget(self.browse)
        row.addWidget(self.write)
        self.column.addWidget(line)
        self._line = line
        self._content = ""

    def show_job(self) -> None:
        bridge = self.bridge
        adopted = bridge.derived.adopted.get(bridge.frame_id)
        count = len(adopted.names) if adopted is not None else 0
        frame = bridge.frame
        self.caption.setText("HANDOVER")
        parts = [Part(text="Hand over "), Part(text=f"{count} marks")]
        if frame is not None:
            parts += [Part(text=" in "), Part(text=frame.spec.name, key="frame")]
        parts += [Part(text=" as "), Part(text=WORDS[self.kind], key="kind"), Part(text=".")]
        self.statement.show_parts(parts)
        left = len(bridge.findings.open)
        grave = sum(d.grave for d in bridge.findings.open)
        words = (
            f"{left} doubt{'' if left == 1 else 's'} left open{f', {grave} grave' if grave else ''}; the report lists them."
            if left
            else "No doubts open."
        )
        self.note.setText(words if count else "There are no positions to hand over yet: paste control in Marks, or make a fit.")
        self.write.setText("Write the list" if self.kind == "list" else "Write the report")
        self.write.setEnabled(count > 0)
        self._show_preview()

    def _show_preview(self) -> None:
        self._set_default_path()
        if self.kind == "list":
            self._content = self._list()
            self.text.setPlainText(self._content)
            self.preview.setCurrentWidget(self.text)
            return
        report = self.report()
        self._content = to_html(report) if report is not None else ""
        self._show_page(self._content)
        self.preview.setCurrentWidget(self.page)

    def _list(self) -> str:
        adopted = self.bridge.derived.adopted.get(self.bridge.frame_id)
        frame = self.bridge.frame
        if adopted is None or frame is None:
            return ""
        return adopted_csv(adopted, frame.spec)

    def report(self) -> Report | None:
        """The report of the fit looked at, None when there is no result."""
        step = self.bridge.fit
        outcome = self.bridge.derived.fits.get(step.id) if step is not None else None
        if step is None or outcome is None or outcome.case is None:
            return None
        accepted = [(d, a.reason) for d, a in self.bridge.findings.accepted if d.subject == step.id]
        doubts = [d for d in self.bridge.findings.open if d.subject == step.id]
        return fit_report(
            outcome.case,
            doubts,
            title=self.bridge.state.info.name,
            subtitle=f"{step.name}, {os.path.basename(self.bridge.job.path)}",
            unit=self.bridge.unit,
            statement=self._parts_of_fit() if callable(self._parts_of_fit) else None,
            accepted=accepted,
            angle_style=self.bridge.angle_style,
        )

    def _show_page(self, html: str) -> None:
        """QTextBrowser knows no inline SVG: the figures are drawn and handed to it as pictures."""
        figures = re.findall(r"<svg.*?</svg>", html, flags=re.DOTALL)
        for i, svg in enumerate(figures):
            renderer = QSvgRenderer(QByteArray(svg.encode()))
            image = QImage(620, 396, QImage.Format.Format_ARGB32)
            image.fill(0)
            painter = QPainter(image)
            renderer.render(painter)
            painter.end()
            self.page.document().addResource(QTextDocument.ResourceType.ImageResource, QUrl(f"figure{i}"), image)
            html = html.replace(svg, f'<img src="figure{i}" width="620">', 1)
        # QTextBrowser makes headings larger than it is told.
        html = html.replace("<h2>", '<p style="font-size: 11px; color: #6C7378; margin-top: 18px;">').replace("</h2>", "</p>")
        html = html.replace("<h1>", '<p style="font-size: 20px; font-weight: 600;">').replace("</h1>", "</p>")
        empty = "<p>There is no fit with a result to report on.</p>"
        self.page.setHtml(html or empty)

    def _set_default_path(self) -> None:
        stem = re.sub(r"[^\w -]+", "", self.bridge.state.info.name).strip() or "positions"
        name = f"{stem} positions.csv" if self.kind == "list" else f"{stem} report.html"
        self.path.setText(os.path.join(self.bridge.folder, name))

    def _browse(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Write to", self.path.text())
        if path:
            self.path.setText(path)

    def write_file(self) -> None:
        """Write what the preview shows."""
        self._content = self._list() if self.kind == "list" else to_html(report) if (report := self.report()) is not None else ""
        if not self._content:
            self.bridge.told.emit("There is nothing to write yet.", "doubt")
            return
        path = os.path.expanduser(self.path.text().strip())
        try:
            write_text(path, self._content)
        except FenwindError as error:
            self.bridge.tell_error(error)
            return
        left = len(self.bridge.findings.open)
        self.bridge.told.emit(f"Written: {path}" + (f", with {left} doubts left open" if left else ""), "")

    def _menu_kind(self, menu: QMenu) -> None:
        for key, words in WORDS.items():
            choice(menu, words, partial(self.set_kind, key), checked=key == self.kind)

    def set_kind(self, kind: str) -> None:
        """Choose the list or the report."""
        self.kind = kind
        self.show_job()

    def _menu_frame(self, menu: QMenu) -> None:
        info = self.bridge.state.info
        for key, record in self.bridge.state.frames.items():
            act = partial(gestures.set_field, [info], "frame", key, f"Show {record.spec.name}")
            choice(menu, record.spec.name, partial(self.bridge.attempt, act), checked=key == self.bridge.frame_id)
