"""What a solved network says of many marks at once: their joint covariance, what it leaves open, the same
network without anything held, and the biases of its groups."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.geodesy.geocentric import enu_axes, from_xyz
from fenwind.procedures.network import NetworkResult, conditions, solve
from fenwind.procedures.network_model import Bias, Given, Network, positions_of

FloatArray = NDArray[np.float64]


def bias_figures(result: NetworkResult) -> list[tuple[Bias, float, float]]:
    """Each bias with its value and sigma, in its unit."""
    assert result.found is not None
    out = []
    for bias, place in result.setup.biases.items():
        at = np.array([[place]])
        sigma = float(np.sqrt(result.found.factor.cofactor_blocks(at, at)[0, 0, 0]))
        out.append((bias, float(result.x[place]), sigma))
    return out


def joint_positions(result: NetworkResult, names: Sequence[str]) -> tuple[FloatArray, FloatArray]:
    """Positions (3, m) of marks, and the covariance of all their components that take part, along their own
    east, north and up, one mark after the other."""
    assert result.found is not None
    columns = np.array([result.marks.index[n] for n in names], dtype=np.intp)
    index = result.setup.unknowns[list(result.net.axes)][:, columns].ravel(order="F")
    at = np.maximum(index, 0)
    n = at.size
    pairs = np.meshgrid(at, at, indexing="ij")
    whole = result.found.factor.cofactor_blocks(pairs[0].reshape(1, -1), pairs[1].reshape(1, -1))
    fine = (index >= 0)[:, None] & (index >= 0)[None]
    return positions_of(result.net, result.marks.place[:, columns]), np.where(fine, whole.reshape(n, n), 0.0)


def geocentric_solution(result: NetworkResult) -> tuple[tuple[str, ...], FloatArray, FloatArray, FloatArray]:
    """Marks all of whose components are unknown: names, geocentric positions (3, m), covariance (3m, 3m)
    mark by mark, and latitudes, longitudes in degrees and heights (3, m). Raises ProcedureError on a plane
    and where there is none."""
    net = result.net
    moving: list[bool] = np.all(result.setup.unknowns >= 0, axis=0).tolist()
    names = tuple(n for n, free in zip(result.marks.names, moving, strict=True) if free)
    if net.plane or net.dimensions != 3 or not names:
        raise ProcedureError(
            "there is no mark with a geocentric position of its own",
            hint="Adjust in three dimensions on the ellipsoid",
        )
    xyz, local = joint_positions(result, names)
    axes, m = own_axes(result, names), len(names)
    blocks = local.reshape(m, 3, m, 3)
    covariance = np.einsum("iam,minj,jbn->manb", axes, blocks, axes, optimize=True).reshape(3 * m, 3 * m)
    lat, lon, h = from_xyz(xyz, net.a, net.f)
    return names, xyz, covariance, np.stack([np.degrees(lat), np.degrees(lon), h])


def bearing_on(result: NetworkResult, name: str) -> list[tuple[int, float]]:
    """What the observations of a mark do to it: rows with how far one sigma of each moves it, metres, the
    most first; nothing for a mark that is held."""
    assert result.found is not None
    column = result.marks.index[name]
    own = result.setup.unknowns[list(result.net.axes), column]
    own = own[own >= 0]
    out: list[tuple[int, float]] = []
    for part, group in zip(result.parts, result.found.groups, strict=False):
        mine = np.flatnonzero((part.ends == column).any(axis=0)) if own.size else np.zeros(0, dtype=np.intp)
        if not mine.size:
            continue
        _, design = group.group.model(result.x)
        used = part.unknowns[:, mine]
        first = np.repeat(own[:, None], mine.size, axis=1)
        q = result.found.factor.cofactor_blocks(first, used)
        # Q A' P L: what one sigma of each component, whitened, does.
        lower = np.linalg.cholesky(part.covariance[:, :, mine].transpose(2, 0, 1))
        white = np.linalg.solve(lower, design[:, :, mine].transpose(2, 0, 1))
        ways = np.einsum("apk,kbp->kab", q, white)
        sizes = np.sqrt((ways**2).sum(axis=(1, 2)))
        out += zip(part.rows[mine].tolist(), sizes.tolist(), strict=True)
    return sorted(out, key=lambda pair: -pair[1])


def free_of(result: NetworkResult, xyz: FloatArray) -> FloatArray:
    """What the observations leave open, (u, f): how the components of marks at xyz (3, m) that take part,
    along their own axes, one mark after the other, move with it. Columns are of like size."""
    net = result.net
    middle = xyz.mean(axis=1)
    about = xyz - middle[:, None]
    size = float(np.sqrt((about**2).sum(axis=0).mean())) or 1.0
    axes = _axes_at(net, xyz)
    ways = [np.einsum("ijm,jm->im", axes, w)[list(net.axes)] for w in conditions(net, about / size, middle)]
    return np.stack([w.ravel(order="F") for w in ways], axis=1)


def own_axes(result: NetworkResult, names: Sequence[str]) -> FloatArray:
    """East, north, up (3, 3, m) of marks, as rows."""
    columns = [result.marks.index[n] for n in names]
    return _axes_at(result.net, positions_of(result.net, result.marks.place[:, columns]))


def _axes_at(net: Network, xyz: FloatArray) -> FloatArray:
    if net.plane:
        return np.repeat(np.eye(3)[:, :, None], xyz.shape[1], axis=2)
    lat, lon, _ = from_xyz(xyz, net.a, net.f)
    return enu_axes(lat, lon)


def free_again(result: NetworkResult, names: Sequence[str], about: NetworkResult) -> NetworkResult:
    """A network adjusted again without anything held, lying on marks where another has them. Raises what
    `solve` does."""
    at, place = about.marks.index, about.marks.place
    control = {
        n: Given(first=place[0, at[n]], second=place[1, at[n]], h=place[2, at[n]]) for n in names if n in at
    }
    return solve(replace(result.net, datum="free", control=control, hold=None), result.marks)
