"""fenwind datum-fit: from one set of positions in space onto another by three or seven parameters."""

from __future__ import annotations

import argparse
import math
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from fenwind.errors import FormatError, ParseError

if TYPE_CHECKING:
    import numpy as np
    import pyproj
    from numpy.typing import NDArray

    from fenwind.procedures.datum_fit import DatumFit

_DESCRIPTION = """Fit FROM onto TO. Both: name,x,y,z (geocentric metres), or name,lat,lon,h or name,e,n,h with
--from and --to (an ellipsoid or a frame; heights above the ellipsoid). Pairs are found by name."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser(
        "datum-fit", help="fit two sets of positions in space", description=_DESCRIPTION
    )
    parser.add_argument("source", metavar="FROM.csv")
    parser.add_argument("target", metavar="TO.csv")
    parser.add_argument("--from", dest="source_code", metavar="CODE", help="ellipsoid or frame of FROM")
    parser.add_argument("--to", dest="target_code", metavar="CODE", help="ellipsoid or frame of TO")
    parser.add_argument("--parameters", type=int, choices=(3, 7), default=7)
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


@dataclass(frozen=True)
class _Set:
    """Positions of a file: names, geocentric (3, k), ellipsoid (a, f), and its geographic system."""

    names: list[str]
    xyz: NDArray[np.float64]
    ellipsoid: tuple[float, float]
    system: pyproj.CRS | None


def run(options: argparse.Namespace) -> int:
    """Read, fit, tell."""
    from fenwind.commands.answers import doubts_json
    from fenwind.doubts.datum_fit_rules import datum_fit_doubts
    from fenwind.doubts.registry import Doubt
    from fenwind.procedures.datum_fit import datum_fit

    one = _read(options.source, options.source_code, "--from")
    two = _read(options.target, options.target_code, "--to")
    pairs = [name for name in one.names if name in set(two.names)]
    source = one.xyz[:, [one.names.index(n) for n in pairs]]
    target = two.xyz[:, [two.names.index(n) for n in pairs]]
    found = datum_fit(source, target, options.parameters)
    doubts = list(datum_fit_doubts(pairs, source, target, options.parameters))
    if options.parameters == 7 and found.spreads[1] < found.spreads[0] / 50.0:
        share = float(found.spreads[1] / found.spreads[0])
        doubts.append(
            Doubt(
                rule="weak-geometry", subject="datum-fit", names=tuple(pairs), value=share, limit=1.0 / 50.0,
                unit="", text="The pairs lie nearly on a line: rotations about it are hardly determined.",
            )
        )  # fmt: skip
    payload = _json(found, one, two, pairs, options) | {"doubts": doubts_json(doubts)}
    _tell(payload, options.json)
    return 1 if doubts else 0


def _tell(payload: dict[str, Any], as_json: bool) -> None:
    from fenwind.commands.reading import dump

    p = payload["parameters"]
    turn = p["rotation_arcsec"]["position_vector"]
    lines = [
        f"T {p['tx']:z.4f} {p['ty']:z.4f} {p['tz']:z.4f} m, scale {p['scale_ppm']:z.5f} ppm",
        f"rotations {turn['x']:z.6f} {turn['y']:z.6f} {turn['z']:z.6f} s (position vector)",
    ]
    lines += [
        f"{m['name']:12} E {m['de']:+z.4f} N {m['dn']:+z.4f} up {m['du']:+z.4f} m" for m in payload["pairs"]
    ]
    lines += [f"doubt  {d['text']}" for d in payload["doubts"]]
    print(dump(payload) if as_json else "\n".join(lines))


def _read(path: str, code: str | None, option: str) -> _Set:
    import numpy as np

    from fenwind.exchange.named_csv import read_named
    from fenwind.geodesy.geocentric import GRS80_A, GRS80_F, to_xyz

    heads, rows = read_named(path, ("name",), ("x", "y", "z", "lat", "lon", "e", "n", "h"))
    kind = _kind_of(path, heads)
    names = [row.text("name") for row in rows]
    for row in rows:
        if names.count(row.text("name")) > 1:
            raise row.bad("name", "every name once")
    if code is None and kind != "xyz":
        raise ParseError(
            f"{path}: {kind} positions need {option} CODE", hint="Name the ellipsoid or the frame"
        )
    system, ellipsoid = _system(code, option) if code is not None else (None, (GRS80_A, GRS80_F))
    if kind == "xyz":
        values = np.array([[row.needed_length(c) for c in ("x", "y", "z")] for row in rows]).T
        return _Set(names, values, ellipsoid, _geographic(system))
    if kind == "geographic":
        lat, lon, h = _from_angles(rows)
    else:
        lat, lon, h = _from_plane(path, rows, code or "", option, system)
    return _Set(names, to_xyz(lat, lon, h, *ellipsoid), ellipsoid, _geographic(system))


def _kind_of(path: str, heads: tuple[str, ...]) -> str:
    kinds = {("x", "y", "z"): "xyz", ("lat", "lon", "h"): "geographic", ("e", "n", "h"): "plane"}
    for columns, kind in kinds.items():
        if set(columns) == set(heads) - {"name", "note"}:
            return kind
    raise FormatError(
        "expected the columns name,x,y,z or name,lat,lon,h or name,e,n,h", where=f"{path}, line 1",
        hint="Name the columns",
    )  # fmt: skip


def _from_angles(rows: Any) -> Any:
    import numpy as np

    lat, lon = (np.array([row.angle(c) for row in rows]) for c in ("lat", "lon"))
    h = np.array([row.needed_length("h") for row in rows])
    for column, values, most in (("lat", lat, 0.5 * math.pi), ("lon", lon, 2.0 * math.pi)):
        for row, value in zip(rows, values, strict=True):
            if not abs(value) <= most:
                raise row.bad(column, "a place on earth")
    return lat, lon, h


def _from_plane(path: str, rows: Any, code: str, option: str, system: Any) -> Any:
    import numpy as np

    from fenwind.geodesy.frames import open_frame, working_frame_spec
    from fenwind.quantities.lengths import UNITS

    if system is None or not system.is_projected:
        raise ParseError(
            f"{option} {code}: e and n need a projected frame", hint="Name the frame they are in"
        )
    frame = open_frame(working_frame_spec(code))
    unit = UNITS[frame.spec.unit]
    e, n, h = (np.array([row.needed_length(c, default=unit) for row in rows]) for c in ("e", "n", "h"))
    lat, lon = frame.inverse(e, n)
    if not np.isfinite(lat + lon).all():
        raise FormatError("a position has no place in the frame", where=path, hint="Check the frame")
    return lat, lon, h


def _system(code: str, option: str) -> tuple[Any, tuple[float, float]]:
    """A system (an ellipsoid alone makes one), and its semi-major axis and flattening."""
    import pyproj
    from pyproj.crs import GeographicCRS
    from pyproj.crs.datum import CustomDatum

    from fenwind.errors import FrameError
    from fenwind.geodesy.frames import find_crs

    try:
        system: Any = find_crs(code)
    except FrameError:
        shape = _ellipsoid(code)
        if shape is None:
            raise ParseError(
                f"{option} {code!r}: no ellipsoid and no frame", hint="Give an EPSG code"
            ) from None
        datum = CustomDatum(name=f"a datum on {shape.name}", ellipsoid=shape)
        system = pyproj.CRS(GeographicCRS(name=f"on {shape.name}", datum=datum).to_wkt())
    ellipsoid = system.ellipsoid
    if ellipsoid is None:
        raise ParseError(f"{option} {code!r} has no ellipsoid", hint="Give an ellipsoid or a frame")
    flattening = 1.0 / ellipsoid.inverse_flattening if ellipsoid.inverse_flattening else 0.0
    return system, (ellipsoid.semi_major_metre, flattening)


def _ellipsoid(code: str) -> Any:
    """An ellipsoid by PROJ's name or its EPSG code, None for neither."""
    import pyproj
    from pyproj.crs.datum import CustomEllipsoid
    from pyproj.exceptions import CRSError

    if code in pyproj.get_ellps_map():
        geod = pyproj.Geod(ellps=code)
        return CustomEllipsoid(name=code, semi_major_axis=geod.a, semi_minor_axis=geod.b)
    authority, _, number = code.partition(":")
    try:
        return CustomEllipsoid.from_epsg(number) if authority.upper() == "EPSG" else None
    except CRSError:
        return None


def _geographic(system: Any) -> Any:
    from fenwind.geodesy.axes import geodetic_of

    return None if system is None else geodetic_of(system).to_2d()


def _json(
    found: DatumFit, one: _Set, two: _Set, pairs: list[str], options: argparse.Namespace
) -> dict[str, Any]:
    import numpy as np
    from pyproj import CRS

    from fenwind.commands.reading import number
    from fenwind.geodesy.geocentric import enu_axes, from_xyz
    from fenwind.geodesy.helmert_words import bound_wkt, helmert_proj
    from fenwind.quantities.angles import RAD_PER_SECOND

    def xyz(v: Any) -> dict[str, float]:
        return {axis: float(c) for axis, c in zip("xyz", v, strict=True)}

    at = two.xyz[:, [two.names.index(n) for n in pairs]]
    lat, lon, _ = from_xyz(at, *two.ellipsoid)
    local = np.einsum(
        "ijk,jk->ik", enu_axes(lat, lon), found.carry(one.xyz[:, [one.names.index(n) for n in pairs]]) - at
    )
    turn = found.rotation / RAD_PER_SECOND
    units = np.array([1.0, 1.0, 1.0, *[1.0 / RAD_PER_SECOND] * 3, 1e6])
    covariance = None
    if found.covariance is not None:
        size = options.parameters
        covariance = (found.covariance * units * units[:, None])[:size, :size].tolist()
    carried = found.carry(one.xyz)
    return {
        "parameters": {
            "tx": float(found.shift[0]), "ty": float(found.shift[1]), "tz": float(found.shift[2]),
            "scale_ppm": found.scale * 1e6,
            "rotation_arcsec": {"position_vector": xyz(turn), "coordinate_frame": xyz(-turn)},
        },
        "centre": xyz(found.centre), "shift_at_centre": xyz(found.shift_at_centre),
        "sigma0_m": number(found.sigma0_m), "covariance": covariance,
        "pairs": [
            {"name": name, "de": float(e), "dn": float(n), "du": float(u)}
            for name, e, n, u in zip(pairs, *local, strict=True)
        ],
        "positions": [{"name": name} | xyz(carried[:, i]) for i, name in enumerate(one.names)],
        "proj": helmert_proj(found.shift, found.rotation, found.scale, options.parameters),
        "wkt": None if one.system is None
        else bound_wkt(found.shift, found.rotation, found.scale, one.system, two.system or CRS("EPSG:4326")),
    }  # fmt: skip
