"""A traverse of a thousand legs by every rule, a resection against scipy with slopes of its own, and how soon
its blunders are named."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
from scipy.optimize import least_squares

from bench.timing import median, say
from fenwind.doubts.resect_rules import Looked, resect_doubts
from fenwind.procedures.resection import Case, ResectionOptions, Sighting, case_of, reduce, solve
from fenwind.procedures.traverse import Ends, Method, Options, Sight, Traverse
from fenwind.procedures.traverse import solve as walk

LEGS, TARGETS = 1000, 10
SECOND = math.pi / 648000.0


def traverse(method: Method) -> None:
    """Legs of 80 to 200 m that wind along, closed on a known mark and line, with noise."""
    rng = np.random.default_rng(4)
    turns, lengths = rng.uniform(2.6, 3.7, LEGS), rng.uniform(80.0, 200.0, LEGS)
    azimuth = 0.4 + np.cumsum(turns) + math.pi * np.arange(LEGS)
    close = np.array([(lengths * np.sin(azimuth)).sum(), (lengths * np.cos(azimuth)).sum()])
    angles = turns + 3.0 * SECOND * rng.standard_normal(LEGS)
    read = lengths + 0.002 * rng.standard_normal(LEGS)
    legs = tuple(
        Sight(here=f"{k}", there=f"{k + 1}", kind="right", direction=float(angles[k]) % math.tau,
              distance=float(read[k]), dh=0.0)
        for k in range(LEGS)
    )  # fmt: skip
    work = Traverse(
        names=tuple(str(k) for k in range(LEGS + 1)), legs=legs, shots=(),
        ends=Ends(
            start=(0.0, 0.0, 0.0), close=(float(close[0]), float(close[1]), 0.0), start_line=0.4,
            closing_line=float(azimuth[-1] + math.pi + 2.0) % math.tau, closing_angle=2.0,
        ),
        options=Options(method=method, balance=method != "lsq"),
    )  # fmt: skip
    found = walk(work)
    miss = math.hypot(*(found.unadjusted[:2, -1] - close))
    print(f"{method}: {LEGS} legs, {lengths.sum() / 1000.0:.0f} km, closed to {miss:.3f} m before")
    say(f"a traverse of {LEGS} legs, {method}", median(lambda: walk(work), 5) * 1000.0, 50.0, "ms")


def _case() -> Case:
    rng = np.random.default_rng(10)
    known = np.stack([rng.uniform(-size, size, TARGETS) for size in (300.0, 300.0, 10.0)])
    shots = []
    for k in range(TARGETS):
        e, n, h = known[:, k] - np.array([11.0, -7.0, 2.0])
        hd = math.hypot(e, n)
        zenith, distance = math.atan2(hd, h - 1.6), math.hypot(hd, h - 1.6)
        direction = math.atan2(e, n) - 0.4 + 2.0 * SECOND * rng.standard_normal()
        distance += 0.002 * rng.standard_normal()
        shots.append(Sighting(target=f"T{k}", direction=direction, zenith=zenith, distance=distance))
    options = ResectionOptions(instrument_height=1.6, heights=True)
    return case_of(reduce(shots, options), known, True)


def blunders() -> None:
    """How long it takes to name a wrong prism, a wrong target height, and two names that were exchanged."""
    case = _case()
    r, hd, dh, known = case.reduced, case.reduced.hd.copy(), case.reduced.dh.copy(), case.known.copy()
    hd[3] += 0.034
    dh[5] += 0.1
    known[:, [1, 2]] = known[:, [2, 1]]
    changed = (replace(case, reduced=replace(r, hd=hd)), replace(case, reduced=replace(r, dh=dh)))
    slowest = 0.0
    for one in (*changed, replace(case, known=known)):
        look = Looked(
            case=one, found=solve(one, "fixed"), scale="fixed", others={}, checks=1, collimation_s=0.0,
            index_s=0.0,
        )  # fmt: skip
        print(f"named: {', '.join(d.rule for d in resect_doubts(look))}")
        slowest = max(slowest, median(lambda look=look: resect_doubts(look), 9))
    say("a blunder of a resection is named, the slowest of three", slowest * 1000.0, 50.0, "ms")


def against_scipy() -> None:
    """The same resection, from the same start a metre off."""
    case, start = _case(), np.array([12.0, -8.0, 0.41, 2.5])
    r, known = case.reduced, case.known
    sigma = np.sqrt(np.stack([r.covariance[i, i] for i in range(3)]))

    def off(x: np.ndarray) -> np.ndarray:
        de, dn = known[0] - x[0], known[1] - x[1]
        turn = np.arctan2(de, dn) - x[2] - r.direction
        turn = np.remainder(turn + math.pi, math.tau) - math.pi
        values = np.stack([turn, np.hypot(de, dn) - r.hd, known[2] - x[3] - r.dh])
        return np.asarray((values / sigma).ravel())

    def slopes(x: np.ndarray) -> np.ndarray:
        de, dn = known[0] - x[0], known[1] - x[1]
        d = np.hypot(de, dn)
        out = np.zeros((3, TARGETS, 4))
        out[0, :, 0], out[0, :, 1], out[0, :, 2] = -dn / d**2, de / d**2, -1.0
        out[1, :, 0], out[1, :, 1], out[2, :, 3] = -de / d, -dn / d, -1.0
        return np.asarray((out / sigma[:, :, None]).reshape(-1, 4))

    theirs = least_squares(off, start, slopes)
    ours = solve(case, "fixed", start[:3])
    apart = np.abs(theirs.x - np.array([ours.e, ours.n, ours.orientation, ours.h])).max()
    print(f"the two lie {apart:.1e} apart; theirs has no statistics")
    ms = median(lambda: solve(case, "fixed")) * 1000.0
    say(f"a resection of {TARGETS} targets with all statistics", ms, 1.0, "ms")
    for name, method in (("trust region", "trf"), ("Levenberg and Marquardt", "lm")):
        took = median(lambda method=method: least_squares(off, start, slopes, method=method))
        share = median(lambda: solve(case, "fixed", start[:3])) / took
        if method == "trf":  # what SciPy takes where nothing is said
            say(f"a resection against scipy's {name} with slopes", share, 0.5, "x")
        else:
            print(f"against scipy's {name} with slopes: {share:.2f} x")


def main() -> None:
    """Run all."""
    for method in ("compass", "transit", "lsq"):
        traverse(method)  # type: ignore[arg-type]
    blunders()
    against_scipy()


if __name__ == "__main__":
    main()
