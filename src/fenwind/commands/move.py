"""fenwind move: a point list or a drawing from one system to another through pairs."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from fenwind.errors import FormatError, ProcedureError

if TYPE_CHECKING:
    from fenwind.exchange.raw_table import RawTable
    from fenwind.procedures.fit import FitOptions, FitResult
    from fenwind.procedures.move import Distances, Move
    from fenwind.procedures.positions import Positions

_DESCRIPTION = """FILE: CSV with name,e,n,h, or a DXF drawing. PAIRS: CSV with
name,from_e,from_n,from_h,to_e,to_n,to_h; heights may be empty. Marks that are where a pair is to come
stay by themselves. Heights are untouched unless --height shift."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser(
        "move", help="move a point list or a drawing to another system", description=_DESCRIPTION
    )
    parser.add_argument("file", metavar="FILE")
    parser.add_argument("pairs", metavar="PAIRS")
    parser.add_argument("--out", metavar="FILE", required=True)
    parser.add_argument(
        "--horizontal",
        choices=("shift", "turn", "scale"),
        help="default: turn, shift with one pair; scale is 1 unless asked",
    )
    parser.add_argument(
        "--pivot", metavar="NAME,NAME", help="hold the first exactly, turn onto the direction to the second"
    )
    parser.add_argument("--height", choices=("none", "shift"), default="none")
    parser.add_argument(
        "--stay", metavar="NAME,..", help="what stays put: marks; in drawings also layers, texts, handles"
    )
    parser.add_argument(
        "--back", action="store_true", help="run the move backwards: FILE is in the new system"
    )
    parser.add_argument(
        "--reason", metavar="TEXT", default="", help="why the scale is not 1, with --horizontal scale"
    )
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Compute, write and print; 1 when a doubt is grave."""
    from fenwind.commands.fit import as_json
    from fenwind.commands.reading import dump, split_names
    from fenwind.doubts.rules import doubts_about_fit
    from fenwind.exchange.files import check_target
    from fenwind.procedures.fit_case import FitCase
    from fenwind.procedures.move import distances, move_fit, move_of

    check_target(options.out, (options.file, options.pairs))
    source, target = read_pairs(options.pairs)
    result = move_fit(source, target, _options(options, source))
    move = move_of(result, target, backwards=options.back)
    stay = split_names(options.stay)
    apart = distances(source, target)
    drawing = options.file.lower().endswith(".dxf")
    outcome = (_move_drawing if drawing else _move_list)(options.file, options.out, move, stay, result)
    doubts = doubts_about_fit(FitCase(subject="move", measured=source, known=target, result=result))
    if options.json:
        payload = as_json(result, doubts, 1.0) | outcome
        payload["distances"] = [
            {"a": a, "b": b, "from": s, "to": t}
            for a, b, s, t in zip(
                apart.first, apart.second, apart.source.tolist(), apart.target.tolist(), strict=True
            )
        ]
        payload["scale_reason"] = options.reason
        print(dump(payload))
    else:
        _print(options, result, move, apart, outcome, [d.text for d in doubts])
    return 1 if any(d.grave for d in doubts) else 0


def _options(options: argparse.Namespace, source: Positions) -> FitOptions:
    from fenwind.commands.reading import split_names
    from fenwind.procedures.fit import FitOptions

    pivot = split_names(options.pivot)
    if pivot and len(pivot) != 2:
        raise ProcedureError(
            "--pivot takes two names", hint="Write --pivot NAME,NAME: the first is held exactly"
        )
    horizontal = "pivot" if pivot else options.horizontal or ("turn" if len(source) > 1 else "shift")
    return FitOptions(
        horizontal=horizontal, height=options.height, pivot=(pivot[0], pivot[1]) if pivot else None
    )


PAIR_COLUMNS = ("name", "from_e", "from_n", "from_h", "to_e", "to_n", "to_h")


def read_pairs(path: str) -> tuple[Positions, Positions]:
    """Source and target positions of a list of pairs. Raises FormatError with the place of the first bad
    cell."""
    import numpy as np

    from fenwind.exchange.delimited import read_file
    from fenwind.procedures.positions import positions

    table = read_file(path)
    heads = [h.strip().lower() for h in table.headers] or list(PAIR_COLUMNS)[: table.width]
    missing = [c for c in ("name", "from_e", "from_n", "to_e", "to_n") if c not in heads]
    if missing:
        raise FormatError(
            f"no column for {' and '.join(missing)}",
            where=f"{path}, line 1",
            hint=f"Expected {','.join(PAIR_COLUMNS)}",
        )
    place = {c: heads.index(c) for c in PAIR_COLUMNS if c in heads}
    names: list[str] = []
    rows: list[list[float]] = []
    for line, cells in zip(table.lines, table.rows, strict=True):
        name = cells[place["name"]] if place["name"] < len(cells) else ""
        if not name or name in names:
            raise FormatError(
                f"column name: {name!r} found, expected every name once",
                where=f"{path}, line {line}",
                hint="Name each pair",
            )
        names.append(name)
        rows.append(
            [_cell(table, cells, place, column, f"{path}, line {line}") for column in PAIR_COLUMNS[1:]]
        )
    values = np.array(rows, dtype=float).reshape(-1, 6).T
    return positions(names, *values[:3]), positions(names, *values[3:])


def _cell(table: RawTable, cells: list[str], place: dict[str, int], column: str, where: str) -> float:
    from fenwind.errors import ParseError
    from fenwind.quantities.numbers import parse_number

    index = place.get(column, len(cells))
    text = cells[index] if index < len(cells) else ""
    if not text and column.endswith("_h"):
        return float("nan")
    try:
        return parse_number(text, decimal_comma=table.decimal_comma)
    except ParseError as error:
        raise FormatError(
            f"column {column}: {text[:40]!r} found, expected a number", where=where, hint="Correct the cell"
        ) from error


def _move_list(path: str, out: str, move: Move, stay: tuple[str, ...], result: FitResult) -> dict[str, Any]:
    from fenwind.commands.reading import number, read_list
    from fenwind.exchange.files import write_text
    from fenwind.exchange.list_move import move_list, moved_text
    from fenwind.quantities.lengths import METRE

    raw, found = read_list(path)
    done = move_list(found, move, stay, result)
    after = done.points
    write_text(out, moved_text(raw, found, done, METRE))
    rows = zip(
        after.names, after.e_m, after.n_m, after.height_m, after.sigma_h_m, after.sigma_v_m, strict=True
    )
    return {
        "positions": [
            dict(zip(("name", "e", "n", "h", "sh", "sv"), (r[0], *map(number, r[1:])), strict=True))
            for r in rows
        ],
        "moved": [name for name, put in zip(after.names, done.stayed, strict=True) if not put],
        "stayed": [name for name, put in zip(after.names, done.stayed, strict=True) if put],
    }


def _move_drawing(
    path: str, out: str, move: Move, stay: tuple[str, ...], result: FitResult
) -> dict[str, Any]:
    from fenwind.exchange.dxf_move import move_drawing

    done = move_drawing(path, out, move, stay)
    return {
        "moved": done.moved,
        "stayed": [handle for handle, _, _ in done.stayed],
        "kinds": dict(done.kinds),
        "stayed_because": [{"handle": h, "what": what, "why": why} for h, what, why in done.stayed],
        "remarks": done.remarks,
    }


def _print(
    options: argparse.Namespace,
    result: FitResult,
    move: Move,
    apart: Distances,
    outcome: dict[str, Any],
    doubts: list[str],
) -> None:
    from fenwind.quantities.angles import format_dms

    shift_e, shift_n = result.plan.shift
    print(f"{'Back ' if options.back else ''}{options.file} -> {options.out}")
    turn = format_dms(result.plan.rotation_rad, 3)
    print(
        f"model {result.model}: shift E {shift_e:.4f}, N {shift_n:.4f}, turn {turn}, scale "
        f"{result.plan.scale:.9f}"
    )
    print(f"heights: {'shifted by ' + repr(result.height.shift_m) if move.heights else 'untouched'}")
    print("\ndistances between the marks of the pairs      from            to    difference")
    for a, b, s, t in zip(apart.first, apart.second, apart.source, apart.target, strict=True):
        print(f"{a + ' - ' + b:40}  {s:12.4f}  {t:12.4f}  {t - s:+12.4f}")
    print("\npair                  dE        dN        dH")
    table = result.pairs
    for i, name in enumerate(table.names):
        height = "         -" if table.dh_m[i] != table.dh_m[i] else f"{table.dh_m[i]:+10.4f}"
        print(f"{name:16}{table.de_m[i]:+10.4f}{table.dn_m[i]:+10.4f}{height}")
    print(
        f"\nmoved {len(outcome['moved'])}, stayed {len(outcome['stayed'])}: "
        f"{', '.join(outcome['stayed'][:12])}"
    )
    if result.model == "scale" and not options.reason:
        print("The scale is not 1 and no reason is given: say why with --reason.")
    for text in [*outcome.get("remarks", []), *doubts]:
        print(text)
