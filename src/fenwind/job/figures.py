"""What does not agree on a job and why: two figures for one line, and drawings held against its grid."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

import numpy as np

from fenwind.errors import FenwindError, ParseError, ProcedureError
from fenwind.geodesy.frames import Frame
from fenwind.job.adopted import Adopted
from fenwind.job.ground_view import Marks
from fenwind.job.job import new_id
from fenwind.job.state import JobState
from fenwind.procedures.held_drawing import LEAST_MARKS, HeldDrawing, hold_drawing
from fenwind.procedures.ratio_causes import Explained, explained, place_at, zone_scales
from fenwind.records.entries import Add, Gesture, amend
from fenwind.records.records import GivenPosition, TwoFigures

_NUMBER = re.compile(r"[-+]?\d+(?:[.,]\d+)?")


def two_figures(text: str, mark: str) -> TwoFigures:
    """Two figures and perhaps a height difference, with blanks or semicolons between them, and the line in
    words behind them, as they are typed: "1640.00 1639.33 tape and drawing". Raises ParseError."""
    parts = [part for part in re.split(r"[;\s]+", text.strip()) if part]
    numbers: list[str] = []
    while parts and len(numbers) < 3 and _NUMBER.fullmatch(parts[0].rstrip(",")):
        numbers.append(parts.pop(0).rstrip(",").replace(",", "."))
    if len(numbers) < 2:
        raise ParseError(f"{text.strip()!r} is not two figures", hint="Write them as 1640.00 1639.33")
    first, second, dh = (*numbers, "")[:3]
    return TwoFigures(id=new_id(), mark=mark, first=first, second=second, dh=dh, line=" ".join(parts))


def keep_figures(pair: TwoFigures) -> Gesture:
    """Keep two figures."""
    return Gesture(f"Compare {pair.first} with {pair.second}", (Add(record=pair),))


def drop_figures(pair: TwoFigures) -> Gesture:
    """Take two figures off the list."""
    return Gesture(f"Take {pair.first} and {pair.second} off", (amend(pair, active=False),))


def explain_figures(pair: TwoFigures, frame: Frame, marks: Marks) -> Explained:
    """Why they differ, by the factors at their mark in a frame with a datum. Raises ParseError, and
    ProcedureError where the mark has no place or no height there."""
    if pair.mark not in marks.ids or not marks.h_m[i := marks.ids.index(pair.mark)] > -1e5:
        raise ProcedureError(
            "the mark has no height above the ellipsoid here", hint="Give it one, or choose another mark"
        )
    lat, lon, h = float(marks.lat[i]), float(marks.lon[i]), float(marks.h_m[i])
    undulation = float(frame.geoid_height(lat, lon)) if frame.geoid is not None else None
    here = place_at(frame, lat, lon, h, undulation)
    return explained(pair.first, pair.second, here, zone_scales(frame, lat, lon), pair.dh)


def drawings_held(
    state: JobState, shown: str, frame: Frame, marks: Marks, adopted: Adopted
) -> Iterator[tuple[str, HeldDrawing | FenwindError]]:
    """Every other frame of a job that three or more marks are given in, held against the frame shown (its
    id): its id and how it lies there, or why it cannot be held. A mark whose position in the frame shown
    came over from the other, or by any fit, tells nothing and is left out."""
    drawn: dict[str, dict[str, GivenPosition]] = {}
    for given in state.given.values():
        if given.active and given.frame != shown and given.e_m is not None:
            drawn.setdefault(given.frame, {})[given.mark] = given
    for key, points in drawn.items():
        record = state.frames.get(key)
        if record is not None and record.active:
            own = [s.key != key and s.place not in ("fit", "space") for s in adopted.sets]
            alone = np.array(own)[adopted.set_row].tolist()
            rows = [i for i, m in enumerate(marks.ids) if m in points and alone[adopted.place[m]]]
            if len(rows) >= LEAST_MARKS:
                try:
                    yield key, _held(frame, marks, rows, points)
                except FenwindError as error:
                    yield key, error


def _held(frame: Frame, marks: Marks, rows: list[int], points: Mapping[str, GivenPosition]) -> HeldDrawing:
    drawn = np.array([points[marks.ids[i]].values[:2] for i in rows]).T
    undulation = marks.h_m[rows] - marks.height_m[rows] if frame.geoid is not None else None
    names = [marks.names[i] for i in rows]
    return hold_drawing(frame, names, drawn, marks.plane[:, rows], marks.h_m[rows], undulation)
