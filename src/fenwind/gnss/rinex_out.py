"""RINEX 3.04 files: observations and navigation messages written out."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from fenwind.gnss.broadcast import Message
from fenwind.gnss.gps_time import BDT_BEHIND, TICKS, iso, leap_seconds
from fenwind.gnss.observations import Header, SystemData

FloatArray = NDArray[np.float64]


def _line(text: str, label: str) -> str:
    return f"{text[:60]:60}{label}"


def observation_text(header: Header, ticks: NDArray[np.int64], systems: Mapping[str, SystemData]) -> str:
    """An observation file in GPS time; ticks (n,) of its epochs."""
    out = [
        _line(f"     3.04           OBSERVATION DATA    {'M'}", "RINEX VERSION / TYPE"),
        _line("Fenwind", "PGM / RUN BY / DATE"),
        _line(header.mark, "MARKER NAME"),
        _line(header.marker_number, "MARKER NUMBER"),
        _line("", "OBSERVER / AGENCY"),
        _line(f"{'1':20}{header.receiver:20}", "REC # / TYPE / VERS"),
        _line(f"{'1':20}{header.antenna:20}", "ANT # / TYPE"),
        _line("".join(f"{v:14.4f}" for v in header.position or (0.0, 0.0, 0.0)), "APPROX POSITION XYZ"),
        _line("".join(f"{v:14.4f}" for v in header.delta), "ANTENNA: DELTA H/E/N"),
    ]
    for system, data in systems.items():
        for k in range(0, len(data.codes), 13):
            head = f"{system}  {len(data.codes):3}" if k == 0 else " " * 6
            out.append(
                _line(head + "".join(f" {c:3}" for c in data.codes[k : k + 13]), "SYS / # / OBS TYPES")
            )
    if header.interval is not None:
        out.append(_line(f"{header.interval:10.3f}", "INTERVAL"))
    out.append(_line(f"{_calendar(int(ticks[0]), 13)}     GPS", "TIME OF FIRST OBS"))
    slots = [f"R{n:02d} {c:2d}" for n, c in sorted(header.slots.items())]
    out += [
        _line(f"{len(slots) if k == 0 else '':>3} " + " ".join(slots[k : k + 8]), "GLONASS SLOT / FRQ #")
        for k in range(0, len(slots), 8)
    ]
    out.append(_line("", "END OF HEADER"))
    rows: dict[int, list[str]] = {}
    for system, data in systems.items():
        for i in range(data.epoch.size):
            cells = "".join(_cell(v, flag) for v, flag in zip(data.values[i], data.lli[i], strict=True))
            rows.setdefault(int(data.epoch[i]), []).append(f"{system}{data.number[i]:02d}{cells.rstrip()}")
    for k, tick in enumerate(ticks.tolist()):
        some = rows.get(k, [])
        out.append(f"> {_epoch(tick)}  0{len(some):3d}")
        out += some
    return "\n".join(out) + "\n"


def _cell(value: float, flag: int) -> str:
    return " " * 16 if not np.isfinite(value) else f"{value:14.3f}{flag if flag else ' '} "


def _parts(ticks: int) -> tuple[str, str, float]:
    text = iso(ticks - ticks % TICKS) or ""
    date, clock = text.split("T")
    return date, clock, int(clock[6:8]) + ticks % TICKS / TICKS


def _epoch(ticks: int) -> str:
    date, clock, seconds = _parts(ticks)
    year, month, day = date.split("-")
    return f"{year} {month} {day} {clock[:2]} {clock[3:5]}{seconds:11.7f}"


def _calendar(ticks: int, width: int) -> str:
    date, clock, seconds = _parts(ticks)
    numbers = [*date.split("-"), clock[:2], clock[3:5]]
    return "".join(f"{int(v):6d}" for v in numbers) + f"{seconds:{width}.7f}"


def navigation_text(messages: Iterable[Message], ionosphere: Mapping[str, Sequence[float]]) -> str:
    """A mixed navigation file."""
    out = [_line("     3.04           N: GNSS NAV DATA    M: MIXED", "RINEX VERSION / TYPE")]
    for key, values in ionosphere.items():
        out.append(_line(f"{key:4} " + "".join(f"{v:12.4E}" for v in values), "IONOSPHERIC CORR"))
    out.append(_line("    18", "LEAP SECONDS"))
    out.append(_line("", "END OF HEADER"))
    for m in messages:
        ticks = m.clock_ticks
        if m.system == "C":
            ticks -= BDT_BEHIND * TICKS
        elif m.system == "R":
            ticks -= int(leap_seconds(np.array([ticks]))[0]) * TICKS
        date, clock, _ = _parts(ticks)
        head = f"{m.name} {date.replace('-', ' ')} {clock.replace(':', ' ')}"
        out.append(head + "".join(_number(v) for v in m.clock))
        lines = (m.values[k : k + 4] for k in range(0, len(m.values), 4))
        out += ["    " + "".join(_number(v) for v in some) for some in lines]
    return "\n".join(out) + "\n"


def _number(value: float) -> str:
    return " " * 19 if not np.isfinite(value) else f"{value:19.12E}"
