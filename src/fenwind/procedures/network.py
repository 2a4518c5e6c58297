"""A network in one adjustment: distances, directions, angles, azimuths, zenith angles, height differences
and vectors between marks, in heights alone, in a plane, or in space.

In space every mark moves along its own east, north and up; observations are computed from geocentric
positions, exactly (network_model). What is held is a component that has no unknown. After the engine has
settled, the places about which marks move are renewed, until they stay.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import DatumDefectError, ProcedureError
from fenwind.estimation.engine import GroupAdjustment, GroupProblem, ObservationGroup, adjust
from fenwind.geodesy.geocentric import enu_axes, from_xyz
from fenwind.geodesy.refraction import EARTH_RADIUS_M
from fenwind.procedures.network_model import (
    BIASES,
    About,
    Bias,
    Ends,
    Joint,
    Marks,
    Network,
    Row,
    Sights,
    about_places,
    computed,
    near,
    positions_of,
)  # fmt: skip

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]

#: Places are renewed until marks move less than this, metres, at most so often.
SETTLED_M, ROUNDS = 1e-7, 8
SINGLE = ("distance", "horizontal_distance", "direction", "angle", "azimuth", "zenith", "height_difference")


# The problem
# ---------------------------------------------------------------------------------------------------------


@dataclass(eq=False)
class Setup:
    """The numbering of unknowns: of every mark's three components (3, m), -1 where it has none, then of
    every orientation and every bias."""

    unknowns: IntArray
    sets: dict[tuple[str, str], int]
    names: tuple[str, ...]
    biases: dict[Bias, int]


def numbering(net: Network, marks: Marks) -> Setup:
    """Number the unknowns."""
    unknowns = np.full((3, len(marks.names)), -1, dtype=np.intp)
    names: list[str] = []
    for i, name in enumerate(marks.names):
        held = net.held(name)
        for axis in net.axes:
            if not held[axis]:
                unknowns[axis, i] = len(names)
                names.append(f"{'enh'[axis]} {name}")
    sets: dict[tuple[str, str], int] = {}
    for row in net.rows:
        if row.kind == "direction" and (row.at, row.set) not in sets:
            sets[row.at, row.set] = len(names)
            names.append(f"orientation {row.set} {row.at}".replace("  ", " "))
    biases = {}
    for bias in net.biases:
        biases[bias] = len(names)
        names.append(f"{bias.kind} {bias.group}")
    return Setup(unknowns=unknowns, sets=sets, names=tuple(names), biases=biases)


@dataclass(eq=False)
class Part:
    """The observations of a kind as arrays: which rows, columns of their marks, unknowns (p, k): of the
    marks, of an orientation, and of the biases that bend some of them."""

    kind: str
    rows: IntArray
    ends: IntArray
    hi: FloatArray
    ht: FloatArray
    observed: FloatArray
    covariance: FloatArray
    unknowns: IntArray
    free: NDArray[np.bool_]
    biases: tuple[Bias, ...]


def parts_of(net: Network, marks: Marks, setup: Setup) -> list[Part]:
    """The observations by kind."""
    place = marks.index
    out = []
    numbers: dict[str, list[int]] = {kind: [] for kind in (*SINGLE, "vector")}
    for i, row in enumerate(net.rows):
        numbers[row.kind].append(i)
    for kind, rows in numbers.items():
        if not rows:
            continue
        mine = [net.rows[i] for i in rows]
        observed, covariance = _values_of(mine)
        at, to = [place[r.at] for r in mine], [place[r.to] for r in mine]
        ends = np.array([at, to, [place[r.back] for r in mine] if kind == "angle" else to], dtype=np.intp)
        index, biases = _unknowns_of(kind, mine, ends, setup)
        out.append(
            Part(
                kind=kind, rows=np.array(rows, dtype=np.intp), ends=ends, hi=np.array([r.hi for r in mine]),
                ht=np.array([r.ht for r in mine]), observed=observed,
                covariance=covariance,
                unknowns=_filled(index), free=index >= 0, biases=biases,
            )
        )  # fmt: skip
    return out


def _values_of(rows: Sequence[Row]) -> tuple[FloatArray, FloatArray]:
    """Values (b, k) of rows of one kind, and their covariances (b, b, k)."""
    k, b = len(rows), rows[0].value.size
    if b == 1:  # by far the commonest, and quicker so
        values, covariances = [r.value.item() for r in rows], [r.covariance.item() for r in rows]
        return np.array([values]), np.array([[covariances]])
    observed = np.concatenate([r.value for r in rows]).reshape(k, b).T
    covariance = np.concatenate([r.covariance for r in rows]).reshape(k, b, b).transpose(1, 2, 0)
    return np.ascontiguousarray(observed), np.ascontiguousarray(covariance)


def _unknowns_of(
    kind: str, rows: Sequence[Row], ends: IntArray, setup: Setup
) -> tuple[IntArray, tuple[Bias, ...]]:
    """Unknowns (p, k) of observations of a kind, -1 where one has none there, and the biases among them."""
    roles = 3 if kind == "angle" else 2
    unknowns = [setup.unknowns[:, ends[role]] for role in range(roles)]
    if kind == "direction":
        unknowns.append(np.array([[setup.sets[r.at, r.set] for r in rows]]))
    groups = {r.group for r in rows} if setup.biases else set()
    biases = tuple(b for b in setup.biases if kind in BIASES[b.kind][1] and b.group in groups)
    for bias in biases:
        place = setup.biases[bias]
        unknowns.append(np.array([[place if r.group == bias.group else -1 for r in rows]]))
    return np.concatenate(unknowns), biases


def _filled(index: IntArray) -> IntArray:
    """Unknowns (p, k) of observations with another one of the same observation in place of what is held, so
    that it links to nothing that it has nothing to do with."""
    first = np.take_along_axis(index, (index >= 0).argmax(axis=0)[None], axis=0)
    return np.where(index >= 0, index, np.maximum(first, 0))


def _group(net: Network, part: Part, about: About) -> ObservationGroup:
    at, to, back = part.ends
    ends = Ends(at=at, to=to, back=back, hi=part.hi, ht=part.ht)

    sights, whole = Sights(net, about, part.kind, ends), bool(part.free.all())

    def model(x: FloatArray) -> tuple[FloatArray, FloatArray]:
        value, slopes = sights.values_and_slopes(x)
        design = slopes
        if slopes.shape[1] < part.unknowns.shape[0]:  # an orientation, biases
            design = np.zeros((value.shape[0], part.unknowns.shape[0], value.shape[1]))
            design[:, : slopes.shape[1]] = slopes
        if part.kind == "direction":
            value = value - x[part.unknowns[-1]]
            design[:, -1] = -1.0
        bends = _bends(net, part, about, ends, x, value, slopes)
        for at, bend in enumerate(bends, part.unknowns.shape[0] - len(part.biases)):
            design[:, at] = bend
            value = value + np.where(part.free[at], bend * x[part.unknowns[at]], 0.0)
        if not whole:
            design = np.where(part.free, design, 0.0)
        return near(part.kind, value, part.observed), design

    return ObservationGroup(
        observed=part.observed,
        covariance=part.covariance,
        model=model,
        unknowns=part.unknowns,
        name=part.kind,
    )


def _bends(
    net: Network, part: Part, about: About, ends: Ends, x: FloatArray, value: FloatArray, slopes: FloatArray
) -> Iterator[FloatArray]:
    """How values (b, k) change with each bias of the part, a unit of it."""
    for bias in part.biases:
        if bias.kind == "scale":
            bend = value
        elif bias.kind == "height":
            bend = slopes[:, 5]  # as the target moves up
        elif bias.kind == "refraction":
            length, _ = about.values_and_slopes(net, "distance", ends, x)
            bend = -length / (2.0 * EARTH_RADIUS_M)
        elif part.kind == "vector":
            up = np.array([0.0, 0.0, 1.0]) if net.plane else about.axes[2].mean(axis=1)
            bend = np.cross(value.T, up).T
        else:
            bend = np.ones(value.shape)
        yield bend * BIASES[bias.kind][0]


def _weighted(
    net: Network, marks: Marks, about: About, setup: Setup
) -> tuple[ObservationGroup, list[tuple[str, int]]] | None:
    """The control's coordinates as observations, one a component."""
    if net.datum != "weighted":
        return None
    which, sigma, given = [], [], []
    for i, name in enumerate(marks.names):
        known = net.control.get(name)
        if known is None or known.planned:
            continue
        place = np.array([known.first, known.second, known.h])
        at = positions_of(net, np.where(np.isfinite(place), place, marks.place[:, i])[:, None])
        for axis in net.axes:
            s = known.sv if axis == 2 else known.sh
            if known.has[axis] and s > 0.0:
                which.append((i, axis))
                sigma.append(s)
                given.append(at[:, 0])
    if not which:
        return None
    columns, axes = np.array(which).T
    rows = about.axes[axes, :, columns]  # (k, 3)
    start = np.array(given)

    def model(x: FloatArray) -> tuple[FloatArray, FloatArray]:
        p = about.positions(x)[:, columns].T
        return np.einsum("ki,ki->k", rows, p - start)[None], np.ones((1, 1, columns.size))

    group = ObservationGroup(
        observed=np.zeros((1, columns.size)), covariance=(np.array(sigma) ** 2)[None, None], model=model,
        unknowns=setup.unknowns[axes, columns][None], name="control",
    )  # fmt: skip
    return group, [(marks.names[i], axis) for i, axis in which]


def _together(joint: Joint, marks: Marks, about: About, setup: Setup) -> ObservationGroup:
    """Marks known together, as one observation of all their components. Raises ProcedureError where one is
    held or has a component that takes no part."""
    columns = np.array([marks.index[n] for n in joint.names], dtype=np.intp)
    index = setup.unknowns[:, columns]
    for name, own in zip(joint.names, index.T, strict=True):
        if (own < 0).any():
            raise ProcedureError(
                f"{name} is held and known together with others at once",
                hint="Hold it or let it take part, in three dimensions",
            )
    m = columns.size
    design = np.zeros((3 * m, 3 * m, 1))
    for k, c in enumerate(columns.tolist()):
        design[3 * k : 3 * k + 3, 3 * k : 3 * k + 3, 0] = about.axes[:, :, c].T

    def model(x: FloatArray) -> tuple[FloatArray, FloatArray]:
        way = about.positions(x)[:, columns] - joint.xyz
        return way.ravel(order="F")[:, None], design

    return ObservationGroup(
        observed=np.zeros((3 * m, 1)), covariance=joint.covariance[:, :, None], model=model,
        unknowns=index.ravel(order="F")[:, None], name="joint",
    )  # fmt: skip


def _inner(net: Network, marks: Marks, about: About, setup: Setup) -> Any:
    """Inner constraints over the control marks, exact at x0 = their given coordinates."""
    if net.datum != "free":
        return None
    names = [n for n in marks.names if (g := net.control.get(n)) is not None and not g.planned]
    whole = [n for n in names if all(net.control[n].has[a] for a in net.axes)]
    if not whole:
        raise ProcedureError("no control mark gives the free network a place", hint="Give coordinates")
    columns = np.array([marks.index[n] for n in whole])
    given = np.array(
        [[g.first, g.second, g.h if g.has[2] else 0.0] for n in whole if (g := net.control[n])]
    ).T
    if net.dimensions == 1:
        given = np.vstack([marks.place[:2, columns], given[2:]])
    x0 = positions_of(net, given)
    about0 = x0 - x0.mean(axis=1, keepdims=True)
    weights = list(conditions(net, about0, x0.mean(axis=1)))  # each (3, k)

    def constraints(x: FloatArray) -> tuple[FloatArray, FloatArray]:
        d = about.positions(x)[:, columns] - x0
        value = np.array([np.sum(w * d) for w in weights])
        rows = np.zeros((len(weights), x.size))
        for c, w in enumerate(weights):
            along = np.einsum("ijk,jk->ik", about.axes[:, :, columns], w)
            index = setup.unknowns[:, columns]
            np.add.at(rows[c], index[index >= 0], along[index >= 0])
        return value, rows

    return constraints


def conditions(net: Network, x: FloatArray, middle: FloatArray) -> Any:
    """What the observations leave open: ways (3, k) that marks at x (3, k) about their middle could go."""
    kinds = {row.kind for row in net.rows}
    for axis in net.axes if net.plane or net.dimensions == 1 else (0, 1, 2):
        yield np.repeat(np.eye(3)[axis][:, None], x.shape[1], axis=1)
    if net.dimensions == 1:
        return
    up = np.array([0.0, 0.0, 1.0])
    if not net.plane:
        lat, lon, _ = from_xyz(middle, net.a, net.f)
        up = enu_axes(lat, lon)[2]
    if not kinds & {"azimuth", "vector"}:
        tilts = net.dimensions == 3 and not kinds & {"horizontal_distance", "zenith", "height_difference"}
        for turn in list(np.eye(3)) if tilts else [up]:
            yield np.cross(turn, x.T).T
    if not kinds & {"distance", "horizontal_distance", "vector", "height_difference"}:
        yield x


@dataclass(frozen=True, kw_only=True, eq=False)
class NetworkResult:
    """The engine's answer with the numbering, the places (3, m) adjusted, and which components the weighted
    control's observations are. lost: marks that nothing determines, or, in unplaced, that no starting place
    was found for; let_go: the control mark without which alone the network settles, empty for none; taken_as:
    what its control has, in words, where it settles only when that is read otherwise."""

    net: Network
    marks: Marks
    setup: Setup
    parts: list[Part]
    about: About
    found: GroupAdjustment | None
    weighted: list[tuple[str, int]]
    lost: tuple[str, ...] = ()
    unplaced: tuple[str, ...] = ()
    let_go: str = ""
    taken_as: str = ""
    x: FloatArray = field(default_factory=lambda: np.zeros(0))


def solve(net: Network, start: Marks, iterations: int = 50) -> NetworkResult:
    """Adjust from starting places, in at most so many iterations of the engine. Raises ProcedureError with
    nothing to solve, EstimationError, DatumDefectError."""
    marks = start
    setup = numbering(net, marks)
    if not setup.names:
        raise ProcedureError("every mark is held: there is nothing to solve", hint="Hold fewer marks")
    parts = parts_of(net, marks, setup)
    turns = np.zeros(len(setup.names))
    linear = _is_linear(net)
    once = linear or net.plane  # the axes of a plane do not turn
    for round_number in range(ROUNDS):
        about = about_places(net, marks.place, setup.unknowns)
        if round_number == 0:
            turns = _orientations(net, parts, about, setup)
        groups = [_group(net, part, about) for part in parts]
        control = _weighted(net, marks, about, setup)
        every = tuple(groups) if net.joint is None else (*groups, _together(net.joint, marks, about, setup))
        every = (*every, control[0]) if control is not None else every
        found = adjust(
            GroupProblem(
                names=setup.names,
                start=turns,
                groups=every,
                constraints=_inner(net, marks, about, setup),
                linear=linear,
            ),
            max_iterations=iterations,
        )
        moved = _moved(setup, found.x)
        marks = _renewed(net, marks, about, found.x)
        turns = found.x.copy()
        turns[setup.unknowns[setup.unknowns >= 0]] = 0.0
        if once or moved < SETTLED_M:
            break
    return NetworkResult(
        net=net, marks=marks, setup=setup, parts=parts, about=about, found=found,
        weighted=control[1] if control is not None else [], x=found.x,
    )  # fmt: skip


def _is_linear(net: Network) -> bool:
    """Whether observations change evenly as marks move: vectors always, heights where the earth is not
    round."""
    kinds = {row.kind for row in net.rows}
    level = {"height_difference"} if net.plane or net.dimensions == 1 else set()
    if net.biases:
        return False
    return kinds <= {"vector"} | level


def _moved(setup: Setup, x: FloatArray) -> float:
    index = setup.unknowns[setup.unknowns >= 0]
    return float(np.abs(x[index]).max(initial=0.0))


def _orientations(net: Network, parts: list[Part], about: About, setup: Setup) -> FloatArray:
    out = np.zeros(len(setup.names))
    for part in parts:
        if part.kind == "direction":
            at, to, back = (about.xyz[:, e] for e in part.ends)
            value = computed(net, "direction", at, to, back, part.hi, part.ht)
            # Backwards, so that the first of a set stays.
            out[part.unknowns[-1, ::-1]] = (value[0] - part.observed[0])[::-1]
    return out


def _renewed(net: Network, marks: Marks, about: About, x: FloatArray) -> Marks:
    """Places after a solution; what is held stays exactly what it was."""
    xyz = about.positions(x)
    place = xyz.copy() if net.plane else np.stack(from_xyz(xyz, net.a, net.f))
    for i, name in enumerate(marks.names):
        held = net.held(name)
        for axis in range(3):
            if held[axis] or axis not in net.axes:
                place[axis, i] = marks.place[axis, i]
    return Marks(names=marks.names, place=place)


# What it comes to
# ---------------------------------------------------------------------------------------------------------


def covariances_of(result: NetworkResult, columns: IntArray) -> FloatArray:
    """Covariances (3, 3, k) of marks by their columns, in their east, north, up; zeros where they do not
    move."""
    assert result.found is not None
    index = result.setup.unknowns[:, columns]
    free = index >= 0
    found = _at_hand(result)[:, :, columns]
    open_ = np.isnan(found[0, 0])
    if open_.any():
        used = _filled(index[:, open_])
        found[:, :, open_] = result.found.factor.cofactor_blocks(used, used)
    return np.where(free[:, None] & free[None], found, 0.0)


def _at_hand(result: NetworkResult) -> FloatArray:
    """Cofactors (3, 3, m) of marks that the figures of an observation of theirs have asked for already, nan
    for those of others; what belongs to a component that is held means nothing."""
    assert result.found is not None
    out = np.full((3, 3, len(result.marks.names)), np.nan)
    for part, group in zip(result.parts, result.found.groups, strict=False):
        if group.has_cofactors:
            for role in (0, 1):
                own = slice(3 * role, 3 * role + 3)
                out[:, :, part.ends[role]] = group.cofactors[own, own]
    return out


def undetermined(error: DatumDefectError, names: Sequence[str]) -> set[str]:
    """Marks that a defect is about."""
    known = set(names)
    return {n for p in error.parameters if (n := p.split(" ", 1)[1]) in known}
