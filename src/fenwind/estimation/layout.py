"""Where everything of a large sparse system stands, front by front: the border of each front, where a child's
border is in its parent, and the places of factor, updates and inverse in memory. Numbers alone; of one
pattern, for all matrices that have it."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.estimation.compiled import Floats, Ints, compiled
from fenwind.estimation.dissection import Order

IntArray = NDArray[np.int64]

#: Unknowns from which a system is worth two threads.
LARGE = 3000


class Layout:
    """order: the order of elimination; place (n,): of every unknown in it; front_at (n,): the front of every
    place. The border of front f is border[edges[f]:edges[f + 1]], places beyond its own; standing: where each
    of them is in the parent's front, whose unknowns come first. first_child, next_child (f,): of a front, and
    of its parent after it; -1 for none. factor, updates, inverse (f + 1,): where a front's columns, what it
    hands up and what is handed down to it begin, and the room for all. lanes: fronts that may be worked on at
    the same time, children first, and last those above them."""

    order: Order
    place: IntArray
    front_at: IntArray
    edges: IntArray
    border: NDArray[np.int32]
    standing: NDArray[np.int32]
    first_child: IntArray
    next_child: IntArray
    factor: IntArray
    updates: IntArray
    inverse: IntArray
    lanes: tuple[IntArray, ...]

    def __init__(self, pattern: Any, order: Order) -> None:
        """Of a symmetric matrix (n, n), sparse by columns."""
        self.order = order
        fronts, sizes = order.parent.size, np.diff(order.begins)
        self.place = np.empty(order.unknowns.size, dtype=np.int64)
        self.place[order.unknowns] = np.arange(order.unknowns.size)
        self.front_at = np.repeat(np.arange(fronts), sizes)
        self.first_child, self.next_child = _children(order.parent)
        self.edges, self.border, self.standing = _borders(
            pattern.indptr, pattern.indices, order.unknowns, self.place, order.begins, self.first_child,
            self.next_child,
        )  # fmt: skip
        borders = np.diff(self.edges)
        self.factor = np.concatenate([[0], np.cumsum(sizes * (sizes + borders))])
        self.lanes = self._lanes(sizes, borders)
        lane = np.empty(fronts, dtype=np.int64)
        for number, mine in enumerate(self.lanes):
            lane[mine] = number
        every = np.concatenate(self.lanes) if fronts else np.zeros(0, dtype=np.int64)
        halves = borders * (borders + 1) // 2
        self.updates = _stacked_up(every, lane, self.first_child, self.next_child, halves)
        self.inverse = _stacked_down(
            np.ascontiguousarray(every[::-1]), lane, order.parent, self.first_child, self.next_child, halves
        )

    def room(self, fronts: Any = slice(None)) -> int:
        """Unknowns and border of the largest of some fronts."""
        whole = np.diff(self.order.begins) + np.diff(self.edges)
        return int(whole[fronts].max(initial=0))

    def _lanes(self, sizes: IntArray, borders: IntArray) -> tuple[IntArray, ...]:
        """Fronts in two lanes of about as much work whose fronts do not meet, and those above both."""
        parent, fronts = self.order.parent, sizes.size
        above = np.arange(fronts)
        if self.place.size < LARGE:
            return (above,)
        work = sizes.astype(float) ** 3 / 3.0 + sizes * borders * (sizes + borders) + 1e4
        whole = _whole_work(work, parent)
        first = _first_below(parent)
        heads = np.flatnonzero(parent < 0).tolist()
        total = float(work.sum())
        while heads:  # the heaviest is parted until the rest can be shared out
            heaviest = max(heads, key=lambda f: whole[f])
            children = np.flatnonzero(parent == heaviest).tolist()
            if whole[heaviest] < 0.15 * total or not children:
                break
            heads.remove(heaviest)
            heads += children
        loads: list[float] = [0.0, 0.0]
        lanes: list[list[IntArray]] = [[], []]
        for f in sorted(heads, key=lambda f: -whole[f]):
            which = int(loads[1] < loads[0])
            loads[which] += whole[f]
            lanes[which].append(np.arange(first[f], f + 1))
        below = [np.sort(np.concatenate(lane)) if lane else above[:0] for lane in lanes]
        return (*below, np.setdiff1d(above, np.concatenate(below)))


@compiled
def _children(parent: Ints) -> tuple[Ints, Ints]:
    """The first child of every front, and the next child of its parent; -1 for none."""
    first, following = np.full(parent.size, -1, dtype=np.int64), np.full(parent.size, -1, dtype=np.int64)
    for f in range(parent.size - 1, -1, -1):
        if parent[f] >= 0:
            following[f] = first[parent[f]]
            first[parent[f]] = f
    return first, following


@compiled
def _whole_work(work: Floats, parent: Ints) -> Floats:
    """Work of a front and all below it."""
    whole = work.copy()
    for f in range(parent.size):
        if parent[f] >= 0:
            whole[parent[f]] += whole[f]
    return whole


@compiled
def _first_below(parent: Ints) -> Ints:
    """The first front of the tree that hangs on each."""
    first = np.arange(parent.size)
    for f in range(parent.size):
        if parent[f] >= 0:
            first[parent[f]] = min(first[parent[f]], first[f])
    return first


@compiled
def _sort(values: Ints, begin: int, end: int) -> None:
    """Sort a part of values in place, by Shell's method with Ciura's gaps."""
    for gap in (1750, 701, 301, 132, 57, 23, 10, 4, 1):
        for i in range(begin + gap, end):
            value, at = values[i], i
            while at >= begin + gap and values[at - gap] > value:
                values[at] = values[at - gap]
                at -= gap
            values[at] = value


@compiled
def _most(f: int, indptr: Ints, unknowns: Ints, edges: Ints, first_child: Ints, next_child: Ints) -> int:
    """How long the border of a front can be: what its unknowns and its children touch."""
    room = 0
    for u in unknowns:
        room += indptr[u + 1] - indptr[u]
    child = first_child[f]
    while child >= 0:
        room += edges[child + 1] - edges[child]
        child = next_child[child]
    return room


@compiled
def _borders(
    indptr: Ints,
    indices: Ints,
    unknowns: Ints,
    place: Ints,
    begins: Ints,
    first_child: Ints,
    next_child: Ints,
) -> tuple[Ints, Ints, Ints]:
    """Edges, border and standing of a Layout."""
    fronts = begins.size - 1
    edges = np.zeros(fronts + 1, dtype=np.int64)
    border = np.empty(4 * place.size + 64, dtype=np.int32)
    standing = np.zeros(border.size, dtype=np.int32)
    seen, local = np.full(place.size, -1, dtype=np.int32), np.empty(place.size, dtype=np.int32)
    for f in range(fronts):
        begin, end, at = begins[f], begins[f + 1], edges[f]
        room = at + _most(f, indptr, unknowns[begin:end], edges, first_child, next_child)
        if room > border.size:
            border = np.concatenate((border, np.empty(room, dtype=np.int32)))
            standing = np.concatenate((standing, np.zeros(room, dtype=np.int32)))
        for u in unknowns[begin:end]:
            for entry in range(indptr[u], indptr[u + 1]):
                other = place[indices[entry]]
                if other >= end and seen[other] != f:
                    seen[other] = f
                    border[at] = other
                    at += 1
        child = first_child[f]
        while child >= 0:
            for other in border[edges[child] : edges[child + 1]]:
                if other >= end and seen[other] != f:
                    seen[other] = f
                    border[at] = other
                    at += 1
            child = next_child[child]
        edges[f + 1] = at
        _sort(border, edges[f], at)
        for i in range(edges[f], at):
            local[border[i]] = end - begin + i - edges[f]
        child = first_child[f]
        while child >= 0:
            for i in range(edges[child], edges[child + 1]):
                standing[i] = border[i] - begin if border[i] < end else local[border[i]]
            child = next_child[child]
    return edges, border[: edges[fronts]].copy(), standing[: edges[fronts]].copy()


@compiled
def _stacked_up(order: Ints, lane: Ints, first_child: Ints, next_child: Ints, sizes: Ints) -> Ints:
    """Where what each front hands up begins: on top of what is waiting in its lane. The last is the room for
    all."""
    out = np.zeros(sizes.size + 1, dtype=np.int64)
    top, highest, now = 0, 0, -1
    for f in order:
        if lane[f] != now:
            now, top = lane[f], highest
        child = first_child[f]
        while child >= 0:
            if lane[child] == now:
                top = min(top, out[child])
            child = next_child[child]
        out[f] = top
        top += sizes[f]
        highest = max(highest, top)
    out[sizes.size] = highest
    return out


@compiled
def _stacked_down(
    order: Ints, lane: Ints, parent: Ints, first_child: Ints, next_child: Ints, sizes: Ints
) -> Ints:
    """Where the inverse of each front's border begins, which its parent puts there, parents first. The last
    is the room for all."""
    out = np.zeros(sizes.size + 1, dtype=np.int64)
    highest, base, now = 0, 0, -1
    for f in order:  # what goes from one lane to another stays
        if parent[f] >= 0 and lane[parent[f]] != lane[f]:
            out[f] = highest
            highest += sizes[f]
    for f in order:
        if lane[f] != now:
            now, base = lane[f], highest
        top = out[f] if parent[f] >= 0 and lane[parent[f]] == now else base
        child = first_child[f]
        while child >= 0:
            if lane[child] == now:
                out[child] = top
                top += sizes[child]
                highest = max(highest, top)
            child = next_child[child]
    out[sizes.size] = highest
    return out
