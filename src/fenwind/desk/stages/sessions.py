"""The Sessions stage: a base said in a sentence whose parts can be clicked, and all occupations side by
side."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QMenu, QPushButton, QWidget

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.desk.receivers import Receivers
from fenwind.desk.shell import PlainLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.base_start import BaseStart
from fenwind.desk.stages.raw_files import RawFiles
from fenwind.desk.stages.receiver_settings import ReceiverSettings
from fenwind.desk.stages.rover_panel import RoverPanel
from fenwind.desk.stages.sheet import Sheet
from fenwind.desk.standin_panel import StandinPanel
from fenwind.desk.statement import choice
from fenwind.desk.table import RecordTable
from fenwind.errors import FenwindError
from fenwind.exchange.files import write_text
from fenwind.exchange.rover_list import read_rover_list, rover_list_csv
from fenwind.geodesy.antenna import arithmetic
from fenwind.job import session_gestures as gestures
from fenwind.job.job import Job
from fenwind.job.measuring import finished, kept_rows, settled
from fenwind.job.rover_lists import TakenIn, listed, occupations_from
from fenwind.job.session_view import known_of, rover_of, ways_between
from fenwind.job.state import JobState
from fenwind.job.steps.base import antenna_model
from fenwind.procedures.rover import Point
from fenwind.quantities.lengths import format_length, format_way
from fenwind.quantities.numbers import counted, format_fixed
from fenwind.records.entries import Gesture
from fenwind.records.sessions import BaseSetup, Occupation
from fenwind.reports.fit_report import mm
from fenwind.reports.statement import Part

#: How several occupations of a mark count.
WEIGHTS = {"equal": "alike", "covariance": "by their covariance", "pdop": "by their PDOP"}
#: Departures are drawn against this, plan and height, metres.
SEEN_H_M, SEEN_V_M = 0.015, 0.025


@dataclass(frozen=True, slots=True, kw_only=True)
class _Row:
    """One occupation; its departures from the mark's position east, north, up in metres, nan without."""

    one: Occupation
    mark: str
    base: str
    part: str
    away: tuple[float, float, float]


class SessionsSheet(Sheet):
    """See the module."""

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self._base = ""
        self.statement.set_menus(
            {"base": self._menu_base, "word": self._menu_word, "weights": self._menu_weights}
        )
        self.statement.part_clicked.connect(self._on_part)
        self.note = PlainLabel("")
        self.note.setWordWrap(True)
        look(self.note, "faint")
        self.column.addWidget(self.note)
        self.devices = Receivers(bridge)
        self.start = BaseStart(self.devices, self.ask, self._look_at)
        self.rover = RoverPanel(self.devices, self.ask)
        self.standins = StandinPanel(self.devices, self)
        self.standins.wants_place.connect(self.wants_place)
        self.rover.rover_at.connect(self.rover_at)
        self.devices.changed.connect(self._show_note)
        self.rover.live_said.connect(self.live_said)
        self.settings = ReceiverSettings(self.devices, self.ask)
        self.start.toggled.connect(self.refresh)
        self.column.addWidget(self.start)
        self.column.addWidget(self.settings)
        self.column.addWidget(self.rover)
        self.raw = RawFiles(self.devices)
        self.column.addWidget(self.raw)
        self.first = QPushButton("Start a base")
        look(self.first, "main")
        self.first.clicked.connect(self.start.open)
        self.column.addWidget(self.first, 0, Qt.AlignmentFlag.AlignLeft)
        self.table = RecordTable(self._columns())
        self.table.setAccessibleName("Occupations")
        self.table.row_picked.connect(lambda row: self.bridge.select(row.mark))
        self.column.addWidget(self.table, 1)
        self.column.addStretch(0)

    def _columns(self) -> list[Column]:
        def way(k: int, title: str) -> Column:
            limit = SEEN_V_M if k == 2 else SEEN_H_M
            return Column(
                key=f"d{k}", title=title, unit="mm", right=True, width=70,
                text=lambda r: mm(r.away[k], sign=True), value=lambda r: r.away[k] * 1000.0,
                bar=lambda r: r.away[k] / limit,
                tone=lambda r: "doubt" if abs(r.away[k]) > limit else "",
                tip="From the mark's position",
            )  # fmt: skip

        return [
            Column(
                key="use", title="use", width=44, box=lambda r: "dashed" if r.one.check else r.part == "used",
                toggle=lambda r: self._toggle(r), tip="Click to leave it out, take it in, or finish it",
            ),
            Column(
                key="mark", title="mark", text=lambda r: r.mark, tone=lambda r: "bold", whole=True, width=60
            ),
            Column(key="base", title="base", text=lambda r: r.base, whole=True, width=52),
            way(0, "ΔE"), way(1, "ΔN"), way(2, "ΔH"),
            Column(
                key="height", title="antenna", unit="m", right=True, width=112,
                text=lambda r: f"{format_fixed(r.one.height_m, 4)} {r.one.method}",
                value=lambda r: r.one.height_m, edit=self._edit_height,
                tip="As it was measured: a number and vertical, slant or mount",
            ),
            Column(
                key="part", title="state", text=lambda r: r.part, width=92,
                tone=lambda r: "doubt" if r.part == "unfinished" else "" if r.part == "used" else "faint",
            ),
            Column(
                key="start", title="start", unit="UTC", width=138,
                text=lambda r: r.one.started[:16].replace("T", " "), value=lambda r: r.one.started,
            ),
            Column(
                key="epochs", title="epochs", text=lambda r: f"{r.one.epochs}", right=True, width=66,
                value=lambda r: r.one.epochs,
            ),
            Column(
                key="solution", title="solution", text=lambda r: r.one.solution, width=88,
                tone=lambda r: "" if r.one.solution == "fixed" else "doubt",
            ),
            Column(
                key="pdop", title="PDOP", right=True, width=62, value=lambda r: r.one.pdop,
                text=lambda r: "" if r.one.pdop is None else format_fixed(r.one.pdop, 1),
            ),
        ]  # fmt: skip

    # What is shown

    @property
    def base(self) -> BaseSetup | None:
        """The base looked at."""
        every = self._bases()
        return next((b for b in every if b.id == self._base), every[0] if every else None)

    def _bases(self) -> list[BaseSetup]:
        found = [b for b in self.bridge.state.of(BaseSetup).values() if b.active]
        return sorted(found, key=lambda b: b.started)

    def pieces(self) -> Sequence[Callable[[], object]]:
        return self._shown if self.isVisible() else ()

    def show_job(self) -> None:
        for piece in self._shown:
            piece()

    @property
    def _shown(self) -> tuple[Callable[[], object], ...]:
        return self._show_panels, self.rover.refresh, self._show_base

    def _show_panels(self) -> None:
        self.caption.setText("SESSIONS")
        base = self.base
        self.table.setVisible(base is not None)
        self.rover.setVisible(base is not None)
        self.first.setVisible(base is None and self.start.isHidden())
        self.start.refresh()
        self.settings.refresh()

    def _show_base(self) -> None:
        base = self.base
        if base is None:
            self.statement.show_parts([Part(text="No base was started yet.")])
            self.note.setText(self.stage.empty)
            return
        self.statement.show_parts(self._parts(base))
        self.note.setText(self._note(base))
        self._show_note()
        self.table.records.update_rows(self._rows())

    def _show_note(self) -> None:
        # While a rover is listened to, it needs the room.
        self.note.setVisible(self.base is None or not self.devices.listening)
        self.statement.set_small(self.base is not None and self.devices.listening)

    def _parts(self, base: BaseSetup) -> list[Part]:
        state = self.bridge.state
        count = sum(o.base == base.id for o in state.of(Occupation).values())
        height = format_length(base.height_m, decimals=4)
        return [
            Part(text="Base "), Part(text=base.name, key="base"), Part(text=" stands on "),
            Part(text=_word(state, base), key="word"), Part(text=", its antenna "),
            Part(text=f"{height} {base.method}", key="height"),
            Part(text=f"; {_many(count)} from it."),
            *(self._weight_parts()),
        ]  # fmt: skip

    def _note(self, base: BaseSetup) -> str:
        state = self.bridge.state
        placed = rover_of(self.bridge.derived).bases.get(base.id)
        try:
            words = f"Antenna: {arithmetic(base.height_m, base.method, antenna_model(state, base.antenna))}."
        except FenwindError as error:
            words = f"Antenna: {error.one_line}."
        if placed is None:
            return f"{words} It is nowhere yet."
        e, n, u = (math.sqrt(max(v, 0.0)) for v in placed.ground.covariance().diagonal())
        day = base.started[:16].replace("T", " ")
        return (
            f"Started {day} UTC. {words} Its mark is known to {format_way(math.hypot(e, n) / math.sqrt(2.0))}"
            f" in plan and {format_way(u)} in height (one sigma)."
        )

    def _rows(self) -> list[_Row]:
        state, derived = self.bridge.seen, self.bridge.derived
        rover, known, bases, marks = rover_of(derived), known_of(derived), state.of(BaseSetup), state.marks
        shown = sorted(
            (o for o in state.of(Occupation).values() if o.mark in marks and o.base in bases),
            key=lambda o: o.started,
        )
        used, here = {key for ids in rover.used.values() for key in ids}, self.bridge.under_way()
        compared: dict[str, tuple[Point, Point]] = {}
        for one in shown:
            point, mean = rover.each.get(one.id), rover.marks.get(one.mark)
            reference = known.get(one.mark, mean)
            # The only one of a mark is the mark's position: there is nothing to compare it with.
            alone = one.id in used and len(rover.used[one.mark]) == 1 and reference is mean
            if point is not None and reference is not None and not alone:
                compared[one.id] = point, reference
        ways = ways_between(*zip(*compared.values(), strict=True)).T.tolist() if compared else []
        away = dict(zip(compared, ways, strict=True))
        nowhere = (math.nan, math.nan, math.nan)
        return [
            _Row(
                one=one, mark=marks[one.mark].name, base=bases[one.base].name,
                away=tuple(away.get(one.id, nowhere)), part=_part(one, one.id in used, here),
            )
            for one in shown
        ]  # fmt: skip

    # What is done

    def _menu_base(self, menu: QMenu) -> None:
        for base in self._bases():
            words = f"{base.name}, {base.started[:10]}, {_word(self.bridge.state, base)}"
            choice(menu, words, partial(self._look_at, base.id), checked=base is self.base)
        menu.addSeparator()
        choice(menu, "Start another base", self.start.open)

    def _weight_parts(self) -> list[Part]:
        """How several occupations of a mark count, where some mark has several."""
        if all(len(ids) < 2 for ids in rover_of(self.bridge.derived).used.values()):
            return []
        words = WEIGHTS[self.devices.equipment.weights]
        return [Part(text=" Several of a mark count "), Part(text=words, key="weights"), Part(text=".")]

    def _menu_weights(self, menu: QMenu) -> None:
        now = self.devices.equipment.weights
        for word, words in WEIGHTS.items():
            choice(menu, words, partial(self.devices.set_equipment, weights=word), checked=word == now)

    def _look_at(self, key: str) -> None:
        self._base = self.devices.base_id = key
        self.show_job()

    def _menu_word(self, menu: QMenu) -> None:
        base, state = self.base, self.bridge.state
        if base is None:
            return
        if base.average_lat_rad is not None:
            average = f"the average of {counted(base.average_epochs, 'epoch')}"
            choice(menu, average, partial(self._stand, base, "average"), checked=base.word == "average")
        ties = dict.fromkeys(o.mark for o in state.of(Occupation).values() if o.base == base.id and o.active)
        for key in ties:
            if key in state.marks:
                choice(
                    menu, f"a tie: {state.marks[key].name} was measured from it",
                    partial(self._stand, base, "tie", key), checked=(base.word, base.mark) == ("tie", key),
                )  # fmt: skip
        menu.addSeparator()
        for key in list(known_of(self.bridge.derived))[:30]:
            if key in state.marks:
                choice(
                    menu, f"the known mark {state.marks[key].name}", partial(self._stand, base, "known", key),
                    checked=(base.word, base.mark) == ("known", key),
                )  # fmt: skip

    def _stand(self, base: BaseSetup, word: str, key: str = "") -> None:
        mark = self.bridge.state.marks.get(key)
        self.bridge.do(gestures.stand_on(base, word, mark))  # type: ignore[arg-type]

    def _on_part(self, key: str) -> None:
        base = self.base
        if key != "height" or base is None:
            return
        self.ask.ask(
            f"Antenna height of {base.name}, metres, and how it was measured (vertical, slant, mount):",
            lambda text: self.bridge.attempt(lambda: gestures.set_height(self.bridge.state, base, text)),
            text=f"{base.height_m:.4f} {base.method}", button="Put it right",
        )  # fmt: skip

    def _edit_height(self, row: _Row, text: str) -> bool:
        return self.bridge.attempt(lambda: gestures.set_height(self.bridge.state, row.one, text))

    def _toggle(self, row: _Row) -> None:
        if not row.one.finished:
            self._finish(row.one)
        else:
            self.bridge.do(gestures.set_active([row.one], not row.one.active))

    def _finish(self, one: Occupation) -> None:
        def make(job: Job) -> Gesture:
            done = finished(one, kept_rows(job.file, one.id), None)
            return Gesture("Finish an occupation", (settled(job.state, done),))

        self.bridge.propose(make)

    def _selected(self) -> list[Occupation]:
        return [row.one for row in self.table.selected_rows()]

    def _tie_selected(self) -> None:
        for one in self._selected()[:1]:
            base = self.bridge.state.of(BaseSetup).get(one.base)
            if base is not None:
                self._stand(base, "tie", one.mark)

    def _choose_list(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self, "A rover's list", self.bridge.folder, "CSV (*.csv *.txt);;All files (*)"
        )
        if path:
            self.take_list(path)

    def take_list(self, path: str) -> bool:
        """Take in the occupations of a list."""
        try:
            rows = read_rover_list(path, self.bridge.list_units)
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        taken: list[TakenIn] = []

        def make(job: Job) -> Gesture:
            taken.append(occupations_from(job.state, self.bridge.solve, rows, Path(path).name))
            return taken[0].gesture

        def tell(_: object) -> None:
            again = f"; {taken[0].there} were in the job already" if taken[0].there else ""
            self.bridge.tell_then(f"Taken in: {counted(taken[0].new, 'occupation')}{again}.")

        self.bridge.propose(make, tell)
        return True

    def _write_list(self) -> None:
        path, _ = QFileDialog.getSaveFileName(
            self, "Write the occupations", f"{self.bridge.folder}/occupations.csv", "CSV (*.csv)"
        )
        if path:
            self.write_list(path)

    def write_list(self, path: str) -> bool:
        """Write every finished occupation with its vector."""
        rows = listed(self.bridge.state, self.bridge.derived)
        try:
            write_text(path, rover_list_csv(rows, self.bridge.unit))
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        self.bridge.told.emit(f"Written: {counted(len(rows), 'occupation')} to {path}.", "")
        return True

    # What the desk asks

    def focus(self) -> QWidget:
        return self.table

    def select(self, name: str) -> None:
        self.table.pick(lambda row: row.mark == name)
        self.rover.look_at(name)

    def shut_down(self) -> None:
        self.settings.shut_down()
        self.start.shut_down()
        self.raw.shut_down()
        self.devices.stop()
        self.standins.shut_down()

    def place_picked(self, e_m: float, n_m: float) -> None:
        self.standins.carry(e_m, n_m)

    def pick(self, names: set[str]) -> bool:
        self.table.pick_all(lambda row: row.mark in names)
        return True

    def commands(self) -> Sequence[ActionSpec]:
        def some() -> bool:
            return self.isVisible() and bool(self._selected())

        def spec(key: str, text: str, tip: str, run: Callable[[], object]) -> ActionSpec:
            return ActionSpec(
                id=f"sessions.{key}", menu=self.stage.name, text=text, tip=tip, run=run, enabled=some
            )

        def use(active: bool) -> None:
            self.bridge.do(gestures.set_active(self._selected(), active))

        def check(on: bool) -> None:
            self.bridge.do(gestures.set_check(self._selected(), on))

        def always(key: str, text: str, tip: str, run: Callable[[], object]) -> ActionSpec:
            return ActionSpec(id=f"sessions.{key}", menu=self.stage.name, text=text, tip=tip, run=run)

        def shown(run: Callable[[], object]) -> Callable[[], object]:
            def first() -> None:
                self.bridge.show_stage(self.stage.name)
                run()

            return first

        return (
            always("start", "Start a base", "On a known mark, or on an average of its own",
                   shown(self.start.open)),
            always("listen", "Listen to the rover", "Begin, or stop", shown(self.rover.toggle_listening)),
            always("measure", "Measure a mark", "With the rover that is listened to",
                   shown(self.rover.begin)),
            always("end", "End the session", "Raw files on the receivers, fetched and made safe",
                   shown(self.raw.open)),
            always("settings", "Set the receivers …", "Masks, rate, raw files, messages, radio channel",
                   shown(self.settings.open)),
            always("take", "Take in a rover's list …", "Occupations as CSV, with their bases",
                   shown(self._choose_list)),
            always("write", "Write the occupations …", "All vectors with their covariances as CSV",
                   shown(self._write_list)),
            always("standins", "Stand-in receivers …", "Simulated receivers to practise with",
                   self.standins.open),
            spec("tie", "Tie the base to this mark", "The base then lies so that the mark agrees",
                 self._tie_selected),
            spec("out", "Leave occupations out", "They are kept and take no part", partial(use, False)),
            spec("in", "Use occupations again", "They take part in the mean", partial(use, True)),
            spec("check", "Compare occupations only", "As checks, they take no part", partial(check, True)),
            spec("part", "Let checks take part", "As further occupations", partial(check, False)),
        )  # fmt: skip


def _many(count: int) -> str:
    if not count:
        return "nothing follows yet"
    return f"{counted(count, 'occupation')} follow{'s' if count == 1 else ''}"


def _word(state: JobState, base: BaseSetup) -> str:
    name = state.marks[base.mark].name if base.mark in state.marks else "a mark that is gone"
    return {
        "known": f"the known mark {name}",
        "average": f"the average of {counted(base.average_epochs, 'epoch')}",
        "tie": f"a tie to {name}",
        "place": "a place that was typed",
    }[base.word]


def _part(one: Occupation, used: bool, here: str) -> str:
    if not one.finished:
        return "measuring" if one.id == here else "unfinished"
    if not one.active:
        return "left out"
    return "check" if one.check else "used" if used else "not used"
