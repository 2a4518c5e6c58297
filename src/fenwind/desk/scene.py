"""What the plan shows of a job: adopted marks of the frame in view, and the residuals of the fit looked
at."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from fenwind.desk.bridge import JobBridge
from fenwind.desk.plan import Scene
from fenwind.desk.plan_symbols import BY_NAME, SQUARE, TRIANGLE
from fenwind.estimation.distributions import chi2_quantile
from fenwind.job.appearance import appearance
from fenwind.job.derive import FitOutcome
from fenwind.procedures.compare import Difference
from fenwind.procedures.coverage import Coverage

FloatArray = NDArray[np.float64]


def error_ellipses(covariance: FloatArray) -> FloatArray:
    """Semi-axes a >= b at 95 % and azimuth of a (3, k) of horizontal covariances (2, 2, k).

    Source: Mikhail and Ackermann, Observations and Least Squares, 1976 (from memory); chi-square with two
    degrees of freedom.
    """
    cee, cen, cnn = covariance[0, 0], covariance[0, 1], covariance[1, 1]
    mean, half = 0.5 * (cee + cnn), 0.5 * (cee - cnn)
    reach = np.hypot(half, cen)
    scale = math.sqrt(chi2_quantile(0.95, 2))
    azimuth = 0.5 * np.arctan2(2.0 * cen, cnn - cee)
    return np.stack([scale * np.sqrt(mean + reach), scale * np.sqrt(np.maximum(mean - reach, 0.0)), azimuth])


def convex_hull(e_m: FloatArray, n_m: FloatArray) -> FloatArray:
    """Corners (2, m) of the convex hull of a few points, anticlockwise (Andrew's monotone chain, 1979)."""
    points = sorted(set(zip(e_m.tolist(), n_m.tolist(), strict=True)))
    if len(points) < 3:
        return np.array(points).T.reshape(2, -1)
    chains: list[list[tuple[float, float]]] = []
    for ordered in (points, points[::-1]):
        chain: list[tuple[float, float]] = []
        for point in ordered:
            while len(chain) > 1 and _turn(chain[-2], chain[-1], point) <= 0:
                chain.pop()
            chain.append(point)
        chains.append(chain[:-1])
    return np.array(chains[0] + chains[1]).T


def _turn(a: tuple[float, float], b: tuple[float, float], c: tuple[float, float]) -> float:
    return (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])


def build_scene(bridge: JobBridge, with_fit: bool) -> Scene:
    """The scene of the frame shown; with_fit: in the target frame of the fit, with its residuals."""
    step = bridge.fit
    outcome = bridge.derived.fits.get(step.id) if step is not None and with_fit else None
    frame_id = step.target_frame if with_fit and step is not None else bridge.frame_id
    adopted = bridge.derived.adopted.get(frame_id)
    record = bridge.state.frames.get(frame_id)
    if adopted is None or record is None:
        return Scene()
    from fenwind.quantities.lengths import UNITS

    symbols, labelled = appearance(bridge.state, adopted)
    scene = Scene(
        title=record.spec.name,
        unit=UNITS[record.spec.unit],
        names=adopted.names,
        e_m=adopted.e_m,
        n_m=adopted.n_m,
        symbol=np.array([BY_NAME[name] for name in symbols], dtype=np.int8),
        labelled=labelled,
        off=np.zeros(len(adopted.names), dtype=bool),
    )
    if outcome is not None and outcome.case is not None:
        _add_fit(scene, bridge, outcome)
    return scene


def add_differences(scene: Scene, found: Difference) -> None:
    """The ways between two sets of positions as vectors."""
    index = {name: i for i, name in enumerate(scene.names)}
    here = [i for i, name in enumerate(found.names) if name in index]
    scene.vector_rows = np.array([index[found.names[i]] for i in here], dtype=int)
    scene.vector_m = np.stack([found.de_m[here], found.dn_m[here]])


def add_coverage(scene: Scene, found: Coverage) -> None:
    """The area that targets are to hold, and where one is lacking."""
    scene.hull = found.box.T
    places = [place for j in found.judgements for place in j.places]
    scene.gaps = np.array(places, dtype=float).reshape(-1, 2).T


def _add_fit(scene: Scene, bridge: JobBridge, outcome: FitOutcome) -> None:
    """Residual vectors, ellipses, roles and the hull of the pairs held."""
    assert outcome.case is not None
    result = outcome.case.result
    index = {name: i for i, name in enumerate(scene.names)}
    rows = np.array([index[n] for n in result.pairs.names], dtype=int)
    for i, name in enumerate(result.pairs.names):
        scene.symbol[index[name]] = TRIANGLE if result.pairs.used_h[i] else SQUARE
    for name in result.options.off:
        if name in index:
            scene.off[index[name]] = True
    scene.vector_rows = rows
    scene.vector_m = np.stack([result.pairs.de_m, result.pairs.dn_m])
    scene.ellipse_rows = rows
    scene.ellipse = error_ellipses(result.carried.covariance[:2, :2, result.pairs.measured_rows])
    held = rows[result.pairs.used_h]
    if 2 < held.size <= 500:
        scene.hull = convex_hull(scene.e_m[held], scene.n_m[held])
