"""fenwind measure: occupy a mark with a rover; every epoch is in the job within a second."""

from __future__ import annotations

import argparse
import signal
import threading
from typing import TYPE_CHECKING, Any

from fenwind.errors import ProcedureError
from fenwind.quantities.numbers import counted

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from fenwind.commands.session_json import Opened
    from fenwind.devices.keeping import Keeper
    from fenwind.devices.nmea_in import Epoch
    from fenwind.devices.rtcm_in import RtcmReader
    from fenwind.job.measuring import Row
    from fenwind.records.sessions import Occupation

_DESCRIPTION = """Occupy a mark with a rover until enough epochs count. Without more: 30 epochs, fixed, and a
wait of at most 60 s for one that counts. Interrupted, the epochs so far stay in the job as an unfinished
occupation (fenwind sessions JOB --finish ID). Places are as in fenwind base."""


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
    message_set = _collect(options, keeper, limits, rover, rtcm)
    return _finish(options, keeper, message_set)


class _Briefly:
    """Keeps an occupation in a job that is open only while something is put into it."""

    def __init__(self, path: str) -> None:
        self.path = path

    def begin(self, mark: str, occupation: Occupation, epoch: Epoch) -> Occupation:
        """See Store."""
        from fenwind.devices.keeping import beginning
        from fenwind.job.briefly import opened

        with opened(self.path) as job:
            gesture, begun = beginning(job.state, mark, occupation, epoch)
            job.record(*gesture)
        return begun

    def keep(self, occupation: str, number: int, rows: list[Row]) -> None:
        """See Store."""
        from fenwind.job.briefly import opened_file
        from fenwind.job.measuring import keep_rows

        with opened_file(self.path) as file:
            keep_rows(file, occupation, number, rows)


def _prepared(options: argparse.Namespace) -> Keeper:
    """Everything that the job must say before anything is measured."""
    import numpy as np

    from fenwind.commands.session_json import antenna_of, base_named, opened_job
    from fenwind.devices.keeping import Keeper
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
    return Keeper(_Briefly(options.job), options.mark.strip(), record, known)


def _collect(options: argparse.Namespace, keeper: Keeper, limits: Any, rover: Any, rtcm: Any) -> str:
    """Take epochs until there are enough; the set of messages. Raises DeviceError, with what stays in the
    job."""
    from fenwind.devices.nmea_in import NmeaReader
    from fenwind.devices.occupying import counted_epochs
    from fenwind.devices.rtcm_in import RtcmReader
    from fenwind.devices.transport import DeviceError

    wanted = options.epochs or (None if options.seconds else 30)
    stream = RtcmReader()
    interrupted = _noticed_interrupts()
    try:
        for epoch in counted_epochs(rover, limits, options.wait, rtcm, NmeaReader(), stream, keeper.tick):
            if interrupted:
                raise KeyboardInterrupt
            keeper.take(epoch, _broadcast(keeper, stream))
            keeper.tick()
            if keeper.enough(wanted, options.seconds):
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
    if not keeper.rows:
        raise ProcedureError(
            "no epoch of the log counts", where=str(rover), hint="Lower the limits, or name another log"
        )
    keeper.flush()
    return stream.set


def _noticed_interrupts() -> list[int]:
    """A list that an interrupt is noted in, beside being raised: one that comes while Python cannot pass it
    on, as in a destructor, would be lost otherwise."""
    noted: list[int] = []

    def note(number: int, frame: object) -> None:
        noted.append(number)
        raise KeyboardInterrupt

    if threading.current_thread() is threading.main_thread():
        signal.signal(signal.SIGINT, note)
    return noted


def _left(keeper: Keeper) -> str:
    return f"{len(keeper.rows)} epochs stay as the unfinished occupation {keeper.occupation.id}"


def _broadcast(keeper: Keeper, stream: RtcmReader) -> NDArray[Any]:
    found = stream.position if stream.position is not None else keeper.known
    assert found is not None
    return found


def _finish(options: argparse.Namespace, keeper: Keeper, message_set: str) -> int:
    from fenwind.commands.session_json import opened_job
    from fenwind.job.measuring import kept_rows, settled

    with opened_job(options.job) as found:
        done = keeper.done(kept_rows(found.job.file, keeper.occupation.id), message_set)
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
    words = [f"{mark} from {base}: {counted(one.epochs, 'epoch')}, {one.solution}, occupation {one.id}"]
    if point is not None:
        words.append(f"{payload['lat']:z.9f}, {payload['lon']:z.9f}, {payload['h']:z.4f} m")
    if check is not None:
        words.append(f"check: E {check['de']:+z.4f}, N {check['dn']:+z.4f}, height {check['dh']:+z.4f} m")
    return answer(payload, words, options.json)
