"""fenwind rinex: what a GNSS file holds."""

from __future__ import annotations

import argparse
from collections import Counter
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from fenwind.gnss.broadcast import Navigation
    from fenwind.gnss.observations import Observations
    from fenwind.gnss.other_files import Antennas, Clocks, Orbits

_DESCRIPTION = """What a RINEX file (observations, navigation messages, clocks), SP3 file or ANTEX file holds;
plain, gzip or compact, by its content. Times are GPS time."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("rinex", help="what a GNSS file holds", description=_DESCRIPTION)
    parser.add_argument("file", metavar="FILE")
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Read and tell."""
    from fenwind.commands.answers import answer
    from fenwind.gnss.files import read_gnss

    kind, found = read_gnss(options.file)
    told: dict[str, Any] = {
        "observation": observation_json, "navigation": _navigation_json, "orbit": _orbit_json,
        "clock": _clock_json, "antenna": _antenna_json,
    }  # fmt: skip
    payload = {"kind": kind, **told[kind](found, options.file)}
    return answer(payload, _words(payload), options.json)


def observation_json(obs: Observations, path: str) -> dict[str, Any]:
    """An observation file, as `fenwind rinex` tells it."""
    import numpy as np

    from fenwind.commands.answers import doubts_json
    from fenwind.doubts.gnss_file_rules import file_doubts
    from fenwind.gnss.gps_time import iso

    head, expected = obs.header, obs.expected
    counts = {
        s: {c: int(n) for c, n in zip(d.codes, np.isfinite(d.values).sum(axis=0), strict=True)}
        for s, d in obs.systems.items()
    }
    slips = {
        s: sum(int(n) for c, n in zip(d.codes, ((d.lli & 1) > 0).sum(axis=0), strict=True) if c[:1] == "L")
        for s, d in obs.systems.items()
    }
    return {
        "version": head.version, "time_system": head.time_system, "mark": head.mark,
        "marker_number": head.marker_number, "receiver": head.receiver, "antenna": head.antenna,
        "antenna_delta": dict(zip("hen", head.delta, strict=True)),
        "position": None if head.position is None else dict(zip("xyz", head.position, strict=True)),
        "interval": obs.interval, "epochs": int(obs.ticks.size), "expected": expected,
        "share": obs.ticks.size / expected if expected else None,
        "first": iso(int(obs.ticks.min())), "last": iso(int(obs.ticks.max())),
        "gaps": [{"from": iso(a), "to": iso(b)} for a, b in obs.gaps],
        "events": [{"time": iso(e.ticks), "flag": e.flag} for e in obs.events],
        "header_changes": sum(e.header_lines > 0 for e in obs.events),
        "satellites": {s: d.names for s, d in obs.systems.items() if d.names},
        "observations": {s: {c: n for c, n in each.items() if n} for s, each in counts.items()},
        "lli": slips, "skipped": obs.skipped, "doubts": doubts_json(file_doubts(obs)),
    }  # fmt: skip


def _navigation_json(nav: Navigation, path: str) -> dict[str, Any]:
    from fenwind.commands.answers import doubts_json
    from fenwind.doubts.gnss_file_rules import skipped_doubt
    from fenwind.gnss.gps_time import iso

    count = Counter(m.system for m in nav.messages)
    times = [m.clock_ticks for m in nav.messages]
    return {
        "version": nav.version, "ephemerides": dict(count),
        "satellites": {s: sorted({m.name for m in nav.messages if m.system == s}) for s in count},
        "first": iso(min(times)) if times else None, "last": iso(max(times)) if times else None,
        "skipped": nav.skipped, "doubts": doubts_json(skipped_doubt(path, nav.skipped)),
    }  # fmt: skip


def _orbit_json(orbits: Orbits, path: str) -> dict[str, Any]:
    import numpy as np

    from fenwind.commands.answers import doubts_json
    from fenwind.doubts.gnss_file_rules import skipped_doubt
    from fenwind.gnss.gps_time import iso

    steps, count = np.unique(np.diff(orbits.ticks), return_counts=True)
    by_system: dict[str, list[str]] = {}
    for name in orbits.names:
        by_system.setdefault(name[0], []).append(name)
    return {
        "version": orbits.version, "satellites": by_system, "epochs": int(orbits.ticks.size),
        "interval": float(steps[count.argmax()]) / 1e7 if steps.size else None,
        "first": iso(int(orbits.ticks.min())), "last": iso(int(orbits.ticks.max())),
        "skipped": orbits.skipped, "doubts": doubts_json(skipped_doubt(path, orbits.skipped)),
    }  # fmt: skip


def _clock_json(clocks: Clocks, path: str) -> dict[str, Any]:
    from fenwind.commands.answers import doubts_json
    from fenwind.doubts.gnss_file_rules import skipped_doubt
    from fenwind.gnss.gps_time import iso

    by_system: dict[str, list[str]] = {}
    for name in clocks.satellites:
        by_system.setdefault(name[0], []).append(name)
    return {
        "version": clocks.version, "epochs": len(clocks.ticks), "satellites": by_system,
        "first": iso(clocks.ticks[0]), "last": iso(clocks.ticks[-1]), "skipped": clocks.skipped,
        "doubts": doubts_json(skipped_doubt(path, clocks.skipped)),
    }  # fmt: skip


def _antenna_json(antennas: Antennas, path: str) -> dict[str, Any]:
    from fenwind.commands.answers import doubts_json
    from fenwind.doubts.gnss_file_rules import skipped_doubt

    return {
        "version": antennas.version, "antennas": [t.kind for t in antennas.types], "first": None,
        "last": None, "skipped": antennas.skipped,
        "doubts": doubts_json(skipped_doubt(path, antennas.skipped)),
    }  # fmt: skip


def _words(payload: dict[str, Any]) -> list[str]:
    lines = [f"{payload['kind']}, version {payload['version']}"]
    if payload["first"]:
        lines.append(f"{payload['first']} to {payload['last']} (GPS time)")
    if payload["kind"] == "observation":
        lines.append(
            f"mark {payload['mark'] or '-'}, receiver {payload['receiver'] or '-'}, antenna "
            f"{payload['antenna'] or '-'}, height {payload['antenna_delta']['h']:g} m"
        )
        share = f", {payload['share']:.1%} of those expected" if payload["share"] else ""
        lines.append(f"{payload['epochs']} epochs every {payload['interval'] or 0:g} s{share}")
    satellites = payload.get("satellites")
    if isinstance(satellites, dict):
        lines += [f"{system}: {', '.join(names)}" for system, names in satellites.items()]
    lines += payload.get("antennas", [])
    return lines
