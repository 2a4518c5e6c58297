"""A list coming in: what each row would do is seen before anything is changed; columns are matched by hand in place."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from functools import partial

from PySide6.QtCore import Signal
from PySide6.QtGui import QCursor
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMenu, QProgressBar, QPushButton, QWidget

from fenwind.desk.bridge import JobBridge
from fenwind.desk.shell import look
from fenwind.desk.stages.sheet import Sheet
from fenwind.desk.statement import choice
from fenwind.desk.table import Column, RecordTable
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.errors import FenwindError
from fenwind.exchange.delimited import RawTable, read_file, read_text
from fenwind.exchange.point_list import MEANINGS, ColumnMatch, PointList, PointRow, RowProblem, interpret, match_header
from fenwind.geodesy.frames import FrameSpec, HeightReference, find_crs, open_frame, unit_key_of
from fenwind.job import gestures
from fenwind.job.incoming import Comparison, IncomingPoint, compare, take_in
from fenwind.progress import Progress
from fenwind.quantities.lengths import FOOT, METRE, UNITS, US_SURVEY_FOOT
from fenwind.quantities.numbers import format_fixed
from fenwind.records.entries import Entry
from fenwind.reports.fit_report import mm
from fenwind.reports.statement import Part

MEANING_WORDS = {
    "name": "name", "e": "E", "n": "N", "h": "height", "lat": "latitude", "lon": "longitude", "sh": "sigma plan, m", "sv": "sigma height, m",
    "class": "class", "code": "code", "description": "description", "": "not used",
}  # fmt: skip
NEW_PLANE, BY_CODE = "new plane", "by code"
#: Rows from which reading goes to a worker with progress.
LONG_LIST = 3000


@dataclass(frozen=True, slots=True, kw_only=True)
class IncomingRow:
    """One row of the list: its raw cells, the point read from it or the problem, and its verdict."""

    cells: list[str]
    point: PointRow | None
    problem: RowProblem | None
    against: Comparison | None
    take: bool

    @property
    def group(self) -> str:
        """Chip this row belongs to."""
        if self.against is None:
            return "unreadable"
        return {"new position": "new", "another occupation": "new"}.get(self.against.verdict, self.against.verdict)


class IncomingSheet(Sheet):
    """Statement, chips, the list with its verdicts, take or leave."""

    closed = Signal()

    def __init__(self, bridge: JobBridge) -> None:
        super().__init__(bridge)
        self._raw: RawTable | None = None
        self._match = ColumnMatch(columns={})
        self._rows: list[IncomingRow] = []
        self._measured = False
        self._frame = ""
        self._unit = METRE
        self._source = ""
        self._left: set[int] = set()
        self._shown = "all"
        self._error = ""
        self._runner = TaskRunner(self)
        self._task: Task | None = None
        self.statement.set_menus({"kind": self._menu_kind, "frame": self._menu_frame, "unit": self._menu_unit})
        self.chips: dict[str, QPushButton] = {}
        chips = QWidget()
        row = QHBoxLayout(chips)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(7)
        lead = QLabel("show")
        look(lead, "faint")
        row.addWidget(lead)
        for name in ("all", "new", "differs", "same", "unreadable"):
            chip = QPushButton(name)
            chip.setCheckable(True)
            look(chip, "chip")
            chip.clicked.connect(partial(self._show, name))
            row.addWidget(chip)
            self.chips[name] = chip
        row.addStretch(1)
        self.column.addWidget(chips)
        self.table = RecordTable([])
        self.table.setAccessibleName("The list that is coming in")
        self.table.setSortingEnabled(False)
        self.table.horizontalHeader().sectionClicked.connect(self._match_by_hand)
        self.column.addWidget(self.table, 1)
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
        self.hint = QLabel("click a column's head to say what it means  ·  undo brings everything back")
        self.hint.setWordWrap(True)
        look(self.hint, "faint")
        self.progress = QProgressBar()
        self.progress.setFixedWidth(140)
        self.progress.setTextVisible(False)
        self.progress.hide()
        self.stop = QPushButton("stop")
        look(self.stop, "link")
        self.stop.clicked.connect(lambda: self._task and self._task.cancel())
        self.stop.hide()
        for widget in (self.take, self.leave, self.progress, self.stop):
            line.addWidget(widget)
        line.addWidget(self.hint, 1)
        self.column.addWidget(foot)

    # Loading -----------------------------------------------------------------------------------------------------

    def load_text(self, text: str, source: str) -> bool:
        """Show a text; False, with the reason said, when there is no list in it."""
        try:
            raw = read_text(text, source)
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        return self._load(raw)

    def load_file(self, path: str) -> bool:
        """Show a file; False, with the reason said, when there is no list in it."""
        try:
            raw = read_file(path)
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        return self._load(raw)

    def _load(self, raw: RawTable) -> bool:
        shown = self.bridge.frame
        northing_first = shown is not None and shown.spec.axis_order == "NE"
        self._raw, self._match, self._left, self._shown = raw, match_header(raw, northing_first=northing_first), set(), "all"
        self._source = raw.source
        geographic = "lat" in self._match.columns
        self._measured = geographic
        self._unit = self.bridge.unit if not geographic else METRE
        frames = self.bridge.state.frames
        if geographic:
            self._frame = next((k for k, r in frames.items() if r.spec.crs), BY_CODE)
        else:
            self._frame = self.bridge.frame_id or NEW_PLANE
        self._order_axes(raw)
        self._read()
        return True

    def _order_axes(self, raw: RawTable) -> None:
        """Columns headed X and Y mean easting and northing in some countries, the reverse in others: the job decides."""
        heads = {h.strip().lower()[:1] for m, i in self._match.columns.items() if m in ("e", "n") for h in raw.headers[i : i + 1]}
        found = _interpreted(replace(raw, rows=raw.rows[:LONG_LIST], lines=raw.lines[:LONG_LIST]), self._match, self._unit)
        if heads != {"x", "y"} or not isinstance(found, PointList) or self._frame not in self.bridge.state.frames:
            return
        against = compare(self.bridge.state, [self._incoming(p) for p in found.points], self._frame, False)
        if sum(c.exchanged for c in against) > sum(c.verdict == "same" or abs(c.de_m) + abs(c.dn_m) < 1.0 for c in against):
            columns = dict(self._match.columns)
            columns["e"], columns["n"] = columns["n"], columns["e"]
            self._match = replace(self._match, columns=columns)

    def show_job(self) -> None:
        """Compare again after the job changed."""
        if self._raw is not None and self._task is None:
            self._read()

    def _read(self) -> None:
        assert self._raw is not None
        if len(self._raw.rows) < LONG_LIST:
            self._show_points(_interpreted(self._raw, self._match, self._unit))
            return
        self._busy(True)
        task = Task(_interpret_task, self._raw, self._match, self._unit)
        task.signals.succeeded.connect(self._show_points)
        task.signals.failed.connect(lambda error: self._show_points(error))
        task.signals.cancelled.connect(self.close_list)
        task.signals.progressed.connect(lambda done, total, text: self.progress.setValue(done * 100 // max(total, 1)))
        task.signals.finished.connect(lambda: self._busy(False))
        self._task = self._runner.start(task)

    def _busy(self, on: bool) -> None:
        self.progress.setVisible(on)
        self.stop.setVisible(on)
        self.take.setEnabled(not on)
        if not on:
            self._task = None

    def _show_points(self, found: object) -> None:
        assert self._raw is not None
        if isinstance(found, PointList):
            self._error = ""
            points = {p.line: p for p in found.points}
            problems = {p.line: p for p in found.problems}
        else:
            self._error = found.one_line if isinstance(found, FenwindError) else str(found)
            points, problems = {}, {}
        incoming = [self._incoming(p) for p in points.values()]
        frame = "" if self._measured else self._frame
        verdicts = dict(zip(points, compare(self.bridge.state, incoming, frame, self._measured), strict=True))
        self._rows = []
        for line, cells in zip(self._raw.lines, self._raw.rows, strict=True):
            against = verdicts.get(line)
            take = against is not None and line not in self._left and against.verdict != "same"
            self._rows.append(
                IncomingRow(cells=cells, point=points.get(line), problem=problems.get(line), against=against, take=take)
            )
        self._show_all()

    def _incoming(self, point: PointRow) -> IncomingPoint:
        return IncomingPoint(
            name=point.name,
            first=point.first,
            second=point.second,
            height_m=point.height_m,
            sigma_h_m=point.sigma_h_m,
            sigma_v_m=point.sigma_v_m,
            mark_class=point.mark_class,
            code=point.code,
            description=point.description,
            source=f"{self._source}, row {point.line}",
        )

    # What is shown -----------------------------------------------------------------------------------------------

    def _show_all(self) -> None:
        assert self._raw is not None
        self.caption.setText("COMING IN, NOTHING CHANGED YET")
        frames = self.bridge.state.frames
        name = {NEW_PLANE: "a new local plane", BY_CODE: "a system named by its code"}.get(self._frame) or frames[
            self._frame
        ].spec.name
        parts = [Part(text="Take "), Part(text=f"{len(self._rows)} rows from {self._source}"), Part(text=" as ")]
        parts += [Part(text="measured positions" if self._measured else "known positions", key="kind")]
        parts += [Part(text=" in "), Part(text=name, key="frame")]
        if self._geographic():
            parts.append(Part(text=", latitude and longitude."))
        else:
            parts += [Part(text=", "), Part(text=_unit_words(self._unit.key), key="unit"), Part(text=".")]
        self.statement.show_parts(parts)
        groups = [r.group for r in self._rows]
        for key, chip in self.chips.items():
            chip.setText(f"{key} {len(groups) if key == 'all' else groups.count(key)}")
            chip.setChecked(key == self._shown)
        columns = self._columns(self._raw)
        self.table.records.set_columns(columns)
        for i, column in enumerate(columns):
            self.table.setColumnWidth(i, column.width)
        self.table.records.set_rows([r for r in self._rows if self._shown in ("all", r.group)])
        count = sum(r.take for r in self._rows)
        self.take.setText(f"Take {count} row{'' if count == 1 else 's'}")
        self.take.setEnabled(count > 0)
        plain = "click a column's head to say what it means  ·  undo brings everything back"
        self.hint.setText(self._error or plain)
        self.hint.setStyleSheet("color: #C2410C;" if self._error else "")

    def _geographic(self) -> bool:
        return "lat" in self._match.columns and "lon" in self._match.columns

    def _columns(self, raw: RawTable) -> list[Column]:
        meaning_of = {index: meaning for meaning, index in self._match.columns.items()}
        columns = [Column(key="take", title="take", box=lambda r: r.take, toggle=self._toggle, width=40)]
        for index in range(min(raw.width, 16)):
            meaning = meaning_of.get(index, "")
            columns.append(
                Column(
                    key=f"column-{index}",
                    title=MEANING_WORDS[meaning]
                    + (f", {self._match.units[meaning].key}" if meaning in self._match.units else ""),
                    unit=raw.headers[index] if index < len(raw.headers) else f"column {index + 1}",
                    text=partial(_cell, index),
                    tone=lambda r, m=meaning: "bold" if m == "name" else "faint" if not m else "",  # type: ignore[misc]
                    right=meaning in ("e", "n", "h", "lat", "lon", "sh", "sv"),
                    width=100 if meaning in ("e", "n", "lat", "lon", "description") else 82 if meaning == "h" else 70,
                    tip="Click the head to say what this column means",
                )
            )
        columns.insert(1, Column(key="against", title="against the job", text=_verdict, tone=_verdict_tone, width=170))
        return columns

    def _show(self, group: str, _checked: bool = False) -> None:
        self._shown = group
        self._show_all()

    def _toggle(self, row: IncomingRow) -> None:
        if row.point is None:
            return
        place = self._rows.index(row)
        if row.take:
            self._left.add(row.point.line)
        else:
            self._left.discard(row.point.line)
        self._rows[place] = replace(row, take=not row.take)
        self._show_all()

    # Statement ---------------------------------------------------------------------------------------------------

    def _menu_kind(self, menu: QMenu) -> None:
        if not self._geographic():
            choice(menu, "known positions", partial(self._set_kind, False), checked=not self._measured)
        choice(menu, "measured positions", partial(self._set_kind, True), checked=self._measured)

    def _set_kind(self, measured: bool) -> None:
        self._measured = measured or self._geographic()
        self._read()

    def _menu_frame(self, menu: QMenu) -> None:
        for key, record in self.bridge.state.frames.items():
            if record.spec.crs or not self._geographic():
                choice(menu, record.spec.name, partial(self._set_frame, key), checked=key == self._frame)
        if not self._geographic():
            choice(menu, "a new local plane …", self._ask_plane, checked=self._frame == NEW_PLANE)
        choice(menu, "a system named by its code …", self._ask_code, checked=self._frame == BY_CODE)

    def _set_frame(self, key: str) -> None:
        self._frame = key
        self._read()

    def _add_frame(self, spec: FrameSpec) -> bool:
        key, gesture = gestures.add_frame(spec)
        self._frame = key
        if not self.bridge.do(gesture):
            return False
        self._read()
        return True

    def _ask_plane(self) -> None:
        def answer(text: str) -> bool:
            return self._add_frame(local_plane(text.strip() or "Local plane", self._unit.key))

        self.ask.ask("Name of the plane", answer, text="Local plane", button="Make it")

    def _ask_code(self) -> None:
        def answer(text: str) -> bool:
            try:
                spec = FrameSpec(name=find_crs(text).name, crs=text, unit=unit_key_of(text))
            except FenwindError as error:
                self.bridge.tell_error(error)
                return False
            return self._add_frame(spec)

        self.ask.ask("System", answer, placeholder="EPSG:25832, WKT or a PROJ string", button="Use it")

    def _menu_unit(self, menu: QMenu) -> None:
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            choice(menu, _unit_words(unit.key), partial(self._set_unit, unit.key), checked=unit is self._unit)

    def _set_unit(self, key: str) -> None:
        self._unit = UNITS[key]
        self._read()

    def _match_by_hand(self, section: int) -> None:
        """A click on a column's head: say what it means."""
        index = section - 2
        if self._raw is None or not 0 <= index < self._raw.width:
            return
        menu = QMenu(self)
        current = next((m for m, i in self._match.columns.items() if i == index), "")
        for meaning in (*MEANINGS, ""):
            choice(menu, MEANING_WORDS[meaning], partial(self.set_meaning, index, meaning), checked=meaning == current)
        menu.aboutToHide.connect(menu.deleteLater)
        menu.popup(QCursor.pos())

    def set_meaning(self, index: int, meaning: str) -> None:
        """Say what a column means; whatever meant that before, or the column before, is let go."""
        columns = {m: i for m, i in self._match.columns.items() if i != index and m != meaning}
        if meaning:
            columns[meaning] = index
            for gone in {"e": ("lat", "lon"), "n": ("lat", "lon"), "lat": ("e", "n"), "lon": ("e", "n")}.get(meaning, ()):
                columns.pop(gone, None)
        self._match = ColumnMatch(columns=columns, units={m: u for m, u in self._match.units.items() if m in columns})
        if self._geographic():
            self._measured = True
            if not self.bridge.state.frames.get(self._frame) or not self.bridge.state.frames[self._frame].spec.crs:
                self._frame = next((k for k, r in self.bridge.state.frames.items() if r.spec.crs), BY_CODE)
        self._read()

    # Taking ------------------------------------------------------------------------------------------------------

    def take_rows(self) -> None:
        """Take the ticked rows in, as one gesture."""
        record = self.bridge.state.frames.get(self._frame)
        if self._frame == BY_CODE or (self._geographic() and (record is None or not record.spec.crs)):
            self._ask_code()
            return
        entries: list[Entry] = []
        frame = self._frame
        if frame == NEW_PLANE:
            frame, (_, added) = gestures.add_frame(local_plane("Local plane", self._unit.key))
            entries += added
        points = [self._incoming(r.point) for r in self._rows if r.take and r.point is not None]
        where = "" if self._measured and self._geographic() else frame
        session = self._source if self._measured else ""
        crs = self._geodetic_system(frame) if self._measured and not where else ""
        entries += take_in(self.bridge.state, points, measured=self._measured, frame=where, crs=crs, session=session)
        if not self.bridge.state.info.frame:
            entries += gestures.set_field([self.bridge.state.info], "frame", frame, "")[1]
        kind = "measured" if self._measured else "known"
        if self.bridge.do((f"Take {len(points)} {kind} positions", tuple(entries))):
            self.close_list()

    def _geodetic_system(self, frame: str) -> str:
        """The system latitudes and longitudes are said to be in: the one under the frame's projection."""
        spec = self.bridge.state.frames[frame].spec
        return open_frame(FrameSpec(name=spec.name, crs=spec.crs)).geodetic_name

    def close_list(self) -> None:
        """Leave the list; nothing is changed by leaving."""
        self._raw = None
        self._rows = []
        self.ask.hide()
        self.closed.emit()


def local_plane(name: str, unit: str) -> FrameSpec:
    """A plane with no known relation to the earth."""
    return FrameSpec(name=name, unit=unit, height=HeightReference(kind="local", name="its own zero"))


def _interpreted(raw: RawTable, match: ColumnMatch, unit: object) -> object:
    try:
        return interpret(raw, match, unit)  # type: ignore[arg-type]
    except FenwindError as error:
        return error


def _interpret_task(raw: RawTable, match: ColumnMatch, unit: object, progress: Progress) -> object:
    """Interpret a long list; in parts, so that it can tell how far it is and be stopped."""
    points: list[PointRow] = []
    problems: list[RowProblem] = []
    part = 2000
    found: PointList | None = None
    for start in range(0, len(raw.rows), part):
        progress.check()
        piece = replace(raw, rows=raw.rows[start : start + part], lines=raw.lines[start : start + part])
        done = _interpreted(piece, match, unit)
        if not isinstance(done, PointList):
            return done
        found = done
        points += found.points
        problems += found.problems
        progress.report(min(start + part, len(raw.rows)), len(raw.rows), "reading")
    assert found is not None
    return replace(found, points=tuple(points), problems=tuple(problems))


def _unit_words(key: str) -> str:
    return {"m": "metres", "ft": "international feet", "ftUS": "US survey feet"}.get(key, key)


def _cell(index: int, row: IncomingRow) -> str:
    return row.cells[index] if index < len(row.cells) else ""


def _verdict(row: IncomingRow) -> str:
    if row.problem is not None:
        return f"{row.problem.column}: {row.problem.why}"
    if row.against is None:
        return ""
    if row.against.verdict != "differs":
        return row.against.verdict
    a = row.against
    if a.exchanged:
        return "differs · E, N exchanged?"
    parts = [
        f"{name} {_length(v)}" for name, v in (("E", a.de_m), ("N", a.dn_m), ("H", a.dh_m)) if math.isfinite(v) and abs(v) > 5e-5
    ]
    return "differs · " + (", ".join(parts) or "one has no height")


def _length(value_m: float) -> str:
    return f"{mm(value_m, sign=True)} mm" if abs(value_m) < 1.0 else f"{format_fixed(value_m, 3, sign=True)} m"


def _verdict_tone(row: IncomingRow) -> str:
    return {"new": "reed", "differs": "doubt", "same": "faint", "unreadable": "doubt"}[row.group]
