"""A stand-in for a service that places static receivers: takes a RINEX file, computes it by vectors from
reference stations whose marks are known, and answers after a while. 127.0.0.1 only.

Jobs live in a folder, a folder each; those that were not done when it was stopped are done again.
"""

from __future__ import annotations

import json
import re
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from secrets import token_hex
from typing import Any
from urllib.parse import parse_qs, urlsplit

import numpy as np

from fenwind import __version__
from fenwind.errors import FenwindError, FormatError, ProcedureError
from fenwind.geodesy.geocentric import GRS80_A, GRS80_F, enu_axes, from_xyz
from fenwind.gnss.baseline import Station, baseline
from fenwind.gnss.files import kind_of, unpacked
from fenwind.gnss.gps_time import TICKS, decimal_year
from fenwind.gnss.observations import Observations
from fenwind.gnss.point import PointOptions, point
from fenwind.gnss.rinex_obs import read_observations
from fenwind.gnss.signals import chosen
from fenwind.gnss.sources import Sources, with_channels

#: Reference stations farther away do not serve, metres; and at most so many do.
REACH_M, MOST_STATIONS = 100_000.0, 3
#: A position by code this far from every station is not of this world, metres.
POLL_AFTER = 1.0
ENDED = ("done", "failed", "cancelled")


@dataclass(frozen=True, kw_only=True)
class Limits:
    """What the service takes, and how it behaves: seconds before every answer, metres added to every one,
    uploads that are put off."""

    min_minutes: float = 10.0
    intervals: tuple[float, ...] = (1.0, 2.0, 5.0, 10.0, 15.0, 30.0)
    max_mb: float = 100.0
    delay: float = 0.0
    wrong: tuple[float, float, float] = (0.0, 0.0, 0.0)
    busy: int = 0


class Refused(Exception):
    """An answer that is no: its status, rule and words."""

    def __init__(self, status: int, rule: str, words: str) -> None:
        super().__init__(words)
        self.status, self.rule, self.words = status, rule, words


@dataclass(eq=False)
class Job:
    """One job, as it stands in its folder."""

    id: str
    folder: Path
    asked: dict[str, Any]
    state: str = "queued"
    progress: float = 0.0
    error: str | None = None
    result: dict[str, Any] | None = None
    lock: threading.Lock = field(default_factory=threading.Lock)

    def keep(self) -> None:
        """Write what it is, whole or not at all."""
        told = {"asked": self.asked, "state": self.state, "error": self.error, "result": self.result}
        fresh = self.folder / "job.json.new"
        fresh.write_text(json.dumps(told))
        fresh.replace(self.folder / "job.json")

    def told(self) -> dict[str, Any]:
        """What `GET /jobs/ID` answers."""
        return {
            "id": self.id, "state": self.state, "progress": self.progress, "error": self.error,
            "poll_after": POLL_AFTER,
        }  # fmt: skip


class Service:
    """Jobs, the stations they are computed from, and the thread that computes."""

    def __init__(
        self, stations: Sequence[Observations], sources: Sources, data: Path, limits: Limits
    ) -> None:
        self.stations, self.sources, self.data, self.limits = list(stations), sources, data, limits
        self.busy_left = limits.busy
        self.jobs: dict[str, Job] = {}
        self.wake = threading.Condition()
        for folder in sorted(data.glob("*/job.json"), key=lambda p: p.stat().st_mtime):
            self._taken_up(folder.parent)

    def _taken_up(self, folder: Path) -> None:
        try:
            told = json.loads((folder / "job.json").read_text())
            job = Job(
                id=folder.name, folder=folder, asked=told["asked"], error=told["error"], result=told["result"]
            )
        except (OSError, ValueError, KeyError):
            return
        job.state = told["state"] if told["state"] in ENDED else "queued"
        job.progress = 1.0 if job.state == "done" else 0.0
        self.jobs[job.id] = job

    def accepted(self, body: bytes, query: dict[str, str]) -> Job:
        """A job for a file. Raises Refused."""
        if self.busy_left > 0:
            self.busy_left -= 1
            raise Refused(503, "service.busy", "The service is busy: send it again later.")
        asked = self._checked(body, query)
        job_id = token_hex(8)
        folder = self.data / f".{job_id}"
        folder.mkdir()
        (folder / "file").write_bytes(body)
        job = Job(id=job_id, folder=folder, asked=asked)
        job.keep()
        job.folder = folder.rename(self.data / job_id)
        with self.wake:
            self.jobs[job_id] = job
            self.wake.notify()
        return job

    def _checked(self, body: bytes, query: dict[str, str]) -> dict[str, Any]:
        try:
            data = unpacked(body, "the file")
            if kind_of(data, "the file") != "observation":
                raise FormatError("this is no RINEX observation file", where="the file", hint="")
            obs = read_observations(data, "the file")
        except FenwindError as error:
            raise Refused(400, "service.file", f"Not RINEX observations: {error.message}.") from error
        minutes = float(obs.ticks.max() - obs.ticks.min()) / TICKS / 60.0
        interval = obs.interval or 0.0
        if minutes + interval / 60.0 < self.limits.min_minutes:
            words = (
                f"The file is {minutes:.1f} minutes long; at least {self.limits.min_minutes:g} are needed."
            )
            raise Refused(422, "service.short", words)
        if not any(abs(interval - i) < 0.01 for i in self.limits.intervals):
            words = ", ".join(f"{i:g}" for i in self.limits.intervals)
            raise Refused(422, "service.interval", f"An interval of {interval:g} s is not one of {words} s.")
        antenna = query.get("antenna", "").strip() or obs.header.antenna.strip()
        if not antenna:
            raise Refused(422, "service.antenna", "Neither the header nor the request names the antenna.")
        height = obs.header.delta[0]
        if "height" in query:
            try:
                height = float(query["height"])
            except ValueError:
                height = float("nan")
        if not -1.0 <= height <= 100.0:
            raise Refused(422, "service.height", "The antenna height is no number of metres up to 100.")
        mark = query.get("mark", "").strip() or obs.header.mark
        return {"antenna": antenna, "height": height, "mark": mark}

    def cancelled(self, job: Job) -> None:
        """Cancel a job that waits or runs."""
        with job.lock:
            if job.state not in ENDED:
                job.state = "cancelled"
                job.keep()

    def work(self) -> None:
        """Compute what waits, one job after the other, for ever."""
        while True:
            with self.wake:
                job = next((j for j in self.jobs.values() if j.state == "queued"), None)
                if job is None:
                    self.wake.wait()
                    continue
            self._done(job)

    def _done(self, job: Job) -> None:
        with job.lock:
            if job.state != "queued":
                return
            job.state, job.progress = "running", 0.1
        end = time.monotonic() + self.limits.delay
        try:
            result = self._computed(job)
            error = None
        except FenwindError as failure:
            result, error = None, failure.message
        except Exception as failure:  # a job that fails is that job's answer
            result, error = None, f"The computation failed ({type(failure).__name__})."
        job.progress = 0.9
        while time.monotonic() < end and job.state == "running":
            time.sleep(min(0.05, max(end - time.monotonic(), 0.0)))
        with job.lock:
            if job.state == "running":
                job.result, job.error = result, error
                job.state, job.progress = ("failed", job.progress) if result is None else ("done", 1.0)
                job.keep()

    def _computed(self, job: Job) -> dict[str, Any]:
        """The answer to a job. Raises FenwindError."""
        data = unpacked((job.folder / "file").read_bytes(), "the file")
        obs = with_channels(read_observations(data, "the file"), self.sources)
        up = float(job.asked["height"])
        rover = self._station(obs, (up, *obs.header.delta[1:]), int(obs.ticks.min()))
        near = []
        for station in self.stations:
            xyz = np.array(station.header.position)
            way = float(np.linalg.norm(xyz - rover.point.xyz))
            together = np.intersect1d(station.ticks, obs.ticks).size
            if way < REACH_M and together >= 10:
                near.append((way, station, xyz))
        if not near:
            raise ProcedureError("no reference station near the file logged at its time", hint="")
        places, weights, names, solution = [], [], [], "fixed"
        for _, station, xyz in sorted(near, key=lambda n: n[0])[:MOST_STATIONS]:
            start = int(min(station.ticks.min(), obs.ticks.min()))
            base = self._station(station, station.header.delta, start)
            sky = self.sources.sky(start, base.signals)
            found = baseline(base, rover, xyz, sky, "GREC", np.radians(10.0))
            places.append(xyz + found.vector)
            weights.append(np.linalg.inv(found.covariance))
            names.append(station.header.mark)
            solution = found.solution if found.solution != "fixed" else solution
        return self._answer(job, obs, np.array(places), np.array(weights), names, solution)

    def _station(self, obs: Observations, delta: tuple[float, float, float], start: int) -> Station:
        signals = {s: chosen(obs, s) for s in "GREC" if s in obs.systems}
        sky = self.sources.sky(start, signals)
        placed = point(obs, sky, signals, PointOptions(delta=delta, ionosphere=self.sources.ionosphere))
        return Station(obs=obs, signals=signals, delta=delta, antenna=None, point=placed)

    def _answer(
        self,
        job: Job,
        obs: Observations,
        places: np.ndarray,
        weights: np.ndarray,
        names: list[str],
        solution: str,
    ) -> dict[str, Any]:
        total = weights.sum(axis=0)
        mean = np.linalg.solve(total, np.einsum("kij,kj->i", weights, places))
        lat, lon, h = (float(v) for v in from_xyz(mean, GRS80_A, GRS80_F))
        axes = enu_axes(np.array([lat]), np.array([lon]))[:, :, 0]
        # Stations share the errors of the file itself: no better than the best of them.
        covariance = axes @ np.linalg.inv(total / len(places)) @ axes.T
        lat, lon, h = (
            float(v) for v in from_xyz(mean + axes.T @ np.array(self.limits.wrong), GRS80_A, GRS80_F)
        )
        degrees = (float(np.degrees(lat)), float(np.degrees(lon)))
        lines = [
            f"{job.asked['mark'] or 'mark'}: {degrees[0]:.9f} {degrees[1]:.9f} {h:.4f} m",
            f"from {', '.join(names)}; {solution}",
            f"antenna {job.asked['antenna']}, height {job.asked['height']:g} m",
        ]
        return {
            "lat": degrees[0], "lon": degrees[1], "h": h, "covariance": covariance.tolist(),
            "frame": "ITRF2020", "realisation": "IGS20", "epoch": decimal_year(int(obs.ticks.mean())),
            "solution": solution, "stations": names, "antenna": job.asked["antenna"],
            "height": job.asked["height"],
            "report": "\n".join(lines),
        }  # fmt: skip


_JOB = re.compile(r"/jobs/([0-9a-f]{1,64})(/result)?")


class Handler(BaseHTTPRequestHandler):
    """The requests of a service."""

    service: Service
    server_version = f"FenwindStandin/{__version__}"
    protocol_version = "HTTP/1.1"
    timeout = 30

    def log_message(self, format: str, *args: object) -> None:
        """Write nothing."""

    def do_GET(self) -> None:
        """Answer GET."""
        self._tell(self._get)

    def do_POST(self) -> None:
        """Answer POST."""
        self._tell(self._post)

    def do_DELETE(self) -> None:
        """Answer DELETE."""
        self._tell(self._delete)

    def do_PUT(self) -> None:
        """Answer PUT."""
        self._tell(self._other)

    do_PATCH = do_HEAD = do_OPTIONS = do_PUT

    def _tell(self, act: Any) -> None:
        try:
            status, payload, more = act()
        except Refused as refused:
            status, payload, more = refused.status, {"error": refused.words, "rule": refused.rule}, {}
            if status == 503:
                more = {"Retry-After": "1"}
        except (OSError, ValueError):
            self.close_connection = True
            return
        body = json.dumps(payload).encode()
        try:
            self.send_response(status)
            self.send_header("Content-Type", "application/json")
            self.send_header("Content-Length", str(len(body)))
            for key, value in more.items():
                self.send_header(key, value)
            if status >= 400:
                self.close_connection = True
                self.send_header("Connection", "close")
            self.end_headers()
            if self.command != "HEAD":
                self.wfile.write(body)
        except OSError:
            self.close_connection = True

    def _get(self) -> tuple[int, Any, dict[str, str]]:
        path = urlsplit(self.path).path
        if path == "/":
            limits = self.service.limits
            told = {
                "min_minutes": limits.min_minutes, "intervals": list(limits.intervals),
                "max_mb": limits.max_mb,
            }  # fmt: skip
            return 200, {"service": "Fenwind stand-in", "version": __version__, "limits": told}, {}
        if path == "/jobs":
            return 200, {"jobs": list(self.service.jobs)}, {}
        job, result = self._job(path)
        if not result:
            return 200, job.told(), {}
        if job.state == "cancelled":
            raise Refused(410, "service.state", "The job was cancelled.")
        if job.state != "done" or job.result is None:
            raise Refused(409, "service.state", f"The job is {job.state}. {job.error or ''}".strip())
        return 200, job.result, {}

    def _post(self) -> tuple[int, Any, dict[str, str]]:
        parts = urlsplit(self.path)
        if parts.path != "/jobs":
            raise Refused(404, "service.path", "There is nothing at this path.")
        length = self.headers.get("Content-Length", "")
        if not length.isdigit():
            raise Refused(411, "service.length", "The length of the file is needed.")
        if int(length) > self.service.limits.max_mb * 1e6:
            raise Refused(413, "service.size", f"Files over {self.service.limits.max_mb:g} MB are not taken.")
        body = self._body(int(length))
        query = {k: v[-1] for k, v in parse_qs(parts.query, keep_blank_values=True).items()}
        job = self.service.accepted(body, query)
        return 202, {"id": job.id, "state": job.state, "poll_after": POLL_AFTER}, {}

    def _body(self, length: int) -> bytes:
        parts, left = [], length
        while left > 0:
            part = self.rfile.read(min(left, 1 << 20))
            if not part:
                raise ValueError("the upload ended early")
            parts.append(part)
            left -= len(part)
        return b"".join(parts)

    def _delete(self) -> tuple[int, Any, dict[str, str]]:
        job, result = self._job(urlsplit(self.path).path)
        if result:
            return self._other()
        self.service.cancelled(job)
        return 200, job.told(), {}

    def _other(self) -> tuple[int, Any, dict[str, str]]:
        raise Refused(405, "service.path", "This is not done here.")

    def _job(self, path: str) -> tuple[Job, bool]:
        found = _JOB.fullmatch(path)
        if found is None:
            raise Refused(404, "service.path", "There is nothing at this path.")
        job = self.service.jobs.get(found[1])
        if job is None:
            raise Refused(404, "service.unknown", f"There is no job {found[1]}.")
        return job, bool(found[2])


def serve(service: Service, port: int) -> ThreadingHTTPServer:
    """A server on 127.0.0.1 whose service computes in a thread of its own. Raises OSError for a port in
    use."""
    server = ThreadingHTTPServer(("127.0.0.1", port), type("BoundHandler", (Handler,), {"service": service}))
    server.daemon_threads = True
    threading.Thread(target=service.work, name="processing", daemon=True).start()
    return server
