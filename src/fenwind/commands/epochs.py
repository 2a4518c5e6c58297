"""fenwind epochs: one network observed twice, and what has moved between."""

from __future__ import annotations

import argparse
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from fenwind.commands.adjust import add_options
from fenwind.commands.units_told import units_of
from fenwind.errors import ParseError, ProcedureError
from fenwind.quantities.numbers import counted

if TYPE_CHECKING:
    from fenwind.procedures.congruence import Displacement
    from fenwind.procedures.network import NetworkResult

_DESCRIPTION = """Adjust two sets of observations of one network free, lay them on the marks that stayed, and
tell which moved. FIRST, SECOND and CONTROL as in fenwind adjust; the control only says where the network
lies. The marks that stayed are found by themselves, unless --stable names them."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("epochs", help="what moved between two epochs", description=_DESCRIPTION)
    parser.add_argument("first", metavar="FIRST.csv")
    parser.add_argument("--stable", metavar="NAME,..", help="marks taken for stable without asking")
    parser.add_argument("--level", metavar="A", type=float, default=0.01, help="of the tests (0.01)")
    add_options(parser)


def run(options: argparse.Namespace) -> int:
    """Adjust both, compare, tell."""
    from fenwind.commands.answers import answer
    from fenwind.procedures.congruence import displacement
    from fenwind.procedures.network_whole import free_again

    if not 0.0 < options.level < 1.0:
        raise ParseError("--level: expected a number between 0 and 1", hint="Correct it")
    if options.sinex_out:
        raise ParseError("--sinex-out: there are two solutions here", hint="Write each with fenwind adjust")
    first, second = (_adjusted(options, path) for path in (options.first, options.observations))
    names = [n for n in first.marks.names if n in second.marks.index]
    stable = None
    if options.stable is not None:
        stable = [part.strip() for part in options.stable.split(",") if part.strip()]
        for name in stable:
            if name not in names:
                raise ProcedureError(f"{name} is not in both epochs", hint="Check the names of --stable")
    a, b = (free_again(result, names, first) for result in (first, second))
    found = displacement(a, b, options.level, stable)
    answered = {
        "marks": _marks(found), "whole": _test(found.whole), "before": _test(found.before),
        "taken_out": list(found.taken_out), "level": options.level, "doubts": [],
        "lost": sorted({*first.lost, *second.lost}),
    }  # fmt: skip
    payload = units_of(options).told(answered, lengths=("move",), squares=("covariance",))
    return answer(payload, _words(found), options.json)


def _adjusted(options: argparse.Namespace, path: str) -> NetworkResult:
    from fenwind.commands.adjust import frame_of, network_of, rows_of, sigmas_of
    from fenwind.commands.network_more import with_more
    from fenwind.exchange.landxml_survey import read_observations
    from fenwind.procedures.network_case import determined

    frame = frame_of(options)
    rows = read_observations(path, sigmas_of(options), units_of(options, frame).of_lists)
    net, _ = network_of(options, rows, frame)
    return determined(with_more(options, replace(net, rows=rows_of(rows))))


def _test(test: tuple[float, int, float]) -> dict[str, Any]:
    return {"statistic": test[0], "dof": test[1], "p_value": test[2]}


def _marks(found: Displacement) -> list[dict[str, Any]]:
    from fenwind.commands.reading import number

    return [
        {
            "name": name, "move": [number(float(v)) for v in found.moves[:, i]],
            "covariance": [[number(float(v)) for v in row] for row in found.covariance[:, :, i]],
            "stable": bool(found.stable[i]), "moved": bool(found.moved[i]),
            "statistic": float(found.statistic[i]), "p_value": float(found.probability[i]),
        }
        for i, name in enumerate(found.names)
    ]  # fmt: skip


def _words(found: Displacement) -> list[str]:
    import numpy as np

    lines = []
    for i, name in enumerate(found.names):
        way = " ".join(f"{v * 1000.0:+z8.1f}" for v in found.moves[:, i] if np.isfinite(v))
        said = "stable" if found.stable[i] else "moved" if found.moved[i] else "not more than chance"
        lines.append(f"{name:12} {way} mm   p {found.probability[i]:z.4f}   {said}")
    return [f"{counted(len(found.names), 'mark')} in both; all stable: p {found.before[2]:z.4f}", *lines]
