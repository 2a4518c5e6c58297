"""What is observed in a network and what it should be: values of distances, directions, angles, azimuths,
zenith angles, height differences and vectors from positions of marks, and how they change as marks move."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.geocentric import GRS80_A, GRS80_F, enu_axes, from_xyz, to_xyz
from fenwind.geodesy.refraction import EARTH_RADIUS_M
from fenwind.quantities.angles import RAD_PER_SECOND, wrap_all

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]
Datum = Literal["hold", "weighted", "free"]
#: Geoid heights at latitudes and longitudes (radians).
Geoid = Callable[[FloatArray, FloatArray], FloatArray]


@dataclass(slots=True, kw_only=True, eq=False)
class Row:
    """One observation: value (b,), metres or radians, and its covariance (b, b). hi, ht: axis above `at`,
    target above `to`. back: the first target of an angle. group: of variance components and biases."""

    kind: str
    at: str
    to: str
    value: FloatArray
    covariance: FloatArray
    back: str = ""
    set: str = ""
    group: str = ""
    hi: float = 0.0
    ht: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Given:
    """A control mark: e, n, h of a plane, or latitude, longitude (radians) and ellipsoidal height; nan for
    what is not given. sh, sv: sigmas, nan or 0 for none. planned: only where it starts."""

    first: float
    second: float
    h: float
    sh: float = math.nan
    sv: float = math.nan
    planned: bool = False

    @property
    def has(self) -> tuple[bool, bool, bool]:
        """Which of the three are given."""
        plan = math.isfinite(self.first) and math.isfinite(self.second)
        return plan, plan, math.isfinite(self.h)


#: What a bias is of: the unit of its value in metres, radians or parts, and the kinds of observation it
#: bends.
BIASES = {
    "scale": (1e-6, ("distance", "horizontal_distance", "vector")),
    "turn": (RAD_PER_SECOND, ("azimuth", "vector")),
    "refraction": (1.0, ("zenith",)),
    "height": (1.0, ("vector", "height_difference", "zenith", "distance")),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Bias:
    """What all observations of a group have in common beside the truth: their scale (ppm), a turn (seconds,
    of vectors about the vertical in the middle of the network), a coefficient of refraction beside the
    network's, or a height of the target over what was booked (metres)."""

    kind: str
    group: str


@dataclass(frozen=True, kw_only=True, eq=False)
class Joint:
    """Positions xyz (3, m) of marks known together, geocentric or of the plane, with the covariance (3m, 3m)
    of all components, mark by mark."""

    names: tuple[str, ...]
    xyz: FloatArray
    covariance: FloatArray


@dataclass(frozen=True, kw_only=True, eq=False)
class Network:
    """What to adjust. dimensions: 1 heights, 2 plan, 3; plane: e, n, h are rectangular. hold: names that are
    held, None for all of the control. joint: marks known together, which take part with their weight."""

    rows: tuple[Row, ...]
    control: Mapping[str, Given]
    dimensions: int
    plane: bool
    datum: Datum = "hold"
    hold: frozenset[str] | None = None
    a: float = GRS80_A
    f: float = GRS80_F
    k: float = 0.13
    geoid: Geoid | None = None
    biases: tuple[Bias, ...] = ()
    joint: Joint | None = None

    def held(self, name: str) -> tuple[bool, bool, bool]:
        """Which of a mark's three components are held."""
        given = self.control.get(name)
        if given is None or given.planned or self.datum == "free":
            return False, False, False
        if self.datum == "weighted":
            weight = (given.sh > 0.0, given.sh > 0.0, given.sv > 0.0)
            e, n, h = (has and not w for has, w in zip(given.has, weight, strict=True))
            return e, n, h
        if self.hold is not None and name not in self.hold:
            return False, False, False
        return given.has

    @property
    def axes(self) -> tuple[int, ...]:
        """Which of e, n, h a mark moves along."""
        return {1: (2,), 2: (0, 1), 3: (0, 1, 2)}[self.dimensions]


@dataclass(frozen=True, kw_only=True, eq=False)
class Marks:
    """Places of marks: names, and (3, m) e, n, h of a plane or latitude, longitude, height."""

    names: tuple[str, ...]
    place: FloatArray

    @cached_property
    def index(self) -> dict[str, int]:
        """Column of each."""
        return {name: i for i, name in enumerate(self.names)}


# Geometry
# ---------------------------------------------------------------------------------------------------------


def verticals(net: Network, xyz: FloatArray) -> FloatArray:
    """East, north and up (3, 3, k) as rows at positions; with a geoid up is the plumb line's."""
    if net.plane:
        return np.repeat(np.eye(3)[:, :, None], xyz.shape[1], axis=2)
    lat, lon, _ = from_xyz(xyz, net.a, net.f)
    axes = enu_axes(lat, lon)
    if net.geoid is None:
        return axes
    xi, eta = deflection(net, lat, lon)
    up = axes[2] + xi * axes[1] + eta * axes[0]
    up = up / np.linalg.norm(up, axis=0)
    north = axes[1] - np.einsum("ik,ik->k", axes[1], up) * up
    north = north / np.linalg.norm(north, axis=0)
    east = np.cross(north.T, up.T).T
    return np.stack([east, north, up])


def deflection(net: Network, lat: FloatArray, lon: FloatArray) -> tuple[FloatArray, FloatArray]:
    """xi and eta: minus the slope of the geoid to the north and to the east, over 100 m each way."""
    assert net.geoid is not None
    e2 = net.f * (2.0 - net.f)
    w = np.sqrt(1.0 - e2 * np.sin(lat) ** 2)
    north, east = net.a * (1.0 - e2) / w**3, net.a / w * np.cos(lat)
    dlat, dlon = 100.0 / north, 100.0 / east
    xi = -(net.geoid(lat + dlat, lon) - net.geoid(lat - dlat, lon)) / 200.0
    eta = -(net.geoid(lat, lon + dlon) - net.geoid(lat, lon - dlon)) / 200.0
    return xi, eta


def computed(
    net: Network, kind: str, at: FloatArray, to: FloatArray, back: FloatArray, hi: FloatArray, ht: FloatArray
) -> FloatArray:
    """Values (b, k) of observations from positions (3, k), directions and angles without orientation."""
    if kind == "vector":
        return np.asarray(to - at)
    if kind == "height_difference":
        return np.asarray(_height(net, to) - _height(net, at))[None]
    axes = verticals(net, at)
    axis = at + hi * axes[2]
    line = to + ht * verticals(net, to)[2] - axis
    if net.dimensions == 2:
        line = np.vstack([line[:2], np.zeros((1, line.shape[1]))])
    if kind == "distance":
        return np.asarray(np.linalg.norm(line, axis=0))[None]
    e, n, u = np.einsum("ijk,jk->ik", axes, line)
    if kind == "zenith":
        s = np.linalg.norm(line, axis=0)
        bend = 0.0 if net.plane else net.k * s / (2.0 * EARTH_RADIUS_M)
        return np.asarray(np.arctan2(np.hypot(e, n), u) - bend)[None]
    if kind == "horizontal_distance":
        return _seen(net, kind, np.stack([e, n, u]))[0][None]
    azimuth = np.arctan2(e, n)
    if kind == "angle":
        e0, n0, _ = np.einsum("ijk,jk->ik", axes, back - axis)
        azimuth = azimuth - np.arctan2(e0, n0)
    return np.asarray(azimuth)[None]


def _height(net: Network, xyz: FloatArray) -> FloatArray:
    if net.plane:
        return np.asarray(xyz[2])
    lat, lon, h = from_xyz(xyz, net.a, net.f)
    return h if net.geoid is None else h - net.geoid(lat, lon)


def positions_of(net: Network, place: FloatArray) -> FloatArray:
    """Positions (3, m) of places."""
    return place if net.plane else to_xyz(place[0], place[1], place[2], net.a, net.f)


def base_axes(net: Network, place: FloatArray) -> FloatArray:
    """East, north, up (3, 3, m) of the ellipsoid's normal that marks move along, as rows."""
    if net.plane:
        return np.repeat(np.eye(3)[:, :, None], place.shape[1], axis=2)
    return enu_axes(place[0], place[1])


# As marks move
# ---------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, kw_only=True, eq=False)
class Ends:
    """Of observations of one kind (k,): columns of the marks at, to and back, and heights over them."""

    at: IntArray
    to: IntArray
    back: IntArray
    hi: FloatArray
    ht: FloatArray


@dataclass(eq=False)
class About:
    """Where m marks move about: positions (3, m), and the axes that they move along (3, 3, m), as rows
    east, north, up of the ellipsoid; verticals (3, 3, m): of the plumb line there; height: of the places
    over the geoid, slope (2, m): how the geoid rises to east and north; turning (2, 3, m): how the axes
    turn about east, north and up, radians a metre, as the mark moves east and north."""

    xyz: FloatArray
    axes: FloatArray
    unknowns: IntArray
    verticals: FloatArray
    height: FloatArray
    slope: FloatArray
    turning: FloatArray
    _last: tuple[FloatArray, FloatArray] | None = field(default=None, init=False, repr=False)
    _lines: dict[bytes, _Line] = field(default_factory=dict, init=False, repr=False)

    def moves(self, x: FloatArray) -> FloatArray:
        """East, north, up (3, m) that marks have moved for values of the unknowns."""
        if not x.size:
            return np.zeros(self.xyz.shape)
        return np.where(self.unknowns >= 0, x[np.maximum(self.unknowns, 0)], 0.0)

    def positions(self, x: FloatArray) -> FloatArray:
        """Positions (3, m) for values of the unknowns."""
        return np.asarray(self.xyz + np.einsum("ijm,im->jm", self.axes, self.moves(x)))

    def values_and_slopes(
        self, net: Network, kind: str, ends: Ends, x: FloatArray
    ) -> tuple[FloatArray, FloatArray]:
        """Values (b, k) without orientation, and how they change (b, 3 r, k) as each of r marks moves east,
        north and up. Plumb lines are those of the places about which marks move: places are renewed until
        they stay."""
        return Sights(net, self, kind, ends).values_and_slopes(x)

    def moved(self, x: FloatArray) -> FloatArray:
        """Ways (3, m) that marks have moved, geocentric; the same array for an x like the last."""
        if self._last is None or not np.array_equal(self._last[0], x):
            self._last = x.copy(), np.asarray(np.einsum("ijm,im->jm", self.axes, self.moves(x)))
        return self._last[1]

    def line(self, net: Network, at: IntArray, to: IntArray, hi: FloatArray, ht: FloatArray) -> _Line:
        """Lines from instruments to targets; the same for all that was measured along them."""
        key = b"|".join(part.tobytes() for part in (at, to, hi, ht))
        if key not in self._lines:
            self._lines[key] = _Line(net, self, at, to, hi, ht)
        return self._lines[key]

    def between(self, at: IntArray, to: IntArray, moved: FloatArray) -> FloatArray:
        """Vectors (3, k) from marks to marks. The large numbers are taken from each other first, so that
        nothing of a small move is lost in them."""
        return np.asarray((self.xyz[:, to] - self.xyz[:, at]) + (moved[:, to] - moved[:, at]))


class Sights:
    """Observations of one kind about places: what stays as long as the places do is worked out once."""

    def __init__(self, net: Network, about: About, kind: str, ends: Ends) -> None:
        self.net, self.about, self.kind, self.ends = net, about, kind, ends
        if kind == "vector":
            ways = [s * about.axes[:, :, e].transpose(1, 0, 2) for s, e in ((-1.0, ends.at), (1.0, ends.to))]
            self._slopes = np.concatenate(ways, axis=1)
        elif kind == "height_difference":
            slope = np.stack([-about.slope[0], -about.slope[1], np.ones(about.xyz.shape[1])])
            self._slopes = np.concatenate([-slope[:, ends.at], slope[:, ends.to]])[None]
        else:
            self._line = about.line(net, ends.at, ends.to, ends.hi, ends.ht)
        if kind == "angle":
            self._back = about.line(net, ends.at, ends.back, ends.hi, np.zeros(ends.at.size))

    def values_and_slopes(self, x: FloatArray) -> tuple[FloatArray, FloatArray]:
        """See About."""
        about, ends = self.about, self.ends
        if self.kind == "vector":
            return about.between(ends.at, ends.to, about.moved(x)), self._slopes
        if self.kind == "height_difference":
            return self._heights(x), self._slopes
        moved = about.moved(x)
        local, ways = self._line.at(moved)
        value, slope = _seen(self.net, "azimuth" if self.kind == "angle" else self.kind, local)
        found = _along(slope, ways)
        if self.kind == "angle":
            back, ways = self._back.at(moved)
            first, slope = _seen(self.net, "azimuth", back)
            behind = _along(slope, ways)
            found = np.concatenate([found[:3] - behind[:3], found[3:], -behind[3:]])
            value = value - first
        return value[None], found[None]

    def _heights(self, x: FloatArray) -> FloatArray:
        about, ends = self.about, self.ends
        moves = about.moves(x)
        height = about.height + moves[2] - np.einsum("am,am->m", about.slope, moves[:2])
        if not self.net.plane:
            height = height + (moves[0] ** 2 + moves[1] ** 2) / (2.0 * EARTH_RADIUS_M)
        return np.asarray(height[ends.to] - height[ends.at])[None]


class _Line:
    """Lines from axes of instruments to targets: base (3, k) between them where no mark has moved; ways
    (3, 6, k): how their components in east, north, up of the instrument change as the instrument moves, but
    for the turning of its axes, and as the target does."""

    def __init__(
        self, net: Network, about: About, at: IntArray, to: IntArray, hi: FloatArray, ht: FloatArray
    ) -> None:
        self._at, self._to, self._about = at, to, about
        self._axes = about.verticals[:, :, at]
        self._base = (about.xyz[:, to] - about.xyz[:, at]) - hi * self._axes[2]
        self._base += ht * about.verticals[2][:, to]
        ends = np.concatenate([-about.axes[:, :, at], about.axes[:, :, to]])
        self._ways = np.einsum("ijk,ajk->iak", self._axes, ends)
        self._flat = net.dimensions == 2
        self._turning, self._turns = about.turning[:, :, at], not net.plane
        self._last: tuple[FloatArray, FloatArray, FloatArray] | None = None
        if self._flat:
            self._ways[2] = 0.0

    def at(self, moved: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Components (3, k) for ways (3, m) that marks have moved, and how they change (3, 6, k) as the
        instrument and the target move. The large numbers were taken from each other first, so that nothing
        of a small move is lost in them."""
        if self._last is None or self._last[0] is not moved:
            line = self._base + (moved[:, self._to] - moved[:, self._at])
            local = np.einsum("ijk,jk->ik", self._axes, line)
            ways = self._ways
            if self._flat:
                local[2] = 0.0
            elif self._turns:
                ways = ways.copy()
                ways[:, :2] += _turned(self._turning, local)
            self._last = moved, local, ways
        return self._last[1], self._last[2]


def _along(slope: FloatArray, ways: FloatArray) -> FloatArray:
    return np.asarray(np.einsum("ik,iak->ak", slope, ways))


def _turned(turning: FloatArray, local: FloatArray) -> FloatArray:
    """How the components (3, 2, k) of a line change as its axes turn (2, 3, k)."""
    e, n, u = local
    about_e, about_n, about_u = turning[:, 0], turning[:, 1], turning[:, 2]
    # A fixed line in axes that turn: minus the turn, crossed with it.
    return np.stack([about_u * n - about_n * u, about_e * u - about_u * e, about_n * e - about_e * n])


def _seen(net: Network, kind: str, local: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Distance, horizontal distance, zenith angle or azimuth (k,) of a line in east, north, up (3, k), and
    its slopes (3, k). Horizontal is across the vertical halfway, at the mean height: along it the line rises
    by what it does at its start and by the curvature d^2 / 2R."""
    e, n, u = local
    s = np.sqrt(e * e + n * n + u * u)
    if kind == "distance":
        return s, local / s
    plan = np.hypot(e, n)
    if kind == "horizontal_distance":
        c = 0.0 if net.plane else 1.0 / (2.0 * EARTH_RADIUS_M)
        rise = u + c * plan * plan
        value = np.sqrt(plan * plan + (u - rise) * (u + rise))
        return value, np.stack([e * (1.0 - 2.0 * c * rise), n * (1.0 - 2.0 * c * rise), u - rise]) / value
    if kind == "zenith":
        bend = 0.0 if net.plane else net.k / (2.0 * EARTH_RADIUS_M)
        slope = np.stack([e * u / plan, n * u / plan, -plan]) / (s * s) - bend * local / s
        return np.asarray(np.arctan2(plan, u) - bend * s), slope
    return np.arctan2(e, n), np.stack([n, -e, np.zeros(e.shape)]) / (plan * plan)


def about_places(net: Network, place: FloatArray, unknowns: IntArray) -> About:
    """What marks move about: their places (3, m)."""
    xyz, axes = positions_of(net, place), base_axes(net, place)
    zero = np.zeros(place.shape[1])
    if net.plane:
        return About(
            xyz=xyz, axes=axes, unknowns=unknowns, verticals=axes, height=place[2],
            slope=np.zeros((2, zero.size)), turning=np.zeros((2, 3, zero.size)),
        )  # fmt: skip
    slope, height = np.zeros((2, zero.size)), place[2]
    if net.geoid is not None:
        xi, eta = deflection(net, place[0], place[1])
        slope, height = np.stack([-eta, -xi]), place[2] - net.geoid(place[0], place[1])
    e2 = net.f * (2.0 - net.f)
    w = np.sqrt(1.0 - e2 * np.sin(place[0]) ** 2)
    east, north = 1.0 / (net.a / w + place[2]), 1.0 / (net.a * (1.0 - e2) / w**3 + place[2])
    # Moving east turns the axes about the earth's axis, moving north about the west.
    turning = np.stack([np.stack([zero, east, east * np.tan(place[0])]), np.stack([-north, zero, zero])])
    return About(
        xyz=xyz, axes=axes, unknowns=unknowns, verticals=verticals(net, xyz), height=height, slope=slope,
        turning=turning,
    )  # fmt: skip


def near(kind: str, value: Any, to: Any) -> FloatArray:
    """An angle as the one nearest to another."""
    if kind not in ("direction", "angle", "azimuth"):
        return np.asarray(value)
    return np.asarray(to + wrap_all(value - to))
