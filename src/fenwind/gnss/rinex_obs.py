"""RINEX observation files, versions 2 to 4 (IGS, RINEX 2.11; 3.05, tables A1 to A3; 4.00; from memory)."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FormatError
from fenwind.gnss.gps_time import TICKS, ticks_of, to_gps
from fenwind.gnss.observations import Event, Header, Observations, SystemData
from fenwind.gnss.text_columns import BLANK, Lines, decimals, whole_numbers

IntArray = NDArray[np.int64]
Rows = NDArray[np.intp]
SYSTEMS = "GRECJISL"
_HINT = "Give a RINEX observation file of version 2, 3 or 4"
#: Time systems of files of one system that do not say.
TIME_OF = {
    "G": "GPS",
    "R": "GLO",
    "E": "GAL",
    "C": "BDT",
    "J": "QZS",
    "S": "GPS",
    "I": "GPS",
    "M": "GPS",
    " ": "GPS",
}
#: Width of an observation: value, loss of lock, strength.
CELL = 16
#: More satellites in an epoch, or lines in an event, are a damaged record.
MOST = 999


def read_observations(data: bytes, path: str) -> Observations:
    """The observations of a plain RINEX file. Raises FormatError for one that is none."""
    lines = Lines(data)
    end = _end_of_header(lines, path)
    header = _Head(path)
    for i in range(end):
        header.take(lines.text(i), i + 1)
    found = header.done()
    reader = _reader_of_two if found.version.startswith("2") else _reader_of_three
    records = reader(lines, end + 1, header)
    if not records.ticks.size:
        raise FormatError("there is no epoch in it", where=path, hint=_HINT)
    return Observations(
        path=path, header=found, ticks=to_gps(records.ticks, found.time_system),
        systems={k: v for k, v in records.systems.items() if v.epoch.size},
        events=tuple(_in_gps(e, found.time_system) for e in records.events),
        skipped=records.skipped,
    )  # fmt: skip


def _in_gps(event: Event, system: str) -> Event:
    if event.ticks is None:
        return event
    return replace(event, ticks=int(to_gps(np.array([event.ticks]), system)[0]))


def _end_of_header(lines: Lines, path: str) -> int:
    first = lines.text(0) if len(lines) else ""
    if "RINEX VERSION" not in first[60:]:
        raise FormatError("it has no RINEX header", where=f"{path}, line 1", hint=_HINT)
    for i in range(min(len(lines), 5000)):
        if lines.text(i)[60:].startswith("END OF HEADER"):
            return i
    raise FormatError("its header has no end", where=path, hint=_HINT)


# The header
# ---------------------------------------------------------------------------------------------------------


class _Head:
    """Takes header lines one by one; used again for those that come midway."""

    def __init__(self, path: str) -> None:
        self.path = path
        self.values: dict[str, str] = {}
        self.types: dict[str, list[str]] = {}
        self._open, self._left = "", 0
        self.slots: dict[int, int] = {}

    def take(self, line: str, number: int) -> None:
        """One header line."""
        label, text = line[60:80].strip(), line[:60]
        if label == "SYS / # / OBS TYPES":
            self._types_of_three(text, number)
        elif label == "# / TYPES OF OBSERV":
            self._types_of_two(text, number)
        elif label == "GLONASS SLOT / FRQ #":
            for found in re.finditer(r"R(\d\d)\s*([+-]?\d+)", text):
                self.slots[int(found[1])] = int(found[2])
        elif label not in ("COMMENT", ""):
            self.values.setdefault(label, text)

    def _types_of_three(self, text: str, number: int) -> None:
        if text[0] in SYSTEMS and text[3:6].strip().isdigit():
            self._open, self._left = text[0], int(text[3:6])
            self.types[self._open] = []
        elif text[0] != " " or not self._open:
            raise FormatError(
                f"{text[:6]!r} found, expected a system and how many types it has",
                where=f"{self.path}, line {number}", hint=_HINT,
            )  # fmt: skip
        some = text[6:].split()[: self._left]
        self.types[self._open] += some
        self._left -= len(some)

    def _types_of_two(self, text: str, number: int) -> None:
        if text[:6].strip().isdigit():
            self._open, self._left = " ", int(text[:6])
            self.types[" "] = []
        elif text[:6].strip() or not self._open:
            raise FormatError(
                f"{text[:6]!r} found, expected how many types there are",
                where=f"{self.path}, line {number}", hint=_HINT,
            )  # fmt: skip
        some = text[6:].split()[: self._left]
        self.types[" "] += some
        self._left -= len(some)

    def done(self) -> Header:
        """The header of the file. Raises FormatError."""
        first = self.values.get("RINEX VERSION / TYPE", "")
        version, kind, system = first[:20].strip(), first[20:21], first[40:41] or " "
        if kind != "O":
            raise FormatError("this is no observation file", where=f"{self.path}, line 1", hint=_HINT)
        if version[:1] not in ("2", "3", "4") or not re.fullmatch(r"\d(\.\d*)?", version):
            raise FormatError(
                f"version {version!r} found, expected 2, 3 or 4", where=f"{self.path}, line 1", hint=_HINT
            )
        if not any(self.types.values()):
            raise FormatError("it says no types of observation", where=self.path, hint=_HINT)
        said = self.values.get("TIME OF FIRST OBS", "")[48:51].strip()
        antenna = self.values.get("ANT # / TYPE", "")[20:40].rstrip()
        return Header(
            version=version,
            time_system=said or TIME_OF.get(system, "GPS"),
            mark=self.values.get("MARKER NAME", "").strip(),
            marker_number=self.values.get("MARKER NUMBER", "")[:20].strip(),
            receiver=self.values.get("REC # / TYPE / VERS", "")[20:40].strip(),
            antenna=antenna,
            delta=self._three("ANTENNA: DELTA H/E/N") or (0.0, 0.0, 0.0),
            position=self._position(),
            interval=self._one("INTERVAL"),
            types={k: tuple(v) for k, v in self.types.items()},
            slots=dict(self.slots),
        )

    def _one(self, label: str) -> float | None:
        try:
            value = float(self.values.get(label, "")[:10])
        except ValueError:
            return None
        return value if 0.0 < value < 1e6 else None

    def _three(self, label: str) -> tuple[float, float, float] | None:
        text = self.values.get(label, "")
        try:
            a, b, c = (float(text[i : i + 14]) for i in (0, 14, 28))
        except ValueError:
            return None
        return (a, b, c) if abs(a) + abs(b) + abs(c) < 1e9 else None

    def _position(self) -> tuple[float, float, float] | None:
        found = self._three("APPROX POSITION XYZ")
        return found if found is not None and any(found) else None


# Records
# ---------------------------------------------------------------------------------------------------------


@dataclass(kw_only=True, eq=False)
class _Records:
    """Epochs in the file's own time, systems, events, and what could not be read."""

    ticks: IntArray
    systems: dict[str, SystemData]
    events: list[Event] = field(default_factory=list)
    skipped: int = 0


def _moments(
    cells: NDArray[np.uint8], places: tuple[tuple[int, int], ...]
) -> tuple[IntArray, NDArray[np.bool_]]:
    """Ticks (k,) of times written in columns (k, w), and whether each is one; places: of year, month, day,
    hour, minute, whole seconds, and the fraction."""
    parts, fine = [], np.ones(cells.shape[0], dtype=bool)
    for first, width in places:
        value, good = whole_numbers(cells[:, first : first + width])
        good &= (cells[:, first : first + width] != BLANK).any(axis=1)
        parts.append(value)
        fine &= good
    year, month, day, hour, minute, second, fraction = parts
    fine &= (
        (month >= 1) & (month <= 12) & (day >= 1) & (day <= 31) & (hour < 24) & (minute < 60) & (second < 62)
    )
    month = np.where(fine, month, 1)
    return ticks_of(year, month, np.where(fine, day, 1), hour, minute, second * TICKS + fraction), fine


_PLACES_3 = ((2, 4), (7, 2), (10, 2), (13, 2), (16, 2), (19, 2), (22, 7))


def _reader_of_three(lines: Lines, begin: int, header: _Head) -> _Records:
    """Versions 3 and 4: an epoch line begins with >, then a line a satellite."""
    rows = np.arange(begin, len(lines))
    if not rows.size:
        return _Records(ticks=np.zeros(0, dtype=np.int64), systems={})
    filled = lines.ends[rows] > lines.starts[rows]
    rows = rows[filled]
    first = lines.data[lines.starts[rows]] if rows.size else np.zeros(0, dtype=np.uint8)
    heads = np.flatnonzero(first == ord(">"))
    cells = lines.columns(rows[heads], 0, 35)
    ticks, timed = _moments(cells, _PLACES_3)
    flag, fine_flag = whole_numbers(cells[:, 31:32])
    count, fine_count = whole_numbers(cells[:, 32:35])
    fine_flag &= (cells[:, 31] != BLANK) & (flag <= 6)
    known = fine_flag & fine_count
    ordinary = known & (flag <= 1) & timed
    following = np.diff(np.concatenate([heads, [rows.size]])) - 1
    events = [
        Event(
            ticks=int(ticks[k]) if timed[k] else None, flag=int(flag[k]),
            header_lines=int(count[k]) if flag[k] <= 5 else 0,
        )
        for k in np.flatnonzero(known & (flag > 1)).tolist()
    ]  # fmt: skip
    skipped = int((~known | (known & (flag <= 1) & ~timed)).sum()) + int(
        heads[0] if heads.size else rows.size
    )
    short = ordinary & (following < count)
    skipped += int(short.sum()) + int(np.maximum(following - count, 0)[ordinary].sum())
    if heads.size and short[-1]:  # cut off at the end of the file
        ordinary[-1] = False
    types = [(0, dict(header.types))]
    for k in np.flatnonzero(known & (flag >= 2) & (flag <= 5)).tolist():
        for line in range(heads[k] + 1, min(heads[k] + 1 + count[k], rows.size)):
            header.take(lines.text(int(rows[line])), int(rows[line]) + 1)
        types.append((k, dict(header.types)))
    epoch_of = np.cumsum(ordinary) - 1
    owner = np.cumsum(first == ord(">")) - 1
    place = np.arange(rows.size) - heads[np.maximum(owner, 0)] if heads.size else np.zeros(0, dtype=np.intp)
    mine = (owner >= 0) & (place > 0)
    mine[mine] &= ordinary[owner[mine]] & (place[mine] <= count[owner[mine]])
    picked = np.flatnonzero(mine)
    systems, bad = _satellites(lines, rows[picked], owner[picked], epoch_of, types)
    return _Records(ticks=ticks[ordinary], systems=systems, events=events, skipped=skipped + bad)


def _satellites(
    lines: Lines, rows: Rows, owner: Rows, epoch_of: IntArray, types: list[tuple[int, dict[str, list[str]]]]
) -> tuple[dict[str, SystemData], int]:
    """Satellites' lines (k,) of the epoch records `owner`, and how many lines and values cannot be read.
    types: by the record that they count from."""
    cells = lines.columns(rows, 0, 3)
    number, fine = whole_numbers(cells[:, 1:3])
    fine &= number > 0
    skipped = 0
    parts: dict[str, list[SystemData]] = {}
    starts = np.array([k for k, _ in types] + [np.iinfo(np.int64).max])
    for start, end, codes in zip(starts, starts[1:], (c for _, c in types), strict=False):
        within = (owner >= start) & (owner < end)
        if not within.any():
            continue
        known = np.isin(cells[:, 0], [ord(s) for s in codes if codes[s]])
        skipped += int((within & ~(known & fine)).sum())
        for system, some in codes.items():
            mine = np.flatnonzero(within & fine & (cells[:, 0] == ord(system)))
            if not mine.size or not some:
                continue
            values, lli, bad = _values(lines, rows[mine], 3, len(some))
            skipped += bad
            parts.setdefault(system, []).append(
                SystemData(
                    system=system, codes=tuple(some), epoch=epoch_of[owner[mine]], number=number[mine],
                    values=values, lli=lli,
                )
            )  # fmt: skip
    return {system: _joined(some) for system, some in parts.items()}, skipped


def _values(
    lines: Lines, rows: Rows, first: int, count: int
) -> tuple[NDArray[np.float64], NDArray[np.uint8], int]:
    """Values (k, c) of lines, nan where one is missing, their indicators, and how many cannot be read."""
    values = np.full((rows.size, count), np.nan)
    lli = np.zeros((rows.size, count), dtype=np.uint8)
    skipped = 0
    for column in range(count):
        cells = lines.columns(rows, first + CELL * column, CELL - 1)
        value, fine = decimals(cells[:, :14])
        digit = (cells[:, 14] > ord("0")) & (cells[:, 14] <= ord("9"))
        values[:, column] = np.where(value == 0.0, np.nan, value)
        lli[:, column] = np.where(digit, cells[:, 14] - ord("0"), 0)
        skipped += int((~fine).sum())
    return values, lli, skipped


def _joined(parts: list[SystemData]) -> SystemData:
    """Parts of one system with types that changed midway, under the codes of all."""
    if len(parts) == 1:
        return parts[0]
    codes = tuple(dict.fromkeys(code for part in parts for code in part.codes))
    size = sum(part.epoch.size for part in parts)
    values, lli = np.full((size, len(codes)), np.nan), np.zeros((size, len(codes)), dtype=np.uint8)
    at = 0
    for part in parts:
        rows = slice(at, at + part.epoch.size)
        columns = [codes.index(code) for code in part.codes]
        values[rows, columns] = part.values
        lli[rows, columns] = part.lli
        at += part.epoch.size
    return SystemData(
        system=parts[0].system, codes=codes, epoch=np.concatenate([p.epoch for p in parts]),
        number=np.concatenate([p.number for p in parts]), values=values, lli=lli,
    )  # fmt: skip


# Version 2
# ---------------------------------------------------------------------------------------------------------

#: An epoch line of version 2: time, flag, how many satellites or lines; of an event the time may be blank.
_EPOCH_2 = re.compile(
    r" (?P<time>[ \d]\d(?: [ \d]\d){4}[ \d]{2}\d\.\d{7}|[ ]{25})  (?P<flag>[0-6])(?P<count>[ \d]{2}\d)"
)
_NAME_2 = re.compile(r"([A-Z ])([ \d]\d)")


def _reader_of_two(lines: Lines, begin: int, header: _Head) -> _Records:
    """Version 2: an epoch line names its satellites, each of which has as many lines as its types need."""
    system_of_file = header.values.get("RINEX VERSION / TYPE", "")[40:41].strip() or "G"
    default = "G" if system_of_file == "M" else system_of_file
    types = list(header.types[" "])
    out = _Records(ticks=np.zeros(0, dtype=np.int64), systems={})
    times: list[str] = []
    blocks: list[Block] = []
    i, end, lost = begin, len(lines), False
    while i < end:
        text = lines.text(i)
        found = _EPOCH_2.match(text.ljust(32))
        if found is None:
            if text.strip() and not lost:
                out.skipped += 1
                lost = True
            i += 1
            continue
        lost = False
        flag, count = int(found["flag"]), int(found["count"])
        if 2 <= flag <= 5:
            out.events.append(Event(ticks=_moment_2(found["time"]), flag=flag, header_lines=count))
            types = _types_after(lines, i + 1, min(i + 1 + count, end), header)
            i += 1 + count
            continue
        names, heads = _names_2(lines, i, count, default)
        length = -(-len(types) // 5)
        last = i + heads + length * count
        if last > end or names is None:
            out.skipped += 1
            i = end if names is not None else i + 1
            lost = names is None
            continue
        if flag == 6:
            out.events.append(Event(ticks=_moment_2(found["time"]), flag=6, header_lines=0))
        elif found["time"].strip():
            blocks.append((len(times), i + heads, names, types))
            times.append(found["time"])
        i = last
    _take_blocks(lines, times, blocks, out)
    return out


#: Number of an epoch, its first line of values, its satellites, its types.
Block = tuple[int, int, list[str], list[str]]


def _types_after(lines: Lines, first: int, last: int, header: _Head) -> list[str]:
    """The types that count after header lines that came midway."""
    for line in range(first, last):
        header.take(lines.text(line), line + 1)
    return list(header.types[" "])


def _take_blocks(lines: Lines, times: list[str], blocks: list[Block], out: _Records) -> None:
    """Read the values of epochs whose times can be read."""
    ticks = [_moment_2(t) for t in times]
    fine = np.array([t is not None for t in ticks], dtype=bool)
    out.skipped += int((~fine).sum())
    out.ticks = np.array([t for t in ticks if t is not None], dtype=np.int64)
    out.systems, bad = _satellites_of_two(lines, [b for b in blocks if fine[b[0]]], np.cumsum(fine) - 1)
    out.skipped += bad


def _moment_2(text: str) -> int | None:
    if not text.strip():
        return None
    year = int(text[0:2])
    parts = [year + (1900 if year >= 80 else 2000), *(int(text[k : k + 2]) for k in (3, 6, 9, 12))]
    seconds, fraction = text[14:].split(".")
    month, day = parts[1:3]
    if not (1 <= month <= 12 and 1 <= day <= 31 and parts[3] < 24 and parts[4] < 60 and int(seconds) < 62):
        return None
    tick = int(seconds) * TICKS + int(fraction)
    return int(ticks_of(*(np.array([v]) for v in (*parts, tick)))[0])


def _names_2(lines: Lines, i: int, count: int, default: str) -> tuple[list[str] | None, int]:
    """Satellites of an epoch, None where they cannot be read, and how many lines name them."""
    heads = max(-(-count // 12), 1)
    if count > MOST:
        return None, heads
    names: list[str] = []
    for k in range(heads):
        text = lines.text(i + k)[32:68] if i + k < len(lines) else ""
        for place in range(min(12, count - 12 * k)):
            found = _NAME_2.fullmatch(text[3 * place : 3 * place + 3].ljust(3))
            if found is None:
                return None, heads
            names.append(f"{found[1].strip() or default}{int(found[2]):02d}")
    return names, heads


def _satellites_of_two(
    lines: Lines, blocks: list[Block], epoch_of: IntArray
) -> tuple[dict[str, SystemData], int]:
    """Observations of blocks of lines; values of one type stand in one column of one of a satellite's
    lines."""
    skipped = 0
    parts: dict[str, list[SystemData]] = {}
    for types in _distinct(tuple(block[3]) for block in blocks):
        mine = [b for b in blocks if tuple(b[3]) == types]
        length = -(-len(types) // 5)
        firsts = np.array([b[1] + length * k for b in mine for k in range(len(b[2]))], dtype=np.intp)
        epochs = np.array([epoch_of[b[0]] for b in mine for _ in b[2]], dtype=np.int64)
        names = [name for b in mine for name in b[2]]
        values = np.full((firsts.size, len(types)), np.nan)
        lli = np.zeros((firsts.size, len(types)), dtype=np.uint8)
        for part in range(length):
            here = slice(5 * part, min(5 * part + 5, len(types)))
            found = _values(lines, firsts + part, 0, here.stop - here.start)
            values[:, here], lli[:, here] = found[:2]
            skipped += found[2]
        letters = np.array([name[0] for name in names])
        numbers = np.array([int(name[1:]) for name in names], dtype=np.int64)
        for system in dict.fromkeys(letters.tolist()):
            rows = np.flatnonzero(letters == system)
            parts.setdefault(system, []).append(
                SystemData(
                    system=system, codes=types, epoch=epochs[rows], number=numbers[rows],
                    values=values[rows], lli=lli[rows],
                )
            )  # fmt: skip
    return {system: _joined(some) for system, some in parts.items()}, skipped


def _distinct(items: Iterable[tuple[str, ...]]) -> list[tuple[str, ...]]:
    return list(dict.fromkeys(items))
