"""Handover: the list of positions and the report with the evidence, previewed, then written."""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime
from functools import partial
from pathlib import Path

from PySide6.QtCore import QByteArray, QSettings, QUrl
from PySide6.QtGui import QImage, QPainter, QTextDocument
from PySide6.QtSvg import QSvgRenderer
from PySide6.QtWidgets import (
    QFileDialog,
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QPlainTextEdit,
    QPushButton,
    QStackedWidget,
    QTextBrowser,
    QWidget,
)

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.letterhead import letterhead
from fenwind.desk.plan_scene import Scene
from fenwind.desk.scene import add_coverage
from fenwind.desk.shell import PlainLabel, look, show_look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.sheet import Sheet
from fenwind.desk.statement import choice
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.desk.theme import font
from fenwind.errors import FenwindError
from fenwind.exchange.columns import BUILT_IN, COLUMNS, DEFAULT, list_text
from fenwind.exchange.outgoing import Outgoing, outgoing
from fenwind.geodesy.frames import FrameSpec
from fenwind.job import gestures
from fenwind.job.adopted import Adopted
from fenwind.job.job import new_id
from fenwind.job.reader import with_grid_folder
from fenwind.job.state import JobState
from fenwind.job.steps.fit import fit_node
from fenwind.job.steps.outcome import Node
from fenwind.paths import free_name
from fenwind.procedures.coverage import Coverage
from fenwind.progress import Progress
from fenwind.quantities.numbers import counted
from fenwind.records.entries import Add, Gesture
from fenwind.records.records import Layout
from fenwind.reports.handover import (
    FORMATS,
    checks_of,
    judge_targets,
    target_names,
    targets_text,
    write_positions,
    write_report,
)
from fenwind.reports.html import to_html
from fenwind.reports.kinds import report_of, reportable
from fenwind.reports.model import Report
from fenwind.reports.statement import Part

#: Stands for what is called a target, where no class is chosen.
TARGETS = "*"


class HandoverSheet(Sheet):
    """What goes out, previewed as it will be written."""

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self.kind = "csv"
        self.mark_class = ""
        self.layout_id = DEFAULT.id
        self.coverage: Coverage | None = None
        self._runner = TaskRunner(self, "files")
        self._written: set[str] = set()
        self.step: Node | None = None
        self._agreed = ""  # the file that may be replaced when it is asked for once more
        self.statement.set_menus(
            {
                "kind": self._menu_kind,
                "frame": self._menu_frame,
                "class": self._menu_class,
                "layout": self._menu_layout,
                "step": self._menu_step,
            }
        )
        self.note = PlainLabel("")
        self.note.setWordWrap(True)
        look(self.note, "faint")
        self.column.addWidget(self.note)
        self.preview = QStackedWidget()
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setFont(font(12))
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
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
        row.addWidget(PlainLabel("to"))
        row.addWidget(self.path, 1)
        row.addWidget(self.browse)
        row.addWidget(self.write)
        self.column.addWidget(line)
        self._line = line

    def show_job(self) -> None:
        out = self._outgoing()
        count = len(out.names) if out is not None else 0
        self.caption.setText("HANDOVER")
        self.statement.show_parts(self._sentence(count))
        self._judge(out)
        self.note.setText(self._note_words() if count else self.stage.empty)
        lacking = self.coverage is not None and not self.coverage.fine
        show_look(self.note, "sun" if lacking else "faint")
        self.write.setText("Write the report" if FORMATS[self.kind].report is not None else "Write the file")
        self.write.setEnabled(count > 0)
        self._show_preview(out)

    def _sentence(self, count: int) -> list[Part]:
        wanted, frame = FORMATS[self.kind], self.bridge.frame
        if wanted.report is not None:
            about = self._about()
            name = reportable(self.bridge.seen, self.bridge.derived).get(about, "") if about else ""
            return [
                Part(text="Hand over "), Part(text=wanted.words, key="kind"), Part(text=" of "),
                Part(text=name or "nothing yet", key="step"), Part(text="."),
            ]  # fmt: skip
        which = f"{self.mark_class}, {count}" if self.mark_class else f"every mark, {count}"
        if self.kind == "targets" and not self.mark_class:
            which = counted(count, "target")
        parts = [Part(text="Hand over "), Part(text=which, key="class")]
        if frame is not None:
            parts += [Part(text=" in "), Part(text=frame.spec.name, key="frame")]
        parts += [Part(text=" as "), Part(text=wanted.words, key="kind")]
        if wanted.positions is not None and wanted.positions.layout:
            parts += [Part(text=", columns "), Part(text=self._layout().name, key="layout")]
        return [*parts, Part(text=".")]

    def _note_words(self) -> str:
        """What the targets lack, else the doubts left open."""
        if self.coverage is not None:
            lacking = [j.text for j in self.coverage.judgements if not j.fine]
            if lacking:
                return "Lacking: " + " ".join(lacking)
            return "The targets cover the ground: count, spread, relief and a check are fine."
        left = self.bridge.findings.open
        grave = sum(d.grave for d in left)
        if not left:
            return "No doubts open."
        many = f"{counted(len(left), 'doubt')} left open"
        return f"{many}{f', {grave} grave' if grave else ''}; the report lists them."

    def _judge(self, out: Outgoing | None) -> None:
        before, self.coverage = self.coverage, None
        everything = self._everything()
        if self.kind == "targets" and out is not None and out.names and everything is not None:
            self.coverage = judge_targets(everything, out.names, checks_of(self.bridge.seen))
        if before is not None or self.coverage is not None:
            self.plan_changed.emit()

    def _layout(self) -> Layout:
        known = {x.id: x for x in (*self.bridge.state.layouts.values(), *BUILT_IN)}
        return known.get(self.layout_id, DEFAULT)

    def _everything(self) -> Outgoing | None:
        record = self.bridge.seen.frames.get(self.bridge.frame_id)
        if record is None or self.bridge.frame_id not in self.bridge.derived.adopted:
            return None
        spec = with_grid_folder(record.spec, self.bridge.folder)
        return outgoing(self.bridge.seen, self.bridge.derived.adopted, self.bridge.frame_id, spec)

    def _outgoing(self) -> Outgoing | None:
        out = self._everything()
        if out is None:
            return None
        if self.kind == "targets" or self.mark_class:
            return out.only(target_names(out, self.mark_class))
        return out

    def _show_preview(self, out: Outgoing | None) -> None:
        self._set_default_path()
        if FORMATS[self.kind].report is not None:
            report = self.report()
            self._show_page(to_html(report) if report is not None else "")
            self.preview.setCurrentWidget(self.page)
            return
        try:
            text = (
                ""
                if out is None
                else targets_text(out, checks_of(self.bridge.seen))
                if self.kind == "targets"
                else self._list_text(out)
            )
        except FenwindError as error:
            text = error.one_line
        self.text.setPlainText(text)
        self.preview.setCurrentWidget(self.text)

    def _list_text(self, out: Outgoing) -> str:
        if (chosen := FORMATS[self.kind].positions) is not None and chosen.geographic:
            return f"# {out.system_words} {out.wgs84_words}\n" + list_text(
                out, Layout(id="", name="", columns=("name", "lat", "lon", "h_ell", "class", "code"))
            )
        return list_text(out, self._layout() if chosen is not None and chosen.layout else DEFAULT)

    def report(self) -> Report | None:
        """The report of the step chosen, else of the fit looked at, else of the first there is one of."""
        node, bridge = self._about(), self.bridge
        if node is None:
            return None
        made = report_of(bridge.seen, bridge.derived, bridge.findings, node, f"{datetime.now():%Y-%m-%d}")
        return replace(made, letterhead=letterhead(self._settings())) if made is not None else None

    def _settings(self) -> QSettings | None:
        return getattr(self.window(), "settings", None)

    def _about(self) -> Node | None:
        every = reportable(self.bridge.seen, self.bridge.derived)
        if self.step in every:
            return self.step
        fit = self.bridge.fit
        looked_at = fit_node(fit.id) if fit is not None else None
        return looked_at if looked_at in every else next(iter(every), None)

    def _menu_step(self, menu: QMenu) -> None:
        now = self._about()
        for node, name in reportable(self.bridge.seen, self.bridge.derived).items():
            choice(menu, name, partial(self.report_on, node), checked=node == now)

    def report_on(self, node: Node) -> None:
        """Report on a step."""
        self.step = node
        self.show_job()

    def overlay(self, scene: Scene) -> None:
        """The area that targets are to hold, and where one is lacking."""
        if self.coverage is not None:
            add_coverage(scene, self.coverage)

    def focus(self) -> QWidget:
        return self.write

    def commands(self) -> Sequence[ActionSpec]:
        return tuple(
            ActionSpec(
                id=f"handover.{wanted.key}",
                menu=self.stage.name,
                text=f"Hand over {wanted.words}",
                tip="Preview it, then write it",
                run=partial(self._hand_over, wanted.key),
            )
            for wanted in FORMATS.values()
        )

    def _hand_over(self, kind: str) -> None:
        self.bridge.show_stage(self.stage.name)
        self.set_kind(kind)

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
            self.page.document().addResource(
                QTextDocument.ResourceType.ImageResource, QUrl(f"figure{i}"), image
            )
            html = html.replace(svg, f'<img src="figure{i}" width="620">', 1)
        # QTextBrowser makes headings larger than it is told.
        html = html.replace("<h2>", '<p style="font-size: 11px; color: #6C7378; margin-top: 18px;">').replace(
            "</h2>", "</p>"
        )
        html = html.replace("<h1>", '<p style="font-size: 20px; font-weight: 600;">').replace("</h1>", "</p>")
        empty = "<p>There is no result to report on.</p>"
        self.page.setHtml(html or empty)

    def _set_default_path(self) -> None:
        stem = re.sub(r"[^\w -]+", "", self.bridge.state.info.name).strip() or "positions"
        wanted = FORMATS[self.kind]
        what = "report" if wanted.report is not None else "targets" if self.kind == "targets" else "positions"
        self.path.setText(os.path.join(self.bridge.folder, f"{stem} {what}{wanted.ending}"))

    def _browse(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Write to", self.path.text())
        if path:
            self.path.setText(path)

    def write_file(self) -> None:
        """Write what the preview shows."""
        path = os.path.expanduser(self.path.text().strip())
        record = self.bridge.frame
        if not self._may_write(path):
            return
        if FORMATS[self.kind].report is not None:
            report = self.report()
            if report is None:
                self.bridge.told.emit(
                    "There is no result to report on. Make a fit, a network or a setup first.", "doubt"
                )
                return
            task = Task(_write_report, path, self.kind, report)
        elif record is None:
            self.bridge.told.emit("The job has no frame yet. Take in control first.", "doubt")
            return
        else:
            # The worker gathers the positions itself: PROJ's objects stay in the thread that made them.
            spec = with_grid_folder(record.spec, self.bridge.folder)
            state, adopted = self.bridge.seen.snapshot(), self.bridge.derived.adopted
            only = self.mark_class if self.kind != "targets" else self.mark_class or TARGETS
            task = Task(
                _write_positions,
                path,
                self.kind,
                (state, adopted, self.bridge.frame_id, spec),
                only,
                self._layout(),
            )
        self.write.setEnabled(False)
        task.signals.succeeded.connect(lambda _none: self._on_written(path))
        task.signals.failed.connect(self._on_failed)
        task.signals.finished.connect(lambda: self.write.setEnabled(True))
        self._runner.start(task)

    def _may_write(self, path: str) -> bool:
        """Whether nothing of others stands there: a file that this window did not write is kept beside the
        new one, and only once that was agreed to."""
        if not os.path.isfile(path) or path in self._written:
            return True
        name = os.path.basename(path)
        if self._agreed != path:
            self._agreed = path
            self.bridge.told.emit(
                f"{name} is there already and was not written here. Write again to replace it; "
                "the old one is kept beside it.",
                "doubt",
            )
            return False
        self._agreed = ""
        kept = free_name(Path(path), "before")
        try:
            shutil.copy2(path, kept)
        except OSError as error:
            text = f"{name} cannot be kept as {kept.name}: {error.strerror}. Nothing was written."
            self.bridge.told.emit(text, "doubt")
            return False
        return True

    def _on_written(self, path: str) -> None:
        self._written.add(path)
        left = len(self.bridge.findings.open)
        self.bridge.told.emit(f"Written: {path}" + (f", with {left} doubts left open" if left else ""), "")

    def _on_failed(self, error: Exception) -> None:
        self.bridge.told.emit(
            error.one_line if isinstance(error, FenwindError) else f"The file cannot be written: {error}.",
            "doubt",
        )

    def shut_down(self) -> None:
        """Wait for what is being written."""
        self._runner.shut_down()

    def _menu_kind(self, menu: QMenu) -> None:
        for key, wanted in FORMATS.items():
            choice(menu, wanted.words, partial(self.set_kind, key), checked=key == self.kind)

    def set_kind(self, kind: str) -> None:
        """Choose a format by its key."""
        self.kind = kind
        self.show_job()

    def _menu_class(self, menu: QMenu) -> None:
        marks = self.bridge.state.marks.values()
        choice(
            menu,
            "every mark" if self.kind != "targets" else "what is called a target",
            partial(self._set_class, ""),
            checked=not self.mark_class,
        )
        for name in sorted({w for m in marks for w in (m.mark_class, m.code) if w}):
            choice(menu, name, partial(self._set_class, name), checked=name == self.mark_class)

    def _set_class(self, name: str) -> None:
        self.mark_class = name
        self.show_job()

    def _menu_layout(self, menu: QMenu) -> None:
        for layout in (*BUILT_IN, *(x for x in self.bridge.state.layouts.values() if x.active)):
            choice(
                menu, layout.name, partial(self._set_layout, layout.id), checked=layout.id == self.layout_id
            )
        menu.addSeparator()
        choice(menu, "other columns …", self._ask_columns)

    def _set_layout(self, key: str) -> None:
        self.layout_id = key
        self.show_job()

    def _ask_columns(self) -> None:
        """Columns in their order, then the name under which the job keeps them."""

        def columns(text: str) -> bool:
            keys = tuple(k.strip() for k in text.split(",") if k.strip())
            unknown = [k for k in keys if k not in COLUMNS]
            if unknown or not keys:
                self.bridge.told.emit(
                    f"{', '.join(unknown) or 'Nothing'} is no column. Choose among {', '.join(COLUMNS)}.",
                    "doubt",
                )
                return False
            self.ask.ask(
                "Keep them as", partial(name, keys), placeholder="a name for this layout", button="Keep it"
            )
            return False

        def name(keys: tuple[str, ...], text: str) -> bool:
            layout = Layout(
                id=new_id(),
                name=text.strip() or "columns",
                columns=keys,
                decimals=self.bridge.state.info.decimals,
            )
            if not self.bridge.do(Gesture(f"Keep the layout {layout.name}", (Add(record=layout),))):
                return False
            self._set_layout(layout.id)
            return True

        self.ask.ask(
            "Columns",
            columns,
            text=", ".join(self._layout().columns),
            placeholder=", ".join(COLUMNS),
            button="Go on",
        )

    def _menu_frame(self, menu: QMenu) -> None:
        info = self.bridge.state.info
        for key, record in self.bridge.state.frames.items():
            act = partial(gestures.set_field, [info], "frame", key, f"Show {record.spec.name}")
            choice(
                menu, record.spec.name, partial(self.bridge.attempt, act), checked=key == self.bridge.frame_id
            )


def _write_report(path: str, kind: str, report: Report, progress: Progress) -> None:
    write_report(path, kind, report)


def _write_positions(
    path: str,
    kind: str,
    parts: tuple[JobState, dict[str, Adopted], str, FrameSpec],
    only: str,
    layout: Layout,
    progress: Progress,
) -> None:
    out = outgoing(*parts)
    if only:
        out = out.only(target_names(out, "" if only == TARGETS else only))
    write_positions(path, kind, out, layout, checks_of(parts[0]), datetime.now())
