"""The demo job in a file: the dam's marks, two days of base and rover work, the control network."""

from __future__ import annotations

from pathlib import Path

from fenwind.job.job import Job
from fenwind.job.measuring import keep_rows
from fenwind.standins.tarnholt import JOB_NAME, records
from fenwind.standins.tarnholt_days import days
from fenwind.standins.tarnholt_lines import lines
from fenwind.standins.tarnholt_network import design, network
from fenwind.standins.tarnholt_setups import setups


def make_demo(path: Path) -> Job:
    """The demo job with its two days, in a new file beside its geoid grid. Raises JobError."""
    added = days()
    work = [*network(path.parent), *design(), *setups(path.parent), *lines()]
    every = [*records(planted=True), *added.records, *work]
    job = Job.create(path, JOB_NAME, every, frame="dam")
    for key, rows in added.epochs.items():
        keep_rows(job.file, key, 0, rows)
    return job
