"""Layout of the job file: the tables and triggers of each format, checked before anything is read, and the
steps from an earlier format to this one.

docs/formats/job.md describes it. `checksums.py` has what each row carries.
"""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Callable, Iterable

from fenwind.errors import DamagedJobError
from fenwind.job.checksums import EntryRow, anchor_crc, blob_link, chain_of, entry_crc, packed_crc

APPLICATION_ID = 0x46574A42  # "FWJB"
#: Format this build writes. It grows with every change of what stands in the file, fields of records
#: included: tests/job/test_job_format.py holds it against the classes.
FORMAT = 4
#: The least format a reader must know to read what this build writes.
LEAST_READER = 4

_GESTURES = (
    "CREATE TABLE gestures (id INTEGER PRIMARY KEY, at TEXT NOT NULL, what TEXT NOT NULL{chain}) STRICT"
)
_ENTRIES = (
    "CREATE TABLE entries (seq INTEGER PRIMARY KEY, gesture INTEGER NOT NULL REFERENCES gestures (id), "
    "kind TEXT NOT NULL, subject TEXT NOT NULL, body TEXT NOT NULL{crc}) STRICT"
)
_PLAIN = (_GESTURES.format(chain=""), _ENTRIES.format(crc=""))
_CHECKED = (
    _GESTURES.format(chain=", chain BLOB NOT NULL"),
    _ENTRIES.format(crc=", crc INTEGER NOT NULL"),
)
_OLD_BLOBS = (
    "CREATE TABLE blobs (hash TEXT PRIMARY KEY, name TEXT NOT NULL, origin TEXT NOT NULL, at TEXT NOT NULL, "
    "size INTEGER NOT NULL, data BLOB NOT NULL) STRICT"
)
# Without an index: the rows of blobs are small, and the pages of an index keep bytes that nothing holds.
_BLOBS = (
    "CREATE TABLE contents (id INTEGER PRIMARY KEY, size INTEGER NOT NULL, crc INTEGER NOT NULL, "
    "data BLOB NOT NULL) STRICT",
    "CREATE TABLE blobs (seq INTEGER PRIMARY KEY, name TEXT NOT NULL, origin TEXT NOT NULL, "
    "at TEXT NOT NULL, hash TEXT NOT NULL, contents INTEGER NOT NULL REFERENCES contents (id), "
    "chain BLOB NOT NULL) STRICT",
    "CREATE TABLE anchor (id INTEGER PRIMARY KEY CHECK (id = 1), format INTEGER NOT NULL, "
    "reader INTEGER NOT NULL, gestures INTEGER NOT NULL, entries INTEGER NOT NULL, chain BLOB NOT NULL, "
    "blobs INTEGER NOT NULL, blob_chain BLOB NOT NULL, cookie INTEGER NOT NULL, sqlite INTEGER NOT NULL, "
    "crc INTEGER NOT NULL) STRICT",
)
#: Tables of each format; 1 and 2 have the same.
TABLES: dict[int, tuple[str, ...]] = {
    1: _PLAIN,
    2: _PLAIN,
    3: (*_CHECKED, _OLD_BLOBS),
    4: (*_CHECKED, *_BLOBS),
}
_TRIGGER = (
    "CREATE TRIGGER {table}_{word} BEFORE {deed} ON {table} "
    "BEGIN SELECT RAISE(ABORT, 'the ledger is only appended to'); END"
)
#: The only kind of trigger there may be: one that refuses.
_REFUSES = re.compile(
    r"CREATE TRIGGER (gestures|entries|blobs|contents|anchor)_\w+ BEFORE (DELETE|UPDATE) ON \1 "
    r"BEGIN SELECT RAISE\(ABORT, '[a-z ]*'\); END"
)


def create_tables(db: sqlite3.Connection) -> None:
    """Make the tables, and the triggers that let nothing be changed or taken away; the anchor alone follows
    what is appended."""
    for statement in TABLES[FORMAT]:
        db.execute(statement)
    for table in ("gestures", "entries", "blobs", "contents"):
        db.execute(_TRIGGER.format(table=table, word="fixed", deed="UPDATE"))
    for table in ("gestures", "entries", "blobs", "contents", "anchor"):
        db.execute(_TRIGGER.format(table=table, word="kept", deed="DELETE"))
    db.execute(f"PRAGMA application_id={APPLICATION_ID}")
    db.execute(f"PRAGMA user_version={FORMAT}")
    db.execute("INSERT INTO anchor VALUES (1, 0, 0, 0, 0, x'', 0, x'', 0, 0, 0)")
    set_anchor(db, b"", b"")


def format_of(db: sqlite3.Connection) -> int:
    """Format of a database by its tables, whatever number it states; 2 for 1 as well, 0 for tables that are
    none of ours. Reads nothing but the list of tables, so that no view or trigger of it ever runs.

    Raises DamagedJobError for tables of ours with anything beside them, and sqlite3.Error.
    """
    rows = db.execute("SELECT type, name, sql FROM sqlite_schema ORDER BY rowid").fetchall()
    if not {"gestures", "entries"} <= {str(name) for _, name, _ in rows}:
        return 0
    foreign = [str(name) for kind, name, sql in rows if _is_foreign(kind, sql)]
    found = {_plain(sql) for kind, _, sql in rows if kind != "trigger" and sql}
    numbers = [n for n in (4, 3, 2) if found == {_plain(sql) for sql in TABLES[n]}]
    if numbers and not foreign:
        return numbers[0]
    raise DamagedJobError(
        "the job file has tables, views or triggers that no Fenwind made "
        f"({', '.join(foreign) or 'some lack'})",
        hint="Open the part that is intact, or a copy from a backup; this file was not changed",
    )


def _is_foreign(kind: str, sql: object) -> bool:
    """Whether a part of a database is none that any format has; an index of a key has no text."""
    if kind == "trigger":
        return _REFUSES.fullmatch(_plain(sql)) is None
    known = {_plain(one) for tables in TABLES.values() for one in tables}
    return kind not in ("table", "index") or (sql is not None and _plain(sql) not in known)


def _plain(sql: object) -> str:
    return " ".join(str(sql).split())


def insert(
    db: sqlite3.Connection, before: bytes, at: str, what: str, rows: Iterable[EntryRow]
) -> tuple[int, bytes]:
    """Add one gesture with its checksums; its number and its link of the chain."""
    rows = list(rows)
    link = chain_of(before, at, what, rows)
    cursor = db.execute("INSERT INTO gestures (at, what, chain) VALUES (?, ?, ?)", (at, what, link))
    number = int(cursor.lastrowid or 0)
    full = ((number, *row, entry_crc(row)) for row in rows)
    db.executemany("INSERT INTO entries (gesture, kind, subject, body, crc) VALUES (?, ?, ?, ?, ?)", full)
    return number, link


def insert_blob(
    db: sqlite3.Connection,
    before: bytes,
    *,
    name: str,
    origin: str,
    at: str,
    key: str,
    size: int,
    packed: bytes,
) -> bytes:
    """Add one blob; its link of the chain. Contents that are there already are not kept twice."""
    found = db.execute("SELECT contents FROM blobs WHERE hash = ?", (key,)).fetchone()
    if found is None:
        row = (size, packed_crc(packed), packed)
        contents = db.execute("INSERT INTO contents (size, crc, data) VALUES (?, ?, ?)", row).lastrowid
    else:
        (contents,) = found
    link = blob_link(before, name, origin, at, key, size)
    db.execute(
        "INSERT INTO blobs (name, origin, at, hash, contents, chain) VALUES (?, ?, ?, ?, ?, ?)",
        (name, origin, at, key, contents, link),
    )
    return link


def set_anchor(db: sqlite3.Connection, chain: bytes, blob_chain: bytes) -> None:
    """Note how many gestures, entries and blobs there are, the ends of both chains, and what the database's
    header says of its tables and of the library that writes it."""
    gestures, entries, blobs = db.execute(
        "SELECT (SELECT max(id) FROM gestures), (SELECT max(seq) FROM entries), (SELECT max(seq) FROM blobs)"
    ).fetchone()
    (cookie,) = db.execute("PRAGMA schema_version").fetchone()
    major, minor, patch = sqlite3.sqlite_version_info
    number = 1_000_000 * major + 1000 * minor + patch
    row = (FORMAT, LEAST_READER, gestures or 0, entries or 0, chain, blobs or 0, blob_chain, cookie, number)
    db.execute(
        "UPDATE anchor SET format = ?, reader = ?, gestures = ?, entries = ?, chain = ?, blobs = ?, "
        "blob_chain = ?, cookie = ?, sqlite = ?, crc = ?",
        (*row, anchor_crc(row)),
    )


def _drop_triggers(db: sqlite3.Connection) -> None:
    for (name,) in db.execute("SELECT name FROM sqlite_schema WHERE type = 'trigger'").fetchall():
        db.execute(f'DROP TRIGGER "{name}"')


def _to_this_format(db: sqlite3.Connection, blobs: bool) -> None:
    """Rewrite gestures, entries and blobs of an earlier format into the tables of this one."""
    _drop_triggers(db)
    tables = ["gestures", "entries", *(["blobs"] if blobs else [])]
    for table in tables:
        db.execute(f"ALTER TABLE {table} RENAME TO old_{table}")
    create_tables(db)
    link = blob_chain = b""
    for number, at, what in db.execute("SELECT id, at, what FROM old_gestures ORDER BY id").fetchall():
        rows = db.execute(
            "SELECT kind, subject, body FROM old_entries WHERE gesture = ? ORDER BY seq", (number,)
        ).fetchall()
        given, link = insert(db, link, at, what, rows)
        assert given == number or not rows, "gestures are numbered one after the other"
    if blobs:
        for row in db.execute("SELECT name, origin, at, hash, size, data FROM old_blobs ORDER BY rowid"):
            name, origin, at, key, size, packed = row
            blob_chain = insert_blob(
                db, blob_chain, name=name, origin=origin, at=at, key=key, size=size, packed=packed
            )
    for table in reversed(tables):
        db.execute(f"DROP TABLE old_{table}")
    set_anchor(db, link, blob_chain)


#: What makes this format of an earlier one.
UPGRADES: dict[int, Callable[[sqlite3.Connection], None]] = {
    1: lambda db: _to_this_format(db, blobs=False),
    2: lambda db: _to_this_format(db, blobs=False),
    3: lambda db: _to_this_format(db, blobs=True),
}


def upgrade(db: sqlite3.Connection, version: int) -> None:
    """Bring a database of an earlier format to this one, whole or not at all."""
    db.execute("BEGIN IMMEDIATE")
    try:
        UPGRADES[version](db)
        db.execute("COMMIT")
    except BaseException:
        db.execute("ROLLBACK")
        raise
    db.execute("VACUUM")  # no page is left over from the old tables
    (chain, blob_chain) = db.execute("SELECT chain, blob_chain FROM anchor").fetchone()
    set_anchor(db, chain, blob_chain)
