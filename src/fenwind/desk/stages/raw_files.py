"""The end of a session: raw files on the receivers, fetched into the job with their hashes, and deleted
there only when they are safe here."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any

from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QProgressBar, QPushButton, QVBoxLayout, QWidget

from fenwind.desk.cells import Column
from fenwind.desk.receivers import Receivers
from fenwind.desk.shell import WholeLabel, look
from fenwind.desk.table import RecordTable
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.devices import raw_files
from fenwind.devices.raw_files import RawFile, Status
from fenwind.devices.transport import Address, address
from fenwind.errors import FenwindError
from fenwind.exchange.files import write_bytes
from fenwind.job.file import Blob
from fenwind.job.job import Job
from fenwind.progress import Progress
from fenwind.quantities.numbers import format_fixed


@dataclass(frozen=True, kw_only=True)
class _Row:
    """A file of a receiver; hash: of the copy in the job, empty for none."""

    receiver: str
    file: RawFile
    hash: str


@dataclass(frozen=True, kw_only=True)
class _Found:
    """What the receivers say: how each is, and its files."""

    states: dict[str, Status]
    files: dict[str, list[RawFile]]


def origin_of(receiver: str, file: RawFile) -> str:
    """What the blob of a raw file says it comes from."""
    return f"raw file of the {receiver}, begun {file.time}"


def _compared(files: dict[str, list[RawFile]], job: Job) -> list[_Row]:
    """The files of receivers, each with the hash of what the job has of it."""
    out = []
    for receiver, some in files.items():
        for file in some:
            kept = job.file.blobs_of(origin_of(receiver, file))
            same = next((b.hash for b in kept if b.name == file.name and len(b.data) == file.size), "")
            out.append(_Row(receiver=receiver, file=file, hash=same))
    return out


def _proved(key: str, job: Job) -> None:
    """Read a raw file of the job back. Raises JobError where it is not what was kept."""
    job.file.blob(key)


def _ask(places: dict[str, Address], *, progress: Progress) -> _Found:
    states, files = {}, {}
    for name, where in places.items():
        progress.check()
        states[name], files[name] = raw_files.status(where), raw_files.listed(where)
    return _Found(states=states, files=files)


def _fetch(where: Address, name: str, *, progress: Progress) -> bytes:
    def told(done: int, total: int) -> None:
        progress.check()
        progress.report(done, total, name)

    return raw_files.fetched(where, name, told)


def _tell(act: Callable[..., object], *arguments: Any, progress: Progress) -> None:
    act(*arguments)


class RawFiles(QWidget):
    """Hidden until `open`."""

    def __init__(self, receivers: Receivers) -> None:
        super().__init__()
        self.devices, self.bridge = receivers, receivers.bridge
        self._runner = TaskRunner(self, "devices")
        self._states: dict[str, Status] = {}
        self._files: dict[str, list[RawFile]] = {}
        self._rows: list[_Row] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 4)
        column.setSpacing(7)
        self.note = WholeLabel("")
        look(self.note, "faint")
        self.table = RecordTable(_columns())
        self.table.setAccessibleName("Raw files")
        self.table.setMaximumHeight(150)
        row = QHBoxLayout()
        self.fetch, self.delete = QPushButton("Fetch all"), QPushButton("Delete what is safe")
        self.log, self.leave = QPushButton(""), QPushButton("Close")
        self.out = QPushButton("Save a copy …")
        self.out.setToolTip("Save a raw file of the job, byte for byte as it came from the receiver")
        look(self.fetch, "main")
        for button, run in (
            (self.fetch, self.fetch_all), (self.out, self.write_out), (self.delete, self.delete_safe),
            (self.log, self._toggle_log),
            (self.leave, self.hide),
        ):  # fmt: skip
            button.clicked.connect(run)
            if button is not self.fetch:
                look(button, "second")
            row.addWidget(button)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setFixedWidth(120)
        self.progress.hide()
        row.addWidget(self.progress)
        row.addStretch(1)
        column.addWidget(self.note)
        column.addWidget(self.table)
        column.addLayout(row)
        self.hide()

    def open(self) -> None:
        """Ask the receivers and show what they have."""
        self.show()
        self.note.setText("Asking the receivers.")
        self._show()
        self._again()

    def _places(self) -> dict[str, Address]:
        one = self.devices.equipment
        named = {"base": one.base_control, "rover": one.rover_control}
        return {key: address(text) for key, text in named.items() if text}

    def _again(self) -> None:
        try:
            places = self._places()
        except FenwindError as error:
            self.note.setText(error.one_line)
            return
        if not places:
            self.note.setText(
                "No control port is named: receivers without one keep their files to themselves."
            )
            return
        self._run(Task(_ask, places), self._on_found)

    def _run(self, task: Task, then: Callable[[Any], object]) -> None:
        task.signals.succeeded.connect(then)
        task.signals.failed.connect(self._on_failed)
        task.signals.progressed.connect(self._on_progress)
        task.signals.finished.connect(self.progress.hide)
        self._runner.start(task)

    def _on_progress(self, done: int, total: int, text: str) -> None:
        self.progress.setRange(0, max(total, 1))
        self.progress.setValue(done)
        self.progress.show()

    def _on_failed(self, error: Exception) -> None:
        said = error.one_line if isinstance(error, FenwindError) else repr(error)
        self.note.setText(f"That did not work: {said}.")

    def _on_found(self, found: _Found) -> None:
        self._states, self._files = found.states, found.files
        words = []
        for name, one in found.states.items():
            battery = "" if one.battery is None else f"battery {format_fixed(one.battery, 0)} %"
            storage = "" if one.storage_mb is None else f"{format_fixed(one.storage_mb, 1)} MB left"
            writes = f"writes {one.logging}" if one.logging else "writes no raw data"
            words.append(f"The {name}: {', '.join(w for w in (battery, storage, writes) if w)}.")
        self.note.setText(" ".join(words))
        self._show()

    def _show(self) -> None:
        """Show the receivers' files, and which of them the job has."""
        self.bridge.ask(partial(_compared, self._files), self._show_rows, meanwhile=True)

    def _show_rows(self, rows: list[_Row]) -> None:
        self._rows = rows
        self.table.records.set_rows(rows)
        self.fetch.setEnabled(any(not r.hash and r.file.size for r in rows))
        self.delete.setEnabled(any(r.hash for r in rows))
        self.out.setEnabled(any(r.hash for r in rows))
        logging = any(s.logging for s in self._states.values())
        self.log.setText("Stop writing raw data" if logging else "Write raw data")
        self.log.setVisible(bool(self._states))

    # What is done

    def fetch_all(self) -> None:
        """Fetch what is not in the job yet, one file after the other."""
        places = self._places()
        for row in self._rows:
            if not row.hash and row.file.size and row.receiver in places:
                task = Task(_fetch, places[row.receiver], row.file.name)
                self._run(task, partial(self._on_fetched, row))

    def _on_fetched(self, row: _Row, data: bytes) -> None:
        blob = Blob(name=row.file.name, origin=origin_of(row.receiver, row.file), data=data)
        self.bridge.ask(lambda job: job.file.append_blobs([blob]), lambda _: self._again(), meanwhile=True)

    def delete_safe(self) -> None:
        """Delete on the receivers what is in the job, read back there and proved by its hash."""
        places = self._places()
        for row in self._rows:
            if row.hash and row.receiver in places:
                delete = partial(self._delete, places[row.receiver], row)
                self.bridge.ask(partial(_proved, row.hash), delete, meanwhile=True)

    def _delete(self, where: Address, row: _Row, _: object) -> None:
        self._run(Task(_tell, raw_files.delete_kept, where, row.file, row.hash), lambda _: self._again())

    def write_out(self) -> None:
        """Write a raw file of the job, the one selected or the first, byte for byte."""
        chosen = [row for row in self.table.selected_rows() if row.hash] or [r for r in self._rows if r.hash]
        if not chosen:
            return
        path, _ = QFileDialog.getSaveFileName(self, "Write the raw file to", chosen[0].file.name)
        if not path:
            return
        said = f"{chosen[0].file.name} is written to {path}."
        self.bridge.ask(
            lambda job: write_bytes(path, job.file.blob(chosen[0].hash).data),
            lambda _: self.note.setText(said),
            meanwhile=True,
        )

    def _toggle_log(self) -> None:
        logging = any(s.logging for s in self._states.values())
        one, base = self.devices.equipment, self.devices.base
        for which, where in self._places().items():
            words = {"receiver": which, "base": base.name if base is not None else "no-base"}
            task = (
                Task(_tell, raw_files.stop_logging, where)
                if logging
                else Task(_tell, raw_files.start_logging, where, one.interval_s, one.naming, words)
            )
            self._run(task, lambda _: self._again())

    def shut_down(self) -> None:
        """Stop work under way."""
        self._runner.shut_down()


def _columns() -> list[Column]:
    return [
        Column(key="receiver", title="receiver", text=lambda r: r.receiver, width=74),
        Column(key="name", title="file", text=lambda r: r.file.name, width=190, whole=True),
        Column(
            key="time", title="begun", unit="UTC", width=132,
            text=lambda r: r.file.time[:16].replace("T", " "), value=lambda r: r.file.time,
        ),
        Column(
            key="size", title="size", unit="kB", right=True, width=80, value=lambda r: r.file.size / 1000.0,
            text=lambda r: format_fixed(r.file.size / 1000.0, 1),
        ),
        Column(
            key="kept", title="in the job", width=130, tip="SHA-256 of the copy in the job",
            text=lambda r: r.hash[:12] if r.hash else "not yet", tone=lambda r: "" if r.hash else "doubt",
            value=lambda r: r.hash,
        ),
    ]  # fmt: skip
