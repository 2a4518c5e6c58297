"""Raw files on a receiver: listed, fetched in pieces with their hash proved, deleted."""

from __future__ import annotations

import base64
import binascii
import hashlib
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from fenwind.devices.control import command
from fenwind.devices.transport import Address, DeviceError
from fenwind.errors import ParseError

#: Bytes asked for at a time; files that are larger are not fetched into a job.
PIECE, MOST = 32_768, 2_000_000_000


@dataclass(frozen=True, slots=True, kw_only=True)
class RawFile:
    """A file on a receiver: its name, bytes, and when it was begun (ISO, UTC)."""

    name: str
    size: int
    time: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Status:
    """How a receiver is: battery in percent, storage left in megabytes, the file it writes (empty for
    none); None for what it does not say."""

    battery: float | None
    storage_mb: float | None
    logging: str


def status(where: Address) -> Status:
    """Ask a receiver how it is. Raises DeviceError."""
    found = command(where, do="status")
    return Status(
        battery=_number(found.get("battery")), storage_mb=_number(found.get("storage")),
        logging=str(found.get("logging") or ""),
    )  # fmt: skip


def start_logging(where: Address, interval_s: float, naming: str, words: Mapping[str, str]) -> str:
    """Let a receiver write raw data from now on; the name of its file, which is none that it has. words: what
    `raw_name` puts in besides the time, which is the receiver's own. Raises DeviceError, ParseError."""
    said = str(command(where, do="status").get("time", ""))
    try:
        now = datetime.fromisoformat(said.replace("Z", "+00:00"))
    except ValueError:
        now = datetime.now(UTC)
    wanted, taken = raw_name(naming, words, now), {f.name for f in listed(where)}
    every = (wanted, *(f"{wanted}-{k}" for k in range(2, len(taken) + 3)))
    name = next(n for n in every if n not in taken)
    command(where, do="log", on=True, interval=interval_s, name=name)
    return name


def raw_name(naming: str, words: Mapping[str, str], now: datetime) -> str:
    """The name of a raw file: `naming` with {receiver}, {base}, {date}, {day} (of the year) and {time} (UTC)
    put in. What a file system may trip over becomes a hyphen. Raises ParseError for a word that is none of
    these, and where nothing is left."""
    known = dict(words) | {
        "date": f"{now:%Y%m%d}", "day": f"{now:%j}", "time": f"{now:%H%M%S}",
    }  # fmt: skip
    try:
        name = naming.strip().format_map(known)
    except (KeyError, ValueError, IndexError, AttributeError):
        raise ParseError(
            f"{naming.strip()!r} will not do for file names",
            hint=f"Put in any of {', '.join(f'{{{word}}}' for word in known)}",
        ) from None
    name = re.sub(r"[^\w.+-]+", "-", name).strip("-.")
    if not name:
        raise ParseError("raw files need a name", hint="Such as {receiver}-{date}-{time}")
    return name[:80]


def stop_logging(where: Address) -> None:
    """Let it write no more. Raises DeviceError."""
    command(where, do="log", on=False)


def listed(where: Address) -> list[RawFile]:
    """Its files in the order they were begun. Raises DeviceError."""
    rows = command(where, do="files").get("files", [])
    out = []
    for row in rows if isinstance(rows, list) else []:
        size = _number(row.get("size")) if isinstance(row, dict) else None
        if size is not None and 0 <= size <= MOST and row.get("name"):
            out.append(RawFile(name=str(row["name"]), size=int(size), time=str(row.get("time", ""))))
    return sorted(out, key=lambda f: f.time)


def fetched(where: Address, name: str, told: Callable[[int, int], object]) -> bytes:
    """The bytes of a file, proved by the hash that the receiver says. told: gets bytes so far and in all;
    what it raises ends it. Raises DeviceError."""
    data, size, said = b"", 1, ""
    while len(data) < size:
        found = command(where, do="fetch", name=name, offset=len(data), length=PIECE)
        size, said = int(_number(found.get("size")) or 0), str(found.get("sha256", ""))
        piece = _decoded(found.get("data"))
        if size > MOST or (not piece and len(data) < size):
            raise DeviceError(f"{where} sends no more of {name}", hint="Fetch it again")
        data += piece
        told(len(data), size)
    if hashlib.sha256(data).hexdigest() != said.lower():
        raise DeviceError(f"{name} came in other than it was sent", hint="Fetch it again")
    return data


def delete_kept(where: Address, file: RawFile, digest: str) -> None:
    """Delete a file on the receiver of which there is a copy with a digest (SHA-256, hexadecimal): only where
    it is listed still as it was, nothing is written to it, and the receiver itself says that digest. Raises
    DeviceError, then nothing was deleted."""
    if file not in listed(where):
        raise DeviceError(f"{file.name} is no longer what was listed", hint="Ask the receiver again")
    if status(where).logging == file.name:
        raise DeviceError(f"{file.name} is being written", hint="Stop writing raw data first")
    said = str(command(where, do="fetch", name=file.name, offset=0, length=1).get("sha256", ""))
    if said.lower() != digest.lower():
        raise DeviceError(f"{file.name} is not what is in the job", hint="Fetch it again")
    command(where, do="delete", name=file.name)


def _decoded(text: Any) -> bytes:
    try:
        return base64.b64decode(str(text), validate=True)
    except (binascii.Error, ValueError) as error:
        raise DeviceError("what came is not base64", hint="Fetch it again") from error


def _number(value: Any) -> float | None:
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) else None
