"""Spreadsheets (Office Open XML, ISO/IEC 29500) through openpyxl: a sheet into a raw table, and a list
out."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterable, Sequence
from datetime import date, datetime
from typing import Any

from fenwind.errors import FormatError
from fenwind.exchange.files import foreign_reader, read_bytes, write_bytes
from fenwind.exchange.raw_table import RawTable

#: Unpacked size and rows beyond which a workbook is no list of marks.
MAX_UNPACKED = 500_000_000
MAX_RATIO = 200
MAX_ROWS = 1_000_000
MAX_COLUMNS = 200
_HINT = "Save the sheet as CSV, or check the file in a spreadsheet program"


def read_xlsx(path: str, part: str = "") -> RawTable:
    """A sheet of a workbook as a raw table: the one named `part`, else the first with rows in it. Values, not
    formulas, are read.

    Raises FormatError for damaged files, for archives that unpack beyond all bounds, and when there are no
    rows.
    """
    from openpyxl import load_workbook

    data = read_bytes(path)
    _check_archive(data, path)
    with foreign_reader(path, "the workbook", _HINT):
        book = load_workbook(io.BytesIO(data), read_only=True, data_only=True, keep_links=False)
        try:
            names = tuple(sheet.title for sheet in book.worksheets)
            for name in (part,) if part else names:
                if name not in names:
                    raise FormatError(
                        f"there is no sheet {name!r}", where=path, hint=f"Choose one of {', '.join(names)}"
                    )
                sheet = book[name]
                # What a sheet says of its size pads every row to it; the rows themselves know better.
                sheet.reset_dimensions()
                rows, lines = _cells(sheet.iter_rows(values_only=True), path)
                if rows:
                    return _table(path, name, names, rows, lines)
        finally:
            book.close()
    raise FormatError("there are no rows in it", where=path, hint="Give a sheet with one mark a row")


def _check_archive(data: bytes, path: str) -> None:
    """An archive of a few kilobytes can unpack to gigabytes: look before unpacking."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            sizes = [(i.file_size, max(i.compress_size, 1)) for i in archive.infolist()]
    except (zipfile.BadZipFile, ValueError, OSError, NotImplementedError) as error:
        raise FormatError("the workbook is damaged", where=path, hint=_HINT) from error
    if sum(size for size, _ in sizes) > MAX_UNPACKED or any(
        s > 10_000_000 and s / c > MAX_RATIO for s, c in sizes
    ):
        raise FormatError("the workbook unpacks to far more than a list of marks", where=path, hint=_HINT)


def _cells(rows: Iterable[tuple[Any, ...]], path: str) -> tuple[list[list[str]], list[int]]:
    out, lines = [], []
    for number, row in enumerate(rows, 1):
        if number > MAX_ROWS:
            raise FormatError(f"the sheet has over {MAX_ROWS} rows", where=path, hint="Split it")
        texts = [_text(value) for value in row[:MAX_COLUMNS]]
        while texts and not texts[-1]:
            texts.pop()
        if texts and not texts[0].startswith("#"):
            out.append(texts)
            lines.append(number)
    return out, lines


def _text(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    if isinstance(value, (datetime, date)):
        return value.isoformat()
    return str(value).strip()


def _table(path: str, name: str, names: tuple[str, ...], rows: list[list[str]], lines: list[int]) -> RawTable:
    from fenwind.exchange.delimited import is_header, uses_decimal_comma

    comma = uses_decimal_comma(rows)
    head = is_header(rows, comma)
    return RawTable(
        source=f"{path}, sheet {name}" if len(names) > 1 else path,
        headers=tuple(rows[0]) if head else (),
        rows=rows[1:] if head else rows,
        lines=lines[1:] if head else lines,
        decimal_comma=comma,
        place="row",
        part=name,
        parts=names,
    )


def write_xlsx(
    path: str, headers: Sequence[str], rows: Iterable[Sequence[str | float]], title: str, note: str
) -> None:
    """Write a list as a workbook with one sheet; numbers stay numbers, texts stay texts even where they begin
    like a formula. `note` stands in the document's description. Raises FormatError when the file cannot be
    written."""
    from openpyxl import Workbook
    from openpyxl.cell import WriteOnlyCell
    from openpyxl.styles import Font

    book = Workbook(write_only=True)
    book.properties.title, book.properties.description, book.properties.creator = title, note, "Fenwind"
    sheet = book.create_sheet("Positions")
    sheet.freeze_panes = "A2"
    for index, head in enumerate(headers):
        sheet.column_dimensions[_letter(index)].width = max(12, min(len(head) + 4, 34))

    def text_cell(text: str, bold: bool = False) -> Any:
        cell = WriteOnlyCell(sheet, value=_printable(text))
        cell.data_type = "s"
        if bold:
            cell.font = Font(bold=True)
        return cell

    sheet.append([text_cell(head, True) for head in headers])
    for row in rows:
        sheet.append([text_cell(v) if isinstance(v, str) else (None if v != v else v) for v in row])
    out = io.BytesIO()
    book.save(out)
    write_bytes(path, out.getvalue())


def _letter(index: int) -> str:
    from openpyxl.utils import get_column_letter

    return str(get_column_letter(index + 1))


def _printable(text: str) -> str:
    """A text without the control characters that the format forbids."""
    return "".join(c for c in text if c in "\t\n" or ord(c) >= 32)
