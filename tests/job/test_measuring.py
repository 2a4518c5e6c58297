"""What epochs amount to, what the limits of sessions let through, and how marks measured from bases lie on a
plane."""

import math
import unittest
from dataclasses import fields
from datetime import UTC, datetime
from typing import Any

import numpy as np

from fenwind.devices.keeping import Keeper
from fenwind.devices.nmea_in import Epoch
from fenwind.doubts.of_job import about_sessions
from fenwind.doubts.registry import Doubt, Remedy
from fenwind.doubts.session_settling import SESSION_REMEDIES
from fenwind.errors import FenwindError
from fenwind.geodesy.frames import FrameSpec, open_frame
from fenwind.geodesy.geocentric import enu_axes, from_xyz, to_xyz
from fenwind.job import session_gestures as gestures
from fenwind.job.measuring import Row, finished, pack, unpack
from fenwind.job.session_view import rover_of, summary
from fenwind.job.steps.occupied import plane_axes
from fenwind.records.entries import amend
from fenwind.records.sessions import Antenna, BaseSetup, Occupation
from tests.session_job import arp, place, session_job
from tests.support import TempFolder

LAT, LON, _ = place("B")


def rows(ways: np.ndarray, **more: Any) -> list[Row]:
    """An epoch a minute, so far east, north, up (k, 3) of the pole over B."""
    out = []
    for k, way in enumerate(ways):
        lat, lon, h = (float(v) for v in from_xyz(arp("B", 2.0) + enu_axes(LAT, LON).T @ way))
        broadcast = more.get("broadcast", [tuple(arp("A", 1.5))] * len(ways))[k]
        out.append(
            Row(
                time_s=1e9 + 60.0 * k, lat=lat, lon=lon, h=h, sigma=more.get("sigma", (0.001, 0.001, 0.001)),
                pdop=1.0 + k, age=0.5, solution=more.get("solution", "fixed"), broadcast=broadcast,
            )
        )  # fmt: skip
    return out


class Finished(unittest.TestCase):
    WAYS = np.array([[0.010, 0.020, 0.040], [-0.010, -0.020, -0.040], [0.0, 0.0, 0.0]])

    def done(self, found: list[Row], known: Any = None) -> Occupation:
        return finished(Occupation(id="o", mark="b", base="d1", height_m=2.0), found, known)

    def test_spread_variance_and_what_the_base_said(self) -> None:
        one = self.done(rows(self.WAYS))
        np.testing.assert_allclose(
            [one.spread_e_m, one.spread_n_m, one.spread_u_m], [0.01, 0.02, 0.04], atol=1e-7
        )
        # Three minutes of a first-order process correlated over one: variance of its mean over its own.
        r = 1.0 / 3.0
        effective = 1.0 / (2.0 * r * (1.0 - r * (1.0 - math.exp(-1.0 / r))))
        self.assertAlmostEqual(one.effective or 0.0, effective, 9)
        np.testing.assert_allclose(
            [one.cee_m2, one.cnn_m2, one.cuu_m2], np.array([1e-4, 4e-4, 1.6e-3]) / effective, rtol=1e-5
        )
        np.testing.assert_allclose([one.dx_m, one.dy_m, one.dz_m], arp("B", 2.0) - arp("A", 1.5), atol=1e-6)
        self.assertEqual((one.epochs, one.pdop, one.age_s, one.moved_m, one.off_m), (3, 2.0, 0.5, 0.0, 0.0))

    def test_the_receivers_own_sigmas_where_they_are_larger(self) -> None:
        one = self.done(rows(self.WAYS, sigma=(0.05, 0.06, 0.07)))
        np.testing.assert_allclose(
            np.array([one.cee_m2, one.cnn_m2, one.cuu_m2]) * (one.effective or 0.0), [25e-4, 36e-4, 49e-4]
        )

    def test_epochs_that_lie_in_another_place_take_no_part(self) -> None:
        """Seven of sixty epochs 534 m away, as by a pole that is carried on: the mean is that of the others,
        and the scatter shows them."""
        rng = np.random.default_rng(2)
        ways = 0.005 * rng.standard_normal((60, 3))
        ways[20:27] += (500.0, -180.0, 40.0)
        one = self.done(rows(ways))
        truth = arp("B", 2.0) - arp("A", 1.5)
        self.assertLess(float(np.linalg.norm(np.array([one.dx_m, one.dy_m, one.dz_m]) - truth)), 0.005)
        self.assertEqual(one.epochs, 53)
        self.assertGreater(one.spread_e_m or 0.0, 100.0)
        self.assertLess(math.sqrt(one.cee_m2), 0.01)
        self.assertEqual(self.done(rows(0.02 * rng.standard_normal((40, 3)))).epochs, 40)

    def test_a_broadcast_that_leaps_or_is_another(self) -> None:
        x, y, z = arp("A", 1.5)
        one = self.done(rows(self.WAYS, broadcast=[(x, y, z), (x, y + 0.7, z), (x, y + 0.7, z)]))
        self.assertAlmostEqual(one.moved_m, 0.7, 9)
        one = self.done(rows(self.WAYS), np.array([x + 0.3, y, z + 0.4]))
        self.assertAlmostEqual(one.off_m, 0.5, 9)

    def test_the_worst_solution_counts_and_blobs_bring_epochs_back(self) -> None:
        mixed = rows(self.WAYS[:1]) + rows(self.WAYS[1:], solution="float")
        self.assertEqual(self.done(mixed).solution, "float")
        self.assertEqual(unpack(pack(mixed)), mixed)


class Keeping(unittest.TestCase):
    """A store that holds what it is given."""

    def begin(self, mark: str, occupation: Occupation, epoch: Epoch) -> Occupation:
        return occupation

    def keep(self, occupation: str, number: int, rows: list[Row]) -> None:
        self.pieces.append((number, len(rows)))

    def test_the_last_digit_and_when_it_is_enough(self) -> None:
        """1,852 m are a minute of latitude: five decimals of it are 18.5 mm."""
        for decimals, step in (((5, 3), 0.01852), ((8, 2), 0.01), ((7, 4), 1.852e-4)):
            self.pieces: list[tuple[int, int]] = []
            keeper = Keeper(self, "B", Occupation(id="o", mark="b", base="d1"), None)
            for k in range(4):
                moment = datetime(2026, 5, 1, 8, 0, k, tzinfo=UTC)
                epoch = Epoch(time=moment, lat=LAT, lon=LON, h=1.0, solution="fixed", satellites=9,
                              decimals=decimals)  # fmt: skip
                keeper.take(epoch, arp("A", 1.5))
                self.assertEqual(keeper.enough(4, None), k == 3)
                self.assertEqual(keeper.enough(None, 2.0), k >= 2)
            keeper.flush()
            self.assertAlmostEqual(keeper.coarse_m, step, 9)
            self.assertEqual(self.pieces, [(0, 1), (1, 3)])


class Limits(TempFolder):
    """Each limit just below and just above."""

    def setUp(self) -> None:
        super().setUp()
        self.job = session_job(self.path("j.fenwind"), blunder=0.0)
        self.addCleanup(lambda: self.job.close())

    def rules(self) -> set[str]:
        return {d.rule for d in about_sessions(self.job.state, self.derive(self.job))}

    def amend(self, key: str, **changes: Any) -> None:
        known = {f.name for f in fields(Occupation)}
        assert set(changes) <= known
        self.job.record("change", [amend(self.job.state.of(Occupation)[key], **changes)])

    def test_limits_of_one_occupation(self) -> None:
        start = "2026-05-01T08:%02d:%02d+00:00"
        for rule, key, below, above in (
            ("occupation.coarse", "o1", {"step_m": 0.0029}, {"step_m": 0.0031}),
            ("base.moved", "o1", {"moved_m": 0.0049}, {"moved_m": 0.0051}),
            ("base.broadcast", "o1", {"off_m": 0.0049}, {"off_m": 0.0051}),
            ("occupation.too-soon", "o3", {"started": start % (30, 0)}, {"started": start % (29, 59)}),
            ("occupation.float", "o1", {"solution": "fixed"}, {"solution": "float"}),
            ("occupation.no-height", "o1", {"height_m": 2.0}, {"height_m": 0.0}),
            ("session.legacy", "o1", {"message_set": "msm"}, {"message_set": "legacy"}),
        ):
            with self.subTest(rule=rule):
                old = self.job.state.of(Occupation)[key]
                self.amend(key, **below)
                self.assertNotIn(rule, self.rules())
                self.amend(key, **above)
                self.assertIn(rule, self.rules())
                self.amend(key, **{name: getattr(old, name) for name in above})

    def test_the_same_set_up_within_five_minutes(self) -> None:
        for seconds, rule in (("14:59", "occupation.same-setup"), ("15:00", "occupation.too-soon")):
            with self.subTest(seconds=seconds):
                self.amend("o3", base="d1", started=f"2026-05-01T08:{seconds}+00:00")
                self.assertIn(rule, self.rules())

    def test_what_a_check_may_miss_by(self) -> None:
        """On A from D1, with sigmas of nearly nothing but A's own, which both share: the least limits
        hold."""
        axes = enu_axes(*place("A")[:2])
        small = {"cee_m2": 1e-8, "cnn_m2": 1e-8, "cuu_m2": 1e-8}
        for way, told in (
            ((0.0149, 0.0, 0.0), False), ((0.0151, 0.0, 0.0), True), ((0.0, -0.0151, 0.0), True),
            ((0.0, 0.0, 0.0249), False), ((0.0151, 0.0, 0.0251), True),
        ):  # fmt: skip
            with self.subTest(way=way):
                vector = arp("A", 2.0) - arp("A", 1.5) + axes.T @ np.array(way)
                x, y, z = (float(v) for v in vector)
                self.amend("o1", mark="a", check=True, dx_m=x, dy_m=y, dz_m=z, **small)
                self.assertEqual("occupation.check" in self.rules(), told)

    def test_what_a_slant_explains(self) -> None:
        """A slant given as vertical, 65 mm too long: what departs by a quarter of that more is another
        height."""
        would = math.hypot(2.06, 0.15) - 2.0
        for more, rule in ((0.0, "slant"), (0.24 * would, "slant"), (0.26 * would, "antenna")):
            with self.subTest(more=more):
                up = enu_axes(*place("A")[:2])[2]
                x, y, z = (float(v) for v in arp("A", 2.0) - arp("A", 1.5) - more * up)
                self.amend(
                    "o1", mark="a", dx_m=x, dy_m=y, dz_m=z, height_m=math.hypot(2.06, 0.15), antenna="RIM"
                )
                self.assertIn(f"occupation.{rule}", self.rules())

    def test_a_slant_is_settled_with_the_antenna_it_was_of(self) -> None:
        """The antenna that the occupation names, else the job's only one."""
        doubt = Doubt(rule="occupation.slant", subject="o1", names=("A",), text="a slant")
        models = [a for a in self.job.state.of(Antenna).values() if a.active]
        rim = next(a for a in models if a.model == "RIM")
        remedy = Remedy(kind="as-slant", label="")
        self.amend("o1", height_m=2.06, antenna="")
        for active, wanted in ((models, None if len(models) > 1 else "RIM"), ([rim], "RIM"), ([], None)):
            changes = [amend(a, active=a in active) for a in models]
            self.job.record("antennas", changes)
            settle = SESSION_REMEDIES["as-slant"]
            if wanted is None:
                self.assertRaises(FenwindError, settle, self.job.state, doubt, remedy)
            else:
                (change,) = settle(self.job.state, doubt, remedy).entries
                self.assertEqual((change.new["method"], change.new["antenna"]), ("slant", wanted))

    def test_summary_of_a_mark(self) -> None:

        self.job.record(
            *gestures.stand_on(self.job.state.of(BaseSetup)["d2"], "known", self.job.state.marks["a"])
        )
        d = enu_axes(LAT, LON).T @ np.array([0.003, -0.004, 0.006])
        old = self.job.state.of(Occupation)["o3"]
        self.amend("o3", dx_m=old.dx_m + d[0], dy_m=old.dy_m + d[1], dz_m=old.dz_m + d[2])
        rover = rover_of(self.derive(self.job))
        found = summary(list(self.job.state.of(Occupation).values()), rover, "b")
        np.testing.assert_allclose(found.spread_m or (), [0.003, 0.004, 0.006], atol=1e-6)


class OnAPlane(unittest.TestCase):
    def test_axes_against_differences_of_the_projection(self) -> None:
        """UTM 19 south, 2.6 degrees west of its meridian: convergence and scale at once."""
        frame = open_frame(FrameSpec(name="UTM", crs="EPSG:32719"))
        lat, lon = np.array([math.radians(-33.5)]), np.array([math.radians(-71.6)])
        axes = plane_axes(frame, lat, lon)[:, :, 0]
        e, n = frame.forward(lat, lon)
        for d_lat, d_lon in ((1e-6, 0.0), (0.0, 1e-6)):
            with self.subTest(d_lat=d_lat):
                de, dn = (
                    float(a[0] - b[0])
                    for a, b in zip(frame.forward(lat + d_lat, lon + d_lon), (e, n), strict=True)
                )
                away = to_xyz(float(lat[0]) + d_lat, float(lon[0]) + d_lon, 0.0) - to_xyz(
                    float(lat[0]), float(lon[0]), 0.0
                )
                np.testing.assert_allclose((axes @ away)[:2], [de, dn], atol=5e-6)
