"""fenwind compare: two lists of positions, by name."""

from __future__ import annotations

import argparse
from typing import Any

from fenwind.commands.units_told import add_units, units_of
from fenwind.errors import FormatError


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser(
        "compare",
        help="compare two lists of positions by name",
        description="A and B: CSV with name,e,n,h. Lengths are in metres unless a head or --unit says "
        "otherwise; limits in metres. Differences are B - A. Exit code 1 when one is over its tolerance.",
    )
    parser.add_argument("first", metavar="A")
    parser.add_argument("second", metavar="B")
    parser.add_argument("--tolerance-h", metavar="M", type=float, default=0.010)
    parser.add_argument("--tolerance-v", metavar="M", type=float, default=0.020)
    add_units(parser, angles=False)
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Compare and print."""
    from fenwind.commands.reading import dump, number, plane_positions, read_points
    from fenwind.procedures.compare import compare
    from fenwind.quantities.numbers import format_fixed

    units = units_of(options)
    lists = [read_points(path, units=units.of_lists) for path in (options.first, options.second)]
    for points in lists:
        if points.geographic:
            raise FormatError(
                "positions are geographic, expected name,e,n,h",
                where=f"{points.source}, line 1",
                hint="Convert them first",
            )
    result = compare(
        plane_positions(lists[0]), plane_positions(lists[1]), options.tolerance_h, options.tolerance_v
    )
    over = [name for name, flag in zip(result.names, result.over, strict=True) if flag]
    rows = list(
        zip(
            result.names,
            *(a.tolist() for a in (result.de_m, result.dn_m, result.dh_m, result.d_m)),
            strict=True,
        )
    )
    if options.json:
        differences = [
            dict(zip(("name", "de", "dn", "dh", "d"), (name, *map(number, values)), strict=True))
            for name, *values in rows
        ]
        answer = {
            "differences": differences, "only_a": list(result.only_a), "only_b": list(result.only_b),
            "over": over,
        }  # fmt: skip
        print(dump(units.told(answer, lengths=("de", "dn", "dh", "d"))))
        return 1 if over else 0
    for name, *values in rows:
        figures = "".join(f"{format_fixed(v * 1000.0, 1, sign=i < 3):>14}" for i, v in enumerate(values))
        print(f"{name:16}{figures} mm{'  over' if name in over else ''}")
    for words, names in (("only in A", result.only_a), ("only in B", result.only_b)):
        if names:
            print(f"{words}: {', '.join(names)}")
    return 1 if over else 0
