"""Velocities of marks: where they bring positions of another epoch, how they are typed and listed, and doubts
about them."""

import json
import unittest
from contextlib import redirect_stderr, redirect_stdout
from io import StringIO
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import pyproj
from geographiclib.geodesic import Geodesic

from fenwind.cli import main
from fenwind.doubts.velocity_rules import velocities as doubts
from fenwind.errors import FenwindError
from fenwind.exchange.velocity_list import read_velocities
from fenwind.geodesy.frames import FrameSpec, HeightReference, open_frame
from fenwind.geodesy.plate_motion import plates, rates
from fenwind.job.derive import derive
from fenwind.job.memory import Memory
from fenwind.job.state import JobState
from fenwind.job.velocity_gestures import (
    as_typed,
    give_velocities,
    type_velocity,
    velocities_in,
    velocity_words,
    without_velocities,
)  # fmt: skip
from fenwind.procedures.onto_plane import MARKS_MEAN
from fenwind.records.entries import Add, Entry
from fenwind.records.lines import TraverseBook
from fenwind.records.records import FrameRecord, GivenPosition, JobInfo, Mark, MeasuredPosition
from tests.geodesy.test_plate_motion import utm_on

LAT, LON, H = -33.0, 147.0, 200.0
AWAY = np.radians(0.001)  # from mark to mark, in latitude


def job(old_epoch: float = 2010.0, base: str = "EPSG:7912", plate: str = "") -> JobState:
    """Marks A, B, C given in one frame at an epoch, D measured then; and a frame on its datum at 2020."""
    height = HeightReference(kind="ellipsoid")
    specs = {
        key: FrameSpec(name=key, crs=utm_on(base, 55), epoch_year=epoch, plate=p, height=height)
        for key, epoch, p in (("old", old_epoch, ""), ("new", 2020.0, plate))
    }
    frame = open_frame(specs["old"])
    state = JobState()
    records = [JobInfo(name="j", frame="new"), *(FrameRecord(id=k, spec=s) for k, s in specs.items())]
    for i, name in enumerate("ABCD"):
        records.append(Mark(id=name.lower(), name=name))
        lat = np.radians(LAT) + i * AWAY
        if name == "D":
            records.append(MeasuredPosition(
                id="m", mark="d", lat_rad=float(lat), lon_rad=np.radians(LON), h_m=H, epoch_year=old_epoch,
                crs=base,
            ))  # fmt: skip
            continue
        e, n = frame.forward(np.array([lat]), np.radians([LON]))
        records.append(GivenPosition(
            id=f"g{name}", mark=name.lower(), frame="old", e_m=float(e[0]), n_m=float(n[0]), height_m=H
        ))  # fmt: skip
    return applied(state, *(Add(record=record) for record in records))


def applied(state: JobState, *entries: Entry) -> JobState:
    """The state with entries taken in."""
    for entry in entries:
        state.apply(entry)
    return state


def ways(state: JobState) -> dict[str, np.ndarray]:
    """How far each mark is in the newer frame from where it was: east, north, up by geographiclib."""
    found = derive(state, Memory()).adopted["new"]
    lat, lon = open_frame(state.frames["new"].spec).inverse(found.e_m, found.n_m)
    out = {}
    for i, name in enumerate(found.names):
        was = LAT + np.degrees("ABCD".index(name) * AWAY)
        g = Geodesic.WGS84.Inverse(was, LON, *np.degrees([lat[i], lon[i]]))
        turn = np.radians(g["azi1"])
        out[name] = np.array([g["s12"] * np.sin(turn), g["s12"] * np.cos(turn), found.height_m[i] - H])
    return out


def moving(state: JobState, frame: str = "new", **mm: tuple[float, float, float]) -> JobState:
    """With velocities of marks, mm a year."""
    values = {name: 1e-3 * np.array(v) for name, v in mm.items()}
    return applied(state, *give_velocities(state, frame, values, "test").entries)


class MarksMove(unittest.TestCase):
    def test_own_velocity_mean_and_plate(self) -> None:
        """Ten years: what a mark has of its own wins; others go with the plate, with the mean, or stay."""
        one, two = (10.0, 60.0, -3.0), (30.0, 20.0, 5.0)
        at = np.radians([LAT]), np.radians([LON])
        crs = pyproj.CRS("EPSG:7912")
        plate = rates(crs, plates("ITRF2014")["AUST"], *at, np.zeros(1))[:, 0] * 1e4
        for named, others in (
            ("", (0.0, 0.0, 0.0)), (MARKS_MEAN, (200.0, 400.0, 10.0)), ("ITRF2014:AUST", plate)
        ):  # fmt: skip
            with self.subTest(named):
                found = ways(moving(job(plate=named), A=one, D=two))
                for name, wanted in (
                    ("A", np.multiply(10, one)), ("D", np.multiply(10, two)), ("B", others), ("C", others)
                ):  # fmt: skip
                    np.testing.assert_allclose(1e3 * found[name], wanted, atol=0.2, err_msg=name)

    def test_back_in_time_and_where_the_system_stands_still(self) -> None:
        back = ways(moving(job(2025.0), B=(10.0, 60.0, -3.0)))
        np.testing.assert_allclose(1e3 * back["B"], (-50.0, -300.0, 15.0), atol=0.2)
        still = ways(moving(job(base="EPSG:7844"), B=(1.0, -2.0, 4.0)))  # GDA2020
        np.testing.assert_allclose(1e3 * still["B"], (10.0, -20.0, 40.0), atol=0.2)
        np.testing.assert_allclose(1e3 * still["A"], 0.0, atol=0.2)
        with_plate = moving(job(base="EPSG:7844", plate="ITRF2014:AUST"), B=(1.0, -2.0, 4.0))
        np.testing.assert_allclose(1e3 * ways(with_plate)["A"], 0.0, atol=0.2)
        self.assertFalse(derive(with_plate, Memory()).elsewhere["new"].notes)

    def test_what_a_traverse_gives(self) -> None:
        book = TraverseBook(
            id="t", name="T", frame="old", here=("a",), there=("e",), kind=("azimuth",), direction_rad=(0.7,),
            distance_m=(100.0,), dh_m=(1.0,), start_azimuth_rad=0.7,
        )  # fmt: skip
        state = applied(job(), Add(record=Mark(id="e", name="E")), Add(record=book))
        before = derive(state, Memory()).adopted["new"]
        after = derive(moving(state, E=(10.0, 60.0, 0.0)), Memory()).adopted["new"]
        row = before.place["e"]
        self.assertAlmostEqual(float(after.e_m[row] - before.e_m[row]), 0.1, delta=2e-4)

    def test_given_in_another_frame(self) -> None:
        """Of one datum they count, and what is given in the frame itself wins; of another they do not."""
        state = moving(job(), "old", A=(10.0, 60.0, 0.0), B=(1.0, 1.0, 1.0))
        found = ways(moving(state, "new", B=(20.0, 50.0, 0.0)))
        np.testing.assert_allclose(1e3 * found["A"], (100.0, 600.0, 0.0), atol=0.2)
        np.testing.assert_allclose(1e3 * found["B"], (200.0, 500.0, 0.0), atol=0.2)
        other = FrameSpec(name="x", crs=utm_on("EPSG:7844", 55), epoch_year=2020.0)
        state = applied(state, Add(record=FrameRecord(id="x", spec=other)))
        np.testing.assert_allclose(ways(moving(state, "x", C=(9.0, 9.0, 9.0)))["C"], 0.0, atol=2e-4)

    def test_what_is_said(self) -> None:
        notes = derive(moving(job(), A=(10.0, 60.0, 0.0)), Memory()).elsewhere["new"]
        self.assertIn("+10 years of velocities of 1 mark", notes.operations["old"])
        self.assertEqual([n.rule for n in notes.notes], ["convert.other-epoch"])
        self.assertRegex(notes.notes[0].text, r"Positions of 2010 .* at 2020 unmoved: .* some 0\.[56]\d m")
        every = derive(moving(job(), **dict.fromkeys("ABC", (10.0, 60.0, 0.0))), Memory()).elsewhere["new"]
        self.assertIn("+10 years of velocities of 3 marks", every.operations["old"])
        self.assertFalse(every.notes)


class Gestures(unittest.TestCase):
    def test_typed(self) -> None:
        state = job()
        state = applied(state, *type_velocity(state, "new", "A, 14.2, -15.1, 0.4").entries)
        state = applied(state, *type_velocity(state, "new", "B, 14, -16").entries)
        for names, what in (("A", "Velocity of A"), ("AB", "Velocities of 2 marks")):
            values = {name: np.zeros(3) for name in names}
            self.assertEqual(give_velocities(state, "new", values, "test").what, what)
        found = velocities_in(state, "new")
        self.assertEqual(as_typed(found["a"], "A"), "A, 14.2, -15.1, 0.4")
        self.assertEqual((found["b"].east_m, found["b"].north_m, found["b"].up_m), (0.014, -0.016, 0.0))
        words = "2 marks have velocities: east +14.1, north −15.6, up +0.2 mm a year in the mean"
        self.assertEqual(velocity_words(state, "new"), f"{words}, up to 0.9 apart.")
        state = applied(state, *type_velocity(state, "new", "A, 1, 2, 3").entries)
        self.assertEqual(len(velocities_in(state, "new")), 2, "that of a mark is amended")
        state = applied(state, *type_velocity(state, "new", "B, none").entries)
        self.assertEqual(velocity_words(state, "new"), "A moves east +1.0, north +2.0, up +3.0 mm a year.")
        state = applied(state, *without_velocities(state, "new").entries)
        self.assertEqual(velocity_words(state, "new"), "")

    def test_what_will_not_do(self) -> None:
        state = job()
        for text in (
            "A", "A, 1", "A, 1, 2, 3, 4", "A, x, 2", ", 1, 2", "X, 1, 2", "A, none", "A, 301, 0", "",
        ):  # fmt: skip
            with self.subTest(text), self.assertRaises(FenwindError):
                type_velocity(state, "new", text)
        with self.assertRaises(FenwindError):
            without_velocities(state, "new")

    def test_lists(self) -> None:
        with TemporaryDirectory() as folder:
            file = Path(folder) / "v.csv"
            for text in (
                "name,vn,ve,vu\nA,-15.1,14.2,0.3\n",
                "name,ve_m,vn_m,vu_m\nA,0.0142,-0.0151,0.0003\n",
            ):
                file.write_text(text)
                np.testing.assert_allclose(read_velocities(str(file))["A"], (0.0142, -0.0151, 0.0003))
            file.write_text("name,ve,vn\nA,1,2\n")
            np.testing.assert_allclose(read_velocities(str(file))["A"], (0.001, 0.002, 0.0))
            for text, said in (
                ("name,ve,vn_m\nA,1,2\n", "expected name,ve,vn,vu"), ("name,ve\nA,1\n", "in one unit"),
                ("name,ve,vn\nA,1,\n", "column vn"), ("name,ve,vn\nA,1,2\nA,1,2\n", "line 3"),
                ("name,ve,vn\nA,301,2\n", "below 300"), ("name,ve_m,vn_m\nA,14,2\n", "below 0.3"),
            ):  # fmt: skip
                file.write_text(text)
                with self.subTest(text), self.assertRaises(FenwindError) as caught:
                    read_velocities(str(file))
                self.assertIn(said, caught.exception.sentences)


class Doubts(unittest.TestCase):
    def test_against_the_plate(self) -> None:
        """The plate does 21.1 east, 56.0 north mm a year here (ITRF2014, PROJ's file)."""
        still = job(base="EPSG:7844")
        for state, v, doubted in (
            (job(), (21.1, 56.0, 0.0), False), (job(), (21.1, 56.0 - 19.5, 0.0), False),
            (job(), (21.1 + 20.5, 56.0, 0.0), True), (job(), (0.0211, 0.0560, 0.0), True),
            (job(plate="ITRF2014:PCFC"), (21.1, 56.0, 0.0), True),
            (still, (0.0, 19.9, 0.0), False), (still, (21.1, 56.0, 0.0), True),
        ):  # fmt: skip
            with self.subTest(v=v):
                state = moving(state, A=v)
                found = list(doubts(state, derive(state, Memory())))
                self.assertEqual([d.names for d in found], [("A",)] if doubted else [])
                for doubt in found:
                    self.assertIn(f"A moves {doubt.value:.0f} mm a year against ", doubt.text)
                    self.assertGreater(doubt.value, 20.0)
                    self.assertEqual((doubt.limit, doubt.unit), (20.0, "mm a year"))


class Command(unittest.TestCase):
    def test_own_velocities_and_plate(self) -> None:
        with TemporaryDirectory() as folder:
            points, listed = Path(folder) / "p.csv", Path(folder) / "v.csv"
            points.write_text("name,lat,lon,h\nA,-33,147,200\nB,-33,147,200\n")
            listed.write_text("name,ve,vn,vu\nA,10,60,-3\n")
            base = [
                "convert",
                str(points),
                *["--from", "EPSG:7912", "--to", "EPSG:7912", "--json", "--epoch", "2010"],
            ]
            base += ["--json", "--epoch", "2010", "--velocities", str(listed)]
            out, told = StringIO(), StringIO()
            with redirect_stdout(out), redirect_stderr(told):
                self.assertEqual(main([*base, "--to-epoch", "2020", "--plate", "AUST"]), 0)
                self.assertEqual(main([*base, "--to-epoch", "2020"]), 2)
                self.assertEqual(main(base), 2)
            self.assertIn("no velocity of B", told.getvalue())
            self.assertIn("velocities need two epochs", told.getvalue())
            a, b = json.loads(out.getvalue())["positions"]
            self.assertEqual(a["rate_mm"], {"e": 10.0, "n": 60.0, "u": -3.0})
            self.assertAlmostEqual(a["h"], 200.0 - 0.03, places=4)
            way = Geodesic.WGS84.Inverse(LAT, LON, a["lat"], a["lon"])
            self.assertAlmostEqual(way["s12"] * np.cos(np.radians(way["azi1"])), 0.6, places=4)
            self.assertAlmostEqual(b["rate_mm"]["n"], 56.0, delta=0.1)
