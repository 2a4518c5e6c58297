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
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

from fenwind.errors import DamagedJobError, JobBusyError, JobError
from fenwind.job.checksums import EntryRow, chain_of, entry_crc
from fenwind.job.file_check import Ends, anchored_ends, blob_problems, odd_header, unpacked
from fenwind.job.file_slack import odd_slack
from fenwind.job.schema import (
    APPLICATION_ID,
    FORMAT,
    create_tables,
    format_of,
    insert,
    insert_blob,
    set_anchor,
    upgrade,
)
from fenwind.paths import free_name


@dataclass(frozen=True, slots=True, kw_only=True)
class Blob:
    """A raw file or stream, or a long series as `records/series.py` writes it: kept with its own hash, the
    name it had and where it came from, in words. Equal contents under two names are two blobs."""

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
    earlier format was kept when it became one of this; newer: made with a newer Fenwind, so to be read only;
    problems: blobs that are not what was kept, in words."""

    def __init__(
        self, path: str | os.PathLike[str], *, create: bool = False, read_only: bool = False
    ) -> None:
        """Open or create. read_only: nothing can be kept in it. Raises JobError with the reason and what to
        do; a file that cannot be used is left untouched."""
        self.path, self.read_only = Path(path), read_only
        _check_place(self.path, create, read_only)
        self.version, self.kept, self.newer = FORMAT, Path(), False
        self.problems: tuple[str, ...] = ()
        self._chain = self._blob_chain = b""
        self._ends: Ends | None = None
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
            # Who opens a job may hand it to an owner on another thread; never two at once.
            place = f"{self.path.absolute().as_uri()}?mode=ro&immutable=1" if self.read_only else self.path
            self._db = sqlite3.connect(
                place, timeout=0.3, isolation_level=None, check_same_thread=False, uri=self.read_only
            )
            self._db.execute("PRAGMA secure_delete=ON")
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
        """Whether the file that is open is no longer the one of its name, or was cut short."""
        try:
            seen = os.stat(self.path)
        except OSError:
            return True
        return (seen.st_dev, seen.st_ino) != self._opened or seen.st_size < self._size

    def _pragmas(self) -> None:
        self._db.execute("PRAGMA synchronous=FULL")
        self._db.execute("PRAGMA foreign_keys=ON")
        self._opened, self._size = self._identity(), os.stat(self.path).st_size

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
        """Hold header, tables and anchor against what they must be, before any row is read."""
        self._db.execute("PRAGMA trusted_schema=OFF")
        self._db.execute("PRAGMA cell_size_check=ON")
        self._lock()
        self._db.execute("COMMIT")
        (application,) = self._db.execute("PRAGMA application_id").fetchone()
        (stated,) = self._db.execute("PRAGMA user_version").fetchone()
        try:
            self.version = format_of(self._db)
        except DamagedJobError as error:
            raise self._newer(stated) if stated > FORMAT else self._at_path(error) from error
        if application != APPLICATION_ID and not self.version:
            raise JobError(
                "this is not a Fenwind job", where=str(self.path), hint="Choose a file that Fenwind made"
            )
        if stated > FORMAT and not self.version:
            raise self._newer(stated)
        wrong = "" if application == APPLICATION_ID else "its mark as a job was changed"
        (answer,) = self._db.execute("PRAGMA quick_check(1)").fetchone()
        if answer != "ok" or not self.version or wrong:
            raise self._damaged_whole(wrong or (answer if answer != "ok" else "its tables are gone"))
        self._check_format(int(stated))

    def _check_format(self, stated: int) -> None:
        """Hold the number of the format against the tables and the anchor: no changed number switches a
        check off."""
        if self.version < FORMAT:
            self.version = stated if stated in (1, 2) and self.version == 2 else self.version
            if stated != self.version:
                raise self._damaged_whole(f"it states format {stated} and is of format {self.version}")
            return
        self._ends = anchored_ends(self._db)
        if self._ends is None:
            raise self._damaged_whole("its anchor was changed")
        if self._ends.format > FORMAT and stated == self._ends.format and self._ends.reader <= FORMAT:
            self.newer = self.read_only = True
        elif stated > FORMAT:
            raise self._newer(stated)
        elif stated != self._ends.format:
            raise self._damaged_whole(f"it states format {stated} and is of format {self._ends.format}")
        self._chain, self._blob_chain = self._ends.chain, self._ends.blob_chain
        # What gestures and blobs are is held by their chains; a byte beside them is told, and the job opens.
        odd = odd_header(self.path, self._ends) or odd_slack(self.path)
        self.problems = (*((odd,) if odd else ()), *blob_problems(self._db, self._ends))

    def _newer(self, stated: int) -> JobError:
        return JobError(
            f"the job was made with a newer Fenwind (format {stated}, this one reads {FORMAT})",
            where=str(self.path),
            hint="Update Fenwind to open it; nothing was changed",
        )

    def _damaged_whole(self, what: str) -> JobError:
        return DamagedJobError(f"the job file is damaged ({what})", where=str(self.path), hint=_HINT_DAMAGED)

    def _at_path(self, error: DamagedJobError) -> JobError:
        return DamagedJobError(error.message, where=str(self.path), hint=error.hint)

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
            columns = "kind, subject, body, crc" if checked else "kind, subject, body, 0"
            order = "seq" if checked else "gesture, seq"
            rows = self._db.execute(f"SELECT {columns} FROM entries ORDER BY {order}").fetchall()
            start, link = 0, b""
            for number, at, what, chain in heads:
                part = rows[start : start + count.get(number, 0)]
                entries = tuple(row[:3] for row in part)
                start += len(entries)
                if checked:
                    self._check(link, number, at, what, chain, entries, [row[3] for row in part])
                    link = chain
                if entries:
                    yield StoredGesture(number=number, at=at, what=what, entries=entries)
            if start != len(rows):
                raise self._damaged(len(heads) + 1, "", "")
            self._check_end(heads[-1][0] if heads else 0, len(rows), link)
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise _explained(error, self.path) from error

    def _check_end(self, gestures: int, entries: int, chain: bytes) -> None:
        """Hold what was read against the anchor: gestures at the end that were cut off are missed."""
        ends = self._ends
        if ends is not None and (gestures, entries, chain) != (ends.gestures, ends.entries, ends.chain):
            lost = ends.gestures - gestures
            raise self._damaged_whole(
                f"its last {'gesture' if lost == 1 else f'{lost} gestures'} were cut off"
                if lost > 0
                else "its end is not what was kept last"
            )

    def _check(
        self,
        before: bytes,
        number: int,
        at: str,
        what: str,
        chain: bytes,
        entries: tuple[EntryRow, ...],
        crcs: list[int],
    ) -> None:
        """Hold a gesture against its checksums. before: the link of the chain before it."""
        try:
            link = chain_of(before, at, what, entries)
            bad = [e[1] for e, crc in zip(entries, crcs, strict=True) if entry_crc(e) != crc]
        except (TypeError, AttributeError) as error:  # a value became another type
            raise self._damaged(number, str(what), "") from error
        if link != chain or bad:
            raise self._damaged(number, what, f", entry for {bad[0]}" if bad else "")

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
        _require_text(what)
        with self._transaction():
            number, chain = insert(self._db, self._chain, at, what, entries)
            blob_chain = self._insert_blobs(blobs, at)
            set_anchor(self._db, chain, blob_chain)
            self._chain, self._blob_chain = chain, blob_chain
        return number

    def append_blobs(self, blobs: Iterable[Blob]) -> None:
        """Keep blobs that gestures before speak of. Raises JobError when they could not be kept."""
        with self._transaction():
            blob_chain = self._insert_blobs(blobs, "")
            set_anchor(self._db, self._chain, blob_chain)
            self._blob_chain = blob_chain

    @contextmanager
    def _transaction(self) -> Iterator[None]:
        """Commit what is done within, or nothing of it: whatever is raised rolls back, so that the next
        gesture works. Raises JobError."""
        self._require_writable()
        if self.version < FORMAT:
            self._upgrade()
        before = self._chain, self._blob_chain
        try:
            self._db.execute("BEGIN")
            yield
            self._db.execute("COMMIT")
        except BaseException as error:
            self._chain, self._blob_chain = before
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            if isinstance(error, sqlite3.Error | OverflowError):
                raise _explained(error, self.path) from error
            raise
        self._size = max(self._size, os.stat(self.path).st_size)

    def _require_writable(self) -> None:
        if self.newer:
            raise JobError(
                "the job was made with a newer Fenwind, so it can be read only",
                where=str(self.path),
                hint="Update Fenwind to go on with it; nothing was changed",
            )
        if self.read_only:
            raise JobError(
                "this is the intact part of a damaged job, to be read only",
                where=str(self.path),
                hint="Copy the job to a new file and go on with that",
            )
        if self.taken_away:
            raise JobError(
                "the job file was deleted, moved, replaced or cut short; nothing is kept there any more",
                where=str(self.path),
                hint="Copy the job to a new file: everything up to here goes with it, then open that one",
            )

    def _insert_blobs(self, blobs: Iterable[Blob], at: str) -> bytes:
        """Insert blobs that are not there yet under their name and origin; the end of their chain."""
        link = self._blob_chain
        for blob in blobs:
            _require_text(blob.name, blob.origin)
            key = blob.hash
            there = self._db.execute(
                "SELECT 1 FROM blobs WHERE origin = ? AND name = ? AND hash = ?",
                (blob.origin, blob.name, key),
            )
            if there.fetchone() is None:
                link = insert_blob(
                    self._db,
                    link,
                    name=blob.name,
                    origin=blob.origin,
                    at=at,
                    key=key,
                    size=len(blob.data),
                    packed=zlib.compress(blob.data, 6),
                )
        return link

    def blobs_of(self, origin: str) -> list[Blob]:
        """Blobs that came from one place, in the order they were kept. Raises JobError when one is not what
        was kept."""
        if self.version < 3:
            return []
        order = "seq" if self.version >= 4 else "rowid"
        rows = self._db.execute(
            f"SELECT name, hash FROM blobs WHERE origin = ? ORDER BY {order}", (origin,)
        ).fetchall()
        return [Blob(name=name, origin=origin, data=self._contents(key, name)) for name, key in rows]

    def blob(self, key: str) -> Blob:
        """The first blob of a hash. Raises JobError when there is none, or when it is not what was kept."""
        found = None
        if self.version >= 3:
            found = self._db.execute("SELECT name, origin FROM blobs WHERE hash = ?", (key,)).fetchone()
        if found is None:
            raise JobError(
                f"the job holds no file {key[:12]}", where=str(self.path), hint="Read the file in again"
            )
        return Blob(name=found[0], origin=found[1], data=self._contents(key, found[0]))

    def _contents(self, key: str, name: str) -> bytes:
        where = "blobs JOIN contents ON contents.id = blobs.contents" if self.version >= 4 else "blobs"
        found = self._db.execute(f"SELECT size, data FROM {where} WHERE hash = ?", (key,)).fetchone()
        data = unpacked(found[1], found[0]) if found is not None else None
        if data is None or hashlib.sha256(data).hexdigest() != key:
            raise JobError(
                f"{name} in the job is damaged", where=str(self.path), hint="Open a copy from a backup"
            )
        return data

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
            shutil.copymode(self.path, fresh)
            _keep_beside(self.path, kept)
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
            with closing(sqlite3.connect(path, isolation_level=None)) as target:
                self._db.backup(target)
                if self.version == FORMAT and not self.newer:
                    set_anchor(target, self._chain, self._blob_chain)
        except sqlite3.Error as error:
            raise _explained(error, Path(path)) from error

    def close(self) -> None:
        """Let go of the file."""
        self._db.close()


def _keep_beside(path: Path, kept: Path) -> None:
    """Give a file a second name, or, where the file system has no such thing, a copy under that name."""
    try:
        os.link(path, kept)
    except OSError:
        shutil.copy2(path, kept)


def _require_text(*texts: str) -> None:
    """Raise JobError for a text that UTF-8 has no bytes for, such as a file name of another encoding."""
    for text in texts:
        try:
            text.encode()
        except UnicodeEncodeError as error:
            raise JobError(
                f"{text[:80]!a} has letters that cannot be kept",
                hint="Write the name in letters of its own; nothing was changed",
            ) from error


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


def _explained(error: sqlite3.Error | UnicodeDecodeError | OverflowError, path: Path) -> JobError:
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
