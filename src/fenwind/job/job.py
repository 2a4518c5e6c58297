"""A job: its file, its records, and undo. The desk and the command line change a job only through this
door."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from secrets import token_hex

from fenwind.errors import FenwindError, JobError
from fenwind.job.checksums import EntryRow
from fenwind.job.entry_validation import check_entries, entry_rows, read_back
from fenwind.job.file import Blob, JobFile, StoredGesture
from fenwind.job.history import History
from fenwind.job.state import JobState
from fenwind.quiet import collection_paused
from fenwind.records.entries import (
    Add,
    Additions,
    Entry,
    Gesture,
    NewerEntryError,
    decode,
    decode_additions,
)
from fenwind.records.records import JobInfo, Record


def new_id() -> str:
    """An id for a new record, unique without asking anybody."""
    return token_hex(8)


class Job:
    """An open job. `state` is for reading; `record`, `undo` and `redo` change it, after the file has kept the
    change. What of the file could not be read is in `state.set_aside`."""

    def __init__(self, file: JobFile) -> None:
        """Read all entries of an open file. Raises JobError when a checksum says that one is not what was
        written."""
        self._file = file
        self.history = History()
        self.state.set_aside += tuple(file.problems)
        with collection_paused():
            for stored in file.read():
                kind = stored.entries[0][0]
                if kind == "undo":
                    self.history.step_back()
                elif kind == "redo":
                    self.history.step_forward()
                else:
                    self.history.note(Gesture(stored.what, self._read(stored)), stored.number)

    @property
    def state(self) -> JobState:
        """The records as they stand."""
        return self.history.state

    def _read(self, stored: StoredGesture) -> Sequence[Entry]:
        """Take in the entries of a gesture; those that cannot be read or applied are set aside, and what
        they were is told."""
        bodies: dict[str, list[str]] = {}
        for kind, _, body in stored.entries:
            bodies.setdefault(kind, []).append(body)
        if "amend" not in bodies:
            with contextlib.suppress(JobError):
                added = {kind: iter(decode_additions(kind, some)) for kind, some in bodies.items()}
                records = [next(added[kind]) for kind, _, _ in stored.entries]
                if not any(record.id in self.state.records for record in records):
                    self.state.apply_all(Additions(records))
                    return Additions(records)
        entries: list[Entry] = []
        for row in stored.entries:
            try:
                entry = self._decoded(*row)
                self.state.apply(entry)
            except (JobError, KeyError, TypeError, ValueError) as error:
                self._set_aside(stored, row[1], error)
            else:
                entries.append(entry)
        return tuple(entries)

    def _decoded(self, kind: str, subject: str, body: str) -> Entry:
        known = self.state.records.get(subject)
        if kind == "amend" and known is None:
            raise JobError(f"it changes {subject}, which was gone by then", hint="Look at what is there now")
        if kind.startswith("add ") and known is not None:
            raise JobError(f"a record {subject} is there already", hint="Look at what is there now")
        return decode(kind, subject, body, type(known) if known is not None else None)

    def _set_aside(self, stored: StoredGesture, subject: str, error: Exception) -> None:
        if isinstance(error, NewerEntryError):
            self._file.newer = self._file.read_only = True
        why = error.message if isinstance(error, FenwindError) else f"{error!r} ({subject})"
        self.state.set_aside += (f"gesture {stored.number}, {stored.what[:80]!r}: {why}",)

    @classmethod
    def open(cls, path: str | os.PathLike[str], read_only: bool = False) -> Job:
        """Open a job file. Raises JobError."""
        file = JobFile(path, read_only=read_only)
        try:
            return cls(file)
        except BaseException:
            file.close()
            raise

    @classmethod
    def create(
        cls, path: str | os.PathLike[str], name: str, records: Iterable[Record] = (), frame: str = ""
    ) -> Job:
        """Make a new job file with a name, first records and the id of the frame shown; undo does not take
        these away. Raises JobError."""
        job = cls(JobFile(path, create=True))
        job.record(
            "New job", [Add(record=JobInfo(name=name, frame=frame)), *(Add(record=r) for r in records)]
        )
        return job

    @property
    def path(self) -> str:
        """Where the file is."""
        return str(self._file.path)

    def record(
        self,
        what: str,
        entries: Iterable[Entry],
        blobs: Iterable[Blob] = (),
    ) -> None:
        """Keep one gesture and take it in. `what` names it for undo. Nothing happens for no entries.
        Raises JobError,
        then nothing changed."""
        entries = entries if isinstance(entries, Additions) else tuple(entries)
        if not entries:
            return
        check_entries(self.state, entries)
        self.record_rows(Gesture(what, entries), entry_rows(entries), blobs)

    def record_rows(self, gesture: Gesture, rows: Sequence[EntryRow], blobs: Iterable[Blob] = ()) -> None:
        """`record` for entries that are checked and written out already. Raises JobError, then nothing
        changed."""
        entries = read_back(self.state, gesture.entries, rows)
        number = self._file.append(_now(), gesture.what, rows, blobs)
        self.history.take(Gesture(gesture.what, entries), number)

    @property
    def undo_text(self) -> str:
        """What undo would take back, empty for nothing; the making of the job cannot be undone."""
        return self.history.undo_text

    @property
    def redo_text(self) -> str:
        """What redo would do again, empty for nothing."""
        return self.history.redo_text

    def undo(self) -> str:
        """Take the latest gesture back by an entry of its own and return its text, empty for nothing. Raises
        JobError."""
        text = self.undo_text
        if text:
            self._file.append(_now(), f"Undo {text}", [("undo", str(self.history.undo_number), "{}")])
            self.history.step_back()
        return text

    def redo(self) -> str:
        """Do the gesture undone last again and return its text, empty for nothing. Raises JobError."""
        text = self.redo_text
        if text:
            self._file.append(_now(), f"Redo {text}", [("redo", str(self.history.redo_number), "{}")])
            self.history.step_forward()
        return text

    @property
    def file(self) -> JobFile:
        """The file that keeps it."""
        return self._file

    def blob(self, key: str) -> Blob:
        """A raw file, a stream or a long series by its hash. Raises JobError."""
        return self._file.blob(key)

    @property
    def kept(self) -> str:
        """Where the file of an earlier format was kept when it became one of this, empty when it was one."""
        return str(self._file.kept) if self._file.kept.name else ""

    @property
    def read_only(self) -> bool:
        """Whether nothing can be kept in it."""
        return self._file.read_only

    @property
    def taken_away(self) -> bool:
        """Whether the job's file was deleted, moved or replaced while it is open; what was kept can still be
        copied."""
        return self._file.taken_away

    def copy_to(self, path: str | os.PathLike[str]) -> None:
        """Copy the job to a new file. Raises JobError."""
        self._file.copy_to(path)

    def close(self) -> None:
        """Let go of the file; everything is kept already."""
        self._file.close()


def _now() -> str:
    return datetime.now(UTC).isoformat(timespec="milliseconds")
