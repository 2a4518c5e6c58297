"""Work on an incoming list that a worker does: opening, interpreting, making entries of what is taken."""

from __future__ import annotations

from dataclasses import dataclass

from fenwind.desk.stages.incoming_rows import as_incoming
from fenwind.errors import FenwindError
from fenwind.exchange.formats import read_table
from fenwind.exchange.point_list import ColumnMatch, PointList, interpret
from fenwind.exchange.raw_table import RawTable
from fenwind.geodesy.frames import FrameSpec, HeightReference, find_crs, open_frame
from fenwind.geodesy.own_plane import plane_through
from fenwind.job.checksums import EntryRow
from fenwind.job.entry_validation import entry_rows
from fenwind.job.incoming import Against, IncomingPoints, against_job, levelled, on_plane, take_in
from fenwind.job.state import JobState
from fenwind.progress import NULL_PROGRESS, Progress
from fenwind.quantities.lengths import LengthUnit
from fenwind.records.entries import Entry

#: What a list may go into besides a frame of the job: a plane of no system, a system that is still to be
#: named, a plane made through the middle of what comes in.
NEW_PLANE, BY_CODE, OWN_PLANE = "new plane", "by code", "own plane"


def local_plane(name: str, unit: str) -> FrameSpec:
    """A plane with no known relation to the earth."""
    return FrameSpec(name=name, unit=unit, height=HeightReference(kind="local", name="its own zero"))


@dataclass(frozen=True, slots=True, kw_only=True)
class Where:
    """How positions of a list reach a plane: the system that latitudes and longitudes are in (empty for that
    of the frame), and the frame's recipe; own: on a plane made for them."""

    system: str = ""
    spec: FrameSpec | None = None
    own: bool = False


def interpreted(
    raw: RawTable,
    match: ColumnMatch,
    unit: LengthUnit,
    state: JobState,
    frame: str,
    measured: bool,
    where: Where,
    progress: Progress = NULL_PROGRESS,
) -> tuple[PointList, IncomingPoints, Against] | FenwindError:
    """The points of a table, as the job would take them, and what it says of them; or why there are none."""
    try:
        points = interpret(raw, match, unit, progress, heights_alone=not measured)
        incoming = as_incoming(points, raw.place)
        if points.geographic:
            incoming = incoming if measured else _on_plane(points, incoming, where)
        elif points.ellipsoidal:
            incoming = levelled(incoming, open_frame(where.spec) if where.spec is not None else None)
    except FenwindError as error:
        return error
    return points, incoming, against_job(state, incoming, frame, measured)


def _on_plane(points: PointList, incoming: IncomingPoints, where: Where) -> IncomingPoints:
    """Known positions in latitude and longitude on the plane of the frame they will be given in; as they are
    while no system is named."""
    spec = where.spec
    if spec is None and where.own and where.system:
        spec = plane_through(where.system, *points.values[:3])
    return on_plane(incoming, where.system, open_frame(spec)) if spec is not None else incoming


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


def same_system(one: str, other: str) -> bool:
    """Whether two texts name one system."""
    if not one:
        return False
    try:
        return bool(find_crs(one).equals(find_crs(other), ignore_axis_order=True))
    except FenwindError:
        return False
