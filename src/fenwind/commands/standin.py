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

    _add_service(kinds)


def _add_service(kinds: Any) -> None:
    service = kinds.add_parser(
        "service", help="a service that places static receivers",
        description="Listens on 127.0.0.1 only and prints one line of JSON with its url. Runs until SIGTERM.",
    )  # fmt: skip
    service.add_argument("--stations", metavar="DIR", required=True, help="files of marks that are known")
    service.add_argument("--nav", metavar="FILE", action="append", required=True, help="navigation")
    service.add_argument("--data", metavar="DIR", required=True, help="where its jobs live")
    service.add_argument("--port", metavar="N", type=int, default=0, help="a free one")
    service.add_argument("--delay", metavar="S", type=float, default=0.0, help="before each answer (0)")
    service.add_argument("--min-minutes", metavar="M", type=float, default=10.0)
    service.add_argument("--intervals", metavar="LIST", default="1,2,5,10,15,30")
    service.add_argument("--max-mb", metavar="N", type=float, default=100.0)
    service.add_argument("--wrong", metavar="DE,DN,DU", default="0,0,0", help="added to every answer, metres")
    service.add_argument("--busy", metavar="N", type=int, default=0, help="uploads that are put off")


def _numbers(text: str, option: str, count: int | None = None) -> tuple[float, ...]:
    import math

    try:
        values = tuple(float(part) for part in text.split(","))
    except ValueError:
        values = ()
    if not values or not all(map(math.isfinite, values)) or (count is not None and len(values) != count):
        raise ParseError(f"{option} {text!r}: expected numbers", hint="Correct it")
    return values


def _serve_placing(options: argparse.Namespace) -> int:
    """Run the stand-in for a placing service until it is ended."""
    import json
    import threading
    from pathlib import Path

    from fenwind.errors import FenwindError, FormatError
    from fenwind.gnss.files import read_kind
    from fenwind.gnss.sources import Sources
    from fenwind.standins.processing import Limits, Service, serve

    wrong = _numbers(options.wrong, "--wrong", 3)
    limits = Limits(
        min_minutes=options.min_minutes, intervals=_numbers(options.intervals, "--intervals"),
        max_mb=options.max_mb, delay=options.delay, wrong=(wrong[0], wrong[1], wrong[2]), busy=options.busy,
    )  # fmt: skip
    folder = Path(options.stations)
    if not folder.is_dir():
        raise FormatError("there is no such folder", where=options.stations, hint="Give --stations DIR")
    stations = []
    for path in sorted(folder.iterdir()):
        try:
            found = read_kind(str(path), "observation")
        except FenwindError:
            continue  # other files may stand beside
        if found.header.position is not None:
            stations.append(found)
    if not stations:
        raise FormatError(
            "there is no file of observations with a position in it", where=options.stations,
            hint="Give RINEX files of marks that are known",
        )  # fmt: skip
    navigation = tuple(read_kind(path, "navigation") for path in options.nav)
    sources = Sources(navigation=navigation, unfit=(), orbits=None, antennas=None)
    data = Path(options.data)
    data.mkdir(parents=True, exist_ok=True)
    try:
        server = serve(Service(stations, sources, data, limits), options.port)
    except OSError as error:
        raise ParseError(
            f"port {options.port} is in use: {error.strerror}", hint="Choose another, or none"
        ) from error
    port = server.server_address[1]
    signal.signal(signal.SIGTERM, lambda *_: threading.Thread(target=server.shutdown, daemon=True).start())
    print(json.dumps({"url": f"http://127.0.0.1:{port}", "port": port}), flush=True)
    server.serve_forever(poll_interval=0.1)
    server.server_close()
    return 0


def run(options: argparse.Namespace) -> int:
    """Serve until the end."""
    import asyncio

    if options.kind == "service":
        return _serve_placing(options)

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
