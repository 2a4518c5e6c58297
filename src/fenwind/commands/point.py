"""fenwind point: the position of a receiver by its own ranges."""

from __future__ import annotations

import argparse
import math
from typing import TYPE_CHECKING, Any

from fenwind.errors import ParseError

if TYPE_CHECKING:
    from fenwind.gnss.observations import Observations
    from fenwind.gnss.signals import Signal
    from fenwind.gnss.sources import Sources

_DESCRIPTION = """Place a mark by the ranges of a static receiver: the mean over all epochs. OBS, NAV: RINEX
files, plain, gzip or compact. The position is that of the mark: antenna height, east and north of the
header are taken off, --height stands over the header's."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("point", help="place a mark by a receiver's ranges", description=_DESCRIPTION)
    parser.add_argument("observations", metavar="OBS")
    parser.add_argument("navigation", metavar="NAV", nargs="+")
    add_gnss_options(parser)
    parser.add_argument("--height", metavar="M", type=float, help="mark to antenna reference point, vertical")
    parser.add_argument("--antenna", metavar="TYPE", help="the record's antenna type, which counts")
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def add_gnss_options(parser: argparse.ArgumentParser) -> None:
    """Options of everything that is computed from raw files."""
    parser.add_argument("--sp3", metavar="FILE", help="precise orbits and clocks")
    parser.add_argument("--antex", metavar="FILE", help="antenna corrections")
    parser.add_argument("--mask", metavar="DEG", type=float, default=10.0, help="elevation mask (10)")
    parser.add_argument("--systems", metavar="GREC", default="GREC", help="letters of the systems (GREC)")
    parser.add_argument("--signals", metavar="LIST", help="such as G:1C+2W,E:1C+5Q; one signal: G:1C")


def check_gnss_options(options: argparse.Namespace) -> None:
    """Raises ParseError for a mask or systems that are none."""
    if not 0.0 <= options.mask < 90.0:
        raise ParseError(f"--mask {options.mask:g}: expected degrees from 0 to 90", hint="Correct it")
    if not options.systems or not set(options.systems) <= set("GRECJ"):
        raise ParseError(
            f"--systems {options.systems!r}: expected letters of GRECJ", hint="Write --systems GE"
        )


def run(options: argparse.Namespace) -> int:
    """Read, place, tell."""
    from fenwind.commands.answers import answer, doubts_json
    from fenwind.doubts.gnss_file_rules import file_doubts, header_doubts, navigation_doubts
    from fenwind.gnss.files import read_kind
    from fenwind.gnss.signals import parse_signals
    from fenwind.gnss.sources import antenna_of, read_sources, with_channels

    check_gnss_options(options)
    if options.height is not None and not -100.0 < options.height < 100.0:
        raise ParseError(f"--height {options.height:g}: expected metres", hint="Correct it")
    wanted = {s: [a for a, _ in some] for s, some in parse_signals(options.signals, pairs=False).items()}
    obs: Observations = read_kind(options.observations, "observation")
    sources = read_sources(options.navigation, options.sp3, options.antex, [obs])
    obs = with_channels(obs, sources)
    signals = signals_used(obs, options.systems, wanted)
    antenna = antenna_of(sources.antennas, options.antenna or obs.header.antenna)
    found = placed(obs, sources, signals, options, antenna.found, options.height)
    doubts = [
        *header_doubts(
            obs, found.xyz, options.height, antenna, options.antenna, sources.antennas is not None
        ),
        *file_doubts(obs), *navigation_doubts(sources.unfit),
    ]  # fmt: skip
    payload = _json(obs, found) | {"skipped": obs.skipped + sources.skipped, "doubts": doubts_json(doubts)}
    return answer(payload, _words(payload), options.json)


def signals_used(obs: Observations, systems: str, wanted: dict[str, list[str]]) -> dict[str, list[Signal]]:
    """Signals of each system that the file has. Raises ParseError for one that it has not."""
    from fenwind.gnss.signals import chosen

    out: dict[str, list[Signal]] = {}
    for system in systems:
        if wanted and system not in wanted:
            continue
        found = chosen(obs, system, wanted.get(system, ()))
        lacking = set(wanted.get(system, ())) - {s.name for s in found}
        if lacking:
            raise ParseError(
                f"--signals {system}:{sorted(lacking)[0]}: {obs.path} has no such signal",
                hint="See fenwind rinex for what the file has",
            )
        if found:
            out[system] = found
    return out


def placed(
    obs: Observations, sources: Sources, signals: dict[str, list[Signal]], options: argparse.Namespace,
    antenna: Any, height: float | None,
) -> Any:  # fmt: skip
    """The position of a file's mark by code. Raises ProcedureError."""
    from fenwind.gnss.point import PointOptions, point

    up, east, north = obs.header.delta
    settings = PointOptions(
        systems=options.systems, mask=math.radians(options.mask),
        delta=(up if height is None else height, east, north), antenna=antenna,
        ionosphere=sources.ionosphere, precise=sources.orbits is not None,
    )  # fmt: skip
    return point(obs, sources.sky(int(obs.ticks.min()), signals), signals, settings)


def geodetic_json(xyz: Any) -> dict[str, float]:
    """Latitude and longitude in degrees, ellipsoidal height in metres."""
    import numpy as np

    from fenwind.geodesy.geocentric import GRS80_A, GRS80_F, from_xyz

    lat, lon, h = (float(v) for v in from_xyz(np.asarray(xyz, dtype=float), GRS80_A, GRS80_F))
    return {"lat": math.degrees(lat), "lon": math.degrees(lon), "h": h}


def enu_difference(xyz: Any, other: Any) -> dict[str, float]:
    """East, north and up (3,) of one geocentric place from another."""
    import numpy as np

    from fenwind.geodesy.geocentric import GRS80_A, GRS80_F, enu_axes, from_xyz

    here = np.asarray(other, dtype=float)
    lat, lon, _ = from_xyz(here, GRS80_A, GRS80_F)
    way = enu_axes(np.atleast_1d(lat), np.atleast_1d(lon))[:, :, 0] @ (np.asarray(xyz, dtype=float) - here)
    return dict(zip(("de", "dn", "du"), (float(v) for v in way), strict=True))


def _json(obs: Observations, found: Any) -> dict[str, Any]:
    from fenwind.gnss.gps_time import iso

    head = obs.header
    return {
        "mark": head.mark, **geodetic_json(found.xyz),
        **dict(zip("xyz", (float(v) for v in found.xyz), strict=True)),
        "covariance": found.covariance.tolist(), "epochs": int(found.ticks.size),
        "first": iso(int(found.ticks.min())), "last": iso(int(found.ticks.max())), "used": found.used,
        "share": found.share, "biases": found.biases, "rms_code": found.rms,
        "header_difference": None if head.position is None else enu_difference(found.xyz, head.position),
    }  # fmt: skip


def _words(payload: dict[str, Any]) -> list[str]:
    sigmas = [math.sqrt(payload["covariance"][k][k]) for k in range(3)]
    lines = [
        f"{payload['mark'] or 'mark'}: {payload['lat']:.8f} {payload['lon']:.8f} {payload['h']:.3f} m",
        f"one sigma E {sigmas[0]:.2f}, N {sigmas[1]:.2f}, up {sigmas[2]:.2f} m; {payload['epochs']} epochs, "
        f"{len(payload['used'])} satellites, ranges {payload['rms_code']:.2f} m",
    ]
    apart = payload["header_difference"]
    if apart:
        lines.append(f"from the header: E {apart['de']:+.2f}, N {apart['dn']:+.2f}, up {apart['du']:+.2f} m")
    return lines
