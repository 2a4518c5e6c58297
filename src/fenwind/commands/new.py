"""fenwind new: a job file with its frame, known marks and antennas."""

from __future__ import annotations

import argparse
import os
from typing import TYPE_CHECKING, Any

from fenwind.errors import FormatError, JobError, ProcedureError

if TYPE_CHECKING:
    from fenwind.exchange.point_list import PointList
    from fenwind.geodesy.frames import Frame, FrameSpec
    from fenwind.records.records import Record

_DESCRIPTION = """Make a job file. KNOWN: name,e,n,h in the unit of the frame, or name,lat,lon,h (degrees,
ellipsoidal metres); optional sh,sv (sigmas, m). Antennas: JSON with a list `antennas` of model, radius,
rim_offset, mount_offset, arp_to_l1 (m)."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("new", help="make a job file", description=_DESCRIPTION)
    parser.add_argument("job", metavar="JOB")
    parser.add_argument("--frame", metavar="CODE", help="projected frame: EPSG code, WKT or PROJ string")
    parser.add_argument("--geoid", metavar="FILE", help="geoid grid that heights are above")
    parser.add_argument("--control", metavar="KNOWN.csv", help="known marks")
    parser.add_argument("--antennas", metavar="FILE", help="antenna models")
    parser.add_argument("--json", action="store_true", help="print what was made as one JSON object")


def run(options: argparse.Namespace) -> int:
    """Read everything, then make the file."""
    from fenwind.commands.answers import answer
    from fenwind.commands.reading import read_points
    from fenwind.exchange.files import check_target
    from fenwind.geodesy.frames import open_frame, working_frame_spec
    from fenwind.job.job import Job, new_id
    from fenwind.quantities.lengths import METRE, UNITS
    from fenwind.records.records import FrameRecord

    if os.path.lexists(options.job):
        raise JobError("a file of that name is there already", where=options.job, hint="Choose another name")
    check_target(options.job, [n for n in (options.control, options.antennas, options.geoid) if n])
    geoid = os.path.abspath(options.geoid) if options.geoid else ""
    spec = working_frame_spec(options.frame, geoid) if options.frame else None
    known = read_points(options.control, UNITS[spec.unit] if spec else METRE) if options.control else None
    if spec is None and known is not None:
        spec = _plane_of(known, geoid)
    records: list[Record] = _antennas(options.antennas) if options.antennas else []
    frame_id = ""
    if spec is not None:
        frame = open_frame(spec)
        frame_id = new_id()
        records.append(FrameRecord(id=frame_id, spec=spec))
        if known is not None:
            records += _control(known, frame, frame_id)
    name = os.path.splitext(os.path.basename(options.job))[0]
    Job.create(options.job, name, records, frame_id if options.frame else "").close()
    payload = {
        "job": options.job, "frame": spec.name if spec and options.frame else None,
        "marks": len(known.points) if known else 0, "doubts": [],
    }  # fmt: skip
    return answer(payload, [f"made: {options.job}, {payload['marks']} known marks"], options.json)


def _plane_of(known: PointList, geoid: str) -> FrameSpec:
    """A plane of its own through known marks, for the job to work on where nobody asked for one."""
    from dataclasses import replace

    from fenwind.commands.reading import point_columns
    from fenwind.geodesy.frames import HeightReference
    from fenwind.geodesy.own_plane import plane_through

    if not known.geographic:
        raise ProcedureError(
            "e and n need the frame that they are in", where=known.source, hint="Add --frame"
        )
    lat, lon, h, *_ = point_columns(known)
    spec = plane_through("EPSG:4979", lat, lon, h)
    return replace(spec, height=HeightReference(kind="geoid", grid=geoid)) if geoid else spec


def _control(known: PointList, frame: Frame, frame_id: str) -> list[Record]:
    """Marks and their given positions."""
    import numpy as np

    from fenwind.commands.reading import point_columns
    from fenwind.job.job import new_id
    from fenwind.records.records import GivenPosition, Mark

    first, second, h, sh, sv = point_columns(known)
    if known.geographic:
        e, n = frame.forward(first, second)
        h = h - frame.geoid_height(first, second)
    else:
        e, n = first, second
    if not np.isfinite(e + n).all():
        bad = known.points[int(np.flatnonzero(~np.isfinite(e + n))[0])].name
        raise FormatError(f"{bad} has no place in the frame", where=known.source, hint="Check the frame")
    out: list[Record] = []
    for i, point in enumerate(known.points):
        height, sigma_h, sigma_v = (None if np.isnan(v[i]) else float(v[i]) for v in (h, sh, sv))
        mark = Mark(id=new_id(), name=point.name)
        out.append(mark)
        out.append(
            GivenPosition(
                id=new_id(), mark=mark.id, frame=frame_id, e_m=float(e[i]), n_m=float(n[i]),
                height_m=height, sigma_h_m=sigma_h, sigma_v_m=sigma_v, source=os.path.basename(known.source),
            )
        )  # fmt: skip
    return out


def _antennas(path: str) -> list[Record]:
    from fenwind.exchange.antenna_list import read_antennas
    from fenwind.job.job import new_id
    from fenwind.records.sessions import Antenna

    return [
        Antenna(
            id=new_id(), model=a.model, radius_m=a.radius_m, rim_offset_m=a.rim_offset_m,
            mount_offset_m=a.mount_offset_m, arp_to_l1_m=a.arp_to_l1_m,
        )
        for a in read_antennas(path).values()
    ]  # fmt: skip
