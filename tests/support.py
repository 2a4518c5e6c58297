"""What several tests need: made-up pairs with a known truth, and jobs in temporary folders."""

from __future__ import annotations

import io
import json
import math
import struct
import tempfile
import unittest
from contextlib import redirect_stderr, redirect_stdout
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from fenwind.cli import main
from fenwind.job.derive import Derived, derive
from fenwind.job.job import Job
from fenwind.job.memory import Memory
from fenwind.procedures.fit import FitOptions, FitResult, fit
from fenwind.procedures.fit_case import FitCase
from fenwind.procedures.positions import Positions, positions
from fenwind.procedures.ratio_causes import Place
from fenwind.standins import tarnholt
from fenwind.standins.demo import make_demo

DATA = Path(__file__).parent / "data"


@dataclass
class Pairs:
    """Measured and known positions with the similarity that lies between them; edit the arrays to plant a
    blunder."""

    names: list[str]
    measured: np.ndarray  # (3, k) e, n, h
    known: np.ndarray  # (3, k)
    sigma_h: float
    sigma_v: float
    sigmas_given: bool = True

    def positions(self) -> tuple[Positions, Positions]:
        k = len(self.names)
        sigmas = (np.full(k, self.sigma_h), np.full(k, self.sigma_v)) if self.sigmas_given else (None, None)
        known = self.known[:, : self.known.shape[1]]
        return positions(self.names, *self.measured, *sigmas), positions(self.names[: known.shape[1]], *known)

    def fit(self, **options: object) -> FitResult:
        return fit(*self.positions(), FitOptions(**options))  # type: ignore[arg-type]

    def case(
        self, area=None, lat=None, lon=None, combined=None, over_geoid=False, **options: object
    ) -> FitCase:
        measured, known = self.positions()
        result = fit(measured, known, FitOptions(**options))  # type: ignore[arg-type]
        return FitCase(
            subject="fit",
            measured=measured,
            known=known,
            result=result,
            area=area,
            lat_rad=lat,
            lon_rad=lon,
            place=None
            if combined is None
            else Place(point_scale=combined, elevation=1.0, radius_m=6.37e6, height_m=0.0),
            over_geoid=over_geoid,
        )


def made_up_pairs(
    k: int = 8, marks: int = 0, turn: float = 0.21, scale: float = 1.0, noise: float = 0.004, seed: int = 7,
    spread: float = 1200.0,
) -> Pairs:  # fmt: skip
    """k pairs and further measured marks over a few square kilometres; heights lower by 45 m in the known
    system."""
    rng = np.random.default_rng(seed)
    total = k + marks
    e, n, h = (
        rng.uniform(-spread, spread, total),
        rng.uniform(-spread, spread, total),
        rng.uniform(1180, 1260, total),
    )
    c, s = scale * math.cos(turn), scale * math.sin(turn)
    known = np.stack([1300 + c * e + s * n, 2100 - s * e + c * n, h - 45.0])[:, :k]
    measured = np.stack([463000 + e, 6796000 + n, h]) + rng.normal(0, 1, (3, total)) * np.array(
        [[noise], [noise], [2 * noise]]
    )
    return Pairs(
        [f"T-{i + 1:02d}" for i in range(total)], measured, known, max(noise, 1e-4), max(2 * noise, 1e-4)
    )


class TempFolder(unittest.TestCase):
    """A temporary folder that goes away with the test."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def write(self, name: str, content: str | bytes) -> str:
        path = self.folder / name
        path.write_bytes(content.encode() if isinstance(content, str) else content)
        return str(path)

    def path(self, name: str) -> str:
        return str(self.folder / name)

    def demo(self, name: str = "demo.fenwind", planted: bool = False) -> Job:
        tarnholt.write_grid(self.folder)
        job = Job.create(
            self.folder / name, tarnholt.JOB_NAME, tarnholt.records(planted=planted), frame="dam"
        )
        self.addCleanup(job.close)
        return job

    def derive(self, job: Job, memory: Memory | None = None) -> Derived:
        return derive(job.state, memory or Memory(), str(self.folder))


def write_plane_geoid(path: str, lat: float, lon: float, n_m: float, north: float, east: float) -> None:
    """A GTX grid around a place (degrees): n_m there, rising by `north` and `east` metres a degree."""
    rows = columns = 41
    step, south, west = 0.01, lat - 0.2, lon - 0.2
    y, x = np.meshgrid(
        np.arange(rows) * step + south - lat, np.arange(columns) * step + west - lon, indexing="ij"
    )
    head = struct.pack(">4d2i", south, west, step, step, rows, columns)
    Path(path).write_bytes(head + (n_m + north * y + east * x).astype(">f4").tobytes())


class CommandCase(TempFolder):
    """Runs commands in this process and reads what they answer."""

    def run_json(self, *arguments: str, code: int = 0) -> Any:
        """The object that a command prints with --json; its one line of refusal for the exit code 2."""
        out, said = io.StringIO(), io.StringIO()
        with redirect_stdout(out), redirect_stderr(said):
            found = main([*arguments, "--json"])
        self.assertEqual(found, code, out.getvalue() + said.getvalue())
        if code == 2:
            self.assertEqual((out.getvalue(), said.getvalue().count("\n")), ("", 1))
            return said.getvalue()
        return json.loads(out.getvalue())


class DemoCase(CommandCase):
    """With the whole demo job, its days, networks, setups and lines, as `job`."""

    def setUp(self) -> None:
        super().setUp()
        tarnholt.write_grid(self.folder)
        self.job = make_demo(self.folder / "demo.fenwind")
        self.addCleanup(self.job.close)
