"""The job file: one SQLite database that is only ever appended to.

Every gesture is committed, with the disk told to keep it, before the caller goes on; so there is nothing to
save, and a killed process loses no committed entry. The layout is described in docs/formats/job.md.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import sqlite3
import zlib
from collections.abc import Iterable, Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from fenwind.errors import DamagedJobError, JobBusyError, JobError
from fenwind.job.schema import (
    APPLICATION_ID,
    SCHEMA_VERSION,
    EntryRow,
    chain_of,
    create_tables,
    entry_crc,
    insert,
    upgrade,
)
from fenwind.paths import free_name


@dataclass(frozen=True, slots=True, kw_only=True)
class Blob:
    """A raw file or stream, or a long series as `records/series.py` writes it: kept under its own hash,
    with the name it had and where it came from, in words."""

    name: str
    origin: str
    data: bytes

    @property
    def hash(self) -> str:
        """SHA-256 of the data, in hexadecimal digits."""
        return hashlib.sha256(self.data).hexdigest()


@dataclass(frozen=True, slots=True, kw_only=True)
class StoredGesture:
    """One gesture as stored: when (ISO 8601, UTC), what in words, and its entries as (kind, subject,
    body)."""

    number: int
    at: str
    what: str
    entries: tuple[EntryRow, ...]


class JobFile:
    """An open job file, held exclusively while it is open. version: its format; kept: where the file of an
    earlier format was kept when it became one of this."""

    def __init__(
        self, path: str | os.PathLike[str], *, create: bool = False, read_only: bool = False
    ) -> None:
        """Open or create. read_only: nothing can be kept in it. Raises JobError with the reason and what to
        do; a file that cannot be used is left untouched."""
        self.path, self.read_only = Path(path), read_only
        _check_place(self.path, create, read_only)
        self.version, self.kept, self._chain = SCHEMA_VERSION, Path(), b""
        self._connect()
        try:
            if create:
                self._create()
            else:
                self._verify()
            self._pragmas()
        except (sqlite3.Error, JobError, UnicodeDecodeError) as error:
            self._db.close()
            raise error if isinstance(error, JobError) else _explained(error, self.path) from error

    def _connect(self) -> None:
        try:
            # A worker opens the job and the window's thread goes on with it; never both at once.
            place = f"{self.path.absolute().as_uri()}?mode=ro&immutable=1" if self.read_only else self.path
            self._db = sqlite3.connect(
                place, timeout=0.3, isolation_level=None, check_same_thread=False, uri=self.read_only
            )
        except sqlite3.Error as error:
            raise _explained(error, self.path) from error

    def _identity(self) -> tuple[int, int]:
        """What tells the file apart from any other of its name; zeros when there is none."""
        try:
            seen = os.stat(self.path)
        except OSError:
            return 0, 0
        return seen.st_dev, seen.st_ino

    @property
    def taken_away(self) -> bool:
        """Whether the file that is open is no longer the one of its name."""
        return self._identity() != self._opened

    def _pragmas(self) -> None:
        self._db.execute("PRAGMA synchronous=FULL")
        self._db.execute("PRAGMA foreign_keys=ON")
        self._opened = self._identity()

    def _lock(self) -> None:
        if self.read_only:
            self._db.execute("BEGIN")
            return
        self._db.execute("PRAGMA locking_mode=EXCLUSIVE")
        self._db.execute("BEGIN EXCLUSIVE")

    def _create(self) -> None:
        self._lock()
        create_tables(self._db)
        self._db.execute("COMMIT")

    def _verify(self) -> None:
        self._lock()
        self._db.execute("COMMIT")
        (application,) = self._db.execute("PRAGMA application_id").fetchone()
        (version,) = self._db.execute("PRAGMA user_version").fetchone()
        self.version = int(version)
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
            raise DamagedJobError(
                f"the job file is damaged ({answer})", where=str(self.path), hint=_HINT_DAMAGED
            )

    def read(self) -> Iterator[StoredGesture]:
        """All gestures in order. Raises JobError when the file cannot be read to its end, or a checksum
        says that something in it is no longer what was written."""
        checked = self.version >= 3
        gestures = f"SELECT id, at, what, {'chain' if checked else 'what'} FROM gestures ORDER BY id"
        sizes = "SELECT gesture, count(*) FROM entries GROUP BY gesture"
        try:
            heads = self._db.execute(gestures).fetchall()
            count = dict(self._db.execute(sizes).fetchall())
            # Entries are only appended, gesture after gesture; a checksum says where they were not.
            order = "seq" if checked else "gesture, seq"
            rows = self._db.execute(f"SELECT kind, subject, body FROM entries ORDER BY {order}").fetchall()
            start = 0
            for number, at, what, chain in heads:
                entries = tuple(rows[start : start + count.get(number, 0)])
                start += len(entries)
                if checked:
                    self._check(number, at, what, chain, entries)
                if entries:
                    yield StoredGesture(number=number, at=at, what=what, entries=entries)
            if start != len(rows):
                raise self._damaged(len(heads) + 1, "", "")
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise _explained(error, self.path) from error

    def _check(self, number: int, at: str, what: str, chain: bytes, entries: tuple[EntryRow, ...]) -> None:
        """Hold a gesture against its checksums and take its link of the chain as the last."""
        if chain_of(self._chain, at, what, entries) != chain:
            crcs = self._db.execute("SELECT crc FROM entries WHERE gesture = ? ORDER BY seq", (number,))
            bad = [e[1] for e, (crc,) in zip(entries, crcs, strict=False) if entry_crc(e) != crc]
            raise self._damaged(number, what, f", entry for {bad[0]}" if bad else "")
        self._chain = chain

    def _damaged(self, number: int, what: str, about: str) -> JobError:
        return DamagedJobError(
            f"the job file is damaged at gesture {number} ({what[:80]!r}{about}): what stands there is "
            f"not what was written; the {number - 1} gestures before it are intact",
            where=str(self.path),
            hint=_HINT_DAMAGED,
        )

    def append(self, at: str, what: str, entries: Iterable[EntryRow], blobs: Iterable[Blob] = ()) -> int:
        """Commit one gesture with the blobs it speaks of, whole or not at all, and return its number. A
        file of an earlier format becomes one of this first. Raises JobError when it could not be kept."""
        if self.read_only:
            raise JobError(
                "this is the intact part of a damaged job, to be read only",
                where=str(self.path),
                hint="Copy the job to a new file and go on with that",
            )
        if self.taken_away:
            raise JobError(
                "the job file was deleted, moved or replaced; nothing is kept there any more",
                where=str(self.path),
                hint="Copy the job to a new file: everything up to here goes with it, then open that one",
            )
        try:
            if self.version < SCHEMA_VERSION:
                self._upgrade()
            self._db.execute("BEGIN")
            number, chain = insert(self._db, self._chain, at, what, entries)
            for blob in blobs:
                row = (blob.hash, blob.name, blob.origin, at, len(blob.data), zlib.compress(blob.data, 6))
                self._db.execute("INSERT OR IGNORE INTO blobs VALUES (?, ?, ?, ?, ?, ?)", row)
            self._db.execute("COMMIT")
        except sqlite3.Error as error:
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            raise _explained(error, self.path) from error
        self._chain = chain
        return number

    def append_blobs(self, blobs: Iterable[Blob]) -> None:
        """Keep blobs that gestures before speak of. Raises JobError when they could not be kept."""
        try:
            for blob in blobs:
                row = (blob.hash, blob.name, blob.origin, "", len(blob.data), zlib.compress(blob.data, 6))
                self._db.execute("INSERT OR IGNORE INTO blobs VALUES (?, ?, ?, ?, ?, ?)", row)
        except sqlite3.Error as error:
            raise _explained(error, self.path) from error

    def blobs_of(self, origin: str) -> list[Blob]:
        """Blobs that came from one place. Raises JobError when one is not what was kept."""
        if self.version < 3:
            return []
        rows = self._db.execute("SELECT hash FROM blobs WHERE origin = ?", (origin,)).fetchall()
        return [self.blob(key) for (key,) in rows]

    def blob(self, key: str) -> Blob:
        """A blob by its hash. Raises JobError when there is none, or when it is not what was kept."""
        found = None
        if self.version >= 3:
            found = self._db.execute("SELECT name, origin, data FROM blobs WHERE hash = ?", (key,)).fetchone()
        if found is None:
            raise JobError(
                f"the job holds no file {key[:12]}", where=str(self.path), hint="Read the file in again"
            )
        try:
            blob = Blob(name=found[0], origin=found[1], data=zlib.decompress(found[2]))
        except zlib.error:
            blob = None
        if blob is None or blob.hash != key:
            raise JobError(
                f"{found[0]} in the job is damaged", where=str(self.path), hint="Open a copy from a backup"
            )
        return blob

    def _upgrade(self) -> None:
        """Make a file of this format from a copy, put it in the place of the old one, and keep that beside
        it."""
        kept = free_name(self.path, f"format {self.version}")
        fresh = self.path.with_name(f".{self.path.name}.{os.getpid()}.upgrade")
        fresh.unlink(missing_ok=True)
        try:
            with closing(sqlite3.connect(fresh, isolation_level=None)) as copy:
                self._db.backup(copy)
                upgrade(copy, self.version)
                (self._chain,) = copy.execute(
                    "SELECT chain FROM gestures ORDER BY id DESC LIMIT 1"
                ).fetchone() or (b"",)
            shutil.copymode(self.path, fresh)
            os.link(self.path, kept)
            os.replace(fresh, self.path)
        except OSError as error:
            raise JobError(
                f"the job is of an earlier format and cannot be brought to this one: {error.strerror}",
                where=str(self.path),
                hint="Copy it to a folder you may write to and open the copy",
            ) from error
        finally:
            fresh.unlink(missing_ok=True)
        self._db.close()
        self._connect()
        self._verify()
        self._pragmas()
        self.kept = kept

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


_HINT_DAMAGED = "Open the part that is intact, or a copy from a backup; this file was not changed"


def _check_place(path: Path, create: bool, read_only: bool) -> None:
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
    if read_only:
        return
    if not path.stat().st_mode & 0o222 or not os.access(path, os.W_OK) or not os.access(path.parent, os.W_OK):
        raise JobError(
            "the job is read-only, so nothing could be kept",
            where=str(path),
            hint="Copy it to a folder you may write to and open the copy",
        )


def _explained(error: sqlite3.Error | UnicodeDecodeError, path: Path) -> JobError:
    """SQLite's reason in the user's words."""
    name = getattr(error, "sqlite_errorname", "") or ""
    where = str(path)
    if name.startswith(("SQLITE_BUSY", "SQLITE_LOCKED")):
        return JobBusyError("the job is open in another window", where=where, hint="Close it there first")
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
    if name.startswith(("SQLITE_NOTADB", "SQLITE_CORRUPT")) or "decode" in str(error):
        return DamagedJobError("the job file is damaged or is no job file", where=where, hint=_HINT_DAMAGED)
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
