"""fenwind convert: positions from one coordinate system to another."""

from __future__ import annotations

import argparse
import sys
from typing import Any

from fenwind.errors import FormatError


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
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Convert and print."""
    import numpy as np

    from fenwind.commands.reading import dump, number, read_points
    from fenwind.exchange.csv_out import csv_text
    from fenwind.geodesy.conversion import convert
    from fenwind.geodesy.frames import find_crs

    points = read_points(options.file)
    crs = find_crs(options.source)
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
    result = convert(options.source, options.target, first, second, columns[2], options.epoch)
    keys = ("lat", "lon", "h") if result.geographic else ("e", "n", "h")
    axes = (result.second, result.first) if result.geographic else (result.first, result.second)
    rows = [
        (p.name, number(a), number(b), number(h))
        for p, a, b, h in zip(points.points, *axes, result.height, strict=True)
    ]
    if options.json:
        doubts: list[dict[str, Any]] = [
            {"rule": n.rule, "names": [], "text": n.text, "value": None, "limit": None} for n in result.notes
        ]
        print(
            dump(
                {
                    "positions": [dict(zip(("name", *keys), row, strict=True)) for row in rows],
                    "operation": result.operation,
                    "accuracy_m": number(result.accuracy_m),
                    "doubts": doubts,
                }
            )
        )
        return 0
    texts = ([name, *("" if v is None else repr(v) for v in values)] for name, *values in rows)
    print(csv_text(("name", *keys), texts), end="")
    for note in result.notes:
        print(f"fenwind: {note.text}", file=sys.stderr)
    return 0
