"""fenwind level: heights from level runs."""

from __future__ import annotations

import argparse
import math
from typing import TYPE_CHECKING, Any

from fenwind.commands.units_told import add_units, units_of
from fenwind.errors import ParseError

if TYPE_CHECKING:
    from fenwind.exchange.list_units import ListUnits

_DESCRIPTION = """Adjust levelling. RUNS: from,to,dh and one of distance_km or setups; dh is the height of
`to` minus the height of `from`. CONTROL: name,h. Lengths in metres unless a head or --unit says otherwise."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("level", help="adjust levelling", description=_DESCRIPTION)
    parser.add_argument("runs", metavar="RUNS.csv")
    parser.add_argument("control", metavar="CONTROL.csv")
    parser.add_argument(
        "--limit", metavar="MM", type=float, default=4.0, help="mm per root km or root set-up (4)"
    )
    parser.add_argument("--sigma", metavar="MM", type=float, default=1.0, help="one sigma, the same way (1)")
    add_units(parser, angles=False)
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Read, adjust, tell."""
    from fenwind.commands.answers import answer, doubts_json
    from fenwind.commands.reading import number
    from fenwind.doubts.level_rules import level_doubts
    from fenwind.procedures.levelling import level

    for name in ("limit", "sigma"):
        if not 0.0 < getattr(options, name) < math.inf:
            raise ParseError(f"--{name}: expected a number above 0", hint="Give millimetres")
    units = units_of(options)
    work = _read(options, units.of_lists)
    found = level(work)
    payload: dict[str, Any] = units.told({
        "heights": [
            {"name": n, "h": float(h), "sigma": float(s)}
            for n, h, s in zip(found.names, found.height_m, found.sigma_m, strict=True)
        ],
        "residuals": [
            {"from": a, "to": b, "v": float(v)}
            for a, b, v in zip(work.first, work.second, found.residuals_m, strict=True)
        ],
        "misclosures": [
            {
                "names": list(one.names), "misclosure": one.misclosure_m, "length": one.length,
                "limit": one.limit_m,
            }
            for one in found.loops
        ],
        "dof": found.dof, "variance_factor": number(found.variance_factor),
    }, lengths=("h", "sigma", "v", "misclosure", "limit"))  # fmt: skip
    payload["doubts"] = doubts_json(level_doubts(work, found), units.length.metres)
    words = [
        f"{m['name']:12} {m['h']:z12.4f} ± {m['sigma'] * units.length.metres * 1000:z.1f} mm"
        for m in payload["heights"]
    ]
    words += [
        f"{' – '.join(one.names)}: misses by {one.misclosure_m * 1000:+z.1f} mm, allowed "
        f"{one.limit_m * 1000:z.1f}"
        for one in found.loops
    ]
    return answer(payload, words, options.json)


def _read(options: argparse.Namespace, units: ListUnits) -> Any:
    from dataclasses import replace

    from fenwind.exchange.line_csv import read_runs
    from fenwind.exchange.named_csv import read_control

    runs = read_runs(options.runs, units)
    control = read_control(options.control, heights_only=True, units=units)
    return replace(
        runs, control={name: mark.h for name, mark in control.items()}, sigma_m=options.sigma / 1000.0,
        limit_m=options.limit / 1000.0,
    )  # fmt: skip
