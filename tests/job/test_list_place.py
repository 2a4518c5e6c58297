"""Where lists that come in belong: frame, unit, heights, a plane of their own; and rows that lie astray."""

import math
from types import SimpleNamespace

import numpy as np

from fenwind.doubts.rules import doubts_about_fit, doubts_about_job
from fenwind.errors import FormatError
from fenwind.exchange.delimited import read_text
from fenwind.exchange.point_list import interpret
from fenwind.geodesy.frames import FrameSpec, HeightReference, open_frame, working_frame_spec
from fenwind.geodesy.own_plane import plane_through
from fenwind.geodesy.usual_systems import geographic_system, likely_systems
from fenwind.job.incoming import IncomingPoints, against_job, levelled, take_in
from fenwind.job.list_place import Listed, frame_of, likelier_unit
from fenwind.job.reader import with_grid_folder
from fenwind.quantities.lengths import FOOT, METRE
from fenwind.records.entries import Add, amend
from fenwind.records.records import FrameRecord, GivenPosition, Mark, MeasuredPosition
from tests.support import TempFolder


def known(*rows: tuple[str, float, float]) -> SimpleNamespace:
    """Adopted positions, as far as they are looked at."""
    return SimpleNamespace(
        index={r[0]: i for i, r in enumerate(rows)},
        e_m=np.array([r[1] for r in rows], dtype=float),
        n_m=np.array([r[2] for r in rows], dtype=float),
    )


def listed(*rows: tuple[str, float, float], unit: float = 1.0) -> Listed:
    return Listed(
        names=[r[0] for r in rows],
        e_m=unit * np.array([r[1] for r in rows], dtype=float),
        n_m=unit * np.array([r[2] for r in rows], dtype=float),
    )


class Place(TempFolder):
    def test_the_frame_is_the_one_that_the_numbers_fit(self) -> None:
        frames = {
            "plane": open_frame(FrameSpec(name="site", height=HeightReference(kind="local"))),
            "utm": open_frame(working_frame_spec("EPSG:25832")),
            "empty": open_frame(working_frame_spec("EPSG:27700")),
        }
        there = {"plane": known(("A", 1000, 2000), ("B", 1400, 2300)), "utm": known(("A", 463000, 6796000))}
        for rows, frame in (
            ((("A", 1000.3, 2000.2), ("X", 1200, 2100)), "plane"),  # a mark of that name is there
            ((("A", 463000.1, 6796000.2),), "utm"),
            ((("X", 1900, 2900),), "plane"),  # near
            ((("X", 470000, 6799000),), "utm"),
            ((("X", 430000, 180000),), "empty"),  # inside the area of a system without positions
            ((("X", 99000, -5e6),), ""),
        ):
            with self.subTest(rows):
                self.assertEqual(frame_of(listed(*rows), frames, there, "plane"), frame)

    def test_a_unit_is_named_where_the_numbers_fit_in_another(self) -> None:
        utm = open_frame(working_frame_spec("EPSG:25832"))
        marks = known(("A", 463000, 6796000), ("B", 463500, 6796400))
        rows = (("A", 463000, 6796000), ("B", 463500, 6796400))
        feet = 1 / 0.3048
        for points, unit, said in (
            (listed(*rows), METRE, None),
            (listed(*rows, unit=0.3048), FOOT, METRE),  # metres read as feet
            (listed(*rows, unit=feet), METRE, FOOT),  # feet read as metres
        ):
            for adopted in (marks, None):
                with self.subTest(unit=unit.key, known=adopted is not None):
                    self.assertIs(likelier_unit(points, unit, utm, adopted), said)

    def test_a_plane_of_its_own(self) -> None:
        lat, lon = np.radians([-36.85, -36.87]), np.radians([179.99, -179.97])
        spec = plane_through("EPSG:4167", lat, lon, np.array([900.0, 1100.0]), unit="ft")
        frame = open_frame(spec)
        self.assertEqual((spec.name, spec.unit), ("Plane at 36°52' S 179°59' W", "ft"))
        e, n = frame.forward(np.radians([-36.86667]), np.radians([-179.98333]))
        np.testing.assert_allclose([e[0], n[0]], [20_000, 60_000], atol=1.0)
        self.assertLess(np.ptp(frame.forward(lat, lon)[0]), 5000.0)
        # A grid distance is one on the ground at the mean height: its combined factor is 1.
        factors = frame.factors(np.radians(-36.8667), np.radians(-179.983), 1000.0)
        self.assertAlmostEqual(float(factors.combined), 1.0, delta=2e-7)

    def test_systems_are_offered_by_place_and_found_by_name(self) -> None:
        for place, first in (((48, 9), "ETRS89"), ((-33, 150), "GDA2020"), ((40, -105), "NAD83(2011)")):
            self.assertEqual(likely_systems(*(math.radians(v) for v in place))[0][1], first)
        self.assertEqual(geographic_system("wgs 84"), "EPSG:4979")
        self.assertEqual(geographic_system(" etrs89 "), "EPSG:4258")

    def test_ellipsoidal_heights_never_stand_beside_others(self) -> None:
        for head, ellipsoidal, height in (
            ("name,e,n,Ellipsoid Height", True, 300.0), ("name,e,n,h,Ellipsoidal_Height (ft)", False, 300.0),
            ("name,lat,lon,h,ell. height", True, 250.0), ("name,lat,lon,hgt", True, 300.0),
        ):  # fmt: skip
            with self.subTest(head):
                cells = head.count(",")
                rows = [",".join(f"{name},50,8,300,250".split(",")[: cells + 1]) for name in "AB"]
                points = interpret(read_text("\n".join([head, *rows]), "x"))
                self.assertEqual((points.ellipsoidal, points.values[2, 0]), (ellipsoidal, height))
        job = self.demo()
        spec = job.state.frames["map"].spec
        grid = with_grid_folder(spec, str(self.folder))
        rows = IncomingPoints(
            names=("A",),
            lines=np.array([1]),
            values=np.array([[463000.0], [6796000.0], [1290.0], [np.nan], [np.nan]]),
        )
        frame = open_frame(grid)
        undulation = float(frame.geoid_height(*frame.inverse(463000.0, 6796000.0)))
        self.assertGreater(undulation, 10.0)
        self.assertAlmostEqual(float(levelled(rows, frame).values[2, 0]), 1290.0 - undulation, places=9)
        for other in (None, open_frame(job.state.frames["dam"].spec)):
            left = levelled(rows, other)
            self.assertTrue(np.isnan(left.values[2, 0]))
            self.assertIn("left out", left.source)

    def test_measured_heights_are_not_shown_in_a_frame_that_counts_from_elsewhere(self) -> None:
        job = self.demo()
        spec = FrameSpec(
            name="site", crs="EPSG:25832", height=HeightReference(kind="local", name="old bench")
        )
        job.record("a frame", [Add(record=FrameRecord(id="site", spec=spec))])
        job.record("show it", [amend(job.state.info, frame="site")])
        derived = self.derive(job)
        adopted = derived.adopted["site"]
        row = adopted.index["P-05"]
        self.assertTrue(np.isnan(adopted.height_m[row]) and np.isfinite(adopted.e_m[row]))
        self.assertTrue(np.isfinite(derived.measured["site"].plane.height_m).all(), "a fit still has them")
        told = [d for d in doubts_about_job(job.state, derived) if d.rule == "frame.heights-apart"]
        self.assertIn("old bench", told[0].text)
        count = int(derived.measured["site"].loose.sum())
        self.assertEqual((told[0].value, len(told[0].names)), (count, 1))
        self.assertTrue(told[0].text.startswith(f"{count} marks with measured heights"))

    def test_one_mark_astray_takes_nothing_from_the_others(self) -> None:
        job = self.demo()
        job.record("show it", [amend(job.state.info, frame="map")])
        before = self.derive(job).adopted["map"]
        for name, lat, lon, rule in (
            ("FAR", 61.3, -8.3, "marks.off-grid"),
            ("ODD", 0.0, 99.0, "marks.astray"),
        ):
            mark = Mark(id=name, name=name)
            place = MeasuredPosition(
                id=f"m-{name}", mark=name, lat_rad=math.radians(lat), lon_rad=math.radians(lon), h_m=1280.0
            )
            job.record(name, [Add(record=mark), Add(record=place)])
            derived = self.derive(job)
            after = derived.adopted["map"]
            for field in ("e_m", "n_m", "height_m"):
                rows = [after.index[n] for n in before.names]
                np.testing.assert_array_equal(getattr(after, field)[rows], getattr(before, field))
            told = [d for d in doubts_about_job(job.state, derived) if d.rule == rule]
            self.assertEqual([d.names for d in told], [(name,)], rule)

    def test_one_name_at_two_places_is_told_before_taking(self) -> None:
        state = self.demo().state
        values = np.full((5, 3), np.nan)
        values[0], values[1] = np.radians([61.0, 61.0, 61.01]), np.radians([8.0, 8.0, 8.0])
        rows = IncomingPoints(
            names=("A", "A", "A"), lines=np.array([1, 2, 3]), values=values, geographic=True
        )
        self.assertEqual(list(against_job(state, rows, "", True).clash), [2])
        self.assertRegex(against_job(state, rows, "", True).clash[2], r"^1\W?11\d\.\d+ m from A in row 1$")
        values[:2] = [[0, 0.05, 1], [0, 0.05, -1]]
        plane = IncomingPoints(names=("A", "A", "A"), lines=np.array([1, 2, 3]), values=values)
        self.assertEqual(against_job(state, plane, "", True).clash, {2: "1.414 m from A in row 1"})

    def test_a_benchmark_known_by_its_height_alone(self) -> None:
        text = "name,h\nP-05,1252.3835\nT-01,1240.9\n"
        raw = read_text(text, "levels")
        with self.assertRaises(FormatError):
            interpret(raw)
        points = interpret(raw, heights_alone=True)
        job = self.demo()
        rows = IncomingPoints(names=points.names, lines=points.lines, values=points.values)
        self.assertEqual(against_job(job.state, rows, "dam", False).verdict, ("new position", "differs"))
        before = job.state.given["g-T-01"]
        job.record("levels", take_in(job.state, rows, [0, 1], measured=False, frame="dam"))
        after = job.state.given["g-T-01"]
        self.assertEqual((after.e_m, after.n_m, after.height_m), (before.e_m, before.n_m, 1240.9))
        derived = self.derive(job)
        result = derived.fits["fit-1"].case.result
        row = result.pairs.names.index("P-05")
        self.assertEqual((bool(result.pairs.used_h[row]), bool(result.pairs.used_v[row])), (False, True))
        self.assertLess(abs(result.pairs.dh_m[row]), 0.03)
        adopted = derived.adopted["dam"]
        at = adopted.index["P-05"]
        self.assertEqual(float(adopted.height_m[at]), 1252.3835)
        self.assertEqual(float(adopted.e_m[at]), float(result.carried.e_m[result.carried.index["P-05"]]))
        self.assertRegex(adopted.why[at], r"^carried by Fit 1.*, height given")
        rules = [d.rule for d in doubts_about_fit(derived.fits["fit-1"].case)]
        self.assertNotIn("fit.swapped-axes", rules)
        with self.assertRaises(ValueError):
            GivenPosition(id="x", mark="m", frame="dam", e_m=1.0, height_m=2.0)
