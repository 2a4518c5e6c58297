"""Static sessions of made-up receivers with known truth: how far vectors lie from it, how often wrong
integers are accepted, and what share of 95 % regions hold it.

    python -m bench.static [sessions] [minutes] [kilometres]
"""

from __future__ import annotations

import sys
from concurrent.futures import ProcessPoolExecutor

import numpy as np

from fenwind.geodesy.geocentric import GRS80_A, GRS80_F, enu_axes, to_xyz
from fenwind.gnss.baseline import Station, baseline
from fenwind.gnss.gps_time import TICKS, ticks_of
from fenwind.gnss.observations import Observations
from fenwind.gnss.point import PointOptions, point
from fenwind.gnss.satellites import BroadcastSky
from fenwind.gnss.signals import chosen
from fenwind.standins.static_sky import IONOSPHERE, Air, Receiver, messages_of, observe

INTERVAL = 30.0
WET, ION = 0.0004, 0.001


def session(job: tuple[int, float, float]) -> tuple[np.ndarray, np.ndarray, str, float, float]:
    """One session by its number, minutes and kilometres: error east, north, up, its covariance, solution,
    ratio, and the error of the base by code."""
    seed, minutes, km = job
    rng = np.random.default_rng(seed)
    hour = float(rng.uniform(0.0, 24.0 * 6.0))
    start = (
        int(ticks_of(*(np.array([v]) for v in (2026, 5, 12, 0, 0, 0)))[0]) + round(hour * 120) * 30 * TICKS
    )
    messages = messages_of(start, minutes / 60.0 + 0.1)
    lat, lon = np.radians(rng.uniform(-60.0, 65.0)), np.radians(rng.uniform(-180.0, 180.0))
    turn = rng.uniform(0.0, 2.0 * np.pi)
    base = np.array(to_xyz(lat, lon, 300.0, GRS80_A, GRS80_F), dtype=float)
    axes = enu_axes(np.array([lat]), np.array([lon]))[:, :, 0]
    way = np.array([km * 1e3 * np.sin(turn), km * 1e3 * np.cos(turn), rng.uniform(-60.0, 60.0)])
    rover = base + axes.T @ way
    air = Air(
        ionosphere=float(rng.uniform(1.0, 6.0)), ionosphere_e=float(rng.normal(0.0, ION)),
        ionosphere_n=float(rng.normal(0.0, ION)), wet=float(rng.uniform(0.0, 0.15)),
        wet_e=float(rng.normal(0.0, WET)), wet_n=float(rng.normal(0.0, WET)),
    )  # fmt: skip
    sky = BroadcastSky(start=start, messages=messages, galileo="5")
    ends = []
    for name, xyz in (("BASE", base), ("ROVER", rover)):
        receiver = Receiver(mark=name, xyz=tuple(float(v) for v in xyz), height=1.5)
        epochs = int(minutes * 60.0 / INTERVAL)
        header, ticks, systems = observe(
            messages, start, epochs, INTERVAL, receiver, air, rng, origin=tuple(float(v) for v in base)
        )
        obs = Observations(path=name, header=header, ticks=ticks, systems=systems, events=(), skipped=0)
        signals = {s: chosen(obs, s) for s in "GREC" if s in systems}
        placed = point(obs, sky, signals, PointOptions(delta=header.delta, ionosphere=dict(IONOSPHERE)))
        ends.append(Station(obs=obs, signals=signals, delta=header.delta, antenna=None, point=placed))
    found = baseline(ends[0], ends[1], base, sky, "GREC", np.radians(10.0))
    error = axes @ (found.vector - (rover - base))
    code = float(np.linalg.norm(ends[0].point.xyz - base))
    return error, axes @ found.covariance @ axes.T, found.solution, found.ratio or 0.0, code


def main() -> None:
    """Run the sessions and tell."""
    count, minutes, km = (float(a) for a in (*sys.argv[1:], *("200", "60", "10")[len(sys.argv) - 1 :]))
    with ProcessPoolExecutor(2) as pool:
        every = list(pool.map(session, [(k, minutes, km) for k in range(int(count))], chunksize=4))
    errors = np.array([e for e, *_ in every])
    fixed = np.array([s == "fixed" for _, _, s, *_ in every])
    limit = 0.005 + 0.5e-6 * km * 1e3
    inside = (np.abs(errors[:, :2]) < limit).all(axis=1) & (np.abs(errors[:, 2]) < 2.0 * limit)
    wrong = fixed & (np.linalg.norm(errors, axis=1) > 0.05)
    three = np.array([float(e @ np.linalg.solve(c, e)) for e, c, *_ in every])
    print(f"{count:.0f} sessions of {minutes:g} min over {km:g} km")
    print(f"fixed {fixed.mean():.1%}, wrong {wrong.mean():.2%}")
    print(f"within {limit * 1e3:.1f} mm in plan and twice that up: {inside.mean():.1%}")
    print(f"rms east, north, up: {np.sqrt((errors**2).mean(axis=0)) * 1e3} mm")
    print(f"95 % regions hold {np.mean(three < 7.815):.1%}; mean squared error in sigmas {three.mean():.2f}")
    print(f"by code within {np.quantile([c for *_, c in every], 0.95):.2f} m (95 %)")


if __name__ == "__main__":
    main()
