"""The receivers that the desk listens to, and the occupation under way: sockets in threads of their own,
everything of the job on the window's thread."""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QTimer, Signal

from fenwind.desk.bridge import JobBridge
from fenwind.desk.job_owner import failure
from fenwind.devices.following import Following, Heard
from fenwind.devices.keeping import Keeper, beginning
from fenwind.devices.nmea_in import Epoch
from fenwind.devices.occupying import Limits
from fenwind.devices.transport import address
from fenwind.errors import FenwindError, JobError, ProcedureError
from fenwind.geodesy.antenna import reduced
from fenwind.geodesy.geocentric import enu_axes, from_xyz, to_xyz
from fenwind.job.job import Job, new_id
from fenwind.job.live_place import ground_xyz
from fenwind.job.measuring import Row, keep_rows, kept_rows, settled
from fenwind.job.session_gestures import equipment_of, set_equipment
from fenwind.job.session_view import rover_of
from fenwind.job.steps.base import PlacedBase, antenna_model
from fenwind.records.entries import Gesture
from fenwind.records.sessions import BaseSetup, Equipment, Occupation

FloatArray = NDArray[np.float64]

#: How often the desk looks whether links are still there when nothing comes, and keeps epochs, ms.
LOOK_MS = 250
#: Seconds that figures stand at least before the next come: nobody reads faster.
LEAST_S = 0.06


class Measurement:
    """An occupation under way on the desk. new: the mark was not in the job before."""

    def __init__(self, keeper: Keeper, limits: Limits, epochs: int, new: bool) -> None:
        self.keeper, self.limits, self.epochs, self.new = keeper, limits, epochs, new
        self.passed_by = 0

    def vectors(self) -> FloatArray:
        """East, north, up (3, k) of the epochs from their mean, metres."""
        rows = self.keeper.rows
        xyz = (
            to_xyz(*np.array([(r.lat, r.lon, r.h) for r in rows]).T) - np.array([r.broadcast for r in rows]).T
        )
        lat, lon, _ = from_xyz(to_xyz(rows[0].lat, rows[0].lon, rows[0].h))
        return np.asarray(enu_axes(lat, lon) @ (xyz - xyz.mean(axis=1, keepdims=True)))


class Receivers(QObject):
    """What is listened to for one job. heard: the latest, None before; base: the base that the rover is
    taken to follow."""

    changed = Signal()  # listening or measuring began or ended
    came = Signal()  # something was heard
    _awake = Signal()

    def __init__(self, bridge: JobBridge) -> None:
        super().__init__(bridge)
        self.bridge = bridge
        self.heard: Heard | None = None
        self.epoch: Epoch | None = None
        self.broadcast: FloatArray | None = None
        self.measuring: Measurement | None = None
        bridge.under_way = lambda: self._under_way
        self._under_way = ""  # the occupation that is measured, until the job says that it is finished
        self.base_id = ""
        self._following: Following | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(self._take)
        self._awake.connect(self._come)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self._take)
        self._taken_s = 0.0

    # Equipment

    @property
    def equipment(self) -> Equipment:
        """What the job says of it, else the usual."""
        return equipment_of(self.bridge.state)

    def set_equipment(self, **changes: Any) -> bool:
        """Change what the job says of the equipment."""
        return self.bridge.do(set_equipment(self.bridge.state, **changes))

    # Listening

    @property
    def listening(self) -> bool:
        """Whether a rover is listened to."""
        return self._following is not None

    def listen(self) -> bool:
        """Begin to listen to the rover of the equipment."""
        equipment = self.equipment
        try:
            if not equipment.rover:
                raise ProcedureError("no rover is named", hint="Say where its sentences come from")
            rover = address(equipment.rover)
            rtcm = address(equipment.corrections) if equipment.corrections else None
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        self.stop()
        self._following = Following(rover, rtcm, self._awake.emit)
        self._following.start()
        self.bridge.hurry("receivers")
        self._timer.start()
        self.changed.emit()
        return True

    def stop(self) -> None:
        """Listen no more; an occupation under way stays as it is, unfinished."""
        if self._following is not None:
            self.leave()
            self._timer.stop()
            self._soon.stop()
            self._following.stop()
            self.bridge.take_time("receivers")
            self._following, self.heard, self.epoch, self.broadcast = None, None, None, None
            self.changed.emit()

    def _come(self) -> None:
        """Take what came, at once or as soon as the figures have stood for a moment."""
        left_s = self._taken_s + LEAST_S - time.monotonic()
        self._soon.start(max(0, math.ceil(left_s * 1000.0)))

    def _take(self) -> None:
        if self._following is None:
            return
        self._take_from(self._following)

    def _take_from(self, following: Following) -> None:
        self._taken_s = time.monotonic()
        self.heard = following.take()
        for epoch, broadcast in self.heard.epochs:
            self.epoch, self.broadcast = epoch, broadcast
            if self.measuring is not None:
                self._count(self.measuring, epoch, broadcast)
        if self.measuring is None or not self._keep(self.measuring):
            self.came.emit()

    # Where the rover is

    @property
    def base(self) -> BaseSetup | None:
        """The base that the rover follows: the one chosen, else the one started last."""
        every = sorted(
            (b for b in self.bridge.state.of(BaseSetup).values() if b.active), key=lambda b: b.started
        )
        return next((b for b in every if b.id == self.base_id), every[-1] if every else None)

    @property
    def placed(self) -> PlacedBase | None:
        """Where that base is."""
        base = self.base
        return rover_of(self.bridge.derived).bases.get(base.id) if base is not None else None

    def pole_m(self) -> float:
        """The rover's ARP over the ground. Raises FenwindError."""
        one = self.equipment
        return reduced(one.height_m, one.method, antenna_model(self.bridge.state, one.antenna))

    def ground(self) -> FloatArray | None:
        """The ground point (3,) below the rover, geocentric, from the base as the job has it."""
        if self.epoch is None:
            return None
        try:
            pole = self.pole_m()
        except FenwindError:
            return None
        arp = to_xyz(self.epoch.lat, self.epoch.lon, self.epoch.h)
        placed = self.placed
        sent = self.broadcast if self.broadcast is not None else self.known_broadcast()
        follows = self.epoch.solution in ("fixed", "float", "code")
        return ground_xyz(arp, pole, sent if follows else None, placed.arp.xyz if placed else None)

    def known_broadcast(self) -> FloatArray | None:
        """What the base was known to broadcast (3,), geocentric."""
        base, placed = self.base, self.placed
        if base is None:
            return None
        sent = np.array([base.broadcast_x_m, base.broadcast_y_m, base.broadcast_z_m], dtype=float)
        if np.isfinite(sent).all():
            return sent
        return placed.arp.xyz if placed is not None and base.word != "tie" else None

    def base_away_m(self) -> float | None:
        """Length of the vector from the base."""
        sent = self.broadcast if self.broadcast is not None else self.known_broadcast()
        if self.epoch is None or sent is None:
            return None
        return float(np.linalg.norm(to_xyz(self.epoch.lat, self.epoch.lon, self.epoch.h) - sent))

    # Measuring

    def measure(self, mark: str, check: bool) -> bool:
        """Begin to occupy a mark."""
        try:
            keeper = self._keeper(mark.strip(), check)
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        one = self.equipment
        limits = Limits(
            solution=one.solution, sigma_h_m=one.max_sigma_h_m, sigma_v_m=one.max_sigma_v_m, pdop=one.max_pdop
        )
        new = self.bridge.state.mark_named(keeper.mark) is None
        self.measuring = Measurement(keeper, limits, one.epochs, new)
        self._under_way = keeper.occupation.id
        self.changed.emit()
        return True

    def _keeper(self, mark: str, check: bool) -> Keeper:
        base, one = self.base, self.equipment
        if self._following is None:
            raise ProcedureError("no rover is listened to", hint="Listen first")
        if base is None:
            raise ProcedureError("there is no base to measure from", hint="Start a base first")
        if not mark:
            raise ProcedureError("the mark has no name", hint="Give the mark a name")
        self.pole_m()
        known = self.known_broadcast()
        if known is None and not one.corrections:
            raise ProcedureError(
                f"what base {base.name} broadcasts is not known", hint="Say where its corrections come from"
            )
        record = Occupation(
            id=new_id(), mark="", base=base.id, antenna=one.antenna, height_m=one.height_m, method=one.method,
            check=check, finished=False,
        )  # fmt: skip
        return Keeper(_OnDesk(self.bridge, self._on_not_kept), mark, record, known)

    def _count(self, one: Measurement, epoch: Epoch, broadcast: FloatArray | None) -> None:
        sent = broadcast if broadcast is not None else one.keeper.known
        listened = self.heard is not None and self.heard.corrections is not None
        if sent is None or (listened and broadcast is None) or not one.limits.allow(epoch):
            one.passed_by += 1
            return
        if one.keeper.enough(one.epochs, None):
            return
        try:
            one.keeper.take(epoch, sent)
        except FenwindError as error:
            self.measuring = None
            self.bridge.tell_error(error)
            self._tell_unfinished()

    def _keep(self, one: Measurement) -> bool:
        """Keep what came; True when that was all, and everybody was told."""
        one.keeper.tick()
        return one.keeper.enough(one.epochs, None) and self.finish()

    def finish(self, why: str = "") -> bool:
        """End the occupation with the epochs that came; why: the reason for fewer than were wanted."""
        one, self.measuring = self.measuring, None
        if one is None:
            return False
        keeper, heard = one.keeper, self.heard
        sent = heard.corrections.message_set if heard is not None and heard.corrections else ""
        what = f"Finish {keeper.mark}" + (f" early: {why}" if why else "")

        def make(job: Job) -> Gesture:
            rows = kept_rows(job.file, keeper.occupation.id)
            if len(rows) < len(keeper.rows):
                raise JobError(
                    f"{len(keeper.rows) - len(rows)} of its epochs could not be kept",
                    hint="Make room where the job is, then finish it in the table of occupations",
                )
            return Gesture(what, (settled(job.state, keeper.done(rows, sent)),))

        keeper.flush()
        self.bridge.propose(make, lambda _: self.changed.emit(), self._on_not_finished)
        return True

    def _on_not_kept(self, error: Exception) -> None:
        """A piece of epochs was not kept: it stays to be kept with the next one."""
        self.bridge.told.emit(failure(error), "doubt")

    def _on_not_finished(self, error: Exception) -> None:
        self.bridge.told.emit(failure(error), "doubt")
        self._tell_unfinished()

    def leave(self) -> None:
        """End the occupation without finishing it; its epochs stay in the job."""
        one, self.measuring = self.measuring, None
        if one is not None:
            one.keeper.flush()
            self._tell_unfinished()

    def _tell_unfinished(self) -> None:
        self._under_way = ""
        self.changed.emit()
        self.bridge.changed.emit()  # that it is not finished is a doubt from now on


class _OnDesk:
    """Keeps an occupation in the job on the desk. failed: called with the error where a piece of its epochs
    was not kept; it is tried again with the next."""

    def __init__(self, bridge: JobBridge, failed: Callable[[Exception], object]) -> None:
        self.bridge, self._failed = bridge, failed
        self._unkept: dict[int, list[Row]] = {}

    def begin(self, mark: str, occupation: Occupation, epoch: Epoch) -> Occupation:
        """See Store."""
        gesture, begun = beginning(self.bridge.state, mark, occupation, epoch)
        if not self.bridge.do(gesture):
            raise ProcedureError("the job took no occupation", hint="Measure again in a moment")
        return begun

    def keep(self, occupation: str, number: int, rows: list[Row]) -> None:
        """See Store."""
        pieces, self._unkept = {**self._unkept, number: rows}, {}

        def act(job: Job) -> None:
            for piece, some in pieces.items():
                keep_rows(job.file, occupation, piece, some)

        def failed(error: Exception) -> None:
            self._unkept = {**pieces, **self._unkept}
            self._failed(error)

        self.bridge.ask(act, None, failed, meanwhile=True)
