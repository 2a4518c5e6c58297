"""fenwind base: start a base, tie it to a mark, or say where it is."""

from __future__ import annotations

import argparse
import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from fenwind.errors import ParseError, ProcedureError
from fenwind.quantities.numbers import counted

if TYPE_CHECKING:
    from fenwind.commands.session_json import Opened
    from fenwind.devices.transport import Address
    from fenwind.records.sessions import BaseSetup

_DESCRIPTION = """Start a base on a known mark (--on) or on the mean of its own epochs (--average); tie it to
a mark that was measured from it (--tie), or say where it is (--place). The last word on a base holds. Places
are HOST:PORT, the path of a serial device or of a log, or ntrip://USER@HOST:PORT/NAME (its password is asked
for or taken from FENWIND_CASTER_PASSWORD)."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    from fenwind.commands.session_json import add_antenna_options

    parser = verbs.add_parser("base", help="start, tie or place a base", description=_DESCRIPTION)
    parser.add_argument("job", metavar="JOB")
    what = parser.add_mutually_exclusive_group(required=True)
    what.add_argument("--start", metavar="BASE", help="name of the new base")
    what.add_argument("--tie", metavar="BASE=MARK", help="the base lies so that MARK agrees")
    what.add_argument("--place", metavar="BASE=WORD", help="known:MARK, average, or LAT,LON,H[,SH,SV]")
    parser.add_argument("--on", metavar="MARK", help="the known mark it stands on")
    parser.add_argument("--average", metavar="N", type=int, help="epochs of its own solution")
    parser.add_argument("--nmea", metavar="PLACE", help="its sentences, for --average")
    parser.add_argument("--control", metavar="PLACE", help="its control port: sets what it broadcasts")
    parser.add_argument("--rtcm", metavar="PLACE", help="its corrections: what it broadcasts is read back")
    parser.add_argument("--wait", metavar="S", type=float, default=30.0, help="seconds to wait at most")
    add_antenna_options(parser, pole=False)
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Do what is asked and tell what came of it."""
    from fenwind.commands.answers import positive

    positive(options.wait, "--wait")
    if options.start is None:
        return _change(options)
    if (options.on is None) == (options.average is None):
        raise ParseError("a base starts on a mark or on an average", hint="Give --on MARK or --average N")
    if options.average is not None and (options.nmea is None or options.average < 1):
        raise ParseError("--average needs --nmea PLACE and 1 epoch or more", hint="Add what is missing")
    if options.height is None:
        raise ParseError("the base has no antenna height", hint="Give --height M and --method")
    return _start(options)


@dataclass(frozen=True, kw_only=True)
class _Places:
    nmea: Address | None
    control: Address | None
    rtcm: Address | None


def _places(options: argparse.Namespace) -> _Places:
    from fenwind.devices.transport import address

    found = {k: getattr(options, k) for k in ("nmea", "control", "rtcm")}
    return _Places(**{k: None if v is None else address(v) for k, v in found.items()})


def _start(options: argparse.Namespace) -> int:
    from fenwind.commands.session_json import opened_job
    from fenwind.devices.starting import averaged, with_broadcast
    from fenwind.job.session_gestures import start_base

    places = _places(options)
    with opened_job(options.job) as found:
        record = _new_base(options, found)
    # The devices are asked while nobody holds the job.
    if options.average is not None:
        assert places.nmea is not None
        record = averaged(record, places.nmea, options.average, options.wait)
    record = with_broadcast(record, places.control, places.rtcm, options.wait)
    with opened_job(options.job) as found:
        found.job.record(*start_base(found.job.state, record))
        found.again()
        return _answer(options, found, record.name, {}, places.rtcm is not None)


def _new_base(options: argparse.Namespace, found: Opened) -> BaseSetup:
    """The record so far; for --on with where its ARP is, which is what it should broadcast."""
    from fenwind.commands.session_json import antenna_of, mark_named
    from fenwind.job.session_gestures import check_base_name
    from fenwind.records.sessions import BaseSetup

    check_base_name(found.job.state, options.start)
    height, method, model = antenna_of(options, found.job)
    record = BaseSetup(id="", name=options.start, antenna=model, height_m=height, method=method)
    if options.on is None:
        return record
    from fenwind.job.session_gestures import standing_on

    return standing_on(record, mark_named(found.job, options.on), found.job.state, found.outcome)


def _change(options: argparse.Namespace) -> int:
    """--tie and --place."""
    from fenwind.commands.session_json import base_named, mark_named, opened_job
    from fenwind.errors import FenwindError
    from fenwind.job.session_view import places
    from fenwind.job.steps.base import base_node
    from fenwind.records.entries import amend

    text = options.tie if options.tie is not None else options.place
    name, equals, word = text.partition("=")
    if not equals or not name or not word:
        raise ParseError(f"{text!r}: expected BASE=...", hint="Write the base's name, =, and where it is")
    with opened_job(options.job) as found:
        base, before = base_named(found.job, name), places(found.derived)
        if options.tie is not None:
            changes: dict[str, Any] = {"word": "tie", "mark": mark_named(found.job, word).id}
        elif word.startswith("known:"):
            changes = {"word": "known", "mark": mark_named(found.job, word[6:]).id}
        elif word == "average":
            changes = {"word": "average"}
        else:
            changes = _typed_place(word)
        # Tried before it is kept: what stands on nothing is refused.
        trial = found.job.state.snapshot()
        trial.apply(amend(base, **changes))
        error = found.outcome(trial, base_node(base.id)).error
        if isinstance(error, FenwindError):
            raise error
        found.job.record(f"Place base {base.name}", [amend(base, **changes)])
        found.again()
        return _answer(options, found, base.name, before, False)


def _typed_place(word: str) -> dict[str, Any]:
    from fenwind.commands.reading import place_of

    parts = word.split(",")
    if len(parts) not in (3, 5):
        raise ParseError(
            f"--place {word!r}: expected known:MARK, average, or LAT,LON,H[,SH,SV]", hint="Correct it"
        )
    lat, lon, h = place_of(",".join(parts[:3]), "--place")
    try:
        sigmas: list[float | None] = [float(p) for p in parts[3:]] or [None, None]
    except ValueError:
        raise ParseError(f"--place {word!r}: SH,SV are no numbers", hint="Give metres") from None
    if any(s is not None and not 0.0 <= s < math.inf for s in sigmas):
        raise ParseError(f"--place {word!r}: sigmas are 0 or more", hint="Give metres")
    return {
        "word": "place", "place_lat_rad": lat, "place_lon_rad": lon, "place_h_m": h,
        "place_sigma_h_m": sigmas[0], "place_sigma_v_m": sigmas[1],
    }  # fmt: skip


def _answer(options: argparse.Namespace, found: Opened, name: str, before: dict[str, Any], read: bool) -> int:
    import numpy as np

    from fenwind.commands.answers import answer, doubts_json
    from fenwind.commands.session_json import base_named, moved_json, place_json
    from fenwind.job.session_view import moved, places, rover_of
    from fenwind.procedures.rover import Point

    base = base_named(found.job, name)
    placed = rover_of(found.derived).bases.get(base.id)
    if placed is None:
        raise ProcedureError(f"base {name} is nowhere", hint="Place it, or tie it to a mark")
    sent = np.array([base.broadcast_x_m, base.broadcast_y_m, base.broadcast_z_m], dtype=float)
    doubts = [d for d in found.doubts() if d.subject == base.id or base.name in d.names]
    change = moved(before, places(found.derived)) if before else moved({}, {})
    payload = {
        "base": base.name, **place_json(placed.ground), "basis": base.word,
        "covariance": placed.ground.covariance().tolist(),
        "broadcast": place_json(Point(xyz=sent)) if read else None,
        "moved": moved_json(change), "doubts": doubts_json(doubts),
    }  # fmt: skip
    words = [
        f"base {base.name} ({base.word}): {payload['lat']:z.9f}, {payload['lon']:z.9f}, "
        f"{payload['h']:z.4f} m",
        f"moved: {counted(change.marks, 'mark')}, at most E {change.de_m:+z.3f}, N {change.dn_m:+z.3f}, "
        f"height {change.dh_m:+z.3f} m",
    ]
    return answer(payload, words, options.json)
