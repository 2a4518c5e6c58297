"""fenwind standin: simulated receivers to practise and to test with."""

from __future__ import annotations

import argparse
import ctypes
import os
import signal
from datetime import UTC, datetime
from typing import Any

from fenwind.errors import ParseError

#: Set by who starts a stand-in that must not outlive it, however it ends.
ENDS_WITH_PARENT = "FENWIND_ENDS_WITH_PARENT"
_PR_SET_PDEATHSIG = 1  # prctl(2)


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("standin", help="simulated devices on ports of this machine")
    kinds = parser.add_subparsers(dest="kind", required=True, metavar="KIND")
    gnss = kinds.add_parser(
        "gnss",
        help="a base, a rover and a correction caster",
        description="Listens on 127.0.0.1 only, on free ports, and prints one line of JSON that names them.",
    )
    gnss.add_argument("--world", metavar="FILE", required=True, help="true marks, base, rover, errors: JSON")
    gnss.add_argument("--seed", metavar="N", type=int, default=1)
    gnss.add_argument(
        "--speed", metavar="X", type=float, default=1.0, help="simulated seconds a second, 1 to 100"
    )
    gnss.add_argument(
        "--for", dest="seconds", metavar="SECONDS", type=float, help="simulated seconds to run for"
    )
    gnss.add_argument("--start", metavar="ISO-TIME", help="simulated time of the start, UTC; default: now")
    station = kinds.add_parser(
        "station", help="a robotic total station",
        description="Listens on 127.0.0.1 only, on a free port, and prints one line of JSON that names it.",
    )  # fmt: skip
    station.add_argument(
        "--world", metavar="FILE", required=True, help="true marks, instrument, prisms: JSON"
    )
    station.add_argument("--seed", metavar="N", type=int, default=1)
    station.add_argument("--for", dest="seconds", metavar="SECONDS", type=float, help="seconds to run for")


def run(options: argparse.Namespace) -> int:
    """Serve until the end."""
    import asyncio

    from fenwind.standins.serve import serve
    from fenwind.standins.world import read_world

    if os.environ.get(ENDS_WITH_PARENT):
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)
        os.nice(5)  # a receiver has a processor of its own; this one goes after the window
    if options.seed < 0:
        raise ParseError(f"--seed {options.seed}: expected 0 or more", hint="Give a whole number")
    if options.seconds is not None and not options.seconds >= 0.0:
        raise ParseError(f"--for {options.seconds:g}: expected 0 or more", hint="Give seconds")
    if options.kind == "station":
        from fenwind.standins.serve import serve_station
        from fenwind.standins.station import Station, read_station_world

        asyncio.run(serve_station(Station(read_station_world(options.world), options.seed), options.seconds))
        return 0
    if not 1.0 <= options.speed <= 100.0:
        raise ParseError(
            f"--speed {options.speed:g}: expected 1 to 100", hint="Give simulated seconds a second"
        )
    world = read_world(options.world)
    asyncio.run(serve(world, options.seed, start_time(options.start), options.speed, options.seconds))
    return 0


def start_time(text: str | None) -> datetime:
    """A time in UTC, on a whole second. Raises ParseError."""
    if text is None:
        return datetime.now(UTC).replace(microsecond=0)
    try:
        found = datetime.fromisoformat(text)
    except ValueError as error:
        raise ParseError(f"{text!r} is no time", hint="Write 2026-11-26T08:00:00Z") from error
    found = found.replace(tzinfo=UTC) if found.tzinfo is None else found.astimezone(UTC)
    return found.replace(microsecond=0)
