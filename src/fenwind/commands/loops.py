"""fenwind loops: what closes in a network, before it is adjusted."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from fenwind.commands.units_told import add_units, units_of

if TYPE_CHECKING:
    from fenwind.commands.units_told import Units
    from fenwind.procedures.loop_closures import Closure

_DESCRIPTION = """Loops of vectors and height differences, triangles, and distances measured again. OBS:
kind,at,to and as needed from,value,sigma,unit,hi,ht,set,group,dx,dy,dz,sxx,sxy,sxz,syy,syz,szz; one row an
observation of the line from `at` to `to`."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("loops", help="misclosures of a network", description=_DESCRIPTION)
    parser.add_argument("observations", metavar="OBS.csv")
    parser.add_argument("--plane", action="store_true", help="no spherical excess")
    parser.add_argument("--limit", metavar="MM,PPM", help="for vectors, heights and distances")
    add_units(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Read, close, tell."""
    from fenwind.commands.answers import answer, doubts_json, mm_ppm
    from fenwind.doubts.loop_rules import loop_doubts
    from fenwind.exchange.landxml_survey import read_observations
    from fenwind.procedures.network_loops import Observed, closures_of

    limit = None
    if options.limit is not None:
        mm, ppm = mm_ppm(options.limit, "--limit")
        limit = (mm / 1000.0, ppm * 1e-6)
    units = units_of(options)
    every = read_observations(options.observations, units=units.of_lists)
    observed = [
        Observed(
            line=o.line, kind=o.kind, at=o.at, to=o.to, back=o.back, set=o.set, value=o.value,
            covariance=o.covariance,
        )
        for o in every
    ]  # fmt: skip
    found = closures_of(observed, options.plane, limit)
    rows = {o.line: (o.at, o.to) for o in every}
    payload = units.told({"loops": [_closure_json(one, units) for one in found]})
    payload["doubts"] = doubts_json(loop_doubts(found, rows), units.length.metres)
    return answer(payload, [_words(one) for one in found] or ["nothing closes"], options.json)


def _closure_json(one: Closure, units: Units) -> dict[str, Any]:
    from fenwind.commands.reading import number

    told = {
        "kind": one.kind, "names": list(one.names), "lines": list(one.lines),
        "misclosure": one.misclosure.tolist(), "sigma": one.sigma.tolist(), "limit": one.limit.tolist(),
        "length": number(one.length), "over": one.over,
    }  # fmt: skip
    if one.kind == "triangle":  # seconds
        return told
    lengths = ("misclosure", "sigma", "limit", "length")
    scaled: dict[str, Any] = units.scaled(told, lengths=lengths)
    return scaled


def _words(one: Closure) -> str:
    seconds = one.kind == "triangle"
    values = ", ".join(f"{v:+z.1f} s" if seconds else f"{v * 1000:+z.1f} mm" for v in one.misclosure)
    return f"{one.kind:9} {' – '.join(one.names)}: {values}{'  OVER' if one.over else ''}"
