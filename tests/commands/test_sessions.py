"""A base, a rover and a caster on ports of this machine, and the commands that measure with them: two days'
work against the truth of the simulated world."""

import io
import json
import math
import os
import re
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator
from contextlib import closing, contextmanager, redirect_stderr, redirect_stdout
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np

from fenwind.cli import main
from fenwind.commands.standin import ENDS_WITH_PARENT
from fenwind.devices.control import command
from fenwind.devices.transport import address
from fenwind.geodesy.geocentric import enu_axes, to_xyz
from fenwind.job.file import JobFile
from fenwind.job.job import Job
from fenwind.records.entries import amend
from fenwind.records.sessions import Occupation
from fenwind.standins.receivers import Simulation
from fenwind.standins.world import world_of
from tests.session_job import session_job
from tests.support import CommandCase, write_plane_geoid

FENWIND = [sys.executable, "-m", "fenwind"]
#: West of Greenwich, in the south.
MARKS = {
    "A": (-33.5, -70.6, 812.0), "B": (-33.509, -70.61, 820.0), "C": (-33.495, -70.595, 801.5),
}  # fmt: skip
WORLD = {
    "marks": [{"name": n, "lat": p[0], "lon": p[1], "h": p[2]} for n, p in MARKS.items()],
    "base": {"mark": "A", "antenna": {"height": 1.5, "method": "vertical", "model": "RIM"}},
    "rover": {"mark": "B", "pole": 2.0, "model": "RIM"},
    "separation": 27.5,
    "antennas": [{"model": "RIM", "radius": 0.15, "rim_offset": 0.02, "mount_offset": 0.04}],
    "errors": {"to_float_s": 2, "to_fixed_s": 4},
}
SECRET = "not to be seen"


def run(*arguments: str, code: int = 0) -> Any:
    """What a command answers as JSON; its line of refusal for the exit code 2."""
    out, said = io.StringIO(), io.StringIO()
    with redirect_stdout(out), redirect_stderr(said), mock.patch.dict(os.environ, _environment()):
        try:
            found = main([*arguments, "--json"])
        except SystemExit as error:
            found = error.code
    if found != code:
        raise AssertionError(f"{arguments}: exit {found}\n{out.getvalue()}\n{said.getvalue()}")
    if code == 2:
        assert out.getvalue() == "" and said.getvalue().count("\n") == 1, said.getvalue()
        return said.getvalue()
    return json.loads(out.getvalue())


def _environment() -> dict[str, str]:
    return os.environ | {"FENWIND_CASTER_PASSWORD": SECRET}


@contextmanager
def standin(folder: str, seed: int, speed: float = 40.0, **changes: object) -> Iterator[dict[str, Any]]:
    """A stand-in that runs; gives its ports."""
    path = os.path.join(folder, f"world{seed}.json")
    with open(path, "w", encoding="utf-8") as file:
        json.dump(WORLD | changes, file)
    started = subprocess.Popen(
        [*FENWIND, "standin", "gnss", "--world", path, "--seed", str(seed), "--speed", str(speed),
         "--start", f"2026-05-{seed:02d}T08:00:00Z"],
        stdout=subprocess.PIPE, text=True, env=_environment(),
    )  # fmt: skip
    try:
        assert started.stdout is not None
        yield json.loads(started.stdout.readline())
    finally:
        started.send_signal(signal.SIGTERM)
        code = started.wait(180)
        if started.stdout is not None:
            started.stdout.close()
    assert code == 0, code


def at(port: int) -> str:
    """A place on this machine."""
    return f"127.0.0.1:{port}"


def away(found: dict[str, Any], mark: str) -> np.ndarray:
    """East, north, up of a position from the truth."""
    lat, lon, h = MARKS[mark]
    here = to_xyz(math.radians(found["lat"]), math.radians(found["lon"]), found["h"])
    there = to_xyz(math.radians(lat), math.radians(lon), h)
    return enu_axes(math.radians(lat), math.radians(lon)) @ (here - there)


#: A covariance in east, north, up, m^2, that is alike in no two ways.
COVARIANCE = ("cee_m2", "cen_m2", "ceu_m2", "cnn_m2", "cnu_m2", "cuu_m2")
LONG = (4e-6, -1e-6, 2e-6, 9e-6, -3e-6, 2.5e-5)


class TwoDays(unittest.TestCase):
    """One folder, one job a test."""

    def setUp(self) -> None:
        held = tempfile.TemporaryDirectory()
        self.addCleanup(held.cleanup)
        self.folder = held.name
        self.job = os.path.join(held.name, "j.fenwind")
        antennas, control = os.path.join(held.name, "a.json"), os.path.join(held.name, "k.csv")
        with open(antennas, "w", encoding="utf-8") as file:
            json.dump({"antennas": WORLD["antennas"]}, file)
        with open(control, "w", encoding="utf-8") as file:
            lat, lon, h = MARKS["A"]
            file.write(f"name,lat,lon,h,sh,sv\nA,{lat},{lon},{h},0.004,0.006\n")
        run("new", self.job, "--control", control, "--antennas", antennas)

    def test_two_days_end_at_the_truth(self) -> None:
        """Day 1 on the known mark; day 2 restarted on an average, metres off, then tied by a common mark."""
        with standin(self.folder, 1) as ports:
            started = run(
                "base", self.job, "--start", "D1", "--on", "A", "--height", "1.5", "--method", "vertical",
                "--control", at(ports["base"]["control"]), "--rtcm", at(ports["base"]["rtcm"]),
            )  # fmt: skip
            self.assertEqual((started["basis"], started["moved"]["marks"]), ("known", 0))
            self.assertAlmostEqual(started["broadcast"]["h"], 813.5, 3)
            caster = ports["caster"]
            place = f"ntrip://{caster['user']}@{at(caster['port'])}/{caster['name']}"
            first = run(
                "measure", self.job, "--rover", ports["rover"]["serial"], "--mark", "B", "--base", "D1",
                "--epochs", "60", "--pole", "2.0", "--rtcm", place,
            )  # fmt: skip
            self.assertEqual((first["epochs"], first["solution"], first["check"]), (60, "fixed", None))
            sigma = np.sqrt(np.diag(first["covariance"]))
            self.assertLess(float(np.abs(away(first, "B") / sigma).max()), 4.0)
            command(address(at(ports["rover"]["control"])), do="go", mark="A")
            check = run(
                "measure", self.job, "--rover", at(ports["rover"]["nmea"]), "--mark", "A", "--base", "D1",
                "--seconds", "20", "--height", "2.0", "--method", "vertical", "--check",
            )  # fmt: skip
            self.assertLess(max(map(abs, check["check"].values())), 0.04)
            self.assertEqual(check["epochs"], 21)  # 20 s at 1 Hz, both ends
            self.assertNotIn("session.unchecked", [d["rule"] for d in check["doubts"]])
        with standin(self.folder, 2) as ports:
            command(address(at(ports["base"]["control"])), do="restart")
            place = at(ports["base"]["rtcm"])
            two = run(
                "base", self.job, "--start", "D2", "--average", "5", "--nmea", at(ports["base"]["nmea"]),
                "--height", "1.5", "--method", "vertical", "--control", at(ports["base"]["control"]),
                "--rtcm", place, code=1,
            )  # fmt: skip
            self.assertEqual([d["rule"] for d in two["doubts"]], ["base.untied"])
            sigma = np.sqrt(np.diag(two["covariance"]))
            self.assertAlmostEqual(sigma[0], sigma[1], 9)
            self.assertGreater(sigma[2], 1.2 * sigma[0])  # 2.5 m in height for 1.5 m in plan
            self.assertGreater(float(np.linalg.norm(away(two, "A"))), 0.3)
            for mark in ("B", "C"):
                command(address(at(ports["rover"]["control"])), do="go", mark=mark)
                far = run(
                    "measure", self.job, "--rover", at(ports["rover"]["nmea"]), "--mark", mark, "--base",
                    "D2", "--pole", "2.0", "--rtcm", place, code=1,
                )  # fmt: skip
            shift = away(far, "C")
            np.testing.assert_allclose(shift, away(two, "A"), atol=0.06)
        listed = run("sessions", self.job, code=1)
        untied = next(d for d in listed["doubts"] if d["rule"] == "base.untied")
        self.assertEqual(untied["names"], ["D2", "B", "C"])
        self.assertAlmostEqual(untied["value"], float(np.linalg.norm(shift)), delta=0.05)
        tied = run("base", self.job, "--tie", "D2=B")
        self.assertLess(float(np.abs(away(tied, "A")).max()), 0.05)
        self.assertEqual(tied["moved"]["marks"], 1)  # C; B is what the tie leaves where it was
        np.testing.assert_allclose([tied["moved"][k] for k in ("de", "dn", "dh")], -shift, atol=0.06)
        shown = {m["name"]: m for m in run("show", self.job)["marks"]}
        self.assertEqual(
            {n: m["basis"] for n, m in shown.items()}, {"A": "known", "B": "mean", "C": "measured"}
        )
        self.assertIsNone(shown["C"]["e"])
        for name in "BC":
            self.assertLess(
                float(np.abs(away(shown[name] | {"h": shown[name]["ellipsoid_h"]}, name)).max()), 0.05
            )
        self.assertEqual(
            [s["what"] for s in shown["C"]["trail"]],
            ["position", "occupation", "vector", "antenna", "base", "antenna", "tie", "position",
             "occupation", "vector", "antenna", "base", "antenna", "known"],
        )  # fmt: skip
        own = {n: m["region95"]["a"] for n, m in shown.items()}
        joint = run("show", self.job, "--between", "B,C")
        alone = sum((own[n] ** 2 / 5.991465) for n in "BC")
        self.assertLess(joint["covariance"][0][0], 0.8 * alone)

    def test_a_stand_in_ends_with_who_started_it(self) -> None:
        """Even where that is killed: what it writes to comes to its end."""
        path = os.path.join(self.folder, "world.json")
        with open(path, "w", encoding="utf-8") as file:
            json.dump(WORLD, file)
        begin = "import subprocess, sys; subprocess.Popen(sys.argv[1:]); sys.stdin.read()"
        parent = subprocess.Popen(
            [sys.executable, "-c", begin, *FENWIND, "standin", "gnss", "--world", path],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
            env=_environment() | {ENDS_WITH_PARENT: "1"},
        )  # fmt: skip
        assert parent.stdout is not None
        self.assertIn("rover", json.loads(parent.stdout.readline()))
        parent.kill()
        self.assertEqual(parent.communicate(timeout=180)[0], "")

    def test_what_ends_a_measurement_leaves_its_epochs(self) -> None:
        with standin(self.folder, 3, speed=10.0) as ports:
            run(
                "base", self.job, "--start", "D1", "--on", "A", "--height", "1.5", "--method", "vertical",
                "--control", at(ports["base"]["control"]),
            )  # fmt: skip
            for end in (signal.SIGKILL, signal.SIGINT):
                with self.subTest(end=end):
                    rover = at(ports["rover"]["nmea"])
                    running = subprocess.Popen(
                        [*FENWIND, "measure", self.job, "--rover", rover, "--mark", "B", "--base", "D1",
                         "--epochs", "2000", "--pole", "2"],
                        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
                        # In the background a shell lets interrupts be ignored, and children inherit that.
                        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
                    )  # fmt: skip
                    listed = self._once_epochs(10)
                    running.send_signal(end)
                    out, said = running.communicate(timeout=180)
                    self.assertEqual(out, "")
                    if end is signal.SIGINT:
                        self.assertEqual(running.returncode, 2)
                        self.assertRegex(said, r"^fenwind: interrupted; \d+ epochs stay")
                    listed = run("sessions", self.job)
                    one = next(o for o in listed["occupations"] if not o["finished"])
                    self.assertFalse(one["used"])
                    self.assertGreaterEqual(one["epochs"], 10)
                    self.assertIn("occupation.unfinished", [d["rule"] for d in listed["doubts"]])
                    done = run("sessions", self.job, "--finish", one["id"])
                    again = next(o for o in done["occupations"] if o["id"] == one["id"])
                    self.assertEqual((again["finished"], again["used"]), (True, True))
                    self.assertEqual(again["epochs"], one["epochs"])
            late = run(
                "measure", self.job, "--rover", at(ports["rover"]["nmea"]), "--mark", "C", "--base", "D1",
                "--max-sh", "0.0001", "--wait", "1", code=2,
            )  # fmt: skip
            self.assertIn("no epoch met the limits", late)
            self.assertNotIn("C", [m["name"] for m in run("show", self.job)["marks"]])

    def _once_epochs(self, count: int) -> dict[str, Any]:
        """What `sessions` says while a measurement runs, once it has so many epochs."""
        until = time.monotonic() + 180.0
        while time.monotonic() < until:
            found: dict[str, Any] = run("sessions", self.job)
            if any(o["epochs"] >= count and not o["finished"] for o in found["occupations"]):
                return found
        raise AssertionError("no epoch came")

    def test_an_antenna_height_is_found_and_put_right(self) -> None:
        """2.06 given for 2.00, on a known mark."""
        with standin(self.folder, 4) as ports:
            run(
                "base", self.job, "--start", "D1", "--on", "A", "--height", "1.5", "--method", "vertical",
                "--control", at(ports["base"]["control"]),
            )  # fmt: skip
            command(address(at(ports["rover"]["control"])), do="go", mark="A")
            found = run(
                "measure", self.job, "--rover", at(ports["rover"]["nmea"]), "--mark", "A", "--base", "D1",
                "--epochs", "60", "--height", "2.06", "--antenna", "RIM", "--check", code=1,
            )  # fmt: skip
            self.assertEqual(found["doubts"][0]["rule"], "occupation.antenna")
            self.assertAlmostEqual(found["doubts"][0]["value"], 0.06, delta=0.03)
        wrong = found["occupation"]
        fixed = run("sessions", self.job, "--amend", wrong, "height=2.0,method=vertical", "--why", "misread")
        self.assertEqual([d for d in fixed["doubts"] if d["grave"]], [])
        dropped = run("sessions", self.job, "--drop", wrong, "--why", "not needed")
        self.assertFalse(next(o for o in dropped["occupations"] if o["id"] == wrong)["used"])

    def test_refusals(self) -> None:
        for arguments, words in (
            (("base", self.job, "--start", "X", "--on", "B", "--height", "1"), "no mark 'B'"),
            (("base", self.job, "--start", "X", "--on", "A"), "no antenna height"),
            (("base", self.job, "--start", "X", "--on", "A", "--height", "1", "--method", "slant"), "model"),
            (("base", self.job, "--start", "X", "--height", "1"), "--on MARK or --average N"),
            (("base", self.job, "--tie", "X=A"), "no base 'X'"),
            (("measure", self.job, "--rover", "127.0.0.1:1", "--mark", "B", "--base", "X"), "no base 'X'"),
            (("measure", self.job, "--rover", "ntrip://a:b@c:1/d", "--mark", "B", "--base", "X"), "password"),
            (("sessions", self.job, "--drop", "none", "--why", "x"), "no occupation"),
            (("sessions", self.job, "--drop", "none"), "--why"),
            (("show", self.job, "--frame", "none"), "no frame"),
            (("show", self.job, "--between", "A,B"), "B has no position"),
            (("new", self.job), "there already"),
        ):
            with self.subTest(arguments=arguments):
                said = run(*arguments, code=2)
                self.assertIn(words, said)
                self.assertIsNone(re.search("Traceback|" + SECRET, said))


class Lists(CommandCase):
    """A rover's list, written and taken in."""

    HEAD = "base,mark,lat,lon,h,start,height,sh,sv,base_lat,base_lon,base_h,base_height,use\n"

    def listed(self) -> tuple[str, str]:
        job, out = self.path("one.fenwind"), self.path("list.csv")
        session_job(job, blunder=0.0).close()
        with closing(Job(JobFile(Path(job)))) as opened:
            one = opened.state.of(Occupation)["o2"]
            opened.record("x", [amend(one, **dict(zip(COVARIANCE, LONG, strict=True)))])
        self.run_json("base", job, "--tie", "D2=B")
        self.run_json("sessions", job, "--drop", "o4", "--why", "wind", "--out", out)
        return job, out

    def test_what_is_written_gives_the_same_marks(self) -> None:
        job, out = self.listed()
        other = self.path("other.fenwind")
        self.run_json("new", other, "--antennas", self.write("a.json", json.dumps({"antennas": []})))
        taken = self.run_json("sessions", other, "--take", out)
        self.assertEqual([b["name"] for b in taken["bases"]], ["D1", "D2"])
        self.assertEqual([o["used"] for o in taken["occupations"]], [True, True, True, False])
        marks = [{m["name"]: m for m in self.run_json("show", path)["marks"]} for path in (job, other)]
        for name in "BC":
            one, two = (found[name] for found in marks)
            self.assertAlmostEqual(one["lat"], two["lat"], delta=2e-9)  # 0.2 mm
            self.assertAlmostEqual(one["lon"], two["lon"], delta=2e-9)
            self.assertAlmostEqual(one["ellipsoid_h"], two["ellipsoid_h"], delta=2e-4)
        with closing(Job(JobFile(Path(other)))) as opened:
            found = list(opened.state.of(Occupation).values())[1]
        np.testing.assert_allclose([getattr(found, f) for f in COVARIANCE], LONG, rtol=2e-4)
        again = self.run_json("sessions", other, "--take", out)
        self.assertEqual(len(again["occupations"]), 4)

    def test_positions_and_a_base_on_a_known_mark(self) -> None:
        """B was computed from A where A is known to be; later A is found 1 m higher, and B follows."""
        (alat, alon, ah), (lat, lon, h) = MARKS["A"], MARKS["B"]
        control = self.write("k.csv", f"name,lat,lon,h\nA,{alat},{alon},{ah}\n")
        job = self.path("j.fenwind")
        self.run_json("new", job, "--control", control)
        path = self.write(
            "l.csv", self.HEAD + f"A,B,{lat},{lon},{h},2026-05-01T08:00+02:00,1.8,0.01,0.03,,,,1.5,\n"
        )
        (one,) = self.run_json("sessions", job, "--take", path)["occupations"]
        self.assertEqual(one["start"], "2026-05-01T06:00:00+00:00")
        found = next(m for m in self.run_json("show", job)["marks"] if m["name"] == "B")
        self.assertAlmostEqual(found["ellipsoid_h"], h, delta=2e-4)
        self.assertLess(
            float(np.abs(away({k: found[k] for k in ("lat", "lon")} | {"h": h}, "B")).max()), 2e-4
        )
        self.run_json("base", job, f"--place=A={alat},{alon},{ah + 1.0}")
        found = next(m for m in self.run_json("show", job)["marks"] if m["name"] == "B")
        self.assertAlmostEqual(found["ellipsoid_h"], h + 1.0, delta=3e-4)
        # 10 and 30 mm, and 1 mm each of the two antenna heights.
        self.assertAlmostEqual(found["region95"]["v"], 1.96 * math.sqrt(0.03**2 + 2e-6), delta=2e-4)

    def test_refusals(self) -> None:
        job = self.path("j.fenwind")
        self.run_json("new", job)
        good = {
            "base": "X", "mark": "B", "lat": "-33", "lon": "-70", "h": "800", "height": "1.8",
            "base_lat": "-33", "base_lon": "-70", "base_h": "800", "sh": "0.01", "sv": "0.02",
        }  # fmt: skip
        neither = "a vector dx, dy, dz or a position"
        for changes, words in (
            ({"lat": "-93"}, "column lat"), ({"base_lat": ""}, "column base_lat"),
            ({"start": "noon"}, "a time"),
            ({"base_lat": "", "base_lon": "", "base_h": ""}, "no base X and no known mark"),
            ({"use": "maybe"}, "column use"), ({"sxx": "1"}, "column sxy"), ({"dx": "1"}, "column dy"),
            ({"lat": "", "lon": "", "h": ""}, neither), ({"sh": "0"}, "column sh"),
            ({"dx": "1", "dy": "1", "dz": "1"}, neither),
            ({"method": "sideways"}, "column method"), ({"method": "slant"}, "antenna"),
            ({"epochs": "1.5"}, "column epochs"), ({"solution": "good"}, "column solution"),
            ({"base": "X=Y"}, "no name for a base"),
        ):  # fmt: skip
            cells = good | changes
            path = self.write("bad.csv", ",".join(cells) + "\n" + ",".join(cells.values()) + "\n")
            with self.subTest(changes=changes):
                said = self.refused("sessions", job, "--take", path)
                self.assertIn(words, said)
                self.assertIn("line 2", said)
        self.assertEqual(self.run_json("sessions", job)["bases"], [])

    def refused(self, *arguments: str) -> str:
        return str(run(*arguments, code=2))


class FromALog(CommandCase):
    """Sentences that a rover recorded, without any device."""

    def test_a_log_is_an_occupation(self) -> None:
        simulation = Simulation(world_of(WORLD), 9, datetime(2026, 5, 9, 8, tzinfo=UTC))
        lat, lon, h = MARKS["A"]
        simulation.control("base", {"do": "set_position", "lat": lat, "lon": lon, "h": h + 1.5})
        log = b"".join(simulation.run_tick().get("rover", b"") for _ in range(900))
        path = self.write("b.nmea", log)
        control = self.write("k.csv", f"name,lat,lon,h,sh,sv\nA,{lat},{lon},{h},0.004,0.006\n")
        job = self.path("j.fenwind")
        self.run_json("new", job, "--control", control)
        self.run_json("base", job, "--start", "D1", "--on", "A", "--height", "1.5")
        measure = ("measure", job, "--rover", path, "--mark", "B", "--base", "D1", "--pole", "2.0")
        found = self.run_json(*measure, "--epochs", "100000")
        # 90 s less what it took to fix: all of them count, and the log's own time.
        self.assertTrue(70 < found["epochs"] < 90, found["epochs"])
        self.assertLess(float(np.abs(away(found, "B")).max()), 0.03)
        (one,) = self.run_json("sessions", job)["occupations"]
        self.assertTrue(one["finished"] and one["used"])
        self.assertEqual(self.run_json(*measure, "--epochs", "20")["epochs"], 20)
        said = self.refused(*measure, "--max-sh", "0.0001")
        self.assertIn("no epoch of the log counts", said)
        self.assertEqual(len(self.run_json("sessions", job)["occupations"]), 2)

    def refused(self, *arguments: str) -> str:
        return str(run(*arguments, code=2))


class Above(CommandCase):
    """Known marks above a geoid of 30 m, rising by 0.4 m a degree north, in feet: no device is needed."""

    def setUp(self) -> None:
        super().setUp()
        lat, lon, _ = MARKS["A"]
        write_plane_geoid(self.path("g.gtx"), lat, lon, 30.0, 0.4, 0.0)
        rows = [f"{n},{la},{lo},{h},0.004,0.006" for n, (la, lo, h) in MARKS.items()]
        control = self.write("k.csv", "\n".join(["name,lat,lon,h,sh,sv", *rows, ""]))
        self.job = self.path("j.fenwind")
        self.run_json(
            "new", self.job, "--frame", "EPSG:32719", "--geoid", self.path("g.gtx"), "--control", control
        )

    def test_heights_are_above_the_geoid_and_come_back(self) -> None:
        shown = {m["name"]: m for m in self.run_json("show", self.job)["marks"]}
        for name, (lat, lon, h) in MARKS.items():
            with self.subTest(name=name):
                mark = shown[name]
                self.assertAlmostEqual(mark["h"], h - 30.0 - 0.4 * (lat - MARKS["A"][0]), 4)
                self.assertAlmostEqual(mark["ellipsoid_h"], h, 6)
                self.assertAlmostEqual(mark["lat"], lat, 10)
                self.assertAlmostEqual(mark["lon"], lon, 10)
                self.assertAlmostEqual(mark["region95"]["v"], 1.959964 * 0.006, 7)
                self.assertAlmostEqual(mark["region95"]["a"], 2.447747 * 0.004, 7)
        joint = self.run_json("show", self.job, "--between", "A,B")
        for key, way in (("de", "e"), ("dn", "n"), ("dh", "h")):
            self.assertAlmostEqual(joint[key], shown["B"][way] - shown["A"][way], 7)

    def test_a_base_on_a_known_mark_is_on_the_ellipsoid(self) -> None:
        start = ("base", self.job, "--start", "D1", "--on", "A", "--height", "1.5")
        placed = self.run_json(*start, code=0)
        lat, lon, h = MARKS["A"]
        np.testing.assert_allclose([placed["lat"], placed["lon"]], [lat, lon], atol=1e-10)
        self.assertAlmostEqual(placed["h"], h, 6)
        np.testing.assert_allclose(np.diag(placed["covariance"]), [0.004**2, 0.004**2, 0.006**2], rtol=1e-6)
        moved = self.run_json("base", self.job, "--place", f"D1={lat},{lon},{h + 1.0},0.01,0.02")
        self.assertAlmostEqual(moved["h"], h + 1.0, 6)
        np.testing.assert_allclose(np.diag(moved["covariance"]), [1e-4, 1e-4, 4e-4], rtol=1e-6)
