"""fenwind move: a point list or a drawing from one system to another through pairs."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any, NamedTuple

from fenwind.errors import FormatError, ProcedureError

if TYPE_CHECKING:
    from fenwind.procedures.fit import FitOptions, FitResult
    from fenwind.procedures.move import Distances, Move
    from fenwind.procedures.positions import Positions
    from fenwind.quantities.lengths import LengthUnit

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
    parser.add_argument(
        "--unit",
        metavar="UNIT",
        help="unit of FILE where it states none: m, ft, ftUS; pairs that state none are in the file's",
    )
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Compute, write and print; 1 when a doubt is grave."""
    from fenwind.commands.fit import LENGTHS, as_json
    from fenwind.commands.reading import dump, split_names
    from fenwind.commands.units_told import units_of
    from fenwind.doubts.rules import doubts_about_fit
    from fenwind.exchange.files import check_target
    from fenwind.exchange.pairs_list import read_pairs
    from fenwind.procedures.fit_case import FitCase
    from fenwind.procedures.move import distances, move_fit, move_of
    from fenwind.procedures.positions import scaled

    check_target(options.out, (options.file, options.pairs))
    source, target, pairs_unit = read_pairs(options.pairs)
    drawing = options.file.lower().endswith(".dxf")
    units = _units(options, None if pairs_unit is None else pairs_unit[0], drawing)
    if pairs_unit is None and units.file is not None:  # pairs that state no unit are in the file's
        source, target = (scaled(p, units.file.metres) for p in (source, target))
    result = move_fit(source, target, _options(options, source))
    move = move_of(result, target, backwards=options.back)
    stay = split_names(options.stay)
    apart = distances(source, target)
    outcome = (_move_drawing if drawing else _move_list)(options, units, move, stay, result)
    outcome["units"] = {
        "file": units.file.key if units.file is not None else None,
        "pairs": pairs_unit[0].key if pairs_unit is not None else None,
        "to": pairs_unit[1].key if pairs_unit is not None else None,
    }
    doubts = doubts_about_fit(
        FitCase(
            subject="move", measured=source, known=target, result=result, scale_reason=options.reason or ""
        )
    )
    metres = units.shown.metres
    if options.json:
        told = units_of(options)
        payload = told.told(as_json(result, doubts, metres, told.length.metres) | outcome, lengths=LENGTHS)
        payload["distances"] = [
            {"a": a, "b": b, "from": s / metres, "to": t / metres}
            for a, b, s, t in zip(
                apart.first, apart.second, apart.source.tolist(), apart.target.tolist(), strict=True
            )
        ]
        payload["scale_reason"] = options.reason
        print(dump(payload))
    else:
        _print(options, units, result, move, apart, outcome, [d.text for d in doubts])
    return 1 if any(d.grave for d in doubts) else 0


class _Units(NamedTuple):
    """The unit of the file, None where nothing states one; and that in which coordinates are told."""

    file: LengthUnit | None
    shown: LengthUnit


def _units(options: argparse.Namespace, pairs: LengthUnit | None, drawing: bool) -> _Units:
    """Units of FILE and PAIRS are read alike: what the file states, else --unit, else what the other
    states."""
    from fenwind.exchange.dxf import open_drawing, unit_of
    from fenwind.exchange.formats import read_table
    from fenwind.exchange.point_list import match_header, unit_stated
    from fenwind.quantities.lengths import METRE, UNITS, unit_named

    asked = unit_named(options.unit) if options.unit else None
    if drawing:
        stated = UNITS.get(unit_of(open_drawing(options.file)))
    else:
        raw = read_table(options.file)
        stated = unit_stated(raw, match_header(raw))
    if asked is not None and stated is not None and asked is not stated:
        raise FormatError(
            f"--unit {asked.key} was given, and the file states {stated.plural}",
            where=options.file,
            hint="Leave --unit out, or correct the file",
        )
    own = stated or asked or pairs
    return _Units(own, own or METRE)


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


def _move_list(
    options: argparse.Namespace, units: _Units, move: Move, stay: tuple[str, ...], result: FitResult
) -> dict[str, Any]:
    from fenwind.commands.reading import number, read_list
    from fenwind.exchange.files import write_text
    from fenwind.exchange.list_move import move_list, moved_text
    from fenwind.exchange.list_units import ListUnits
    from fenwind.exchange.point_list import columns_said
    from fenwind.quantities.lengths import METRE

    given = ListUnits(coordinate=units.shown, length=units.shown if options.unit else METRE)
    raw, found = read_list(options.file, units=given)
    done = move_list(found, move, stay, result)
    after, metres = done.points, units.shown.metres
    write_text(options.out, moved_text(raw, found, done, units.file))
    place = (values / metres for values in (after.e_m, after.n_m, after.height_m))
    rows = zip(after.names, *place, after.sigma_h_m, after.sigma_v_m, strict=True)
    return {
        "columns": columns_said(raw, found.columns),
        "positions": [
            dict(zip(("name", "e", "n", "h", "sh", "sv"), (r[0], *map(number, r[1:])), strict=True))
            for r in rows
        ],
        "moved": [name for name, put in zip(after.names, done.stayed, strict=True) if not put],
        "stayed": [name for name, put in zip(after.names, done.stayed, strict=True) if put],
    }


def _move_drawing(
    options: argparse.Namespace, units: _Units, move: Move, stay: tuple[str, ...], result: FitResult
) -> dict[str, Any]:
    from fenwind.exchange.dxf_move import move_drawing

    done = move_drawing(options.file, options.out, move, stay, unit=units.file)
    return {
        "moved": done.moved,
        "stayed": [handle for handle, _, _ in done.stayed],
        "kinds": dict(done.kinds),
        "stayed_because": [{"handle": h, "what": what, "why": why} for h, what, why in done.stayed],
        "remarks": done.remarks,
    }


def _print(
    options: argparse.Namespace,
    units: _Units,
    result: FitResult,
    move: Move,
    apart: Distances,
    outcome: dict[str, Any],
    doubts: list[str],
) -> None:
    from fenwind.quantities.angles import format_dms

    metres = units.shown.metres
    shift_e, shift_n = (v / metres for v in result.plan.shift)
    print(f"{'Back ' if options.back else ''}{options.file} -> {options.out}")
    turn = format_dms(result.plan.rotation_rad, 3)
    print(
        f"model {result.model}: shift E {shift_e:z.4f}, N {shift_n:z.4f}, turn {turn}, scale "
        f"{result.plan.scale:z.9f}"
    )
    file = units.file.plural if units.file is not None else "no unit stated, as the pairs"
    print(f"units of the file: {file}; all coordinates and distances below are in them, residuals in metres")
    if "columns" in outcome:
        print("columns: " + ", ".join(f"{m} from {head!r}" for m, head in outcome["columns"].items()))
    print(f"heights: {'shifted by ' + repr(result.height.shift_m / metres) if move.heights else 'untouched'}")
    print("\ndistances between the marks of the pairs      from            to    difference")
    for a, b, s, t in zip(apart.first, apart.second, apart.source, apart.target, strict=True):
        print(f"{a + ' - ' + b:40}  {s / metres:z12.4f}  {t / metres:z12.4f}  {(t - s) / metres:+z12.4f}")
    print("\npair                  dE        dN        dH")
    table = result.pairs
    for i, name in enumerate(table.names):
        height = "         -" if table.dh_m[i] != table.dh_m[i] else f"{table.dh_m[i]:+z10.4f}"
        print(f"{name:16}{table.de_m[i]:+z10.4f}{table.dn_m[i]:+z10.4f}{height}")
    print(
        f"\nmoved {len(outcome['moved'])}, stayed {len(outcome['stayed'])}: "
        f"{', '.join(outcome['stayed'][:12])}"
    )
    if result.model == "scale" and not options.reason:
        print("The scale is not 1 and no reason is given: say why with --reason.")
    for text in [*outcome.get("remarks", []), *doubts]:
        print(text)
