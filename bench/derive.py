"""Derivation: 25,000 marks occupied twice with one amended, 1,000 steps of which one changed, and the
memory of a job of 100,000 marks."""

from __future__ import annotations

import math
import resource
import subprocess
import sys
import time
from dataclasses import replace

import numpy as np

from bench.timing import median, say
from fenwind.geodesy.frames import FrameSpec
from fenwind.job.derive import derive
from fenwind.job.memory import Memory
from fenwind.job.state import JobState
from fenwind.records.entries import Add, amend
from fenwind.records.records import FitStep, FrameRecord, GivenPosition, Mark, MeasuredPosition, Record

SIGMAS = {"sigma_h_m": 0.01, "sigma_v_m": 0.02}


def state_of(records: list[Record]) -> JobState:
    """A job in memory."""
    state = JobState()
    for record in records:
        state.apply(Add(record=record))
    return state


def occupations(marks: int, times: int, crs: str) -> list[Record]:
    """Marks around 61.3 N 8.4 E, each occupied some times."""
    rng = np.random.default_rng(1)
    records: list[Record] = [FrameRecord(id="map", spec=FrameSpec(name="UTM 32N", crs="EPSG:25832"))]
    lat = np.radians(61.3 + rng.uniform(-0.2, 0.2, marks))
    lon = np.radians(8.4 + rng.uniform(-0.3, 0.3, marks))
    for i in range(marks):
        records.append(Mark(id=f"m{i}", name=f"M{i}"))
        place = {"lat_rad": float(lat[i]), "lon_rad": float(lon[i]), "crs": crs}
        records += [
            MeasuredPosition(id=f"o{i}-{t}", mark=f"m{i}", h_m=100 + t / 100, **place, **SIGMAS)
            for t in range(times)
        ]
    return records


def one_amended() -> None:
    """One occupation of 50,000 amended."""
    state, memory = state_of(occupations(25_000, 2, "EPSG:4937")), Memory()
    started = time.perf_counter()
    derive(state, memory)
    first = time.perf_counter() - started
    heights = iter(np.linspace(90.0, 99.0, 50).tolist())

    def change() -> None:
        state.apply(amend(state.measured["o77-1"], h_m=next(heights)))
        derive(state, memory)

    print(f"25,000 marks occupied twice, derived the first time: {first:.2f} s")
    say("25,000 marks occupied twice, one amended", median(change, 9), 0.3, "s")


def one_step_of_many() -> None:
    """1,000 fits over 20 marks each; the tolerance of one is changed."""
    rng = np.random.default_rng(2)
    records: list[Record] = [
        FrameRecord(id="a", spec=FrameSpec(name="A")),
        FrameRecord(id="b", spec=FrameSpec(name="B")),
    ]
    for i in range(20):
        e, n = rng.uniform(0, 1000, 2)
        common = {"mark": f"m{i}", "h_m": 5.0, "sigma_h_m": 0.01, "sigma_v_m": 0.02, "frame": "a"}
        records.append(Mark(id=f"m{i}", name=f"M{i}"))
        records.append(MeasuredPosition(id=f"o{i}", e_m=float(e), n_m=float(n), **common))
        records.append(GivenPosition(id=f"g{i}", mark=f"m{i}", frame="b", e_m=e + 7, n_m=n - 3, height_m=6.0))
    first = FitStep(id="f0", name="Fit 0", source_frame="a", target_frame="b", tolerance_h_m=0.01)
    records += [replace(first, id=f"f{i}", name=f"Fit {i}") for i in range(1000)]
    state, memory = state_of(records), Memory()
    derive(state, memory)
    alone, alone_memory = state_of([r for r in records if not isinstance(r, FitStep)] + [first]), Memory()
    derive(alone, alone_memory)
    sizes = iter(np.linspace(0.011, 0.02, 200).tolist())

    def change(job: JobState, known: Memory, key: str) -> None:
        job.apply(amend(job.fits[key], tolerance_h_m=next(sizes)))
        derive(job, known)

    many = median(lambda: change(state, memory, "f500"), 15)
    one = median(lambda: change(alone, alone_memory, "f0"), 15)
    print(f"one step alone {one * 1e3:.1f} ms, the same among 1,000 {many * 1e3:.1f} ms")
    say("derivation of 1,000 steps of which one changed, beside that step", (many - one) * 1e3, 10.0, "ms")


def memory_of_many() -> None:
    """Peak of a process that derives a job of 100,000 marks."""
    code = "from bench.derive import *; state = state_of(occupations(100_000, 1, 'EPSG:4937')); "
    code += "derive(state, Memory()); print(peak())"
    found = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    say("memory of a job of 100,000 marks", float(found.stdout), 500.0, "MB")


def peak() -> float:
    """Largest memory of this process, MB."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024.0


def main() -> None:
    """Measure and print."""
    one_amended()
    one_step_of_many()
    memory_of_many()
    assert math.isfinite(peak())


if __name__ == "__main__":
    main()
