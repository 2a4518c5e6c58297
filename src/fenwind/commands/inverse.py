"""fenwind inverse: distance and azimuth between two marks of a file."""

from __future__ import annotations

import argparse
import math
from typing import TYPE_CHECKING, Any

from fenwind.commands.units_told import add_units, units_of
from fenwind.errors import ProcedureError

if TYPE_CHECKING:
    from fenwind.commands.units_told import Units
    from fenwind.exchange.point_list import PointList
    from fenwind.geodesy.frames import Frame
    from fenwind.geodesy.inverse import Inverse
    from fenwind.quantities.lengths import LengthUnit


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
    add_units(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Compute and print."""
    from fenwind.commands.reading import dump, read_points
    from fenwind.geodesy.frames import FrameSpec, open_frame, working_frame_spec
    from fenwind.geodesy.inverse import inverse

    spec = (
        working_frame_spec(options.frame, options.geoid or "")
        if options.frame
        else FrameSpec(name="local plane")
    )
    frame = open_frame(spec)
    units = units_of(options, frame)
    points = read_points(options.file, units=units.of_lists)
    if points.geographic and not frame.has_datum:
        raise ProcedureError("latitude and longitude need a frame", where=options.file, hint="Add --frame")
    first, second = (_end(options.file, points, name, frame) for name in (options.start, options.end))
    result = inverse(frame, first, second)
    print(dump(_json(result, units)) if options.json else _words(result, units.coordinate))
    return 0


def _end(path: str, points: PointList, name: str, frame: Frame) -> tuple[float, float, float | None]:
    """E, N and height (None where it has none) in the frame of a mark of the file."""
    from fenwind.commands.reading import number

    row = next((p for p in points.points if p.name == name), None)
    if row is None:
        raise ProcedureError(f"no mark {name!r}", where=path, hint="Name a mark of the file")
    height = number(row.height_m)
    if not points.geographic:
        return row.first, row.second, height
    e, n = frame.forward(row.first, row.second)
    if height is not None:
        height -= float(frame.geoid_height(row.first, row.second))
    return float(e), float(n), number(height)


def _json(result: Inverse, units: Units) -> dict[str, Any]:
    from fenwind.commands.reading import number
    from fenwind.quantities.angles import RAD_PER_SECOND

    bend = result.arc_to_chord_rad
    angles = {
        "grid_azimuth_deg": result.grid_azimuth_rad,
        "geodetic_azimuth_deg": result.geodetic_azimuth_rad,
    }
    lengths = ("grid_distance", "ellipsoid_distance", "ground_distance")
    return units.told(
        {
            "grid_distance": number(result.grid_distance_m),
            "ellipsoid_distance": number(result.ellipsoid_distance_m),
            "ground_distance": number(result.ground_distance_m),
            **{k: None if v is None else math.degrees(v) for k, v in angles.items()},
            "combined_factor": number(result.combined_factor),
            "arc_to_chord_s": None if bend is None else number(bend / RAD_PER_SECOND),
        },
        lengths=lengths,
    )


def _words(result: Inverse, unit: LengthUnit) -> str:
    from fenwind.quantities.angles import RAD_PER_SECOND
    from fenwind.quantities.bearings import format_azimuth
    from fenwind.quantities.lengths import format_length

    lengths = {
        "grid distance": result.grid_distance_m,
        "ellipsoid distance": result.ellipsoid_distance_m,
        "ground distance": result.ground_distance_m,
    }
    angles = {"grid azimuth": result.grid_azimuth_rad, "geodetic azimuth": result.geodetic_azimuth_rad}
    lines = {key: "-" if v is None else format_length(v, unit, 4) for key, v in lengths.items()}
    lines |= {key: "-" if v is None else format_azimuth(v, "degrees", 2) for key, v in angles.items()}
    factor = result.combined_factor
    lines["combined factor"] = "-" if factor is None else f"{factor:z.9f}"
    bend = result.arc_to_chord_rad
    lines["arc to chord (t - T)"] = "-" if bend is None else f"{bend / RAD_PER_SECOND:+z.2f} s"
    return "\n".join(f"{key:21} {value}" for key, value in lines.items())
