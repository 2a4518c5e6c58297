"""Rules about files of GNSS receivers: gaps, intervals, records that cannot be read, antennas that are not
said."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.registry import Doubt
from fenwind.gnss.gps_time import iso
from fenwind.gnss.observations import Observations
from fenwind.gnss.sources import FoundAntenna, twenty_columns
from fenwind.quantities.numbers import counted


def file_doubts(obs: Observations) -> Iterator[Doubt]:
    """Doubts about an observation file by itself; none of them is grave."""
    mark = (obs.header.mark,) if obs.header.mark else ()
    gaps = obs.gaps
    if gaps:
        longest = max(gaps, key=lambda gap: gap[1] - gap[0])
        seconds = (longest[1] - longest[0]) / 1e7
        yield Doubt(
            rule="file.gap", subject="file", names=mark, value=seconds, limit=1.5 * (obs.interval or 0.0),
            unit="s", text=f"{counted(len(gaps), 'gap')} in the epochs, the longest of {seconds:g} s from "
            f"{iso(longest[0])}.",
        )  # fmt: skip
    stated, found = obs.header.interval, obs.interval
    if stated is not None and found is not None and abs(stated - found) > 0.01 * found:
        yield Doubt(
            rule="file.interval", subject="file", names=mark, value=found, limit=stated, unit="s",
            text=f"The header says an interval of {stated:g} s; the epochs are {found:g} s apart.",
        )  # fmt: skip
    yield from skipped_doubt(obs.path, obs.skipped)
    if not obs.header.antenna.strip():
        yield Doubt(
            rule="header.antenna", subject="file", names=mark, unit="",
            text="The header says no antenna type, so that no antenna correction is applied.",
        )  # fmt: skip


def skipped_doubt(path: str, skipped: int) -> Iterator[Doubt]:
    """A doubt about what could not be read in a file."""
    if skipped:
        yield Doubt(
            rule="file.skipped", subject="file", names=(Path(path).name,), value=float(skipped), unit="",
            text=f"{Path(path).name}: {counted(skipped, 'record, line or value')} could not be read."
            if skipped == 1
            else f"{Path(path).name}: {skipped} records, lines or values could not be read.",
        )  # fmt: skip


#: Header and code positions that differ by more are of two places, metres.
APART_M = 50.0
#: Antenna heights that differ by more are not the same, metres.
HEIGHT_M = 0.0005


def header_doubts(
    obs: Observations, code_xyz: NDArray[np.float64] | None, height: float | None, antenna: FoundAntenna,
    record: str | None, corrected: bool,
) -> Iterator[Doubt]:  # fmt: skip
    """Doubts about what a header says, against the position by code (of the mark), a record's antenna height
    and type; corrected: whether antenna corrections were asked for."""
    head = obs.header
    mark = (head.mark or Path(obs.path).name,)
    if code_xyz is not None and head.position is not None:
        apart = float(np.linalg.norm(np.array(head.position) - code_xyz))
        if apart > APART_M:
            yield Doubt(
                rule="header.position", subject="file", names=mark, value=apart, limit=APART_M, grave=True,
                text=f"The header position of {mark[0]} lies {apart:,.0f} m from where its ranges put it.",
            )  # fmt: skip
    if height is not None and abs(head.delta[0] - height) > HEIGHT_M:
        yield Doubt(
            rule="header.antenna-height", subject="file", names=mark, value=head.delta[0] - height,
            grave=True, text=f"The antenna height of {mark[0]} is {head.delta[0]:.4f} m in the header and "
            f"{height:.4f} m in the record.",
        )  # fmt: skip
    yield from _antenna_doubts(mark, head.antenna, antenna, record, corrected)


def _antenna_doubts(
    mark: tuple[str, ...], said: str, antenna: FoundAntenna, record: str | None, corrected: bool
) -> Iterator[Doubt]:
    if record is not None and said.strip() and twenty_columns(said) != twenty_columns(record):
        yield Doubt(
            rule="header.antenna", subject="file", names=mark, unit="", grave=True,
            text=f"The antenna in the header is {said.strip()}, the record's is {record.strip()}, which "
            "counts.",
        )  # fmt: skip
    if corrected and antenna.kind and antenna.found is None:
        yield Doubt(
            rule="header.antenna", subject="file", names=mark, unit="",
            text=f"The antenna {antenna.kind.strip()} is not in the file of corrections: its phase centre "
            "counts as the reference point.",
        )  # fmt: skip
    elif antenna.stand_in:
        yield Doubt(
            rule="header.antenna", subject="file", names=mark, unit="",
            text=f"The antenna {antenna.kind[:16].strip()} is corrected as without its radome "
            f"{antenna.kind[16:]}.",
        )  # fmt: skip


def interval_doubts(base: Observations, rover: Observations) -> Iterator[Doubt]:
    """A doubt where two files have epochs of different intervals."""
    one, two = base.interval, rover.interval
    if one is not None and two is not None and abs(one - two) > 0.01 * max(one, two):
        yield Doubt(
            rule="file.interval", subject="file", names=(base.header.mark, rover.header.mark), value=two,
            limit=one, unit="s", text=f"The epochs are {one:g} s apart in one file, {two:g} s in the other.",
        )  # fmt: skip


def navigation_doubts(unfit: Iterable[str]) -> Iterator[Doubt]:
    """Doubts about navigation files that fit no epoch."""
    for path in unfit:
        name = Path(path).name
        yield Doubt(
            rule="nav.day", subject="file", names=(name,), unit="",
            text=f"The navigation of {name} is of another day: it fits no epoch.",
        )  # fmt: skip
