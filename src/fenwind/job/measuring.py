"""Measuring a mark: epochs are kept as they come, so that whatever ends it loses none; then what they
amount to."""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from dataclasses import dataclass, fields, replace

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import JobError, ProcedureError
from fenwind.geodesy.geocentric import enu_axes, from_xyz, to_xyz
from fenwind.geodesy.own_plane import plane_through
from fenwind.job.file import Blob, JobFile
from fenwind.job.job import new_id
from fenwind.job.state import JobState
from fenwind.procedures.rover import EpochMean, epochs_together, mean_of_epochs
from fenwind.records import series
from fenwind.records.entries import Add, Amend, Entry, amend
from fenwind.records.records import FrameRecord
from fenwind.records.sessions import Occupation

FloatArray = NDArray[np.float64]

#: What an epoch says where the receiver states no sigmas, east, north, up in metres (common practice, no
#: source).
UNSTATED = {
    "fixed": (0.008, 0.008, 0.015), "float": (0.2, 0.2, 0.4), "code": (0.5, 0.5, 1.0),
    "autonomous": (1.5, 1.5, 2.5),
}  # fmt: skip
COLUMNS = (
    ("time", "s"), ("lat", "rad"), ("lon", "rad"), ("h", "m"), ("sigma e", "m"), ("sigma n", "m"),
    ("sigma u", "m"), ("pdop", ""), ("age", "s"), ("solution", ""), ("bx", "m"), ("by", "m"), ("bz", "m"),
)  # fmt: skip
SOLUTIONS = ("autonomous", "code", "float", "fixed")


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """One counted epoch: seconds since 1970 (UTC), position of the ARP, sigmas, PDOP and age (nan without),
    solution, and the base's ARP that was broadcast then, geocentric."""

    time_s: float
    lat: float
    lon: float
    h: float
    sigma: tuple[float, float, float]
    pdop: float
    age: float
    solution: str
    broadcast: tuple[float, float, float]


def pack(rows: Sequence[Row], occupation: str = "", number: int = 0) -> bytes:
    """Epochs as the bytes of a blob. Blobs are kept once by their contents, so that a log that is taken in
    twice needs what tells its pieces apart: whose they are, and their number."""
    whose = float(zlib.crc32(occupation.encode()))
    table = np.array(
        [
            (r.time_s, r.lat, r.lon, r.h, *r.sigma, r.pdop, r.age, SOLUTIONS.index(r.solution), *r.broadcast)
            for r in rows
        ],
        dtype=np.float64,
    ).reshape(-1, len(COLUMNS))
    columns = {name: (unit, table[:, k]) for k, (name, unit) in enumerate(COLUMNS)}
    return series.encode(columns | {"piece": ("", np.array([whose, float(number)]))})


def unpack(data: bytes) -> list[Row]:
    """What `pack` wrote. Raises FormatError."""
    found = series.decode(data)
    table = np.stack([np.asarray(found[name][1], dtype=float) for name, _ in COLUMNS], axis=1)
    return [
        Row(
            time_s=t, lat=lat, lon=lon, h=h, sigma=(se, sn, su), pdop=pdop, age=age,
            solution=SOLUTIONS[int(kind)], broadcast=(bx, by, bz),
        )
        for t, lat, lon, h, se, sn, su, pdop, age, kind, bx, by, bz in table.tolist()
    ]  # fmt: skip


def own_plane(lat: float, lon: float, h: float) -> list[Entry]:
    """A plane of its own for a job without any frame to have its positions on."""
    spec = plane_through("EPSG:4979", np.array([lat]), np.array([lon]), np.array([h]))
    return [Add(record=FrameRecord(id=new_id(), spec=spec))]


def origin_of(occupation: str) -> str:
    """What the blobs of an occupation under way say they come from."""
    return f"epochs of {occupation}"


def keep_rows(file: JobFile, occupation: str, number: int, rows: Sequence[Row]) -> None:
    """Keep some epochs of an occupation under way. Raises JobError."""
    file.append_blobs(
        [Blob(name=f"{number:06d}", origin=origin_of(occupation), data=pack(rows, occupation, number))]
    )


def kept_rows(file: JobFile, occupation: str) -> list[Row]:
    """The epochs kept of an occupation that was not finished, in their order. Raises JobError,
    FormatError."""
    blobs = sorted(file.blobs_of(origin_of(occupation)), key=lambda b: b.name)
    for number, blob in enumerate(blobs):
        if blob.name != f"{number:06d}" or pack(unpack(blob.data), occupation, number) != blob.data:
            raise JobError(
                f"piece {number + 1} of its epochs is missing, or is another's",
                hint="Open a copy of the job from a backup",
            )
    return [row for blob in blobs for row in unpack(blob.data)]


def finished(occupation: Occupation, rows: Sequence[Row], known_broadcast: FloatArray | None) -> Occupation:
    """An occupation with what its epochs amount to; those that lie apart from the others take no part, and
    show in its scatter. known_broadcast: what its base was known to broadcast
    (3,). Raises ProcedureError without an epoch."""
    if not rows:
        raise ProcedureError("there is no epoch to finish it with", hint="Measure the mark again")
    base = np.array([r.broadcast for r in rows]).T
    rover = to_xyz(*np.array([(r.lat, r.lon, r.h) for r in rows]).T)
    worst = min((r.solution for r in rows), key=SOLUTIONS.index)
    every, near = rover - base, epochs_together(rover - base, worst)
    took = [r for r, fine in zip(rows, near.tolist(), strict=True) if fine]
    found: EpochMean = mean_of_epochs(every[:, near], np.array([r.time_s for r in took]), worst)
    lat, lon, _ = from_xyz(rover[:, near].mean(axis=1))
    away = enu_axes(lat, lon) @ (every - found.xyz[:, None])
    # The scatter is that of all epochs, so that those that take no part are seen.
    spread = away.std(axis=1, ddof=1 if len(rows) > 1 else 0)
    own = away[:, near].std(axis=1, ddof=1 if len(took) > 1 else 0)
    one = np.maximum(np.sqrt(np.mean(np.array([r.sigma for r in took]) ** 2, axis=0)), own)
    variance = one**2 / found.effective
    leap = float(np.abs(np.diff(base, axis=1)).max(initial=0.0))
    off = 0.0 if known_broadcast is None else float(np.linalg.norm(base[:, 0] - known_broadcast))
    return replace(
        occupation,
        epochs=len(took),
        dx_m=float(found.xyz[0]), dy_m=float(found.xyz[1]), dz_m=float(found.xyz[2]),
        cee_m2=float(variance[0]), cnn_m2=float(variance[1]), cuu_m2=float(variance[2]),
        solution=worst,
        pdop=_mean([r.pdop for r in rows]),
        age_s=_mean([r.age for r in rows]),
        spread_e_m=float(spread[0]), spread_n_m=float(spread[1]), spread_u_m=float(spread[2]),
        effective=float(found.effective),
        moved_m=leap,
        off_m=off,
        finished=True,
    )  # fmt: skip


def settled(state: JobState, done: Occupation) -> Amend:
    """The amendment that makes an occupation of the job what it came to."""
    old = state.of(Occupation)[done.id]
    names = [f.name for f in fields(Occupation) if getattr(old, f.name) != getattr(done, f.name)]
    return amend(old, **{name: getattr(done, name) for name in names})


def _mean(values: Sequence[float]) -> float | None:
    known = [v for v in values if v == v]
    return float(np.mean(known)) if known else None
