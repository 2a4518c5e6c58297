"""Checksums of the job file: of entries, of gestures and of blobs (both chained), and of the anchor that
holds the ends of both chains. docs/formats/job.md describes them."""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Iterable, Sequence
from itertools import chain, islice
from typing import Any

#: Entries whose checksum is worked out together.
TOGETHER = 2000
#: Kind, id of the record, JSON.
EntryRow = tuple[str, str, str]


def entry_crc(row: Sequence[str]) -> int:
    """CRC-32 of an entry's three texts in UTF-8, parted by the unit separator."""
    return zlib.crc32(f"{row[0]}\x1f{row[1]}\x1f{row[2]}".encode("utf-8", "surrogatepass"))


def chain_of(before: bytes, at: str, what: str, rows: Iterable[Sequence[str]]) -> bytes:
    """Checksum of a gesture: BLAKE2b (16 bytes) of that of the gesture before, its own texts, and those of
    its entries, all parted by the unit separator."""
    digest = hashlib.blake2b(before, digest_size=16)
    digest.update(f"\x1f{at}\x1f{what}".encode("utf-8", "surrogatepass"))
    every = iter(rows)
    while some := list(islice(every, TOGETHER)):
        text = "\x1f".join(["", *chain.from_iterable(some)])
        digest.update(text.encode("utf-8", "surrogatepass"))
    return digest.digest()


def packed_crc(packed: bytes) -> int:
    """CRC-32 of contents as they stand in the file, deflated."""
    return zlib.crc32(packed)


def blob_link(before: bytes, name: str, origin: str, at: str, key: str, size: int) -> bytes:
    """Checksum of a blob: BLAKE2b (16 bytes) of that of the blob before, its name, origin, time, hash and
    size in bytes, each after a unit separator."""
    text = "".join(f"\x1f{part}" for part in (name, origin, at, key, size))
    return hashlib.blake2b(before + text.encode("utf-8", "surrogatepass"), digest_size=16).digest()


def anchor_crc(row: Sequence[Any]) -> int:
    """CRC-32 of the anchor's values as text, chains in hexadecimal digits, parted by the unit separator."""
    texts = [value.hex() if isinstance(value, bytes) else str(value) for value in row]
    return zlib.crc32("\x1f".join(texts).encode())
