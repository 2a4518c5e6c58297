"""fenwind loops: what closes in a network, before it is adjusted."""

from __future__ import annotations

import argparse
import math
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Sequence

    from fenwind.exchange.network_csv import Observation
    from fenwind.procedures.loop_closures import Closure, Corner, Leg

_DESCRIPTION = """Loops of vectors and height differences, triangles, and distances measured again. OBS:
kind,at,to and as needed from,value,sigma,unit,hi,ht,set,group,dx,dy,dz,sxx,sxy,sxz,syy,syz,szz; one row an
observation of the line from `at` to `to`."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("loops", help="misclosures of a network", description=_DESCRIPTION)
    parser.add_argument("observations", metavar="OBS.csv")
    parser.add_argument("--plane", action="store_true", help="no spherical excess")
    parser.add_argument("--limit", metavar="MM,PPM", help="for vectors, heights and distances")
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Read, close, tell."""
    from fenwind.commands.answers import answer, doubts_json, mm_ppm
    from fenwind.commands.reading import number
    from fenwind.doubts.loop_rules import loop_doubts
    from fenwind.exchange.network_csv import read_network

    limit = None
    if options.limit is not None:
        mm, ppm = mm_ppm(options.limit, "--limit")
        limit = (mm / 1000.0, ppm * 1e-6)
    every = read_network(options.observations)
    found = closures_of(every, options.plane, limit)
    rows = {o.line: (o.at, o.to) for o in every}
    payload = {
        "loops": [
            {
                "kind": one.kind, "names": list(one.names), "lines": list(one.lines),
                "misclosure": one.misclosure.tolist(), "sigma": one.sigma.tolist(),
                "limit": one.limit.tolist(), "length": number(one.length), "over": one.over,
            }
            for one in found
        ],
        "doubts": doubts_json(loop_doubts(found, rows)),
    }  # fmt: skip
    return answer(payload, [_words(one) for one in found] or ["nothing closes"], options.json)


def _words(one: Closure) -> str:
    seconds = one.kind == "triangle"
    values = ", ".join(f"{v:+.1f} s" if seconds else f"{v * 1000:+.1f} mm" for v in one.misclosure)
    return f"{one.kind:9} {' – '.join(one.names)}: {values}{'  OVER' if one.over else ''}"


def closures_of(every: Sequence[Observation], plane: bool, limit: Any) -> list[Closure]:
    """Everything that closes in observations."""
    from fenwind.procedures.loop_closures import closures, repeated, triangles

    vectors, heights = _legs(every, "vector"), _legs(every, "height_difference")
    distances = _legs(every, "distance")
    sides: dict[frozenset[str], float] = {}
    for leg in distances:
        sides.setdefault(frozenset((leg.at, leg.to)), float(leg.value[0]))
    for leg in vectors:
        sides.setdefault(frozenset((leg.at, leg.to)), math.hypot(*leg.value))
    found = closures("vector", vectors, limit) if vectors else []
    found += closures("height", heights, limit) if heights else []
    return found + triangles(_corners(every), sides, plane) + repeated(distances, limit)


def _legs(every: Sequence[Observation], kind: str) -> list[Leg]:
    from fenwind.procedures.loop_closures import Leg

    return [
        Leg(line=o.line, at=o.at, to=o.to, value=o.value, covariance=o.covariance)
        for o in every
        if o.kind == kind
    ]


def _corners(every: Sequence[Observation]) -> dict[tuple[str, frozenset[str]], Corner]:
    """Interior angles by mark and targets, the first of each: observed as angles, or as two directions."""
    from fenwind.procedures.loop_closures import Corner, pairs_of

    out: dict[tuple[str, frozenset[str]], Corner] = {}
    for o in every:
        if o.kind == "angle":
            corner = Corner(
                angle=_interior(float(o.value[0])), lines=(o.line,), variance=float(o.covariance[0, 0])
            )
            out.setdefault((o.at, frozenset((o.back, o.to))), corner)
    sets: dict[tuple[str, str], dict[str, Observation]] = {}
    for o in every:
        if o.kind == "direction":
            sets.setdefault((o.at, o.set), {}).setdefault(o.to, o)
    for (at, _), targets in sets.items():
        for a, b in pairs_of(list(targets)):
            one, two = targets[a], targets[b]
            corner = Corner(
                angle=_interior(float(two.value[0] - one.value[0])), lines=(one.line, two.line),
                variance=float(one.covariance[0, 0] + two.covariance[0, 0]),
            )  # fmt: skip
            out.setdefault((at, frozenset((a, b))), corner)
    return out


def _interior(angle: float) -> float:
    found = angle % (2.0 * math.pi)
    return min(found, 2.0 * math.pi - found)
