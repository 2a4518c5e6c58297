"""fenwind explain: why two distances for one line, or a drawing and a grid, do not agree."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from fenwind.errors import ParseError, ProcedureError

if TYPE_CHECKING:
    from fenwind.geodesy.frames import Frame
    from fenwind.procedures.ratio_causes import Explained, Place


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser(
        "explain",
        help="why two distances for one line, or a drawing and a grid, do not agree",
        description="D1, D2: two figures for one line, as they are written: half a unit of the last digit is "
        "their rounding. Or hold a drawing against marks of the same names on the grid.",
    )
    parser.add_argument("first", metavar="D1", nargs="?")
    parser.add_argument("second", metavar="D2", nargs="?")
    parser.add_argument("--at", metavar="LAT,LON,H", help="degrees, height above the ellipsoid")
    parser.add_argument("--drawing", metavar="FILE", help="name,e,n of a drawing, in the frame's unit")
    parser.add_argument(
        "--marks", metavar="FILE", help="name,e,n,h or name,lat,lon,h on the grid, h as the frame's heights"
    )
    parser.add_argument("--frame", metavar="CODE", required=True)
    parser.add_argument("--geoid", metavar="FILE", help="geoid grid, to try a geoid height left out")
    parser.add_argument(
        "--dh", metavar="DH", help="height difference of the ends, in the unit of the figures"
    )
    parser.add_argument(
        "--factor-from", metavar="LAT,LON,H", help="another place that a factor may have been taken from"
    )
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Compute and print."""
    from fenwind.commands.reading import dump
    from fenwind.geodesy.frames import open_frame, working_frame_spec
    from fenwind.geodesy.geoid import GeoidGrid
    from fenwind.procedures.ratio_causes import explained, place_at, zone_scales

    if options.drawing or options.marks:
        return _hold(options)
    if options.second is None or not options.at:
        raise ParseError(
            "two figures and their place are needed",
            hint="Give D1 D2 --at LAT,LON,H, or --drawing FILE --marks FILE",
        )
    frame = open_frame(working_frame_spec(options.frame))
    lat, lon, h = _place(options.at, "--at")
    undulation = float(GeoidGrid(options.geoid).height(lat, lon)) if options.geoid else None
    if undulation is not None and undulation != undulation:
        raise ProcedureError("the place lies outside the geoid grid", hint="Give a grid that covers it")
    here = place_at(frame, lat, lon, h, undulation)
    far = place_at(frame, *_place(options.factor_from, "--factor-from")) if options.factor_from else None
    zones = zone_scales(frame, lat, lon)
    found = explained(options.first, options.second, here, zones, options.dh or "", far)
    payload = _payload(found)
    print(dump(payload) if options.json else _words(payload, here))
    return 0


def _payload(found: Explained) -> dict[str, Any]:
    return {
        "ratio": found.ratio, "ppm": (found.ratio - 1.0) * 1e6, "rounding_ppm": found.rounding_ppm,
        "agree": found.agree,
        "causes": [
            {"cause": c.key, "text": c.text, "ratio": c.ratio, "left_ppm": c.left_ppm} for c in found.causes
        ],
        "doubts": [],
    }  # fmt: skip


def _hold(options: argparse.Namespace) -> int:
    """A drawing against marks on the grid."""
    from pathlib import Path

    import numpy as np

    from fenwind.commands.reading import dump
    from fenwind.geodesy.frames import open_frame, working_frame_spec
    from fenwind.procedures.held_drawing import hold_drawing
    from fenwind.quantities.lengths import UNITS
    from fenwind.reports.ratio_words import drawing_words

    if not (options.drawing and options.marks) or options.first is not None:
        raise ParseError(
            "a drawing is held against marks", hint="Give --drawing FILE and --marks FILE, without figures"
        )
    frame = open_frame(working_frame_spec(options.frame, options.geoid or ""))
    drawing, marks = _plane(options.drawing, frame), _plane(options.marks, frame)
    names = [name for name in marks if name in drawing]
    drawn, grid = (np.array([rows[n] for n in names]).reshape(-1, 3).T for rows in (drawing, marks))
    undulation = None
    if options.geoid and names:
        undulation = frame.geoid_height(*frame.inverse(grid[0], grid[1]))
    h = grid[2] if undulation is None else grid[2] + undulation
    held = hold_drawing(frame, names, drawn[:2], grid[:2], h, undulation)
    unit = UNITS[frame.spec.unit]
    left = held.left_m / unit.metres
    payload = _payload(held.found) | {
        "names": names, "unit": held.unit, "rms": held.rms_m / unit.metres, "left": left.tolist(),
    }  # fmt: skip
    words = drawing_words(Path(options.drawing).name, frame.spec.name, held, unit)
    print(dump(payload) if options.json else words)
    return 0


def _plane(path: str, frame: Frame) -> dict[str, tuple[float, float, float]]:
    """Easting, northing and height of a file by name, metres."""
    from fenwind.commands.reading import point_columns, read_points
    from fenwind.quantities.lengths import UNITS

    unit = UNITS[frame.spec.unit]
    points = read_points(path, unit)
    first, second, h, *_ = point_columns(points)
    if points.geographic:
        first, second = frame.forward(first, second)
        h = h * unit.metres  # heights are in the unit of the frame, beside latitudes too
    rows = zip(first.tolist(), second.tolist(), h.tolist(), strict=True)
    return dict(zip((p.name for p in points.points), rows, strict=True))


def _words(found: dict[str, Any], here: Place) -> str:
    from fenwind.quantities.numbers import format_fixed

    def ppm(value: float) -> str:
        return f"{format_fixed(value, 2, sign=True)} ppm"

    lines = [f"second over first: {ppm(found['ppm'])}, rounding {ppm(found['rounding_ppm'])}"]
    factors = (
        ("combined factor", here.combined),
        ("elevation factor", here.elevation),
        ("grid scale", here.point_scale),
    )
    lines += [f"{name} here: {value:z.9f} ({ppm((value - 1.0) * 1e6)})" for name, value in factors]
    if found["agree"]:
        lines.append("The figures agree within their rounding.")
    elif not found["causes"]:
        lines.append("No cause that is known here explains the difference.")
    lines += [f"{c['text']}: leaves {ppm(c['left_ppm'])}" for c in found["causes"]]
    return "\n".join(lines)


def _place(text: str, option: str) -> tuple[float, float, float]:
    """Latitude and longitude in radians, height in metres."""
    from fenwind.commands.reading import place_of

    return place_of(text, option)
