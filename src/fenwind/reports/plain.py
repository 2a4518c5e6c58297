"""A report as plain text for a terminal."""

from __future__ import annotations

import textwrap

from fenwind.reports.model import Figure, Paragraph, Report, Table


def to_text(report: Report, width: int = 110) -> str:
    """Plain text of a report; figures are left out."""
    out = [report.letterhead.name] if report.letterhead.name else []
    out += [report.title, report.subtitle, ""]
    if report.facts:
        widest = max(len(label) for label, _ in report.facts)
        out += [*(f"{label.ljust(widest)}  {text}" for label, text in report.facts), ""]
    out += [textwrap.fill(report.statement, width), ""]
    for section in report.sections:
        out += [section.title.upper()]
        for block in section.blocks:
            if isinstance(block, Paragraph):
                out += [textwrap.fill(block.text, width, initial_indent="  ", subsequent_indent="  ")]
            elif isinstance(block, Table):
                out += _table(block)
            else:
                assert isinstance(block, Figure)
        out.append("")
    if report.signed:
        out += ["", *(f"{label}: {'.' * 40}" for label in report.signed)]
    return "\n".join(out).rstrip()


def _table(table: Table) -> list[str]:
    head = [f"{title} {unit}".strip() for title, unit in table.headers]
    widths = [max(len(row[i]) for row in (head, *table.rows)) for i in range(len(head))]

    def line(cells: tuple[str, ...] | list[str]) -> str:
        texts = (
            c.ljust(w) if i < table.text_columns else c.rjust(w)
            for i, (c, w) in enumerate(zip(cells, widths, strict=True))
        )
        return ("  " + "  ".join(texts)).rstrip()

    return [line(head), *(line(row) for row in table.rows)]
