"""Command line and job come to the same from the same files: the same figures, and the same doubts with the
same culprits, on clean work and with each blunder put in."""

import math
from typing import Any

from fenwind.doubts.of_job import Judge
from fenwind.exchange.line_csv import book_record, read_book, read_runs, runs_record
from fenwind.exchange.setup_csv import read_sightings, setup_record
from fenwind.geodesy.frames import FrameSpec
from fenwind.job.job import Job
from fenwind.job.line_gestures import take_book, take_levelling
from fenwind.job.setup_gestures import change, take_setup
from fenwind.records.lines import LevelBook, TraverseBook
from fenwind.records.records import FrameRecord, GivenPosition, Mark, Record
from fenwind.records.setups import Setup
from tests.support import CommandCase

GIVEN = {
    "A": (1000.0, 2000.0, 50.0),
    "B": (1180.0, 2010.0, 52.0),
    "C": (1190.0, 1890.0, 49.0),
    "D": (1010.0, 1880.0, 51.0),
    "E": (1300.0, 2100.0, 55.0),
    "F": (1195.0, 2035.0, 53.0),
}
STATION = (1095.0, 1940.0, 48.5)


def ways(at: tuple[float, ...], to: tuple[float, ...]) -> tuple[float, float, float]:
    """Azimuth in degrees, horizontal distance, difference in height."""
    e, n, h = (b - a for a, b in zip(at, to, strict=True))
    return math.degrees(math.atan2(e, n)) % 360.0, math.hypot(e, n), h


class OneWay(CommandCase):
    def setUp(self) -> None:
        super().setUp()
        records: list[Record] = [FrameRecord(id="frame", spec=FrameSpec(name="site"))]
        for name, (e, n, h) in GIVEN.items():
            records.append(Mark(id=name.lower(), name=name))
            records.append(
                GivenPosition(id=f"g{name}", mark=name.lower(), frame="frame", e_m=e, n_m=n, height_m=h)
            )
        self.job = Job.create(self.path("j.fenwind"), "site", records, "frame")
        self.addCleanup(self.job.close)
        rows = [f"{name},{e},{n},{h}" for name, (e, n, h) in GIVEN.items()]
        self.control = self.write("control.csv", "\n".join(["name,e,n,h", *rows]))
        self.heights = self.write("heights.csv", "name,h\nA,50.0\nC,49.0\n")

    def of_job(self, kind: str, family: str) -> tuple[Any, list[tuple[str, tuple[str, ...]]]]:
        """The newest outcome of a kind of step, and its doubts by rule and names."""
        derived = self.derive(self.job)
        key, found = list(derived.of_kind(kind).items())[-1]
        open_ = Judge().judge(self.job.state, derived).open
        told = [(d.rule, d.names) for d in open_ if d.subject == key and d.rule.startswith(family)]
        return found, told

    def same(self, said: Any, told: list[tuple[str, tuple[str, ...]]], words: str) -> None:
        by_command = sorted((d["rule"], tuple(d["names"])) for d in said["doubts"])
        self.assertEqual(sorted(told), by_command, words)

    def test_resections(self) -> None:
        cases: dict[str, dict[str, Any]] = {
            "clean": {},
            "another mark": {"sighted": {"B": "F"}},
            "prism": {"longer": {"C": 0.034}},
            "names": {"sighted": {"B": "C", "C": "B"}},
            "target height": {"higher": {"D": 0.2}},
            "feet": {"times": 1.0 / 0.3048},
        }
        for words, how in cases.items():
            with self.subTest(words):
                lines = ["target,hz_deg,za_deg,sd,ht,prism_mm"]
                for name in "ABCD":
                    azimuth, hd, dh = ways(STATION, GIVEN[how.get("sighted", {}).get(name, name)])
                    hd += how.get("longer", {}).get(name, 0.0)
                    dh += how.get("higher", {}).get(name, 0.0)
                    sd = math.hypot(hd, dh) * how.get("times", 1.0)
                    zenith = math.degrees(math.atan2(hd, dh))
                    lines.append(f"{name},{(azimuth - 33.0) % 360.0:.7f},{zenith:.7f},{sd:.4f},0,0")
                path = self.write("shots.csv", "\n".join(lines))
                code = 0 if words == "clean" else 1
                said = self.run_json("resect", path, self.control, "--heights", "--plane", code=code)
                record = setup_record(read_sightings(path), path)
                self.job.record(*take_setup(self.job.state, record, f"S {words}", 0.0, "frame", ()))
                setup = list(self.job.state.of(Setup).values())[-1]
                self.job.record(*change(setup, "plane", grid=False, k=1.0))
                found, told = self.of_job("setup", "resect")
                self.assertAlmostEqual(said["e"], found.found.e, places=3)
                self.same(said, told, words)

    def test_traverses(self) -> None:
        walk = ("A", "P", "Q", "C")
        at = GIVEN | {"P": (1050.0, 1960.0, 50.5), "Q": (1120.0, 1930.0, 49.5)}
        cases = {"clean": {}, "angle": {"angle": ("P", 0.05)}, "distance": {"distance": ("Q", 0.3)}}
        for words, how in cases.items():
            with self.subTest(words):
                lines = ["from,to,direction_kind,direction_dms,distance,dh"]
                for back, here, there in zip(("D", *walk), walk, walk[1:], strict=False):
                    azimuth, hd, dh = ways(at[here], at[there])
                    turned = azimuth - ways(at[here], at[back])[0]
                    mark, wrong = how.get("angle", ("", 0.0))
                    turned += wrong if mark == here else 0.0
                    mark, wrong = how.get("distance", ("", 0.0))
                    hd += wrong if mark == there else 0.0
                    lines.append(f"{here},{there},right,{turned % 360.0:.6f},{hd:.4f},{dh:.4f}")
                closing = (ways(at["C"], at["B"])[0] - ways(at["C"], at["Q"])[0]) % 360.0
                path = self.write("book.csv", "\n".join(lines))
                options = (
                    "--start",
                    "A,1000,2000,50",
                    "--backsight",
                    "D,1010,1880",
                    "--close",
                    "C,1190,1890,49",
                    "--foresight",
                    "B,1180,2010",
                    "--closing-angle",
                    f"{closing:.6f}",
                    "--angles",
                    "equal",
                )
                said = self.run_json("traverse", path, *options, code=0 if words == "clean" else 1)
                self.job.record(
                    *take_book(self.job.state, book_record(read_book(path), path), "frame", tuple(GIVEN))
                )
                book = list(self.job.state.of(TraverseBook).values())[-1]
                from fenwind.job.line_gestures import change as change_book

                self.job.record(
                    *change_book(
                        book,
                        "ends",
                        back="d",
                        close="c",
                        fore="b",
                        balance=True,
                        closing_angle_rad=math.radians(closing),
                    )
                )
                found, told = self.of_job("traverse", "traverse")
                self.assertAlmostEqual(
                    said["angular_misclosure_s"], math.degrees(found.found.angular) * 3600, 4
                )
                self.same(said, told, words)

    def test_levelling(self) -> None:
        cases = {"clean": 0.0, "a run": 0.05}
        for words, wrong in cases.items():
            with self.subTest(words):
                runs = [
                    "from,to,dh,distance_km",
                    "A,X,1.000,0.5",
                    f"X,C,{-2.0 + wrong:.4f},0.5",
                    "A,Y,0.5,0.5",
                    "Y,X,0.5001,0.5",
                    "X,Y,-0.5002,0.5",
                ]
                path = self.write("runs.csv", "\n".join(runs))
                said = self.run_json("level", path, self.heights, code=1 if wrong else 0)
                self.job.record(*take_levelling(self.job.state, runs_record(read_runs(path), path), "frame"))
                book = list(self.job.state.of(LevelBook).values())[-1]
                self.assertEqual(book.frame, "frame")
                _, told = self.of_job("levelling", "level")
                self.same(said, told, words)
