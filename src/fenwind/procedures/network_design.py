"""A network before it is observed: what planned lines would be worth, which of them can be left out, and
which one more brings most.

A line is what is done along it in one go: a vector, a sighting (direction, zenith angle and distance), or a
run of levelling. What it does to the covariance Q of all marks, for its partials A and covariance S, is
Q -+ Q A' (S +- A Q A')^-1 A Q (Mikhail and Ackermann, Observations and Least Squares, 1976, chapter 11).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.estimation.distributions import normal_quantile, plan_reach
from fenwind.procedures.network import NetworkResult, parts_of
from fenwind.procedures.network_model import Ends, Network, Row, base_axes, computed, positions_of
from fenwind.procedures.regions import ellipses
from fenwind.quantities.angles import RAD_PER_SECOND

FloatArray = NDArray[np.float64]

LINE_KINDS = ("vector", "sighting", "levelling")
#: Unknowns of a network whose covariance is formed whole to look for lines.
MOST_UNKNOWNS = 900
#: Lines that are looked at together.
TOGETHER = 256
#: Redundancy under which a part of a line is needed for something to be determined.
NEEDED = 1e-9
#: Heights of vectors are worth less than places by this (common practice, no source).
UP = 2.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Accuracy:
    """What lines are worth, one sigma: vectors in plan as metres and a part of the length; of sightings the
    direction and the zenith angle in seconds, the distance as metres and a part, and the centring of
    instrument and target each along an axis; levelling for a root of kilometres."""

    vector_m: float = 0.003
    vector_part: float = 0.5e-6
    direction_s: float = 3.0
    zenith_s: float = 4.0
    distance_m: float = 0.002
    distance_part: float = 2e-6
    centring_m: float = 0.001
    levelling_m: float = 0.0015


@dataclass(frozen=True, slots=True)
class Line:
    """A planned line between two marks, by name."""

    kind: str
    at: str
    to: str


def rows_of_line(net: Network, line: Line, accuracy: Accuracy, oriented: bool = True) -> tuple[Row, ...]:
    """The observations of a line with the values that the control's coordinates give and their covariance;
    without `oriented` no direction. Raises ProcedureError for a mark without coordinates."""
    at, to = (_at(net, name) for name in (line.at, line.to))
    length = float(np.linalg.norm(to - at))
    if not length > 0.0:
        raise ProcedureError(f"{line.at} and {line.to} are in one place", hint="Move one of them")
    a = accuracy
    if line.kind == "vector":
        sigma = a.vector_m + a.vector_part * length
        place = _place(net, line.at)
        axes = base_axes(net, place[:, None])[:, :, 0]
        local = np.diag([sigma**2, sigma**2, (UP * sigma) ** 2])
        kinds = {"vector": axes.T @ local @ axes}
    elif line.kind == "levelling":
        kinds = {"height_difference": np.array([[a.levelling_m**2 * length / 1000.0]])}
    else:
        off = 2.0 * a.centring_m**2
        kinds = {
            "direction": np.array([[(a.direction_s * RAD_PER_SECOND) ** 2 + off / length**2]]),
            "zenith": np.array([[(a.zenith_s * RAD_PER_SECOND) ** 2]]),
            "distance": np.array([[(a.distance_m + a.distance_part * length) ** 2 + off]]),
        }
        if not oriented:
            del kinds["direction"]
        if net.dimensions == 2:
            del kinds["zenith"]
    zero = np.zeros(1)
    return tuple(
        Row(
            kind=kind, at=line.at, to=line.to, set="plan" if kind == "direction" else "", group=kind,
            value=computed(net, kind, at, to, to, zero, zero)[:, 0], covariance=np.asarray(covariance),
        )
        for kind, covariance in kinds.items()
    )  # fmt: skip


def _place(net: Network, name: str) -> FloatArray:
    given = net.control.get(name)
    if given is None or not all(given.has[axis] for axis in net.axes):
        raise ProcedureError(f"{name} has no coordinates", hint="Give them, as planned")
    place = np.array([given.first, given.second, given.h])
    return np.where(np.isfinite(place), place, 0.0)


def _at(net: Network, name: str) -> FloatArray:
    return positions_of(net, _place(net, name)[:, None])


def as_computed(net: Network, rows: Sequence[Row]) -> tuple[Row, ...]:
    """Rows with the values that the control's coordinates give. Raises ProcedureError for a mark without."""
    out = []
    for row in rows:
        at, to, back = (_at(net, name) for name in (row.at, row.to, row.back or row.to))
        value = computed(net, row.kind, at, to, back, np.array([row.hi]), np.array([row.ht]))[:, 0]
        out.append(replace(row, value=value))
    return tuple(out)


# What lines do
# ---------------------------------------------------------------------------------------------------------


def sizes(result: NetworkResult) -> dict[str, float]:
    """Of every mark that moves the semi-axis of its 95 % ellipse, or in heights the 95 % of its height; in
    metres."""
    assert result.found is not None
    case = _Case(result)
    return dict(zip(case.names, case.sizes(), strict=True))


def largest_with(result: NetworkResult, lines: Sequence[Sequence[Row]], more: bool) -> FloatArray:
    """The largest size of any mark with each line more, or less, (lines,); nan where without it something is
    not determined. Raises ProcedureError with too many unknowns."""
    case = _Case(result)
    out = np.full(len(lines), np.nan)
    for shape in {tuple(row.kind for row in line) for line in lines}:
        every = [i for i, line in enumerate(lines) if tuple(row.kind for row in line) == shape]
        for start in range(0, len(every), TOGETHER):
            which = every[start : start + TOGETHER]
            out[which] = case.largest([lines[i] for i in which], more)
    return out


class _Case:
    """A network with the covariance (n, n) of all its unknowns. own: their numbers (d, m) of the components
    that sizes are of, of each mark that moves in them."""

    def __init__(self, result: NetworkResult) -> None:
        assert result.found is not None
        n = len(result.setup.names)
        if n > MOST_UNKNOWNS:
            raise ProcedureError(f"{n} unknowns are too many to look for lines", hint="Plan in parts")
        self.result = result
        self.q = np.asarray(result.found.factor.cofactors())
        axes = [2] if result.net.dimensions == 1 else [0, 1]
        unknowns = result.setup.unknowns[axes]
        moving = np.flatnonzero((unknowns >= 0).all(axis=0))
        self.names = tuple(result.marks.names[i] for i in moving.tolist())
        self.own = unknowns[:, moving]

    def sizes(self) -> list[float]:
        """Sizes of the marks that move, metres."""
        return [float(v) for v in _sizes(self._block())]

    def _block(self) -> FloatArray:
        """Covariances (d, d, m) of the marks that move."""
        return np.asarray(self.q[self.own[:, None], self.own[None]])

    def largest(self, lines: Sequence[Sequence[Row]], more: bool) -> FloatArray:
        """Of lines of one make, see `largest_with`."""
        design, covariance = self._partials(lines)  # (b, n, c), (b, b, c)
        along = np.einsum("bnc,nm->bmc", design, self.q, optimize=True)
        inner = np.einsum("bmc,dmc->bdc", along, design)
        root = np.linalg.cholesky(covariance.transpose(2, 0, 1))
        white = np.linalg.solve(root, np.linalg.solve(root, inner.transpose(2, 0, 1)).transpose(0, 2, 1))
        values, vectors = np.linalg.eigh(white)
        k = np.linalg.solve(root, along.transpose(2, 0, 1))
        k = np.einsum("cbd,cbm->cdm", vectors, k)[:, :, self.own]  # (c, b, d, m)
        block = self._block()
        if more:
            change = -np.einsum("cbim,cbjm->cijm", k / (1.0 + values)[:, :, None, None], k)
            lost = np.zeros(len(lines), dtype=bool)
        else:
            left = 1.0 - values
            needed = left < NEEDED
            worth = (k**2).sum(axis=(2, 3)) > 1e-18
            lost = (needed & worth).any(axis=1)
            part = np.where(needed, 0.0, 1.0 / np.where(needed, 1.0, left))
            change = np.einsum("cbim,cbjm->cijm", k * part[:, :, None, None], k)
        out = np.array([float(_sizes(block + one).max(initial=0.0)) for one in change])
        out[lost] = np.nan
        return out

    def _partials(self, lines: Sequence[Sequence[Row]]) -> tuple[FloatArray, FloatArray]:
        """Partials (b, n, c) and covariances (b, b, c) of c lines of one make."""
        net, marks, setup = self.result.net, self.result.marks, self.result.setup
        c, n = len(lines), len(setup.names)
        designs, blocks = [], []
        for k in range(len(lines[0])):
            rows = tuple(line[k] for line in lines)
            (part,) = parts_of(replace(net, rows=rows), marks, setup)
            at, to, back = part.ends
            ends = Ends(at=at, to=to, back=back, hi=part.hi, ht=part.ht)
            _, slopes = self.result.about.values_and_slopes(net, part.kind, ends, self.result.x)
            values = np.zeros((slopes.shape[0], part.unknowns.shape[0], c))
            values[:, : slopes.shape[1]] = slopes
            if part.kind == "direction":
                values[:, -1] = -1.0
            values = np.where(part.free, values, 0.0)
            whole = np.zeros((values.shape[0], n, c))
            for p in range(values.shape[1]):
                for b in range(values.shape[0]):
                    np.add.at(whole[b], (part.unknowns[p], np.arange(c)), values[b, p])
            designs.append(whole)
            blocks.append(part.covariance)
        b = sum(block.shape[0] for block in blocks)
        covariance, place = np.zeros((b, b, c)), 0
        for block in blocks:
            covariance[place : place + block.shape[0], place : place + block.shape[0]] = block
            place += block.shape[0]
        return np.concatenate(designs), covariance


def _sizes(blocks: FloatArray) -> FloatArray:
    """Sizes (m,) of covariances (d, d, m)."""
    if blocks.shape[0] == 1:
        return np.asarray(normal_quantile(0.975) * np.sqrt(np.maximum(blocks[0, 0], 0.0)))
    return np.asarray(plan_reach() * ellipses(blocks)[0])


def candidates(net: Network, lines: Sequence[Line], kinds: Sequence[str]) -> list[Line]:
    """Lines that are not planned yet, of some kinds, between any two marks one of which moves; sightings from
    marks that an instrument stands on already."""
    names = [n for n in net.control if all(net.control[n].has[axis] for axis in net.axes)]
    stations = {line.at for line in lines if line.kind == "sighting"}
    planned = {_key(line) for line in lines}
    out = []
    for kind in kinds:
        for i, a in enumerate(names):
            for b in names[i + 1 :]:
                if all(all(net.held(n)[axis] for axis in net.axes) for n in (a, b)):
                    continue
                ways = ((a, b), (b, a)) if kind == "sighting" else ((a, b),)
                fresh = [Line(kind, at, to) for at, to in ways if kind != "sighting" or at in stations]
                out += [line for line in fresh if _key(line) not in planned]
    return out


def _key(line: Line) -> tuple[str, str, str]:
    """The same for lines that are one: a sighting has a way, others have none."""
    a, b = (line.at, line.to) if line.kind == "sighting" else sorted((line.at, line.to))
    return line.kind, a, b
