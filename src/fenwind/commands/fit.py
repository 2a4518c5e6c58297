"""fenwind fit: carry measured positions onto known ones and say how well that went."""

from __future__ import annotations

import argparse
import math
from typing import TYPE_CHECKING, Any

from fenwind.commands.units_told import add_units, units_of
from fenwind.errors import ProcedureError

if TYPE_CHECKING:
    from fenwind.doubts.registry import Doubt
    from fenwind.exchange.point_list import PointList
    from fenwind.geodesy.frames import Frame
    from fenwind.procedures.fit import FitOptions, FitResult
    from fenwind.procedures.fit_case import FitCase
    from fenwind.procedures.positions import Positions
    from fenwind.procedures.regions import Regions

_DESCRIPTION = """Carry MEASURED onto KNOWN.
MEASURED: CSV with the header name,lat,lon,h (decimal degrees or any spelling of an angle, ellipsoidal
metres) or name,e,n,h; optional sh,sv (sigmas, m). KNOWN: name,e,n,h; an empty h means none. Coordinates and
shifts are in the unit of --frame, metres without one; residuals and sigmas are metres; heads that state a
unit and --unit stand over that. With --json every
position and check has its 95 % region: semi-axes a and b, bearing of a, half-width v in height; null where
nothing is left over to judge by."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser(
        "fit", help="carry measured positions onto known ones", description=_DESCRIPTION
    )
    parser.add_argument("measured", metavar="MEASURED")
    parser.add_argument("known", metavar="KNOWN")
    parser.add_argument(
        "--frame", metavar="CODE", help="projected working frame: EPSG code, WKT or PROJ string"
    )
    parser.add_argument(
        "--geoid", metavar="FILE", help="geoid grid (GTX or GeoTIFF); heights are then less the geoid height"
    )
    parser.add_argument("--horizontal", choices=("auto", "shift", "turn", "scale"), default="auto")
    parser.add_argument(
        "--pivot", metavar="NAME,NAME", help="hold the first exactly, turn onto the direction to the second"
    )
    parser.add_argument(
        "--rotation", metavar="ANGLE", help="hold the rotation at this angle, clockwise (117 35 52, 12.5 gon)"
    )
    parser.add_argument("--scale", metavar="FACTOR", type=float, help="hold the scale at this factor")
    parser.add_argument(
        "--height", choices=("none", "shift", "plane"), help="default: shift, where pairs have heights"
    )
    parser.add_argument(
        "--check", metavar="NAME,..", help="pairs that take no part and are compared afterwards"
    )
    parser.add_argument("--no-height", metavar="NAME,..", help="pairs not held in height")
    parser.add_argument("--no-horizontal", metavar="NAME,..", help="pairs not held in plan")
    parser.add_argument("--tolerance-h", metavar="M", type=float, default=0.010)
    parser.add_argument("--tolerance-v", metavar="M", type=float, default=0.020)
    add_units(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")
    parser.add_argument("--report", metavar="FILE", help="write a report (HTML)")
    parser.add_argument("--out", metavar="FILE", help="write the carried positions (CSV)")


def run(options: argparse.Namespace) -> int:
    """Compute, print and write; 1 when a doubt is grave."""
    from fenwind.commands.reading import dump, read_points
    from fenwind.doubts.rules import doubts_about_fit
    from fenwind.exchange.files import check_target, write_text
    from fenwind.exchange.position_list import positions_csv
    from fenwind.geodesy.frames import open_frame, working_frame_spec

    if options.geoid and not options.frame:
        raise ProcedureError(
            "a geoid grid needs a frame", hint="Add --frame with the projected working frame"
        )
    inputs = [name for name in (options.measured, options.known, options.geoid) if name]
    outputs = [name for name in (options.out, options.report) if name]
    for place, name in enumerate(outputs):
        check_target(name, inputs, outputs[:place])
    frame = open_frame(working_frame_spec(options.frame, options.geoid or "")) if options.frame else None
    units = units_of(options, frame)
    unit = units.coordinate
    measured, known = (read_points(p, units=units.of_lists) for p in (options.measured, options.known))
    case = _compute(options, measured, known, frame)
    doubts = (*doubts_about_fit(case), *_off_grid(case, measured))
    if options.out:
        write_text(options.out, positions_csv(case.result.carried, unit))
    if options.report:
        from fenwind.reports.fit_report import fit_report
        from fenwind.reports.html import to_html

        write_text(options.report, to_html(fit_report(case, doubts, title="Fit", unit=unit)))
    if options.json:
        print(
            dump(units.told(as_json(case.result, doubts, unit.metres, units.length.metres), lengths=LENGTHS))
        )
    else:
        from fenwind.reports.fit_report import fit_report
        from fenwind.reports.plain import to_text

        print(to_text(fit_report(case, doubts, title="Fit", unit=unit)))
    return 1 if any(d.grave for d in doubts) else 0


def _off_grid(case: FitCase, measured: PointList) -> list[Doubt]:
    """A doubt about the marks that lost their heights since the geoid grid does not cover them."""
    import numpy as np

    from fenwind.commands.reading import point_columns
    from fenwind.doubts.registry import Doubt

    had = np.isfinite(point_columns(measured)[2])
    lost = [n for n, h, one in zip(case.measured.names, case.measured.height_m, had, strict=True)
            if one and not np.isfinite(h)]  # fmt: skip
    if not lost:
        return []
    text = f"{', '.join(lost[:5])}: off the geoid grid, so without a height in the frame."
    return [Doubt(rule="fit.off-grid", subject="fit", names=tuple(lost), text=text, unit="")]


def _compute(
    options: argparse.Namespace, measured: PointList, known: PointList, frame: Frame | None
) -> FitCase:
    import numpy as np

    from fenwind.commands.reading import plane_positions
    from fenwind.procedures.fit import fit
    from fenwind.procedures.fit_case import FitCase
    from fenwind.procedures.to_plane import mean_place

    if known.geographic:
        raise ProcedureError(
            "known positions are geographic", where=options.known, hint="Give them as name,e,n,h"
        )
    plane, lat, lon = _measured(measured, frame)
    target = plane_positions(known)
    if options.height is None:
        heights = {n for n, h in zip(plane.names, plane.height_m, strict=True) if np.isfinite(h)}
        options.height = (
            "shift"
            if any(
                n in heights and np.isfinite(h) for n, h in zip(target.names, target.height_m, strict=True)
            )
            else "none"
        )
    result = fit(plane, target, _fit_options(options))
    return FitCase(
        subject="fit",
        measured=plane,
        known=target,
        result=result,
        lat_rad=lat,
        lon_rad=lon,
        area=frame.area_of_use() if frame is not None else None,
        place=mean_place(frame, plane) if frame is not None else None,
        over_geoid=frame is not None and frame.geoid is not None and bool(np.isfinite(plane.height_m).any()),
        crs=frame.spec.crs if frame is not None else "",
    )


def _fit_options(options: argparse.Namespace) -> FitOptions:
    from fenwind.commands.reading import split_names
    from fenwind.procedures.fit import FitOptions
    from fenwind.quantities.angles import parse_angle

    pivot = split_names(options.pivot)
    if pivot and len(pivot) != 2:
        raise ProcedureError(
            "--pivot takes two names", hint="Write --pivot NAME,NAME: the first is held exactly"
        )
    for name, value in (("--tolerance-h", options.tolerance_h), ("--tolerance-v", options.tolerance_v)):
        if not 0.0 < value < math.inf:
            raise ProcedureError(f"{name} must be above zero", hint="Give a tolerance in metres")
    return FitOptions(
        horizontal="pivot" if pivot else options.horizontal,
        height=options.height,
        pivot=(pivot[0], pivot[1]) if pivot else None,
        rotation_rad=parse_angle(options.rotation) if options.rotation else None,
        scale=options.scale,
        check=frozenset(split_names(options.check)),
        no_height=frozenset(split_names(options.no_height)),
        no_horizontal=frozenset(split_names(options.no_horizontal)),
        tolerance_h_m=options.tolerance_h,
        tolerance_v_m=options.tolerance_v,
    )


def _measured(points: PointList, frame: Frame | None) -> tuple[Positions, Any, Any]:
    from dataclasses import replace

    from fenwind.commands.reading import plane_positions, point_columns
    from fenwind.procedures.to_plane import geoid_reduced, to_plane

    if points.geographic:
        if frame is None:
            raise ProcedureError(
                "latitude and longitude need a working frame",
                where=points.source,
                hint="Add --frame, for instance --frame EPSG:25832",
            )
        lat, lon, *others = point_columns(points)
        return to_plane(frame, [p.name for p in points.points], lat, lon, *others), lat, lon
    plane = plane_positions(points)
    if frame is None:
        return plane, None, None
    lat, lon = frame.inverse(plane.e_m, plane.n_m)
    if frame.geoid is not None:
        plane = replace(plane, height_m=geoid_reduced(frame, plane.names, lat, lon, plane.height_m))
    return plane, lat, lon


#: Keys of the answer in metres: residuals, regions and sigmas.
LENGTHS = ("de", "dn", "dh", "loo_h", "loo_v", "a", "b", "v", "sh", "sv")


def as_json(
    result: FitResult, doubts: tuple[Doubt, ...], unit_m: float, doubts_m: float = 1.0
) -> dict[str, Any]:
    """The object of --json: coordinates and shifts in the frame's unit, residuals and sigmas in metres,
    doubts in a unit of `doubts_m` metres."""
    from fenwind.commands.answers import doubts_json
    from fenwind.commands.reading import number
    from fenwind.procedures.regions import regions95

    shift_e, shift_n = result.plan.shift
    height, regions = result.height, regions95(result)
    return {
        "horizontal": {
            "model": result.model,
            "shift_e": shift_e / unit_m,
            "shift_n": shift_n / unit_m,
            "rotation_deg": math.degrees(result.plan.rotation_rad),
            "scale": result.plan.scale,
        },
        "height": {
            "model": height.model,
            "shift": height.shift_m / unit_m,
            "slope_e": height.slope_e,
            "slope_n": height.slope_n,
            "e0": height.e0_m / unit_m,
            "n0": height.n0_m / unit_m,
        },
        "pairs": _pairs_json(result, regions),
        "models": [
            {
                "model": t.model,
                "dof": t.dof,
                "variance_factor": number(t.variance_factor),
                "p_value": number(t.p_value),
                "recommended": t.recommended,
            }
            for t in result.models
        ],
        "positions": _positions_json(result.carried, regions, unit_m),
        "doubts": doubts_json(doubts, doubts_m),
    }


def _region_json(regions: Regions, row: int) -> dict[str, float | None]:
    """A region in metres and degrees, null where it is not known."""
    from fenwind.commands.reading import number

    return {
        "a": number(regions.a_m[row]),
        "b": number(regions.b_m[row]),
        "bearing_deg": number(math.degrees(regions.bearing_rad[row])),
        "v": number(regions.v_m[row]),
    }


def _pairs_json(result: FitResult, regions: Regions) -> list[dict[str, Any]]:
    """Pairs with residuals and leave-one-out misfits in metres, checks with their regions."""
    from fenwind.commands.reading import number

    table = result.pairs
    return [
        {
            "name": name,
            "de": number(table.de_m[i]),
            "dn": number(table.dn_m[i]),
            "dh": number(table.dh_m[i]),
            "used_horizontal": bool(table.used_h[i]),
            "used_height": bool(table.used_v[i]),
            "loo_h": number(table.loo_h_m[i]),
            "loo_v": number(table.loo_v_m[i]),
            "region95": None
            if table.used_h[i] and table.used_v[i]
            else _region_json(regions, int(table.measured_rows[i])),
        }
        for i, name in enumerate(table.names)
    ]


def _positions_json(carried: Positions, regions: Regions, unit_m: float) -> list[dict[str, Any]]:
    """Carried positions in a unit of so many metres, sigmas in metres."""
    from fenwind.commands.reading import number

    sh, sv = carried.sigma_h_m, carried.sigma_v_m
    return [
        {
            "name": name,
            "e": number(carried.e_m[i] / unit_m),
            "n": number(carried.n_m[i] / unit_m),
            "h": number(carried.height_m[i] / unit_m),
            "sh": number(sh[i]),
            "sv": number(sv[i]),
            "region95": _region_json(regions, i),
        }
        for i, name in enumerate(carried.names)
    ]
