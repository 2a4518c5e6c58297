"""A world for practice from a job: its marks where they truly are (the demo) or where the job has them."""

from __future__ import annotations

import math
from typing import Any

from fenwind.errors import ProcedureError
from fenwind.job.derive import Derived
from fenwind.job.live_place import LivePlane
from fenwind.job.session_view import places
from fenwind.job.state import JobState
from fenwind.records.sessions import Antenna
from fenwind.standins.tarnholt import JOB_NAME
from fenwind.standins.tarnholt_days import true_places


def world_of_job(
    state: JobState, derived: Derived, folder: str, base: str, height_m: float
) -> dict[str, Any]:
    """The world as its JSON: marks, a base over the mark of that name with its antenna so high, a rover at
    the first other mark. Raises ProcedureError when no mark of the job has a place on the earth."""
    marks = _true_marks() if state.info.name == JOB_NAME else _own_marks(state, derived, folder)
    if not marks:
        raise ProcedureError(
            "no mark of the job has a place on the earth with a height",
            hint="Give marks in a frame with a datum and heights first",
        )
    names = list(marks)
    where = base if base in marks else names[0]
    rover = next((n for n in names if n != where), where)
    antennas = [
        {
            "model": a.model, "radius": a.radius_m, "rim_offset": a.rim_offset_m,
            "mount_offset": a.mount_offset_m, "arp_to_l1": a.arp_to_l1_m,
        }
        for a in state.of(Antenna).values() if a.active
    ]  # fmt: skip
    return {
        "marks": [{"name": n, "lat": p[0], "lon": p[1], "h": p[2]} for n, p in marks.items()],
        "base": {"mark": where, "antenna": {"height": height_m, "method": "vertical"}},
        "rover": {"mark": rover, "pole": 2.0},
        "antennas": antennas,
    }


def _true_marks() -> dict[str, tuple[float, float, float]]:
    """The demo's truth, degrees and ellipsoidal metres."""
    return {name: (math.degrees(lat), math.degrees(lon), h) for name, (lat, lon, h) in true_places().items()}


def _own_marks(state: JobState, derived: Derived, folder: str) -> dict[str, tuple[float, float, float]]:
    """Marks where the job has them: from bases and known ones, else carried back from the plane shown."""
    found = {key: point.geodetic for key, point in places(derived).items()}
    for key, adopted in derived.adopted.items():
        plane = LivePlane(state, derived, key, folder)
        for mark, row in adopted.place.items():
            if mark not in found:
                at = plane.back(
                    float(adopted.e_m[row]), float(adopted.n_m[row]), float(adopted.height_m[row])
                )
                if at is not None:
                    found[mark] = at
    return {
        state.marks[key].name: (math.degrees(lat), math.degrees(lon), h)
        for key, (lat, lon, h) in found.items()
        if key in state.marks
    }
