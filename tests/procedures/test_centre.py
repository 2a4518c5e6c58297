"""Centres from points around them: against the circle by hand, simulation, and through a job."""

import unittest

import numpy as np

from fenwind.errors import ProcedureError
from fenwind.geodesy.frames import FrameSpec
from fenwind.job.centre_gestures import make_centre, no_centre
from fenwind.job.merging import merge_marks
from fenwind.procedures.centre import middle
from fenwind.records.centres import Centre
from fenwind.records.entries import Add
from fenwind.records.records import FrameRecord, GivenPosition
from fenwind.reports.trail import trail
from tests.support import DemoCase


def rim(*degrees: float, radius: float = 2.0) -> np.ndarray:
    """Points on a circle about (500000, 6000000), the k-th 0.1 k m higher than 100."""
    a = np.radians(degrees)
    up = 100.0 + 0.1 * np.arange(a.size)
    return np.stack([5e5 + radius * np.sin(a), 6e6 + radius * np.cos(a), up])


class Middles(unittest.TestCase):
    def test_two_three_and_more(self) -> None:
        for at in ((10.0, 190.0), (0.0, 100.0, 230.0), (5.0, 80.0, 160.0, 250.0, 300.0)):
            found = middle(rim(*at), np.eye(3 * len(at)) * 1e-6)
            np.testing.assert_allclose(found.at[:2], (5e5, 6e6), atol=1e-8)
            self.assertAlmostEqual(found.at[2], 100.0 + 0.1 * (len(at) - 1) / 2.0, 9)
            self.assertAlmostEqual(found.radius_m, 2.0, 8)
        off = rim(0.0, 90.0, 180.0, 270.0)
        off[0, 1] += 0.004  # 4 mm outside: a quarter of it in the radius, half in easting, the rest left over
        found = middle(off, np.eye(12) * 1e-6)
        np.testing.assert_allclose(found.at[:2] - (5e5, 6e6), (0.002, 0.0), atol=1e-5)
        self.assertAlmostEqual(found.radius_m, 2.001, 5)
        np.testing.assert_allclose(found.residuals, (-0.001, 0.001, -0.001, 0.001), atol=1e-5)

    def test_covariance_against_simulation(self) -> None:
        rng = np.random.default_rng(7)
        for at in ((10.0, 190.0), (0.0, 60.0, 130.0), (0.0, 70.0, 150.0, 200.0)):
            size, true = 3 * len(at), rim(*at)
            root = rng.normal(0.0, 0.001, (size, size)) + 0.003  # what all share, and what they do not
            covariance = root @ root.T
            said = middle(true, covariance)
            draws = rng.multivariate_normal(np.zeros(size), covariance, 1200).reshape(-1, len(at), 3)
            found = [middle(true + d.T, covariance) for d in draws]
            spread = np.cov(np.array([f.at for f in found]).T)
            scale = np.sqrt(np.diag(said.covariance))
            np.testing.assert_allclose(
                spread / np.outer(scale, scale), said.covariance / np.outer(scale, scale), atol=0.14
            )
            radius = float(np.std([f.radius_m for f in found]))
            self.assertAlmostEqual(radius / said.sigma_radius_m, 1.0, delta=0.1)

    def test_what_is_no_centre(self) -> None:
        line = np.stack([5e5 + np.arange(3.0), 6e6 + 2.0 * np.arange(3.0), np.full(3, 9.0)])
        for points, words in ((rim(0.0), "two points"), (rim(5.0, 5.0), "are one"), (line, "on one line"),
                              (rim(0.0, 1.0, 2.0), "too close together")):  # fmt: skip
            with self.assertRaisesRegex(ProcedureError, words):
                middle(points, np.eye(3 * points.shape[1]))


class InAJob(DemoCase):
    def test_it_follows_its_points_and_says_from_what(self) -> None:
        state = self.job.state
        marks = [m for name in ("P-11", "T-08", "K-01") if (m := state.mark_named(name)) is not None]
        self.job.record(*make_centre(state, marks, "Tank"))
        self.job.record(*make_centre(self.job.state, [marks[0], marks[1]], "Half"))
        derived = self.derive(self.job)
        adopted = derived.adopted["map"]
        rows = [adopted.index[m.name] for m in marks]
        at = np.stack([adopted.e_m[rows], adopted.n_m[rows]])
        row, half = adopted.index["Tank"], adopted.index["Half"]
        away = np.hypot(at[0] - adopted.e_m[row], at[1] - adopted.n_m[row])
        self.assertLess(float(np.ptp(away)), 1e-8)
        self.assertAlmostEqual(float(adopted.e_m[half]), float(at[0, :2].mean()), 8)
        self.assertEqual(adopted.basis[row], "centre")
        links = trail(self.job.state, derived, self.job.state.mark_named("Tank"), "map")
        note = next(link.note for link in links if link.title == "Centre")
        self.assertRegex(
            note.replace("\u2009", ""),
            rf"centre of the circle of radius {away[0]:.3f} m through P-11, T-08, K-01; radius ± ",
        )
        self.assertTrue(np.isfinite(adopted.sigma_h_m[[row, half]]).all())
        # Of points whose sigmas nobody told nothing is said; lengths are in the unit of the frame.
        spec = FrameSpec(name="site", unit="ft")
        self.job.record("x", (Add(record=FrameRecord(id="site", spec=spec)), *(
            Add(record=GivenPosition(id=f"s-{i}", mark=m.id, frame="site", e_m=e, n_m=n))
            for i, (m, e, n) in enumerate(zip(marks, (0.0, 3.048, 0.0), (3.048, 0.0, -3.048), strict=True))
        )))  # fmt: skip
        derived = self.derive(self.job)
        links = trail(self.job.state, derived, self.job.state.mark_named("Tank"), "site")
        note = next(link for link in links if link.title == "Centre")
        self.assertEqual(note.note, "centre of the circle of radius 10.000 ft through P-11, T-08, K-01")
        self.assertFalse([value for value in note.values if "±" in value])
        one, other = (self.job.state.mark_named(n) for n in ("K-01", "K-02"))
        self.job.record(*merge_marks(self.job.state, other, one))
        self.assertIn(other.id, next(iter(self.job.state.of(Centre).values())).rim)
        self.job.undo()
        self.job.record(*make_centre(self.job.state, marks[1:], "Tank"))  # the last word holds
        tank = self.job.state.mark_named("Tank").id
        on = [c.rim for c in self.job.state.of(Centre).values() if c.active and c.mark == tank]
        self.assertEqual(on, [tuple(m.id for m in marks[1:])])
        half = self.job.state.mark_named("Half").id
        self.assertTrue([c for c in self.job.state.of(Centre).values() if c.active and c.mark == half])
        self.job.undo()
        for rim_marks, name in ((marks[:1], "X"), (marks, "T-08"), (marks, " ")):
            self.assertRaises(ProcedureError, make_centre, self.job.state, rim_marks, name)
        self.job.record(*no_centre(self.job.state, [self.job.state.mark_named("Tank")]))
        adopted = self.derive(self.job).adopted["map"]
        self.assertNotIn("Tank", adopted.index)
        self.assertRaises(ProcedureError, no_centre, self.job.state, marks)
