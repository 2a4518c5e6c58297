"""Delimited text and clipboard into a raw table: encoding, delimiter, decimal sign and header are found out,
not asked."""

from __future__ import annotations

import csv
import io
import os
import re
from collections import Counter
from collections.abc import Sequence

from fenwind.errors import FormatError
from fenwind.exchange.files import read_bytes
from fenwind.exchange.raw_table import RawTable, is_number

_DELIMITERS = ("\t", ";", ",", "|")
_COMMA_NUMBER = re.compile(r"[+\-−]?\d+,\d+")


def read_file(path: str | os.PathLike[str]) -> RawTable:
    """Raw table of a file. Raises FormatError when it is missing, too large, binary or holds no rows."""
    where = str(path)
    text, encoding = decode(read_bytes(path), where)
    return read_text(text, where, encoding)


def decode(data: bytes, where: str) -> tuple[str, str]:
    """Text and name of its encoding: UTF-8 or UTF-16 by mark, UTF-8 if it is valid, else the likeliest.

    Raises FormatError for binary data and for text that fits no encoding.
    """
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        try:
            return data.decode("utf-16"), "utf-16"
        except UnicodeDecodeError as error:
            raise FormatError(
                "the UTF-16 text is cut off or damaged", where=where, hint="Save it again as UTF-8 text"
            ) from error
    sample = data[:100_000]
    odd = sum(sample.count(bytes([c])) for c in range(32) if c not in (9, 10, 12, 13))
    if b"\x00" in sample or odd > 0.01 * len(sample):
        raise FormatError(
            "this is a binary file, not text", where=where, hint="Export the list as CSV or plain text first"
        )
    try:
        return data.decode("utf-8-sig"), "utf-8"
    except UnicodeDecodeError:
        pass
    from charset_normalizer import from_bytes

    matches = from_bytes(sample)
    best = matches.best()
    # Many code pages fit a few accented letters equally well; then the commonest one is meant.
    best = next(
        (
            m
            for m in matches
            if best and m.encoding == "cp1252" and m.chaos == best.chaos and m.coherence == best.coherence
        ),
        best,
    )
    if best is None:
        raise FormatError(
            "the text is in no encoding that could be recognised",
            where=where,
            hint="Save it again as UTF-8 text",
        )
    try:
        return data.decode(best.encoding), best.encoding
    except UnicodeDecodeError as error:
        raise FormatError(
            f"the text is not all {best.encoding}", where=where, hint="Save it again as UTF-8 text"
        ) from error


def read_text(text: str, where: str, encoding: str = "utf-8") -> RawTable:
    """Raw table of a text, such as the clipboard's. Raises FormatError when it holds no rows or a quote is
    never closed."""
    if not text.strip():
        raise FormatError("there are no rows in it", where=where, hint="Give a list with one mark a line")
    sample = text.lstrip()[:20_000].splitlines()
    delimiter = _find_delimiter([line for line in sample if line.strip()][:60])
    rows, numbers = _split(text, delimiter, where)
    if not rows:
        raise FormatError("there are no rows in it", where=where, hint="Give a list with one mark a line")
    decimal_comma = delimiter != "," and uses_decimal_comma(rows)
    has_header = is_header(rows, decimal_comma)
    return RawTable(
        source=where,
        headers=tuple(rows[0]) if has_header else (),
        rows=rows[1:] if has_header else rows,
        lines=numbers[1:] if has_header else numbers,
        delimiter=delimiter,
        decimal_comma=decimal_comma,
        encoding=encoding,
    )


def _find_delimiter(sample: list[str]) -> str:
    """The delimiter that splits most lines into the same number of columns; a blank when none of the others
    does."""
    best, best_score = " ", 0.0
    for delimiter in _DELIMITERS:
        try:
            counts = Counter(len(row) for row in csv.reader(sample, delimiter=delimiter) if row)
        except csv.Error:
            continue  # what is wrong with it is said where it is read
        columns, times = counts.most_common(1)[0]
        score = times / sum(counts.values()) + 0.01 * columns
        if columns > 1 and score > best_score:
            best, best_score = delimiter, score
    return best


def _split(text: str, delimiter: str, where: str) -> tuple[list[list[str]], Sequence[int]]:
    if delimiter == " ":
        return _split_at_blanks(text)
    if '"' in text:
        return _split_quoted(text, delimiter, where)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    try:
        # One call of list() for all rows would keep every other thread waiting until its end.
        rows = [row for row in reader]
    except csv.Error as error:
        raise FormatError(
            str(error), where=f"{where}, line {reader.line_num}", hint="Look for what is missing there"
        ) from error
    if not text.isascii() or any(blank in text for blank in " \t\x0b\x0c"):
        rows = [[cell.strip() for cell in row] for row in rows]
    if "#" not in text and all(map(any, rows)):
        return rows, range(1, len(rows) + 1)
    kept = [(n, row) for n, row in enumerate(rows, 1) if any(row) and not row[0].startswith("#")]
    return [row for _, row in kept], [n for n, _ in kept]


def _split_at_blanks(text: str) -> tuple[list[list[str]], list[int]]:
    numbered = enumerate(text.splitlines(), 1)
    lines = [(n, line.split()) for n, line in numbered if line.strip() and not line.lstrip().startswith("#")]
    return [row for _, row in lines], [n for n, _ in lines]


def _split_quoted(text: str, delimiter: str, where: str) -> tuple[list[list[str]], list[int]]:
    rows: list[list[str]] = []
    numbers: list[int] = []
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, strict=True)
    while True:
        start = reader.line_num + 1
        try:
            row = next(reader)
        except StopIteration:
            return rows, numbers
        except csv.Error as error:
            problem = "a quote is opened and never closed" if "unexpected end" in str(error) else str(error)
            raise FormatError(
                problem, where=f"{where}, line {start}", hint="Close the quote, or remove it"
            ) from error
        if any(cell.strip() for cell in row) and not row[0].lstrip().startswith("#"):
            rows.append([cell.strip() for cell in row])
            numbers.append(start)


def uses_decimal_comma(rows: list[list[str]]) -> bool:
    """Whether the numbers among some cells are written with a decimal comma."""
    cells = [cell for row in rows[:200] for cell in row]
    return sum(bool(_COMMA_NUMBER.fullmatch(c)) for c in cells) > sum(
        bool(re.fullmatch(r"[+\-−]?\d+\.\d+", c)) for c in cells
    )


def is_header(rows: list[list[str]], decimal_comma: bool) -> bool:
    """The first row is a header when it has no number beyond its first cell, and words in it."""
    first = rows[0]
    if len(first) < 2:
        return not is_number(first[0], decimal_comma) and len(rows) > 1
    return not any(is_number(cell, decimal_comma) for cell in first[1:]) and any(
        re.search(r"[^\W\d_]", cell) for cell in first
    )
