"""An order in which the unknowns of a sparse system are eliminated, by nested dissection: the graph is cut by
a few unknowns into two halves that do not touch, and those again.

Unknowns that touch the same others are one node (the three of a mark). Where a graph has no places of its
own, how far its nodes are from a few that lie far apart stands for them (George, Nested dissection of a
regular finite element mesh, SIAM J. Numer. Anal. 10, 1973; the places after the landmarks of Goldberg and
Harrelson, 2005; from memory).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

IntArray = NDArray[np.intp]

#: Unknowns of a piece that is not cut any more, and how many landmarks there are.
LEAF, LANDMARKS = 120, 4
#: Nodes of a piece that is looked at along every way.
LARGE = 300
#: Nodes of a graph through which a heap is quicker than whole levels at once: a chain has a level a node.
FEW = 5000


@dataclass(eq=False)
class Order:
    """Unknowns (n,) in the order they are eliminated, where each front of them begins (f + 1,), and the front
    that each hands on to (f,), -1 for none; children come before their parent."""

    unknowns: IntArray
    begins: IntArray
    parent: IntArray


def nested_order(pattern: Any) -> Order:
    """The order for a symmetric matrix (n, n), sparse by columns."""
    node_of, graph, sizes = _nodes(pattern)
    cut = _Dissection(graph, sizes)
    cut.run()
    members = np.argsort(node_of, kind="stable")
    ends = np.concatenate([[0], np.cumsum(sizes)])
    parts = [np.concatenate([members[ends[v] : ends[v + 1]] for v in nodes.tolist()]) for nodes in cut.fronts]
    begins = np.concatenate([[0], np.cumsum([part.size for part in parts])])
    return Order(unknowns=np.concatenate(parts), begins=begins, parent=np.array(cut.parents))


def _nodes(pattern: Any) -> tuple[IntArray, Any, IntArray]:
    """Which node each unknown belongs to, the graph of the nodes by rows, and how many unknowns each has."""
    ones = pattern.copy()
    ones.data = np.ones_like(ones.data)
    # Equal columns have equal sums of random weights.
    marks = ones @ np.random.default_rng(7).uniform(1.0, 2.0, pattern.shape[0])
    _, first, node_of, sizes = np.unique(marks, return_index=True, return_inverse=True, return_counts=True)
    graph = ones[:, first].tocsr()[first].tocsr()
    return node_of, graph, sizes


@dataclass(eq=False)
class _Dissection:
    graph: Any
    sizes: IntArray
    fronts: list[IntArray] = field(default_factory=list)
    parents: list[int] = field(default_factory=list)

    def run(self) -> None:
        """Cut until the pieces are small."""
        m = self.sizes.size
        coo = self.graph.tocoo()
        upper = coo.row < coo.col
        edges = np.stack([coo.row[upper], coo.col[upper]]).astype(np.intp)
        self._places = _places(self.graph)
        self._side = np.zeros(m, dtype=np.int8)
        self._cut(np.arange(m), edges)

    def _cut(self, nodes: IntArray, edges: IntArray) -> list[int]:
        """Fronts of a piece, children first; returns those that have no parent yet."""
        if int(self.sizes[nodes].sum()) > LEAF:
            best = self._best_cut(nodes, edges)
            if best is not None:
                return self._halved(nodes, edges, *best)
        return [self._front(nodes, [])] if nodes.size else []

    def _best_cut(self, nodes: IntArray, edges: IntArray) -> tuple[NDArray[np.bool_], IntArray] | None:
        """Which nodes lie in the lower half, and the nodes that part the halves: the fewest unknowns of the
        ways looked along. None where no way tells the nodes apart."""
        found: list[tuple[int, NDArray[np.bool_], IntArray]] = []
        for values in self._ways(nodes):
            low = self._lower_half(nodes, values)
            if low is not None:
                between = self._between(nodes, edges, low)
                found.append((int(self.sizes[between].sum()), low, between))
        best = min(found, key=lambda one: one[0], default=None)
        return best[1:] if best is not None else None

    def _ways(self, nodes: IntArray) -> NDArray[np.float64]:
        """Places of nodes along a few ways, those in which they spread the most first."""
        places = self._places[:, nodes]
        spread = places.std(axis=1)
        most = len(spread) if nodes.size > LARGE else 2
        return np.asarray(places[[k for k in np.argsort(-spread)[:most] if spread[k] > 0.0]])

    def _between(self, nodes: IntArray, edges: IntArray, low: NDArray[np.bool_]) -> IntArray:
        """The nodes of one half that touch the other, of the half where they are fewer unknowns."""
        side = self._side
        side[nodes] = np.where(low, 1, 2)
        one, other = side[edges[0]], side[edges[1]]
        crossing = one != other
        ends, one, other = edges[:, crossing], one[crossing], other[crossing]
        in_low = np.unique(np.where(one == 1, ends[0], ends[1]))
        in_high = np.unique(np.where(one == 2, ends[0], ends[1]))
        return in_low if self.sizes[in_low].sum() <= self.sizes[in_high].sum() else in_high

    def _halved(
        self, nodes: IntArray, edges: IntArray, low: NDArray[np.bool_], between: IntArray
    ) -> list[int]:
        side = self._side
        side[nodes] = np.where(low, 1, 2)
        side[between] = 3
        mine, one, other = side[nodes], side[edges[0]], side[edges[1]]
        pieces = [(nodes[mine == half], edges[:, (one == half) & (other == half)]) for half in (1, 2)]
        children = [front for piece in pieces for front in self._cut(*piece)]
        return [self._front(between, children)] if between.size else children

    def _front(self, nodes: IntArray, children: list[int]) -> int:
        number = len(self.fronts)
        self.fronts.append(nodes)
        self.parents.append(-1)
        for child in children:
            self.parents[child] = number
        return number

    def _lower_half(self, nodes: IntArray, values: NDArray[np.float64]) -> NDArray[np.bool_] | None:
        """Which nodes lie below the middle of their values; between two of these, where that is possible."""
        order = np.argsort(values, kind="stable")
        half = np.cumsum(self.sizes[nodes][order])
        at = int(np.searchsorted(half, 0.5 * half[-1]))
        steps = np.flatnonzero(np.diff(values[order]) > 0.0) + 1
        if steps.size:
            nearest = int(steps[np.argmin(np.abs(steps - at))])
            if 0.3 * nodes.size <= nearest <= 0.7 * nodes.size:
                at = nearest
        if not 0 < at < nodes.size:
            return None
        low = np.zeros(nodes.size, dtype=bool)
        low[order[:at]] = True
        return low


def _places(graph: Any) -> NDArray[np.float64]:
    """How far nodes are from landmarks (l, m), steps along the graph; its parts lie far apart."""
    from scipy.sparse.csgraph import connected_components

    m = graph.shape[0]
    count, part = connected_components(graph, directed=False)
    first = np.full(count, m, dtype=np.intp)
    np.minimum.at(first, part, np.arange(m))
    apart = part * float(2 * m)
    # The first is only where the search for one at the edge begins.
    sources, out = first, []
    for _ in range(LANDMARKS + 1):
        steps = _steps(graph, sources)
        out.append(steps)
        nearest = np.min(out[1:], axis=0) if len(out) > 1 else steps
        order = np.lexsort((nearest, part))
        sources = order[np.concatenate([np.flatnonzero(np.diff(part[order])), [m - 1]])]
    # Sums and differences of two of them run along and across the graph.
    a, b, c, d = (v.astype(float) for v in out[1:5])
    ways = np.stack([a, b, c, d, a - b, c - d, a + b - c - d, a + c - b - d, a + d - b - c])
    return np.asarray(ways + apart)


def _steps(graph: Any, sources: IntArray) -> IntArray:
    """Steps (m,) from the nearest of some nodes, one in each part."""
    if graph.shape[0] <= FEW:
        from scipy.sparse.csgraph import dijkstra

        return np.asarray(dijkstra(graph, indices=sources, unweighted=True, min_only=True)).astype(np.intp)
    steps = np.full(graph.shape[0], -1, dtype=np.intp)
    front, level = np.asarray(sources), 0
    while front.size:
        steps[front] = level
        begin, count = graph.indptr[front], np.diff(graph.indptr)[front]
        total = int(count.sum())
        shift = np.repeat(begin - np.concatenate([[0], np.cumsum(count)[:-1]]), count)
        near = graph.indices[np.arange(total) + shift]
        front = np.unique(near[steps[near] < 0])
        level += 1
    return steps
