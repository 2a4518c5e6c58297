"""Base and rover sessions: how fast simulated receivers are read, what a new base position of 5,000 rover
marks costs, how soon a dropped link is back, and whether occupations err as they say."""

from __future__ import annotations

import math
import socket
import threading
import time
from datetime import UTC, datetime

import numpy as np

from bench.timing import median, say
from fenwind.desk.job_owner import Deriver
from fenwind.devices.nmea_in import NmeaReader
from fenwind.devices.rtcm_in import RtcmReader
from fenwind.devices.transport import Link, address
from fenwind.geodesy.frames import open_frame
from fenwind.geodesy.geocentric import enu_axes, from_xyz, to_xyz
from fenwind.geodesy.own_plane import plane_through
from fenwind.job.measuring import Row, finished
from fenwind.job.state import JobState
from fenwind.records.entries import Add, amend
from fenwind.records.records import FrameRecord, GivenPosition, JobInfo, Mark
from fenwind.records.sessions import BaseSetup, Occupation
from fenwind.standins.receivers import Simulation
from fenwind.standins.tarnholt_days import epochs_of
from fenwind.standins.world import world_of

DAY = "2026-06-09"
LAT, LON, H = math.radians(61.3), math.radians(8.4), 1240.0


def stream() -> None:
    """Ten simulated minutes, rover at 5 Hz, four systems, sentences and corrections read."""
    marks = [{"name": "A", "lat": 61.3, "lon": 8.4, "h": H}, {"name": "B", "lat": 61.31, "lon": 8.41, "h": H}]
    world = world_of({"marks": marks, "base": {"mark": "A"}, "rover": {"mark": "B"}})
    simulation = Simulation(world, 1, datetime(2026, 6, 9, 8, tzinfo=UTC))
    simulation.control("rover", {"do": "rate", "hz": 5})
    nmea, rtcm, epochs = NmeaReader(), RtcmReader(), 0
    begin = time.perf_counter()
    for _ in range(6000):
        out = simulation.run_tick()
        epochs += len(nmea.feed(out.get("rover", b"")))
        rtcm.feed(out.get("rtcm", b""))
    taken = time.perf_counter() - begin
    assert epochs > 2900, epochs
    say(
        "a simulated second of two receivers, made and read (20 x real time)",
        taken / 600.0 * 1000.0,
        50.0,
        "ms",
    )


def _state(count: int) -> JobState:
    """A base on a known mark and an occupation at each of so many marks."""
    state = JobState()
    spec = plane_through("EPSG:4937", np.array([LAT]), np.array([LON]), np.array([H]))
    e, n = open_frame(spec).forward(np.array([LAT]), np.array([LON]))
    records = [
        JobInfo(name="many", frame="f"), FrameRecord(id="f", spec=spec), Mark(id="k", name="K"),
        GivenPosition(id="g", mark="k", frame="f", e_m=float(e[0]), n_m=float(n[0]), height_m=H),
        BaseSetup(id="b", name="B", height_m=1.5, word="known", mark="k", started=f"{DAY}T08:00:00+00:00"),
    ]  # fmt: skip
    rng = np.random.default_rng(3)
    for i in range(count):
        dx, dy, dz = (float(v) for v in rng.uniform(-700.0, 700.0, 3))
        records += [
            Mark(id=f"m{i}", name=f"M{i}"),
            Occupation(
                id=f"o{i}", mark=f"m{i}", base="b", height_m=2.0, dx_m=dx, dy_m=dy, dz_m=dz, cee_m2=4e-6,
                cnn_m2=4e-6, cuu_m2=1e-5, solution="fixed", epochs=60, effective=3.0,
                started=f"{DAY}T08:10:00+00:00",
            ),
        ]  # fmt: skip
    for record in records:
        state.apply(Add(record=record))
    return state


def moved_base() -> None:
    """A new antenna height of the base moves 5,000 marks; with doubts."""
    state, deriver = _state(5000), Deriver(".")
    deriver.results(state)
    height = [1.5]

    def change() -> None:
        height[0] += 0.001
        state.apply(amend(state.of(BaseSetup)["b"], height_m=height[0]))
        deriver.results(state)

    say(
        "a new base position under 5,000 rover marks, derived and judged",
        median(change, 5) * 1000.0,
        200.0,
        "ms",
    )


def reconnect() -> None:
    """A TCP link that is dropped and listened to again."""
    server = socket.create_server(("127.0.0.1", 0))
    port = server.getsockname()[1]

    def serve() -> None:
        for _ in range(2):
            client, _ = server.accept()
            client.sendall(b"first")
            client.close()

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    link = Link(address(f"127.0.0.1:{port}"))
    link.open()
    while link.read(0.1) or link.connected:
        pass
    begin = time.perf_counter()
    while not link.read(0.05):
        pass
    say("a dropped link is read again", time.perf_counter() - begin, 2.0, "s")
    link.close()
    server.close()


def statistics() -> None:
    """1,000 occupations of the error model: how many lie within their 95 % in plan and height."""
    rng = np.random.default_rng(95)
    base = to_xyz(LAT, LON, H)
    rover = base + enu_axes(LAT, LON).T @ np.array([600.0, 500.0, -20.0])
    lat, lon, _ = from_xyz(rover)
    axes = enu_axes(float(lat), float(lon))
    inside_plan, inside_height = 0, 0
    for _ in range(1000):
        rows: list[Row] = epochs_of(rng, datetime(2026, 6, 9, 8, tzinfo=UTC), rover - base, base)
        one = finished(Occupation(id="o", mark="m", base="b"), rows, base)
        away = axes @ (np.array([one.dx_m, one.dy_m, one.dz_m], dtype=float) - (rover - base))
        inside_plan += (away[0] ** 2 / one.cee_m2 + away[1] ** 2 / one.cnn_m2) <= 5.991465
        inside_height += away[2] ** 2 / one.cuu_m2 <= 3.841459
    print(
        f"1,000 occupations of 60 s within their 95 %: plan {inside_plan / 10:.1f} %, height "
        f"{inside_height / 10:.1f} %"
    )
    worst = max(abs(inside_plan / 10 - 95.0), abs(inside_height / 10 - 95.0))
    say("occupations within their 95 %, away from 95", worst, 3.0, "%")


if __name__ == "__main__":
    stream()
    moved_base()
    reconnect()
    statistics()
