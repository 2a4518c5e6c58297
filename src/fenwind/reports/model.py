"""What a report is made of, before it is HTML or anything else."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

Tone = Literal["", "settled", "caution", "doubt", "faint", "code"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Paragraph:
    """A paragraph of text."""

    text: str
    tone: Tone = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Table:
    """headers: (title, unit) of every column; rows of text; tones: one a row; text columns are the first
    `text_columns`."""

    headers: tuple[tuple[str, str], ...]
    rows: tuple[tuple[str, ...], ...]
    tones: tuple[Tone, ...] = ()
    text_columns: int = 1


@dataclass(frozen=True, slots=True, kw_only=True)
class Figure:
    """An SVG picture and its caption; size: of the whole that a picture may take. A small one after a table
    stands beside it on paper."""

    svg: str
    caption: str
    size: float = 1.0


Block = Paragraph | Table | Figure


@dataclass(frozen=True, slots=True, kw_only=True)
class Section:
    """A titled part of a report."""

    title: str
    blocks: tuple[Block, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Letterhead:
    """Who hands a report over: a name, and a picture (PNG or JPEG) for its head, empty for none."""

    name: str = ""
    logo: bytes = b""


@dataclass(frozen=True, slots=True, kw_only=True)
class Report:
    """A report: title, one line under it, the statement in one sentence, and sections. facts: what it is
    about, each a label and a text; signed: labels of the lines at its end that are signed on."""

    title: str
    subtitle: str
    statement: str
    sections: tuple[Section, ...] = field(default=())
    facts: tuple[tuple[str, str], ...] = ()
    signed: tuple[str, ...] = ()
    letterhead: Letterhead = Letterhead()
