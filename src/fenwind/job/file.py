"""The job file: one SQLite database that is only ever appended to.

Every gesture is committed, with the disk told to keep it, before the caller goes on; so there is nothing to
save, and a killed process loses no committed entry. The layout is described in docs/formats/job.md.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

from fenwind.errors import JobError

APPLICATION_ID = 0x46574A42  # "FWJB"
SCHEMA_VERSION = 2
_SCHEMA = """
CREATE TABLE gestures (id INTEGER PRIMARY KEY, at TEXT NOT NULL, what TEXT NOT NULL) STRICT;
CREATE TABLE entries (
  seq INTEGER PRIMARY KEY, gesture INTEGER NOT NULL REFERENCES gestures (id),
  kind TEXT NOT NULL, subject TEXT NOT NULL, body TEXT NOT NULL) STRICT;
"""
_KEPT = """CREATE TRIGGER {table}_{word} BEFORE {deed} ON {table}
BEGIN SELECT RAISE(ABORT, 'the ledger is only appended to'); END"""


@dataclass(frozen=True, slots=True, kw_only=True)
class StoredGesture:
    """One gesture as stored: when (ISO 8601, UTC), what in words, and its entries as (kind, subject,
    body)."""

    number: int
    at: str
    what: str
    entries: tuple[tuple[str, str, str], ...]


class JobFile:
    """An open job file, held exclusively while it is open."""

    def __init__(self, path: str | os.PathLike[str], *, create: bool = False) -> None:
        """Open or create. Raises JobError with the reason and what to do; a file that cannot be used is left
        untouched."""
        self.path = Path(path)
        _check_place(self.path, create)
        try:
            # A worker opens the job and the window's thread goes on with it; never both at once.
            self._db = sqlite3.connect(self.path, timeout=0.3, isolation_level=None, check_same_thread=False)
        except sqlite3.Error as error:
            raise _explained(error, self.path) from error
        try:
            if create:
                self._create()
            else:
                self._verify()
            self._db.execute("PRAGMA synchronous=FULL")
            self._db.execute("PRAGMA foreign_keys=ON")
        except (sqlite3.Error, JobError) as error:
            self._db.close()
            raise error if isinstance(error, JobError) else _explained(error, self.path) from error

    def _lock(self) -> None:
        self._db.execute("PRAGMA locking_mode=EXCLUSIVE")
        self._db.execute("BEGIN EXCLUSIVE")

    def _create(self) -> None:
        self._lock()
        for statement in _SCHEMA.split(";\n"):
            if statement.strip():
                self._db.execute(statement)
        for table in ("gestures", "entries"):
            for word, deed in (("kept", "DELETE"), ("fixed", "UPDATE")):
                self._db.execute(_KEPT.format(table=table, word=word, deed=deed))
        self._db.execute(f"PRAGMA application_id={APPLICATION_ID}")
        self._db.execute(f"PRAGMA user_version={SCHEMA_VERSION}")
        self._db.execute("COMMIT")

    def _verify(self) -> None:
        self._lock()
        self._db.execute("COMMIT")
        (application,) = self._db.execute("PRAGMA application_id").fetchone()
        (version,) = self._db.execute("PRAGMA user_version").fetchone()
        if application != APPLICATION_ID:
            raise JobError(
                "this is not a Fenwind job", where=str(self.path), hint="Choose a file that Fenwind made"
            )
        if version > SCHEMA_VERSION:
            raise JobError(
                f"the job was made by a newer Fenwind (format {version}, this one reads {SCHEMA_VERSION})",
                where=str(self.path),
                hint="Update Fenwind to open it; nothing was changed",
            )
        (answer,) = self._db.execute("PRAGMA quick_check(1)").fetchone()
        if answer != "ok":
            raise JobError(
                f"the job file is damaged ({answer})", where=str(self.path), hint="Open a copy from a backup"
            )

    def read(self) -> Iterator[StoredGesture]:
        """All gestures in order. Raises JobError when the file cannot be read to its end."""
        try:
            rows = self._db.execute(
                "SELECT g.id, g.at, g.what, e.kind, e.subject, e.body FROM gestures g JOIN entries e ON "
                "e.gesture = g.id ORDER BY e.seq"
            )
            number, at, what = -1, "", ""
            entries: list[tuple[str, str, str]] = []
            for gesture, gesture_at, gesture_what, *entry in rows:
                if gesture != number and number >= 0:
                    yield StoredGesture(number=number, at=at, what=what, entries=tuple(entries))
                    entries = []
                number, at, what = gesture, gesture_at, gesture_what
                entries.append((entry[0], entry[1], entry[2]))
            if number >= 0:
                yield StoredGesture(number=number, at=at, what=what, entries=tuple(entries))
        except sqlite3.Error as error:
            raise _explained(error, self.path) from error

    def append(self, at: str, what: str, entries: Iterable[tuple[str, str, str]]) -> int:
        """Commit one gesture, whole or not at all, and return its number. Raises JobError when it could not
        be kept."""
        try:
            self._db.execute("BEGIN")
            # Version 2 only has more kinds of record: a file of version 1 becomes one with the first gesture
            # that may hold them.
            self._db.execute(f"PRAGMA user_version={SCHEMA_VERSION}")
            cursor = self._db.execute("INSERT INTO gestures (at, what) VALUES (?, ?)", (at, what))
            number = int(cursor.lastrowid or 0)
            rows = ((number, *entry) for entry in entries)
            self._db.executemany(
                "INSERT INTO entries (gesture, kind, subject, body) VALUES (?, ?, ?, ?)", rows
            )
            self._db.execute("COMMIT")
        except sqlite3.Error as error:
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            raise _explained(error, self.path) from error
        return number

    def copy_to(self, path: str | os.PathLike[str]) -> None:
        """Copy the job, consistent, to a new file. Raises JobError."""
        if Path(path).exists():
            raise JobError(
                "a file of that name is there already", where=str(path), hint="Choose another name"
            )
        try:
            with sqlite3.connect(path) as target:
                self._db.backup(target)
            target.close()
        except sqlite3.Error as error:
            raise _explained(error, Path(path)) from error

    def close(self) -> None:
        """Let go of the file."""
        self._db.close()


def _check_place(path: Path, create: bool) -> None:
    if create:
        if path.exists():
            raise JobError(
                "a file of that name is there already",
                where=str(path),
                hint="Open it, or choose another name",
            )
        if not path.parent.is_dir():
            raise JobError(
                "the folder does not exist", where=str(path.parent), hint="Create the folder first"
            )
        return
    if not path.is_file():
        raise JobError("there is no such job file", where=str(path), hint="Check the name and the folder")
    if path.stat().st_size == 0:
        raise JobError("the file is empty", where=str(path), hint="Open a copy from a backup")
    if not path.stat().st_mode & 0o222 or not os.access(path, os.W_OK) or not os.access(path.parent, os.W_OK):
        raise JobError(
            "the job is read-only, so nothing could be kept",
            where=str(path),
            hint="Copy it to a folder you may write to and open the copy",
        )


def _explained(error: sqlite3.Error, path: Path) -> JobError:
    """SQLite's reason in the user's words."""
    name = getattr(error, "sqlite_errorname", "") or ""
    where = str(path)
    if name.startswith(("SQLITE_BUSY", "SQLITE_LOCKED")):
        return JobError("the job is open in another window", where=where, hint="Close it there first")
    if name.startswith("SQLITE_FULL"):
        return JobError(
            "the disk is full; the last change was not kept",
            where=where,
            hint="Free some space and do it again",
        )
    if name.startswith("SQLITE_READONLY"):
        return JobError(
            "the job became read-only; the last change was not kept",
            where=where,
            hint="Make the file writable and do it again",
        )
    if name.startswith(("SQLITE_NOTADB", "SQLITE_CORRUPT")):
        return JobError(
            "the job file is damaged or is no job file",
            where=where,
            hint="Open a copy from a backup; this file was not changed",
        )
    if name.startswith("SQLITE_IOERR"):
        return JobError(
            "the disk refused; the last change was not kept",
            where=where,
            hint="Check the disk and its free space, and do it again",
        )
    return JobError(
        f"the job file cannot be used ({error})",
        where=where,
        hint="Check the file, or open a copy from a backup",
    )
