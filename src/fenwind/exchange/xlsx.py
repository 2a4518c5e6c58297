"""Spreadsheets (Office Open XML, ISO/IEC 29500) through openpyxl: a sheet into a raw table, and a list
out."""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Iterable, Sequence
from datetime import date, datetime
from typing import Any

from fenwind.errors import FormatError
from fenwind.exchange.files import foreign_reader, read_bytes, write_bytes
from fenwind.exchange.raw_table import RawTable, number_style
from fenwind.quantities.numbers import counted

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

    from fenwind.exchange.point_list import match_header

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
                    table = _table(path, name, names, rows, lines, _remarks(data, book, sheet))
                    column = match_header(table).columns.get("name")
                    if column is not None:
                        _names_as_typed(sheet, column, dict(zip(table.lines, table.rows, strict=True)))
                    return table
        finally:
            book.close()
    raise FormatError("there are no rows in it", where=path, hint="Give a sheet with one mark a row")


_HIDDEN_ROW = re.compile(rb"<row\b[^>]*\bhidden=.(?:1|true).")
_EMPTY_FORMULA = re.compile(rb"<c\b[^>]*>\s*<f\b(?:[^>]*/>|[^>]*>[^<]*</f>)\s*(?:<v\s*/>|<v></v>)?\s*</c>")


def _remarks(data: bytes, book: Any, sheet: Any) -> tuple[str, ...]:
    """Parts of the sheet that a reader may not see, in sentences: hidden rows and sheets, and
    formulas that no program has worked out."""
    out = []
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        text = archive.read(str(sheet._worksheet_path).lstrip("/"))
    formulas, rows = len(_EMPTY_FORMULA.findall(text)), len(_HIDDEN_ROW.findall(text))
    sheets = [one.title for one in book.worksheets if one.sheet_state != "visible"]
    if formulas:
        out.append(
            f"{counted(formulas, 'formula')} without a value: save the workbook in a spreadsheet program."
        )
    if rows:
        out.append(f"{counted(rows, 'hidden row')} read like the others.")
    if sheets:
        out.append(f"Hidden: {counted(len(sheets), 'sheet')} ({', '.join(sheets)[:80]}).")
    return tuple(out)


def _names_as_typed(sheet: Any, column: int, rows: dict[int, list[str]]) -> None:
    """Write names that are numbers as the sheet shows them: 7.10, where the cell holds 7.1 with two decimals.
    rows: the list's rows by their number in the sheet."""
    sheet.reset_dimensions()
    for number, cells in enumerate(sheet.iter_rows(min_col=column + 1, max_col=column + 1), 1):
        cell = cells[0] if cells else None
        shown = re.fullmatch(r"0\.(0+)", getattr(cell, "number_format", None) or "")
        if number in rows and shown and isinstance(getattr(cell, "value", None), int | float):
            rows[number][column] = f"{cell.value:.{len(shown[1])}f}"  # type: ignore[union-attr]


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


def _cells(rows: Iterable[tuple[Any, ...]], path: str) -> tuple[list[list[Any]], list[int]]:
    out, lines = [], []
    for number, row in enumerate(rows, 1):
        if number > MAX_ROWS:
            raise FormatError(f"the sheet has over {MAX_ROWS} rows", where=path, hint="Split it")
        values = list(row[:MAX_COLUMNS])
        while values and (values[-1] is None or not str(values[-1]).strip()):
            values.pop()
        if values:
            out.append(values)
            lines.append(number)
    return out, lines


def _text(value: Any, comma: bool) -> str:
    """A value as a cell of the list; numbers as its texts write them."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    if isinstance(value, float):
        return str(value).replace(".", "," if comma else ".")
    if isinstance(value, (datetime, date)):
        return value.isoformat()
    return str(value).strip()


def _table(
    path: str,
    name: str,
    names: tuple[str, ...],
    values: list[list[Any]],
    lines: list[int],
    remarks: tuple[str, ...],
) -> RawTable:
    from fenwind.exchange.delimited import is_comment, is_header, titles_before, titles_left_out

    # Only what was typed as text says how the list writes its numbers.
    style = number_style([[v.strip() for v in row if isinstance(v, str)] for row in values])
    every = [[_text(value, style.decimal_comma) for value in row] for row in values]
    kept = [(n, row) for n, row in zip(lines, every, strict=True) if not is_comment(row)]
    if len(kept) < len(every):
        remarks += (f"{counted(len(every) - len(kept), 'row')} beginning with # left out as comments.",)
    rows, numbers = [row for _, row in kept], [n for n, _ in kept]
    titles = titles_before(rows, style.decimal_comma)
    rows, numbers = rows[titles:], numbers[titles:]
    remarks += (titles_left_out(titles),) if titles else ()
    head = bool(rows) and is_header(rows, style.decimal_comma)
    return RawTable(
        source=f"{path}, sheet {name}" if len(names) > 1 else path,
        headers=tuple(rows[0]) if head else (),
        rows=rows[1:] if head else rows,
        lines=numbers[1:] if head else numbers,
        decimal_comma=style.decimal_comma,
        grouped=style.grouped,
        place="row",
        part=name,
        parts=names,
        remarks=remarks,
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
