"""Broadcast navigation messages of a RINEX file, versions 2 to 4: elements and states of satellites, their
clocks, and the model of the ionosphere (IGS, RINEX 2.11, 3.05 and 4.00; from memory)."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from fenwind.errors import FormatError
from fenwind.gnss.gps_time import TICKS, ticks_of, to_gps

_HINT = "Give a RINEX navigation file of version 2, 3 or 4"
#: Lines of a message after its first one, by system.
_MORE = {"G": 7, "E": 7, "C": 7, "J": 7, "I": 7, "R": 3, "S": 3}
#: Time systems that clocks of messages are told in.
_TIMES = {"G": "GPS", "E": "GAL", "J": "QZS", "C": "BDT", "R": "UTC", "S": "GPS", "I": "GPS"}
#: Messages of version 4 that are read, with the lines they have after the first.
_KINDS_4 = {"LNAV": 7, "INAV": 7, "FNAV": 7, "D1": 7, "D2": 7, "FDMA": 4, "SBAS": 3}
_NUMBER = re.compile(r"[ +-]?\d*\.?\d+(?:[EDed][+-]?\d+)?")


@dataclass(frozen=True, slots=True, kw_only=True)
class Message:
    """One message: clock time in ticks of GPS time, clock (offset, drift, drift rate), and the values of its
    other lines in their order, nan where one is missing."""

    system: str
    number: int
    clock_ticks: int
    clock: tuple[float, float, float]
    values: tuple[float, ...]

    @property
    def name(self) -> str:
        """System and number, as G07."""
        return f"{self.system}{self.number:02d}"


@dataclass(frozen=True, kw_only=True)
class Navigation:
    """A navigation file. ionosphere: coefficients by their name in the header, GPSA, GPSB, GAL, BDSA and the
    like; skipped: messages or lines that could not be read."""

    path: str
    version: str
    messages: tuple[Message, ...]
    ionosphere: dict[str, tuple[float, ...]] = field(default_factory=dict)
    skipped: int = 0


def read_navigation_file(data: bytes, path: str) -> Navigation:
    """The messages of a plain navigation file. Raises FormatError for one that is none."""
    lines = data.decode("ascii", "replace").splitlines()
    if not lines or "RINEX VERSION" not in lines[0][60:]:
        raise FormatError("it has no RINEX header", where=f"{path}, line 1", hint=_HINT)
    version, kind = lines[0][:20].strip(), lines[0][20:21]
    if kind not in ("N", "G", "H") or version[:1] not in "234":
        raise FormatError("this is no navigation file", where=f"{path}, line 1", hint=_HINT)
    end = next((i for i, line in enumerate(lines[:5000]) if line[60:].startswith("END OF HEADER")), None)
    if end is None:
        raise FormatError("its header has no end", where=path, hint=_HINT)
    default = "" if version[0] != "2" else {"N": "G", "G": "R", "H": "S"}[kind]
    messages: list[Message] = []
    ionosphere = _ionosphere(lines[:end])
    skipped = 0
    body = [(i, line) for i, line in enumerate(lines[end + 1 :], end + 2) if line.strip()]
    found = _of_four(body, ionosphere) if version[0] == "4" else _of_three(body, default)
    for one in found:
        if one is None:
            skipped += 1
        else:
            messages.append(one)
    return Navigation(
        path=path, version=version, messages=tuple(messages), ionosphere=ionosphere, skipped=skipped
    )


def _ionosphere(header: list[str]) -> dict[str, tuple[float, ...]]:
    out: dict[str, tuple[float, ...]] = {}
    for line in header:
        label = line[60:80].strip()
        if label == "IONOSPHERIC CORR":
            out.setdefault(line[:4].strip(), tuple(_four(line[5:53])))
        elif label in ("ION ALPHA", "ION BETA"):
            out["GPSA" if label == "ION ALPHA" else "GPSB"] = tuple(_four(line[2:50]))
    return {k: v for k, v in out.items() if len(v) >= 3}


def _four(text: str) -> list[float]:
    try:
        return [
            float(text[i : i + 12].replace("D", "E")) for i in range(0, 48, 12) if text[i : i + 12].strip()
        ]
    except ValueError:
        return []


Body = list[tuple[int, str]]


def _of_three(body: Body, default: str) -> Iterator[Message | None]:
    """Messages of versions 2 (`default`: its system) and 3; None for what cannot be read."""
    at = 0
    margin = 3 if default else 4
    while at < len(body):
        line = body[at][1]
        system = default or line[:1]
        starts = line[:2].strip().isdigit() if default else system in _MORE and line[1:3].strip().isdigit()
        if not starts or line.startswith(" " * margin):
            at += 1
            yield None
            continue
        block = [line]
        while len(block) <= _MORE[system] and at + len(block) < len(body):
            following = body[at + len(block)][1]
            if not following.startswith(" " * min(margin, 3)):
                break
            block.append(following)
        at += len(block)
        more = 4 if system == "R" and len(block) == 5 else _MORE[system]
        yield _message(system, block, margin, default) if len(block) == more + 1 else None


def _of_four(body: Body, ionosphere: dict[str, tuple[float, ...]]) -> Iterator[Message | None]:
    """Messages of version 4, each under a line of its own that says what it is."""
    heads = [i for i, (_, line) in enumerate(body) if line.startswith(">")]
    if body and (not heads or heads[0] > 0):
        yield None
    for here, there in zip(heads, [*heads[1:], len(body)], strict=True):
        words = body[here][1].split()
        block = [line for _, line in body[here + 1 : there]]
        if len(words) < 4:
            yield None
        elif (
            words[1] == "ION" and words[3] in ("LNAV", "D1", "D2", "D1D2", "CNVX", "IFNV") and len(block) >= 2
        ):
            _take_ionosphere(ionosphere, words[2][:1], block)
        elif words[1] == "EPH" and words[3] in _KINDS_4:
            more = _KINDS_4[words[3]]
            system = block[0][:1] if block else ""
            fine = system in _MORE and len(block) >= more + 1
            yield _message(system, block[: more + 1], 4, "") if fine else None


def _take_ionosphere(ionosphere: dict[str, tuple[float, ...]], system: str, block: list[str]) -> None:
    cells = [_cell(line, 4 if k else 23, i) for k, line in enumerate(block) for i in range(3 if not k else 4)]
    key = {"G": "GPS", "J": "QZS", "C": "BDS", "E": "GAL"}.get(system)
    if key == "GAL":
        ionosphere.setdefault("GAL", tuple(cells[:3]))
    elif key and len(cells) >= 8 and np.isfinite(cells[:8]).all():
        ionosphere.setdefault(f"{key}A", tuple(cells[:4]))
        ionosphere.setdefault(f"{key}B", tuple(cells[4:8]))


def _cell(line: str, margin: int, i: int) -> float:
    text = line[margin + 19 * i : margin + 19 * i + 19].strip()
    if not text:
        return float("nan")
    try:
        return float(text.replace("D", "E").replace("d", "e"))
    except ValueError:
        return float("nan")


def _message(system: str, block: list[str], margin: int, default: str) -> Message | None:
    found = _number_and_time(block[0], default)
    if found is None:
        return None
    number, clock = found
    offsets = tuple(_cell(block[0], margin + 19, i) for i in range(3))
    values = tuple(_cell(line, margin, i) for line in block[1:] for i in range(4))
    if not np.isfinite(offsets).all() or not np.isfinite(values[: 12 if system in "RS" else 17]).all():
        return None
    ticks = ticks_of(*(np.array([v]) for v in clock))
    return Message(
        system=system, number=number, clock_ticks=int(to_gps(ticks, _TIMES[system])[0]),
        clock=(offsets[0], offsets[1], offsets[2]), values=values,
    )  # fmt: skip


def _number_and_time(head: str, default: str) -> tuple[int, list[int]] | None:
    """The satellite of a message's first line, and year, month, day, hour, minute and tick of its clock; None
    where they are none. default: its system in version 2, which writes years with two digits."""
    try:
        if default:
            number, year = int(head[:2]), int(head[3:5])
            year += 1900 if year >= 80 else 2000
            clock = [year, *(int(head[k : k + 2]) for k in (6, 9, 12, 15)), round(float(head[17:22]) * TICKS)]
        else:
            number, year = int(head[1:3]), int(head[4:8])
            clock = [year, *(int(head[k : k + 2]) for k in (9, 12, 15, 18)), int(head[21:23]) * TICKS]
    except ValueError:
        return None
    fine = 1 <= clock[1] <= 12 and 1 <= clock[2] <= 31 and clock[3] < 24 and clock[4] < 60
    return (number, clock) if fine and number > 0 else None
