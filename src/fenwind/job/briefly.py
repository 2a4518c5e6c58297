"""A job opened for a moment, so that others may open it in between."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

from fenwind.errors import JobBusyError
from fenwind.job.file import JobFile
from fenwind.job.job import Job

#: How long another's hold on the job is waited out, and between tries, seconds.
PATIENCE_S, RETRY_S = 20.0, 0.05


def open_file(path: str, patience_s: float = PATIENCE_S) -> JobFile:
    """The file of a job, once nobody else holds it. Raises JobError."""
    until = time.monotonic() + patience_s
    while True:
        try:
            return JobFile(path)
        except JobBusyError:
            if time.monotonic() > until:
                raise
        time.sleep(RETRY_S)


@contextmanager
def opened(path: str) -> Iterator[Job]:
    """A job, closed at the end. Raises JobError."""
    file = open_file(path)
    try:
        yield Job(file)
    finally:
        file.close()


@contextmanager
def opened_file(path: str) -> Iterator[JobFile]:
    """The file alone, for what needs no records. Raises JobError."""
    file = open_file(path)
    try:
        yield file
    finally:
        file.close()
