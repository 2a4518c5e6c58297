"""Where a rover is now, as the job sees it: from its base as the job has it, on the plane of a frame, through
a fit where the frame has no other tie to the earth."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FenwindError
from fenwind.geodesy.frames import Frame, open_frame
from fenwind.geodesy.geocentric import enu_axes, from_xyz
from fenwind.job.derive import Derived
from fenwind.job.reader import with_grid_folder
from fenwind.job.state import JobState
from fenwind.job.steps.fit import fit_node
from fenwind.job.steps.receiver_known import receiver_system, to_receivers
from fenwind.procedures.fit import FitResult
from fenwind.procedures.onto_plane import into_datum, tied
from fenwind.procedures.positions import Positions
from fenwind.procedures.to_plane import to_plane

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class OnPlane:
    """A place on the plane of a frame, metres; height nan where the frame's heights are not reached."""

    e_m: float
    n_m: float
    height_m: float


def ground_xyz(
    arp: FloatArray, height_m: float, broadcast: FloatArray | None, base: FloatArray | None
) -> FloatArray:
    """Geocentric ground point (3,) below a rover. arp: its ARP as it says; base: where the job has the ARP of
    its base, broadcast: where that says it is; what they differ by is in the rover's position as well."""
    true = arp if broadcast is None or base is None else arp - broadcast + base
    lat, lon, _ = from_xyz(true)
    return np.asarray(true - height_m * enu_axes(lat, lon)[2])


class LivePlane:
    """Carries places onto one frame of a job as it is now; made again when the job changes."""

    def __init__(self, state: JobState, derived: Derived, key: str, folder: str) -> None:
        self._fit: FitResult | None = None
        self._frame = self._open(state, key, folder)
        if self._frame is not None and not self._frame.has_datum:
            self._frame = None
            for step in state.fits.values():
                found = derived.outcomes.get(fit_node(step.id))
                source = self._open(state, step.source_frame, folder)
                tied_so = source is not None and source.has_datum and step.target_frame == key
                if tied_so and step.active and found is not None and found.result is not None:
                    self._fit, self._frame = found.result.case.result, source

    @staticmethod
    def _open(state: JobState, key: str, folder: str) -> Frame | None:
        record = state.frames.get(key)
        try:
            return open_frame(with_grid_folder(record.spec, folder)) if record is not None else None
        except FenwindError:
            return None

    def place(self, xyz: FloatArray) -> OnPlane | None:
        """Where a geocentric ground point (3,) lies; None where no way leads there."""
        if self._frame is None:
            return None
        try:
            found = self._carried(self._frame, xyz)
        except FenwindError:
            return None
        if not np.isfinite(found.e_m[0] + found.n_m[0]):
            return None
        return OnPlane(e_m=float(found.e_m[0]), n_m=float(found.n_m[0]), height_m=float(found.height_m[0]))

    def back(self, e_m: float, n_m: float, height_m: float) -> tuple[float, float, float] | None:
        """Latitude and longitude (radians) and ellipsoidal height of a place on the plane, in the system that
        receivers' positions are in; None where no way leads there."""
        if self._frame is None or not (self._frame.has_datum and tied(self._frame)):
            return None
        e, n, h = np.array([e_m]), np.array([n_m]), np.array([height_m])
        if self._fit is not None:
            e, n, h = self._fit.inverse(e, n, h)
        lat, lon = self._frame.inverse(e, n)
        lat, lon, up = to_receivers(self._frame, lat, lon, h + self._frame.geoid_height(lat, lon))
        found = (float(lat[0]), float(lon[0]), float(up[0]))
        return found if np.isfinite(found).all() else None

    def _carried(self, frame: Frame, xyz: FloatArray) -> Positions:
        lat, lon, h = (np.array([float(v)]) for v in from_xyz(xyz))
        done = into_datum(lat, lon, h, receiver_system(frame), frame, frame.spec.epoch_year)
        plane = to_plane(frame, ["rover"], done.lat_rad, done.lon_rad, done.h_ell_m, lenient=True)
        return self._fit.forward(plane) if self._fit is not None else plane
