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
from fenwind.exchange.raw_table import NumberStyle, RawTable, is_number, number_style
from fenwind.quantities.numbers import counted

MAX_COLUMNS = 5000
DELIMITERS = ("\t", ";", ",", "|")


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
    rows, numbers, comments = _split(text, delimiter, where)
    if not rows:
        raise FormatError("there are no rows in it", where=where, hint="Give a list with one mark a line")
    if len(rows[0]) > MAX_COLUMNS:
        raise FormatError(
            f"the first row has {len(rows[0])} cells; a list of marks has at most {MAX_COLUMNS}",
            where=where,
            hint="Give a list with one mark a line",
        )
    # Cells that hold no comma, as those between commas without quotes, are written with dots.
    commas = "," in text and (delimiter != "," or '"' in text)
    style = number_style(rows) if commas else NumberStyle()
    titles = titles_before(rows, style.decimal_comma)
    rows, numbers = rows[titles:], numbers[titles:]
    has_header = is_header(rows, style.decimal_comma)
    left_out: tuple[str, ...] = (
        (f"{counted(comments, 'line')} beginning with # left out as comments.",) if comments else ()
    )
    left_out += (titles_left_out(titles),) if titles else ()
    return RawTable(
        source=where,
        headers=tuple(rows[0]) if has_header else (),
        rows=rows[1:] if has_header else rows,
        lines=numbers[1:] if has_header else numbers,
        delimiter=delimiter,
        decimal_comma=style.decimal_comma,
        grouped=style.grouped,
        encoding=encoding,
        remarks=left_out,
    )


def _find_delimiter(sample: list[str]) -> str:
    """The delimiter that splits most lines into the same number of columns; a blank when none of the others
    does."""
    best, best_score = " ", 0.0
    for delimiter in DELIMITERS:
        try:
            counts = Counter(len(row) for row in csv.reader(sample, delimiter=delimiter) if row)
        except csv.Error:
            continue  # what is wrong with it is said where it is read
        columns, times = counts.most_common(1)[0]
        score = times / sum(counts.values()) + 0.01 * columns
        if columns > 1 and score > best_score:
            best, best_score = delimiter, score
    return best


Rows = tuple[list[list[str]], Sequence[int], int]


def is_comment(row: Sequence[str]) -> bool:
    """Whether a row that begins with # is a comment: a mark may be called #1, and then has numbers beside
    it."""
    return row[0].startswith("#") and not any(is_number(cell, True) or is_number(cell) for cell in row[1:])


def _split(text: str, delimiter: str, where: str) -> Rows:
    """Rows of cells, the lines they begin on, and how many lines were left out as comments."""
    if delimiter == " ":
        lines = text.splitlines()
        return _kept([line.split() for line in lines], range(1, len(lines) + 1))
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
        return rows, range(1, len(rows) + 1), 0
    return _kept(rows, range(1, len(rows) + 1))


def _kept(rows: list[list[str]], numbers: Sequence[int]) -> Rows:
    filled = [(n, row) for n, row in zip(numbers, rows, strict=True) if any(row)]
    kept = [(n, row) for n, row in filled if not is_comment(row)]
    return [row for _, row in kept], [n for n, _ in kept], len(filled) - len(kept)


def _split_quoted(text: str, delimiter: str, where: str) -> Rows:
    rows: list[list[str]] = []
    numbers: list[int] = []
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, strict=True)
    while True:
        start = reader.line_num + 1
        try:
            row = next(reader)
        except StopIteration:
            return _kept(rows, numbers)
        except csv.Error as error:
            problem = "a quote is opened and never closed" if "unexpected end" in str(error) else str(error)
            raise FormatError(
                problem, where=f"{where}, line {start}", hint="Close the quote, or remove it"
            ) from error
        rows.append([cell.strip() for cell in row])
        numbers.append(start)


def titles_before(rows: Sequence[Sequence[str]], decimal_comma: bool) -> int:
    """How many rows of titles stand before the heads. The heads are the fullest row, the first of equals,
    before the first row with numbers; it must be a header itself, and fuller than what stands before it."""
    first = next(
        (i for i, row in enumerate(rows[:20]) if any(is_number(c, decimal_comma) for c in row[1:])), 0
    )
    if first < 2:
        return 0
    filled = [sum(map(bool, row)) for row in rows[:first]]
    place = filled.index(max(filled))
    return place if filled[place] > 2 and is_header([list(rows[place])], decimal_comma) else 0


def titles_left_out(count: int) -> str:
    """The remark about rows of titles."""
    return f"{counted(count, 'row')} of titles before the heads left out."


def is_header(rows: list[list[str]], decimal_comma: bool) -> bool:
    """The first row is a header when it has no number beyond its first cell, and words in it."""
    first = rows[0]
    if len(first) < 2:
        return not is_number(first[0], decimal_comma) and len(rows) > 1
    return not any(is_number(cell, decimal_comma) for cell in first[1:]) and any(
        re.search(r"[^\W\d_]", cell) for cell in first
    )
