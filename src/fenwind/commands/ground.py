"""fenwind ground: grid coordinates to the ground by one factor, and back."""

from __future__ import annotations

import argparse
import math
from dataclasses import replace
from decimal import Decimal, InvalidOperation
from typing import TYPE_CHECKING, Any

from fenwind.commands.units_told import add_units, divided, units_of
from fenwind.errors import ParseError, ProcedureError

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from fenwind.exchange.point_list import PointList
    from fenwind.geodesy.frames import Frame

_DESCRIPTION = """Scale a grid to the ground. FILE: name,e,n,h in the unit of the frame, or name,lat,lon,h;
heights above the ellipsoid, with --geoid above that geoid. The factor (R + h) / (R k) lengthens the grid
when it is over 1."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("ground", help="grid to ground by one factor", description=_DESCRIPTION)
    parser.add_argument("file", metavar="FILE")
    parser.add_argument("--frame", metavar="CODE", required=True, help="projected frame of the grid")
    parser.add_argument("--geoid", metavar="FILE", help="geoid grid that heights are above")
    parser.add_argument(
        "--factor-at", metavar="NAME|mean|VALUE", default="mean", help="a mark's, the marks' mean, or typed"
    )
    parser.add_argument("--origin", metavar="NAME|E,N", default="0,0", help="point that stays (0,0)")
    parser.add_argument("--offset", metavar="E,N", default="0,0", help="added afterwards (0,0)")
    parser.add_argument(
        "--back", action="store_true", help="FILE is on the ground; positions are on the grid"
    )
    parser.add_argument("--out", metavar="FILE", help="write name,e,n,h (CSV)")
    add_units(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Read, scale, tell and write."""
    import numpy as np

    from fenwind.commands.answers import doubts_json
    from fenwind.commands.reading import read_points
    from fenwind.doubts.area_rules import outside_area
    from fenwind.doubts.ground_rules import ground_doubts
    from fenwind.exchange.files import check_target, write_text
    from fenwind.geodesy.frames import open_frame, working_frame_spec
    from fenwind.geodesy.ground_frame import GroundScale, derived_wkt, proj_pipeline
    from fenwind.quantities.lengths import UNITS

    if options.out:
        check_target(options.out, [n for n in (options.file, options.geoid) if n])
    frame = open_frame(working_frame_spec(options.frame, options.geoid or ""))
    unit = UNITS[frame.spec.unit]
    units = units_of(options, frame)
    # Heights are in the unit of the frame, beside latitudes too.
    points = read_points(options.file, units=replace(units, length=units.coordinate).of_lists)
    names = [p.name for p in points.points]
    plane, lat, lon, h = _places(options, points, frame)
    own = np.array([]) if options.back else _factors(frame, lat, lon, h)
    factor, half = _factor(options, names, own)
    typed = units.coordinate.metres / unit.metres
    origin = _origin(options, names, plane / unit.metres, typed)
    offset = _pair(options.offset, "--offset", typed)
    scale = GroundScale(factor=factor, origin=origin, offset=offset)
    given = plane / unit.metres
    carried = scale.inverse(given) if options.back else scale.forward(given)
    grid, ground = (carried, given) if options.back else (given, carried)
    farthest = float(np.hypot(*(grid - np.array(origin)[:, None])).max()) * unit.metres
    fine = own[np.isfinite(own)]
    doubts = list(ground_doubts(factor, half, fine, farthest, grid, ground))
    if not options.back:
        doubts += outside_area("ground", names, frame, lat, lon)
    heights = np.array([p.height_m for p in points.points], dtype=float) / unit.metres
    payload: dict[str, Any] = {
        "factor": factor, "combined_factor": 1.0 / factor, "origin": {"e": origin[0], "n": origin[1]},
        "offset": {"e": scale.offset[0], "n": scale.offset[1]},
        "positions": _positions(names, carried, heights), "proj": proj_pipeline(frame, scale),
        "wkt": derived_wkt(frame, scale),
        "worst_ppm": float(np.abs(fine / factor - 1.0).max() * 1e6) if fine.size else None,
        "doubts": doubts_json(doubts, units.length.metres),
    }  # fmt: skip
    payload = units.told(divided(payload, dict.fromkeys(("e", "n", "h"), typed)))
    if options.out:
        write_text(options.out, _csv(payload["positions"], units.coordinate.key))
    _tell(payload, options.json)
    return 1 if any(d.grave or d.rule != "frame.area" for d in doubts) else 0


def _positions(names: list[str], carried: Any, heights: Any) -> list[dict[str, Any]]:
    from fenwind.commands.reading import number

    return [
        {"name": name, "e": float(e), "n": float(n), "h": number(float(z))}
        for name, e, n, z in zip(names, *carried, heights, strict=True)
    ]


def _csv(positions: Any, unit: str) -> str:
    rows = [
        f"{_quoted(p['name'])},{p['e']!r},{p['n']!r},{'' if p['h'] is None else repr(p['h'])}"
        for p in positions
    ]
    return "\n".join([f"name,e ({unit}),n ({unit}),h ({unit})", *rows]) + "\n"


def _tell(payload: dict[str, Any], as_json: bool) -> None:
    from fenwind.commands.reading import dump

    words = [f"factor {payload['factor']:.10f}"]
    words += [f"{p['name']:12} {p['e']:z.4f} {p['n']:z.4f}" for p in payload["positions"]]
    words += [f"doubt  {d['text']}" for d in payload["doubts"]]
    print(dump(payload) if as_json else "\n".join(words))


def _quoted(name: str) -> str:
    import csv
    import io

    out = io.StringIO()
    csv.writer(out, lineterminator="").writerow([name])
    return out.getvalue()


def _places(
    options: argparse.Namespace, points: PointList, frame: Frame
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Plane coordinates (2, k) in metres, latitude, longitude and ellipsoidal height."""
    import numpy as np

    from fenwind.commands.reading import point_columns

    first, second, h, *_ = point_columns(points)
    if points.geographic and options.back:
        raise ProcedureError("the ground has no latitudes", where=options.file, hint="Give name,e,n,h")
    if points.geographic:
        lat, lon = first, second
        first, second = frame.forward(lat, lon)
    elif options.back:
        lat = lon = np.full(first.shape, np.nan)
    else:
        lat, lon = frame.inverse(first, second)
    if not np.isfinite(first + second).all() or (not options.back and not np.isfinite(lat + lon).all()):
        raise ProcedureError(
            "a position has no place in the frame", where=options.file, hint="Check the frame"
        )
    if not options.back:
        h = h + frame.geoid_height(lat, lon)
    return np.stack([first, second]), lat, lon, h


def _factors(frame: Frame, lat: Any, lon: Any, h: Any) -> Any:
    from fenwind.geodesy.ground_frame import factors_at

    return factors_at(frame, lat, lon, h)


def _factor(options: argparse.Namespace, names: list[str], own: Any) -> tuple[float, float]:
    """The factor, and half a unit of the last digit of one that was typed."""
    import numpy as np

    text = options.factor_at.strip()
    if options.back and (text in names or text == "mean"):
        raise ProcedureError("the file has no grid to take a factor from", hint="Type --factor-at VALUE")
    if text in names:
        found = float(own[names.index(text)])
        if not math.isfinite(found):
            raise ProcedureError(f"{text} has no height to take a factor at", hint="Give its height")
        return found, 0.0
    if text == "mean":
        if not np.isfinite(own).all():
            bad = names[int(np.flatnonzero(~np.isfinite(own))[0])]
            raise ProcedureError(f"{bad} has no height, so the mean has no factor", hint="Give its height")
        return float(own.mean()), 0.0
    try:
        typed = Decimal(text)
    except InvalidOperation:
        raise ProcedureError(
            f"--factor-at {text!r}: no mark of that name, and no number", hint="Name a mark, mean, or type it"
        ) from None
    if not typed.is_finite() or not Decimal("0.5") < typed < Decimal("2"):
        raise ParseError(f"--factor-at {text}: expected a factor near 1", hint="Correct it")
    digits = typed.as_tuple().exponent
    assert isinstance(digits, int)
    return float(typed), 0.5 * 10.0**digits


def _origin(options: argparse.Namespace, names: list[str], plane: Any, unit: float) -> tuple[float, float]:
    """The point that stays, in the unit of the frame; plane is in it, what is typed in `unit` of it."""
    text = options.origin.strip()
    if text in names:
        if options.back:
            raise ProcedureError("the file has no grid to take an origin from", hint="Give --origin E,N")
        e, n = plane[:, names.index(text)]
        return float(e), float(n)
    if "," not in text:
        raise ProcedureError(f"--origin {text!r}: no mark of that name", hint="Name a mark, or give E,N")
    return _pair(text, "--origin", unit)


def _pair(text: str, option: str, unit: float) -> tuple[float, float]:
    """E and N of an option, times `unit`. Raises ParseError."""
    try:
        e, n = (float(part) for part in text.split(","))
    except ValueError:
        e = n = math.nan
    if not math.isfinite(e + n):
        raise ParseError(f"{option} {text!r}: expected E,N", hint="Correct it")
    return e * unit, n * unit
