"""Where the marks of a network are to begin with, from its observations: good to metres is good enough.

Works on a level plane through the middle of the control: east, north, up there.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterator, Mapping
from copy import copy
from dataclasses import replace
from itertools import chain

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.geocentric import enu_axes, from_xyz
from fenwind.procedures.network_model import Given, Marks, Network, Row, positions_of
from fenwind.quantities.angles import wrap_all

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]

#: Rows of a kind that are gone through one by one.
FEW = 30
#: Places that a mark seen by distances and directions alone is looked for in, a side.
GRID, REACH = 61, 3.0
#: Stations that a system of its own is tried from.
AFLOAT = 8


def starting_marks(net: Network) -> tuple[Marks, tuple[str, ...]]:
    """Places of all marks of the network, and those for which no way was found."""
    found = dict.fromkeys(chain.from_iterable([(row.at, row.to, row.back) for row in net.rows]))
    search = _Search(net, tuple(n for n in found if n))
    search.run()
    return search.marks()


Place = tuple[float, float, float]
NOWHERE: Place = (math.nan, math.nan, math.nan)
#: Two marks, the same whichever is named first.
Pair = tuple[str, str]


def _place(values: FloatArray) -> Place:
    e, n, h = values.tolist()
    return e, n, h


def _pair(a: str, b: str) -> Pair:
    return (a, b) if a < b else (b, a)


class _Search:
    """Coordinates found so far, (e, n, h) by name, nan for what is not known."""

    def __init__(self, net: Network, names: tuple[str, ...]) -> None:
        self.net, self.names = net, names
        self.origin, self.axes = _level(net)
        self.at: dict[str, Place] = {}
        #: Marks whose place in plan is known, and those whose height is.
        self.fixed: set[str] = set()
        self.risen: set[str] = set()
        for name in names:
            given = net.control.get(name)
            self._put(name, NOWHERE if given is None else _place(self._given(given)))
        self.azimuths: dict[tuple[str, str], float] = {}
        #: Rays of known length whose ends are not both known.
        self._open: list[tuple[str, str, float, float]] = []
        self.floating = False
        self._gather()
        # Of these, what has not yet given what it can.
        self._turnable, self._bendable, self._risable = self._sets, self._angles, self._rises

    def _from_afloat(self) -> bool:
        """Marks that hang together among themselves: placed in a system of their own, then turned and moved
        onto two or more that are known."""
        if all(name in self.fixed for name in self.names):
            return False
        stations = Counter(r.at for r in self.net.rows if r.kind in ("direction", "angle"))
        most = sorted(stations, key=lambda n: (n not in self.fixed, -stations[n]))
        for name in most[:AFLOAT]:
            afloat = self._afloat(name)
            local = afloat.at
            common = [n for n in self.names if n in self.fixed and n in afloat.fixed]
            fresh = [n for n in self.names if n not in self.fixed and n in afloat.fixed]
            if len(common) < 2 or not fresh:
                continue
            there = np.array([complex(*self.at[n][:2]) for n in common])
            here = np.array([complex(*local[n][:2]) for n in common])
            middle, its = there.mean(), here.mean()
            turn = np.sum((there - middle) * np.conj(here - its))
            if abs(turn) == 0.0:
                continue
            for n in fresh:
                at = middle + turn / abs(turn) * (complex(*local[n][:2]) - its)
                self._set(n, (at.real, at.imag, math.nan))
            return True
        return False

    def _afloat(self, name: str) -> _Search:
        """Places of all that hangs on a station at zero, its first line to the north."""
        first = next(r for r in self.net.rows if r.at == name and r.kind in ("direction", "angle"))
        search = copy(self)
        search.floating, search.azimuths, search.at = True, {}, {}
        search.fixed, search.risen = set(), set()
        search._ways, search._rays, search._open = [], [], []
        search._turnable, search._bendable, search._risable = self._sets, self._angles, self._rises
        for n in self.names:
            search._put(n, (0.0, 0.0, math.nan) if n == name else NOWHERE)
        search._ray(name, first.back or first.to, 0.0)
        search.run()
        return search

    def _given(self, given: Given) -> FloatArray:
        if self.net.plane or self.net.dimensions == 1:
            return np.array([given.first, given.second, given.h])
        if not given.has[0]:
            return np.array([math.nan, math.nan, given.h - self._zero])
        h = given.h if given.has[2] else self._zero
        local = self.axes @ (
            positions_of(self.net, np.array([[given.first], [given.second], [h]])) - self.origin[:, None]
        )
        return np.array([local[0, 0], local[1, 0], local[2, 0] if given.has[2] else math.nan])

    @property
    def _zero(self) -> float:
        return 0.0 if self.net.plane else float(from_xyz(self.origin, self.net.a, self.net.f)[2])

    def _gather(self) -> None:
        """What is gone through again and again, as plain values by kind; lengths are horizontal distances by
        their ends, slope ones by their zenith angles where there are some."""
        self._ways: list[Row] = []
        self._rays: list[tuple[str, str, float]] = []
        self._angles: list[tuple[str, str, str, float]] = []
        self._sets: dict[tuple[str, str], list[tuple[str, float]]] = {}
        self._rises: list[tuple[str, str, Pair, float, float]] = []
        self.lengths: dict[Pair, float] = {}
        slopes, zenith = list[tuple[Pair, float]](), dict[Pair, float]()
        for r in self.net.rows:
            kind, value = r.kind, r.value.item(0)
            if kind == "direction":
                self._sets.setdefault((r.at, r.set), []).append((r.to, value))
            elif kind == "angle":
                self._angles.append((r.at, r.to, r.back, value))
            elif kind == "azimuth":
                self._rays.append((r.at, r.to, value))
            elif kind in ("vector", "height_difference"):
                self._ways.append(r)
            else:
                ends = _pair(r.at, r.to)
                if kind == "zenith":
                    self._rises.append((r.at, r.to, ends, r.hi - r.ht, math.tan(value)))
                    zenith[ends] = value
                elif kind == "horizontal_distance":
                    self.lengths[ends] = value
                else:
                    slopes.append((ends, value))
        for ends, value in slopes:
            self.lengths.setdefault(ends, value * math.sin(zenith.get(ends, 0.5 * math.pi)))

    def run(self) -> None:
        """Until nothing more is found."""
        if not self.floating:
            self._spread("vector")
            self._spread("height_difference")
        while not self._complete():
            count = self._count()
            self._vectors_and_heights()
            if self.net.dimensions != 1:
                self._orient()
                self._polar()
                if not self.floating:
                    self._zeniths()
            if self._count() > count:
                continue
            if self.net.dimensions == 1 or not (
                self._intersect()
                or self._place_by_grid()
                or (not self.floating and (self._from_afloat() or self._lift()))
            ):
                return

    def _complete(self) -> bool:
        """Whether every mark has all that it needs; afloat these are no heights."""
        plan = self.net.dimensions == 1 or len(self.fixed) == len(self.names)
        return plan and (self.floating or self.net.dimensions == 2 or len(self.risen) == len(self.names))

    def _spread(self, kind: str) -> None:
        """Places of all that vectors, or height differences, lead to from what is known, at once: along the
        shortest ways."""
        rows = [r for r in self.net.rows if r.kind == kind]
        if len(rows) < FEW:
            return
        number = {name: i for i, name in enumerate(self.names)}
        here, there = (np.array([number[getattr(r, f)] for r in rows]) for f in ("at", "to"))
        way = np.array([r.value for r in rows]).T
        if kind == "vector":
            way = way if self.net.plane else self.axes @ way
        else:
            way = np.concatenate([np.full((2, len(rows)), np.nan), way])
        at = np.array(list(self.at.values())).T
        wanted = slice(0, 3) if kind == "vector" else slice(2, 3)
        for here_now, there_now, level in _levels(here, there, np.isfinite(at[wanted]).all(axis=0)):
            sign = np.where(level < way.shape[1], 1.0, -1.0)
            fresh = at[:, here_now] + sign * way[:, level % way.shape[1]]
            at[wanted, there_now] = fresh[wanted]
        for name, (e, n, h) in zip(self.names, at.T.tolist(), strict=True):
            self._put(name, (e, n, h))

    def _count(self) -> int:
        return len(self.fixed) + len(self.risen) + len(self.azimuths)

    def _vectors_and_heights(self) -> None:
        for r in self._ways:
            if r.kind == "vector":
                way = r.value if self.net.plane else self.axes @ r.value
                for here, there, sign in ((r.at, r.to, 1.0), (r.to, r.at, -1.0)):
                    self._set(there, _place(np.array(self.at[here]) + sign * way))
            else:
                self._level_up(r.at, r.to, float(r.value[0]))

    def _set(self, name: str, value: Place) -> None:
        known = self.at[name]
        if known[0] == known[0] and known[2] == known[2]:
            return  # all is known; this is asked very often
        (e, n, h), (e0, n0, h0) = value, known
        self._put(name, (e0 if e0 == e0 else e, n0 if n0 == n0 else n, h0 if h0 == h0 else h))

    def _put(self, name: str, place: Place) -> None:
        self.at[name] = place
        if math.isfinite(place[0]) and math.isfinite(place[1]):
            self.fixed.add(name)
        if math.isfinite(place[2]):
            self.risen.add(name)

    def _level_up(self, first: str, second: str, up: float) -> None:
        """Heights of two marks of which the second lies so much higher."""
        for here, there, way in ((first, second, up), (second, first, -up)):
            height = self.at[here][2] + way
            if height == height and self.at[there][2] != self.at[there][2]:
                self._set(there, (math.nan, math.nan, height))

    def _bearing(self, a: str, b: str) -> float:
        here, there = self.at[a], self.at[b]
        return math.atan2(there[0] - here[0], there[1] - here[1])

    def _orient(self) -> None:
        """Azimuths of lines: observed, from orientations, over angles."""
        for at, to, azimuth in self._rays:
            self._ray(at, to, azimuth)
        turns: dict[tuple[str, str], float] = {}
        for which, lines in self._turnable.items():
            for to, value in lines:
                known = self._azimuth(which[0], to)
                if known is not None:
                    turns[which] = known - value
                    break
        for which, turn in turns.items():
            for to, value in self._sets[which]:
                self._ray(which[0], to, turn + value)
        self._turnable = {which: lines for which, lines in self._turnable.items() if which not in turns}
        left = []
        for angle in self._bendable:
            at, to, back, value = angle
            behind, ahead = self._azimuth(at, back), self._azimuth(at, to)
            if behind is not None:
                self._ray(at, to, behind + value)
            elif ahead is not None:
                self._ray(at, back, ahead - value)
            else:
                left.append(angle)
        self._bendable = left

    def _azimuth(self, a: str, b: str) -> float | None:
        if a in self.fixed and b in self.fixed:
            return self._bearing(a, b)
        return self.azimuths.get((a, b))

    def _ray(self, a: str, b: str, azimuth: float) -> None:
        for here, there, way in ((a, b, azimuth), (b, a, azimuth + math.pi)):
            if (here, there) not in self.azimuths:
                self.azimuths[here, there] = way
                d = self.lengths.get(_pair(a, b))
                if d is not None:
                    self._open.append((here, there, way, d))

    def _polar(self) -> None:
        left = []
        for ray in self._open:
            a, b, azimuth, d = ray
            if b in self.fixed:
                continue
            if a in self.fixed:
                e, n, _ = self.at[a]
                self._set(b, (e + d * math.sin(azimuth), n + d * math.cos(azimuth), math.nan))
            else:
                left.append(ray)
        self._open = left

    def _zeniths(self) -> None:
        left = []
        for rise in self._risable:
            at, to, ends, over, slope = rise
            here, there = self.at[at], self.at[to]
            low, high = math.isnan(here[2]), math.isnan(there[2])
            if not low and not high:
                continue
            d = self.lengths.get(ends) if low != high else None
            if d is None and low != high and at in self.fixed and to in self.fixed:
                d = math.hypot(there[0] - here[0], there[1] - here[1])
            if d is not None:
                self._level_up(at, to, over + d / slope)
            else:
                left.append(rise)
        self._risable = left

    def _intersect(self) -> bool:
        """One mark where two rays from fixed marks cross best."""
        for name in self.names:
            if name in self.fixed:
                continue
            rays = [(a, z) for (a, b), z in self.azimuths.items() if b == name and a in self.fixed]
            for i, (a, one) in enumerate(rays):
                for b, two in rays[i + 1 :]:
                    if abs(math.sin(one - two)) > 0.1:
                        m = np.array([[math.sin(one), -math.sin(two)], [math.cos(one), -math.cos(two)]])
                        (e, n, _), (e2, n2, _) = self.at[a], self.at[b]
                        s = float(np.linalg.solve(m, [e2 - e, n2 - n])[0])
                        self._set(name, (e + s * math.sin(one), n + s * math.cos(one), math.nan))
                        return True
        return False

    def _place_by_grid(self) -> bool:
        """One mark from distances, rays and directions between it and fixed marks, the best seen first."""
        seen = self._seen()
        best = max((n for n in self.names if n not in self.fixed), key=lambda n: seen[n], default="")
        if seen[best] < 2:
            return False
        self._set(best, self._searched(best))
        return True

    def _links(self, name: str) -> tuple[dict[str, float], dict[str, float], dict[str, dict[str, float]]]:
        """Distances to fixed marks, rays from them, and directions to them by set."""
        distances = {
            other: d
            for (a, b), d in self.lengths.items()
            if name in (a, b) and (other := b if name == a else a) in self.fixed
        }
        rays = {a: z for (a, b), z in self.azimuths.items() if b == name and a in self.fixed}
        sets: dict[str, dict[str, float]] = {}
        for r in self.net.rows:
            if r.at != name or r.to not in self.fixed:
                continue
            if r.kind == "direction":
                sets.setdefault(f"set {r.set}", {}).setdefault(r.to, float(r.value[0]))
            elif r.kind == "angle" and r.back in self.fixed:
                sets.setdefault(f"angle {r.back} {r.to}", {r.back: 0.0, r.to: float(r.value[0])})
        return distances, rays, sets

    def _seen(self) -> Counter[str]:
        """How many of `_links` every mark has, of each set one less."""
        fixed, found = self.fixed, Counter[str]()
        for (at, _), lines in self._sets.items():
            found[at] += max(len({to for to, _ in lines} & fixed) - 1, 0)
        found.update(at for at, to, back in {angle[:3] for angle in self._angles} if {to, back} <= fixed)
        for a, b in self.lengths:
            if (a in fixed) != (b in fixed):
                found[b if a in fixed else a] += 1
        found.update(b for a, b in self.azimuths if a in fixed)
        return found

    def _searched(self, name: str) -> Place:
        from scipy.optimize import minimize

        distances, rays, sets = self._links(name)
        fixed = np.array([self.at[n][:2] for n in self.names if n in self.fixed])
        size = float(max(np.ptp(fixed, axis=0).max(), max(distances.values(), default=0.0), 1.0))

        def cost(e: FloatArray, n: FloatArray) -> FloatArray:
            total = np.zeros(np.shape(e))
            for other, d in distances.items():
                total = total + ((np.hypot(e - self.at[other][0], n - self.at[other][1]) - d) / size) ** 2
            for other, z in rays.items():
                total = total + wrap_all(np.arctan2(e - self.at[other][0], n - self.at[other][1]) - z) ** 2
            for seen in sets.values():
                off = [np.arctan2(self.at[o][0] - e, self.at[o][1] - n) - z for o, z in seen.items()]
                middle = np.arctan2(sum(np.sin(v) for v in off), sum(np.cos(v) for v in off))
                total = total + sum(wrap_all(v - middle) ** 2 for v in off)
            return np.asarray(total)

        steps = np.linspace(-0.5, 0.5, GRID) * REACH * size
        middle = fixed.mean(axis=0)
        e, n = np.meshgrid(middle[0] + steps + 0.0137 * size, middle[1] + steps + 0.0071 * size)
        values = cost(e, n).ravel()
        results = [
            minimize(lambda x: float(cost(x[0], x[1])), [e.ravel()[i], n.ravel()[i]], method="Nelder-Mead",
                     options={"xatol": 1e-3, "fatol": 1e-16, "maxiter": 600})
            for i in np.argsort(values)[:6]
        ]  # fmt: skip
        x = min(results, key=lambda r: r.fun).x
        return float(x[0]), float(x[1]), math.nan

    def _lift(self) -> bool:
        """The height of one mark that only slope distances give, and its plan again with it: the mark with
        most of them to marks that are known."""
        if self.net.dimensions != 3:
            return False
        slopes: dict[str, list[tuple[str, float]]] = {}
        whole = self.fixed & self.risen
        for r in self.net.rows:
            if r.kind == "distance":
                for here, there in ((r.at, r.to), (r.to, r.at)):
                    if here in self.fixed - self.risen and there in whole:
                        slopes.setdefault(here, []).append((there, float(r.value[0])))
        if not slopes:
            return False
        name = max(slopes, key=lambda n: len(slopes[n]))
        known = np.array([self.at[other] for other, _ in slopes[name]])
        place = _by_slopes(np.array(self.at[name][:2]), known, np.array([d for _, d in slopes[name]]))
        if len(slopes[name]) < 3:  # they do not place it in plan
            place = (*self.at[name][:2], place[2])
        self._put(name, place)
        return True

    def marks(self) -> tuple[Marks, tuple[str, ...]]:
        """Places as the network has them; a height that is not known is that of the neighbours' mean."""
        local = np.array([self.at[n] for n in self.names]).T
        whole = np.isfinite(local[list(self.net.axes)]).all(axis=0)
        lost = tuple(name for name, known in zip(self.names, whole.tolist(), strict=True) if not known)
        if self.net.plane or self.net.dimensions == 1:
            return Marks(names=self.names, place=np.where(np.isfinite(local), local, 0.0)), lost
        local = np.where(np.isfinite(local), local, 0.0)
        xyz = self.origin[:, None] + self.axes.T @ local
        place = np.stack(from_xyz(xyz, self.net.a, self.net.f))
        for i, name in enumerate(self.names):
            given = self.net.control.get(name)
            if given is not None:
                values = np.array([given.first, given.second, given.h])
                place[:, i] = np.where(np.isfinite(values), values, place[:, i])
        return Marks(names=self.names, place=place), lost


def _by_slopes(plan: FloatArray, known: FloatArray, lengths: FloatArray) -> Place:
    """The place with these slope distances from known ones (k, 3), from a place in plan (2,) on: the best
    found from below, amidst and above them."""
    from scipy.optimize import least_squares

    middle, reach = float(known[:, 2].mean()), float(np.ptp(known[:, 2])) + 0.2 * float(lengths.mean())
    found = [
        least_squares(
            lambda x: np.linalg.norm(known - x, axis=1) - lengths, [*plan.tolist(), middle + way * reach]
        )
        for way in (0.0, -1.0, 1.0)
    ]
    return _place(min(found, key=lambda f: f.cost).x)


def _levels(
    here: IntArray, there: IntArray, known: NDArray[np.bool_]
) -> Iterator[tuple[IntArray, IntArray, IntArray]]:
    """Marks known, marks reached from them, and the rows (k more for those gone backwards) that lead there,
    a step farther every time; rows (k,) lead from `here` to `there` and back."""
    known = known.copy()
    start, end = np.concatenate([here, there]), np.concatenate([there, here])
    order = np.argsort(start, kind="stable")
    begins = np.searchsorted(start[order], np.arange(known.size + 1))
    front = np.flatnonzero(known)
    while front.size:
        count = begins[front + 1] - begins[front]
        shift = np.repeat(begins[front] - np.concatenate([[0], np.cumsum(count)[:-1]]), count)
        rows = order[np.arange(int(count.sum())) + shift]
        rows = rows[~known[end[rows]]]
        front, first = np.unique(end[rows], return_index=True)
        known[front] = True
        if front.size:
            yield start[rows[first]], front, rows[first]


def _level(net: Network) -> tuple[FloatArray, FloatArray]:
    """Origin and axes of the level plane."""
    if net.plane or net.dimensions == 1:
        return np.zeros(3), np.eye(3)
    given = [g for g in net.control.values() if g.has[0]]
    lat = float(np.mean([g.first for g in given])) if given else 0.0
    lon = float(np.mean([g.second for g in given])) if given else 0.0
    heights = [g.h for g in given if g.has[2]]
    h = float(np.mean(heights)) if heights else 0.0
    return positions_of(net, np.array([[lat], [lon], [h]]))[:, 0], enu_axes(lat, lon)


def without(net: Network, names: set[str]) -> Network:
    """The network without some marks and what was observed to them."""
    keep: tuple[Row, ...] = tuple(r for r in net.rows if not {r.at, r.to, r.back} & names)
    control: Mapping[str, Given] = {n: g for n, g in net.control.items() if n not in names}
    return replace(net, rows=keep, control=control)
