"""A mixed network of 20 stations against scipy, and larger ones alone."""

from __future__ import annotations

import math

import numpy as np
from scipy.optimize import least_squares

from bench.timing import median, say
from fenwind.procedures.network_case import determined
from fenwind.procedures.network_figures import row_figures
from fenwind.procedures.network_model import Given, Network, Row, computed

SECOND = math.pi / 648000.0


def mixed(side: int, across: int) -> Network:
    """Stations 500 m apart on a plane: directions, distances and zenith angles to neighbours."""
    rng = np.random.default_rng(side)
    places = {
        f"P{i}-{j}": np.array([500.0 * i, 500.0 * j, 100.0 + 20.0 * rng.random()])
        for i in range(side) for j in range(across)
    }  # fmt: skip
    net = Network(rows=(), control={}, dimensions=3, plane=True)
    rows: list[Row] = []
    for i in range(side):
        for j in range(across):
            near = [(i + a, j + b) for a in (-1, 0, 1) for b in (-1, 0, 1) if (a, b) != (0, 0)]
            for a, b in near:
                at, to = f"P{i}-{j}", f"P{a}-{b}"
                if to not in places:
                    continue
                ends = [places[n][:, None] for n in (at, to, to)]
                for kind, sigma in (("direction", 3 * SECOND), ("distance", 0.003), ("zenith", 5 * SECOND)):
                    true = float(computed(net, kind, *ends, np.array([1.6]), np.array([1.4]))[0, 0])
                    value = np.array([true + sigma * rng.standard_normal()])
                    rows.append(Row(kind=kind, at=at, to=to, set="1", hi=1.6, ht=1.4, value=value,
                                    covariance=np.array([[sigma**2]])))  # fmt: skip
    corners = ["P0-0", f"P{side - 1}-{across - 1}"]
    control = {n: Given(first=places[n][0], second=places[n][1], h=places[n][2]) for n in corners}
    return Network(rows=tuple(rows), control=control, dimensions=3, plane=True)


def networks() -> None:
    """Adjusted from the observations alone, places found first, with every figure of every observation."""
    for side, across in ((4, 5), (8, 8), (16, 16)):
        net = mixed(side, across)

        def run(net: Network = net) -> None:
            row_figures(determined(net), 0.001, 0.8)

        taken = median(run, 15 if side == 4 else 3)
        what = f"{side * across} stations, {len(net.rows)} observations, with all figures"
        if side == 4:
            say(what, taken * 1000.0, 6.0, "ms")
        else:
            print(f"{what}: {taken * 1000.0:.0f} ms")


def against_scipy() -> None:
    """The same least squares by scipy, from the same start, without any figure: with finite differences, and
    with slopes."""
    net = mixed(4, 5)
    result = determined(net)
    start = result.marks.place + 0.2
    index = result.marks.index
    held = [index[n] for n in net.control]
    free = [i for i in range(len(index)) if i not in held]
    stations = sorted({r.at for r in net.rows})
    kinds = {k: [r for r in net.rows if r.kind == k] for k in ("direction", "distance", "zenith")}

    def residuals(x: np.ndarray) -> np.ndarray:
        place = result.marks.place.copy()
        place[:, free] = x[: 3 * len(free)].reshape(3, -1)
        turns = dict(zip(stations, x[3 * len(free) :], strict=True))
        out = []
        for kind, rows in kinds.items():
            at, to = (place[:, [index[getattr(r, e)] for r in rows]] for e in ("at", "to"))
            hi, ht = np.array([r.hi for r in rows]), np.array([r.ht for r in rows])
            value = computed(net, kind, at, to, to, hi, ht)[0] - np.array([r.value[0] for r in rows])
            if kind == "direction":
                value = value - np.array([turns[r.at] for r in rows])
                value = (value + math.pi) % (2.0 * math.pi) - math.pi
            out.append(value / np.sqrt([r.covariance[0, 0] for r in rows]))
        return np.concatenate(out)

    def slopes(x: np.ndarray) -> np.ndarray:
        place = result.marks.place.copy()
        place[:, free] = x[: 3 * len(free)].reshape(3, -1)
        column = {name: k for k, name in enumerate(free)}
        out = []
        for kind, rows in kinds.items():
            at, to = (np.array([index[getattr(r, e)] for r in rows]) for e in ("at", "to"))
            lift = np.array([[0.0], [0.0], [1.0]]) * [r.ht - r.hi for r in rows]
            e, n, u = line = place[:, to] - place[:, at] + lift
            plan, s = np.hypot(e, n), np.sqrt((line**2).sum(axis=0))
            slope = {
                "direction": np.stack([n, -e, 0.0 * u]) / plan**2,
                "distance": line / s,
                "zenith": np.stack([e * u / plan, n * u / plan, -plan]) / s**2,
            }[kind]
            part = np.zeros((len(rows), x.size))
            for sign, ends in ((-1.0, at), (1.0, to)):
                mine = np.array([column.get(k, -1) for k in ends.tolist()])
                k = np.flatnonzero(mine >= 0)
                for axis in range(3):
                    part[k, axis * len(free) + mine[k]] = sign * slope[axis, k]
            if kind == "direction":
                part[np.arange(len(rows)), [3 * len(free) + stations.index(r.at) for r in rows]] = -1.0
            out.append(part / np.sqrt([r.covariance[0, 0] for r in rows])[:, None])
        return np.concatenate(out)

    x0 = np.concatenate([start[:, free].ravel(), np.zeros(len(stations))])
    theirs = median(lambda: least_squares(residuals, x0, method="lm"), 3)
    sloped = median(lambda: least_squares(residuals, x0, slopes, method="lm"), 5)
    ours = median(lambda: row_figures(determined(net), 0.001, 0.8), 5)
    print(
        f"20 stations: ours {ours * 1000:.1f} ms with figures, scipy {theirs * 1000:.1f} ms without, "
        f"{sloped * 1000:.1f} ms with slopes"
    )
    say("20 stations against scipy with finite differences", ours / theirs, 0.125, "x")
    say("20 stations against scipy with slopes", ours / sloped, 1.0 / 1.5, "x")


if __name__ == "__main__":
    networks()
    against_scipy()
