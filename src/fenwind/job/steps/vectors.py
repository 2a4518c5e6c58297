"""Occupations as vectors from their bases: read once, whatever becomes of the bases."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from fenwind.errors import FenwindError
from fenwind.geodesy.antenna import AntennaModel, reduced
from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.outcome import Gathering, Node
from fenwind.procedures.rover import Measured
from fenwind.progress import Progress
from fenwind.records.records import Mark
from fenwind.records.sessions import Antenna, BaseSetup, Occupation

_COLUMNS = (
    "mark", "base", "antenna", "height_m", "method", "dx_m", "dy_m", "dz_m", "cee_m2", "cen_m2", "ceu_m2",
    "cnn_m2", "cnu_m2", "cuu_m2", "check", "started", "pdop",
)  # fmt: skip


def vectors_node() -> Node:
    """The step."""
    return Node("vectors", "")


def antennas_of(reader: Reader) -> dict[str, AntennaModel]:
    """Models by name."""
    fields = ("model", "radius_m", "rim_offset_m", "mount_offset_m", "arp_to_l1_m")
    rows = reader.rows(Antenna, *fields, active=True)
    columns = (rows[f].tolist() for f in fields)
    return {
        model: AntennaModel(model=model, radius_m=r, rim_offset_m=rim, mount_offset_m=m, arp_to_l1_m=l1)
        for model, r, rim, m, l1 in zip(*columns, strict=True)
    }


@dataclass(frozen=True, kw_only=True, eq=False)
class OccupationRow:
    """A usable occupation with whether it is a check, when it started, and its PDOP (nan without)."""

    measured: Measured
    check: bool
    started: str
    pdop: float


def _occupations(reader: Reader) -> list[OccupationRow]:
    """Every occupation that is on, finished, of a mark that is on, and has a vector. Antenna heights that
    cannot be reduced leave their occupation out (it has a doubt)."""
    rows = reader.rows(Occupation, *_COLUMNS, active=True, finished=True)
    active = set(reader.rows(Mark, active=True).ids.tolist())
    models = antennas_of(reader)
    out = []
    vectors = np.stack([rows["dx_m"], rows["dy_m"], rows["dz_m"]])
    c = [rows[f] for f in ("cee_m2", "cen_m2", "ceu_m2", "cnn_m2", "cnu_m2", "cuu_m2")]
    covariance = np.array([[c[0], c[1], c[2]], [c[1], c[3], c[4]], [c[2], c[4], c[5]]])
    for i, key in enumerate(rows.ids.tolist()):
        if rows["mark"][i] not in active or not np.isfinite(vectors[:, i]).all():
            continue
        try:
            height = reduced(float(rows["height_m"][i]), rows["method"][i], models.get(rows["antenna"][i]))
        except FenwindError:
            continue
        one = Measured(
            id=key, mark=rows["mark"][i], base=rows["base"][i], vector=vectors[:, i],
            covariance=covariance[:, :, i], height_m=height,
        )  # fmt: skip
        out.append(
            OccupationRow(
                measured=one, check=bool(rows["check"][i]), started=rows["started"][i],
                pdop=float(rows["pdop"][i]),
            )
        )  # fmt: skip
    return out


class Vectors(Gathering):
    """See the module. A base that is placed anew does not read them again."""

    name = "vectors"

    def nodes(self, state: JobState) -> Iterable[Node]:
        """One, where there are bases."""
        return [vectors_node()] if state.of(BaseSetup) else []

    def read(self, node: Node, reader: Reader) -> tuple[tuple[OccupationRow, ...], Digest | None]:
        """Usable occupations."""
        return tuple(_occupations(reader)), None

    def solve(self, inputs: tuple[OccupationRow, ...], progress: Progress) -> tuple[OccupationRow, ...]:
        """As they were read."""
        return inputs
