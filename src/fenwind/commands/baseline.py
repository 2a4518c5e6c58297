"""fenwind baseline: the vector between two static receivers."""

from __future__ import annotations

import argparse
import math
from typing import TYPE_CHECKING, Any

from fenwind.commands.point import (
    add_gnss_options,
    check_gnss_options,
    enu_difference,
    geodetic_json,
    placed,
    signals_used,
)
from fenwind.errors import ParseError

if TYPE_CHECKING:
    from collections.abc import Iterator

    import numpy as np
    from numpy.typing import NDArray

    from fenwind.doubts.registry import Doubt
    from fenwind.gnss.baseline import BaselineResult, Station
    from fenwind.gnss.sources import FoundAntenna, Sources

    FloatArray = NDArray[np.float64]

_DESCRIPTION = """The vector from the mark of BASE to the mark of ROVER, by their phases and ranges. BASE,
ROVER, NAV: RINEX files, plain, gzip or compact. Antenna heights, east and north of the headers are applied;
--base-height and --rover-height stand over the headers'."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("baseline", help="the vector between two receivers", description=_DESCRIPTION)
    parser.add_argument("base_file", metavar="BASE")
    parser.add_argument("rover_file", metavar="ROVER")
    parser.add_argument("navigation", metavar="NAV", nargs="+")
    uses = (("base", "held at; default: the header's, else by its ranges"), ("rover", "compared with"))
    for end, words in uses:
        parser.add_argument(f"--{end}", metavar="LAT,LON,H", help=f"position of the {end}'s mark, {words}")
    for end in ("base", "rover"):
        parser.add_argument(
            f"--{end}-height", metavar="M", type=float, help="mark to antenna reference point"
        )
        parser.add_argument(f"--{end}-antenna", metavar="TYPE", help="the record's antenna type")
    add_gnss_options(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Read, compute, tell."""
    import numpy as np

    from fenwind.commands.answers import answer, doubts_json
    from fenwind.gnss.baseline import baseline
    from fenwind.gnss.files import read_kind
    from fenwind.gnss.sources import read_sources, with_channels

    check_gnss_options(options)
    observed = [read_kind(path, "observation") for path in (options.base_file, options.rover_file)]
    sources = read_sources(options.navigation, options.sp3, options.antex, observed)
    observed = [with_channels(obs, sources) for obs in observed]
    stations, antennas = _stations(options, sources, observed)
    given, known = (_xyz(getattr(options, end), f"--{end}") for end in ("base", "rover"))
    base_xyz, near = _base_place(stations[0], given)
    start = min(int(o.ticks.min()) for o in observed)
    sky = sources.sky(start, stations[0].signals)
    found = baseline(stations[0], stations[1], near, sky, list(options.systems), math.radians(options.mask))
    check = None if known is None else enu_difference(base_xyz + found.vector, known)
    doubts = list(_doubts(options, sources, stations, antennas, given, check, found))
    ends = {
        end: _end(options, end, station, xyz, antenna)
        for end, station, xyz, antenna in zip(
            ("base", "rover"), stations, (base_xyz, base_xyz + found.vector), antennas, strict=True
        )
    }
    payload = {
        **dict(zip(("dx", "dy", "dz"), (float(v) for v in found.vector), strict=True)),
        "covariance": found.covariance.tolist(), "solution": found.solution, "ratio": _finite(found.ratio),
        "success_rate": found.success_rate, "epochs": int(found.ticks.size), "used": found.used,
        "share": found.share, "ambiguities": found.ambiguities, "slips": found.slips,
        "rms_phase": found.rms, **ends, "length": float(np.linalg.norm(found.vector)),
        "troposphere": found.troposphere, "check": check,
        "skipped": sum(o.skipped for o in observed) + sources.skipped, "doubts": doubts_json(doubts),
    }  # fmt: skip
    return answer(payload, _words(payload), options.json)


def _finite(value: float | None) -> float | None:
    return value if value is None or math.isfinite(value) else None


def _stations(
    options: argparse.Namespace, sources: Sources, observed: list[Any]
) -> tuple[list[Station], list[FoundAntenna]]:
    """Both ends with their signals, heights, antennas and positions by code. Raises ParseError."""
    from fenwind.gnss.baseline import Station
    from fenwind.gnss.signals import parse_signals
    from fenwind.gnss.sources import antenna_of

    wanted = parse_signals(options.signals, pairs=True)
    for system, some in wanted.items():
        for one, other in some:
            if one[0] != other[0]:
                raise ParseError(
                    f"--signals {system}:{one}/{other}: expected the same band on both sides",
                    hint="Correct it",
                )
    stations: list[Station] = []
    antennas: list[FoundAntenna] = []
    for k, (end, obs) in enumerate(zip(("base", "rover"), observed, strict=True)):
        names = {s: [pair[k] for pair in some] for s, some in wanted.items()}
        signals = signals_used(obs, options.systems, names)
        if k and not wanted:  # the same bands as the base's
            signals = _same_bands(obs, stations[0].signals, signals)
        height = getattr(options, f"{end}_height")
        if height is not None and not -100.0 < height < 100.0:
            raise ParseError(f"--{end}-height {height:g}: expected metres", hint="Correct it")
        up, east, north = obs.header.delta
        antenna = antenna_of(sources.antennas, getattr(options, f"{end}_antenna") or obs.header.antenna)
        antennas.append(antenna)
        stations.append(
            Station(
                obs=obs, signals=signals, delta=(up if height is None else height, east, north),
                antenna=antenna.found, point=placed(obs, sources, signals, options, antenna.found, height),
            )
        )  # fmt: skip
    return stations, antennas


def _same_bands(obs: Any, base: Any, own: dict[str, list[Any]]) -> dict[str, list[Any]]:
    """Signals of the rover in the bands that the base uses, so far as it has them."""
    from fenwind.gnss.signals import signals_of

    two = obs.header.version.startswith("2")
    out = {}
    for system, some in base.items():
        data = obs.systems.get(system)
        if data is None:
            continue
        bands = [s.band for s in some]
        mine = {s.band: s for s in reversed(signals_of(data, two))} | {s.band: s for s in own.get(system, [])}
        names = {s.name: s for s in signals_of(data, two)}
        found = [names.get(s.name, mine.get(s.band)) for s in some]
        kept = [f for f in found if f is not None]
        if len(kept) == len(bands):
            out[system] = kept
    return out


def _xyz(text: str | None, option: str) -> FloatArray | None:
    import numpy as np

    from fenwind.commands.reading import place_of
    from fenwind.geodesy.geocentric import GRS80_A, GRS80_F, to_xyz

    if text is None:
        return None
    lat, lon, h = place_of(text, option)
    return np.asarray(to_xyz(lat, lon, h, GRS80_A, GRS80_F), dtype=np.float64)


def _base_place(base: Station, given: FloatArray | None) -> tuple[FloatArray, FloatArray]:
    """The mark of the base as it is held: as given, as in the header where that is near its position by code,
    else that; and the place that the vector is computed from, which is no position given by mistake."""
    import numpy as np

    from fenwind.doubts.baseline_rules import CODE_M

    if given is not None:
        wrong = float(np.linalg.norm(given - base.point.xyz)) > CODE_M
        return given, base.point.xyz if wrong else given
    header = base.obs.header.position
    if header is not None and float(np.linalg.norm(np.array(header) - base.point.xyz)) <= CODE_M:
        return np.array(header), np.array(header)
    return base.point.xyz, base.point.xyz


def _doubts(
    options: argparse.Namespace, sources: Sources, stations: list[Station], antennas: list[FoundAntenna],
    given: FloatArray | None, check: dict[str, float] | None, found: BaselineResult,
) -> Iterator[Doubt]:  # fmt: skip
    import os

    import numpy as np

    from fenwind.doubts.baseline_rules import Ends, baseline_doubts
    from fenwind.doubts.gnss_file_rules import (
        file_doubts,
        header_doubts,
        interval_doubts,
        navigation_doubts,
    )
    from fenwind.geodesy.geocentric import GRS80_A, GRS80_F, enu_axes, from_xyz

    base, rover = stations
    lat, lon, _ = from_xyz(base.point.xyz, GRS80_A, GRS80_F)
    axes = enu_axes(np.atleast_1d(lat), np.atleast_1d(lon))[:, :, 0]
    sigmas = np.sqrt(np.diag(axes @ found.covariance @ axes.T))
    names = [s.obs.header.mark or os.path.basename(s.obs.path) for s in stations]
    yield from baseline_doubts(
        Ends(
            base=names[0], rover=names[1], base_code=base.point.xyz, rover_code=rover.point.xyz, given=given,
            check=None if check is None else np.array([check[k] for k in ("de", "dn", "du")]),
            sigmas=None if check is None else sigmas,
        ),
        found,
    )  # fmt: skip
    for end, station, antenna in zip(("base", "rover"), stations, antennas, strict=True):
        yield from header_doubts(
            station.obs, station.point.xyz, getattr(options, f"{end}_height"), antenna,
            getattr(options, f"{end}_antenna"), sources.antennas is not None,
        )  # fmt: skip
        yield from file_doubts(station.obs)
    yield from interval_doubts(base.obs, rover.obs)
    yield from navigation_doubts(sources.unfit)


def _end(
    options: argparse.Namespace, end: str, station: Station, xyz: FloatArray, antenna: FoundAntenna
) -> dict[str, Any]:
    head = station.obs.header
    kind = getattr(options, f"{end}_antenna") or head.antenna
    return {"mark": head.mark, **geodetic_json(xyz), "height": station.delta[0], "antenna": kind.strip()}


def _words(payload: dict[str, Any]) -> list[str]:
    ratio = f", ratio {payload['ratio']:.1f}" if payload["ratio"] is not None else ""
    sigma = math.sqrt(sum(payload["covariance"][k][k] for k in range(3)))
    base, rover = payload["base"], payload["rover"]
    lines = [
        f"{base['mark'] or 'base'} to {rover['mark'] or 'rover'}: {payload['dx']:.4f} {payload['dy']:.4f} "
        f"{payload['dz']:.4f} m, {payload['length']:.4f} m, one sigma {sigma * 1000:.1f} mm",
        f"{payload['solution']}{ratio}, {payload['ambiguities']} ambiguities held, "
        f"{payload['epochs']} epochs, {payload['slips']} slips, phases {payload['rms_phase'] * 1000:.1f} mm",
        f"{rover['mark'] or 'rover'}: {rover['lat']:.9f} {rover['lon']:.9f} {rover['h']:.4f} m",
    ]
    check = payload["check"]
    if check:
        ways = ", ".join(f"{k[1].upper()} {v * 1000:+.1f}" for k, v in check.items())
        lines.append(f"from the known position: {ways} mm")
    return lines
