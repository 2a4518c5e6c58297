"""A world for practice from a job: its marks where they truly are (the demo) or where the job has them."""

from __future__ import annotations

import math
from contextlib import suppress
from typing import Any

import numpy as np

from fenwind.errors import FenwindError, ProcedureError
from fenwind.geodesy.frames import open_frame
from fenwind.geodesy.refraction import EARTH_RADIUS_M
from fenwind.job.derive import Derived
from fenwind.job.live_place import LivePlane
from fenwind.job.reader import with_grid_folder
from fenwind.job.session_view import places
from fenwind.job.state import JobState
from fenwind.quantities.angles import RAD_PER_DEGREE, RAD_PER_SECOND
from fenwind.records.sessions import Antenna
from fenwind.standins.tarnholt import JOB_NAME
from fenwind.standins.tarnholt_days import true_places


def world_of_job(
    state: JobState, derived: Derived, folder: str, base: str, height_m: float
) -> dict[str, Any]:
    """The world as its JSON: marks, a base over the mark of that name with its antenna so high, a rover at
    the first other mark. Raises ProcedureError when no mark of the job has a place on the earth."""
    marks = _marks(state, derived, folder)
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
        "marks": _listed(marks),
        "base": {"mark": where, "antenna": {"height": height_m, "method": "vertical"}},
        "rover": {"mark": rover, "pole": 2.0},
        "antennas": antennas,
    }


def station_world_of_job(
    state: JobState, derived: Derived, folder: str, stands: dict[str, Any], height_m: float
) -> dict[str, Any]:
    """The world of an instrument as its JSON: it stands over a mark ({"mark": name}) or at a place (lat, lon,
    h), so high; the prism on its pole at the first other mark. Raises as `world_of_job` does."""
    marks = _marks(state, derived, folder)
    if stands.get("mark") not in marks and "lat" not in stands:
        stands = {"mark": next(iter(marks))}
    at = marks.get(str(stands.get("mark")), (stands.get("lat", 0.0), stands.get("lon", 0.0), 0.0))
    north, east = _lean(state, folder, at[0] * RAD_PER_DEGREE, at[1] * RAD_PER_DEGREE)
    stands = {**stands, "lean_north_s": north, "lean_east_s": east}
    pole = next((n for n in marks if n != stands.get("mark")), next(iter(marks)))
    return {
        "marks": _listed(marks), "station": {**stands, "height": height_m},
        "pole": {"mark": pole, "height": 1.5}, "air": _air_at(at[2]),
    }  # fmt: skip


def _air_at(h_m: float) -> dict[str, float]:
    """Air of the standard atmosphere at a height (ICAO, from memory)."""
    part = max(1.0 - 0.0065 * h_m / 288.15, 0.5)
    return {"temperature": round(15.0 - 0.0065 * h_m, 1), "pressure": round(1013.25 * part**5.2559, 1)}


def _lean(state: JobState, folder: str, lat: float, lon: float) -> tuple[float, float]:
    """What the plumb line leans to the north and east at a place, seconds, by the slope of the first geoid of
    the job's frames that reaches it; nothing without one."""
    step = 1e-4
    at = np.array([lat + step, lat - step, lat, lat]), np.array([lon, lon, lon + step, lon - step])
    for record in state.frames.values():
        if record.active and record.spec.height.kind == "geoid":
            with suppress(FenwindError):
                n = open_frame(with_grid_folder(record.spec, folder)).geoid_height(*at)
                east, north = (n[2] - n[3]) / math.cos(lat), n[0] - n[1]
                lean = [-float(d) / (2.0 * step * EARTH_RADIUS_M) / RAD_PER_SECOND for d in (north, east)]
                if math.isfinite(sum(lean)):
                    return lean[0], lean[1]
    return 0.0, 0.0


def _marks(state: JobState, derived: Derived, folder: str) -> dict[str, tuple[float, float, float]]:
    """Where the marks are in the world, degrees and ellipsoidal metres. Raises ProcedureError with none."""
    marks = _true_marks() if state.info.name == JOB_NAME else _own_marks(state, derived, folder)
    if not marks:
        raise ProcedureError(
            "no mark of the job has a place on the earth with a height",
            hint="Give marks in a frame with a datum and heights first",
        )
    return marks


def _listed(marks: dict[str, tuple[float, float, float]]) -> list[dict[str, Any]]:
    return [{"name": n, "lat": p[0], "lon": p[1], "h": p[2]} for n, p in marks.items()]


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
