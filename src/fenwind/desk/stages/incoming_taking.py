"""Work on an incoming list that a worker does: opening, interpreting, making entries of what is taken."""

from __future__ import annotations

from dataclasses import dataclass

from fenwind.desk.stages.incoming_rows import as_incoming
from fenwind.errors import FenwindError
from fenwind.exchange.formats import read_table
from fenwind.exchange.point_list import ColumnMatch, PointList, interpret
from fenwind.exchange.raw_table import RawTable
from fenwind.geodesy.frames import FrameSpec, HeightReference, find_crs, open_frame
from fenwind.job.incoming import Against, IncomingPoints, against_job, on_plane, take_in
from fenwind.job.job import entry_rows
from fenwind.job.schema import EntryRow
from fenwind.job.state import JobState
from fenwind.progress import NULL_PROGRESS, Progress
from fenwind.quantities.lengths import LengthUnit
from fenwind.records.entries import Entry


def local_plane(name: str, unit: str) -> FrameSpec:
    """A plane with no known relation to the earth."""
    return FrameSpec(name=name, unit=unit, height=HeightReference(kind="local", name="its own zero"))


def interpreted(
    raw: RawTable,
    match: ColumnMatch,
    unit: LengthUnit,
    state: JobState,
    frame: str,
    measured: bool,
    plane: tuple[str, FrameSpec] | None,
    progress: Progress = NULL_PROGRESS,
) -> tuple[PointList, IncomingPoints, Against] | FenwindError:
    """The points of a table, as the job would take them, and what it says of them; or why there are none.
    `plane`: system of latitudes and longitudes, and the frame they are put on."""
    try:
        points = interpret(raw, match, unit, progress)
        incoming = as_incoming(points, raw.place)
        if points.geographic and plane is not None:
            incoming = on_plane(incoming, plane[0], open_frame(plane[1]))
    except FenwindError as error:
        return error
    return points, incoming, against_job(state, incoming, frame, measured)


@dataclass(frozen=True, slots=True, kw_only=True)
class Taking:
    """How rows are taken in."""

    measured: bool
    frame: str
    crs: str
    session: str

    def entries(
        self, state: JobState, points: IncomingPoints, rows: list[int], progress: Progress = NULL_PROGRESS
    ) -> tuple[Entry, ...]:
        """The entries that do it."""
        return take_in(
            state,
            points,
            rows,
            measured=self.measured,
            frame=self.frame,
            crs=self.crs,
            session=self.session,
            progress=progress,
        )


def take_task(
    state: JobState,
    first: tuple[Entry, ...],
    taking: Taking,
    points: IncomingPoints,
    rows: list[int],
    progress: Progress,
) -> tuple[tuple[Entry, ...], list[EntryRow]]:
    """The entries of a long list, and those as the file keeps them."""
    entries = (*first, *taking.entries(state, points, rows, progress))
    progress.check()
    return entries, entry_rows(entries)


def open_task(path: str, part: str, progress: Progress) -> RawTable:
    progress.report(0, 1, "opening")
    return read_table(path, part)


def system_name(crs: str) -> str:
    """A stated system by its name."""
    try:
        return str(find_crs(crs).name) if crs else "a system named by its code"
    except FenwindError:
        return "a system named by its code"


def same_system(one: str, other: str) -> bool:
    """Whether two texts name one system."""
    if not one:
        return False
    try:
        return bool(find_crs(one).equals(find_crs(other), ignore_axis_order=True))
    except FenwindError:
        return False
