"""What the commands of sessions have in common: a job opened for a moment and derived, antenna options, and
pieces of their answers."""

from __future__ import annotations

import argparse
import math
import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from fenwind.errors import ProcedureError

if TYPE_CHECKING:
    from fenwind.doubts.registry import Doubt
    from fenwind.job.derive import Derived
    from fenwind.job.job import Job
    from fenwind.job.session_view import Moved
    from fenwind.job.state import JobState
    from fenwind.job.steps.outcome import Node, Outcome
    from fenwind.procedures.rover import Point
    from fenwind.records.records import Mark
    from fenwind.records.sessions import BaseSetup


@dataclass
class Opened:
    """A job with what follows from it."""

    job: Job
    derived: Derived

    def again(self) -> Derived:
        """Derive what follows now."""
        from fenwind.job.derive import derive
        from fenwind.job.memory import Memory

        self.derived = derive(self.job.state, Memory(), os.path.dirname(os.path.abspath(self.job.path)))
        return self.derived

    def outcome(self, state: JobState, node: Node) -> Outcome:
        """What a step of another state comes to."""
        from fenwind.job.derive import solve_one
        from fenwind.job.memory import Memory

        return solve_one(state, node, Memory(), os.path.dirname(os.path.abspath(self.job.path)))

    def every_doubt(self) -> tuple[Doubt, ...]:
        """Doubts that are not accepted."""
        from fenwind.doubts.of_job import Judge

        return Judge().judge(self.job.state, self.derived).open

    def doubts(self) -> list[Doubt]:
        """Those about sessions."""
        from fenwind.doubts.of_job import about_sessions

        return list(about_sessions(self.job.state, self.derived))


@contextmanager
def opened_job(path: str) -> Iterator[Opened]:
    """A job opened for a moment and derived. Raises JobError."""
    from fenwind.job.briefly import opened

    with opened(path) as job:
        found = Opened(job, None)  # type: ignore[arg-type]
        found.again()
        yield found


def add_antenna_options(parser: argparse.ArgumentParser, pole: bool) -> None:
    """--height, --method, --antenna, and --pole for a rover."""
    from fenwind.geodesy.antenna import METHODS

    if pole:
        parser.add_argument(
            "--pole", metavar="M", type=float, help="vertical height of the ARP over the mark"
        )
    parser.add_argument("--height", metavar="M", type=float, help="antenna height as it was measured")
    parser.add_argument("--method", choices=METHODS, help="how it was measured; default: vertical")
    parser.add_argument("--antenna", metavar="MODEL", default="", help="one of the job's antennas")


def antenna_of(options: argparse.Namespace, job: Job) -> tuple[float, Any, str]:
    """Value, method and model of an antenna height. Raises ProcedureError when it cannot be reduced."""
    value, method = options.height, options.method or "vertical"
    if getattr(options, "pole", None) is not None:
        if value is not None or options.method not in (None, "vertical"):
            raise ProcedureError("--pole and --height are both given", hint="Give one of them")
        value = options.pole
    check_height(job, value or 0.0, method, options.antenna)
    return value or 0.0, method, options.antenna


def check_height(job: Job, value: float, method: str, model: str) -> None:
    """Raises ProcedureError when an antenna height cannot be reduced with the job's antennas."""
    from fenwind.geodesy.antenna import reduced
    from fenwind.job.steps.base import antenna_model
    from fenwind.records.sessions import Antenna

    found = antenna_model(job.state, model)
    if model and found is None:
        known = sorted(a.model for a in job.state.of(Antenna).values() if a.active)
        raise ProcedureError(
            f"the job has no antenna {model!r}", hint=f"Name one of {', '.join(known) or 'none yet'}"
        )
    reduced(value, method, found)


def base_named(job: Job, name: str) -> BaseSetup:
    """A base by its name. Raises ProcedureError."""
    from fenwind.records.sessions import BaseSetup

    every = [b for b in job.state.of(BaseSetup).values() if b.active]
    found = next((b for b in every if name in (b.name, b.id)), None)
    if found is None:
        raise ProcedureError(
            f"the job has no base {name!r}",
            hint=f"Name one of {', '.join(b.name for b in every)}" if every else "Start a base first",
        )
    return found


def mark_named(job: Job, name: str) -> Mark:
    """A mark by its name. Raises ProcedureError."""
    found = job.state.mark_named(name)
    if found is None:
        raise ProcedureError(f"the job has no mark {name!r}", hint="Check its name")
    return found


def place_json(point: Point) -> dict[str, float]:
    """Latitude and longitude in degrees, ellipsoidal height in metres."""
    lat, lon, h = point.geodetic
    return {"lat": math.degrees(lat), "lon": math.degrees(lon), "h": h}


def moved_json(found: Moved) -> dict[str, Any]:
    """How many marks moved, and how far."""
    return {"marks": found.marks, "de": found.de_m, "dn": found.dn_m, "dh": found.dh_m}
