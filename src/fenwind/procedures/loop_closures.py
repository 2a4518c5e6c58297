"""What closes in a network before anything is adjusted: loops of vectors and of height differences,
triangles, distances that were measured again."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import chain, combinations

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.refraction import EARTH_RADIUS_M
from fenwind.quantities.angles import RAD_PER_SECOND

FloatArray = NDArray[np.float64]

#: A misclosure is over its limit above so many sigmas; two-sided 0.1 %.
REACH = 3.29
#: Loops are looked for from every mark while marks times rows stay under this, else from every row.
WHOLE_SEARCH = 20_000
#: Triangles that are looked at from one row.
TRIANGLES = 20


@dataclass(slots=True, kw_only=True, eq=False)
class Leg:
    """A row between two marks: its line in the file, its values (b,), and their covariance (b, b)."""

    line: int
    at: str
    to: str
    value: FloatArray
    covariance: FloatArray


@dataclass(frozen=True, slots=True, kw_only=True)
class Corner:
    """An interior angle of a triangle, radians, with the lines it comes from and its variance."""

    angle: float
    lines: tuple[int, ...]
    variance: float


@dataclass(slots=True, kw_only=True, eq=False)
class Closure:
    """A loop: names in walking order, the first again at the end; misclosure, sigma and limit (b,) in metres,
    seconds for a triangle; length nan where it has none."""

    kind: str
    names: tuple[str, ...]
    lines: tuple[int, ...]
    misclosure: FloatArray
    sigma: FloatArray
    limit: FloatArray
    length: float = math.nan

    @property
    def over(self) -> bool:
        """Whether a component is over its limit."""
        return bool((np.abs(self.misclosure) > self.limit).any())


Limit = tuple[float, float] | None


def _limits(sigma: FloatArray, limit: Limit, length: float) -> FloatArray:
    if limit is None:
        return REACH * sigma
    return np.full(sigma.shape, limit[0] + limit[1] * (0.0 if math.isnan(length) else length))


# Loops
# ---------------------------------------------------------------------------------------------------------


def closures(kind: str, legs: Sequence[Leg], limit: Limit = None) -> list[Closure]:
    """A basis of the loops of legs, short ones first. limit: metres and a part of the length."""
    walks = loop_basis([(leg.at, leg.to) for leg in legs])
    if not walks:
        return []
    ends = np.cumsum([0] + [len(walk) for walk in walks[:-1]])
    rows, signs = np.array([step for walk in walks for step in walk]).T
    values = np.array([leg.value for leg in legs])
    variances = np.array([np.diagonal(leg.covariance) for leg in legs])
    totals = np.add.reduceat(signs[:, None] * values[rows], ends)
    sigmas = np.sqrt(np.add.reduceat(variances[rows], ends))
    lengths = np.add.reduceat(np.sqrt((values**2).sum(axis=1))[rows], ends).tolist()
    out = []
    for i, walk in enumerate(walks):
        names = [legs[k].at if sign > 0 else legs[k].to for k, sign in walk]
        length = lengths[i] if kind == "vector" else math.nan
        out.append(
            Closure(
                kind=kind, names=(*names, names[0]), lines=tuple(legs[k].line for k, _ in walk),
                misclosure=totals[i], sigma=sigmas[i], limit=_limits(sigmas[i], limit, length), length=length,
            )
        )  # fmt: skip
    return out


Walk = list[tuple[int, int]]


def loop_basis(edges: Sequence[tuple[str, str]]) -> list[Walk]:
    """Independent loops, as many as edges - marks + parts, each as edges with the sign they are walked in;
    chosen from the shortest ways (Horton, SIAM Journal on Computing 16, 1987)."""
    ways: dict[str, list[tuple[int, str]]] = {}
    for k, (a, b) in enumerate(edges):
        ways.setdefault(a, []).append((k, b))
        ways.setdefault(b, []).append((k, a))
    rank = len(edges) - len(ways) + _parts(ways)
    pivots: dict[int, int] = {}
    out: list[Walk] = []
    # Those of one tree, long ones among them, are seldom needed and made only then.
    for walk in chain(sorted(_candidates(edges, ways), key=len), _fundamental(edges, ways)):
        if len(out) == rank:
            break
        bits = 0
        for k, _ in walk:
            bits ^= 1 << k
        while bits and (top := bits.bit_length()) in pivots:
            bits ^= pivots[top]
        if bits:
            pivots[bits.bit_length()] = bits
            out.append(walk)
    return out


def _parts(ways: dict[str, list[tuple[int, str]]]) -> int:
    seen: set[str] = set()
    count = 0
    for name in ways:
        if name not in seen:
            count += 1
            seen |= set(_tree(ways, name))
    return count


def _tree(
    ways: dict[str, list[tuple[int, str]]], root: str, without: int = -1, until: str = ""
) -> dict[str, tuple[int, str]]:
    """By mark the edge and the mark that lead back to the root on a shortest way, without an edge; no farther
    than to a mark that is sought."""
    back: dict[str, tuple[int, str]] = {root: (-1, "")}
    queue = deque([root])
    while queue and until not in back:
        here = queue.popleft()
        for k, there in ways[here]:
            if there not in back and k != without:
                back[there] = (k, here)
                queue.append(there)
    return back


def _candidates(edges: Sequence[tuple[str, str]], ways: dict[str, list[tuple[int, str]]]) -> Iterator[Walk]:
    if len(ways) * len(edges) > WHOLE_SEARCH:
        yield from _nearby(edges, ways)
        return
    for root in ways:
        back = _tree(ways, root)
        for k, (a, b) in enumerate(edges):
            if a not in back or back[a][0] == k or back[b][0] == k:
                continue
            up, down = _way(back, a), _way(back, b)
            if not set(up) & set(down):
                yield _signed(edges, [*up[::-1], k, *down], root)


def _nearby(edges: Sequence[tuple[str, str]], ways: dict[str, list[tuple[int, str]]]) -> Iterator[Walk]:
    """What was measured again, triangles, and a shortest loop of every edge that is in neither."""
    beside: dict[str, dict[str, int]] = {}
    for name, near in ways.items():
        mine = beside.setdefault(name, {})
        for k, there in near:
            mine.setdefault(there, k)
    for k, (a, b) in enumerate(edges):
        if a != b and beside[a][b] != k:
            yield _signed(edges, [k, beside[a][b]], a)
            continue
        third = (beside[a].keys() & beside[b].keys()) - {a, b}
        for c in sorted(c for c in third if c > a and c > b)[:TRIANGLES]:  # each triangle once
            yield _signed(edges, [k, beside[b][c], beside[a][c]], a)
        if not third:
            back = _tree(ways, b, k, a)
            if a in back:
                yield _signed(edges, [k, *_way(back, a)[::-1]], a)


def _fundamental(edges: Sequence[tuple[str, str]], ways: dict[str, list[tuple[int, str]]]) -> Iterator[Walk]:
    """Loops of one tree of every part: a basis for sure, if not of short loops."""
    seen: set[str] = set()
    for root in ways:
        if root in seen:
            continue
        back = _tree(ways, root)
        seen |= set(back)
        for k, (a, b) in enumerate(edges):
            if a in back and back[a][0] != k and back[b][0] != k:
                up, down = _way(back, a), _way(back, b)
                while up and down and up[-1] == down[-1]:
                    up.pop()
                    down.pop()
                start = a
                for e in up:
                    start = edges[e][0] if edges[e][1] == start else edges[e][1]
                yield _signed(edges, [*up[::-1], k, *down], start)


def _way(back: dict[str, tuple[int, str]], name: str) -> list[int]:
    """Edges from a mark to the root."""
    out = []
    while back[name][0] >= 0:
        out.append(back[name][0])
        name = back[name][1]
    return out


def _signed(edges: Sequence[tuple[str, str]], path: list[int], start: str) -> Walk:
    out: Walk = []
    for k in path:
        a, b = edges[k]
        sign = 1 if a == start else -1
        out.append((k, sign))
        start = b if sign > 0 else a
    return out


# Triangles and repeated distances
# ---------------------------------------------------------------------------------------------------------


def triangles(
    corners: dict[tuple[str, frozenset[str]], Corner], sides: dict[frozenset[str], float], plane: bool
) -> list[Closure]:
    """Triangles all of whose angles are observed. corners: by mark and its two targets; sides: lengths by
    their ends, for the excess area / R^2."""
    out = []
    for at, targets in corners:
        b, c = sorted(targets)
        if at > b:
            continue  # each triangle once, from its first name
        keys = [(at, targets), (b, frozenset((at, c))), (c, frozenset((at, b)))]
        if not all(key in corners for key in keys):
            continue
        found = [corners[key] for key in keys]
        excess = 0.0 if plane else _excess((at, b, c), [f.angle for f in found], sides)
        gap = (sum(f.angle for f in found) - math.pi - excess) / RAD_PER_SECOND
        sigma = np.array([math.sqrt(sum(f.variance for f in found)) / RAD_PER_SECOND])
        out.append(
            Closure(
                kind="triangle", names=(at, b, c, at), lines=tuple(x for f in found for x in f.lines),
                misclosure=np.array([gap]), sigma=sigma, limit=REACH * sigma,
            )
        )  # fmt: skip
    return out


def _excess(names: tuple[str, str, str], angles: list[float], sides: dict[frozenset[str], float]) -> float:
    for i, j, k in ((0, 1, 2), (1, 2, 0), (2, 0, 1)):
        side = sides.get(frozenset((names[j], names[k])))
        if side is not None and math.sin(angles[i]) != 0.0:
            area = 0.5 * side**2 * math.sin(angles[j]) * math.sin(angles[k]) / math.sin(angles[i])
            return area / EARTH_RADIUS_M**2
    return 0.0


def repeated(legs: Sequence[Leg], limit: Limit = None) -> list[Closure]:
    """Each distance that was measured again, either way, against the first."""
    first: dict[frozenset[str], Leg] = {}
    out = []
    for leg in legs:
        earlier = first.setdefault(frozenset((leg.at, leg.to)), leg)
        if earlier is leg:
            continue
        sigma = np.sqrt(np.diag(leg.covariance + earlier.covariance))
        length = float(earlier.value[0])
        out.append(
            Closure(
                kind="distance", names=(earlier.at, earlier.to, earlier.at), lines=(earlier.line, leg.line),
                misclosure=leg.value - earlier.value, sigma=sigma, limit=_limits(sigma, limit, length),
                length=length,
            )
        )  # fmt: skip
    return out


def pairs_of(names: Sequence[str]) -> Iterator[tuple[str, str]]:
    """Every two of them."""
    yield from combinations(dict.fromkeys(names), 2)
