"""fenwind adjust: a network in one adjustment."""

from __future__ import annotations

import argparse
import math
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from fenwind.commands.units_told import add_units, units_of
from fenwind.errors import FormatError, ParseError, ProcedureError

if TYPE_CHECKING:
    from collections.abc import Mapping

    from fenwind.commands.units_told import Units
    from fenwind.exchange.network_csv import Observation
    from fenwind.geodesy.frames import Frame
    from fenwind.procedures.network import NetworkResult
    from fenwind.procedures.network_figures import RowFigures
    from fenwind.procedures.network_model import Given, Network
    from fenwind.quantities.lengths import LengthUnit

_DESCRIPTION = """Adjust a network. OBS as in fenwind loops. CONTROL: name,e,n,h or name,lat,lon,h, optional
sh,sv,planned; heights above the ellipsoid, with --geoid above that geoid. Without --hold, --weighted or
--free every mark of CONTROL is held in what is given. Coordinates and heights are in the unit of --frame,
other lengths in metres, unless a head or --unit says otherwise."""


#: How near a place must come back to itself through the frame, metres.
COMES_BACK_M = 0.001
#: Keys of the answer that are lengths, besides e, n and h; residuals are by kind.
_LENGTHS = ("x", "y", "z", "a", "b", "external", "difference")


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("adjust", help="adjust a network", description=_DESCRIPTION)
    parser.add_argument("--robust", action="store_true", help="which observations stand out, as well")
    add_options(parser)


def add_options(parser: argparse.ArgumentParser) -> None:
    """The options of adjust and design."""
    from fenwind.commands.network_more import add_more_options

    parser.add_argument("observations", metavar="OBS.csv")
    parser.add_argument("control", metavar="CONTROL.csv")
    space = parser.add_mutually_exclusive_group()
    space.add_argument("--plane", action="store_true", help="e, n, h are rectangular")
    space.add_argument("--frame", metavar="CODE", help="projected frame of e,n,h")
    parser.add_argument("--geoid", metavar="FILE")
    datum = parser.add_mutually_exclusive_group()
    datum.add_argument("--hold", metavar="NAME,..", help="marks held; the rest is compared")
    datum.add_argument("--weighted", action="store_true", help="control takes part with sh, sv")
    datum.add_argument("--free", action="store_true", help="inner constraints over the control")
    parser.add_argument("--sigma-distance", metavar="MM,PPM", default="3,2")
    parser.add_argument("--sigma-direction", metavar="S", type=float, default=5.0)
    parser.add_argument("--sigma-zenith", metavar="S", type=float, default=5.0)
    parser.add_argument("--sigma-height", metavar="MM", type=float, default=1.0)
    parser.add_argument("--k", metavar="K", type=float, default=0.13, help="refraction (0.13)")
    parser.add_argument("--alpha", metavar="A", type=float, default=0.001)
    parser.add_argument("--power", metavar="P", type=float, default=0.80)
    add_more_options(parser)
    parser.add_argument("--components", action="store_true", help="variance components of the groups")
    parser.add_argument("--apply-components", action="store_true", help="repeated until they are 1")
    add_units(parser)
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Read, adjust, tell."""
    from fenwind.commands.answers import answer
    from fenwind.exchange.landxml_survey import read_observations

    frame = frame_of(options)
    units = units_of(options, frame)
    rows = read_observations(options.observations, sigmas_of(options), units.of_lists)
    net, geographic = network_of(options, rows, frame)
    payload = told(options, net, rows, frame, geographic)
    return answer(payload, _words(payload, units.length), options.json)


def told(
    options: argparse.Namespace, net: Network, rows: list[Observation], frame: Frame | None, geographic: bool
) -> dict[str, Any]:
    """Solve, and everything that is told of it."""
    from fenwind.commands.answers import doubts_json
    from fenwind.commands.network_more import more_told, with_more
    from fenwind.doubts.network_rules import network_doubts
    from fenwind.estimation.distributions import chi2_tail
    from fenwind.procedures.network_figures import FigureTable, row_figures

    net = with_more(options, replace(net, rows=rows_of(rows)))
    result, components = _solved(options, net)
    found = result.found
    figures = row_figures(result, options.alpha, options.power) if found is not None else FigureTable()
    dof = found.dof if found is not None else 0
    squares = found.sum_squares if found is not None else 0.0
    p_value = float(chi2_tail(squares, dof)) if dof > 0 else None
    doubts = list(network_doubts(result, figures, p_value, options.alpha))
    units = units_of(options, frame)
    answered = {
        "dimensions": net.dimensions,
        "positions": _positions(result, net, frame, geographic),
        "observations": _observations(result, units, rows, figures),
        "control": _control(result, net, options, units.length.metres),
        "variance_factor": squares / dof if dof > 0 else None, "dof": dof, "p_value": p_value,
        "converged": found is None or bool(found.converged),
        "components": components, "doubts": doubts_json(doubts, units.length.metres),
    }  # fmt: skip
    scaled = units.told(answered, ("e", "n", "h"), _LENGTHS, ("covariance",))
    return scaled | more_told(options, units, result, rows)


def sigmas_of(options: argparse.Namespace) -> Any:
    """What an empty sigma stands for. Raises ParseError."""
    from fenwind.commands.answers import mm_ppm
    from fenwind.exchange.network_csv import Sigmas
    from fenwind.quantities.angles import RAD_PER_SECOND

    for name in ("sigma_direction", "sigma_zenith", "sigma_height"):
        if not 0.0 < getattr(options, name) < math.inf:
            raise ParseError(f"--{name.replace('_', '-')}: expected a number above 0", hint="Correct it")
    for name in ("alpha", "power"):
        if not 0.0 < getattr(options, name) < 1.0:
            raise ParseError(f"--{name}: expected a number between 0 and 1", hint="Correct it")
    if not math.isfinite(options.k):
        raise ParseError("--k: expected a number", hint="Correct it")
    mm, ppm = mm_ppm(options.sigma_distance, "--sigma-distance")
    return Sigmas(
        distance_m=mm / 1000.0, distance_part=ppm * 1e-6, direction=options.sigma_direction * RAD_PER_SECOND,
        zenith=options.sigma_zenith * RAD_PER_SECOND, height_m=options.sigma_height / 1000.0,
    )  # fmt: skip


# The network
# ---------------------------------------------------------------------------------------------------------


def frame_of(options: argparse.Namespace) -> Frame | None:
    """The frame of --frame, None without."""
    from fenwind.geodesy.frames import open_frame, working_frame_spec

    return open_frame(working_frame_spec(options.frame)) if options.frame else None


def network_of(
    options: argparse.Namespace, rows: list[Observation], frame: Frame | None
) -> tuple[Network, bool]:
    """The network without its rows, and whether control is in latitudes and longitudes."""
    from fenwind.geodesy.geocentric import GRS80_A, GRS80_F
    from fenwind.geodesy.geoid import GeoidGrid
    from fenwind.procedures.network_case import with_geoid_heights
    from fenwind.procedures.network_model import Network

    kinds = {o.kind for o in rows}
    dimensions = 3
    if kinds == {"height_difference"}:
        dimensions = 1
    elif options.plane and not kinds & {"zenith", "height_difference", "vector"}:
        dimensions = 2
    control, geographic = _read_control(options, frame, rows, dimensions)
    a, f = GRS80_A, GRS80_F
    if frame is not None:
        ellipsoid = frame.geodetic_crs.ellipsoid
        assert ellipsoid is not None
        a, f = ellipsoid.semi_major_metre, 1.0 / ellipsoid.inverse_flattening
    geoid = GeoidGrid(options.geoid).height if options.geoid and dimensions == 3 else None
    if geoid is not None and options.plane:
        raise ParseError("--geoid has no meaning with --plane", hint="Leave one of them out")
    hold = _hold(options, control)
    net = Network(
        rows=(), control=control, dimensions=dimensions, plane=options.plane or dimensions == 1,
        datum="weighted" if options.weighted else "free" if options.free else "hold", hold=hold, a=a, f=f,
        k=options.k, geoid=geoid,
    )  # fmt: skip
    return with_geoid_heights(net), geographic


def _hold(options: argparse.Namespace, control: dict[str, Given]) -> frozenset[str] | None:
    if options.hold is None:
        return None
    hold = frozenset(part.strip() for part in options.hold.split(",") if part.strip())
    for name in sorted(hold - set(control)):
        raise ProcedureError(f"{name} is not in the control", hint="Check the names of --hold")
    return hold


def _read_control(
    options: argparse.Namespace, frame: Frame | None, rows: list[Observation], dimensions: int
) -> tuple[dict[str, Given], bool]:
    from fenwind.exchange.named_csv import read_named
    from fenwind.procedures.network_model import Given

    optional = ("e", "n", "lat", "lon", "sh", "sv", "planned")
    units = units_of(options, frame).of_lists
    heads, cells = read_named(options.control, ("name", "h"), optional, units)
    geographic = {"lat", "lon"} <= set(heads)
    _check_columns(options, heads, geographic, dimensions)
    seen = {n for o in rows for n in (o.at, o.to, o.back)}
    names: set[str] = set()
    out: dict[str, Given] = {}
    for row in cells:
        name = row.text("name")
        if name in names:
            raise row.bad("name", "every name once")
        names.add(name)
        planned = row.text("planned", needed=False)
        if planned not in ("", "yes"):
            raise row.bad("planned", "yes or nothing")
        first, second = _plan(row, geographic, frame)
        sh, sv = (row.length(c, "a sigma of 0 or more", lambda v: v >= 0.0) for c in ("sh", "sv"))
        if name in seen:
            out[name] = Given(
                first=first, second=second, h=_height(row, geographic), sh=sh, sv=sv, planned=planned == "yes"
            )
    return out, geographic


def _check_columns(
    options: argparse.Namespace, heads: tuple[str, ...], geographic: bool, dimensions: int
) -> None:
    if dimensions == 1:
        return
    if not geographic and not {"e", "n"} <= set(heads):
        raise FormatError(
            "expected the columns name,e,n,h or name,lat,lon,h", where=f"{options.control}, line 1",
            hint="Name the columns",
        )  # fmt: skip
    if geographic and options.plane:
        raise ParseError("--plane needs e,n,h", hint="Leave --plane out, or give plane coordinates")
    if not geographic and not options.plane and not options.frame:
        raise ParseError("e and n need --frame CODE, or --plane", hint="Name the frame they are in")


def _height(row: Any, geographic: bool) -> float:
    """A height in metres; beside latitudes it is no coordinate of a frame."""
    return float(row.length("h") if geographic else row.coordinate("h"))


def _plan(row: Any, geographic: bool, frame: Frame | None) -> tuple[float, float]:
    import numpy as np

    if geographic:
        first, second, columns = row.angle("lat"), row.angle("lon"), ("lat", "lon")
        if abs(first) > 0.5 * math.pi:
            raise row.bad("lat", "a latitude from -90 to 90")
    else:
        first, second, columns = row.coordinate("e"), row.coordinate("n"), ("e", "n")
    if math.isnan(first) != math.isnan(second):
        raise row.bad(columns[math.isnan(second)], "both coordinates, or neither")
    if frame is not None and not geographic and math.isfinite(first):
        lat, lon = frame.inverse(np.array([first]), np.array([second]))
        e, n = (float(v[0]) for v in frame.forward(lat, lon))
        if not math.hypot(e - first, n - second) < COMES_BACK_M:
            raise row.bad("e", f"a place of {frame.spec.name} (sign, exchanged e and n, or another frame)")
        first, second = float(lat[0]), float(lon[0])
    return first, second


def _solved(options: argparse.Namespace, net: Network) -> tuple[NetworkResult, Any]:
    """Solve; with components wanted, again and again."""
    from fenwind.procedures.network_case import determined
    from fenwind.procedures.network_weights import balanced, group_factors

    result = determined(net)
    if not (options.components or options.apply_components) or result.found is None:
        return result, None
    if options.apply_components:
        result, factors = balanced(net, result)
    else:
        factors = group_factors(result)
    return result, [{"group": g.group, "redundancy": g.redundancy, "factor": g.factor} for g in factors]


def rows_of(rows: list[Observation]) -> tuple[Any, ...]:
    """Observations of a file as those of a network."""
    from fenwind.procedures.network_model import Row

    return tuple(
        Row(
            kind=o.kind, at=o.at, to=o.to, back=o.back, set=o.set, group=o.group, hi=o.hi, ht=o.ht,
            value=o.value, covariance=o.covariance,
        )
        for o in rows
    )  # fmt: skip


# What is told
# ---------------------------------------------------------------------------------------------------------


def _positions(
    result: NetworkResult, net: Network, frame: Frame | None, geographic: bool
) -> list[dict[str, Any]]:
    import numpy as np

    from fenwind.procedures.network import covariances_of
    from fenwind.procedures.network_case import plane_turn

    out = []
    every = covariances_of(result, np.arange(len(result.marks.names)))
    for name in (*result.marks.names, *result.lost):
        if name in result.lost:
            empty = dict.fromkeys(("lat", "lon", "h") if geographic else ("e", "n", "h"))
            out.append({"name": name, "held": False, **empty, "covariance": None, "ellipse": None})
            continue
        i = result.marks.index[name]
        place = result.marks.place[:, i]
        covariance = every[:, :, i]
        one: dict[str, Any] = {"name": name, "held": bool((result.setup.unknowns[:, i] < 0).all())}
        if net.dimensions == 1:
            one |= {"h": float(place[2])}
            covariance = covariance[2:, 2:]
        elif net.plane:
            one |= {"e": float(place[0]), "n": float(place[1])}
            one["h"] = float(place[2]) if net.dimensions == 3 else None
            covariance = covariance[: net.dimensions, : net.dimensions]
        else:
            turn = np.eye(3)
            one |= _in_space(net, place, frame, geographic)
            if frame is not None and not geographic:
                turn = plane_turn(frame, place[:1], place[1:2])[:, :, 0]
            covariance = turn @ covariance @ turn.T
        one |= {"covariance": covariance.tolist(), "ellipse": _ellipse(net, covariance)}
        out.append(one)
    return out


def _in_space(net: Network, place: Any, frame: Frame | None, geographic: bool) -> dict[str, Any]:
    import numpy as np

    from fenwind.procedures.network_model import positions_of

    x, y, z = (float(v) for v in positions_of(net, place[:, None])[:, 0])
    n = 0.0 if net.geoid is None else float(net.geoid(place[:1], place[1:2])[0])
    out: dict[str, Any] = {"h": float(place[2]) - n, "x": x, "y": y, "z": z}
    if frame is not None and not geographic:
        e, north = frame.forward(place[0], place[1])
        return {"e": float(e), "n": float(north)} | out
    lon = float(np.degrees(place[1]))
    return {"lat": float(np.degrees(place[0])), "lon": (lon + 180.0) % 360.0 - 180.0} | out


def _ellipse(net: Network, covariance: Any) -> dict[str, float] | None:
    from fenwind.estimation.distributions import chi2_quantile
    from fenwind.procedures.regions import ellipses

    if net.dimensions == 1:
        return None
    a, b, bearing = ellipses(covariance[:2, :2, None])
    root = math.sqrt(chi2_quantile(0.95, 2))
    return {"a": root * float(a[0]), "b": root * float(b[0]), "bearing_deg": math.degrees(float(bearing[0]))}


def _observations(
    result: NetworkResult, units: Units, rows: list[Observation], figures: Mapping[int, RowFigures]
) -> list[dict[str, Any]]:
    from fenwind.commands.reading import number
    from fenwind.exchange.network_csv import ANGLES
    from fenwind.quantities.angles import RAD_PER_SECOND

    out = []
    at = 0
    for o in rows:
        one: dict[str, Any] = {"line": o.line, "kind": o.kind, "at": o.at, "to": o.to}
        keys = ("residual", "redundancy", "w", "mdb", "external", "external_at")
        if {o.at, o.to, o.back} & set(result.lost) or at not in figures:
            out.append(one | dict.fromkeys(keys))
            at += not {o.at, o.to, o.back} & set(result.lost)
            continue
        f = figures[at]
        at += 1
        unit = RAD_PER_SECOND if o.kind in ANGLES else units.length.metres
        values = {
            "residual": f.residual / unit, "redundancy": f.redundancy, "w": f.w, "mdb": f.mdb / unit,
            "external": f.external,
        }  # fmt: skip
        lists = {key: [number(float(v)) for v in value] for key, value in values.items()}
        names = [n if lists["external"][i] is not None else None for i, n in enumerate(f.external_at)]
        if o.kind == "vector":
            out.append(one | lists | {"external_at": names})
        else:
            out.append(one | {key: value[0] for key, value in lists.items()} | {"external_at": names[0]})
    return out


def _control(
    result: NetworkResult, net: Network, options: argparse.Namespace, metres: float
) -> list[dict[str, Any]]:
    import numpy as np

    from fenwind.commands.reading import number
    from fenwind.procedures.network_model import base_axes, positions_of

    out = []
    for name, given in net.control.items():
        if given.planned or name not in result.marks.index:
            continue
        place = result.marks.place[:, result.marks.index[name]]
        first = np.array([given.first, given.second, given.h])
        first = np.where(np.isfinite(first), first, place)[:, None]
        d = positions_of(net, place[:, None]) - positions_of(net, first)
        local = np.einsum("ijm,jm->im", base_axes(net, first), d)[:, 0]
        fine = [has and axis in net.axes for axis, has in enumerate(given.has)]
        one: dict[str, Any] = {
            "name": name,
            "difference": [number(float(v)) if ok else None for v, ok in zip(local, fine, strict=True)],
        }
        if options.weighted and result.found is not None:
            one |= _weight_figures(result, name, options, metres)
        out.append(one)
    return out


def _weight_figures(
    result: NetworkResult, name: str, options: argparse.Namespace, metres: float
) -> dict[str, Any]:
    from fenwind.commands.reading import number
    from fenwind.estimation.distributions import detectable_shift

    out: dict[str, list[float | None]] = {key: [None] * 3 for key in ("redundancy", "w", "mdb")}
    import numpy as np

    assert result.found is not None
    group = result.found.groups[-1] if result.weighted else None
    for k, (mark, axis) in enumerate(result.weighted):
        if mark == name and group is not None:
            r = float(group.redundancy[0, k])
            sigma = math.sqrt(float(np.asarray(group.group.covariance)[0, 0, k]))
            out["redundancy"][axis] = r
            if r >= 1e-6:
                out["w"][axis] = number(float(group.standardised[0, k]))
                shift = detectable_shift(options.alpha, options.power) * sigma / math.sqrt(r)
                out["mdb"][axis] = shift / metres
    return dict(out)


def _words(payload: dict[str, Any], unit: LengthUnit) -> list[str]:
    factor = payload["variance_factor"]
    head = f"{payload['dof']} redundant"
    lines = [
        head if factor is None else f"{head}, variance factor {factor:z.3f}, p {payload['p_value']:z.4f}"
    ]
    for one in payload["positions"]:
        values = [
            f"{one[k]:z.9f}" if k in ("lat", "lon") else f"{one[k]:z.4f}"
            for k in ("lat", "lon", "e", "n", "h")
            if one.get(k) is not None
        ]
        a = f"  95 %: {one['ellipse']['a'] * unit.metres * 1000:z.1f} mm" if one["ellipse"] else ""
        lines.append(f"{one['name']:12} {' '.join(values) or 'not determined'}{a}")
    return lines
