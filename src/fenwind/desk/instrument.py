"""The total station that the desk works with: spoken to in a worker, its readings taken on the window's
thread."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, Signal

from fenwind.desk.bridge import JobBridge
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.devices.instrument import Instrument, InstrumentState
from fenwind.devices.transport import address
from fenwind.errors import FenwindError
from fenwind.job.session_gestures import equipment_of, set_equipment
from fenwind.progress import Progress
from fenwind.records.sessions import Equipment

Work = Callable[[Instrument], object]


class LiveInstrument(QObject):
    """See the module. state, level: what it said last, None before; problem: why it does not do what it was
    told, empty where it does; doing: what it is doing, empty for nothing."""

    changed = Signal()
    read = Signal(object)  # a Reading

    def __init__(self, bridge: JobBridge) -> None:
        super().__init__(bridge)
        self.bridge = bridge
        self.state: InstrumentState | None = None
        self.level: tuple[float, float, bool] | None = None
        self.where, self.problem, self.doing = "", "", ""
        self._runner = TaskRunner(self, "devices")

    @property
    def equipment(self) -> Equipment:
        """What the job says of it, else the usual."""
        return equipment_of(self.bridge.state)

    def set_equipment(self, **changes: Any) -> bool:
        """Change what the job says of the equipment."""
        return self.bridge.do(set_equipment(self.bridge.state, **changes))

    def connect_to(self, where: str) -> bool:
        """Work with the instrument at an address; whether that is one."""
        try:
            address(where)
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        self.where, self.state, self.level = where, None, None
        self.bridge.hurry("instrument")
        self.tell("connecting", lambda instrument: None)
        return True

    def leave(self) -> None:
        """Work with no instrument."""
        self.where, self.state, self.level, self.problem = "", None, None, ""
        self.bridge.take_time("instrument")
        self.changed.emit()

    def tell(self, doing: str, work: Work) -> None:
        """Have it do something, then ask how it stands; nothing while it is still doing something else."""
        if self.doing or not self.where:
            return
        self.doing, self.problem = doing, ""
        task = Task(_work, self.where, work)
        task.signals.succeeded.connect(self._done)
        task.signals.failed.connect(self._failed)
        task.signals.cancelled.connect(self._stopped)
        task.signals.finished.connect(self._finished)
        self._runner.start(task)
        self.changed.emit()

    def stop(self) -> None:
        """Wait no longer for what it is doing."""
        for task in self._runner.live:
            task.cancel()

    def measure(self, both: bool) -> None:
        """Read the prism in sight, in both faces where they are wanted; each reading comes by itself."""

        def work(instrument: Instrument) -> None:
            for reading in instrument.faces(both):
                self.read.emit(reading)

        self.tell("measuring", work)

    def _done(self, found: object) -> None:
        self.state, self.level = found  # type: ignore[misc]

    def _failed(self, error: Exception) -> None:
        if not isinstance(error, FenwindError):
            raise error
        self.problem = error.sentences

    def _stopped(self) -> None:
        self.problem = f"You stopped it {self.doing}. It may still be at it."

    def _finished(self) -> None:
        self.doing = ""
        self.changed.emit()

    def shut_down(self) -> None:
        """Let go of it."""
        self._runner.shut_down()


def _work(where: str, work: Work, *, progress: Progress) -> tuple[InstrumentState, tuple[float, float, bool]]:
    """In a worker: the work, then how the instrument stands."""
    instrument = Instrument(address(where), progress.check)
    work(instrument)
    return instrument.state(), instrument.level()
