"""What is seen of satellites from a place: directions, which are up, and dilution of precision."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.geocentric import enu_axes
from fenwind.gnss.orbits import OMEGA_EARTH, SPEED_OF_LIGHT, Constellation

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Sky:
    """k satellites above the mask: names, systems, azimuth from north and elevation in radians (k,), range to
    each in metres, and unit vectors to them in local east, north, up (3, k)."""

    names: tuple[str, ...]
    systems: NDArray[np.str_]
    azimuth: FloatArray
    elevation: FloatArray
    range_m: FloatArray
    direction: FloatArray

    def dop(self) -> tuple[float, float, float]:
        """PDOP, HDOP and VDOP; inf with too few satellites. One clock a system, as receivers of several
        systems solve for.

        Source: the cofactors of the linearised pseudorange equations (Langley, Dilution of Precision, GPS
        World 10(5), 1999; from memory).
        """
        present = sorted(set(self.systems.tolist()))
        clocks = np.array([[1.0 if s == p else 0.0 for p in present] for s in self.systems.tolist()])
        if len(self.names) < 3 + len(present):
            return np.inf, np.inf, np.inf
        design = np.hstack([-self.direction.T, clocks])
        normal = design.T @ design
        if np.linalg.cond(normal) > 1e10:
            return np.inf, np.inf, np.inf
        q = np.diag(np.linalg.inv(normal))
        return float(np.sqrt(q[:3].sum())), float(np.sqrt(q[:2].sum())), float(np.sqrt(q[2]))


def sky_at(
    constellation: Constellation,
    time_s: float,
    xyz_m: FloatArray,
    lat_rad: float,
    lon_rad: float,
    mask_rad: float,
) -> Sky:
    """The sky over a place at a time in seconds of GPS time, above a mask. Positions are those at the time of
    transmission, in the axes of the time of reception (Sagnac)."""
    there = constellation.positions(time_s)
    travel = np.linalg.norm(there - xyz_m[:, None], axis=0) / SPEED_OF_LIGHT
    turn = OMEGA_EARTH * travel
    x, y = (
        there[0] * np.cos(turn) + there[1] * np.sin(turn),
        there[1] * np.cos(turn) - there[0] * np.sin(turn),
    )
    line = np.stack([x, y, there[2]]) - xyz_m[:, None]
    distance = np.linalg.norm(line, axis=0)
    direction = enu_axes(lat_rad, lon_rad) @ (line / distance)
    elevation = np.arcsin(direction[2])
    up = np.flatnonzero(elevation > mask_rad)
    return Sky(
        names=tuple(constellation.names[i] for i in up),
        systems=constellation.systems[up],
        azimuth=np.mod(np.arctan2(direction[0, up], direction[1, up]), 2.0 * np.pi),
        elevation=elevation[up],
        range_m=distance[up],
        direction=direction[:, up],
    )
