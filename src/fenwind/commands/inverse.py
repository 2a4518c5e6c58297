"""fenwind inverse: distance and azimuth between two marks of a file."""

from __future__ import annotations

import argparse
import math
from typing import Any

from fenwind.errors import ProcedureError


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser(
        "inverse",
        help="distance and azimuth between two marks",
        description="FILE: CSV with name,e,n,h or name,lat,lon,h. Azimuths run clockwise from north.",
    )
    parser.add_argument("file", metavar="FILE")
    parser.add_argument("start", metavar="NAME")
    parser.add_argument("end", metavar="NAME")
    parser.add_argument(
        "--frame", metavar="CODE", help="frame of the coordinates: EPSG code, WKT or PROJ string"
    )
    parser.add_argument("--geoid", metavar="FILE", help="geoid grid that the heights are counted from")
    parser.add_argument(
        "--json", action="store_true", help="print one JSON object, lengths in metres, nothing rounded"
    )


def run(options: argparse.Namespace) -> int:
    """Compute and print."""
    from fenwind.commands.reading import dump, number, read_points
    from fenwind.geodesy.frames import FrameSpec, open_frame, working_frame_spec
    from fenwind.geodesy.inverse import inverse
    from fenwind.quantities.bearings import format_azimuth
    from fenwind.quantities.lengths import UNITS, format_length

    spec = (
        working_frame_spec(options.frame, options.geoid or "")
        if options.frame
        else FrameSpec(name="local plane")
    )
    frame = open_frame(spec)
    unit = UNITS[spec.unit]
    points = read_points(options.file, unit)
    if points.geographic and not frame.has_datum:
        raise ProcedureError("latitude and longitude need a frame", where=options.file, hint="Add --frame")
    ends = []
    for name in (options.start, options.end):
        row = next((p for p in points.points if p.name == name), None)
        if row is None:
            raise ProcedureError(f"no mark {name!r}", where=options.file, hint="Name a mark of the file")
        e, n = frame.forward(row.first, row.second) if points.geographic else (row.first, row.second)
        height = number(row.height_m)
        if points.geographic and height is not None:
            height -= float(frame.geoid_height(row.first, row.second))
        ends.append((float(e), float(n), number(height)))
    result = inverse(frame, ends[0], ends[1])
    lengths = {
        "grid_distance": result.grid_distance_m,
        "ellipsoid_distance": result.ellipsoid_distance_m,
        "ground_distance": result.ground_distance_m,
    }
    angles = {
        "grid_azimuth_deg": result.grid_azimuth_rad,
        "geodetic_azimuth_deg": result.geodetic_azimuth_rad,
    }
    if options.json:
        payload = {k: number(v) for k, v in lengths.items()}
        payload |= {k: None if v is None else math.degrees(v) for k, v in angles.items()}
        print(dump(payload | {"combined_factor": number(result.combined_factor)}))
        return 0
    for key, value in lengths.items():
        print(f"{key.replace('_', ' '):20}  {'-' if value is None else format_length(value, unit, 4)}")
    for key, value in angles.items():
        print(
            f"{key.removesuffix('_deg').replace('_', ' '):20}  "
            f"{'-' if value is None else format_azimuth(value, 'degrees', 2)}"
        )
    print(
        f"{'combined factor':20}  "
        f"{'-' if result.combined_factor is None else f'{result.combined_factor:.9f}'}"
    )
    return 0
