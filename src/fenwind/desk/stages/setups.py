"""The Setups stage: an instrument said in a sentence, what it sighted with what each sighting leaves over,
and where what was not known came to lie."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QMenu, QPushButton, QWidget

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.shell import PlainLabel, WholeLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.sheet import RecordSheet
from fenwind.desk.statement import choice
from fenwind.desk.table import Column, RecordTable
from fenwind.errors import FenwindError
from fenwind.exchange.field_book import is_field_book, read_setups, write_field_book
from fenwind.exchange.landxml_survey import write_field_work
from fenwind.exchange.setup_csv import read_sightings, setup_record
from fenwind.geodesy.axes import ShownAxis
from fenwind.job.setup_gestures import change, set_use, take_setup, take_setups
from fenwind.job.steps.outcome import Node
from fenwind.job.steps.setup import Placed
from fenwind.quantities.angles import RAD_PER_SECOND, format_angle, usual_decimals
from fenwind.quantities.lengths import format_length, parse_length
from fenwind.quantities.numbers import format_fixed
from fenwind.records.entries import Gesture
from fenwind.records.setups import Setup, ShotUse
from fenwind.reports.fit_report import mm
from fenwind.reports.statement import Part

#: Residuals are drawn against these, seconds and metres (common practice, no source).
SEEN_S, SEEN_M = 15.0, 0.010
WORDS = {"held": "known", "check": "check", "off": "left out", "new": "new"}


@dataclass(frozen=True, slots=True, kw_only=True)
class _Row:
    """One sighting: direction (radians), residuals of direction (radians), distance and height (metres), nan
    where they took no part; for a check and a new mark what it came to, e, n, h: differences and places."""

    number: int
    target: str
    part: str
    direction: float
    residual: tuple[float, float, float]
    away: tuple[float, float, float]
    place: tuple[float, float, float]


class SetupsSheet(RecordSheet):
    """See the module."""

    kind = "setup"

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self._waiting: Setup | None = None
        self.statement.set_menus(
            {"setup": self._menu_setup, "word": self._menu_word, "heights": self._menu_heights,
             "grid": self._menu_grid}
        )  # fmt: skip
        self.statement.part_clicked.connect(self._on_part)
        self.verdict = WholeLabel("")
        self.column.addWidget(self.verdict)
        self.empty = PlainLabel("")
        self.empty.setWordWrap(True)
        look(self.empty, "faint")
        self.first = QPushButton("Take in a setup …")
        look(self.first, "main")
        self.first.clicked.connect(self._choose_file)
        self.table = RecordTable(self._columns())
        self.table.setAccessibleName("Sightings of the setup")
        self.table.row_picked.connect(lambda row: self.bridge.select(row.target))
        self.column.addWidget(self.empty)
        self.column.addWidget(self.first, 0, Qt.AlignmentFlag.AlignLeft)
        self.column.addWidget(self.table, 1)
        self.column.addStretch(0)

    def _columns(self) -> list[Column]:
        def left(k: int, title: str, unit: str, size: float, limit: float) -> Column:
            return Column(
                key=f"v{k}", title=title, unit=unit, right=True, width=66,
                text=lambda r: format_fixed(r.residual[k] / size, 1, sign=True),
                value=lambda r: r.residual[k] / size, bar=lambda r: r.residual[k] / limit,
                tone=lambda r: "doubt" if abs(r.residual[k]) > limit else _tone(r), tip="Adjusted - observed",
            )  # fmt: skip

        def away(k: int, title: str, sign: float = 1.0) -> Column:
            return Column(
                key=f"d{k}", title=f"Δ{title}", unit="mm", right=True, width=66,
                text=lambda r: mm(sign * r.away[k], sign=True), value=lambda r: sign * r.away[k] * 1000.0,
                bar=lambda r: sign * r.away[k] / SEEN_M, tip="What a check misses by: observed - known",
            )  # fmt: skip

        def place(k: int, title: str, width: int, sign: float = 1.0) -> Column:
            size = sign / self.bridge.unit.metres
            return Column(
                key=f"p{k}", title=title, unit=self.bridge.unit.key, right=True, width=width,
                text=lambda r: format_fixed(r.place[k] * size, 3), value=lambda r: r.place[k] * size,
            )  # fmt: skip

        axes = self._axes(self.setup)
        plan = [place("en".index(axis.component), axis.title, 106, axis.sign) for axis in axes]
        off = [away("en".index(axis.component), axis.title, axis.sign) for axis in axes]

        def angle(r: _Row) -> str:
            style = self.bridge.angle_style
            return format_angle(r.direction, style, usual_decimals(style))

        return [
            Column(
                key="use", title="use", width=44, toggle=self._toggle,
                tip="Click: take part, compare, leave out", box=_box,
            ),
            Column(
                key="target", title="target", text=lambda r: r.target, width=62, whole=True,
                tone=lambda r: _tone(r) or "bold",
            ),
            Column(
                key="part", title="part", text=lambda r: WORDS[r.part], width=64,
                tone=lambda r: _tone(r) or "faint",
            ),
            left(0, "direction", "″", RAD_PER_SECOND, SEEN_S * RAD_PER_SECOND),
            left(1, "distance", "mm", 0.001, SEEN_M),
            left(2, "height", "mm", 0.001, SEEN_M),
            *plan, place(2, "H", 84),
            *off, away(2, "H"),
            Column(
                key="direction", title="circle", right=True, width=108, tone=_tone, text=angle,
                value=lambda r: r.direction,
            ),
        ]  # fmt: skip

    # What is shown

    @property
    def setup(self) -> Setup | None:
        """The setup looked at."""
        return self.looked_at(Setup)

    def found(self) -> Placed | FenwindError | None:
        """What came of it."""
        found: Any = self.came_of(self.setup)
        return found

    def show_job(self) -> None:
        setup, found = self.setup, self.found()
        self.empty.setVisible(setup is None)
        self.first.setVisible(setup is None)
        for widget in (self.statement, self.verdict, self.table):
            widget.setVisible(setup is not None)
        if setup is None:
            self.caption.setText("SETUPS")
            self.empty.setText(self.stage.empty)
            return
        self.caption.setText(setup.name.upper())
        self.statement.show_parts(self._parts(setup, found))
        self.verdict.setText(self._verdict(setup, found))
        self.table.records.set_columns(self._columns())
        self.table.records.set_rows(self._rows(setup, found))

    def _parts(self, setup: Setup, found: Placed | FenwindError | None) -> list[Part]:
        state = self.bridge.state
        station = state.marks[setup.station].name if setup.station in state.marks else "a mark that is gone"
        frame = state.frames.get(setup.frame)
        grid = "as they were measured"
        if setup.grid and isinstance(found, Placed) and found.factor != 1.0:
            grid = f"to the grid by {found.factor:.7f}"
        word = "is placed by what it sighted" if setup.word == "free" else "stands on a known mark"
        return [
            Part(text="The instrument at "), Part(text=station, key="setup"), Part(text=" "),
            Part(text=word, key="word"), Part(text=f" in {frame.spec.name if frame else '?'}, "),
            Part(text=f"{format_length(setup.height_m, decimals=3)} high", key="height"), Part(text=", "),
            Part(text="heights too" if setup.heights else "in plan alone", key="heights"),
            Part(text=", distances "), Part(text=grid, key="grid"), Part(text="."),
        ]  # fmt: skip

    def _axes(self, setup: Setup | None) -> tuple[ShownAxis, ShownAxis]:
        """The plane coordinates of a setup's frame."""
        return self.bridge.axes_in(self.bridge.state.frames.get(setup.frame) if setup is not None else None)

    def _verdict(self, setup: Setup, found: Placed | FenwindError | None) -> str:
        if isinstance(found, FenwindError):
            return found.sentences
        if found is None:
            return ""
        f, unit = found.found, self.bridge.unit
        shown = [f"{a.title} {format_fixed(a.of(f.e, f.n) / unit.metres, 3)}" for a in self._axes(setup)]
        if not math.isnan(f.h):
            shown.append(f"H {format_fixed(f.h / unit.metres, 3)}")
        place = "   ".join(shown)
        sigma = np.sqrt(np.maximum(np.diag(f.covariance), 0.0))
        words = [f"It stands at {place} {unit.key}"]
        if setup.word == "free":
            words.append(f" (± {mm(math.hypot(sigma[0], sigma[1]) / math.sqrt(2.0))} mm in plan)")
        if f.variance_factor is not None:
            words.append(f"; {f.dof} left over, variance factor {format_fixed(f.variance_factor, 2)}")
        faces = [
            f"{name} {format_fixed(value / RAD_PER_SECOND, 1, sign=True)}″"
            for name, value in (("collimation", found.reduced.collimation), ("index", found.reduced.index))
            if not math.isnan(value)
        ]
        said = ["".join(words) + ".", *_checks_said(found)]
        return " ".join(said) + (f" From both faces: {', '.join(faces)}." if faces else "")

    def _rows(self, setup: Setup, found: Placed | FenwindError | None) -> list[_Row]:
        state, nan3, out = self.bridge.seen, (math.nan,) * 3, []
        for i, key in enumerate(setup.target):
            residual, away, place, part = nan3, nan3, nan3, "off"
            if isinstance(found, Placed):
                part = found.part[i]
                if found.rows[i] >= 0:
                    residual = _three(found.found.residuals[:, found.rows[i]])
                at = found.shots.position[:, i]
                if part == "check":
                    away = _three(at - found.known[key].at)
                if part in ("check", "new"):
                    place = _three(at)
            name = state.mark_name(key)
            out.append(
                _Row(
                    number=i, target=name, part=part, direction=setup.direction_rad[i], residual=residual,
                    away=away, place=place,
                )
            )  # fmt: skip
        return out

    # What is done

    def take(self, path: str, station: str, height_m: float) -> bool:
        """Take in the sightings of a file from an instrument over a mark."""

        def make() -> Gesture:
            record, b = setup_record(read_sightings(path), path), self.bridge
            return take_setup(b.state, record, station, height_m, b.frame_id, self._known())

        return self.take_in(Setup, make)

    def take_field_book(self, path: str) -> bool:
        """Take in the setups of a field book or of LandXML, which say themselves where they stood."""

        def make() -> Gesture:
            found = [
                replace(setup_record(one.shots, path), station=one.station, height_m=one.height_m)
                for one in read_setups(path).values()
            ]
            return take_setups(self.bridge.state, found, self.bridge.frame_id, self._known())

        return self.take_in(Setup, make)

    def _known(self) -> set[str]:
        """Names of the marks that are known in the frame shown."""
        adopted = self.bridge.derived.adopted.get(self.bridge.frame_id)
        rows = zip(adopted.names, adopted.basis, strict=True) if adopted is not None else ()
        return {name for name, basis in rows if basis in ("given", "adjusted")}

    def _choose_file(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self, "Sightings of a setup, a field book, LandXML", self.bridge.folder,
            "Field work (*.csv *.txt *.xml);;All files (*)",
        )  # fmt: skip
        if path:
            self.open_file(path)

    def open_file(self, path: str) -> None:
        """Take in what a file holds: one setup, whose station is asked for, or a field book."""
        try:
            book = is_field_book(path)
        except FenwindError as error:
            self.bridge.tell_error(error)
            return
        if book:
            self.take_field_book(path)
        else:
            self.ask_station(path)

    def _write(self) -> None:
        path, _ = QFileDialog.getSaveFileName(
            self, "Write field work", f"{self.bridge.folder}/field-work.xml", "LandXML (*.xml);;CSV (*.csv)"
        )
        if path:
            self.write_to(path)

    def write_to(self, path: str) -> bool:
        """Write every setup that is on as LandXML or as a field book."""
        state = self.bridge.state
        setups = [s for s in state.of(Setup).values() if s.active]
        names = {key: mark.name for key, mark in state.marks.items()}
        try:
            if path.lower().endswith(".csv"):
                write_field_book(path, setups, names)
            else:
                write_field_work(path, setups, names, datetime.now())
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        self.bridge.told.emit(f"{len(setups)} setups are in {path}.", "")
        return True

    def ask_station(self, path: str) -> None:
        """Ask which mark the instrument stood over, and how high it was."""
        self.ask.ask(
            "Over which mark did it stand, and how high (metres)? A new name makes a new mark:",
            partial(self._use_station, path), placeholder="St-1, 1.612", button="Take it in",
        )  # fmt: skip

    def _use_station(self, path: str, text: str) -> bool:
        name, _, height = text.partition(",")
        try:
            metres = parse_length(height) if height.strip() else 0.0
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        return bool(name.strip()) and self.take(path, name.strip(), metres)

    def _menu_setup(self, menu: QMenu) -> None:
        state = self.bridge.state
        for setup in state.of(Setup).values():
            if setup.active:
                station = state.mark_name(setup.station)
                choice(
                    menu,
                    f"{setup.name}, {station}",
                    partial(self.look_at, setup.id),
                    checked=setup is self.setup,
                )
        menu.addSeparator()
        choice(menu, "Take in a setup …", self._choose_file)

    def _change(self, what: str, **changes: Any) -> bool:
        setup = self.setup
        return setup is not None and self.bridge.do(change(setup, what, **changes))

    def _menu_word(self, menu: QMenu) -> None:
        setup = self.setup
        for word, words in (("free", "is placed by what it sighted"), ("known", "stands on a known mark")):
            choice(menu, words, partial(self._change, "Where it stands", word=word),
                   checked=setup is not None and setup.word == word)  # fmt: skip

    def _menu_heights(self, menu: QMenu) -> None:
        setup = self.setup
        for heights, words in ((True, "heights too"), (False, "in plan alone")):
            choice(menu, words, partial(self._change, "Heights", heights=heights),
                   checked=setup is not None and setup.heights == heights)  # fmt: skip

    def _menu_grid(self, menu: QMenu) -> None:
        setup = self.setup
        for grid, words in (
            (True, "to the grid by the frame's own factor there"),
            (False, "as they were measured"),
        ):
            choice(menu, words, partial(self._change, "Distances", grid=grid),
                   checked=setup is not None and setup.grid == grid)  # fmt: skip

    def _on_part(self, key: str) -> None:
        setup = self.setup
        if setup is not None and key == "height":
            self.ask.ask(
                "Height of the instrument over its mark, metres:", self._use_height,
                text=f"{setup.height_m:.4f}", button="Put it right",
            )  # fmt: skip

    def _use_height(self, text: str) -> bool:
        try:
            return self._change("Instrument height", height_m=parse_length(text))
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False

    def _toggle(self, row: _Row) -> None:
        following: dict[str, ShotUse] = {"held": "check", "check": "off", "off": "used", "new": "off"}
        self._use([row.number], following[row.part])

    def _use(self, rows: list[int], use: ShotUse) -> None:
        setup = self.setup
        if setup is not None and rows:
            self.bridge.do(set_use(setup, rows, use))

    # What the desk asks

    def focus(self) -> QWidget:
        return self.table

    def plan_step(self) -> Node | None:
        return self.node_of(self.setup)

    def select(self, name: str) -> None:
        self.table.pick(lambda row: row.target == name)

    def pick(self, names: set[str]) -> bool:
        self.table.pick_all(lambda row: row.target in names)
        return True

    def commands(self) -> Sequence[ActionSpec]:
        def some() -> bool:
            return self.isVisible() and bool(self.table.selected_rows())

        def spec(key: str, text: str, tip: str, run: Callable[[], object]) -> ActionSpec:
            return ActionSpec(
                id=f"setups.{key}", menu=self.stage.name, text=text, tip=tip, run=run, enabled=some
            )

        def use(word: ShotUse) -> None:
            self._use([row.number for row in self.table.selected_rows()], word)

        return (
            ActionSpec(id="setups.write", menu=self.stage.name, text="Write field work …",
                       tip="All setups as LandXML or CSV", run=self._write,
                       enabled=lambda: bool(self.bridge.state.of(Setup))),
            ActionSpec(id="setups.take", menu=self.stage.name, text="Take in a setup …",
                       tip="Sightings of one instrument from a list", run=self._choose_file),
            spec("use", "Let sightings take part", "They place the instrument", partial(use, "used")),
            spec("check", "Compare sightings only", "As checks, they take no part", partial(use, "check")),
            spec("off", "Leave sightings out", "They are kept and take no part", partial(use, "off")),
        )  # fmt: skip


def _checks_said(found: Placed) -> list[str]:
    out = []
    for i, part in enumerate(found.part):
        if part == "check":
            key = found.setup.target[i]
            e, n, h = _three(found.shots.position[:, i] - found.known[key].at)
            height = "" if math.isnan(h) else f", {mm(abs(h))} mm in height"
            out.append(
                f"The check on {found.names[key]} misses by {mm(math.hypot(e, n))} mm in plan{height}."
            )
    return out


def _box(row: _Row) -> bool | str:
    return "dashed" if row.part == "check" else row.part in ("held", "new")


def _tone(row: _Row) -> str:
    return "off" if row.part == "off" else ""


def _three(values: Any) -> tuple[float, float, float]:
    a, b, c = (float(v) for v in values)
    return a, b, c
