"""Broadcast orbits from a RINEX navigation file, versions 3 and 4 (IGS, RINEX 3.05, table A5 ff.; from
memory).

GPS, Galileo and BeiDou; GLONASS's states and the extra messages of version 4 are passed over.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from datetime import UTC, datetime

from fenwind.errors import FormatError
from fenwind.gnss.orbits import SECONDS_OF_WEEK, Ephemeris, gps_seconds

_HINT = "Give a RINEX 3 or 4 navigation file"
#: Lines after the first of a record by system.
_LINES = {"G": 7, "E": 7, "C": 7, "J": 7, "I": 7, "R": 3, "S": 3}


def read_navigation(path: str | os.PathLike[str]) -> list[Ephemeris]:
    """The elements of every satellite nearest to the middle of the file, each satellite once. Raises
    FormatError for a file that is none, or holds none."""
    try:
        if not stat.S_ISREG(os.stat(path).st_mode):
            raise FormatError("this is no file", where=str(path), hint=_HINT)
        with open(path, encoding="ascii", errors="replace") as file:
            lines = file.read(30_000_000).splitlines()
    except OSError as error:
        raise FormatError(f"cannot be read: {error.strerror}", where=str(path), hint=_HINT) from error
    if not lines or "RINEX VERSION" not in lines[0] or lines[0][20:21] != "N":
        raise FormatError("this is no navigation file", where=str(path), hint=_HINT)
    body = next((i + 1 for i, line in enumerate(lines) if "END OF HEADER" in line), len(lines))
    found = list(_records(lines[body:]))
    if not found:
        raise FormatError("there are no orbits in it", where=str(path), hint=_HINT)
    middle = sorted(e.toe_s for e in found)[len(found) // 2]
    best: dict[str, Ephemeris] = {}
    for one in found:
        known = best.get(one.name)
        if known is None or abs(one.toe_s - middle) < abs(known.toe_s - middle):
            best[one.name] = one
    return list(best.values())


def _records(lines: list[str]) -> Iterator[Ephemeris]:
    at = 0
    while at < len(lines):
        line = lines[at]
        system = line[:1]
        if system not in _LINES or not line[1:3].strip().isdigit():
            at += 1
            continue
        block = lines[at : at + 1 + _LINES[system]]
        at += len(block)
        if system in "GEC" and len(block) == 8:
            try:
                yield _of(system, block)
            except ValueError:
                continue  # a damaged record takes nothing from the others


def _of(system: str, block: list[str]) -> Ephemeris:
    values = [_number(line[4 + 19 * k : 23 + 19 * k]) for line in block[1:] for k in range(4)]
    number = int(block[0][1:3])
    if system == "C":  # BeiDou's weeks begin on 1 January 2006, 14 s behind GPS time
        begin = gps_seconds(datetime(2006, 1, 1, tzinfo=UTC)) - 18.0 + 14.0
        toe = begin + values[18] * SECONDS_OF_WEEK + values[8]
    else:
        toe = values[18] * SECONDS_OF_WEEK + values[8]
    return Ephemeris(
        system=system, number=number, toe_s=toe, crs=values[1], delta_n=values[2], m0=values[3],
        cuc=values[4], eccentricity=values[5], cus=values[6], sqrt_a=values[7], cic=values[9],
        omega0=values[10], cis=values[11], i0=values[12], crc=values[13], perigee=values[14],
        omega_dot=values[15], i_dot=values[16],
    )  # fmt: skip


def _number(text: str) -> float:
    text = text.strip().replace("D", "E").replace("d", "e")
    return float(text) if text else 0.0
