"""fenwind measure: occupy a mark with a rover; every epoch is in the job within a second."""

from __future__ import annotations

import argparse
import time
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

from fenwind.errors import ProcedureError

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from fenwind.commands.session_json import Opened
    from fenwind.devices.nmea_in import Epoch
    from fenwind.devices.rtcm_in import RtcmReader
    from fenwind.job.measuring import Row
    from fenwind.records.sessions import Occupation

_DESCRIPTION = """Occupy a mark with a rover until enough epochs count. Without more: 30 epochs, fixed, and a
wait of at most 60 s for one that counts. Interrupted, the epochs so far stay in the job as an unfinished
occupation (fenwind sessions JOB --finish ID). Places are as in fenwind base."""
#: Epochs are kept at least so often, seconds.
KEEP_S = 1.0


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    from fenwind.commands.session_json import add_antenna_options

    parser = verbs.add_parser("measure", help="occupy a mark with a rover", description=_DESCRIPTION)
    parser.add_argument("job", metavar="JOB")
    parser.add_argument("--rover", metavar="PLACE", required=True, help="the rover's sentences")
    parser.add_argument("--mark", metavar="NAME", required=True)
    parser.add_argument("--base", metavar="BASE", required=True)
    how_long = parser.add_mutually_exclusive_group()
    how_long.add_argument("--seconds", metavar="S", type=float, help="of the receiver's own time")
    how_long.add_argument("--epochs", metavar="N", type=int)
    parser.add_argument("--solution", choices=("fixed", "float", "any"), default="fixed")
    parser.add_argument("--max-sh", metavar="M", type=float, help="sigma in plan at most")
    parser.add_argument("--max-sv", metavar="M", type=float, help="sigma in height at most")
    parser.add_argument("--max-pdop", metavar="P", type=float)
    parser.add_argument("--check", action="store_true", help="compare only: it takes no part in the mean")
    parser.add_argument("--rtcm", metavar="PLACE", help="the base's corrections, for what it broadcasts")
    parser.add_argument("--wait", metavar="S", type=float, default=60.0)
    add_antenna_options(parser, pole=True)
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Measure, keep, and tell."""
    from fenwind.commands.answers import positive
    from fenwind.devices.occupying import Limits
    from fenwind.devices.transport import address

    for name in ("seconds", "epochs", "max_sh", "max_sv", "max_pdop", "wait"):
        positive(getattr(options, name), f"--{name.replace('_', '-')}")
    rover = address(options.rover)
    rtcm = address(options.rtcm) if options.rtcm else None
    limits = Limits(
        solution=options.solution, sigma_h_m=options.max_sh, sigma_v_m=options.max_sv, pdop=options.max_pdop
    )
    keeper = _prepared(options)
    _collect(options, keeper, limits, rover, rtcm)
    return _finish(options, keeper)


@dataclass
class _Keeper:
    """What is kept of an occupation under way."""

    path: str
    mark: str
    occupation: Occupation
    known: NDArray[Any] | None
    rows: list[Row] = field(default_factory=list)
    fresh: list[Row] = field(default_factory=list)
    number: int = 0
    last: float = 0.0
    coarse: float = 0.0

    def take(self, epoch: Epoch, broadcast: NDArray[Any]) -> None:
        """Take an epoch; the first puts the occupation into the job."""
        from fenwind.job.measuring import UNSTATED, Row

        x, y, z = (float(v) for v in broadcast)
        nan = float("nan")
        row = Row(
            time_s=epoch.time.timestamp(), lat=epoch.lat, lon=epoch.lon, h=epoch.h,
            sigma=epoch.sigma or UNSTATED[epoch.solution], pdop=nan if epoch.pdop is None else epoch.pdop,
            age=nan if epoch.age is None else epoch.age, solution=epoch.solution, broadcast=(x, y, z),
        )  # fmt: skip
        minutes, heights = epoch.decimals
        self.coarse = max(self.coarse, 1852.0 * 10.0**-minutes, 10.0**-heights)
        self.rows.append(row)
        self.fresh.append(row)
        if len(self.rows) == 1:
            self._begin(epoch)

    def _begin(self, epoch: Epoch) -> None:
        from fenwind.job.briefly import opened
        from fenwind.job.gestures import new_mark
        from fenwind.job.measuring import own_plane
        from fenwind.records.entries import Add, Entry

        moment = epoch.time.isoformat()
        self.occupation = replace(self.occupation, started=moment, ended=moment)
        with opened(self.path) as job:
            entries: list[Entry] = []
            if not job.state.frames:
                entries += own_plane(epoch.lat, epoch.lon, epoch.h)
            mark = job.state.mark_named(self.mark)
            if mark is None:
                mark, gesture = new_mark(job.state, self.mark)
                entries += gesture.entries
            self.occupation = replace(self.occupation, mark=mark.id, finished=False)
            job.record(f"Measure {self.mark}", [*entries, Add(record=self.occupation)])
        self.flush()

    def flush(self) -> None:
        """Put what is fresh into the job."""
        from fenwind.job.briefly import opened_file
        from fenwind.job.measuring import keep_rows

        if self.fresh:
            with opened_file(self.path) as file:
                keep_rows(file, self.occupation.id, self.number, self.fresh)
            self.number, self.fresh, self.last = self.number + 1, [], time.monotonic()

    def tick(self) -> None:
        """Keep what is fresh when it is time."""
        if self.fresh and time.monotonic() - self.last >= 0.5 * KEEP_S:
            self.flush()


def _prepared(options: argparse.Namespace) -> _Keeper:
    """Everything that the job must say before anything is measured."""
    import numpy as np

    from fenwind.commands.session_json import antenna_of, base_named, opened_job
    from fenwind.job.gestures import new_mark
    from fenwind.job.job import new_id
    from fenwind.job.session_view import rover_of
    from fenwind.records.sessions import Occupation

    with opened_job(options.job) as found:
        base = base_named(found.job, options.base)
        height, method, model = antenna_of(options, found.job)
        if found.job.state.mark_named(options.mark) is None:
            new_mark(found.job.state, options.mark)
        sent = np.array([base.broadcast_x_m, base.broadcast_y_m, base.broadcast_z_m], dtype=float)
        placed = rover_of(found.derived).bases.get(base.id)
        known = sent if np.isfinite(sent).all() else None
        if known is None and placed is not None and base.word != "tie":
            known = placed.arp.xyz
        if known is None and not options.rtcm:
            raise ProcedureError(
                f"what base {base.name} broadcasts is not known", hint="Give its corrections with --rtcm"
            )
    record = Occupation(
        id=new_id(), mark="", base=base.id, antenna=model, height_m=height, method=method,
        check=options.check, finished=False,
    )  # fmt: skip
    return _Keeper(path=options.job, mark=options.mark.strip(), occupation=record, known=known)


def _collect(options: argparse.Namespace, keeper: _Keeper, limits: Any, rover: Any, rtcm: Any) -> None:
    """Take epochs until there are enough. Raises DeviceError, with what stays in the job."""
    from fenwind.devices.nmea_in import NmeaReader
    from fenwind.devices.occupying import counted_epochs
    from fenwind.devices.rtcm_in import RtcmReader
    from fenwind.devices.transport import DeviceError

    wanted = options.epochs or (None if options.seconds else 30)
    stream = RtcmReader()
    try:
        for epoch in counted_epochs(rover, limits, options.wait, rtcm, NmeaReader(), stream, keeper.tick):
            keeper.take(epoch, _broadcast(keeper, stream))
            keeper.tick()
            span = keeper.rows[-1].time_s - keeper.rows[0].time_s
            if len(keeper.rows) == wanted or (options.seconds and span >= options.seconds - 1e-6):
                break
    except DeviceError as error:
        if not keeper.rows:
            raise
        keeper.flush()
        raise DeviceError(f"{error}; {_left(keeper)}", hint=error.hint) from error
    except KeyboardInterrupt:
        if not keeper.rows:
            raise ProcedureError("interrupted before anything counted", hint="Measure again") from None
        keeper.flush()
        raise ProcedureError(f"interrupted; {_left(keeper)}", hint="Finish it, or measure again") from None
    keeper.flush()
    keeper.occupation = replace(keeper.occupation, message_set=stream.set)


def _left(keeper: _Keeper) -> str:
    return f"{len(keeper.rows)} epochs stay as the unfinished occupation {keeper.occupation.id}"


def _broadcast(keeper: _Keeper, stream: RtcmReader) -> NDArray[Any]:
    found = stream.position if stream.position is not None else keeper.known
    assert found is not None
    return found


def _finish(options: argparse.Namespace, keeper: _Keeper) -> int:
    from datetime import UTC, datetime

    from fenwind.commands.session_json import opened_job
    from fenwind.job.measuring import finished, kept_rows, settled

    with opened_job(options.job) as found:
        rows = kept_rows(found.job.file, keeper.occupation.id)
        ended = datetime.fromtimestamp(rows[-1].time_s, UTC).isoformat()
        done = finished(replace(keeper.occupation, ended=ended, step_m=keeper.coarse), rows, keeper.known)
        found.job.record(f"Finish {keeper.mark}", [settled(found.job.state, done)])
        found.again()
        return _answer(options, found, done)


def _answer(options: argparse.Namespace, found: Opened, one: Occupation) -> int:
    from fenwind.commands.answers import answer, doubts_json
    from fenwind.commands.session_json import place_json
    from fenwind.job.session_view import enu_between, known_of, rover_of
    from fenwind.records.sessions import BaseSetup

    rover = rover_of(found.derived)
    state, point = found.job.state, rover.each.get(one.id)
    mark = state.marks[one.mark].name
    base = state.of(BaseSetup)[one.base].name
    reference = known_of(found.derived).get(one.mark) or rover.marks.get(one.mark)
    check = None
    if one.check and reference is not None and point is not None:
        check = dict(zip(("de", "dn", "dh"), enu_between(point, reference).tolist(), strict=True))
    doubts = [d for d in found.doubts() if one.id in d.names or d.subject in (one.id, one.base)]
    payload = {
        "occupation": one.id, "mark": mark, "base": base,
        "vector": {"dx": one.dx_m, "dy": one.dy_m, "dz": one.dz_m},
        "vector_covariance": [
            [one.cee_m2, one.cen_m2, one.ceu_m2], [one.cen_m2, one.cnn_m2, one.cnu_m2],
            [one.ceu_m2, one.cnu_m2, one.cuu_m2],
        ],
        **(place_json(point) if point is not None else {"lat": None, "lon": None, "h": None}),
        "covariance": point.covariance().tolist() if point is not None else None,
        "epochs": one.epochs, "solution": one.solution, "pdop": one.pdop, "age": one.age_s,
        "spread": {"e": one.spread_e_m, "n": one.spread_n_m, "u": one.spread_u_m},
        "effective_epochs": one.effective, "check": check, "doubts": doubts_json(doubts),
    }  # fmt: skip
    words = [f"{mark} from {base}: {one.epochs} epochs, {one.solution}, occupation {one.id}"]
    if point is not None:
        words.append(f"{payload['lat']:.9f}, {payload['lon']:.9f}, {payload['h']:.4f} m")
    if check is not None:
        words.append(f"check: E {check['de']:+.4f}, N {check['dn']:+.4f}, height {check['dh']:+.4f} m")
    return answer(payload, words, options.json)
