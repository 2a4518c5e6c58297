"""The layout of the job file, and how files of earlier formats become ones of this.

docs/formats/job.md describes it. Every entry carries a checksum, every gesture one that is chained to the
gesture before, so that a bit that changes on a disk is found.
"""

from __future__ import annotations

import hashlib
import sqlite3
import zlib
from collections.abc import Callable, Iterable, Sequence
from itertools import chain, islice

from fenwind.progress import breathe, in_pieces

APPLICATION_ID = 0x46574A42  # "FWJB"
SCHEMA_VERSION = 3
#: Entries whose checksum is worked out together, so that other threads come in between.
TOGETHER = 2000
#: Kind, id of the record, JSON.
EntryRow = tuple[str, str, str]

_TABLES = (
    "CREATE TABLE gestures (id INTEGER PRIMARY KEY, at TEXT NOT NULL, what TEXT NOT NULL, "
    "chain BLOB NOT NULL) STRICT",
    "CREATE TABLE entries (seq INTEGER PRIMARY KEY, gesture INTEGER NOT NULL REFERENCES gestures (id), "
    "kind TEXT NOT NULL, subject TEXT NOT NULL, body TEXT NOT NULL, crc INTEGER NOT NULL) STRICT",
    "CREATE TABLE blobs (hash TEXT PRIMARY KEY, name TEXT NOT NULL, origin TEXT NOT NULL, at TEXT NOT NULL, "
    "size INTEGER NOT NULL, data BLOB NOT NULL) STRICT",
)
_KEPT = (
    "CREATE TRIGGER {table}_{word} BEFORE {deed} ON {table} "
    "BEGIN SELECT RAISE(ABORT, 'the ledger is only appended to'); END"
)
_GUARDED = [
    (t, w, d) for t in ("gestures", "entries", "blobs") for w, d in (("kept", "DELETE"), ("fixed", "UPDATE"))
]


def create_tables(db: sqlite3.Connection) -> None:
    """Make the tables, and the triggers that let nothing be changed or taken away."""
    for statement in _TABLES:
        db.execute(statement)
    for table, word, deed in _GUARDED:
        db.execute(_KEPT.format(table=table, word=word, deed=deed))
    db.execute(f"PRAGMA application_id={APPLICATION_ID}")
    db.execute(f"PRAGMA user_version={SCHEMA_VERSION}")


def entry_crc(row: Sequence[str]) -> int:
    """Checksum of an entry: CRC-32 of its three texts in UTF-8, parted by the unit separator."""
    return zlib.crc32(f"{row[0]}\x1f{row[1]}\x1f{row[2]}".encode("utf-8", "surrogatepass"))


def chain_of(before: bytes, at: str, what: str, rows: Iterable[Sequence[str]]) -> bytes:
    """Checksum of a gesture: BLAKE2b (16 bytes) of that of the gesture before, its own texts, and those of
    its entries, all parted by the unit separator."""
    digest = hashlib.blake2b(before, digest_size=16)
    digest.update(f"\x1f{at}\x1f{what}".encode("utf-8", "surrogatepass"))
    every = iter(rows)
    while some := list(islice(every, TOGETHER)):
        breathe()
        text = "\x1f".join(["", *chain.from_iterable(some)])
        digest.update(text.encode("utf-8", "surrogatepass"))
    return digest.digest()


def insert(
    db: sqlite3.Connection, before: bytes, at: str, what: str, rows: Iterable[EntryRow]
) -> tuple[int, bytes]:
    """Add one gesture with its checksums; its number and its link of the chain."""
    rows = list(rows)
    link = chain_of(before, at, what, rows)
    cursor = db.execute("INSERT INTO gestures (at, what, chain) VALUES (?, ?, ?)", (at, what, link))
    number = int(cursor.lastrowid or 0)
    full = ((number, *row, entry_crc(row)) for row in in_pieces(rows))
    db.executemany("INSERT INTO entries (gesture, kind, subject, body, crc) VALUES (?, ?, ?, ?, ?)", full)
    return number, link


def _with_checksums(db: sqlite3.Connection) -> None:
    """Formats 1 and 2 to 3: the same gestures and entries with checksums, and a table for blobs."""
    for table, word, _ in _GUARDED[:4]:
        db.execute(f"DROP TRIGGER IF EXISTS {table}_{word}")
    for table in ("gestures", "entries"):
        db.execute(f"ALTER TABLE {table} RENAME TO old_{table}")
    create_tables(db)
    link = b""
    for number, at, what in db.execute("SELECT id, at, what FROM old_gestures ORDER BY id").fetchall():
        rows = db.execute(
            "SELECT kind, subject, body FROM old_entries WHERE gesture = ? ORDER BY seq", (number,)
        ).fetchall()
        given, link = insert(db, link, at, what, rows)
        assert given == number or not rows, "gestures are numbered one after the other"
    db.execute("DROP TABLE old_entries")
    db.execute("DROP TABLE old_gestures")


#: What makes the next format of one, by the format it starts from.
UPGRADES: dict[int, tuple[int, Callable[[sqlite3.Connection], None]]] = {
    1: (3, _with_checksums),
    2: (3, _with_checksums),
}


def upgrade(db: sqlite3.Connection, version: int) -> None:
    """Bring a database of an earlier format to this one, whole or not at all."""
    db.execute("BEGIN IMMEDIATE")
    try:
        while version < SCHEMA_VERSION:
            version, step = UPGRADES[version]
            step(db)
        db.execute(f"PRAGMA user_version={SCHEMA_VERSION}")
        db.execute("COMMIT")
    except BaseException:
        db.execute("ROLLBACK")
        raise
