"""fenwind explain: why two distances for one line do not agree."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from fenwind.errors import ProcedureError

if TYPE_CHECKING:
    from fenwind.procedures.ratio_causes import Place


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser(
        "explain",
        help="why two distances for one line do not agree",
        description="D1, D2: two figures for one line, as they are written: half a unit of the last digit is "
        "their rounding.",
    )
    parser.add_argument("first", metavar="D1")
    parser.add_argument("second", metavar="D2")
    parser.add_argument(
        "--at", metavar="LAT,LON,H", required=True, help="degrees, height above the ellipsoid"
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

    frame = open_frame(working_frame_spec(options.frame))
    lat, lon, h = _place(options.at, "--at")
    undulation = float(GeoidGrid(options.geoid).height(lat, lon)) if options.geoid else None
    if undulation is not None and undulation != undulation:
        raise ProcedureError("the place lies outside the geoid grid", hint="Give a grid that covers it")
    here = place_at(frame, lat, lon, h, undulation)
    far = place_at(frame, *_place(options.factor_from, "--factor-from")) if options.factor_from else None
    zones = zone_scales(frame, lat, lon)
    found = explained(options.first, options.second, here, zones, options.dh or "", far)
    payload = {
        "ratio": found.ratio, "ppm": (found.ratio - 1.0) * 1e6, "rounding_ppm": found.rounding_ppm,
        "agree": found.agree,
        "causes": [
            {"cause": c.key, "text": c.text, "ratio": c.ratio, "left_ppm": c.left_ppm} for c in found.causes
        ],
        "doubts": [],
    }  # fmt: skip
    print(dump(payload) if options.json else _words(payload, here))
    return 0


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
    lines += [f"{name} here: {value:.9f} ({ppm((value - 1.0) * 1e6)})" for name, value in factors]
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
