"""Bytes of a job file that hold nothing: all zero, as they were written, so that a changed byte is found.
In large files those of the few pages that only lead to others are not looked at.

SQLite, "Database File Format", sections 1.5 to 1.6: b-tree pages (header, cell pointers, gap, cells),
freeblocks inside the cells' area, and overflow pages. A job file is written with secure_delete, which
leaves zeros where something stood, and has no free pages.
"""

from __future__ import annotations

import os

TABLE_LEAF, TABLE_INTERIOR, INDEX_LEAF, INDEX_INTERIOR = 13, 5, 10, 2
#: Cells of a page that are gone through for overflow, and pages of a file below which none that leads to
#: others (some 400 each) was parted.
MOST, PARTED = 64, 400
#: Pages of a file in which the ends of overflow pages are looked at; in larger ones it takes too long.
LARGE = 2500


def odd_slack(path: str | os.PathLike[str]) -> str:
    """The first place of a database where something stands that nothing holds, in words; empty for none."""
    with open(path, "rb") as file:
        data = file.read()
    size = int.from_bytes(data[16:18], "big")
    size = 65536 if size == 1 else size
    if size < 512 or len(data) % size:
        return "its size is not what its header says"
    used: set[int] = set()
    for number in range(1, len(data) // size + 1):
        if number not in used:
            try:
                odd = _page(data, size, number, used)
            except IndexError:
                odd = True
            if odd:
                return f"page {number} has bytes that nothing holds"
    return ""


def _page(data: bytes, size: int, number: int, used: set[int]) -> bool:
    """Whether a b-tree page has a byte beside zero outside of what it holds. used: overflow pages seen."""
    page = data[(number - 1) * size : number * size]
    at = 100 if number == 1 else 0
    kind = page[at]
    if kind not in (TABLE_LEAF, TABLE_INTERIOR, INDEX_LEAF, INDEX_INTERIOR):
        return False
    cells, start = int.from_bytes(page[at + 3 : at + 5], "big"), int.from_bytes(page[at + 5 : at + 7], "big")
    first = at + (8 if kind in (TABLE_LEAF, INDEX_LEAF) else 12)
    gap = first + 2 * cells
    if start < gap or start > size:
        return True
    if kind in (TABLE_INTERIOR, INDEX_INTERIOR) and len(data) > PARTED * size:
        return False  # when such a page is parted, SQLite leaves old pointers in the gap
    if page.count(0, gap, start) != start - gap:
        return True
    if kind in (TABLE_INTERIOR, INDEX_INTERIOR) or len(data) > LARGE * size:
        return False
    return _odd_blocks(page, at) or _odd_tails(data, size, page, first, cells, kind, used)


def _odd_blocks(page: bytes, at: int) -> bool:
    """Whether a block among the cells that was freed holds more than its own length and the next one's
    place."""
    free = int.from_bytes(page[at + 1 : at + 3], "big")
    while free:
        following, length = int.from_bytes(page[free : free + 2], "big"), page[free + 2] << 8 | page[free + 3]
        end = free + length
        if length < 4 or end > len(page) or page.count(0, free + 4, end) != length - 4 or 0 < following < end:
            return True
        free = following
    return False


def _odd_tails(
    data: bytes, size: int, page: bytes, first: int, cells: int, kind: int, used: set[int]
) -> bool:
    """Whether overflow pages of a page's cells hold more than they should. A page with more cells than MOST
    has none, or hardly any: its cells are not gone through."""
    if cells > MOST:
        return False
    for k in range(cells):
        pointer = int.from_bytes(page[first + 2 * k : first + 2 * k + 2], "big")
        end, odd = _cell(data, size, page, pointer, kind, used)
        if odd or end > size:
            return True
    return False


def _varint(page: bytes, at: int) -> tuple[int, int]:
    """A number of 1 to 9 bytes, and where it ends."""
    value = 0
    for k in range(8):
        byte = page[at + k]
        value = value << 7 | byte & 0x7F
        if byte < 0x80:
            return value, at + k + 1
    return value << 8 | page[at + 8], at + 9


def _cell(data: bytes, size: int, page: bytes, at: int, kind: int, used: set[int]) -> tuple[int, bool]:
    """End of a cell in its page (bytes), and whether its overflow pages hold more than they should."""
    if kind == TABLE_INTERIOR:
        return _varint(page, at + 4)[1], False
    begin = at
    if kind == INDEX_INTERIOR:
        at += 4
    payload, at = _varint(page, at)
    if kind == TABLE_LEAF:
        _, at = _varint(page, at)
        most = size - 35
    else:
        most = (size - 12) * 64 // 255 - 23
    if payload <= most:
        return max(at + payload, begin + 4), False
    least = (size - 12) * 32 // 255 - 23
    local = least + (payload - least) % (size - 4)
    local = local if local <= most else least
    rest, following = payload - local, int.from_bytes(page[at + local : at + local + 4], "big")
    while rest > 0:
        if following in used or not 0 < following <= len(data) // size:
            return at + local + 4, True
        used.add(following)
        begin_of = (following - 1) * size
        following = int.from_bytes(data[begin_of : begin_of + 4], "big")
        if rest < size - 4 and any(data[begin_of + 4 + rest : begin_of + size]):
            return at + local + 4, True
        rest -= size - 4
    return at + local + 4, following != 0
