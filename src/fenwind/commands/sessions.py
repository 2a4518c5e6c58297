"""fenwind sessions: bases and occupations of a job, and amendments to them."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from fenwind.commands.units_told import add_units, units_of
from fenwind.errors import ParseError, ProcedureError

if TYPE_CHECKING:
    from fenwind.commands.session_json import Opened
    from fenwind.job.job import Job
    from fenwind.records.entries import Amend, Entry
    from fenwind.records.sessions import BaseSetup, Occupation

#: Keys of the answer that are lengths.
_LENGTHS = ("h", "value", "reduced", "dx", "dy", "dz", "de", "dn", "dh", "spread")

_DESCRIPTION = """List bases, occupations and what they came to; drop an occupation or use it again, finish
one that was interrupted, or put an antenna height right (of an occupation by its id, of a base by its name).
May be asked while a measurement runs."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("sessions", help="bases and occupations of a job", description=_DESCRIPTION)
    parser.add_argument("job", metavar="JOB")
    what = parser.add_mutually_exclusive_group()
    what.add_argument("--drop", metavar="ID", help="leave an occupation out")
    what.add_argument("--use", metavar="ID", help="use it again")
    what.add_argument("--finish", metavar="ID", help="use an unfinished one with the epochs it has")
    what.add_argument(
        "--amend", nargs=2, metavar=("ID", "CHANGE"),
        help="put its antenna height right: height=V[,method=M][,antenna=MODEL]",
    )  # fmt: skip
    what.add_argument("--take", metavar="LIST.csv", help="take in occupations of a list of a rover")
    add_units(parser)
    parser.add_argument("--out", metavar="LIST.csv", help="write the job's occupations as such a list")
    parser.add_argument("--why", metavar="TEXT", default="", help="the reason, kept with the amendment")
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Amend what is asked, and list."""
    from fenwind.commands.answers import answer, doubts_json
    from fenwind.commands.session_json import moved_json, opened_job
    from fenwind.job.session_view import moved, places

    if (options.drop or options.amend) and not options.why.strip():
        raise ParseError("an amendment needs its reason", hint="Add --why TEXT")
    units = units_of(options)
    with opened_job(options.job) as found:
        title, entries = _deed(options, found)
        payload: dict[str, Any] = {}
        if entries:
            before = places(found.derived)
            found.job.record(title, entries)
            payload["moved"] = moved_json(moved(before, places(found.again())))
        if options.out:
            from fenwind.exchange.files import write_text
            from fenwind.exchange.rover_list import rover_list_csv
            from fenwind.job.rover_lists import listed

            write_text(options.out, rover_list_csv(listed(found.job.state, found.derived), units.length))
        payload = units.told(as_json(found) | payload, lengths=_LENGTHS)
        payload["doubts"] = doubts_json(found.doubts(), units.length.metres)
    return answer(payload, _words(payload), options.json)


def _deed(options: argparse.Namespace, found: Opened) -> tuple[str, Sequence[Entry]]:
    """What is to be recorded, and under which title."""
    if options.take:
        from fenwind.exchange.rover_list import read_rover_list
        from fenwind.job.rover_lists import occupations_from

        rows = read_rover_list(options.take, units_of(options).of_lists)
        taken = occupations_from(found.job.state, found.outcome, rows, Path(options.take).name)
        return taken.gesture.what, taken.gesture.entries
    words = {"drop": "Drop", "use": "Use", "finish": "Finish", "amend": "Put right"}
    entry = _amendment(options, found.job)
    word = next((word for key, word in words.items() if getattr(options, key)), "")
    return f"{word} an occupation", () if entry is None else (entry,)


def _amendment(options: argparse.Namespace, job: Job) -> Amend | None:
    from fenwind.job.measuring import finished, kept_rows, settled
    from fenwind.records.entries import amend

    if options.drop or options.use:
        one = _occupation(job, options.drop or options.use)
        if one.active == bool(options.use):
            raise ProcedureError(
                f"occupation {one.id} is {'used' if one.active else 'left out'} already",
                hint="Choose another",
            )
        return amend(one, reason=options.why, active=bool(options.use))
    if options.finish:
        one = _occupation(job, options.finish)
        if one.finished:
            raise ProcedureError(f"occupation {one.id} is finished already", hint="Choose another")
        rows = kept_rows(job.file, one.id)
        return settled(job.state, finished(_ended(one, rows[-1].time_s if rows else 0.0), rows, None))
    return _height(options, job) if options.amend else None


def _ended(one: Occupation, seconds: float) -> Occupation:
    from dataclasses import replace
    from datetime import UTC, datetime

    return replace(one, ended=datetime.fromtimestamp(seconds, UTC).isoformat())


def _occupation(job: Job, key: str) -> Occupation:
    from fenwind.records.sessions import Occupation

    found = job.state.of(Occupation).get(key)
    if found is None:
        raise ProcedureError(f"the job has no occupation {key!r}", hint="See fenwind sessions JOB")
    return found


def _height(options: argparse.Namespace, job: Job) -> Amend:
    """The amendment of an antenna height."""
    from fenwind.commands.session_json import check_height
    from fenwind.records.entries import amend
    from fenwind.records.sessions import BaseSetup

    bases = job.state.of(BaseSetup).values()
    one: BaseSetup | Occupation = next(
        (b for b in bases if b.active and options.amend[0] in (b.id, b.name)), None
    ) or _occupation(job, options.amend[0])
    changes: dict[str, Any] = {}
    for part in options.amend[1].split(","):
        key, _, value = (p.strip() for p in part.partition("="))
        if key == "height":
            try:
                changes["height_m"] = float(value) * units_of(options).length.metres
            except ValueError:
                raise ParseError(f"height={value!r} is no number", hint="Give a number") from None
        elif key in ("method", "antenna") and value:
            changes[key] = value
        else:
            raise ParseError(f"{part!r}: expected height=V, method=M or antenna=MODEL", hint="Correct it")
    if not changes:
        raise ParseError("nothing is put right", hint="Write height=V")
    check_height(
        job, changes.get("height_m", one.height_m), changes.get("method", one.method),
        changes.get("antenna", one.antenna),
    )  # fmt: skip
    return amend(one, reason=options.why, **changes)


def as_json(found: Opened) -> dict[str, Any]:
    """Bases, occupations and marks."""
    from fenwind.job.session_view import rover_of
    from fenwind.records.sessions import BaseSetup, Occupation

    state, rover = found.job.state, rover_of(found.derived)
    every = sorted(state.of(Occupation).values(), key=lambda o: o.started)
    bases = sorted((b for b in state.of(BaseSetup).values() if b.active), key=lambda b: b.started)
    return {
        "bases": [_base_json(found, b, [o.id for o in every if o.base == b.id]) for b in bases],
        "occupations": [_occupation_json(found, o) for o in every if o.mark in state.marks],
        "marks": [
            _mark_json(found, key, every)
            for key in dict.fromkeys(o.mark for o in every if o.mark in state.marks)
            if key in rover.marks or any(o.mark == key for o in every)
        ],
    }


def _base_json(found: Opened, base: BaseSetup, ids: list[str]) -> dict[str, Any]:
    from fenwind.commands.session_json import place_json
    from fenwind.errors import FenwindError
    from fenwind.geodesy.antenna import reduced
    from fenwind.job.session_view import rover_of
    from fenwind.job.steps.base import antenna_model

    placed = rover_of(found.derived).bases.get(base.id)
    try:
        height = reduced(base.height_m, base.method, antenna_model(found.job.state, base.antenna))
    except FenwindError:
        height = None
    return {
        "name": base.name, "day": base.started[:10], "basis": base.word,
        **(place_json(placed.ground) if placed else {"lat": None, "lon": None, "h": None}),
        "antenna_height": {"value": base.height_m, "method": base.method, "reduced": height},
        "occupations": ids,
    }  # fmt: skip


def _occupation_json(found: Opened, one: Occupation) -> dict[str, Any]:
    from fenwind.job.measuring import kept_rows
    from fenwind.job.session_view import enu_between, places, rover_of
    from fenwind.records.sessions import BaseSetup

    state, rover = found.job.state, rover_of(found.derived)
    point, reference = rover.each.get(one.id), places(found.derived).get(one.mark)
    ways = (
        [float(v) for v in enu_between(point, reference)] if point is not None and reference is not None
        else [None] * 3
    )  # fmt: skip
    epochs, ended = one.epochs, one.ended
    if not one.finished:
        rows = kept_rows(found.job.file, one.id)
        epochs = len(rows)
        ended = _ended(one, rows[-1].time_s).ended if rows else one.ended
    base = state.of(BaseSetup).get(one.base)
    return {
        "id": one.id, "mark": state.marks[one.mark].name, "base": base.name if base else None,
        "start": one.started, "end": ended, "epochs": epochs, "finished": one.finished,
        "check": one.check, "used": one.id in rover.used.get(one.mark, ()),
        "vector": {"dx": one.dx_m, "dy": one.dy_m, "dz": one.dz_m} if one.dx_m is not None else None,
        "de": ways[0], "dn": ways[1], "dh": ways[2],
    }  # fmt: skip


def _mark_json(found: Opened, key: str, every: list[Occupation]) -> dict[str, Any]:
    from fenwind.job.session_view import rover_of, summary

    one = summary(every, rover_of(found.derived), key)
    spread = None if one.spread_m is None else dict(zip("enu", one.spread_m, strict=True))
    return {
        "name": found.job.state.marks[key].name, "n": one.count, "spread": spread,
        "separation_h": one.separation_h,
    }  # fmt: skip


def _words(payload: dict[str, Any]) -> list[str]:
    lines = [
        f"base {b['name']} ({b['basis']}) {b['day']}: {len(b['occupations'])} occupations"
        for b in payload["bases"]
    ]
    for one in payload["occupations"]:
        state = "used" if one["used"] else "check" if one["check"] else "not used"
        state = state if one["finished"] else "unfinished"
        lines.append(f"{one['id']}  {one['mark']} from {one['base']}: {one['epochs']} epochs, {state}")
    for mark in payload["marks"]:
        if mark["spread"]:
            worst = max(abs(v) for v in mark["spread"].values())
            lines.append(f"{mark['name']}: {mark['n']} occupations within {worst:z.4f} m")
    if "moved" in payload:
        way = payload["moved"]
        lines.append(
            f"moved: {way['marks']} marks, at most E {way['de']:+z.3f}, N {way['dn']:+z.3f}, "
            f"height {way['dh']:+z.3f} m"
        )
    return lines
