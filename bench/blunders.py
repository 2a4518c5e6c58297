"""Blunders put into the demo's control network, forty kinds of them, with fresh noise each time: how many are
named right, and how often a clean network is accused. Run by name: python -m bench blunders."""

from __future__ import annotations

import math
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np

from bench.timing import say
from fenwind.doubts.network_rules import network_doubts
from fenwind.doubts.registry import Doubt
from fenwind.errors import FenwindError
from fenwind.estimation.distributions import chi2_tail
from fenwind.geodesy.geoid import GeoidGrid
from fenwind.procedures.network_case import determined
from fenwind.procedures.network_figures import row_figures
from fenwind.procedures.network_model import Given, Network, Row, base_axes, computed, positions_of
from fenwind.standins import tarnholt, tarnholt_network
from fenwind.standins.tarnholt_days import true_places

SECOND = math.pi / 648000.0
ALPHA = 0.001
EACH = 5  # draws of every kind
CLEAN = 200
#: What may be named: rules and the set of names, or names alone where several are of equal strength.
Expected = tuple[tuple[str, ...], tuple[str, ...]]


def clean(folder: Path, seed: int) -> Network:
    """The demo's network with noise from a seed, a second round of directions at T-09, four marks known."""
    with mock.patch.object(tarnholt_network, "SEED", seed):
        one = next(r for r in tarnholt_network.network(folder) if hasattr(r, "kind"))
    rows = []
    for i in range(len(one.kind)):
        c = one.covariance[i]
        covariance = np.array([[c[0]]]) if len(c) == 1 else np.diag([c[0], c[3], c[5]])
        rows.append(
            Row(kind=one.kind[i], at=one.at[i], to=one.to[i], set=one.setup[i], group=one.group[i],
                hi=one.hi_m[i], ht=one.ht_m[i], value=np.array(one.value[i]), covariance=covariance)
        )  # fmt: skip
    rng = np.random.default_rng(1000 + seed)
    for row in [r for r in rows if r.kind == "direction" and r.at == "T-09"]:
        noise = math.sqrt(2.0 * float(row.covariance[0, 0])) * rng.standard_normal()
        rows.append(replace(row, value=(row.value + 1.1 + noise) % (2.0 * math.pi), set="T-09 2"))
    places = true_places()
    control = {}
    for name in ("T-01", "T-02", "T-06", "T-03"):
        lat, lon, h = (float(v) for v in places[name])
        control[name] = Given(first=lat, second=lon, h=h)
    geoid = GeoidGrid(str(folder / tarnholt.GRID_FILE)).height
    return Network(rows=tuple(rows), control=control, dimensions=3, plane=False, geoid=geoid)


def kinds() -> Iterator[tuple[str, Callable[[Network], Network], Expected]]:
    """Forty blunders: words, what is done, what is to be named."""
    for size in (0.04, -0.1, 1.0, -10.0):
        for ends in (("T-09", "P-11"), ("P-12", "T-08")):
            yield off("distance", ends, size)
    for size, c in ((0.06, 0), (-0.08, 1), (0.5, 2), (-3.0, 0)):
        yield off("vector", ("T-04", "T-05"), size, component=c)
    for size in (60.0, -300.0, 3600.0):
        yield off("direction", ("P-11", "T-08"), size * SECOND)
    for size in (60.0, -400.0, 7200.0):
        yield off("zenith", ("P-12", "T-09"), size * SECOND, "adjust.target-height")
    for size in (0.015, -0.1, 1.0):
        yield off("height_difference", ("T-09", "P-11"), size)
    reversed_ends = (("P-12", "T-08"), ("T-02", "T-04"), ("T-08", "T-06"))
    for kind, ends in zip(("height_difference", "vector", "vector"), reversed_ends, strict=True):
        yield f"{kind} {ends} reversed", rows(one(kind, *ends), turned), (("adjust.sign",), ends)
    for size in (0.1, -0.3, 1.0):
        words = f"instrument height at P-11 {size:+g} m"
        yield words, rows(set_up("P-11"), height("hi", size)), (("adjust.instrument-height",), ("P-11",))
        words, ends = f"target height at T-04 from T-09 {size:+g} m", ("T-09", "T-04")
        expected = (("adjust.target-height", "adjust.zenith"), ends)
        yield words, rows(set_up(*ends), height("ht", size)), expected
    for a, b in (("T-04", "P-12"), ("P-11", "T-07")):
        named = (("adjust.names",), (a, b, "T-09"))
        yield f"targets {a} and {b} exchanged", rows(first_set("T-09"), exchanged(a, b)), named
    feet = (("adjust.unit",), ("P-11", "T-08"))
    yield "one distance in feet", rows(one("distance", "P-11", "T-08"), in_feet), feet
    yield "all distances in feet", rows(lambda r: r.kind == "distance", in_feet), (("adjust.unit",), ())
    joined = rows(lambda r: r.set == "T-09 2", lambda r: replace(r, set="T-09 1"))
    yield "two rounds under one set number", joined, (("adjust.set",), ("T-09",))
    for size in (0.1, 2.0, 100_000.0):
        yield f"control T-06 {size:g} m north", moved("T-06", size, 0.0), (("adjust.control",), ("T-06",))
    yield "control T-03 0.15 m too high", moved("T-03", 0.0, 0.15), (("adjust.control",), ("T-03",))
    yield from shared_kinds()
    lone = more("direction", to="LONE")
    yield "a mark seen once", lone, (("adjust.undetermined",), ("LONE",))
    apart = more("vector", at="X-1", to="X-2")
    yield "a network in pieces", apart, (("adjust.undetermined",), ("X-1", "X-2"))


def shared_kinds() -> Iterator[tuple[str, Callable[[Network], Network], Expected]]:
    """What many values share."""

    def distance(r: Row) -> bool:
        return r.kind == "distance"

    for ppm in (25.0, 60.0, -300.0):
        change = rows(distance, lambda r, ppm=ppm: replace(r, value=r.value * (1.0 + ppm * 1e-6)))
        yield f"a scale of {ppm:g} ppm", change, (("adjust.scale",), ())
    for size in (0.02, -0.034, 0.5):
        yield f"a constant of {size:g} m", rows(distance, added(size, 0)), (("adjust.constant",), ())
    for size in (0.05, -0.1, 1.0):
        expected: Expected = ("adjust.antenna",), ("T-04",)
        yield f"antenna at T-04 {size:+g} m", antenna("T-04", size), expected
    for size in (0.02, 0.1):
        expected = ("adjust.centring",), ("P-12",)
        yield f"instrument at P-12 {size:g} m beside", beside("P-12", size), expected
    for booked, true in (("T-07", "T-05"), ("T-04", "T-02")):
        change = rows(set_up("T-09", booked), lambda r, true=true: replace(r, to=true))
        yield f"{true} booked, {booked} sighted", change, (("adjust.wrong-mark",), ("T-09", true, booked))
    for factor in (3.0, 5.0):
        change = rows(distance, lambda r, f=factor: replace(r, covariance=r.covariance / f**2))
        expected = ("adjust.sigma",), ("distance",)
        yield f"sigmas of distances {factor:g} times too small", change, expected
    yield "easting and northing exchanged", axes_exchanged, (("adjust.frame",), ())
    yield "the sign of the longitude", other_sign, (("adjust.frame",), ())
    yield "heights of the control without the geoid", no_geoid, (("adjust.geoid",), ())


def antenna(name: str, size: float) -> Callable[[Network], Network]:
    """The height of an antenna booked wrong in all vectors of a mark."""

    def change(net: Network) -> Network:
        up = base_axes(net, np.array([[true_places()[name][k]] for k in range(3)], dtype=float))[2, :, 0]
        ends = {r: (r.at == name) - (r.to == name) for r in net.rows if r.kind == "vector"}
        new = tuple(replace(r, value=r.value + ends.get(r, 0) * size * up) if r in ends else r
                    for r in net.rows)  # fmt: skip
        return replace(net, rows=new)

    return change


def beside(name: str, size: float) -> Callable[[Network], Network]:
    """An instrument that stood north-east of its mark: what it read there, computed."""

    def change(net: Network) -> Network:
        result = determined(net)
        p, index = positions_of(net, result.marks.place), result.marks.index
        axes = base_axes(net, result.marks.place)[:, :, index[name]]
        way = (size * math.sqrt(0.5) * (axes[0] + axes[1]))[:, None]
        new = []
        for r in net.rows:
            if r.at == name and r.hi > 0.0:
                at, to = p[:, [index[r.at]]], p[:, [index[r.to]]]
                hi, ht = np.array([r.hi]), np.array([r.ht])
                values = [computed(net, r.kind, at + w, to, to, hi, ht)[:, 0] for w in (0.0 * way, way)]
                r = replace(r, value=r.value + values[1] - values[0])
            new.append(r)
        return replace(net, rows=tuple(new))

    return change


def axes_exchanged(net: Network) -> Network:
    """Easting and northing of the control exchanged about its middle."""
    lat = np.mean([g.first for g in net.control.values()])
    lon = np.mean([g.second for g in net.control.values()])
    narrow = math.cos(lat)
    control = {n: replace(g, first=lat + (g.second - lon) * narrow, second=lon + (g.first - lat) / narrow)
               for n, g in net.control.items()}  # fmt: skip
    return replace(net, control=control)


def other_sign(net: Network) -> Network:
    """Longitudes of the control without their sign."""
    return replace(net, control={n: replace(g, second=-g.second) for n, g in net.control.items()})


def no_geoid(net: Network) -> Network:
    """Heights over the geoid taken for heights over the ellipsoid."""
    assert net.geoid is not None
    control = {n: replace(g, h=g.h - float(net.geoid(np.array([g.first]), np.array([g.second]))[0]))
               for n, g in net.control.items()}  # fmt: skip
    return replace(net, control=control)


def off(kind: str, ends: tuple[str, str], size: float, also: str = "", component: int = 0) -> Any:
    """One value that is off, in metres or radians."""
    rules = (f"adjust.{kind}", also) if also else (f"adjust.{kind}",)
    return f"{kind} {ends} {size:+g}", rows(one(kind, *ends), added(size, component)), (rules, ends)


def rows(which: Callable[[Row], bool], change: Callable[[Row], Row]) -> Callable[[Network], Network]:
    """Some rows changed."""
    return lambda net: replace(net, rows=tuple(change(r) if which(r) else r for r in net.rows))


def one(kind: str, at: str, to: str) -> Callable[[Row], bool]:
    """A row by kind and ends."""
    return lambda r: (r.kind, r.at, r.to) == (kind, at, to)


def set_up(at: str, to: str = "") -> Callable[[Row], bool]:
    """What was read at a station, to one target or all."""
    return lambda r: r.at == at and r.hi > 0.0 and to in ("", r.to)


def first_set(at: str) -> Callable[[Row], bool]:
    """The first round at a station, with zenith angles and distances."""
    return lambda r: r.at == at and (r.set == f"{at} 1" or r.kind in ("zenith", "distance"))


def added(size: float, component: int) -> Callable[[Row], Row]:
    """A value that is off."""

    def change(r: Row) -> Row:
        value = r.value.copy()
        value[component] += size
        return replace(r, value=value)

    return change


def turned(r: Row) -> Row:
    """The sign reversed."""
    return replace(r, value=-r.value)


def in_feet(r: Row) -> Row:
    """The number in feet."""
    return replace(r, value=r.value / 0.3048)


def height(field: str, size: float) -> Callable[[Row], Row]:
    """A height booked wrong."""
    return lambda r: replace(r, **{field: getattr(r, field) + size})


def exchanged(a: str, b: str) -> Callable[[Row], Row]:
    """Two targets for each other."""
    return lambda r: replace(r, to={a: b, b: a}.get(r.to, r.to))


def moved(name: str, north_m: float, up_m: float) -> Callable[[Network], Network]:
    """A control mark given elsewhere."""

    def change(net: Network) -> Network:
        given = net.control[name]
        other = replace(given, first=given.first + north_m / 6.37e6, h=given.h + up_m)
        return replace(net, control={**net.control, name: other})

    return change


def more(kind: str, **names: str) -> Callable[[Network], Network]:
    """One row more, between other marks."""
    return lambda net: replace(
        net, rows=(*net.rows, replace(next(r for r in net.rows if r.kind == kind), **names))
    )


def doubts(net: Network) -> list[Doubt]:
    """What is said of a network; an error in words where it cannot be adjusted."""
    try:
        result = determined(net)
    except FenwindError as error:
        return [Doubt(rule="failed", subject="", names=(), unit="", text=str(error), grave=True)]
    assert result.found is not None
    figures = row_figures(result, ALPHA, 0.8)
    p = float(chi2_tail(result.found.sum_squares, result.found.dof))
    return list(network_doubts(result, figures, p, ALPHA))


def right(told: list[Doubt], expected: Expected) -> bool:
    """Whether the first grave doubt names the culprit."""
    grave = [d for d in told if d.grave]
    rules, names = expected
    if not grave:
        return False
    wanted = (d for d in grave if d.rule == "adjust.undetermined" and d.rule in rules)
    first = next(wanted, grave[0])
    return first.rule in rules and (sorted(first.names) == sorted(names))


def main() -> None:
    """Count."""
    folder = Path(tempfile.mkdtemp())
    tarnholt.write_grid(folder)
    nets = [clean(folder, 100 + k) for k in range(CLEAN)]
    named, tried, missed = 0, 0, []
    for number, (words, break_it, expected) in enumerate(kinds()):
        hits = 0
        for k in range(EACH):
            told = doubts(break_it(nets[(number * EACH + k) % CLEAN]))
            hits += right(told, expected)
            if not right(told, expected):
                said = next((f"{d.rule} {d.text}" for d in told if d.grave), "nothing")
                missed.append(f"  {words}: {said}")
        named, tried = named + hits, tried + EACH
    accused = sum(any(d.grave for d in doubts(net)) for net in nets)
    print(f"{number + 1} kinds of blunder, {tried} networks; not named right:")
    print("\n".join(missed) or "  none")
    say("blunders not named right", 100.0 * (1.0 - named / tried), 5.0, "%")
    say("clean networks accused", 100.0 * accused / CLEAN, 2.0, "%")


if __name__ == "__main__":
    main()
