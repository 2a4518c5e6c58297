"""fenwind frame: what a system means at one place."""

from __future__ import annotations

import argparse
import math
from typing import Any


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser(
        "frame",
        help="scale, convergence and factors of a projected system at a place",
        description="e and n are in the unit of the system; convergence is positive where grid north lies "
        "east of true north.",
    )
    parser.add_argument("code", metavar="CODE", help="EPSG code, WKT or PROJ string")
    parser.add_argument(
        "--at",
        metavar="LAT,LON,H",
        required=True,
        help="any spelling of angles, ellipsoidal height in metres; --at=-37.9,144.4,50",
    )
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


#: Scales along meridian and parallel that differ by less are those of a conformal projection.
CONFORMAL = 1e-7


def run(options: argparse.Namespace) -> int:
    """Compute and print."""
    from fenwind.commands.reading import dump, number, place_of
    from fenwind.geodesy.area import inside_area
    from fenwind.geodesy.frames import open_frame, working_frame_spec
    from fenwind.quantities.lengths import UNITS

    lat, lon, height = place_of(options.at, "--at")
    spec = working_frame_spec(options.code)
    frame = open_frame(spec)
    e, n = frame.forward(lat, lon)
    factors = frame.factors(lat, lon, height)
    unit = UNITS[spec.unit].metres
    payload = {
        "e": number(float(e) / unit),
        "n": number(float(n) / unit),
        "scale_factor": number(float(factors.point_scale)),
        "convergence_deg": number(math.degrees(float(factors.convergence_rad))),
        "elevation_factor": number(float(factors.elevation)),
        "combined_factor": number(float(factors.combined)),
    }
    along, across = frame.axis_scales(lat, lon)
    doubts = []
    if abs(float(along) - float(across)) > CONFORMAL:
        payload |= {"scale_meridian": number(float(along)), "scale_parallel": number(float(across))}
        text = "The projection is not conformal: its scale depends on the direction, scale_factor is the one "
        doubts.append({"rule": "frame.not-conformal", "text": text + "along the parallel."})
    area = frame.area_of_use()
    if area is not None and not inside_area(area, lat, lon):
        text = f"The place lies outside the area that {spec.name} is meant for."
        doubts.append({"rule": "frame.outside-area", "text": text})
    if options.json:
        print(dump({**payload, "doubts": doubts}))
    else:
        print(spec.name)
        for key, value in payload.items():
            print(f"{key.replace('_', ' '):18}  {'-' if value is None else format(value, 'z.9f')}")
        for doubt in doubts:
            print(doubt["text"])
    return 0
