"""fenwind traverse: a traverse as booked, its misclosures, and its adjustment."""

from __future__ import annotations

import argparse
import math
from typing import TYPE_CHECKING, Any

from fenwind.commands.units_told import add_units, units_of
from fenwind.errors import ParseError, ProcedureError

if TYPE_CHECKING:
    from fenwind.geodesy.frames import Frame
    from fenwind.procedures.traverse import Ends, Options, Sight, Traverse, TraverseResult
    from fenwind.quantities.lengths import LengthUnit

_DESCRIPTION = """Compute a traverse. BOOK: from,to,direction_kind,direction_dms,distance[,dh], rows in the
order of the walk; direction_kind is azimuth, right, left, deflection or bearing; distances horizontal, or
empty beside za,sd[,hi,ht], which are reduced to the mean height of the line. Rows that are no leg of the
chain are side shots, laid off after the adjustment. Lengths in metres, coordinates and heights in the unit
of --frame, unless a head or --unit says otherwise; angles decimal degrees or D-M-S."""


#: Keys of the answer that are lengths, besides e, n and h.
_LENGTHS = ("misclosure_e", "misclosure_n", "misclosure_h", "misclosure", "length", "se", "sn", "sh")


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("traverse", help="adjust a traverse", description=_DESCRIPTION)
    parser.add_argument("book", metavar="BOOK.csv")
    parser.add_argument("--start", metavar="NAME,E,N[,H]", required=True)
    line = parser.add_mutually_exclusive_group()
    line.add_argument("--start-azimuth", metavar="DMS", help="from the start to its backsight")
    line.add_argument("--backsight", metavar="NAME,E,N", help="the mark sighted back to from the start")
    parser.add_argument("--close", metavar="NAME[,E,N[,H]]", help="a known mark; the name alone: a loop")
    end = parser.add_mutually_exclusive_group()
    end.add_argument("--closing-azimuth", metavar="DMS", help="of the closing line, from the closing mark")
    end.add_argument("--foresight", metavar="NAME,E,N", help="the mark at its other end")
    parser.add_argument("--closing-angle", metavar="DMS", help="from the last station to the closing line")
    parser.add_argument("--angles", choices=("none", "equal"), default="none")
    parser.add_argument("--method", choices=("none", "compass", "transit", "lsq"), default="compass")
    parser.add_argument("--sigma-angle", metavar="S", type=float, default=5.0, help="seconds (5)")
    parser.add_argument("--sigma-distance", metavar="MM,PPM", default="3,2")
    parser.add_argument("--sigma-height", metavar="MM", type=float, default=3.0, help="over a km (3)")
    parser.add_argument("--heights-by", choices=("distance", "setups"), default="distance")
    parser.add_argument("--spec", metavar="1:N", default="1:10000")
    parser.add_argument("--angle-limit", metavar="S", type=float, help="for the whole figure, seconds")
    add_frame(parser)
    add_units(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def add_frame(parser: argparse.ArgumentParser) -> None:
    """Options of lines that are brought to the grid."""
    parser.add_argument(
        "--frame", metavar="CODE", help="projected frame of e,n: each distance is brought to its grid by its "
        "line's own factor, each direction by its arc-to-chord"
    )  # fmt: skip
    parser.add_argument("--geoid", metavar="FILE", help="geoid grid that heights are counted from")


def frame_of(options: argparse.Namespace) -> Frame | None:
    """The frame of --frame and --geoid, None without. Raises ParseError for a geoid alone."""
    from fenwind.geodesy.frames import open_frame, working_frame_spec

    if options.frame is None:
        if options.geoid is not None:
            raise ParseError("--geoid needs --frame", hint="Name the frame of e,n")
        return None
    return open_frame(working_frame_spec(options.frame, options.geoid or ""))


def run(options: argparse.Namespace) -> int:
    """Read, solve, tell."""
    from fenwind.commands.answers import answer, doubts_json
    from fenwind.doubts.traverse_rules import Limits, traverse_doubts
    from fenwind.exchange.line_csv import check_heights, read_book
    from fenwind.procedures.traverse import Traverse, solve, taken_apart
    from fenwind.procedures.traverse_errors import bearing_on_closure
    from fenwind.quantities.angles import RAD_PER_SECOND

    frame = frame_of(options)
    units = units_of(options, frame)
    rows = read_book(options.book, units.of_lists)
    start, name, ends = _ends(options, rows, units.coordinate)
    names, legs, shots = taken_apart(rows, start, name)
    check_heights(legs, options.book)
    work = Traverse(names=names, legs=legs, shots=shots, ends=ends, options=_options(options))
    found = solve(work)
    if frame is not None:
        work, found = _on_grid(options, frame, work, found, units.coordinate)
    limit = options.angle_limit
    limits = Limits(
        spec=_spec(options.spec),
        angle=(2.0 * options.sigma_angle * math.sqrt(bearing_on_closure(work)) if limit is None else limit)
        * RAD_PER_SECOND,
    )
    payload = units.told(_json(work, found, limits.angle), ("e", "n", "h"), _LENGTHS)
    payload["doubts"] = doubts_json(traverse_doubts(work, found, limits), units.length.metres)
    return answer(payload, _words(payload, units.length.key), options.json)


def _on_grid(
    options: argparse.Namespace, frame: Frame, work: Traverse, found: TraverseResult, unit: LengthUnit
) -> tuple[Traverse, TraverseResult]:
    import numpy as np

    from fenwind.exchange.named_csv import typed_mark
    from fenwind.procedures.grid_sightings import traverse_on_grid
    from fenwind.procedures.traverse import solve

    if not np.isfinite(found.adjusted[2]).all():
        raise ProcedureError(
            "distances cannot be brought to the grid without heights",
            hint="Give the height of the start, and dh in every leg",
        )

    def place(mark: str | None, option: str, near: int) -> Any:
        if mark is None:
            return None
        one = typed_mark(mark, option, unit)
        return np.array([one.e, one.n, found.adjusted[2, near]])

    back, fore = place(options.backsight, "--backsight", 0), place(options.foresight, "--foresight", -1)
    work = traverse_on_grid(frame, work, found, back, fore, 1.0)
    return work, solve(work)


def _ends(options: argparse.Namespace, rows: list[Sight], unit: LengthUnit) -> tuple[str, str | None, Ends]:
    from fenwind.exchange.named_csv import typed_mark
    from fenwind.procedures.traverse import Ends

    start = typed_mark(options.start, "--start", unit)
    here = (start.e, start.n, start.h)
    close, name, loop = None, None, False
    if options.close is not None:
        name = options.close.split(",")[0].strip()
        loop = "," not in options.close
        if not loop:
            mark = typed_mark(options.close, "--close", unit)
            close = (mark.e, mark.n, mark.h)
    elif rows[-1].there == start.name:
        name, loop = start.name, True
    if name is not None and not any(row.there == name for row in rows):
        raise ProcedureError(f"no row leads to the closing mark {name}", hint="Name the last leg's end")
    if loop:
        close = here
    there = close or (math.nan, math.nan, math.nan)
    if (options.closing_azimuth or options.foresight or options.closing_angle) and close is None:
        raise ProcedureError(
            "an open traverse has no closing line", hint="Give the closing mark with --close"
        )
    ends = Ends(
        start=here, close=close, loop=loop,
        start_line=_line(
            options.start_azimuth, "--start-azimuth", options.backsight, "--backsight", here, unit
        ),
        closing_line=_line(
            options.closing_azimuth, "--closing-azimuth", options.foresight, "--foresight", there, unit
        ),
        closing_angle=_angle(options.closing_angle, "--closing-angle"),
    )  # fmt: skip
    return start.name, name, ends


def _line(
    azimuth: str | None, option: str, mark: str | None, mark_option: str, here: tuple[float, float, float],
    unit: LengthUnit,
) -> float | None:  # fmt: skip
    from fenwind.exchange.named_csv import typed_mark

    if mark is None:
        return _angle(azimuth, option)
    found = typed_mark(mark, mark_option, unit)
    de, dn = found.e - here[0], found.n - here[1]
    if de == dn == 0.0:
        raise ParseError(f"{mark_option}: {found.name} is at the same place", hint="Name another mark")
    return math.atan2(de, dn)


def _angle(text: str | None, option: str) -> float | None:
    from fenwind.quantities.angles import parse_angle

    if text is None:
        return None
    try:
        return parse_angle(text)
    except ParseError as error:
        raise ParseError(f"{option}: {error.message}", hint=error.hint) from error


def _options(options: argparse.Namespace) -> Options:
    from fenwind.commands.answers import mm_ppm
    from fenwind.procedures.traverse import Options
    from fenwind.quantities.angles import RAD_PER_SECOND

    mm, ppm = mm_ppm(options.sigma_distance, "--sigma-distance")
    for name in ("sigma_angle", "angle_limit", "sigma_height"):
        value = getattr(options, name)
        if value is not None and not 0.0 < value < math.inf:
            raise ParseError(f"--{name.replace('_', '-')}: expected a number above 0", hint="Correct it")
    return Options(
        method=options.method, balance=options.angles == "equal", heights_by=options.heights_by,
        sigma_angle=options.sigma_angle * RAD_PER_SECOND, sigma_distance_m=mm / 1000.0,
        sigma_distance_ppm=ppm, sigma_height=options.sigma_height / 1000.0,
    )  # fmt: skip


def _spec(text: str) -> float:
    one, colon, number = text.partition(":")
    try:
        value = float(number) if colon and one.strip() == "1" else math.nan
    except ValueError:
        value = math.nan
    if not 1.0 <= value < math.inf:
        raise ParseError(f"--spec {text!r}: expected 1:N", hint="Write --spec 1:10000")
    return value


def _json(work: Traverse, found: TraverseResult, limit: float) -> dict[str, Any]:
    import numpy as np

    from fenwind.commands.reading import number
    from fenwind.procedures.traverse_errors import covariances
    from fenwind.quantities.angles import RAD_PER_SECOND

    def stations(names: Any, values: Any, sigmas: Any = None) -> list[dict[str, Any]]:
        out = [
            {"name": name, "e": number(e), "n": number(n), "h": number(h)}
            for name, e, n, h in zip(names, *values.tolist(), strict=True)
        ]
        for one, (se, sn, sh) in zip(out, [] if sigmas is None else sigmas.T.tolist(), strict=False):
            one |= {"se": se, "sn": sn, "sh": sh if one["h"] is not None else None}
        return out

    known, shots = (np.sqrt(np.einsum("iik->ik", c)) for c in covariances(work, found))

    e, n, h = (number(v) for v in found.misclosure)
    out = {
        "figure": "open" if work.ends.close is None else "loop" if work.ends.loop else "link",
        "angles": found.angles, "angular_misclosure_s": number(found.angular / RAD_PER_SECOND),
        "angular_limit_s": limit / RAD_PER_SECOND, "misclosure_e": e, "misclosure_n": n, "misclosure_h": h,
        "misclosure": number(found.linear), "length": found.length, "ratio": number(found.ratio),
        "unadjusted": stations(work.names, found.unadjusted),
        "adjusted": stations(work.names, found.adjusted, known),
        "side_shots": stations([s.there for s in work.shots], found.shots, shots),
    }  # fmt: skip
    if work.options.method == "lsq":
        out |= {"dof": found.dof, "variance_factor": number(found.variance_factor)}
    return out


def _words(payload: dict[str, Any], unit: str) -> list[str]:
    lines = [f"{payload['figure']}, {payload['length']:z.3f} {unit}, {payload['angles']} angles"]
    if payload["angular_misclosure_s"] is not None:
        lines.append(
            f"angles miss by {payload['angular_misclosure_s']:+z.1f} s, allowed "
            f"{payload['angular_limit_s']:z.1f} s"
        )
    if payload["misclosure"] is not None:
        ratio = f", 1:{payload['ratio']:z.0f}" if payload["ratio"] else ""
        lines.append(
            f"misses by E {payload['misclosure_e']:+z.4f}, N {payload['misclosure_n']:+z.4f} {unit}, "
            f"{payload['misclosure']:z.4f} {unit}{ratio}"
        )
    for one in payload["adjusted"] + payload["side_shots"]:
        h = f" {one['h']:z10.4f}" if one["h"] is not None else ""
        lines.append(f"{one['name']:12} {one['e']:z14.4f} {one['n']:z14.4f}{h}")
    return lines
