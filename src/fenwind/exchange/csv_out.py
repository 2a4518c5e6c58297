"""CSV out, safe to open in a spreadsheet: a text cell that would run as a formula gets an apostrophe before it."""

from __future__ import annotations

import csv
import io
import os
import tempfile
from collections.abc import Iterable, Sequence
from pathlib import Path

from fenwind.errors import FormatError
from fenwind.exchange.delimited import is_number


def guarded(cell: str) -> str:
    """The cell, with an apostrophe before it when a spreadsheet would run it; plain numbers stay as they are."""
    return "'" + cell if cell[:1] in tuple("=+-@\t\r") and cell[:1] and not is_number(cell) else cell


def csv_text(headers: Sequence[str], rows: Iterable[Sequence[str]]) -> str:
    """CSV with a header, comma separated, quoted where needed, lines ended by CR LF (RFC 4180)."""
    out = io.StringIO(newline="")
    writer = csv.writer(out)
    writer.writerow(headers)
    writer.writerows([guarded(cell) for cell in row] for row in rows)
    return out.getvalue()


def write_text(path: str | os.PathLike[str], text: str) -> None:
    """Write a text file whole or not at all: into a temporary file beside it first. Raises FormatError when it cannot."""
    target = Path(path)
    name = ""
    try:
        with tempfile.NamedTemporaryFile(
            "w", encoding="utf-8", newline="", dir=target.parent, prefix=".fenwind-", delete=False
        ) as file:
            name = file.name
            file.write(text)
            file.flush()
            os.fsync(file.fileno())
        umask = os.umask(0)
        os.umask(umask)
        os.chmod(name, 0o666 & ~umask)
        os.replace(name, target)
    except OSError as error:
        if name:
            Path(name).unlink(missing_ok=True)
        raise FormatError(
            f"cannot be written: {error.strerror}", where=str(path), hint="Choose a folder you may write to"
        ) from error
