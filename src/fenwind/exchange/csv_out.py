"""CSV out, safe to open in a spreadsheet: a text cell that would run as a formula gets an apostrophe before
it."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence

from fenwind.exchange.raw_table import is_number


def guarded(cell: str, decimal_comma: bool = False) -> str:
    """The cell, with an apostrophe before it when a spreadsheet would run it; plain numbers stay as they
    are."""
    return (
        "'" + cell
        if cell[:1] in tuple("=+-@\t\r") and cell[:1] and not is_number(cell, decimal_comma)
        else cell
    )


def csv_text(headers: Sequence[str], rows: Iterable[Sequence[str]], delimiter: str = ",") -> str:
    """Delimited text with a header, quoted where needed, lines ended by CR LF (RFC 4180)."""
    out = io.StringIO(newline="")
    writer = csv.writer(out, delimiter=delimiter)
    writer.writerow([guarded(head) for head in headers])
    writer.writerows([guarded(cell) for cell in row] for row in rows)
    return out.getvalue()
