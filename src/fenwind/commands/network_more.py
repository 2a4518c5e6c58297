"""What adjust and design take beside their contract: biases, centring, a second opinion, and solutions as
SINEX in and out."""

from __future__ import annotations

import argparse
import math
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from fenwind.errors import ParseError, ProcedureError

if TYPE_CHECKING:
    from fenwind.commands.units_told import Units
    from fenwind.exchange.network_csv import Observation
    from fenwind.procedures.network import NetworkResult
    from fenwind.procedures.network_model import Network

#: What values of a bias are told in.
UNITS = {"scale": "ppm", "turn": "s", "refraction": "", "height": "m"}


def add_more_options(parser: argparse.ArgumentParser) -> None:
    """Their options."""
    parser.add_argument(
        "--bias", metavar="KIND:GROUP", action="append", default=[],
        help="scale, turn, refraction or height that a group has in common (may be repeated)",
    )  # fmt: skip
    parser.add_argument(
        "--centring", metavar="MM[,MM]", help="of instruments, and of targets (the same): sigma along an axis"
    )
    parser.add_argument("--sinex", metavar="FILE", help="marks known together, with their covariance")
    parser.add_argument("--sinex-out", metavar="FILE", help="write the marks that are not held")


def with_more(options: argparse.Namespace, net: Network) -> Network:
    """The network with what the options ask for. Raises ParseError, ProcedureError, FormatError."""
    from fenwind.procedures.network_centring import centred
    from fenwind.procedures.network_start import starting_marks

    net = replace(net, biases=_biases(options, net))
    if options.sinex:
        net = _joined(options, net)
    if options.centring is not None:
        instrument, target = _centring(options.centring)
        net = centred(net, starting_marks(net)[0], instrument, target)
    return net


def _biases(options: argparse.Namespace, net: Network) -> tuple[Any, ...]:
    from fenwind.procedures.network_model import BIASES, Bias

    out = []
    for text in options.bias:
        kind, _, group = text.partition(":")
        if kind not in BIASES:
            raise ParseError(f"--bias {text}: expected one of {', '.join(BIASES)}", hint="Correct it")
        kinds = {row.kind for row in net.rows if row.group == group}
        if not kinds & set(BIASES[kind][1]):
            raise ProcedureError(
                f"--bias {text}: no {' or '.join(BIASES[kind][1])} is in the group {group!r}",
                hint="Name a group of the observations; without one it is their kind",
            )
        out.append(Bias(kind=kind, group=group))
    return tuple(dict.fromkeys(out))


def _centring(text: str) -> tuple[float, float]:
    from fenwind.quantities.numbers import parse_number

    values = [parse_number(part) for part in text.split(",")]
    if len(values) not in (1, 2) or not all(0.0 <= v < 1000.0 for v in values):
        raise ParseError(f"--centring {text}: expected one or two numbers of millimetres", hint="As 0.5,1")
    return values[0] / 1000.0, values[-1] / 1000.0


def _joined(options: argparse.Namespace, net: Network) -> Network:
    """With the marks of a solution, each in its starting place where the control does not say one."""
    import numpy as np

    from fenwind.exchange.sinex import read_sinex
    from fenwind.geodesy.geocentric import from_xyz
    from fenwind.procedures.network_model import Given, Joint

    if net.plane or net.dimensions != 3:
        raise ParseError("--sinex needs three dimensions and no --plane", hint="Leave --plane out")
    found = read_sinex(options.sinex)
    seen = {n for row in net.rows for n in (row.at, row.to, row.back)}
    names = [
        code if code in seen else text for code, text in zip(found.codes, found.descriptions, strict=True)
    ]
    rows = [i for i, name in enumerate(names) if name in seen]
    if not rows:
        raise ProcedureError(
            f"no mark of {options.sinex} is observed", hint="Its marks are known by code, or by description"
        )
    index = np.concatenate([np.arange(3 * i, 3 * i + 3) for i in rows])
    joint = Joint(
        names=tuple(names[i] for i in rows), xyz=found.xyz[:, rows],
        covariance=found.covariance[np.ix_(index, index)],
    )  # fmt: skip
    control = dict(net.control)
    place = np.stack(from_xyz(joint.xyz, net.a, net.f))
    for name, (lat, lon, h) in zip(joint.names, place.T.tolist(), strict=True):
        if name not in control:
            control[name] = Given(first=lat, second=lon, h=h, planned=True)
    return replace(net, joint=joint, control=control)


def more_told(
    options: argparse.Namespace, units: Units, result: NetworkResult, rows: list[Observation]
) -> dict[str, Any]:
    """What the JSON gains by these options; writes the SINEX file that was asked for."""
    out: dict[str, Any] = {}
    if options.bias:
        from fenwind.procedures.network_whole import bias_figures

        figures = bias_figures(result) if result.found is not None else []
        out["biases"] = [
            {"kind": b.kind, "group": b.group, **_in_unit(units, UNITS[b.kind], value, sigma)}
            for b, value, sigma in figures
        ]
    if getattr(options, "robust", False):
        out["robust"] = _robust(result, rows)
    if options.sinex_out:
        _write_sinex(options, result)
    return out


def _in_unit(units: Units, unit: str, value: float, sigma: float) -> dict[str, Any]:
    metres = units.length.metres if unit == "m" else 1.0
    return {
        "value": value / metres, "sigma": sigma / metres, "unit": units.length.key if unit == "m" else unit,
    }  # fmt: skip


def _robust(result: NetworkResult, rows: list[Observation]) -> dict[str, Any]:
    from fenwind.procedures.network_robust import second_opinion

    kept = [o for o in rows if not {o.at, o.to, o.back} & set(result.lost)]
    found = second_opinion(result)
    return {
        "spread": found.spread,
        "stand_out": [
            {
                "line": kept[i].line, "kind": kept[i].kind, "at": kept[i].at, "to": kept[i].to,
                "weight": float(found.weights[i]), "sigmas": float(found.residuals[i]),
            }
            for i in found.standing_out()
        ],
    }  # fmt: skip


def _write_sinex(options: argparse.Namespace, result: NetworkResult) -> None:
    from datetime import UTC, datetime

    from fenwind.exchange.files import check_target, write_text
    from fenwind.exchange.sinex import sinex_lines
    from fenwind.procedures.network_whole import geocentric_solution

    inputs = [options.observations, options.control, *([options.sinex] if options.sinex else [])]
    check_target(options.sinex_out, inputs)
    names, xyz, covariance, place = geocentric_solution(result)
    lines = sinex_lines(
        names, xyz, covariance, place, datetime.now(UTC), sum(p.observed.size for p in result.parts), math.nan
    )
    write_text(options.sinex_out, "\n".join(lines) + "\n")
