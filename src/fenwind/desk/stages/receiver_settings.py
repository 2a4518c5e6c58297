"""What the receivers are set to, as a sentence whose parts can be clicked: masks, rate, raw files, messages
and the radio's channel."""

from __future__ import annotations

from datetime import UTC, datetime
from functools import partial

from PySide6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QVBoxLayout, QWidget

from fenwind.desk.askline import AskLine
from fenwind.desk.receivers import Receivers
from fenwind.desk.shell import WholeLabel, look
from fenwind.desk.statement import Statement, choice
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.devices.raw_files import raw_name
from fenwind.devices.settings import MESSAGE_SETS, RATES, Settings, set_receivers
from fenwind.devices.transport import Address, address
from fenwind.errors import FenwindError, ParseError
from fenwind.progress import Progress
from fenwind.quantities.numbers import parse_number
from fenwind.records.sessions import Equipment
from fenwind.reports.statement import Part

#: What is typed as a number: the field, the question, the least and the most.
NUMBERS = {
    "mask": ("mask_deg", "The lowest satellite that is used, degrees above the horizon:", 0.0, 60.0),
    "strength": ("strength_dbhz", "The weakest that is used, C/N0 in dB-Hz; 0 for any:", 0.0, 60.0),
    "interval": ("interval_s", "Seconds between raw epochs:", 1.0, 3600.0),
    "channel": ("channel", "Channel of the radio, 1 to 16, for base and rover:", 1, 16),
}


def _set(places: dict[str, Address], to: Settings, *, progress: Progress) -> tuple[str, ...]:
    progress.check()
    return set_receivers(places, to)


class ReceiverSettings(QWidget):
    """Hidden until `open`."""

    def __init__(self, receivers: Receivers, ask: AskLine) -> None:
        super().__init__()
        self.devices, self.bridge, self.ask = receivers, receivers.bridge, ask
        self._runner = TaskRunner(self, "devices")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 4)
        column.setSpacing(7)
        self.statement = Statement(small=True)
        self.statement.set_menus({"rate": self._menu_rate, "messages": self._menu_messages})
        self.statement.part_clicked.connect(self._on_part)
        self.note = WholeLabel("")
        look(self.note, "faint")
        row = QHBoxLayout()
        self.send, self.leave = QPushButton("Set the receivers"), QPushButton("Close")
        look(self.send, "main")
        look(self.leave, "second")
        self.send.clicked.connect(self._go)
        self.leave.clicked.connect(self.hide)
        row.addWidget(self.send)
        row.addWidget(self.leave)
        row.addStretch(1)
        column.addWidget(self.statement)
        column.addWidget(self.note)
        column.addLayout(row)
        self.hide()

    def open(self) -> None:
        """Show what they are to be set to."""
        self.show()
        self.refresh()
        self.statement.parts["mask"].setFocus()

    def refresh(self) -> None:
        """Show what the job says."""
        if self.isHidden():
            return
        one = self.devices.equipment
        strength = f"of {one.strength_dbhz:g} dB-Hz or more" if one.strength_dbhz else "of any strength"
        self.statement.show_parts(
            [
                Part(text="Receivers use satellites above "), Part(text=f"{one.mask_deg:g}°", key="mask"),
                Part(text=" "), Part(text=strength, key="strength"), Part(text="; the rover speaks "),
                Part(text=_times(one.rate_hz), key="rate"), Part(text=" a second; raw data every "),
                Part(text=f"{one.interval_s:g} s", key="interval"), Part(text=" go into "),
                Part(text=one.naming, key="naming"), Part(text="; the base sends "),
                Part(text=MESSAGE_SETS[one.message_set], key="messages"), Part(text=" on channel "),
                Part(text=f"{one.channel}", key="channel"), Part(text="."),
            ]
        )  # fmt: skip
        self.note.setText(f"A raw file begun now is called {_example(one)}.")
        self.send.setEnabled(bool(one.base_control or one.rover_control))
        if not (one.base_control or one.rover_control):
            self.note.setText("No control port is named: set the receivers by hand.")

    # What is done

    def _menu_rate(self, menu: QMenu) -> None:
        for rate in RATES:
            choice(menu, f"{_times(rate)} a second", partial(self._change, rate_hz=rate),
                   checked=rate == self.devices.equipment.rate_hz)  # fmt: skip

    def _menu_messages(self, menu: QMenu) -> None:
        for key, words in MESSAGE_SETS.items():
            choice(menu, words, partial(self._change, message_set=key),
                   checked=key == self.devices.equipment.message_set)  # fmt: skip

    def _change(self, **changes: object) -> bool:
        done = self.devices.set_equipment(**changes)
        self.refresh()
        return done

    def _on_part(self, key: str) -> None:
        one = self.devices.equipment
        if key == "naming":
            question = "Name of raw files, with {receiver}, {base}, {date}, {day} and {time} put in:"
            self.ask.ask(question, partial(self._answer, key), text=one.naming, button="Use it")
        elif key in NUMBERS:
            field, question, _, _ = NUMBERS[key]
            text = f"{getattr(one, field):g}"
            self.ask.ask(question, partial(self._answer, key), text=text, button="Use it")

    def _answer(self, key: str, text: str) -> bool:
        try:
            if key == "naming":
                raw_name(text, {"receiver": "rover", "base": "base"}, datetime.now(UTC))
                return self._change(naming=text.strip())
            return self._change(**{NUMBERS[key][0]: _number(key, text)})
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False

    def _go(self) -> None:
        one = self.devices.equipment
        named = {"base": one.base_control, "rover": one.rover_control}
        try:
            places = {key: address(place) for key, place in named.items() if place}
        except FenwindError as error:
            self.bridge.tell_error(error)
            return
        to = Settings(
            mask_deg=one.mask_deg, strength_dbhz=one.strength_dbhz, rate_hz=one.rate_hz,
            message_set=one.message_set, channel=one.channel,
        )  # fmt: skip
        task = Task(_set, places, to)
        task.signals.succeeded.connect(self._on_set)
        task.signals.failed.connect(self._on_failed)
        self._runner.start(task)

    def _on_set(self, done: tuple[str, ...]) -> None:
        self.bridge.told.emit(f"Set: {' and '.join(done)}.", "")
        self.hide()

    def _on_failed(self, error: Exception) -> None:
        self.bridge.told.emit(getattr(error, "sentences", repr(error)), "doubt")

    def shut_down(self) -> None:
        """Stop work under way."""
        self._runner.shut_down()


def _times(rate_hz: int) -> str:
    return {1: "once", 2: "twice"}.get(rate_hz, f"{rate_hz} times")


def _example(one: Equipment) -> str:
    try:
        return raw_name(one.naming, {"receiver": "rover", "base": "D1"}, datetime.now(UTC))
    except FenwindError as error:
        return f"nothing: {error.one_line}"


def _number(key: str, text: str) -> float | int:
    """A number of the sentence as typed. Raises ParseError."""
    field, _, least, most = NUMBERS[key]
    value = parse_number(text)
    if not least <= value <= most or (field == "channel" and value != int(value)):
        raise ParseError(f"{text.strip()!r} will not do", hint=f"From {least:g} to {most:g}")
    return int(value) if field == "channel" else value
