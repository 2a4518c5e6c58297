"""The intact part of a damaged job file: the gestures before the first that is not what was written, in a
file of their own beside it. The damaged file is only ever read."""

from __future__ import annotations

import os
import shutil
import sqlite3
import tempfile
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from fenwind.errors import JobError
from fenwind.job.checksums import chain_of
from fenwind.job.file import Blob, JobFile, StoredGesture
from fenwind.job.file_check import unpacked
from fenwind.paths import free_name


@dataclass(frozen=True, slots=True, kw_only=True)
class Rescued:
    """The file made, how many gestures it has, and what the latest of them was."""

    path: Path
    gestures: int
    latest: str


def rescue(path: str | os.PathLike[str]) -> Rescued:
    """Write the intact part of a damaged job beside it, read-only. Raises JobError when nothing in it is
    intact, or the folder cannot be written to."""
    damaged = Path(path)
    out = free_name(damaged, "intact part")
    with tempfile.TemporaryDirectory(prefix="fenwind-") as folder:
        copy = Path(folder) / "damaged"
        try:
            shutil.copyfile(damaged, copy)
            journal = damaged.with_name(f"{damaged.name}-journal")
            if journal.is_file():
                shutil.copyfile(journal, f"{copy}-journal")
        except OSError as error:
            raise JobError(
                f"cannot be read: {error.strerror}", where=str(damaged), hint="Check the disk it lies on"
            ) from error
        try:
            return _written(copy, damaged, out)
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise _nothing(damaged) from error


def _nothing(damaged: Path) -> JobError:
    return JobError("nothing in the job file is intact", where=str(damaged), hint="Open a copy from a backup")


def _written(copy: Path, damaged: Path, out: Path) -> Rescued:
    with closing(sqlite3.connect(copy, isolation_level=None)) as db:
        db.execute("PRAGMA trusted_schema=OFF")
        kinds = dict(
            db.execute("SELECT name, type FROM sqlite_schema WHERE type IN ('table', 'view')").fetchall()
        )
        if not kinds.get("gestures") == kinds.get("entries") == "table":
            raise _nothing(damaged)
        gestures = list(_intact(db, checked="chain" in _columns(db, "gestures")))
        if not gestures:
            raise _nothing(damaged)
        file = JobFile(out, create=True)
        try:
            for stored in gestures:
                file.append(stored.at, stored.what, stored.entries)
            if kinds.get("blobs") == "table":
                parted = kinds.get("contents") == "table"
                file.append_blobs(_blobs(db, _PARTED if parted else "blobs"))
        finally:
            file.close()
    os.chmod(out, 0o444)
    return Rescued(path=out, gestures=len(gestures), latest=gestures[-1].what)


def _intact(db: sqlite3.Connection, checked: bool) -> Iterator[StoredGesture]:
    """Gestures one by one, as far as they can be read and are what was written."""
    before, number = b"", 0
    while True:
        number += 1
        try:
            found = db.execute(
                f"SELECT at, what, {'chain' if checked else 'what'} FROM gestures WHERE id = ?", (number,)
            ).fetchone()
            if found is None:
                return
            rows = db.execute(
                "SELECT kind, subject, body FROM entries WHERE gesture = ? ORDER BY seq", (number,)
            ).fetchall()
        except (sqlite3.Error, UnicodeDecodeError):
            return
        at, what, chain = found
        if checked:
            try:
                link = chain_of(before, at, what, tuple(rows))
            except (TypeError, AttributeError):
                return  # a value became another type
            if link != chain:
                return
            before = link
        if rows:
            yield StoredGesture(number=number, at=at, what=what, entries=tuple(rows))


def _columns(db: sqlite3.Connection, table: str) -> set[str]:
    return {str(row[1]) for row in db.execute(f"PRAGMA table_info({table})").fetchall()}


_PARTED = "blobs JOIN contents ON contents.id = blobs.contents"


def _blobs(db: sqlite3.Connection, contents: str) -> Iterator[Blob]:
    """The raw files that are still what was kept. contents: the tables that have their bytes."""
    try:
        heads = db.execute("SELECT name, origin, hash FROM blobs ORDER BY rowid").fetchall()
    except (sqlite3.Error, UnicodeDecodeError):
        return
    for name, origin, key in heads:
        try:
            size, packed = db.execute(f"SELECT size, data FROM {contents} WHERE hash = ?", (key,)).fetchone()
            blob = Blob(name=str(name), origin=str(origin), data=unpacked(packed, size) or b"")
        except (sqlite3.Error, TypeError):
            continue
        if blob.hash == key:
            yield blob
