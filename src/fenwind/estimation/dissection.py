"""An order in which the unknowns of a sparse system are eliminated, by nested dissection: the graph is cut by
a few unknowns into two halves that do not touch, and those again.

Unknowns that touch the same others are one node (the three of a mark). Where a graph has no places of its
own, how far its nodes are from a few that lie far apart stands for them (George, Nested dissection of a
regular finite element mesh, SIAM J. Numer. Anal. 10, 1973; the places after the landmarks of Goldberg and
Harrelson, 2005; from memory).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.estimation.compiled import Flags, Floats, Ints, compiled

IntArray = NDArray[np.int64]

#: Unknowns of a piece that is not cut any more.
LEAF = 30
#: Nodes of a piece that is looked at along every way; smaller ones along the two in which it spreads most.
LARGE = 300


@dataclass(eq=False)
class Order:
    """Unknowns (n,) in the order they are eliminated, where each front of them begins (f + 1,), and the front
    that each hands on to (f,), -1 for none; children come before their parent."""

    unknowns: IntArray
    begins: IntArray
    parent: IntArray


def nested_order(pattern: Any) -> Order:
    """The order for a symmetric matrix (n, n), sparse by columns."""
    node_of, first, sizes = _nodes(pattern)
    starts, near = _graph(pattern.indptr, pattern.indices, node_of, first)
    part, count = _parts(starts, near)
    ways = _ways(starts, near, part, count)
    nodes = np.argsort(part, kind="stable")
    parts = np.concatenate([[0], np.cumsum(np.bincount(part, minlength=count))])
    cuts, above = _dissected(starts, near, sizes, ways, nodes, parts, LEAF, LARGE)
    # Pieces lie one after the other with what parts them behind them: children come first by where they lie.
    order = np.argsort(cuts, kind="stable")
    number = np.empty(order.size + 1, dtype=np.int64)
    number[order], number[-1] = np.arange(order.size), -1
    members = np.argsort(node_of, kind="stable")
    ends = np.concatenate([[0], np.cumsum(sizes)])
    counts = sizes[nodes]
    within = np.arange(int(counts.sum())) - np.repeat(np.cumsum(counts) - counts, counts)
    total = np.concatenate([[0], np.cumsum(counts)])
    return Order(
        unknowns=members[np.repeat(ends[nodes], counts) + within],
        begins=total[np.append(cuts[order], nodes.size)],
        parent=number[above[order]],
    )


def _nodes(pattern: Any) -> tuple[IntArray, IntArray, IntArray]:
    """Which node each unknown belongs to, and the first unknown of each node and how many it has."""
    marks = np.random.default_rng(7).uniform(1.0, 2.0, pattern.shape[0])
    # Equal columns have equal sums of random weights.
    sums = _sums(pattern.indptr, pattern.indices, marks)
    _, first, node_of, sizes = np.unique(sums, return_index=True, return_inverse=True, return_counts=True)
    return node_of, first, sizes


@compiled
def _sums(indptr: Ints, indices: Ints, marks: Floats) -> Floats:
    out = np.zeros(indptr.size - 1)
    for c in range(out.size):
        for at in range(indptr[c], indptr[c + 1]):
            out[c] += marks[indices[at]]
    return out


@compiled
def _graph(indptr: Ints, indices: Ints, node_of: Ints, first: Ints) -> tuple[Ints, Ints]:
    """Neighbours of every node, by rows without itself."""
    m = first.size
    starts = np.zeros(m + 1, dtype=np.int64)
    near = np.empty(indices.size, dtype=np.int64)
    count = 0
    for v in range(m):
        for at in range(indptr[first[v]], indptr[first[v] + 1]):
            other = node_of[indices[at]]
            if other != v and first[other] == indices[at]:
                near[count] = other
                count += 1
        starts[v + 1] = count
    return starts, near[:count].copy()


@compiled
def _steps(starts: Ints, near: Ints, sources: Ints, queue: Ints) -> Ints:
    """Steps (m,) from the nearest of some nodes, one in each part."""
    steps = np.full(starts.size - 1, -1, dtype=np.int64)
    tail = 0
    for source in sources:
        steps[source] = 0
        queue[tail] = source
        tail += 1
    head = 0
    while head < tail:
        v = queue[head]
        head += 1
        for at in range(starts[v], starts[v + 1]):
            other = near[at]
            if steps[other] < 0:
                steps[other] = steps[v] + 1
                queue[tail] = other
                tail += 1
    return steps


@compiled
def _parts(starts: Ints, near: Ints) -> tuple[Ints, int]:
    """Which connected part each node is in, and how many there are."""
    m = starts.size - 1
    part = np.full(m, -1, dtype=np.int64)
    stack = np.empty(m, dtype=np.int64)
    count = 0
    for v in range(m):
        if part[v] >= 0:
            continue
        part[v] = count
        stack[0], height = v, 1
        while height:
            height -= 1
            u = stack[height]
            for at in range(starts[u], starts[u + 1]):
                if part[near[at]] < 0:
                    part[near[at]] = count
                    stack[height] = near[at]
                    height += 1
        count += 1
    return part, count


@compiled
def _ways(starts: Ints, near: Ints, part: Ints, count: int) -> Ints:
    """How far nodes lie along some ways (9, m) in their connected part: steps from four landmarks, their sums
    and differences."""
    m = starts.size - 1
    queue = np.empty(m, dtype=np.int64)
    sources = np.full(count, -1, dtype=np.int64)
    for v in range(m):
        if sources[part[v]] < 0:
            sources[part[v]] = v
    marks = np.empty((4, m), dtype=np.int64)
    nearest = np.empty(m, dtype=np.int64)
    # The first is only where the search for one at the edge begins.
    for landmark in range(-1, 4):
        steps = _steps(starts, near, sources, queue)
        for v in range(m):
            nearest[v] = steps[v] if landmark < 1 else min(nearest[v], steps[v])
            if landmark >= 0:
                marks[landmark, v] = steps[v]
        for v in range(m):
            if nearest[v] >= nearest[sources[part[v]]]:
                sources[part[v]] = v
    out = np.empty((9, m), dtype=np.int64)
    for v in range(m):
        a, b, c, d = marks[0, v], marks[1, v], marks[2, v], marks[3, v]
        out[0, v], out[1, v], out[2, v], out[3, v] = a, b, c, d
        # Sums and differences of two of them run along and across the graph.
        out[4, v], out[5, v], out[6, v] = a - b, c - d, a + b - c - d
        out[7, v], out[8, v] = a + c - b - d, a + d - b - c
    return out


@compiled
def _halved(nodes: Ints, sizes: Ints, values: Ints, low: Flags) -> bool:
    """Mark in low (k,) which nodes of a piece lie below the middle of their values (k,), between two of these
    where that is possible. False where they cannot be told apart. Values become their ranks."""
    k = nodes.size
    least, most = values[0], values[0]
    for value in values:
        least, most = min(least, value), max(most, value)
    if least == most:
        return False
    # Pieces that hang together have no more values than this; what lies farther apart shares some.
    wide = 1 + (most - least) // (4 * k + 64)
    weight = np.zeros((most - least) // wide + 1, dtype=np.int64)
    number = np.zeros(weight.size, dtype=np.int64)
    half = 0.0
    for i in range(k):
        values[i] = (values[i] - least) // wide
        weight[values[i]] += sizes[nodes[i]]
        number[values[i]] += 1
        half += 0.5 * sizes[nodes[i]]
    gone, before, at = 0, 0, 0
    while gone + weight[at] < half:
        gone += weight[at]
        before += number[at]
        at += 1
    inside = 0  # of those with the middle value, how many lie below the middle
    for i in range(k):
        if values[i] == at:
            gone += sizes[nodes[i]]
            if gone >= half:
                break
            inside += 1
    after = before + number[at]
    take = inside
    if inside <= number[at] - inside and 0.3 * k <= before <= 0.7 * k:
        take = 0
    elif 0.3 * k <= after <= 0.7 * k:
        take = number[at]
    elif 0.3 * k <= before <= 0.7 * k:
        take = 0
    if not 0 < before + take < k:
        return False
    for i in range(k):
        low[i] = values[i] < at
        if values[i] == at and take > 0:
            low[i] = True
            take -= 1
    return True


@compiled
def _between(
    starts: Ints, near: Ints, nodes: Ints, sizes: Ints, low: Flags, side: Ints, touched: Ints
) -> tuple[int, int]:
    """Unknowns of those of each half that touch the other; side is what every node of the piece is marked
    with, touched (k,) what they are found to be: 1 or 2, 0 inside a half."""
    k = nodes.size
    for i in range(k):
        side[nodes[i]] = 1 if low[i] else 2
    in_low, in_high = 0, 0
    for i in range(k):
        mine = side[nodes[i]]
        touched[i] = 0
        for at in range(starts[nodes[i]], starts[nodes[i] + 1]):
            if side[near[at]] == 3 - mine:
                touched[i] = mine
                break
        in_low += sizes[nodes[i]] * (touched[i] == 1)
        in_high += sizes[nodes[i]] * (touched[i] == 2)
    for i in range(k):
        side[nodes[i]] = 0
    return in_low, in_high


@compiled
def _spreads(nodes: Ints, ways: Ints) -> Floats:
    """How far the nodes of a piece are spread along each way."""
    out = np.zeros(ways.shape[0])
    for way in range(out.size):
        mean = 0.0
        for v in nodes:
            mean += ways[way, v] / nodes.size
        for v in nodes:
            out[way] += (ways[way, v] - mean) ** 2
    return out


@compiled
def _best_cut(
    starts: Ints, near: Ints, nodes: Ints, sizes: Ints, ways: Ints, side: Ints, large: int, kind: Ints
) -> bool:
    """Mark in kind (k,) the nodes of a piece: 0 and 1 in its halves, 2 between them, where these are the
    fewest unknowns of the ways looked along. False where no way tells the nodes apart."""
    k, spread = nodes.size, _spreads(nodes, ways)
    low, best = np.zeros(k, dtype=np.bool_), -1
    touched, values = np.zeros(k, dtype=np.int64), np.zeros(k, dtype=np.int64)
    for _ in range(spread.size if k > large else 2):
        way = np.argmax(spread)
        if spread[way] <= 0.0:
            break
        spread[way] = 0.0
        for i in range(k):
            values[i] = ways[way, nodes[i]]
        if not _halved(nodes, sizes, values, low):
            continue
        in_low, in_high = _between(starts, near, nodes, sizes, low, side, touched)
        fewer = 1 if in_low <= in_high else 2
        count = min(in_low, in_high)
        if best < 0 or count < best:
            best = count
            for i in range(k):
                kind[i] = 2 if touched[i] == fewer else (0 if low[i] else 1)
    return best >= 0


@compiled
def _dissected(
    starts: Ints, near: Ints, sizes: Ints, ways: Ints, nodes: Ints, parts: Ints, leaf: int, large: int
) -> tuple[Ints, Ints]:
    """Put nodes (m,), which lie part by part as parts says, in their order; where fronts begin (f,) and the
    number of the front above each, -1 for none, in the order they were found."""
    m = sizes.size
    side, kind, kept = np.zeros(m, dtype=np.int8), np.empty(m, dtype=np.int8), np.empty(m, dtype=np.int64)
    cuts, above = np.empty(m, dtype=np.int64), np.empty(m, dtype=np.int64)
    stack = np.empty((m + 1, 3), dtype=np.int64)
    height, count = parts.size - 1, 0
    for i in range(height):
        stack[i, 0], stack[i, 1], stack[i, 2] = parts[i], parts[i + 1], -1
    while height:
        height -= 1
        begin, end, parent = stack[height, 0], stack[height, 1], stack[height, 2]
        piece = nodes[begin:end]
        weight = 0
        for v in piece:
            weight += sizes[v]
        if weight <= leaf or not _best_cut(starts, near, piece, sizes, ways, side, large, kind):
            cuts[count], above[count] = begin, parent
            count += 1
            continue
        for i in range(end - begin):
            kept[i] = piece[i]
        place, pushed = begin, 0
        for which in range(3):
            start = place
            for i in range(end - begin):
                if kind[i] == which:
                    nodes[place] = kept[i]
                    place += 1
            if place == start:
                continue
            if which < 2:
                stack[height, 0], stack[height, 1], stack[height, 2] = start, place, parent
                height += 1
                pushed += 1
            else:
                cuts[count], above[count] = start, parent
                for i in range(height - pushed, height):
                    stack[i, 2] = count
                count += 1
    return cuts[:count], above[:count]
