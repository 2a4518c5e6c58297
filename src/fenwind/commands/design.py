"""fenwind design: what a network would be worth, before anything is observed."""

from __future__ import annotations

import argparse
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from fenwind.commands.adjust import add_options
from fenwind.commands.units_told import units_of

if TYPE_CHECKING:
    from fenwind.exchange.network_csv import Observation
    from fenwind.procedures.network_model import Network

_DESCRIPTION = """What fenwind adjust would give for a geometry. OBS without values; every mark in
CONTROL, new ones with planned = yes."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    add_options(verbs.add_parser("design", help="plan a network", description=_DESCRIPTION))


def run(options: argparse.Namespace) -> int:
    """Read, compute what would be observed, tell what that is worth."""
    from fenwind.commands.adjust import frame_of, network_of, sigmas_of, told
    from fenwind.commands.answers import answer
    from fenwind.exchange.network_csv import read_network

    sigmas = sigmas_of(options)
    frame = frame_of(options)
    units = units_of(options, frame)
    rows = read_network(options.observations, sigmas, valued=False, units=units.of_lists)
    net, geographic = network_of(options, rows, frame)
    payload = told(options, net, _as_computed(net, rows, sigmas), frame, geographic)
    for one in payload["observations"]:
        three = [None] * 3 if one["kind"] == "vector" and one["redundancy"] is not None else None
        one |= {"residual": three, "w": three}
    for one in payload["control"]:
        one["difference"] = [None] * 3
        if "w" in one:
            one["w"] = [None] * 3
    payload |= {"variance_factor": None, "p_value": None}
    words = [
        f"{p['name']:12} 95 %: {p['ellipse']['a'] * units.length.metres * 1000:z.1f} mm"
        for p in payload["positions"]
        if p["ellipse"]
    ]
    return answer(payload, [f"{payload['dof']} redundant", *words], options.json)


def _as_computed(net: Network, rows: list[Observation], sigmas: Any) -> list[Observation]:
    """The observations with the values that the control's coordinates give."""
    import numpy as np

    from fenwind.commands.adjust import rows_of
    from fenwind.procedures.network_design import as_computed

    out = []
    for o, row in zip(rows, as_computed(net, rows_of(rows)), strict=True):
        covariance = o.covariance
        if not np.isfinite(covariance).all():
            length = float(row.value[0])
            covariance = np.array([[(sigmas.distance_m + sigmas.distance_part * length) ** 2]])
        out.append(replace(o, value=row.value, covariance=covariance))
    return out
