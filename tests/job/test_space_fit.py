"""Fits in space as steps of a job: parameters of a known truth found again, what is not given carried,
heights of mixed kinds, an outlier named, in frames on other ellipsoids and meridians."""

import math
from typing import Any

import numpy as np
from pyproj import CRS, Transformer

from fenwind.doubts.of_job import Judge
from fenwind.errors import FenwindError, ProcedureError
from fenwind.estimation.distributions import f_tail
from fenwind.geodesy.frames import FrameSpec, HeightReference, open_frame
from fenwind.geodesy.geocentric import from_xyz, to_xyz
from fenwind.geodesy.helmert_words import bound_wkt, helmert_proj
from fenwind.job.figures import drawings_held
from fenwind.job.ground_view import marks_of
from fenwind.job.job import Job
from fenwind.job.space_gestures import change, new_space_fit, set_off
from fenwind.procedures.datum_fit import compared, datum_fit, leave_one_out
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.records.entries import Add, amend
from fenwind.records.lines import TraverseBook
from fenwind.records.network import NetworkStep, ObservationSet
from fenwind.records.records import FrameRecord, GivenPosition, Mark, MeasuredPosition
from fenwind.reports.space_words import parameters_words, verdict_words
from fenwind.reports.trail import trail
from tests.support import CommandCase

SHIFT, TURN, SCALE = np.array([-601.7, -74.2, -423.4]), np.array([0.4, -0.9, 2.1]), 5.5e-6
#: Latitude, longitude, height above the ellipsoid of marks in the middle of France.
MARKS = {
    "A": (46.10, 2.10, 310.0), "B": (46.45, 2.95, 820.0), "C": (46.80, 2.30, 140.0),
    "D": (46.30, 3.40, 560.0), "E": (46.62, 2.62, 455.0), "F": (46.21, 2.77, 701.0),
    "N": (46.52, 2.40, 260.0),
}  # fmt: skip
SOURCE = FrameSpec(name="Lambert-93", crs="EPSG:2154")
#: Clarke 1880, the meridian of Paris, gon.
TARGET = FrameSpec(name="Old zone II", crs="EPSG:27572")


def truth(xyz: np.ndarray) -> np.ndarray:
    """Carried by PROJ with the true parameters."""
    x, y, z = (float(v) for v in SHIFT)
    rx, ry, rz = (float(v) for v in TURN)
    way = (
        f"+proj=helmert +x={x} +y={y} +z={z} +rx={rx} +ry={ry} +rz={rz} +s={SCALE * 1e6} "
        "+convention=position_vector"
    )
    return np.array(Transformer.from_pipeline(way).transform(*xyz))


class SpaceFits(CommandCase):
    def job_of(self, noise: float = 0.0, heights: str = "ellipsoid", names: str = "ABCDEFN") -> Job:
        rng = np.random.default_rng(3)
        lat, lon, h = np.array([MARKS[n] for n in names]).T
        lat, lon = np.radians(lat), np.radians(lon)
        one, two = open_frame(SOURCE), open_frame(TARGET)
        ellipsoid = two.geodetic_crs.ellipsoid
        figure = (ellipsoid.semi_major_metre, 1.0 / ellipsoid.inverse_flattening)
        there = truth(to_xyz(lat, lon, h)) + noise * rng.standard_normal((3, len(names)))
        tlat, tlon, th = from_xyz(there, *figure)
        e, n = one.forward(lat, lon)
        te, tn = two.forward(tlat, tlon)
        self.there = dict(zip(names, zip(te, tn, th, strict=True), strict=True))
        over = HeightReference(kind=heights)  # type: ignore[arg-type]
        target = FrameSpec(name="Old zone II", crs="EPSG:27572", height=over)
        records: list[Any] = [FrameRecord(id="new", spec=SOURCE), FrameRecord(id="old", spec=target)]
        for i, name in enumerate(names):
            records.append(Mark(id=name.lower(), name=name))
            if name == "E":  # measured, not given
                records.append(MeasuredPosition(
                    id="m", mark="e", crs="EPSG:4965", lat_rad=float(lat[i]), lon_rad=float(lon[i]),
                    h_m=float(h[i]), sigma_h_m=0.01, sigma_v_m=0.02,
                ))  # fmt: skip
            else:
                records.append(GivenPosition(
                    id=f"1{name}", mark=name.lower(), frame="new", e_m=float(e[i]), n_m=float(n[i]),
                    height_m=float(h[i]), sigma_h_m=0.004, sigma_v_m=0.006,
                ))  # fmt: skip
            if name != "N":
                records.append(GivenPosition(
                    id=f"2{name}", mark=name.lower(), frame="old", e_m=float(te[i]), n_m=float(tn[i]),
                    height_m=float(th[i]),
                ))  # fmt: skip
        job = Job.create(self.path(f"{heights}{noise}{names}.fenwind"), "space", records, "old")
        self.addCleanup(job.close)
        job.record(*new_space_fit(job.state, "old"))
        return job

    def found(self, job: Job) -> Any:
        (found,) = self.derive(job).of_kind("space fit").values()
        return found

    def test_the_true_parameters_come_back(self) -> None:
        job = self.job_of()
        derived, found = self.derive(job), self.found(job)
        self.assertEqual([found.names[k] for k in found.pairs], ["A", "B", "C", "D", "F", "E"])
        np.testing.assert_allclose(found.fit.shift, SHIFT, atol=2e-3)
        np.testing.assert_allclose(found.fit.rotation / RAD_PER_SECOND, TURN, atol=2e-5)
        self.assertAlmostEqual(found.fit.scale, SCALE, delta=2e-10)
        np.testing.assert_allclose(found.residuals, 0.0, atol=2e-4)
        adopted = derived.adopted["old"]
        row = adopted.index["N"]
        place = (adopted.e_m[row], adopted.n_m[row], adopted.height_m[row])
        np.testing.assert_allclose(place, self.there["N"], atol=2e-4)
        self.assertEqual((adopted.basis[row], adopted.why[row]), ("carried", "carried by Space fit 1"))
        links = trail(job.state, derived, job.state.marks["n"], "old")
        self.assertEqual([k.title for k in links][-3:], ["Space fit 1", "Adopted", "Not adopted"])
        self.assertEqual(links[-3].note, "in space, 7 parameters")
        said = parameters_words(found)
        self.assertIn("position vector: X +0.400000", said.replace(" ± 0.000000", ""))
        self.assertIn("coordinate frame: X \u22120.400000, Y +0.900000, Z \u22122.100000\u2033", said)
        self.assertIn("Scale +5.50000", said)
        # The strings by pyproj alone: from one set's geocentric positions onto the other's.
        f = found.fit
        lat, lon, h = MARKS["C"]
        xyz = to_xyz(math.radians(lat), math.radians(lon), h)
        way = Transformer.from_pipeline(helmert_proj(f.shift, f.rotation, f.scale))
        np.testing.assert_allclose(way.transform(*xyz), truth(xyz), atol=2e-4)
        bound = CRS.from_wkt(bound_wkt(f.shift, f.rotation, f.scale, CRS("EPSG:4171"), CRS("EPSG:4807")))
        self.assertIn("Position Vector", bound.coordinate_operation.method_name)
        stated = [p.value for p in bound.coordinate_operation.params]
        np.testing.assert_allclose(stated, [*f.shift, *f.rotation / RAD_PER_SECOND, f.scale * 1e6], rtol=1e-9)

    def test_sigmas_and_which_model(self) -> None:
        job = self.job_of(noise=0.02)
        found = self.found(job)
        self.assertEqual(found.fit.sigma0_m is not None and 0.008 < found.fit.sigma0_m < 0.04, True)
        p, row = found.new, found.new.index["n"]
        own = 0.004  # what N is known to, and more by the fit
        self.assertTrue(own < p.sigma_h_m[row] < 0.03, p.sigma_h_m[row])
        self.assertIn("the turn and the scale are not chance (p below 0.001)", verdict_words(found))
        rules = [d.rule for d in Judge().judge(job.state, self.derive(job)).open]
        self.assertNotIn("space.outlier", rules, "20 mm of noise accuse nobody")
        rms = math.sqrt(float(np.mean(found.fit.residuals**2)))
        self.assertAlmostEqual(found.compared.seven_rms_m, rms, 9)
        job.record(*change(found.step, "x", parameters=3))
        three = self.found(job)
        self.assertAlmostEqual(
            three.compared.shift_rms_m, math.sqrt(float(np.mean(three.fit.residuals**2))), 9
        )
        self.assertGreater(three.compared.shift_rms_m, 0.2)

    def test_back_again(self) -> None:
        """What is given, traversed or adjusted only where the fit leads comes back by it, not by PROJ's way,
        which is 520 m from the truth here; and a network there makes no pair of a mark with itself."""
        job = self.job_of()
        e, n, h = self.there["F"]
        gone = job.state.given["1F"]
        book = TraverseBook(
            id="t", name="T", frame="old", here=("f",), there=("x",), kind=("azimuth",), direction_rad=(0.0,),
            distance_m=(0.001,), dh_m=(0.0,), start_azimuth_rad=0.0,
        )  # fmt: skip
        records = [Mark(id="x", name="X"), book]
        job.record("far", [amend(gone, active=False), *(Add(record=r) for r in records)])
        derived = self.derive(job)
        found, adopted = self.found(job), derived.adopted["new"]
        self.assertNotIn("f", found.pairs)
        lat, lon, up = MARKS["F"]
        wanted = (*(float(v[0]) for v in open_frame(SOURCE).forward(*np.radians([[lat], [lon]]))), up)
        for name in "FX":
            row = adopted.index[name]
            place = (adopted.e_m[row], adopted.n_m[row], adopted.height_m[row])
            np.testing.assert_allclose(place, wanted, atol=3e-3, err_msg=name)
            self.assertEqual(adopted.why[row], "carried back by Space fit 1")
        self.assertGreater(adopted.sigma_h_m[adopted.index["X"]], 0.0)
        notes = [k.note for k in trail(job.state, derived, job.state.marks["x"], "new")]
        self.assertIn("in space back, 7 parameters", notes)
        frame = open_frame(job.state.frames["old"].spec)
        ellipsoid = frame.geodetic_crs.ellipsoid
        figure = (ellipsoid.semi_major_metre, 1.0 / ellipsoid.inverse_flattening)
        e, n, h = np.array([self.there[k] for k in "ABF"]).T
        at = to_xyz(*frame.inverse(e, n), h, *figure)
        seen = ObservationSet(
            id="o", name="O", kind=("vector",) * 2, at=("a", "b"), to=("f", "f"), back=("", ""),
            setup=("", ""), group=("", ""), hi_m=(0.0, 0.0), ht_m=(0.0, 0.0),
            value=tuple(tuple(float(v) for v in at[:, 2] - at[:, i]) for i in (0, 1)),
            covariance=((1e-6, 0.0, 0.0, 1e-6, 0.0, 1e-6),) * 2, line=(2, 3),
        )  # fmt: skip
        net = NetworkStep(id="net", name="Net", frame="old", observations="o", hold=("a", "b"))
        job.record("net", [Add(record=seen), Add(record=net)])
        derived = self.derive(job)
        self.assertIn("f", derived.of_kind("network")["net"].elsewhere["new"].index, "PROJ's way is there")
        self.assertEqual(self.found(job).pairs, found.pairs)
        adopted = derived.adopted["new"]
        row = adopted.index["F"]
        self.assertEqual(adopted.why[row], "carried back by Space fit 1")
        self.assertAlmostEqual(float(adopted.e_m[row]), wanted[0], delta=3e-3)

    def test_an_outlier_is_named_and_compared_only(self) -> None:
        job = self.job_of(noise=0.003)
        wrong = job.state.given["2C"]
        job.record("x", [amend(wrong, n_m=(wrong.n_m or 0.0) + 0.8)])
        derived, found = self.derive(job), self.found(job)
        (doubt,) = [d for d in Judge().judge(job.state, derived).open if d.rule == "space.outlier"]
        self.assertEqual((doubt.names, doubt.grave), (("C",), True))
        self.assertAlmostEqual(doubt.value or 0.0, 0.8, delta=0.05)
        job.record(*set_off(found.step, ["c"], True))
        after = self.found(job)
        self.assertEqual(after.used.tolist(), [True, True, False, True, True, True])
        self.assertAlmostEqual(float(after.residuals[1, 2]), -0.8, delta=0.05)
        self.assertLess(float(np.abs(after.residuals[:, after.used]).max()), 0.01)
        rules = [d.rule for d in Judge().judge(job.state, self.derive(job)).open]
        self.assertNotIn("space.outlier", rules)
        job.record(*set_off(after.step, ["c"], False))
        self.assertTrue(self.found(job).used.all())

    def test_what_cannot_be_and_what_is_doubtful(self) -> None:
        def rules(job: Job) -> list[str]:
            derived = self.derive(job)
            return [d.rule for d in Judge().judge(job.state, derived).open if d.rule.startswith("space")]

        self.assertEqual(rules(self.job_of()), [])
        self.assertEqual(rules(self.job_of(heights="local")), ["space.heights"])
        self.assertEqual(rules(self.job_of(names="ABN")), ["space.failed"])
        self.assertEqual(rules(self.job_of(names="AFDN")), ["space.weak-geometry"])
        job = self.job_of(names="ABCN")
        self.assertEqual(rules(job), [])
        (found,) = self.derive(job).of_kind("space fit").values()
        job.record(*change(found.step, "x", target_frame="new"))
        self.assertIsInstance(self.found(job), FenwindError)
        empty = Job.create(
            self.path("empty.fenwind"), "empty", [FrameRecord(id="p", spec=FrameSpec(name="P"))], "p"
        )
        self.addCleanup(empty.close)
        with self.assertRaises(ProcedureError):
            new_space_fit(empty.state, "p")

    def test_a_drawing_is_not_held_by_what_a_fit_carried(self) -> None:
        job = self.job_of()
        old = self.derive(job).adopted["old"]
        self.assertIn("N", old.index)
        frame = open_frame(job.state.frames["old"].spec)
        ((key, one),) = drawings_held(job.state, "old", frame, marks_of(frame, old), old)
        self.assertEqual((key, one.names), ("new", tuple("ABCDF")))

    def test_by_the_others_alone(self) -> None:
        """Leaving one out, by hand; and a gain by chance: pure shifts of noise rarely speak for seven."""
        rng = np.random.default_rng(8)
        source = rng.uniform(-1e4, 1e4, (3, 6)) + np.array([[4e6], [6e5], [4.8e6]])
        chance = []
        for _ in range(200):
            target = source + SHIFT[:, None] + 0.01 * rng.standard_normal((3, 6))
            chance.append(compared(source, target).p_value)
        self.assertTrue(0.0 <= np.mean(np.array(chance) < 0.05) <= 0.10)
        found = leave_one_out(source, target, 7)
        rest = [0, 1, 3, 4, 5]
        others = datum_fit(source[:, rest], target[:, rest])
        d = (others.carry(source[:, [2]]) - target[:, [2]])[:, 0]
        np.testing.assert_allclose(found.away[:, 2], d, atol=1e-9)
        spread = others.point_covariance(source[:, [2]])[:, :, 0] + (others.sigma0_m or 0.0) ** 2 * np.eye(3)
        self.assertAlmostEqual(found.test[2], d @ np.linalg.inv(spread) @ d / 3.0, 9)
        self.assertTrue(np.isnan(leave_one_out(source[:, :3], target[:, :3], 7).away).all())
        # Of clean pairs one in twenty is below 5 %: the test says what it says.
        seen = []
        for _ in range(150):
            target = source + SHIFT[:, None] + 0.01 * rng.standard_normal((3, 6))
            one = leave_one_out(source, target, 7)
            seen.append(f_tail(one.test, 3, one.dof))
        self.assertAlmostEqual(float(np.mean(np.array(seen) < 0.05)), 0.05, delta=0.025)
