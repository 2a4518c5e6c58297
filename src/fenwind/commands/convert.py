"""fenwind convert: positions from one coordinate system to another."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING, Any

from fenwind.commands.units_told import add_units, units_of
from fenwind.errors import FormatError, FrameError

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from fenwind.doubts.registry import Doubt
    from fenwind.exchange.point_list import PointList
    from fenwind.geodesy.conversion import Conversion
    from fenwind.geodesy.plate_motion import Plate

    FloatArray = NDArray[np.float64]


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser(
        "convert",
        help="convert positions between coordinate systems",
        description="FILE: CSV with name,lat,lon,h (degrees) or name,e,n,h, in the units of --from; the "
        "result is in those of --to.",
    )
    parser.add_argument("file", metavar="FILE")
    parser.add_argument("--from", dest="source", metavar="CODE", required=True)
    parser.add_argument("--to", dest="target", metavar="CODE", required=True)
    parser.add_argument("--epoch", metavar="YEAR", type=float, help="coordinate epoch as a decimal year")
    parser.add_argument(
        "--to-epoch", metavar="YEAR", type=float, help="the epoch that the result is for, with --plate"
    )
    parser.add_argument(
        "--plate",
        metavar="MODEL:PLATE",
        help="positions move with this plate from --epoch to --to-epoch, as ITRF2014:EURA; a bare plate "
        "takes the model of --from's realisation",
    )
    parser.add_argument(
        "--velocities",
        metavar="FILE",
        help="CSV with name,ve,vn,vu (mm a year): points named there move so, the others with --plate",
    )
    add_units(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Convert and print."""
    import numpy as np

    from fenwind.commands.answers import doubts_json
    from fenwind.commands.reading import dump, read_points
    from fenwind.geodesy.conversion import convert, moved_in_time
    from fenwind.geodesy.frames import find_crs

    crs = find_crs(options.source)
    units = units_of(options)
    points = read_points(options.file, units=units.of_lists)
    if points.geographic != crs.is_geographic and not crs.is_compound:
        expected = "name,lat,lon,h" if crs.is_geographic else "name,e,n,h"
        raise FormatError(
            f"{crs.name} was given, expected {expected}",
            where=f"{options.file}, line 1",
            hint="Change the header or --from",
        )
    columns = np.array([(p.first, p.second, p.height_m) for p in points.points]).T
    first, second = (
        (np.degrees(columns[1]), np.degrees(columns[0])) if points.geographic else (columns[0], columns[1])
    )
    up, rates = columns[2], None
    first, second, up = _in_axes(options, points, first, second, up)
    plate, own = _plate_of(options), _velocities_of(options, points)
    if plate is not None or own is not None:
        years = options.to_epoch - options.epoch
        first, second, up, rates = moved_in_time(options.source, plate, first, second, up, years, own)
    at = options.epoch if options.to_epoch is None else options.to_epoch
    result = convert(options.source, options.target, first, second, up, at)
    if options.unit:
        result = _in_unit(options, result, units.length.metres)
    doubts = _areas(options, [p.name for p in points.points], first, second)
    if options.json:
        payload = _payload(options, points, result, plate, rates)
        payload["doubts"] += doubts_json(doubts, units.length.metres)
        print(dump(units.told(payload)))
    else:
        _tell(points, result, doubts)
    return 0


def _in_axes(
    options: argparse.Namespace, points: PointList, first: FloatArray, second: FloatArray, up: FloatArray
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Coordinates and heights in the units of the system's own axes: those with a unit came in metres."""
    from fenwind.geodesy.conversion import units_of_system

    plain, levelled = units_of_system(options.source)
    stated = points.columns.units
    if not points.geographic and (options.unit or "e" in stated):
        first, second = first / plain, second / plain
    if options.unit or {"h", "h_ell"} & set(stated):
        up = up / levelled
    return first, second, up


def _in_unit(options: argparse.Namespace, result: Conversion, metres: float) -> Conversion:
    """The result with its lengths in a unit of so many metres."""
    from dataclasses import replace

    from fenwind.geodesy.conversion import units_of_system

    plain, levelled = units_of_system(options.target)
    height = result.height * levelled / metres
    if result.geographic:
        return replace(result, height=height)
    by = plain / metres
    return replace(result, first=result.first * by, second=result.second * by, height=height)


def _tell(points: PointList, result: Conversion, doubts: list[Doubt]) -> None:
    """Print the list, and beside it what is to be said of it."""
    from fenwind.exchange.csv_out import csv_text

    keys, rows = _rows(points, result)
    texts = ([name, *("" if v is None else repr(v) for v in values)] for name, *values in rows)
    print(csv_text(("name", *keys), texts), end="")
    for text in (*(note.text for note in result.notes), *(doubt.text for doubt in doubts)):
        print(f"fenwind: {text}", file=sys.stderr)


def _areas(
    options: argparse.Namespace, names: list[str], first: FloatArray, second: FloatArray
) -> list[Doubt]:
    """Doubts about points outside the areas of the systems that they come from and go to."""
    import numpy as np

    from fenwind.doubts.area_rules import outside_area
    from fenwind.geodesy.frames import find_crs, open_frame, working_frame_spec
    from fenwind.quantities.lengths import UNITS

    frames = {}
    for code in (options.source, options.target):
        if find_crs(code).is_projected:
            frames[code] = open_frame(working_frame_spec(code))
    if options.source in frames:
        metres = UNITS[frames[options.source].spec.unit].metres
        lat, lon = frames[options.source].inverse(first * metres, second * metres)
    else:
        lat, lon = np.radians(second), np.radians(first)
    found = (outside_area("convert", names, frame, lat, lon) for frame in frames.values())
    return [doubt for some in found for doubt in some]


def _rows(points: PointList, result: Conversion) -> tuple[tuple[str, ...], list[tuple[Any, ...]]]:
    """Names of the coordinates, and name and coordinates of each point."""
    from fenwind.commands.reading import number

    keys = ("lat", "lon", "h") if result.geographic else ("e", "n", "h")
    axes = (result.second, result.first) if result.geographic else (result.first, result.second)
    named = zip(points.points, *axes, result.height, strict=True)
    return keys, [(p.name, number(a), number(b), number(h)) for p, a, b, h in named]


def _payload(
    options: argparse.Namespace,
    points: PointList,
    result: Conversion,
    plate: Plate | None,
    rates: FloatArray | None,
) -> dict[str, Any]:
    from fenwind.commands.reading import number

    keys, rows = _rows(points, result)
    found = [dict(zip(("name", *keys), row, strict=True)) for row in rows]
    extra: dict[str, Any] = {}
    if plate is not None:
        years = options.to_epoch - options.epoch
        extra = {"plate": {"model": plate.model, "plate": plate.name, "years": years}}
    if rates is not None:
        for row, rate in zip(found, 1e3 * rates.T, strict=True):
            row["rate_mm"] = dict(zip("enu", map(number, rate), strict=True))
    nothing: dict[str, Any] = {"names": [], "value": None, "limit": None}
    return {
        "positions": found,
        "operation": result.operation,
        "accuracy_m": number(result.accuracy_m),
        **extra,
        "doubts": [{"rule": n.rule, "text": n.text} | nothing for n in result.notes],
    }


def _plate_of(options: argparse.Namespace) -> Plate | None:
    """The plate that positions move with. Raises FenwindError where epochs and plate do not go together."""
    from fenwind.geodesy.frames import find_crs, is_dynamic
    from fenwind.geodesy.plate_motion import find_plate

    apart = options.to_epoch is not None and options.to_epoch != options.epoch
    moving = options.plate is not None or options.velocities is not None
    if not moving and apart and is_dynamic(options.source):
        raise FrameError(
            f"{find_crs(options.source).name} moves with time and no plate is named",
            hint="Give --plate MODEL:PLATE with --epoch and --to-epoch",
        )
    if moving and (options.epoch is None or options.to_epoch is None):
        what = "a plate needs" if options.plate is not None else "velocities need"
        raise FrameError(f"{what} two epochs", hint="Give --epoch and --to-epoch")
    if options.plate is None:
        return None
    base = find_crs(options.source).geodetic_crs
    return find_plate(options.plate, base.name if base is not None else "")


def _velocities_of(options: argparse.Namespace, points: PointList) -> FloatArray | None:
    """Velocities (3, n) of the points from the list, metres a year, nan for those that move with the plate.
    Raises FormatError for a point that neither moves."""
    import numpy as np

    from fenwind.exchange.velocity_list import read_velocities

    if options.velocities is None:
        return None
    found = read_velocities(options.velocities)
    for point in points.points:
        if point.name not in found and options.plate is None:
            raise FormatError(
                f"no velocity of {point.name}", where=options.velocities,
                hint="Give it, or --plate for the points without one",
            )  # fmt: skip
    return np.stack([found.get(p.name, np.full(3, np.nan)) for p in points.points], axis=1)
