"""A list coming in: what each row would do is seen before anything is changed; columns are matched by hand in
place."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QMenu, QProgressBar, QPushButton, QWidget

from fenwind.desk.bridge import JobBridge
from fenwind.desk.job_owner import failure
from fenwind.desk.plan_extras import Coming
from fenwind.desk.shell import PlainLabel, look, show_look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.incoming_rows import GROUPS, IncomingList, columns
from fenwind.desk.stages.incoming_taking import BY_CODE, Taking, Where, interpreted, open_task, take_task
from fenwind.desk.stages.incoming_where import ListPlace
from fenwind.desk.stages.list_heads import ListHeads
from fenwind.desk.stages.sheet import Sheet
from fenwind.desk.statement import choice
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.desk.trial import Trial
from fenwind.errors import FenwindError
from fenwind.exchange.delimited import read_text
from fenwind.exchange.formats import format_of, read_table
from fenwind.exchange.point_list import ColumnMatch, PointList, interpret, match_header
from fenwind.exchange.raw_table import RawTable
from fenwind.job import gestures
from fenwind.job.checksums import EntryRow
from fenwind.job.incoming import IncomingPoints, take_in
from fenwind.quantities.lengths import METRE, UNITS
from fenwind.quantities.numbers import counted
from fenwind.records.entries import Entry, Gesture
from fenwind.reports.incoming_trail import incoming_links
from fenwind.reports.statement import Part
from fenwind.reports.trail import Link

#: Rows from which reading goes to a worker with progress, and bytes from which opening the file does.
LONG_LIST, LONG_FILE = 3000, 300_000


class IncomingSheet(Sheet):
    """Statement, chips, the list with its verdicts, take or leave."""

    opened = Signal()
    shown = Signal()
    looked_at = Signal(int)  # point of the list
    tried = Signal()  # what taking a point would bring is there
    closed = Signal()

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self._raw: RawTable | None = None
        self._path = ""
        self._list: IncomingList | None = None
        self._points: PointList | None = None
        self._incoming: IncomingPoints | None = None
        self._measured = self._was_geographic = False
        self.where = ListPlace(bridge, self.ask, self._read)
        self._shown = "all"
        self._error = ""
        self._runner = TaskRunner(self, "files")
        self._trial = Trial(bridge, self.tried.emit)
        self._task: Task | None = None
        self.statement.set_menus(
            {
                "kind": self._menu_kind,
                "frame": lambda menu: self.where.menu_frame(menu, self._measured),
                "system": self.where.menu_system,
                "unit": self.where.menu_unit,
                "part": self._menu_part,
                "axes": self._menu_axes,
            }
        )
        self._make_chips()
        self.heads = ListHeads(lead=2)
        self.heads.changed.connect(self._on_meaning)
        self.table = self.heads.table
        self.table.setAccessibleName("The list that is coming in")
        self.table.row_picked.connect(self._on_row)
        self.column.addWidget(self.heads, 1)
        self._make_foot()

    def _make_chips(self) -> None:
        self.chips: dict[str, QPushButton] = {}
        chips = QWidget()
        row = QHBoxLayout(chips)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(7)
        lead = PlainLabel("show")
        look(lead, "faint")
        row.addWidget(lead)
        for name in ("all", *GROUPS):
            chip = QPushButton(name)
            chip.setCheckable(True)
            look(chip, "chip")
            chip.clicked.connect(partial(self._show, name))
            row.addWidget(chip)
            self.chips[name] = chip
        row.addStretch(1)
        self.column.addWidget(chips)

    def _make_foot(self) -> None:
        foot = QWidget()
        line = QHBoxLayout(foot)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(10)
        self.take = QPushButton("Take")
        self.leave = QPushButton("Leave it")
        look(self.take, "main")
        look(self.leave, "second")
        self.take.clicked.connect(self.take_rows)
        self.leave.clicked.connect(self.close_list)
        self.hint = PlainLabel("click a column's head to say what it means  ·  undo brings everything back")
        self.hint.setWordWrap(True)
        look(self.hint, "faint")
        self.progress = QProgressBar()
        self.progress.setFixedWidth(140)
        self.progress.setTextVisible(False)
        self.progress.hide()
        self.stop = QPushButton("stop")
        look(self.stop, "link")
        self.stop.clicked.connect(self._cancel)
        self.stop.hide()
        for widget in (self.take, self.leave, self.progress, self.stop):
            line.addWidget(widget)
        line.addWidget(self.hint, 1)
        self.column.addWidget(foot)

    @property
    def _match(self) -> ColumnMatch:
        return self.heads.match

    @_match.setter
    def _match(self, match: ColumnMatch) -> None:
        self.heads.match = match

    # Loading
    # -----------------------------------------------------------------------------------------------------

    def load_text(self, text: str, source: str) -> bool:
        """Show a text; False, with the reason said, when there is no list in it."""
        self._path = ""
        return self._attempt(lambda: read_text(text, source))

    def load_file(self, path: str, part: str = "") -> bool:
        """Show a file of any format known; False, with the reason said, when there is no list in it. Long
        files, and those whose reader takes long to load, are opened in a worker."""
        self._path = path
        try:
            quick = format_of(path).key == "csv" and os.path.getsize(path) <= LONG_FILE
        except (FenwindError, OSError):
            quick = True  # the reader says what is wrong
        if quick:
            return self._attempt(lambda: read_table(path, part))
        self.caption.setText("COMING IN, NOTHING CHANGED YET")
        self.statement.show_parts([Part(text=f"Opening {os.path.basename(path)} …")])
        self._raw = self._list = self._points = self._incoming = None
        self.table.records.set_rows([])
        self._work(open_task, self._on_opened, path, part)
        return True

    def _on_opened(self, raw: RawTable) -> None:
        self._load(raw)
        self.opened.emit()

    def _attempt(self, read: Callable[[], RawTable]) -> bool:
        try:
            raw = read()
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        return self._load(raw)

    def _load(self, raw: RawTable) -> bool:
        self._raw, self._match, self._shown = raw, match_header(raw, self.bridge.axes), "all"
        self._was_geographic = self._geographic()
        geographic = self._geographic()
        self._measured = geographic
        self.where.choose(raw, self._first_rows(raw), geographic)
        self._order_axes(raw)
        self._read()
        if raw.remarks:
            self.bridge.told.emit(" ".join(raw.remarks), "")
        return True

    def _first_rows(self, raw: RawTable) -> PointList | None:
        """The beginning of a list, for what is chosen by its numbers."""
        unit = METRE if self._geographic() else UNITS[raw.unit] if raw.unit else self.bridge.unit
        some = replace(raw, rows=raw.rows[:LONG_LIST], lines=raw.lines[:LONG_LIST])
        try:
            return interpret(some, self._match, unit, heights_alone=True)
        except FenwindError:
            return None

    def _order_axes(self, raw: RawTable) -> None:
        """Columns headed X and Y mean easting and northing in some countries, the reverse in others: the job
        decides."""
        heads = {
            h.strip().lower()[:1]
            for m, i in self._match.columns.items()
            if m in ("e", "n")
            for h in raw.headers[i : i + 1]
        }
        known = heads == {"x", "y"} and not self._match.opposite
        if not known or self.where.frame not in self.bridge.state.frames:
            return
        some = replace(raw, rows=raw.rows[:LONG_LIST], lines=raw.lines[:LONG_LIST])
        found = interpreted(
            some, self._match, self.where.unit, self.bridge.state, self.where.frame, False, Where()
        )
        if isinstance(found, tuple):
            against = found[2]
            near = sum(
                v == "same" or abs(e) + abs(n) < 1.0
                for v, e, n in zip(against.verdict, *against.d_m[:2].tolist(), strict=True)
            )
            if int(against.exchanged.sum()) > near:
                self._swap_axes()

    def _swap_axes(self) -> None:
        columns = dict(self._match.columns)
        if "e" in columns and "n" in columns:
            columns["e"], columns["n"] = columns["n"], columns["e"]
        self._match = replace(self._match, columns=columns)

    def show_job(self) -> None:
        """Compare again after the job changed."""
        if self._raw is not None and self._task is None:
            self.where.still_there()
            self._read()

    def _read(self) -> None:
        if self._raw is None:  # an answer that came after the list was left
            return
        frame = "" if self._measured else self.where.frame
        inputs = (
            self._raw,
            self._match,
            self.where.unit,
            self.bridge.state,
            frame,
            self._measured,
            self.where.where(),
        )
        if len(self._raw.rows) < LONG_LIST:
            self._show_points(interpreted(*inputs))
        else:
            self._work(interpreted, self._show_points, *inputs[:3], self.bridge.state.snapshot(), *inputs[4:])

    def _work(self, function: Callable[..., object], then: Callable[..., object], *inputs: object) -> None:
        self._cancel()  # of the list before, which nobody waits for any more
        self._busy(True)
        task = Task(function, *inputs)

        def arrived(result: object) -> None:
            if self._task is task:
                self.close_list() if task.stopping else then(result)

        task.signals.succeeded.connect(arrived)
        task.signals.failed.connect(lambda error: self._on_failed(error) if self._task is task else None)
        task.signals.cancelled.connect(lambda: self.close_list() if self._task is task else None)
        task.signals.progressed.connect(
            lambda done, total, text: self.progress.setValue(done * 100 // max(total, 1))
        )
        task.signals.finished.connect(lambda: self._busy(False) if self._task is task else None)
        self._task = self._runner.start(task)

    def _on_failed(self, error: Exception) -> None:
        self.bridge.told.emit(
            error.one_line if isinstance(error, FenwindError) else f"The list cannot be read: {error}.",
            "doubt",
        )
        self.close_list()

    def _cancel(self) -> None:
        if self._task is not None:
            self._task.cancel()

    def _busy(self, on: bool) -> None:
        self.progress.setVisible(on)
        self.progress.setValue(0)
        self.stop.setVisible(on)
        self.take.setEnabled(False)
        if not on:
            self._task = None
            if self._list is not None:
                self._show_count()

    def _show_points(self, found: object) -> None:
        assert self._raw is not None
        self._error = found.one_line if isinstance(found, FenwindError) else ""
        points, self._incoming, against = found if isinstance(found, tuple) else (None, None, None)
        before = self._list
        self._points, self._list = points, IncomingList(self._raw, points, against)
        if (
            before is not None
            and before.raw is self._raw
            and before.against is not None
            and against is not None
        ):
            left = ~before.take & (before.point_of >= 0) & (before.groups == self._list.groups)
            self._list.take &= ~left
        self._show_all()

    # What is shown
    # -----------------------------------------------------------------------------------------------

    def _show_all(self) -> None:
        assert self._raw is not None and self._list is not None
        self.caption.setText("COMING IN, NOTHING CHANGED YET")
        source = os.path.basename(self._raw.source) if self._path else self._raw.source
        parts = [Part(text="Take "), Part(text=f"{counted(len(self._raw.rows), 'row')} from {source}")]
        if self._raw.parts:
            parts += [Part(text=", "), Part(text=self._raw.part or "all of it", key="part")]
        parts += [
            Part(text=" as "),
            Part(text="measured positions" if self._measured else "known positions", key="kind"),
        ]
        parts += [Part(text=" in "), Part(text=self.where.name, key="frame")]
        if self._geographic():
            parts += [
                Part(text=", latitude and longitude in "),
                Part(text=self.where.system_name, key="system"),
            ]
            parts.append(Part(text=", heights above the ellipsoid in metres."))
        else:
            parts += [Part(text=", "), Part(text=self.where.unit.plural, key="unit")]
            if not self._raw.headers:
                northing = self._match.columns.get("n", 0) < self._match.columns.get("e", 0)
                parts += [
                    Part(text=", "),
                    Part(text="northing first" if northing else "easting first", key="axes"),
                ]
            parts.append(Part(text="."))
        self.statement.show_parts(parts)
        for key, chip in self.chips.items():
            chip.setText(f"{key} {len(self._raw.rows) if key == 'all' else self._list.counts[key]}")
            chip.setChecked(key == self._shown)
        self.chips["odd name"].setVisible(self._list.counts["odd name"] > 0)
        self.heads.show_columns(columns(self._list, self._match, self._toggle), self._raw.width)
        self.table.records.set_rows(self._list.rows(self._shown))
        self._show_count()
        plain = "click a column's head, or drag a word onto it  ·  undo brings everything back"
        odd = self._error or self.where.remark or self._left_out()
        self.hint.setText(odd or plain)
        show_look(self.hint, "doubt" if odd else "faint")
        self.shown.emit()

    def _left_out(self) -> str:
        """What is said of heights that are not taken."""
        points, incoming, geographic = self._points, self._incoming, self._geographic()
        if {"h", "h_ell"} <= set(self._match.columns):
            kind = "those above the ellipsoid" if geographic else "the others"
            return f"Two columns of heights: {kind} are taken."
        if geographic or points is None or incoming is None or not points.ellipsoidal:
            return ""
        if np.isfinite(incoming.values[2]).any():
            return ""
        return f"Heights above the ellipsoid are left out: nothing ties those of {self.where.name} to it."

    def _show_count(self) -> None:
        assert self._list is not None
        count = int(self._list.taken().size)
        self.take.setText(f"Take {counted(count, 'row')}")
        self.take.setEnabled(count > 0 and self._task is None)

    def _geographic(self) -> bool:
        return "lat" in self._match.columns and "lon" in self._match.columns

    def _show(self, group: str, _checked: bool = False) -> None:
        if self._list is not None and self._raw is not None:
            self._shown = group
            self._show_all()

    def _on_row(self, row: int) -> None:
        if self._list is not None and row < len(self._list.point_of) and self._list.point_of[row] >= 0:
            self.looked_at.emit(int(self._list.point_of[row]))

    def name_of(self, point: int) -> str:
        """Name of a point of the list, empty where the list has no such point."""
        there = self._points is not None and point < len(self._points.names)
        return self._points.names[point] if there and self._points is not None else ""

    def shut_down(self) -> None:
        """Stop reading."""
        self._runner.shut_down()

    def links(self, point: int) -> tuple[Link, ...]:
        """What the job has of a point, what comes in, the difference, and what taking it would move."""
        points = self._incoming
        if self._list is None or points is None or self._list.against is None or self._task is not None:
            return ()
        if not self.name_of(point):
            return ()
        taken: tuple[Entry, ...] = ()
        if self.where.frame in self.bridge.state.frames and not self._measured:
            taken = take_in(self.bridge.state, points, [point], measured=False, frame=self.where.frame)
        return incoming_links(
            self.bridge.state,
            self.bridge.derived,
            points,
            point,
            self._list.against,
            self.where.frame,
            taken,
            partial(self._trial.result, (self.where.frame, point)),
            self.bridge.unit,
            self.bridge.axes,
        )

    def coming(self, frame: str) -> Coming | None:
        """What is coming in, as the plan of a frame shows it."""
        points = self._incoming
        if points is None or self._task is not None or len(points.names) > LONG_LIST:
            return None
        return self.where.coming(points, frame)

    def _toggle(self, row: int) -> None:
        if self._list is None or self._list.point_of[row] < 0:
            return
        self._list.take[row] = not self._list.take[row]
        self.table.viewport().update()
        self._show_count()

    # Statement
    # ---------------------------------------------------------------------------------------------------

    def _menu_kind(self, menu: QMenu) -> None:
        choice(menu, "known positions", partial(self._set_kind, False), checked=not self._measured)
        choice(menu, "measured positions", partial(self._set_kind, True), checked=self._measured)

    def _set_kind(self, measured: bool) -> None:
        self._measured = measured
        self._read()

    def _menu_part(self, menu: QMenu) -> None:
        assert self._raw is not None
        for part in self._raw.parts:
            choice(menu, part, partial(self.load_file, self._path, part), checked=part == self._raw.part)

    def _menu_axes(self, menu: QMenu) -> None:
        def swap() -> None:
            self._swap_axes()
            self._read()

        choice(menu, "exchange easting and northing", swap)

    def _on_meaning(self) -> None:
        """Somebody said what a column means."""
        now, before = self._geographic(), self._was_geographic
        self._was_geographic = self.where.geographic = now
        if now:
            self._measured = self._measured or not before
            self.where.settle_geographic()
        self._read()

    # Taking
    # ------------------------------------------------------------------------------------------------------

    def take_rows(self) -> None:
        """Take the ticked rows in, as one gesture."""
        if self._raw is None or self._list is None or self._incoming is None:
            return
        if self._geographic() and not self.where.system:
            self.where.ask_system(lambda: None if self._task else self.take_rows())
            return
        if self.where.frame == BY_CODE:
            self.where.ask_code(self._measured)
            return
        taking, entries = self._taking()
        rows = self._list.taken().tolist()
        points, state = self._incoming, self.bridge.state
        what = f"Take {len(rows)} {'measured' if self._measured else 'known'} positions"
        if len(rows) < LONG_LIST:
            gesture = Gesture(what, (*entries, *taking.entries(state, points, rows)))
            self.take.setEnabled(False)  # until it is kept, or refused
            if not self.bridge.do(gesture, lambda _: self.close_list(), self._on_not_taken):
                self._show_count()
            return
        then = partial(self._on_taken, what, self.bridge.revision)
        self._work(take_task, then, state.snapshot(), entries, taking, points, rows)

    def _taking(self) -> tuple[Taking, tuple[Entry, ...]]:
        """How the rows are taken, and the entries that go before them: a plane of their own, the frame
        shown."""
        entries: list[Entry] = []
        assert self._points is not None
        frame, state = self.where.frame, self.bridge.state
        spec = self.where.new_frame(self._points)
        if spec is not None:
            frame, gesture = gestures.add_frame(spec)
            entries += gesture.entries
        where = "" if self._measured and self._geographic() else frame
        session = os.path.basename(self._raw.source) if self._measured and self._raw is not None else ""
        crs = self.where.system if self._measured and not where else ""
        if not state.info.frame:
            entries += gestures.set_field([state.info], "frame", frame, "").entries
        return Taking(measured=self._measured, frame=where, crs=crs, session=session), tuple(entries)

    def _on_taken(self, what: str, revision: int, made: tuple[tuple[Entry, ...], list[EntryRow]]) -> None:
        """Keep what a worker made of a long list, unless the job has changed meanwhile."""
        if revision != self.bridge.revision:
            self.bridge.told.emit("The job changed meanwhile: look at the list again, then take it.", "doubt")
            self._task = None
            self._read()
            return
        entries, rows = made
        self.bridge.keep_rows(Gesture(what, entries), rows, lambda _: self.close_list(), self._on_not_taken)

    def _on_not_taken(self, error: Exception) -> None:
        self.bridge.told.emit(failure(error), "doubt")
        self._task = None
        self._show_count()

    def close_list(self) -> None:
        """Leave the list; nothing is changed by leaving."""
        self._raw = self._list = self._points = self._incoming = None
        self.ask.hide()
        self.closed.emit()
