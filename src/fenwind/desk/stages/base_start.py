"""Starting a base on the Sessions stage: a sentence that says what it will stand on, and a worker that
averages its epochs, sets what it broadcasts and reads that back."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QVBoxLayout, QWidget

from fenwind.desk.askline import AskLine
from fenwind.desk.receivers import Receivers
from fenwind.desk.shell import PlainLabel, WholeLabel, look
from fenwind.desk.stages.antennas import fill_antennas
from fenwind.desk.statement import Statement, choice
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.devices.nmea_in import Epoch
from fenwind.devices.starting import averaged, with_broadcast
from fenwind.devices.transport import address
from fenwind.errors import FenwindError, ParseError
from fenwind.geodesy.antenna import Method, arithmetic, reduced
from fenwind.geodesy.geocentric import enu_axes, to_xyz
from fenwind.job.job import Job
from fenwind.job.session_gestures import antenna_height, check_base_name, standing_on, start_base
from fenwind.job.steps.base import antenna_model
from fenwind.job.steps.receiver_known import receiver_known
from fenwind.progress import Progress
from fenwind.quantities.lengths import format_length
from fenwind.quantities.numbers import counted, format_fixed
from fenwind.records.entries import Add
from fenwind.records.sessions import Antenna, BaseSetup
from fenwind.reports.fit_report import mm
from fenwind.reports.statement import Part

#: Epochs of an average unless somebody says otherwise, and seconds to wait for one.
EPOCHS, WAIT_S = 50, 30.0


@dataclass(frozen=True, kw_only=True)
class _Draft:
    name: str = ""
    mark: str = ""  # id of the known mark, empty for an average
    epochs: int = EPOCHS
    height_m: float | None = None
    method: Method = "vertical"
    antenna: str = ""


def _start(record: BaseSetup, places: dict[str, str], epochs: int, *, progress: Progress) -> BaseSetup:
    """In a worker: average, set, read back."""
    found = {key: address(text) if text else None for key, text in places.items()}

    def told(rows: list[Epoch]) -> None:
        progress.check()
        progress.report(len(rows), epochs, _running(rows))

    if record.word != "known":
        nmea = found["base"]
        if nmea is None:
            raise ParseError("an average needs the base's sentences", hint="Say where they come from")
        record = averaged(record, nmea, epochs, WAIT_S, told)
    progress.check()
    return with_broadcast(record, found["base_control"], found["corrections"], WAIT_S)


def _ways(rows: list[Epoch]) -> Any:
    """East, north, up (3, k) of epochs from their mean."""
    xyz = to_xyz(*np.array([(r.lat, r.lon, r.h) for r in rows]).T)
    return enu_axes(rows[0].lat, rows[0].lon) @ (xyz - xyz.mean(axis=1, keepdims=True))


def _running(rows: list[Epoch]) -> str:
    """The running mean's scatter and PDOP in words."""
    if not rows:
        return "waiting for the first epoch"
    e, n, u = _ways(rows).std(axis=1)
    pdop = f", PDOP {format_fixed(rows[-1].pdop, 1)}" if rows[-1].pdop is not None else ""
    return f"scatter E {mm(e)}, N {mm(n)}, H {mm(u)} mm{pdop}, {rows[-1].solution}"


class BaseStart(QWidget):
    """Hidden until `open`. toggled: it was opened or closed."""

    toggled = Signal()

    def __init__(self, receivers: Receivers, ask: AskLine, started: Callable[[str], object]) -> None:
        super().__init__()
        self.devices, self.bridge, self.ask, self._started = receivers, receivers.bridge, ask, started
        self.draft, self._known = _Draft(), {}  # type: _Draft, dict[str, str]
        self._runner = TaskRunner(self, "devices")
        self._task: Task | None = None
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 4)
        column.setSpacing(7)
        self.statement = Statement(small=True)
        self.statement.set_menus({"on": self._menu_on, "antenna": self._menu_antenna})
        self.statement.part_clicked.connect(self._on_part)
        self.note = WholeLabel("")
        look(self.note, "faint")
        row = QHBoxLayout()
        self.start, self.leave = QPushButton("Start it"), QPushButton("Leave it")
        look(self.start, "main")
        look(self.leave, "second")
        self.progress = PlainLabel("")
        for widget in (self.start, self.leave, self.progress):
            row.addWidget(widget)
        row.addStretch(1)
        self.start.clicked.connect(self._go)
        self.leave.clicked.connect(self._close)
        column.addWidget(self.statement)
        column.addWidget(self.note)
        column.addLayout(row)
        self.hide()

    def open(self) -> None:
        """Begin a draft."""
        bases = self.bridge.state.of(BaseSetup)
        taken = {b.name for b in bases.values()}
        name = next(f"D{k}" for k in range(1, len(bases) + 2) if f"D{k}" not in taken)
        models = [a.model for a in self.bridge.state.of(Antenna).values() if a.active]
        self.draft = _Draft(
            name=name, mark="", antenna=models[0] if len(models) == 1 else ""
        )  # fmt: skip
        self._known = {}
        self.bridge.ask(self._known_marks, self._on_known)
        self.show()
        self.toggled.emit()
        self.refresh()
        self.statement.parts["name"].setFocus()

    def _on_known(self, known: dict[str, str]) -> None:
        """Stand on the selected mark where that is known."""
        self._known, mark = known, self.bridge.mark()
        if mark is not None and mark.id in known:
            self.draft = replace(self.draft, mark=mark.id)
        self.refresh()

    def _known_marks(self, job: Job) -> dict[str, str]:
        """Names by id of the marks that a base's position can follow from; asked of the job's owner."""
        state, trial = job.state, job.state.snapshot()
        trial.apply(Add(record=BaseSetup(id="trial", name="trial")))  # what is known is asked for a base only
        found = self.bridge.solve(trial, receiver_known()).result or {}
        return {key: state.marks[key].name for key in found if key in state.marks}

    def refresh(self) -> None:
        """Show the draft."""
        if self.isHidden():
            return
        d, one = self.draft, self.devices.equipment
        height = (
            "not measured yet"
            if d.height_m is None
            else f"{format_length(d.height_m, decimals=4)} {d.method}"
        )
        average = f"an average of {counted(d.epochs, 'epoch')}"
        on = f"the known mark {self._known.get(d.mark, '?')}" if d.mark else average
        parts = [
            Part(text="Start base "), Part(text=d.name, key="name"),
            Part(text=" on "), Part(text=on, key="on"),
            Part(text=", its antenna "), Part(text=d.antenna or "without a model", key="antenna"),
            Part(text=" "), Part(text=height, key="height"),
        ]  # fmt: skip
        if not d.mark:
            parts += [
                Part(text="; its sentences from "),
                Part(text=one.base or "a place to name", key="base"),
            ]
        parts += [
            Part(text="; set through "), Part(text=one.base_control or "nothing", key="base_control"),
            Part(text=", read back from "), Part(text=one.corrections or "nowhere", key="corrections"),
            Part(text="."),
        ]  # fmt: skip
        self.statement.show_parts(parts)
        self.note.setText(self._note())
        busy = self._task is not None
        self.start.setVisible(not busy)
        self.leave.setText("Stop" if busy else "Leave it")

    def _note(self) -> str:
        d, one = self.draft, self.devices.equipment
        words = []
        if d.height_m is not None:
            try:
                found = antenna_model(self.bridge.state, d.antenna)
                words.append(f"Antenna: {arithmetic(d.height_m, d.method, found)}.")
            except FenwindError as error:
                words.append(f"Antenna: {error.one_line}.")
        if not one.base_control:
            words.append("Nothing sets what the base sends: it sends what its own panel says.")
        if not one.corrections:
            words.append("What it sends will not be read back, and is not known.")
        return " ".join(words)

    # What is done

    def _menu_on(self, menu: QMenu) -> None:
        average = f"an average of {counted(self.draft.epochs, 'epoch')} of its own"
        choice(menu, average, partial(self._on_part, "epochs"), checked=not self.draft.mark)
        menu.addSeparator()
        for key, name in list(self._known.items())[:30]:
            choice(
                menu,
                f"the known mark {name}",
                partial(self._change, mark=key),
                checked=key == self.draft.mark,
            )

    def _menu_antenna(self, menu: QMenu) -> None:
        fill_antennas(
            menu, self.bridge, self.ask, self.draft.antenna, lambda model: self._change(antenna=model)
        )

    def _change(self, **changes: Any) -> bool:
        self.draft = replace(self.draft, **changes)
        self.refresh()
        return True

    def _on_part(self, key: str) -> None:
        d, one = self.draft, self.devices.equipment
        height = "" if d.height_m is None else f"{d.height_m:.4f} {d.method}"
        places = "HOST:PORT or the path of a serial device"
        questions = {
            "name": ("What is the base called?", d.name),
            "height": ("Antenna height in metres, and how it was measured (vertical, slant, mount):", height),
            "epochs": ("How many epochs make the average?", f"{d.epochs}"),
            "base": (f"Where do the base's sentences come from? {places}", one.base),
            "base_control": (f"Where is the base's control port? {places}; empty for none", one.base_control),
            "corrections": (f"Where do the corrections come from? {places}, or ntrip://USER@HOST:PORT/NAME",
                            one.corrections),
        }  # fmt: skip
        question, text = questions[key]
        self.ask.ask(question, partial(self._answer, key), text=text, button="Use it")

    def _answer(self, key: str, text: str) -> bool:
        try:
            return self._use_answer(key, text.strip())
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False

    def _use_answer(self, key: str, text: str) -> bool:
        if key == "name":
            check_base_name(self.bridge.state, text)
            return self._change(name=text)
        if key == "height":
            height, method = antenna_height(text, self.draft.method)
            return self._change(height_m=height, method=method)
        if key == "epochs":
            if not text.isdigit() or not 0 < int(text) <= 100_000:
                raise ParseError(f"{text!r} is no number of epochs", hint="Give 1 or more")
            return self._change(epochs=int(text), mark="")
        if text:
            address(text)
        done = self.devices.set_equipment(**{key: text})
        self.refresh()
        return done

    def _go(self) -> None:
        try:
            record, mark = self._record(), self.bridge.state.marks.get(self.draft.mark)
        except FenwindError as error:
            self.bridge.tell_error(error)
            return
        if mark is None:
            self._begin(record)
        else:
            solve = self.bridge.solve
            self.bridge.ask(lambda job: standing_on(record, mark, job.state, solve), self._begin)

    def _begin(self, record: BaseSetup) -> None:
        one = self.devices.equipment
        places = {"base": one.base, "base_control": one.base_control, "corrections": one.corrections}
        task = Task(_start, record, places, self.draft.epochs)
        task.signals.progressed.connect(self._on_progress)
        task.signals.succeeded.connect(self._on_started)
        task.signals.failed.connect(self._on_failed)
        task.signals.finished.connect(self._on_finished)
        self._task = self._runner.start(task)
        self.bridge.hurry("base start")
        self.refresh()

    def _record(self) -> BaseSetup:
        """What is to be started. Raises FenwindError."""
        d, state = self.draft, self.bridge.state
        check_base_name(state, d.name)
        if d.height_m is None:
            raise ParseError("the base has no antenna height", hint="Measure it and say how")
        reduced(d.height_m, d.method, antenna_model(state, d.antenna))
        return BaseSetup(id="", name=d.name, antenna=d.antenna, height_m=d.height_m, method=d.method)

    def _on_progress(self, done: int, total: int, text: str) -> None:
        self.progress.setText(f"{done} of {total} epochs: {text}")

    def _on_started(self, record: BaseSetup) -> None:
        if self.bridge.attempt(lambda: start_base(self.bridge.state, record)):
            new = next(
                b for b in self.bridge.state.of(BaseSetup).values() if b.active and b.name == record.name
            )
            self.hide()
            self._started(new.id)

    def _on_failed(self, error: Exception) -> None:
        if isinstance(error, FenwindError):
            self.bridge.tell_error(error)
        else:
            self.bridge.told.emit(f"The base was not started: {error!r}.", "doubt")

    def _on_finished(self) -> None:
        self._task = None
        self.bridge.take_time("base start")
        self.progress.setText("")
        self.refresh()

    def _close(self) -> None:
        if self._task is not None:
            self._task.cancel()
        else:
            self.hide()
            self.toggled.emit()

    def shut_down(self) -> None:
        """Stop work under way."""
        self._runner.shut_down()
