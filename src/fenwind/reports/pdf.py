"""A report as PDF through reportlab, with the shipped font and the same figures as the HTML."""

from __future__ import annotations

import io
import re
from html import escape
from importlib.resources import as_file, files
from typing import Any
from xml.etree import ElementTree

from fenwind.reports.model import Figure, Paragraph, Report, Table

INK, FAINT, RULE = "#1F2A30", "#6C7378", "#D9D4C7"
TONES = {"doubt": "#C2410C", "caution": "#B7791F", "settled": "#4E7A51", "faint": "#6C7378"}
REGULAR, BOLD = "PlexSans", "PlexSans-Bold"


def to_pdf(report: Report) -> bytes:
    """PDF (A4, landscape where a table is wide) of a report, page numbers at the foot."""
    from reportlab.lib.pagesizes import A4, landscape
    from reportlab.platypus import SimpleDocTemplate

    _load_fonts()
    widest = max(
        (len(b.headers) for s in report.sections for b in s.blocks if isinstance(b, Table)), default=0
    )
    page = landscape(A4) if widest > 12 else A4
    out = io.BytesIO()
    document = SimpleDocTemplate(
        out,
        pagesize=page,
        leftMargin=42,
        rightMargin=42,
        topMargin=44,
        bottomMargin=44,
        title=report.title,
        author="Fenwind",
    )
    parts: list[Any] = [
        *_head(report, document.width),
        _text(report.title, 17, bold=True),
        _text(report.subtitle, 9, FAINT),
        *_facts(report, document.width),
        _text(report.statement, 13, space=10),
    ]
    for section in report.sections:
        parts.append(_text(section.title.upper(), 8, FAINT, space=3, before=12, kept=True))
        blocks = list(section.blocks)
        while blocks:
            block = blocks.pop(0)
            following = blocks[0] if blocks else None
            if isinstance(block, Table) and isinstance(following, Figure) and following.size < 1.0:
                parts.append(_beside(block, following, document.width))
                blocks.pop(0)
            else:
                parts += _block(block, document.width)
    parts += _signed(report, document.width)
    document.build(parts, canvasmaker=_numbering())
    return out.getvalue()


def _head(report: Report, width: float) -> list[Any]:
    from reportlab.platypus import Image, Spacer

    letterhead = report.letterhead
    out: list[Any] = []
    if letterhead.logo:
        picture = Image(io.BytesIO(letterhead.logo), hAlign="LEFT")
        size = min(36.0 / picture.imageHeight, 0.5 * width / picture.imageWidth)
        picture.drawHeight, picture.drawWidth = picture.imageHeight * size, picture.imageWidth * size
        out.append(picture)
    if letterhead.name:
        out.append(_text(letterhead.name, 9, FAINT))
    return [*out, Spacer(1, 10)] if out else []


def _facts(report: Report, width: float) -> list[Any]:
    from reportlab.platypus import Spacer, Table, TableStyle

    if not report.facts:
        return []
    rows = [[_text(label, 8.5, FAINT, space=0), _text(text, 8.5, space=0)] for label, text in report.facts]
    whole = (0, 0), (-1, -1)
    bare = TableStyle(
        [("LEFTPADDING", *whole, 0), ("TOPPADDING", *whole, 1), ("BOTTOMPADDING", *whole, 1),
         ("VALIGN", *whole, "TOP")]
    )  # fmt: skip
    return [Table(rows, colWidths=[90, width - 90], style=bare, hAlign="LEFT"), Spacer(1, 8)]


def _signed(report: Report, width: float) -> list[Any]:
    """Lines to sign on, in one row that is never parted."""
    from reportlab.platypus import KeepTogether, Spacer, Table, TableStyle

    if not report.signed:
        return []
    gap, count = 18.0, len(report.signed)
    cells: list[str] = []
    for label in report.signed:
        cells += [label, ""]
    line = (width - gap * (count - 1)) / count
    widths = ([line, gap] * count)[:-1]
    whole = (0, 0), (-1, -1)
    style: list[tuple[Any, ...]] = [
        ("FONT", *whole, REGULAR, 8), ("TEXTCOLOR", *whole, FAINT), ("LEFTPADDING", *whole, 0),
    ]  # fmt: skip
    style += [("LINEABOVE", (2 * k, 0), (2 * k, 0), 0.8, INK) for k in range(count)]
    table = Table([cells[:-1]], colWidths=widths, style=TableStyle(style))
    return [KeepTogether([Spacer(1, 46), table])]


def _load_fonts() -> None:
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont

    folder = files("fenwind").joinpath("desk/fonts")
    for name, weight in ((REGULAR, "Regular"), (BOLD, "SemiBold")):
        if name not in pdfmetrics.getRegisteredFontNames():
            found = next(
                f for f in folder.iterdir() if f.name.endswith(".ttf") and weight.lower() in f.name.lower()
            )
            with as_file(found) as path:
                pdfmetrics.registerFont(TTFont(name, str(path)))


def _text(
    text: str,
    size: float,
    colour: str = INK,
    *,
    bold: bool = False,
    space: float = 4,
    before: float = 0,
    kept: bool = False,
) -> Any:
    from reportlab.lib.styles import ParagraphStyle
    from reportlab.platypus import Paragraph as Flowable

    style = ParagraphStyle(
        "own",
        fontName=BOLD if bold else REGULAR,
        fontSize=size,
        leading=size * 1.35,
        textColor=colour,
        spaceAfter=space,
        spaceBefore=before,
        keepWithNext=kept,
    )
    return Flowable(escape(_shown(text)), style)


def _shown(text: str) -> str:
    """Symbols that the font lacks, in words; thin spaces as narrow ones it has."""
    return text.replace("\u2009", "\u00a0").replace("\u202f", "\u00a0")


def _block(block: Paragraph | Table | Figure, width: float) -> list[Any]:
    from reportlab.platypus import Spacer

    if isinstance(block, Paragraph):
        return [_text(block.text, 6 if block.tone == "code" else 9, TONES.get(block.tone, INK))]
    if isinstance(block, Table):
        return [_table(block, width), Spacer(1, 6)]
    return [_figure(block, width * block.size), _text(block.caption, 8, FAINT)]


def _beside(table: Table, figure: Figure, width: float) -> Any:
    """A table with a small figure at its right."""
    from reportlab.platypus import Table as Grid

    left = width * (1.0 - figure.size)
    right = [_figure(figure, width * figure.size - 12.0), _text(figure.caption, 6, FAINT)]
    grid = Grid([[_table(table, left), right]], colWidths=[left, width - left], hAlign="LEFT")
    grid.setStyle([("VALIGN", (0, 0), (-1, -1), "TOP"), *((f"{side}PADDING", (0, 0), (-1, -1), 0)
                   for side in ("LEFT", "TOP", "BOTTOM"))])  # fmt: skip
    return grid


def _table(table: Table, width: float) -> Any:
    from reportlab.platypus import LongTable, TableStyle

    size = 7.5 if len(table.headers) > 8 else 8.5
    head = [f"{title}\n{unit}" if unit else title for title, unit in table.headers]
    data = [[_shown(c) for c in row] for row in (head, *table.rows)]
    style: list[tuple[Any, ...]] = [
        ("FONT", (0, 0), (-1, -1), REGULAR, size),
        ("TEXTCOLOR", (0, 0), (-1, 0), FAINT),
        ("TEXTCOLOR", (0, 1), (-1, -1), INK),
        ("ALIGN", (table.text_columns, 0), (-1, -1), "RIGHT"),
        ("ALIGN", (0, 0), (table.text_columns - 1, -1), "LEFT"),
        ("VALIGN", (0, 0), (-1, 0), "BOTTOM"),
        ("LINEBELOW", (0, 0), (-1, 0), 0.8, INK),
        ("LINEBELOW", (0, 1), (-1, -1), 0.3, RULE),
        ("TOPPADDING", (0, 0), (-1, -1), 2),
        ("BOTTOMPADDING", (0, 0), (-1, -1), 2),
        ("LEFTPADDING", (0, 0), (-1, -1), 3),
        ("RIGHTPADDING", (0, 0), (-1, -1), 3),
    ]
    for row, tone in enumerate(table.tones, 1):
        if tone in TONES:
            style.append(("TEXTCOLOR", (0, row), (-1, row), TONES[tone]))
        if tone in ("doubt", "settled"):
            style.append(("FONT", (0, row), (-1, row), BOLD, size))
    widths = _widths(table, size, width)
    for column, wide in enumerate(widths):
        # Names and sentences break their lines; figures never do.
        if column < table.text_columns:
            for row in range(1, len(data)):
                if _needed(data[row][column], size) > wide:
                    data[row][column] = _text(data[row][column], size, space=0)
    return LongTable(data, style=TableStyle(style), colWidths=widths, repeatRows=1, hAlign="LEFT")


def _widths(table: Table, size: float, width: float) -> list[float]:
    """Widths of columns that use the page: what each needs and an even share of what is left; where that is
    too much, columns of text give way."""
    heads = [max(_needed(part, size) for part in (title, unit)) for title, unit in table.headers]
    needed = [
        max([heads[i], *(_needed(row[i], size) for row in table.rows)]) for i in range(len(table.headers))
    ]
    left = width - sum(needed)
    if left >= 0.0:
        return [n + min(left / len(needed), 30.0) for n in needed]
    texts = needed[: table.text_columns]
    give = [max(t - max(60.0, width / (2 * len(needed))), 0.0) for t in texts]
    share = min(1.0, -left / sum(give)) if sum(give) > 0.0 else 0.0
    return [n - share * g for n, g in zip(texts, give, strict=True)] + needed[table.text_columns :]


def _needed(text: str, size: float) -> float:
    """The width that a text needs in a cell."""
    from reportlab.pdfbase.pdfmetrics import stringWidth

    return float(stringWidth(_shown(text), REGULAR, size)) + 7.0


def _numbering() -> Any:
    """A canvas that writes title and page n of m at the foot, once it knows how many there are."""
    from reportlab.pdfgen.canvas import Canvas

    class Numbered(Canvas):  # type: ignore[misc]
        def __init__(self, *args: Any, **options: Any) -> None:
            super().__init__(*args, **options)
            self._pages: list[dict[str, Any]] = []

        def showPage(self) -> None:
            self._pages.append(dict(self.__dict__))
            self._startPage()

        def save(self) -> None:
            for number, page in enumerate(self._pages, 1):
                self.__dict__.update(page)
                self.setFont(REGULAR, 8)
                self.setFillColor(FAINT)
                self.drawString(42, 24, _shown(self._doc.info.title))
                self.drawRightString(self._pagesize[0] - 42, 24, f"{number} of {len(self._pages)}")
                super().showPage()
            super().save()

    return Numbered


def _figure(figure: Figure, width: float) -> Any:
    """The SVG that Fenwind's own figures are made of (rect, circle, line, path of straight pieces, text) as a
    drawing."""
    from reportlab.graphics.shapes import Drawing, Group

    root = ElementTree.fromstring(figure.svg)  # our own text, never a file from outside
    _, _, w, h = (float(v) for v in root.get("viewBox", "0 0 100 100").split())
    scale = min(width / w, 330.0 / h)
    group = Group(transform=(scale, 0, 0, -scale, 0, h * scale))
    for element in root:
        group.add(_shape(element))
    drawing = Drawing(w * scale, h * scale)
    drawing.add(group)
    return drawing


def _shape(element: ElementTree.Element) -> Any:
    from reportlab.graphics import shapes
    from reportlab.lib.colors import HexColor

    kind = element.tag.rsplit("}", 1)[-1]

    def number(key: str, default: float = 0.0) -> float:
        return float(element.get(key, default))

    def paint(key: str) -> Any:
        value = element.get(key)
        return HexColor(value) if value and value.startswith("#") else None

    look = {"strokeColor": paint("stroke"), "strokeWidth": number("stroke-width", 1.0)}
    if kind == "rect":
        return shapes.Rect(
            number("x"), number("y"), number("width"), number("height"), fillColor=paint("fill"), **look
        )
    if kind == "circle":
        return shapes.Circle(number("cx"), number("cy"), number("r"), fillColor=paint("fill"), **look)
    if kind == "line":
        return shapes.Line(number("x1"), number("y1"), number("x2"), number("y2"), **look)
    if kind == "text":
        anchor = {"middle": "middle", "end": "end"}.get(element.get("text-anchor", ""), "start")
        text = shapes.String(
            0,
            0,
            _shown(element.text or ""),
            fontName=REGULAR,
            fontSize=number("font-size", 12),
            textAnchor=anchor,
        )
        text.fillColor = paint("fill") or HexColor(INK)
        # The picture is upside down to PDF; letters are turned back about where they stand.
        return shapes.Group(text, transform=(1, 0, 0, -1, number("x"), number("y")))
    path = shapes.Path(fillColor=paint("fill"), **look)
    _trace(path, element.get("d", ""))
    return path


_STEP = re.compile(r"([MmLlHhVvZz])|(-?[\d.]+(?:e-?\d+)?)")


def _trace(path: Any, d: str) -> None:
    """Straight pieces of an SVG path, absolute and relative."""
    x = y = 0.0
    command, numbers = "", [float(0)][:0]
    for word, value in _STEP.findall(d):
        if word:
            command = word
            if word in "Zz":
                path.closePath()
            continue
        numbers.append(float(value))
        if len(numbers) < (1 if command in "HhVv" else 2):
            continue
        relative = command.islower()
        if command in "Hh":
            x = numbers[0] + (x if relative else 0.0)
        elif command in "Vv":
            y = numbers[0] + (y if relative else 0.0)
        else:
            x, y = numbers[0] + (x if relative else 0.0), numbers[1] + (y if relative else 0.0)
        (path.moveTo if command in "Mm" else path.lineTo)(x, y)
        if command in "Mm":
            command = "l" if relative else "L"
        numbers = []
