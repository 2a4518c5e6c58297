"""Rules about velocities of marks."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from fenwind.doubts.registry import Doubt
from fenwind.errors import FenwindError
from fenwind.geodesy.frames import Frame, is_dynamic, open_frame
from fenwind.geodesy.plate_motion import find_plate, likely_plate, rates
from fenwind.job.adopted import Adopted
from fenwind.job.derive import Derived
from fenwind.job.state import JobState
from fenwind.job.velocity_gestures import velocities_in
from fenwind.procedures.onto_plane import MARKS_MEAN

#: How far a mark may move against the plate it stands on, metres a year; more is found in few places, and is
#: then known.
AGAINST_M = 0.020


def velocities(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """Velocities in plan that are not those of the plate: metres for millimetres, a sign, another system."""
    for key, record in state.frames.items():
        found, adopted = velocities_in(state, key), derived.adopted.get(key)
        if not found or not record.active or not record.spec.crs or adopted is None:
            continue
        try:
            frame = open_frame(record.spec)
        except FenwindError:
            continue  # it has a doubt of its own
        for mark, one in found.items():
            row = adopted.place.get(mark)
            if row is None:
                continue
            name, (east, north) = _of_plate(frame, adopted, row)
            off = float(np.hypot(one.east_m - east, one.north_m - north))
            if off > AGAINST_M:
                what = f"the plate {name}" if name else f"what stands still in {record.spec.name}"
                yield Doubt(
                    rule="frame.velocity",
                    subject=one.id,
                    names=(state.mark_name(mark),),
                    text=f"{state.mark_name(mark)} moves {1e3 * off:.0f} mm a year against {what}: is it "
                    "in millimetres, with its signs, and in this system?",
                    value=1e3 * off,
                    limit=1e3 * AGAINST_M,
                    unit="mm a year",
                )


def _of_plate(frame: Frame, adopted: Adopted, row: int) -> tuple[str, tuple[float, float]]:
    """How a mark moves with its plate in a frame, east and north in metres a year, and the plate's name; one
    that is not named is guessed. Without a name where the system itself goes with the plate."""
    if not is_dynamic(frame.geodetic_crs.to_wkt()):
        return "", (0.0, 0.0)
    lat, lon = frame.inverse(adopted.e_m[row : row + 1], adopted.n_m[row : row + 1])
    named = frame.spec.plate
    plate = (
        find_plate(named, frame.geodetic_crs.name)
        if named and named != MARKS_MEAN
        else likely_plate(float(lat[0]), float(lon[0]))
    )
    east, north, _ = rates(frame.geodetic_crs, plate, lat, lon, np.zeros(1))[:, 0]
    return plate.name, (float(east), float(north))
