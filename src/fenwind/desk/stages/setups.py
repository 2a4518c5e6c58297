"""The Setups stage: an instrument said in a sentence, what it sighted with what each sighting leaves over,
and where what was not known came to lie."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import datetime
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QMenu, QPushButton, QWidget

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.instrument import LiveInstrument
from fenwind.desk.shell import PlainLabel, WholeLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.instrument_panel import InstrumentPanel
from fenwind.desk.stages.setup_rows import ONLY, Row, columns
from fenwind.desk.stages.sheet import RecordSheet
from fenwind.desk.stages.tools_asked import ask_keep, ask_observed_with, ask_tape, instrument_name
from fenwind.desk.standin_station import StandinStation
from fenwind.desk.statement import choice
from fenwind.desk.table import RecordTable
from fenwind.errors import FenwindError
from fenwind.exchange.field_book import is_field_book, read_setups, write_field_book
from fenwind.exchange.landxml_survey import write_field_work
from fenwind.exchange.setup_csv import read_sightings, setup_record
from fenwind.geodesy.axes import ShownAxis
from fenwind.job.setup_gestures import change, set_azimuth, set_use, take_setup, take_setups
from fenwind.job.steps.outcome import Node
from fenwind.job.steps.setup import Placed
from fenwind.job.steps.sightings import air_typed, air_values, options_of
from fenwind.procedures.resection import is_far
from fenwind.procedures.setup_figure import largest_gap, plan_sigma, with_one_more
from fenwind.quantities.angles import RAD_PER_SECOND, format_angle
from fenwind.quantities.bearings import parse_bearing
from fenwind.quantities.lengths import format_length, parse_length
from fenwind.quantities.numbers import counted, format_fixed
from fenwind.records.entries import Gesture
from fenwind.records.setups import Air, Setup, ShotUse
from fenwind.reports.fit_report import mm
from fenwind.reports.setup_words import (
    SCALES,
    TARGETS,
    air_words,
    checks_words,
    grid_words,
    rounds_words,
    scale_words,
)
from fenwind.reports.statement import Part

#: One more target is worth a word when it brings the sigma down to this part.
WORTH = 0.9


class SetupsSheet(RecordSheet):
    """See the module."""

    kind = "setup"

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self._waiting: Setup | None = None
        self.statement.set_menus(
            {"setup": self._menu_setup, "word": self._menu_word, "heights": self._menu_heights,
             "grid": self._menu_grid, "targets": self._menu_targets,
             "scale": self._menu_scale}
        )  # fmt: skip
        self.statement.part_clicked.connect(self._on_part)
        self.live = LiveInstrument(bridge)
        self.standin = StandinStation(self.live, self)
        self.standin.wants_place.connect(self.wants_place)
        self.instrument = InstrumentPanel(self.live, self.ask, self._known)
        self.instrument.begun.connect(self.look_at)
        self.verdict = WholeLabel("")
        self.column.addWidget(self.verdict)
        self.column.addWidget(self.instrument)
        self.empty = PlainLabel("")
        self.empty.setWordWrap(True)
        look(self.empty, "faint")
        self.first = QPushButton("Take in a setup …")
        look(self.first, "main")
        self.first.clicked.connect(self._choose_file)
        self.second = QPushButton("Work with an instrument …")
        look(self.second, "second")
        self.second.clicked.connect(self._use_instrument)
        self.table = RecordTable(columns(self.bridge, self._axes(self.setup), self._toggle))
        self.table.setAccessibleName("Sightings of the setup")
        self.table.row_picked.connect(lambda row: self.bridge.select(row.target))
        self.column.addWidget(self.empty)
        self.column.addWidget(self.first, 0, Qt.AlignmentFlag.AlignLeft)
        self.column.addWidget(self.second, 0, Qt.AlignmentFlag.AlignLeft)
        self.column.addWidget(self.table, 1)
        self.column.addStretch(0)

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
        self.first.setVisible(setup is None and not self.live.where)
        self.second.setVisible(setup is None and not self.live.where)
        for widget in (self.statement, self.verdict, self.table):
            widget.setVisible(setup is not None)
        if setup is None:
            self.instrument.refresh()
            self.caption.setText("SETUPS")
            self.empty.setText(self.stage.empty)
            return
        self.instrument.refresh()
        self.caption.setText(
            " · ".join(filter(None, (setup.name.upper(), instrument_name(self.bridge, setup))))
        )
        self.statement.show_parts(self._parts(setup, found))
        self.verdict.setText(self._verdict(setup, found))
        self.table.records.set_columns(columns(self.bridge, self._axes(self.setup), self._toggle))
        self.table.records.set_rows(self._rows(setup, found))

    def _parts(self, setup: Setup, found: Placed | FenwindError | None) -> list[Part]:
        state = self.bridge.state
        station = state.marks[setup.station].name if setup.station in state.marks else "a mark that is gone"
        frame = state.frames.get(setup.frame)
        grid = grid_words(setup.grid, found.factor if isinstance(found, Placed) else 1.0)
        word = "is placed by what it sighted" if setup.word == "free" else "stands on a known mark"
        return [
            Part(text="The instrument at "), Part(text=station, key="setup"), Part(text=" "),
            Part(text=word, key="word"), Part(text=f" in {frame.spec.name if frame else '?'}, "),
            Part(text=f"{format_length(setup.height_m, self.bridge.unit, 3)} high", key="height"),
            Part(text=", "),
            Part(text="heights too" if setup.heights else "in plan alone", key="heights"),
            Part(text=", distances "), Part(text=grid, key="grid"), Part(text=", "),
            Part(text=TARGETS[setup.targets], key="targets"), Part(text=", "),
            Part(text=SCALES[setup.scale], key="scale"), Part(text=", air "),
            Part(text=air_words(setup.air), key="air"), Part(text="."),
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
        words = [f"It stands at {place} {unit.key}"]
        if setup.word == "free":
            words.append(f" (± {mm(plan_sigma(f.covariance))} mm in plan)")
        if f.variance_factor is not None:
            words.append(f"; {f.dof} left over, variance factor {format_fixed(f.variance_factor, 2)}")
        words.append(scale_words(found))
        faces = [
            f"{name} {format_fixed(value / RAD_PER_SECOND, 1, sign=True)}″"
            for name, value in (("collimation", found.reduced.collimation), ("index", found.reduced.index))
            if not math.isnan(value)
        ]
        said = ["".join(words) + ".", *checks_words(found), rounds_words(found), self._figure(setup, found)]
        return " ".join(filter(None, said)) + (f" From both faces: {', '.join(faces)}." if faces else "")

    def _figure(self, setup: Setup, found: Placed) -> str:
        """The gap that the targets of a free setup leave, and the known mark that would bring most."""
        if setup.word != "free":
            return ""
        style = self.bridge.angle_style
        gap = largest_gap(found.case, found.found)
        said = f"Its targets leave a gap of {format_angle(gap, style, 0)}"
        said += ": it stands outside their net" if gap > math.pi else ""
        adopted = self.bridge.derived.adopted.get(setup.frame)
        places = np.stack([adopted.e_m, adopted.n_m]) if adopted is not None else np.zeros((2, 0))
        away = np.hypot(places[0] - found.found.e, places[1] - found.found.n)
        known = found.case.known[:2, ~is_far(found.case.known)]
        reach = 1.5 * float(np.hypot(*(known.T - [found.found.e, found.found.n]).T).max(initial=0.0))
        rows = [
            i for i in np.flatnonzero((away > 1.0) & (away <= reach)).tolist()
            if adopted is not None and adopted.basis[i] in ("given", "adjusted")
            and adopted.ids[i] not in (setup.station, *setup.target)
        ]  # fmt: skip
        if adopted is None or not rows:
            return f"{said}."
        sigma = np.nan_to_num(adopted.sigma_h_m[rows]) if setup.targets == "weighted" else np.zeros(len(rows))
        after = with_one_more(found.found, places[:, rows], sigma, options_of(setup, found.factor))
        best = int(after.argmin())
        if after[best] > WORTH * plan_sigma(found.found.covariance):
            return f"{said}; no other known mark would bring much."
        reached = mm(float(after[best]))
        return f"{said}; {adopted.names[rows[best]]} as well would bring it to ± {reached} mm."

    def _rows(self, setup: Setup, found: Placed | FenwindError | None) -> list[Row]:
        state, nan3, out, said = self.bridge.seen, (math.nan,) * 3, [], dict(setup.use)
        told = {row: "azimuth" for row, _ in setup.azimuths}
        for i, key in enumerate(setup.target):
            residual, away, place, part = nan3, nan3, nan3, "off" if said.get(i) == "off" else "open"
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
                Row(
                    number=i, target=name, part=part, direction=setup.direction_rad[i], residual=residual,
                    away=away, place=place,
                    only=told.get(i) or ONLY.get(said.get(i, ""), "") if part == "held" else "",
                    face=setup.face[i], round=setup.round[i] if setup.round else 0,
                    time=setup.time[i] if setup.time else "",
                )
            )  # fmt: skip
        return out

    # What is done

    def take(self, path: str, station: str, height_m: float) -> bool:
        """Take in the sightings of a file from an instrument over a mark."""

        def make() -> Gesture:
            record, b = setup_record(read_sightings(path, units=self.bridge.list_units), path), self.bridge
            return take_setup(b.state, record, station, height_m, b.frame_id, self._known())

        return self.take_in(Setup, make)

    def take_field_book(self, path: str) -> bool:
        """Take in the setups of a field book or of LandXML, which say themselves where they stood."""

        def make() -> Gesture:
            found = [
                replace(
                    setup_record(one.shots, path),
                    station=one.station,
                    height_m=one.height_m,
                    round=tuple(one.rounds),
                    time=tuple(one.times),
                )
                for one in read_setups(path, self.bridge.list_units).values()
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
                write_field_book(path, setups, names, self.bridge.unit)
            else:
                write_field_work(path, setups, names, datetime.now())
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        self.bridge.told.emit(f"{counted(len(setups), 'setup')} written to {path}.", "")
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
        choice(menu, "Work with an instrument …", self._use_instrument)

    def _use_instrument(self) -> None:
        self.bridge.show_stage(self.stage.name)
        self.instrument.ask_where()

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
            (True, "to the grid, each by its own line's factor"),
            (False, "as they were measured"),
        ):
            choice(menu, words, partial(self._change, "Distances", grid=grid),
                   checked=setup is not None and setup.grid == grid)  # fmt: skip

    def _menu_targets(self, menu: QMenu) -> None:
        setup = self.setup
        for word, words in TARGETS.items():
            choice(menu, words, partial(self._change, "How targets are known", targets=word),
                   checked=setup is not None and setup.targets == word,
                   tip="By their weights, marks that receivers measured take part as well"
                   if word == "weighted" else "")  # fmt: skip

    def _menu_scale(self, menu: QMenu) -> None:
        setup = self.setup
        for word, words in SCALES.items():
            choice(menu, words, partial(self._change, "Scale", scale=word),
                   checked=setup is not None and setup.scale == word,
                   tip="It hides what the residuals would have told" if word == "apply" else "")  # fmt: skip

    def _on_part(self, key: str) -> None:
        setup, unit = self.setup, self.bridge.unit
        if setup is None:
            return
        if key == "height":
            self.ask.ask(
                f"Height of the instrument over its mark, {unit.key}:", partial(self._answer, self._height),
                text=f"{setup.height_m / unit.metres:.4f}", button="Put it right",
            )  # fmt: skip
        else:
            now = "" if setup.air is None else ", ".join(f"{v:g}" for v in air_values(setup.air))
            self.ask.ask(
                "Air: °C, hPa, %, and the ppm that the instrument had applied; empty for no correction",
                partial(self._answer, self._air), text=now, placeholder="12, 1013, 60, 0",
                button="Correct for it",
            )  # fmt: skip

    def _answer(self, use: Callable[[str], bool], text: str) -> bool:
        try:
            return use(text)
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False

    def _height(self, text: str) -> bool:
        return self._change("Instrument height", height_m=parse_length(text, self.bridge.unit))

    def _air(self, text: str) -> bool:
        setup = self.setup
        if setup is None:
            return False
        air = air_typed(text, setup.air or Air(temperature_c=12.0, pressure_hpa=1013.25))
        return self._change("Air", air=air)

    def _sight_more(self) -> None:
        setup = self.setup
        if setup is not None:
            self.instrument.go_on(setup)

    def ask_azimuth(self) -> None:
        """Ask for the azimuth of the line that the selected sightings lead along."""
        rows, setup = self.table.selected_rows(), self.setup
        if not rows or setup is None:
            return
        self.ask.ask(
            f"Azimuth on the grid of the line to {rows[0].target}, or a bearing; empty for none:",
            partial(self._answer, partial(self._azimuth, setup, [row.number for row in rows])),
            button="Turn by it",
        )  # fmt: skip

    def _azimuth(self, setup: Setup, rows: list[int], text: str) -> bool:
        value = parse_bearing(text, self.bridge.angle_style) if text.strip() else None
        return self.bridge.do(set_azimuth(setup, rows, value))

    def _toggle(self, row: Row) -> None:
        following: dict[str, ShotUse] = {
            "held": "check",
            "check": "off",
            "off": "used",
            "new": "off",
            "open": "check",
        }
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
        self.instrument.look_at(name)

    def place_picked(self, e_m: float, n_m: float) -> None:
        self.standin.carry(e_m, n_m)

    def rover_moved(self, at: tuple[float, float] | None) -> None:
        self.instrument.rover = at

    def shut_down(self) -> None:
        self.live.shut_down()
        self.standin.shut_down()

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
            ActionSpec(id="setups.instrument", menu=self.stage.name, text="Work with an instrument …",
                       tip="A total station that is spoken to", run=self._use_instrument),
            ActionSpec(id="setups.measure", menu=self.stage.name, text="Measure the target",
                       tip="With the instrument that is set up", run=self.instrument.measure,
                       enabled=lambda: self.instrument.setup is not None),
            ActionSpec(id="setups.more", menu=self.stage.name, text="Sight more from this setup",
                       tip="With the instrument, where it still stands", run=self._sight_more,
                       enabled=lambda: bool(self.live.where) and self.setup is not None),
            ActionSpec(id="setups.keep", menu=self.stage.name, text="Keep this instrument …",
                       tip="Its sigmas, and the collimation and index that both faces gave",
                       run=lambda: ask_keep(self.bridge, self.ask, self.setup, self.found()),
                       enabled=lambda: self.setup is not None),
            ActionSpec(id="setups.with", menu=self.stage.name, text="Observed with an instrument …",
                       tip="One that is kept: what is known of it is taken off sightings in one face",
                       run=lambda: ask_observed_with(self.bridge, self.ask, self.setup),
                       enabled=lambda: self.setup is not None),
            ActionSpec(id="setups.tape", menu=self.stage.name, text="Keep a distance by tape …",
                       tip="From mark to mark; it takes part in everything observed",
                       run=partial(ask_tape, self.bridge, self.ask)),
            ActionSpec(id="setups.standin", menu=self.stage.name, text="Stand-in total station …",
                       tip="A simulated instrument to practise with", run=self.standin.open),
            spec("use", "Let sightings take part", "They place the instrument", partial(use, "used")),
            spec("plan", "Let sightings take part in plan alone", "Their heights say nothing",
                 partial(use, "plan")),
            spec("height", "Let sightings take part in height alone", "They place it in height only",
                 partial(use, "height")),
            spec("azimuth", "Azimuth of a sighting …", "It turns the circle, though nobody knows the mark",
                 self.ask_azimuth),
            spec("check", "Compare sightings only", "As checks, they take no part", partial(use, "check")),
            spec("off", "Leave sightings out", "They are kept and take no part", partial(use, "off")),
        )  # fmt: skip


def _three(values: Any) -> tuple[float, float, float]:
    a, b, c = (float(v) for v in values)
    return a, b, c
