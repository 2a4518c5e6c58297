"""Checks of a job file that need no record: its header, its anchor, and its blobs against their checksums."""

from __future__ import annotations

import os
import sqlite3
import zlib
from dataclasses import dataclass, fields

from fenwind.job.checksums import anchor_crc, blob_link, packed_crc

#: Bytes of a database's header that never differ (SQLite, "Database File Format", section 1.3): where they
#: begin and what stands there. Rollback journal, payload fractions, no free pages, schema format 4, no
#: cache size, no vacuum, UTF-8, and what is reserved.
_FIXED = (
    (0, b"SQLite format 3\0"),
    (18, b"\1\1\0\x40\x20\x20"),
    (32, bytes(8)),
    (44, bytes(3) + b"\4" + bytes(8)),
    (56, bytes(3) + b"\1"),
    (64, bytes(4)),
    (72, bytes(20)),
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Ends:
    """The anchor: format, the least format that a reader must know, how many gestures, entries and blobs
    there are, and the ends of both chains."""

    format: int
    reader: int
    gestures: int
    entries: int
    chain: bytes
    blobs: int
    blob_chain: bytes
    cookie: int
    sqlite: int


_COLUMNS = tuple(field.name for field in fields(Ends))


def anchored_ends(db: sqlite3.Connection) -> Ends | None:
    """The anchor, None where there is none or its checksum is another."""
    rows = db.execute(f"SELECT {', '.join(_COLUMNS)}, crc FROM anchor").fetchall()
    if len(rows) != 1 or anchor_crc(rows[0][:-1]) != rows[0][-1]:
        return None
    return Ends(**dict(zip(_COLUMNS, rows[0][:-1], strict=True)))


def odd_header(path: str | os.PathLike[str], ends: Ends) -> str:
    """The fault of the first 100 bytes of a database, in words; empty for none. The number of the
    library that wrote it last and that of its tables are held against the anchor."""
    with open(path, "rb") as file:
        head = file.read(100)
    size = int.from_bytes(head[16:18], "big")
    if any(head[at : at + len(bytes_)] != bytes_ for at, bytes_ in _FIXED) or head[24:28] != head[92:96]:
        return "its header was changed"
    if (int.from_bytes(head[40:44], "big"), int.from_bytes(head[96:100], "big")) != (
        ends.cookie,
        ends.sqlite,
    ):
        return "its header was changed, or another program wrote to it"
    pages = int.from_bytes(head[28:32], "big")
    if pages * (65536 if size == 1 else size) != os.path.getsize(path):
        return "its size is not what its header says"
    return ""


def unpacked(packed: bytes, size: int) -> bytes | None:
    """Contents that were deflated, no more of them than the size stated; None where they are not that."""
    try:
        work = zlib.decompressobj()
        data = work.decompress(packed, size + 1)
    except (zlib.error, TypeError, ValueError, OverflowError, MemoryError):
        return None
    return data if len(data) == size and work.eof and not work.unused_data else None


def blob_problems(db: sqlite3.Connection, ends: Ends) -> tuple[str, ...]:
    """Blobs that are not what was kept, in words. Contents are held against the checksum of their bytes in
    the file, not unpacked."""
    problems: list[str] = []
    sizes = {}
    for number, size, crc, data in db.execute("SELECT id, size, crc, data FROM contents"):
        sizes[number] = size
        if packed_crc(data) != crc:
            problems.append(f"the contents of a kept file (number {number}) were changed")
    link, last, used = b"", 0, set()
    for seq, name, origin, at, key, number, chain in db.execute(
        "SELECT seq, name, origin, at, hash, contents, chain FROM blobs ORDER BY seq"
    ):
        last += 1
        used.add(number)
        if number not in sizes:
            problems.append(f"the contents of {name} ({origin}) are missing")
        elif seq != last or blob_link(link, name, origin, at, key, sizes[number]) != chain:
            problems.append(f"{name} ({origin}) is not what was kept, or stands in another's place")
        link, last = chain, seq
    if last < ends.blobs or (last == ends.blobs and link != ends.blob_chain and not problems):
        problems.append(f"{ends.blobs - last or 'some'} kept files at the end are missing")
    elif last > ends.blobs:
        problems.append(f"{last - ends.blobs} kept files are there that nobody kept")
    surplus = sorted(sizes.keys() - used)
    problems += [f"contents (number {number}) are there that no kept file names" for number in surplus]
    return tuple(problems)
