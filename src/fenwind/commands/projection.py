"""fenwind projection: the projection with the least distortion over an area."""

from __future__ import annotations

import argparse
import math
from typing import TYPE_CHECKING, Any

from fenwind.errors import FormatError, ParseError

if TYPE_CHECKING:
    import pyproj

    from fenwind.procedures.own_projection import Area, Candidate

_DESCRIPTION = """Design a projection. AREA: lat,lon,h[,weight][,name], degrees and metres above the
ellipsoid; a weight of 0 takes no part. tm: transverse Mercator, lcc: Lambert conformal with one parallel, om:
oblique Mercator."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("projection", help="design a projection for an area", description=_DESCRIPTION)
    parser.add_argument("area", metavar="AREA.csv")
    parser.add_argument("--datum", metavar="CODE", default="EPSG:9990", help="a geographic system")
    parser.add_argument("--aim", choices=("max", "p95", "rms"), default="max")
    parser.add_argument("--kinds", metavar="tm,lcc,om", default="tm,lcc,om")
    parser.add_argument("--limit", metavar="PPM", type=float, default=20.0)
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Read, search, tell."""
    from fenwind.commands.reading import dump, split_names
    from fenwind.geodesy.frames import find_crs
    from fenwind.procedures.own_projection import KINDS, design, recommended

    wanted = split_names(options.kinds)
    kinds = [kind for kind in KINDS if kind in wanted]
    if not kinds or any(kind not in KINDS for kind in wanted):
        raise ParseError(f"--kinds {options.kinds!r}: expected tm, lcc, om", hint="Name one or more")
    if not 0.0 < options.limit < math.inf:
        raise ParseError("--limit: expected a number above 0", hint="Give parts per million")
    datum = find_crs(options.datum).to_2d()
    if not datum.is_geographic:
        raise ParseError(f"--datum {options.datum}: expected a geographic system", hint="Name a datum")
    area = _read(options.area, datum)
    found = [design(area, kind, options.aim, options.limit * 1e-6) for kind in kinds]
    best = recommended(found, options.aim)
    payload: dict[str, Any] = {
        "candidates": [_json(one, datum) for one in found], "recommended": best.lines.kind, "doubts": [],
    }  # fmt: skip
    words = [
        f"{c['kind']:4} largest {c['max_ppm']:z.1f}, 95 % {c['p95_ppm']:z.1f}, rms {c['rms_ppm']:z.1f} ppm  "
        f"{c['proj']}"
        for c in payload["candidates"]
    ]
    print(dump(payload) if options.json else "\n".join([*words, f"recommended: {best.lines.kind}"]))
    return 0


def _read(path: str, datum: pyproj.CRS) -> Area:
    import numpy as np

    from fenwind.exchange.named_csv import read_named
    from fenwind.procedures.own_projection import Area

    _, rows = read_named(path, ("lat", "lon", "h"), ("name", "weight"))
    values = []
    for row in rows:
        lat, lon = row.angle("lat"), row.angle("lon")
        if not abs(lat) <= 0.5 * math.pi:
            raise row.bad("lat", "a latitude from -90 to 90")
        if not abs(lon) <= 2.0 * math.pi:
            raise row.bad("lon", "a longitude from -360 to 360")
        h = row.needed_length("h", "a height from -1000 to 9000 m", lambda v: -1000.0 <= v <= 9000.0)
        weight = row.number("weight", "a weight of 0 or more", lambda v: v >= 0.0)
        values.append((lat, lon, h, 1.0 if math.isnan(weight) else weight))
    lat, lon, h, weight = np.array(values).T
    if not (weight > 0.0).any():
        raise FormatError("no point has weight", where=path, hint="Give weights above 0")
    ellipsoid = datum.ellipsoid
    assert ellipsoid is not None
    return Area(
        lat=lat, lon=lon, h=h, weight=weight, a=ellipsoid.semi_major_metre, b=ellipsoid.semi_minor_metre
    )


def _json(one: Candidate, datum: pyproj.CRS) -> dict[str, Any]:
    from fenwind.procedures.own_projection import projected_crs

    crs = projected_crs(one, datum)
    operation = crs.coordinate_operation
    assert operation is not None
    (e_low, e_high), (n_low, n_high) = one.box.tolist()
    f = one.figures
    return {
        "kind": one.lines.kind, "parameters": {p.name: p.value for p in operation.params},
        "proj": one.lines.proj(one.scale, one.fe, one.fn, _ellipsoid(datum)), "wkt": crs.to_wkt("WKT2_2019"),
        "max_ppm": f.largest * 1e6, "p95_ppm": f.p95 * 1e6, "rms_ppm": f.rms * 1e6,
        "share_within_limit": f.share, "range": {"e": [e_low, e_high], "n": [n_low, n_high]},
    }  # fmt: skip


def _ellipsoid(datum: pyproj.CRS) -> str:
    ellipsoid = datum.ellipsoid
    assert ellipsoid is not None
    return f"+a={ellipsoid.semi_major_metre!r} +b={ellipsoid.semi_minor_metre!r}"
