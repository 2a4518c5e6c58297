"""Levelling: its runs with what is left over, its loops and lines against their limit, and what it hangs
on."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFileDialog, QMenu, QPushButton, QWidget

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.desk.shell import PlainLabel, WholeLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.sheet import RecordSheet
from fenwind.desk.statement import choice
from fenwind.desk.table import RecordTable
from fenwind.errors import FenwindError, ParseError
from fenwind.exchange.line_csv import read_runs, runs_record
from fenwind.job.line_gestures import change, set_cell, set_runs_off, take_levelling
from fenwind.job.steps.levelled import Levelled
from fenwind.job.steps.outcome import Node
from fenwind.quantities.lengths import parse_length
from fenwind.quantities.numbers import format_fixed, parse_number
from fenwind.records.entries import Gesture
from fenwind.records.lines import LevelBook
from fenwind.reports.fit_report import mm
from fenwind.reports.statement import Part

#: Runs whose standardised residual is above this are shown as doubted; two-sided 0.1 %.
UNLIKELY = 3.29


@dataclass(frozen=True, slots=True, kw_only=True)
class _Row:
    """One run: residual and its standardised size (nan where it was left out), heights of its ends with the
    sigma of the second; metres."""

    number: int
    first: str
    second: str
    dh: float
    length: float
    off: bool
    residual: float
    unlikely: float
    heights: tuple[float, float]
    sigma: float


class LevellingSheet(RecordSheet):
    """See the module."""

    kind = "levelling"

    wanted = Signal()

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self.statement.set_menus({"levelling": self._menu_levelling, "hold": self._menu_hold})
        self.statement.part_clicked.connect(self._on_part)
        self.verdict = WholeLabel("")
        self.empty = PlainLabel(
            "Levelling is height differences from mark to mark. Take in its runs as a list: from, to, dh and "
            "distance_km or setups. It hangs on the heights known in the frame shown."
        )
        self.empty.setWordWrap(True)
        look(self.empty, "faint")
        self.first = QPushButton("Take in levelling …")
        look(self.first, "main")
        self.first.clicked.connect(self.choose_file)
        self.table = RecordTable(self._columns())
        self.table.setAccessibleName("Runs of the levelling")
        self.table.row_picked.connect(lambda row: self.bridge.select(row.second))
        self.column.addWidget(self.verdict)
        self.column.addWidget(self.empty)
        self.column.addWidget(self.first, 0, Qt.AlignmentFlag.AlignLeft)
        self.column.addWidget(self.table, 1)
        self.column.addStretch(0)

    def _columns(self) -> list[Column]:
        unit, book = self.bridge.unit, self.book
        limit = book.limit_m if book is not None else 0.004

        def height(k: int, title: str) -> Column:
            return Column(
                key=f"h{k}", title=title, unit=unit.key, right=True, width=90, tone=_tone,
                text=lambda r: format_fixed(r.heights[k] / unit.metres, 4),
                value=lambda r: r.heights[k] / unit.metres,
            )  # fmt: skip

        by = "set-ups" if book is not None and book.length_kind == "setups" else "km"
        return [
            Column(
                key="use", title="use", width=44, box=lambda r: not r.off, toggle=self._toggle,
                tip="Click to leave the run out, or to take it in",
            ),
            Column(key="first", title="from", text=lambda r: r.first, width=56, whole=True, tone=_tone),
            Column(
                key="second", title="to", text=lambda r: r.second, width=56, whole=True,
                tone=lambda r: _tone(r) or "bold",
            ),
            Column(
                key="dh", title="dh", unit=unit.key, right=True, width=82, tone=_tone, edit=self._edit_dh,
                text=lambda r: format_fixed(r.dh / unit.metres, 4, sign=True),
                value=lambda r: r.dh / unit.metres,
            ),
            Column(
                key="length", title="length", unit=by, right=True, width=62, tone=_tone,
                text=lambda r: format_fixed(r.length, 0 if by == "set-ups" else 3),
                value=lambda r: r.length,
            ),
            Column(
                key="v", title="residual", unit="mm", right=True, width=70, tip="Adjusted - observed",
                text=lambda r: mm(r.residual, sign=True, decimals=2), value=lambda r: r.residual * 1000.0,
                bar=lambda r: r.residual / (limit * math.sqrt(r.length)),
                tone=lambda r: "doubt" if abs(r.unlikely) > UNLIKELY else _tone(r),
            ),
            Column(
                key="w", title="test", right=True, width=46, text=lambda r: format_fixed(r.unlikely, 1),
                value=lambda r: r.unlikely, tip="Residual by its own sigma",
                tone=lambda r: "doubt" if abs(r.unlikely) > UNLIKELY else _tone(r),
            ),
            height(0, "H from"), height(1, "H to"),
            Column(
                key="sigma", title="± H to", unit="mm", right=True, width=66, tone=lambda r: "faint",
                text=lambda r: mm(r.sigma), value=lambda r: r.sigma * 1000.0,
            ),
        ]  # fmt: skip

    # What is shown

    @property
    def book(self) -> LevelBook | None:
        """The levelling looked at."""
        return self.looked_at(LevelBook)

    def found(self) -> Levelled | FenwindError | None:
        """What came of it."""
        found: Any = self.came_of(self.book)
        return found

    def show_job(self) -> None:
        book, found = self.book, self.found()
        self.empty.setVisible(book is None)
        self.first.setVisible(book is None)
        for widget in (self.statement, self.verdict, self.table):
            widget.setVisible(book is not None)
        self.caption.setText("LEVELLING" if book is None else book.name.upper())
        if book is None:
            return
        self.statement.show_parts(self._parts(book, found))
        self.verdict.setText(_verdict(book, found))
        self.table.records.set_columns(self._columns())
        self.table.records.set_rows(self._rows(book, found))

    def _parts(self, book: LevelBook, found: Levelled | FenwindError | None) -> list[Part]:
        held = "nothing that is known"
        if isinstance(found, Levelled):
            names = list(found.work.control)
            held = ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")
        frame = self.bridge.state.frames.get(book.frame)
        over = frame.spec.name if frame is not None else "?"
        root = "root set-up" if book.length_kind == "setups" else "root km"
        return [
            Part(text="Heights of "), Part(text=book.name, key="levelling"),
            Part(text=f" in {over}, holding "),
            Part(text=held, key="hold"), Part(text="; a run is good to "),
            Part(text=f"{format_fixed(book.sigma_m * 1000.0, 1)} mm", key="sigma"),
            Part(text=", a loop may miss by "),
            Part(text=f"{format_fixed(book.limit_m * 1000.0, 1)} mm", key="limit"),
            Part(text=f" a {root}."),
        ]  # fmt: skip

    def _rows(self, book: LevelBook, found: Levelled | FenwindError | None) -> list[_Row]:
        out = []
        place = {i: k for k, i in enumerate(found.rows)} if isinstance(found, Levelled) else {}
        heights: dict[str, float] = {}
        sigmas: dict[str, float] = {}
        if isinstance(found, Levelled):
            heights = dict(zip(found.found.names, found.found.height_m.tolist(), strict=True))
            sigmas = dict(zip(found.found.names, found.found.sigma_m.tolist(), strict=True))
        for i, ends in enumerate(zip(book.first, book.second, strict=True)):
            first, second = (self.bridge.state.mark_name(key) for key in ends)
            k, residual, unlikely = place.get(i), math.nan, math.nan
            if k is not None and isinstance(found, Levelled):
                residual, unlikely = float(found.found.residuals_m[k]), float(found.found.unlikely[k])
            out.append(
                _Row(
                    number=i, first=first, second=second, dh=book.dh_m[i], length=book.length[i],
                    off=k is None, residual=residual, unlikely=unlikely,
                    heights=(heights.get(first, math.nan), heights.get(second, math.nan)),
                    sigma=sigmas.get(second, math.nan),
                )
            )  # fmt: skip
        return out

    # What is done

    def take(self, path: str) -> bool:
        """Take in the runs of a file."""
        b = self.bridge

        def make() -> Gesture:
            return take_levelling(b.state, runs_record(read_runs(path, b.list_units), path), b.frame_id)

        return self.take_in(LevelBook, make)

    def choose_file(self) -> None:
        """Ask for the file of the runs."""
        path, _ = QFileDialog.getOpenFileName(
            self, "Runs of a levelling", self.bridge.folder, "CSV (*.csv *.txt);;All files (*)"
        )
        if path:
            self.take(path)

    def _change(self, what: str, **changes: Any) -> bool:
        book = self.book
        return book is not None and self.bridge.do(change(book, what, **changes))

    def _menu_levelling(self, menu: QMenu) -> None:
        for book in self.bridge.state.of(LevelBook).values():
            if book.active:
                choice(menu, book.name, partial(self.look_at, book.id), checked=book is self.book)
        menu.addSeparator()
        choice(menu, "Take in another …", self.choose_file)

    def _menu_hold(self, menu: QMenu) -> None:
        book, found = self.book, self.found()
        if book is None:
            return
        known = list(found.known) if isinstance(found, Levelled) else list(book.free)
        for key in known:
            free = tuple(k for k in book.free if k != key) if key in book.free else (*book.free, key)
            run = partial(self._change, "Heights held", free=free)
            choice(menu, f"hold {self.bridge.state.mark_name(key)}", run, checked=key not in book.free)

    def _on_part(self, key: str) -> None:
        book = self.book
        if book is None:
            return
        root = "set-up" if book.length_kind == "setups" else "km"
        question, value = {
            "sigma": (f"Sigma of a run of one {root}, mm:", book.sigma_m),
            "limit": (f"What a loop of one {root} may miss by, mm:", book.limit_m),
        }[key]
        self.ask.ask(question, partial(self._use_mm, f"{key}_m"), text=f"{value * 1000.0:g}", button="Use it")

    def _use_mm(self, field: str, text: str) -> bool:
        try:
            value = parse_number(text.strip().removesuffix("mm"))
            if not 0.0 < value < 1e6:
                raise ParseError(f"{text.strip()!r} is no number above 0", hint="Give millimetres")
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        return self._change("Limits of the levelling", **{field: value / 1000.0})

    def _edit_dh(self, row: _Row, text: str) -> bool:
        book = self.book

        def make() -> Gesture:
            assert book is not None
            return set_cell(book, "dh_m", row.number, parse_length(text, self.bridge.unit))

        return book is not None and self.bridge.attempt(make)

    def _toggle(self, row: _Row) -> None:
        self._off([row.number], not row.off)

    def _off(self, rows: list[int], off: bool) -> None:
        book = self.book
        if book is not None and rows:
            self.bridge.do(set_runs_off(book, rows, off))

    # What the desk asks

    def focus(self) -> QWidget:
        return self.table if self.book is not None else self.first

    def plan_step(self) -> Node | None:
        return self.node_of(self.book)

    def select(self, name: str) -> None:
        self.table.pick(lambda row: row.second == name)

    def pick(self, names: set[str]) -> bool:
        self.table.pick_all(lambda row: row.second in names)
        return True

    def commands(self) -> Sequence[ActionSpec]:
        menu = self.stage.name

        def take() -> None:
            self.wanted.emit()
            self.choose_file()

        def spec(key: str, text: str, tip: str, run: Callable[[], object]) -> ActionSpec:
            return ActionSpec(
                id=f"levelling.{key}", menu=menu, text=text, tip=tip, run=run,
                enabled=lambda: self.isVisible() and bool(self.table.selected_rows()),
            )  # fmt: skip

        def off(on: bool) -> None:
            self._off([row.number for row in self.table.selected_rows()], on)

        return (
            ActionSpec(id="levelling.take", menu=menu, text="Take in levelling …",
                       tip="Runs with height differences from a list", run=take),
            spec("off", "Leave runs out", "They are kept and take no part", partial(off, True)),
            spec("on", "Use runs again", "They take part in the heights", partial(off, False)),
        )  # fmt: skip


def _verdict(book: LevelBook, found: Levelled | FenwindError | None) -> str:
    if isinstance(found, FenwindError):
        return found.sentences
    if found is None:
        return ""
    said = []
    worst = sorted(found.found.loops, key=lambda loop: -abs(loop.misclosure_m) / loop.limit_m)
    for loop in worst[:3]:
        shown = loop.names if len(loop.names) < 7 else (*loop.names[:3], "…", *loop.names[-2:])
        names = " – ".join(shown)
        size = "set-ups" if book.length_kind == "setups" else "km"
        said.append(
            f"{names} misses by {mm(loop.misclosure_m, sign=True)} mm on {loop.length:.3g} {size}, "
            f"{mm(loop.limit_m)} is allowed."
        )
    if len(worst) > 3:
        said.append(f"{len(worst) - 3} more loops and lines close better.")
    if found.found.variance_factor is not None:
        said.append(
            f"{found.found.dof} left over, variance factor {format_fixed(found.found.variance_factor, 2)}."
        )
    return " ".join(said) or "Nothing checks it: there is no loop and no second benchmark."


def _tone(row: _Row) -> str:
    return "off" if row.off else ""
