"""fenwind resect: where an instrument stands, from sightings of known marks."""

from __future__ import annotations

import argparse
import math
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from fenwind.commands.traverse import add_frame, frame_of
from fenwind.commands.units_told import add_units, units_of
from fenwind.errors import ParseError, ProcedureError

if TYPE_CHECKING:
    from collections.abc import Iterable

    from fenwind.commands.units_told import Units
    from fenwind.doubts.registry import Doubt
    from fenwind.exchange.named_csv import KnownMark
    from fenwind.geodesy.frames import Frame
    from fenwind.procedures.resection import (
        Case,
        Reduced,
        Resection,
        ResectionOptions,
        Scale,
        Sighting,
    )
    from fenwind.quantities.lengths import LengthUnit

_DESCRIPTION = """Place an instrument. SHOTS: target,hz_deg,za_deg,sd,ht,prism_mm[,face], one row a sighting;
za, sd, ht, prism_mm may be empty. CONTROL: name,e,n,h, optional sh,sv: marks then take part with their
weight. sd with za is a slope distance, without one a horizontal one. Lengths in metres, coordinates and
heights in the unit of --frame, unless a head or --unit says otherwise; angles decimal degrees or D-M-S."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("resect", help="place an instrument from known marks", description=_DESCRIPTION)
    parser.add_argument("shots", metavar="SHOTS.csv")
    parser.add_argument("control", metavar="CONTROL.csv")
    parser.add_argument("--hi", metavar="M", type=float, default=0.0, help="height of the instrument (0)")
    parser.add_argument("--heights", action="store_true", help="solve the height too")
    parser.add_argument("--plane", action="store_true", help="no curvature and no refraction")
    parser.add_argument("--k", metavar="K", type=float, default=0.13, help="refraction (0.13)")
    parser.add_argument("--factor", metavar="F", type=float, default=1.0, help="of horizontal distances (1)")
    parser.add_argument("--applied-prism", metavar="MM", type=float, default=0.0)
    parser.add_argument("--scale", choices=("fixed", "show", "apply"), default="fixed")
    parser.add_argument("--sigma-direction", metavar="S", type=float, default=5.0, help="seconds (5)")
    parser.add_argument("--sigma-zenith", metavar="S", type=float, default=5.0, help="seconds (5)")
    parser.add_argument("--sigma-distance", metavar="MM,PPM", default="3,2")
    parser.add_argument("--check", metavar="NAME,..", help="targets that are only compared")
    parser.add_argument(
        "--on", metavar="NAME,E,N[,H]", help="the instrument stands on a known mark: orientation only"
    )
    add_frame(parser)
    add_units(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Read, solve, tell."""
    import numpy as np

    from fenwind.commands.reading import split_names
    from fenwind.doubts.resect_rules import Looked, resect_doubts
    from fenwind.doubts.setup_rules import known_setup_doubts
    from fenwind.exchange.named_csv import read_control, typed_mark
    from fenwind.exchange.setup_csv import read_sightings
    from fenwind.procedures.resection import case_of, part_of, reduce
    from fenwind.quantities.angles import RAD_PER_SECOND

    frame = frame_of(options)
    units = units_of(options, frame)
    control = read_control(options.control, weighted=True, units=units.of_lists)
    shots = read_sightings(
        options.shots, options.applied_prism, control.__contains__, options.control, units.of_lists
    )
    settings = _options(options, units.length)
    sighted = {shot.target for shot in shots}
    checks = _sighted_checks(split_names(options.check), sighted)
    reduced = reduce(shots, settings)
    known = np.array([(m.e, m.n, m.h) for m in (control[s.target] for s in shots)]).T
    every = case_of(reduced, known, settings.heights)
    takes_part = np.array([s.target not in checks for s in shots])
    case = part_of(every, takes_part)
    on = None if options.on is None else typed_mark(options.on, "--on", units.coordinate)
    found = _placed(case, settings.scale, on)
    if frame is not None:
        every = _on_grid(frame, shots, settings, every, found)
        case = part_of(every, takes_part)
        found = _placed(case, settings.scale, on, found)
    if on is not None:
        return _tell(options, units, found, every, reduced, case, known_setup_doubts(case, found))
    used = [control[s.target] for s, part in zip(shots, takes_part.tolist(), strict=True) if part]
    if any(m.sh or m.sv for m in used):
        case = _weighted(case, used, found)
        found = _placed(case, settings.scale, None, found)
    look = Looked(
        case=case, found=found, scale=settings.scale, checks=len(checks),
        others={n: (m.e, m.n, m.h) for n, m in control.items() if n not in sighted},
        collimation_s=reduced.collimation / RAD_PER_SECOND, index_s=reduced.index / RAD_PER_SECOND,
    )  # fmt: skip
    return _tell(options, units, found, every, reduced, case, resect_doubts(look))


def _tell(
    options: argparse.Namespace, units: Units, found: Resection, every: Case, reduced: Reduced, case: Case,
    doubts: Iterable[Doubt],
) -> int:  # fmt: skip
    from fenwind.commands.answers import answer, doubts_json
    from fenwind.commands.reading import split_names

    checks = _checks(found, every, split_names(options.check))
    payload = units.told(
        _json(found, reduced, case) | {"checks": checks}, ("e", "n", "h"),
        ("v_d", "v_h", "de", "dn", "dh"), ("covariance",),
    )  # fmt: skip
    payload["doubts"] = doubts_json(doubts, units.length.metres)
    return answer(payload, _words(payload, units.length), options.json)


def _sighted_checks(checks: tuple[str, ...], sighted: set[str]) -> tuple[str, ...]:
    for name in checks:
        if name not in sighted:
            raise ProcedureError(f"the check {name} was not sighted", hint="Check the names of --check")
    return checks


def _placed(case: Case, scale: Scale, on: KnownMark | None, near: Resection | None = None) -> Resection:
    """Position of the instrument: set up on the known mark `on`, else resected from a position near by."""
    import numpy as np

    from fenwind.procedures.resection import solve
    from fenwind.procedures.side_shots import oriented

    if on is not None:
        return oriented(case, np.array([on.e, on.n, on.h]), np.zeros((3, 3)))
    return solve(case, scale, None if near is None else np.array([near.e, near.n, near.orientation]))


def _on_grid(
    frame: Frame, shots: list[Sighting], settings: ResectionOptions, case: Case, found: Resection
) -> Case:
    """All sightings by their own lines. Raises ProcedureError without any height, or with a factor typed as
    well."""
    import numpy as np

    from fenwind.procedures.grid_sightings import line_factors, turned
    from fenwind.procedures.resection import case_of, reduce

    if settings.factor != 1.0:
        raise ParseError("--factor and --frame say the same twice", hint="Leave one of them out")
    heights = case.known[2][np.isfinite(case.known[2])]
    height = found.h if math.isfinite(found.h) else float(heights.mean()) if heights.size else math.nan
    if not math.isfinite(height):
        raise ProcedureError(
            "distances cannot be brought to the grid without heights", hint="Give h in CONTROL"
        )
    at = height + settings.instrument_height
    factors, turns = line_factors(frame, found, case.known, at, 1.0)
    reduced = turned(reduce(shots, replace(settings, factor=factors)), turns)
    return case_of(reduced, case.known, settings.heights)


def _weighted(case: Case, marks: list[KnownMark], found: Resection) -> Case:
    """The case with what the marks are known to, seen from where it was found without."""
    import numpy as np

    from fenwind.procedures.resection import with_known_sigmas

    covariance = np.zeros((3, 3, len(marks)))
    for axis, sigma in enumerate(("sh", "sh", "sv")):
        covariance[axis, axis] = [getattr(m, sigma) ** 2 for m in marks]
    reduced = with_known_sigmas(case.reduced, case.known, covariance, np.array([found.e, found.n]))
    return replace(case, reduced=reduced)


def _options(options: argparse.Namespace, unit: LengthUnit) -> ResectionOptions:
    from fenwind.commands.answers import mm_ppm
    from fenwind.procedures.resection import ResectionOptions
    from fenwind.quantities.angles import RAD_PER_SECOND

    for name in ("sigma_direction", "sigma_zenith", "factor"):
        if not 0.0 < getattr(options, name) < math.inf:
            raise ParseError(f"--{name.replace('_', '-')}: expected a number above 0", hint="Correct it")
    for name in ("hi", "k", "applied_prism"):
        if not math.isfinite(getattr(options, name)):
            raise ParseError(f"--{name.replace('_', '-')}: expected a number", hint="Correct it")
    mm, ppm = mm_ppm(options.sigma_distance, "--sigma-distance")
    return ResectionOptions(
        instrument_height=options.hi * unit.metres, heights=options.heights, plane=options.plane, k=options.k,
        factor=options.factor, scale=options.scale, sigma_direction=options.sigma_direction * RAD_PER_SECOND,
        sigma_zenith=options.sigma_zenith * RAD_PER_SECOND, sigma_distance_m=mm / 1000.0,
        sigma_distance_ppm=ppm,
    )  # fmt: skip


def _json(found: Resection, reduced: Reduced, case: Case) -> dict[str, Any]:
    from fenwind.commands.reading import number
    from fenwind.quantities.angles import RAD_PER_SECOND

    residuals = [
        {
            "target": name, "v_hz_s": number(float(v[0]) / RAD_PER_SECOND), "v_d": number(float(v[1])),
            "v_h": number(float(v[2])),
        }
        for name, v in zip(case.reduced.targets, found.residuals.T, strict=True)
    ]  # fmt: skip
    return {
        "e": found.e, "n": found.n, "h": number(found.h),
        "orientation_deg": math.degrees(found.orientation) % 360.0, "scale": found.scale,
        "covariance": found.covariance.tolist(),
        "sigma_orientation_s": found.sigma_orientation / RAD_PER_SECOND,
        "sigma_scale": number(found.sigma_scale), "dof": found.dof,
        "variance_factor": number(found.variance_factor),
        "collimation_s": number(reduced.collimation / RAD_PER_SECOND),
        "index_s": number(reduced.index / RAD_PER_SECOND), "residuals": residuals,
    }  # fmt: skip


def _checks(found: Resection, every: Case, names: tuple[str, ...]) -> list[dict[str, Any]]:
    """Each check, the mean of its sightings less the known mark."""
    import numpy as np

    from fenwind.commands.reading import number

    r = every.reduced
    azimuth, hd = r.direction + found.orientation, found.applied * r.hd
    measured = np.stack(
        [
            found.e + hd * np.sin(azimuth), found.n + hd * np.cos(azimuth), found.h + r.dh,
        ]
    ) - every.known  # fmt: skip
    out = []
    for name in dict.fromkeys(t for t in r.targets if t in names):
        rows = measured[:, [t == name for t in r.targets]]
        seen = [row[np.isfinite(row)] for row in rows]
        de, dn, dh = (number(float(v.mean())) if v.size else None for v in seen)
        out.append({"name": name, "de": de, "dn": dn, "dh": dh})
    return out


def _words(payload: dict[str, Any], unit: LengthUnit) -> list[str]:
    mm = unit.metres * 1000.0
    h = f" {payload['h']:z.4f}" if payload["h"] is not None else ""
    lines = [
        f"{payload['e']:z.4f} {payload['n']:z.4f}{h}, orientation {payload['orientation_deg']:z.6f}°, "
        f"scale {payload['scale']:z.7f}"
    ]
    for one in payload["residuals"]:
        d = f", distance {one['v_d'] * mm:+z.1f} mm" if one["v_d"] is not None else ""
        up = f", height {one['v_h'] * mm:+z.1f} mm" if one["v_h"] is not None else ""
        lines.append(f"{one['target']:12} direction {one['v_hz_s']:+z.1f} s{d}{up}")
    for one in payload["checks"]:
        ways = [f"{k[1].upper()} {one[k]:+z.4f}" for k in ("de", "dn", "dh") if one[k] is not None]
        lines.append(f"check {one['name']}: {', '.join(ways) or 'a direction only'}")
    return lines
