"""From the command line to an open job: the shell at once, the job in a worker, then the workspace."""

from __future__ import annotations

import argparse
import os
import time
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QObject, QSettings, QStandardPaths, QTimer, Signal

from fenwind.desk.collector import Collector
from fenwind.desk.shell import Shell
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.errors import DamagedJobError, FenwindError
from fenwind.progress import Progress

if TYPE_CHECKING:
    from fenwind.desk.job_owner import Deriver, Results
    from fenwind.job.job import Job

DEMO_FILE = "Tarnholt pumped storage.fenwind"
#: Demo jobs by name: the file of the working copy, and the stage it opens on (the usual one when empty).
DEMOS = {"tarnholt": (DEMO_FILE, ""), "ketterly": ("Ketterly levee.fenwind", "Ground")}


def parse_arguments(arguments: list[str]) -> argparse.Namespace:
    """What to open."""
    parser = argparse.ArgumentParser(
        prog="./start", description="Open a job; without arguments a working copy of the Tarnholt demo job."
    )
    parser.add_argument("job", nargs="?", metavar="JOB", help="job file to open")
    parser.add_argument("--empty", action="store_true", help="start a new, empty job")
    parser.add_argument("--demo", choices=tuple(DEMOS), default="tarnholt", help="which demo job to open")
    parser.add_argument(
        "--fresh",
        action="store_true",
        help="start the demo again; the old working copy is kept under another name",
    )
    return parser.parse_args(arguments)


def data_folder() -> Path:
    """Where new jobs and the demo's working copy live; FENWIND_HOME overrides it."""
    home = os.environ.get("FENWIND_HOME")
    folder = (
        Path(home)
        if home
        else Path(QStandardPaths.writableLocation(QStandardPaths.StandardLocation.GenericDataLocation))
        / "fenwind"
    )
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def free_path(folder: Path, stem: str) -> Path:
    """A job file name that is not taken."""
    candidates = (folder / f"{stem}{'' if i == 1 else f' {i}'}.fenwind" for i in range(1, 10_000))
    return next(path for path in candidates if not path.exists())


def open_job(
    options: argparse.Namespace, folder: Path, *, progress: Progress
) -> tuple[Job, Deriver, Results]:
    """Open or make the job asked for and derive its results, on the thread that owns jobs. Imports the
    numeric libraries."""
    from fenwind.job.job import Job

    progress.check()
    if options.job:
        job = Job.open(options.job)
    elif options.empty:
        path = free_path(folder, f"New job {time.strftime('%Y-%m-%d')}")
        job = Job.create(path, path.stem)
    else:
        job = _demo(folder, options.demo, options.fresh)
    import fenwind.desk.workspace
    from fenwind.desk.job_owner import Deriver

    assert fenwind.desk.workspace  # imported here, so that the window's thread need not wait for it
    deriver = Deriver(os.path.dirname(os.path.abspath(job.path)))
    try:
        return job, deriver, deriver.results(job.state, progress)
    except BaseException:
        job.close()
        raise


def open_intact(path: str, progress: Progress) -> tuple[Job, Deriver, Results]:
    """The intact part of a damaged job, written beside it and opened to be read only."""
    import fenwind.desk.workspace
    from fenwind.desk.job_owner import Deriver
    from fenwind.job.job import Job
    from fenwind.job.rescue import rescue

    assert fenwind.desk.workspace  # as above
    job = Job.open(rescue(path).path, read_only=True)
    deriver = Deriver(os.path.dirname(os.path.abspath(job.path)))
    return job, deriver, deriver.results(job.state, progress)


def _demo(folder: Path, name: str, fresh: bool) -> Job:
    from fenwind.job.job import Job
    from fenwind.standins import ketterly, tarnholt
    from fenwind.standins.demo import make_demo

    path = folder / DEMOS[name][0]
    tarnholt.write_grid(folder)
    if path.exists() and fresh:
        path.rename(free_path(folder, f"{path.stem} until {time.strftime('%Y-%m-%d')}"))
    if path.exists():
        return Job.open(path)
    return {"tarnholt": make_demo, "ketterly": ketterly.make_ketterly}[name](path)


class Launch(QObject):
    """Owns the shell and, once the job is read, its workspace."""

    ready = Signal()

    def __init__(self, options: argparse.Namespace, settings: QSettings | None = None) -> None:
        super().__init__()
        self.shell = Shell(settings if settings is not None else QSettings())
        self.workspace: QObject | None = None
        self._options = options
        self._collector = Collector(self)
        self._runner = TaskRunner(self, "job")
        self.shell.first_painted.connect(lambda: QTimer.singleShot(0, self._begin))
        self.shell.closing.connect(self._runner.shut_down)

    def _begin(self) -> None:
        try:
            folder = data_folder()
        except OSError as error:
            self.shell.say(
                f"{error.filename}: the folder for jobs cannot be made: {error.strerror}.\n\n"
                "Set FENWIND_HOME to a folder you may write to, or name a job file."
            )
            return
        task = Task(open_job, self._options, folder)
        task.signals.succeeded.connect(self._on_job)
        task.signals.failed.connect(self._on_failed)
        self._runner.start(task)

    def _rescue(self) -> None:
        """Open what is intact of a damaged job."""
        path = self._options.job or str(data_folder() / DEMOS[self._options.demo][0])
        task = Task(open_intact, path)
        task.signals.succeeded.connect(self._on_job)
        task.signals.failed.connect(self._on_failed)
        self._runner.start(task)

    def _on_job(self, opened: tuple[Job, Deriver, Results]) -> None:
        from fenwind.desk.workspace import Workspace

        try:
            self.workspace = Workspace(self.shell, *opened)
        except FenwindError as error:
            self._on_failed(error)
            return
        stage = DEMOS[self._options.demo][1]
        if stage and not (self._options.job or self._options.empty):
            self.workspace.show_stage(stage)
        self._collector.set_aside()
        self.ready.emit()

    def _on_failed(self, error: Exception) -> None:
        if isinstance(error, DamagedJobError):
            self.shell.say(f"{error}.\n\n{error.hint}.", "Open the intact part", self._rescue)
        elif isinstance(error, FenwindError):
            self.shell.say(f"{error}.\n\n{error.hint}.")
        else:
            self.shell.say(f"The job could not be opened: {error!r}.")
