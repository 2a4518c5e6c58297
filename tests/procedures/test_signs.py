"""Signs, bounds and axes that no other test asks for: what reductions, ties, short traverses and images of
the ground do at their edges."""

import math
from dataclasses import replace

import numpy as np
from PIL import Image
from pyproj import Transformer

from fenwind.errors import ProcedureError
from fenwind.exchange.backdrop import read_image
from fenwind.geodesy.datum_change import _places
from fenwind.geodesy.frames import FrameSpec
from fenwind.geodesy.geocentric import from_xyz, to_xyz
from fenwind.job.job import Job
from fenwind.job.session_view import known_of
from fenwind.procedures.resection import ResectionOptions, Sighting, _laid, case_of, part_of, reduce
from fenwind.procedures.rover import ANTENNA_SIGMA_M, Measured, Point, tied_arp
from fenwind.procedures.traverse import Ends, Options, Sight, Traverse, solve, taken_apart
from fenwind.procedures.unseen import unseen
from fenwind.quantities.lengths import format_way
from fenwind.records.records import FrameRecord, GivenPosition, Mark
from fenwind.records.sessions import BaseSetup
from tests.support import CommandCase, made_up_pairs


class Signs(CommandCase):
    def test_a_reduction_spreads_errors_as_its_differences_do(self) -> None:
        """hd and dh a millimetre farther and a second steeper, on a steep line of 900 m."""
        options = ResectionOptions(heights=True, instrument_height=1.6, factor=1.0003, sigma_distance_m=0.004)
        one = Sighting(
            target="A", direction=1.0, zenith=math.radians(62.0), distance=900.0, target_height=1.2
        )
        base = reduce([one], options)
        rows = []
        for change, step, sigma in (
            ("distance", 1e-3, 0.004 + options.sigma_distance_ppm * 1e-6 * 900.0),
            ("zenith", 1e-6, options.sigma_zenith),
        ):
            moved = reduce([replace(one, **{change: getattr(one, change) + step})], options)
            rows.append([(float(m[0]) - float(b[0])) / step * sigma
                         for m, b in ((moved.hd, base.hd), (moved.dh, base.dh))])  # fmt: skip
        wanted = np.array(rows).T @ np.array(rows)
        np.testing.assert_allclose(base.covariance[1:, 1:, 0], wanted, rtol=1e-5)

    def test_a_figure_with_distances_is_laid_on_its_marks(self) -> None:
        """Turned and shifted: exact where nothing is off, whichever way the circle was turned."""
        known = np.array([[600.0, 180.0, -90.0], [450.0, -300.0, 260.0], [5.0, 6.0, 7.0]])
        station, options = np.array([140.0, 75.0]), ResectionOptions(plane=True)
        for turn in (0.0, 0.7, 3.0, -2.0):
            ways = known[:2] - station[:, None]
            sights = [
                Sighting(target=name, direction=(math.atan2(e, n) - turn) % math.tau, zenith=0.5 * math.pi,
                         distance=math.hypot(e, n))
                for name, e, n in zip("ABC", *ways.tolist(), strict=True)
            ]  # fmt: skip
            case = case_of(reduce(sights, options), known, False)
            at = _laid(case)
            self.assertIsNotNone(at)
            np.testing.assert_allclose(at[:2], station, atol=1e-6)
            self.assertAlmostEqual(math.remainder(at[2] - turn, math.tau), 0.0, delta=1e-9)
        self.assertIsNone(_laid(part_of(case, np.array([True, False, False]))), "one mark")
        apart = [replace(one, distance=math.nan) for one in sights[:2]]
        self.assertIsNone(_laid(case_of(reduce([*apart, sights[2]], options), known, False)), "one distance")

    def test_a_tie_has_the_errors_of_its_vector_in_the_right_directions(self) -> None:
        at = to_xyz(math.radians(61.3), math.radians(8.4), 1240.0)
        covariance = np.array([[9.0, 2.0, 1.0], [2.0, 1.0, 0.5], [1.0, 0.5, 16.0]]) * 1e-6
        one = Measured(id="o", mark="m", base="b", vector=np.array([30.0, 20.0, -10.0]),
                       covariance=covariance, height_m=1.8)  # fmt: skip
        found = tied_arp(Point(xyz=at), [one]).covariance()
        wanted = covariance + np.diag([0.0, 0.0, ANTENNA_SIGMA_M**2])
        np.testing.assert_allclose(found, wanted, atol=2e-10)

    def test_known_marks_of_another_ellipsoid_come_to_that_of_the_receivers(self) -> None:
        frame = FrameRecord(id="f", spec=FrameSpec(name="Belge 1972 / Lambert 72", crs="EPSG:31370"))
        records = [
            frame, Mark(id="k", name="K"), BaseSetup(id="b", name="B", word="known", mark="k"),
            GivenPosition(id="g", mark="k", frame="f", e_m=150_000.0, n_m=170_000.0, height_m=60.0),
        ]  # fmt: skip
        job = Job.create(self.path("be.fenwind"), "be", records, "f")
        self.addCleanup(job.close)
        found = known_of(self.derive(job))["k"]
        lat, lon, _ = (float(v) for v in from_xyz(found.xyz))
        x, y = Transformer.from_crs(31370, 4326, always_xy=True).transform(150_000.0, 170_000.0)
        np.testing.assert_allclose(np.degrees([lon, lat]), [x, y], atol=2e-5)

    def test_traverses_of_one_leg_and_with_a_shot_from_the_end(self) -> None:
        legs = (Sight(here="A", there="B", kind="azimuth", direction=0.5, distance=100.02),)
        ends = Ends(start=(0.0, 0.0, 1.0), close=(100.0 * math.sin(0.5001), 100.0 * math.cos(0.5001), 1.0))
        o = Options(method="lsq", sigma_angle=1e-4, sigma_distance_m=0.01, sigma_distance_ppm=0.0)
        found = solve(Traverse(names=("A", "B"), legs=legs, shots=(), ends=ends, options=o))
        self.assertEqual(found.dof, 2)
        self.assertAlmostEqual(found.variance_factor, (1.0**2 + 2.0**2) / 2.0, places=3)
        rows = [*legs, Sight(here="B", there="X", kind="right", direction=1.0, distance=5.0)]
        names, kept, shots = taken_apart(rows, "A", "B")
        self.assertEqual((names, len(kept), [s.there for s in shots]), (("A", "B"), 1, ["X"]))
        lost = replace(ends, closing_angle=1.0)
        with self.assertRaisesRegex(ProcedureError, "no closing line"):
            solve(Traverse(names=("A", "B"), legs=legs, shots=(), ends=lost))

    def test_an_image_lies_where_its_world_file_says(self) -> None:
        """The file gives the centre of the first pixel; turned, so that every term counts."""
        path = self.path("turned.png")
        Image.new("RGB", (4, 3)).save(path)
        self.write("turned.pgw", "0.5\n0.2\n0.1\n-0.4\n1000.0\n2000.0\n")
        a, b, c, d, f, g = read_image(path).place
        self.assertEqual((b, c, f, g), (0.5, 0.1, 0.2, -0.4))
        np.testing.assert_allclose((a + 0.5 * (b + c), d + 0.5 * (f + g)), (1000.0, 2000.0))

    def test_areas_across_the_half_turn_hold_both_sides(self) -> None:
        area = np.array([[170.0], [-20.0], [-170.0], [0.0]])
        lon, lat = np.array([175.0, -175.0, 10.0]), np.full(3, -10.0)
        found = [rows.tolist() for rows, _ in _places(area, lon, lat)]
        self.assertIn([0, 1], [sorted(rows) for rows in found])

    def test_what_a_model_without_scale_does_not_see_is_scale(self) -> None:
        pairs = made_up_pairs(k=6, marks=3, turn=0.3, scale=1.0)
        found = unseen(pairs.fit(horizontal="auto"))
        assert found is not None
        self.assertEqual(found.turn_rad, 0.0)
        result = pairs.fit(horizontal="auto")
        trial = next(t for t in result.models if t.model == "scale")
        self.assertTrue(3.0 < found.scale / trial.sigma_scale < 6.5)

    def test_short_ways_in_words(self) -> None:
        for metres, text in (
            (0.9999, "999.9 mm"), (1.0, "1.000 m"), (-0.0123, "−12.3 mm"), (12.3456, "12.346 m"),
        ):  # fmt: skip
            self.assertEqual(format_way(metres), text)
