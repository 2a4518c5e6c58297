"""fenwind service: a file to a service that places static receivers, and its answer."""

from __future__ import annotations

import argparse
import math
import sys
from typing import TYPE_CHECKING, Any

from fenwind.errors import ParseError, ProcedureError

if TYPE_CHECKING:
    from fenwind.doubts.registry import Doubt
    from fenwind.gnss.observations import Observations

_DESCRIPTION = """Have a service place a static receiver. Without --send nothing leaves, and what would go
where is said. With it FILE goes up, and the answer is waited for. --id takes up a job sent before."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("service", help="have a service place a receiver", description=_DESCRIPTION)
    parser.add_argument("file", metavar="FILE")
    parser.add_argument("--url", metavar="URL", required=True, help="of the service, http or https")
    parser.add_argument("--antenna", metavar="TYPE", help="stands over the header's")
    parser.add_argument("--height", metavar="M", type=float, help="mark to antenna reference point")
    parser.add_argument("--mark", metavar="NAME", help="stands over the header's")
    what = parser.add_mutually_exclusive_group()
    what.add_argument("--send", action="store_true", help="send the file")
    what.add_argument("--id", metavar="ID", help="of a job that was sent before")
    parser.add_argument("--wait", metavar="S", type=float, default=600.0, help="at most so long (600)")
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Say what would go, or send it and wait."""
    from fenwind.commands.answers import answer, doubts_json
    from fenwind.devices.placing import PlacingService, Waited
    from fenwind.doubts.gnss_file_rules import file_doubts
    from fenwind.gnss.files import read_kind

    if not 0.0 < options.wait < math.inf:
        raise ParseError(f"--wait {options.wait:g}: expected seconds above 0", hint="Correct it")
    if options.height is not None and not -100.0 < options.height < 100.0:
        raise ParseError(f"--height {options.height:g}: expected metres", hint="Correct it")
    obs: Observations = read_kind(options.file, "observation")
    body = _body(options.file)
    service = PlacingService(options.url, options.wait)
    doubts = list(file_doubts(obs))
    if not options.send and options.id is None:
        payload = _would_go(options, obs, len(body)) | {"doubts": doubts_json(doubts)}
        return answer(payload, _plan_words(payload), options.json)
    try:
        job = options.id if options.id is not None else service.send(body, _asked(options))
        found = _checked(service.answer(job))
    except Waited as waited:
        payload = _sent(waited.job, waited.state, None) | {"doubts": doubts_json(doubts)}
        answer(payload, _words(payload), options.json)
        again = f"go on with --id {waited.job}" if waited.job else "nothing was taken; send it again"
        print(f"fenwind: the service did not answer within {options.wait:g} s; {again}", file=sys.stderr)
        return 1
    doubts += _far(obs, found)
    payload = _sent(job, service.state, found) | {"doubts": doubts_json(doubts)}
    return answer(payload, _words(payload), options.json)


def _body(path: str) -> bytes:
    """The file as it goes: RINEX, compressed."""
    import gzip

    from fenwind.exchange.files import read_bytes
    from fenwind.gnss.files import unpacked

    data = read_bytes(path)
    return data if data[:2] == b"\x1f\x8b" and b"COMPACT" not in unpacked_head(data) else gzip.compress(
        unpacked(data, path), mtime=0
    )  # fmt: skip


def unpacked_head(data: bytes) -> bytes:
    """The first bytes of a gzip file."""
    import zlib

    return zlib.decompressobj(31).decompress(data, 200)


def _asked(options: argparse.Namespace) -> dict[str, str]:
    told = {"antenna": options.antenna, "mark": options.mark}
    told["height"] = None if options.height is None else repr(options.height)
    return {k: v for k, v in told.items() if v is not None}


def _would_go(options: argparse.Namespace, obs: Observations, size: int) -> dict[str, Any]:
    from fenwind.gnss.gps_time import iso

    head = obs.header
    return {
        "sent": False, "url": options.url, "bytes": size, "mark": options.mark or head.mark,
        "antenna": options.antenna or head.antenna,
        "height": head.delta[0] if options.height is None else options.height,
        "first": iso(int(obs.ticks.min())), "last": iso(int(obs.ticks.max())),
    }  # fmt: skip


def _sent(job: str | None, state: str | None, found: dict[str, Any] | None) -> dict[str, Any]:
    return {"sent": True, "id": job, "state": state, "answer": found}


def _checked(found: dict[str, Any]) -> dict[str, Any]:
    """An answer that has a position and its covariance. Raises ProcedureError."""
    numbers = [found.get(k) for k in ("lat", "lon", "h")]
    covariance = found.get("covariance")
    rows = covariance if isinstance(covariance, list) and len(covariance) == 3 else []
    cells = [v for row in rows if isinstance(row, list) and len(row) == 3 for v in row]
    fine = all(isinstance(v, int | float) and math.isfinite(v) for v in (*numbers, *cells))
    if not fine or len(cells) != 9 or abs(float(numbers[0] or 0.0)) > 90.0:
        raise ProcedureError(
            "the answer is no position with its covariance", hint="It is not what such a service sends"
        )
    return found


def _far(obs: Observations, found: dict[str, Any]) -> list[Doubt]:
    """A doubt where the answer lies far from the header's position."""
    import numpy as np

    from fenwind.doubts.gnss_file_rules import APART_M
    from fenwind.doubts.registry import Doubt
    from fenwind.geodesy.geocentric import GRS80_A, GRS80_F, to_xyz

    if obs.header.position is None:
        return []
    at = to_xyz(math.radians(found["lat"]), math.radians(found["lon"]), float(found["h"]), GRS80_A, GRS80_F)
    apart = float(np.linalg.norm(np.asarray(at, dtype=float) - np.array(obs.header.position)))
    if apart <= APART_M:
        return []
    text = f"The answer lies {apart:,.0f} m from the position in the header of {obs.header.mark}."
    return [
        Doubt(rule="service.far", subject="service", names=(obs.header.mark,), value=apart, limit=APART_M,
              grave=True, text=text)
    ]  # fmt: skip


def _plan_words(payload: dict[str, Any]) -> list[str]:
    return [
        f"would go to {payload['url']}: {payload['bytes']} bytes, mark {payload['mark'] or '-'}, antenna "
        f"{payload['antenna'] or '-'}, height {payload['height']:g} m",
        f"{payload['first']} to {payload['last']} (GPS time)",
        "Nothing was sent; --send sends it.",
    ]


def _words(payload: dict[str, Any]) -> list[str]:
    lines = [f"job {payload['id'] or '-'}: {payload['state'] or 'not taken'}"]
    found = payload["answer"]
    if found:
        lines.append(f"{found['lat']:.9f} {found['lon']:.9f} {found['h']:.4f} m")
    return lines
