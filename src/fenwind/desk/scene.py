"""What the plan shows of a job: adopted marks of the frame in view, and the residuals of the fit looked
at."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenwind.desk.bridge import JobBridge
from fenwind.desk.plan_extras import Apart
from fenwind.desk.plan_scene import Scene
from fenwind.desk.plan_symbols import BY_NAME, SQUARE, TRIANGLE
from fenwind.doubts.job_rules import stranded
from fenwind.geodesy.frames import axes_of
from fenwind.job.adopted import Adopted
from fenwind.job.appearance import appearance
from fenwind.job.derive import Derived
from fenwind.job.steps.kinds import STEP_KINDS
from fenwind.job.steps.outcome import Drawing, Node
from fenwind.procedures.compare import Difference
from fenwind.procedures.coverage import Coverage
from fenwind.procedures.hull import convex_hull
from fenwind.procedures.regions import ellipses
from fenwind.quantities.lengths import UNITS

FloatArray = NDArray[np.float64]


def error_ellipses(covariance: FloatArray, reach: float) -> FloatArray:
    """Semi-axes a >= b and azimuth of a (3, k) of horizontal covariances (2, 2, k), `reach` standard
    deviations large."""
    a, b, azimuth = ellipses(covariance)
    return np.stack([reach * a, reach * b, azimuth])


def build_scene(bridge: JobBridge, step: Node | None = None) -> Scene:
    """The scene of the frame shown, or of the frame of a step with what that step draws."""
    drawing = drawing_of(bridge.derived, step)
    frame_id = drawing.frame if drawing is not None else bridge.frame_id
    adopted = bridge.derived.adopted.get(frame_id)
    record = bridge.seen.frames.get(frame_id)
    if adopted is None or record is None:
        return Scene()
    symbols, labelled = appearance(bridge.seen, adopted)
    scene = Scene(
        title=record.spec.name,
        unit=UNITS[record.spec.unit],
        axes=axes_of(record.spec),
        names=adopted.names,
        e_m=adopted.e_m,
        n_m=adopted.n_m,
        symbol=np.array([BY_NAME[name] for name in symbols], dtype=np.int8),
        labelled=labelled,
        off=np.zeros(len(adopted.names), dtype=bool),
    )
    scene.apart = _apart(bridge, frame_id, adopted)
    if drawing is not None:
        _add_drawing(scene, adopted, drawing)
    return scene


def _apart(bridge: JobBridge, frame_id: str, adopted: Adopted) -> Apart | None:
    """The marks that nothing ties to the frame shown: those of the other frame that has most of them."""
    state = bridge.seen
    told = (d for d in (*bridge.findings.open, *(d for d, _ in bridge.findings.accepted)))
    frames = [d.subject for d in told if d.rule == "marks.not-tied" and frame_id == state.info.frame]
    found = {key: list(stranded(state, key, adopted.place)) for key in frames}
    key = max(found, key=lambda k: len(found[k]), default="")
    given = [g for g in found.get(key, ()) if g.e_m is not None]
    if not given:
        return None
    at = np.array([g.values[:2] for g in given]).T
    return Apart(
        title=state.frames[key].spec.name, names=tuple(state.marks[g.mark].name for g in given), at=at
    )


def drawing_of(derived: Derived, step: Node | None) -> Drawing | None:
    """What a step draws, None where it has no result."""
    outcome = derived.outcomes.get(step) if step is not None else None
    if outcome is None or outcome.result is None:
        return None
    return STEP_KINDS[outcome.node.kind].drawing(outcome.node, outcome.result)


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


def _add_drawing(scene: Scene, adopted: Adopted, drawing: Drawing) -> None:
    """Residual vectors, ellipses, roles and the hull of the marks held."""
    place = adopted.place
    for key, role in drawing.roles.items():
        if key in place and role == "off":
            scene.off[place[key]] = True
        elif key in place:
            scene.symbol[place[key]] = TRIANGLE if role == "held" else SQUARE
    scene.vector_rows = np.array([place[key] for key in drawing.vector_marks], dtype=int)
    scene.vector_m = drawing.vectors
    scene.ellipse_rows = scene.vector_rows
    scene.ellipse = error_ellipses(drawing.covariance, drawing.reach)
    ends = [(place[a], place[b], r) for a, b, r in drawing.lines if a in place and b in place]
    scene.lines = np.array(ends, dtype=float).reshape(-1, 3).T
    held = [place[key] for key in drawing.hull]
    if 2 < len(held) <= 500:
        scene.hull = convex_hull(scene.e_m[held], scene.n_m[held])
