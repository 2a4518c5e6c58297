"""Models of orbits, the atmosphere and integers against published values and real messages."""

import itertools
import unittest

import numpy as np

from fenwind.gnss.atmosphere import klobuchar_delay, mapping, zenith_delays
from fenwind.gnss.differences import arcs, pairs_of
from fenwind.gnss.files import read_kind
from fenwind.gnss.gps_time import iso
from fenwind.gnss.integers import decorrelated, nearest
from fenwind.gnss.observations import Header, Observations, SystemData
from fenwind.gnss.orbits import Constellation, Ephemeris
from fenwind.gnss.other_files import AntennaFrequency, AntennaType
from fenwind.gnss.ranges import phase_centre, rows_of
from fenwind.gnss.rinex_out import navigation_text
from fenwind.gnss.satellites import BroadcastSky, glonass_positions, satellite_code
from fenwind.gnss.signals import SPEED_OF_LIGHT, Signal, frequencies
from fenwind.standins.static_sky import messages_of
from tests.support import DATA


class Orbits(unittest.TestCase):
    def test_neighbouring_messages_of_real_satellites_agree(self) -> None:
        """Two messages of a satellite place it alike in the middle between them: within some metres two hours
        apart, as good as broadcast orbits are; BeiDou's geostationary satellites among them."""
        messages = read_kind(str(DATA / "gnss" / "navigation.rnx"), "navigation").messages
        by: dict[tuple[str, float], list] = {}
        for m in messages:
            by.setdefault((m.name, m.values[17] if m.system == "E" else 0.0), []).append(m)
        apart: dict[str, list[float]] = {}
        for (name, source), some in by.items():
            some = sorted({m.clock_ticks: m for m in some}.values(), key=lambda m: m.clock_ticks)
            kind = "5" if int(source) & 0x100 else "7"
            for a, b in itertools.pairwise(some):
                half = (b.clock_ticks - a.clock_ticks) / 2e7
                code = np.array([int(satellite_code(a.system, a.number))])
                states = [
                    BroadcastSky(start=a.clock_ticks, messages=[m], galileo=kind).states(
                        code, np.array([half])
                    )
                    for m in (a, b)
                ]
                way = float(np.linalg.norm(states[0].xyz - states[1].xyz))
                clock = abs(float(states[0].clock[0] - states[1].clock[0])) * 3e8
                if half <= 3600.0 and np.isfinite(way):
                    key = "geostationary" if name in ("C01", "C02", "C03", "C04", "C05") else name[0]
                    apart.setdefault(key, []).append(max(way, clock))
        self.assertEqual(set(apart), {"G", "E", "C", "geostationary"})
        for key, some in apart.items():
            self.assertLess(float(np.median(some)), 1.0, key)
            self.assertLess(max(some), 4.0, key)

    def test_a_glonass_state_keeps_its_energy(self) -> None:
        """Jacobi's integral, in axes that turn with the earth and with its flattening, stays what it
        is for a quarter of an hour either way."""
        message = next(m for m in messages_of(0, 1.0, "R") if m.system == "R")
        t = np.array([-900.0, -0.5, 0.0, 0.5, 900.0])
        near = glonass_positions(message.values, np.concatenate([t - 0.01, t + 0.01]))
        speed = (near[:, 5:] - near[:, :5]) / 0.02
        place = glonass_positions(message.values, t)
        r = np.sqrt((place**2).sum(axis=0))
        zonal = 1.0 + 1.0826257e-3 * (6378136.0 / r) ** 2 * 0.5 * (1.0 - 3.0 * (place[2] / r) ** 2)
        turning = 0.5 * 7.292115e-5**2 * (place[0] ** 2 + place[1] ** 2)
        energy = 0.5 * (speed**2).sum(axis=0) - 3.986004418e14 / r * zonal - turning
        np.testing.assert_allclose(energy, energy[2], rtol=2e-8)

    def test_the_made_up_sky_is_its_own_messages(self) -> None:
        """Messages of later hours give the orbits whose elements stand at the week's beginning."""
        start = 14_600 * 86_400 * 10_000_000
        message = next(m for m in messages_of(start, 3.0, "G") if m.number == 7)
        v = message.values
        toe = message.clock_ticks / 1e7
        one = Ephemeris(system="G", number=7, toe_s=toe, sqrt_a=v[7], eccentricity=v[5], i0=v[12],
                        omega0=v[10], perigee=v[14], m0=v[3])  # fmt: skip
        sky = BroadcastSky(start=message.clock_ticks, messages=[message])
        for t in (-3000.0, 0.0, 1234.5):
            found = sky.states(np.array([7]), np.array([t]))
            np.testing.assert_allclose(
                found.xyz[:, 0], Constellation([one]).positions(toe + t)[:, 0], atol=1e-4
            )
            relativity = found.clock[0] - (message.clock[0] + message.clock[1] * t)
            near = sky.states(np.array([7, 7]), np.array([t - 0.5, t + 0.5])).xyz
            # -2 r v / c^2, IS-GPS-200
            expected = -2.0 * float(found.xyz[:, 0] @ (near[:, 1] - near[:, 0])) / SPEED_OF_LIGHT**2
            self.assertAlmostEqual(relativity * 1e9, expected * 1e9, 2)

    def test_clocks_of_beidou_are_in_gps_time(self) -> None:
        """GPS time is 14 s ahead of BeiDou's (BDS-SIS-ICD)."""
        path = DATA / "gnss" / "navigation.rnx"
        line = next(x for x in path.read_text().splitlines() if x.startswith("C05"))
        message = next(m for m in read_kind(str(path), "navigation").messages if m.name == "C05")
        told = np.datetime64("-".join(line[4:14].split()) + "T" + ":".join(line[15:23].split()))
        self.assertEqual(iso(message.clock_ticks), str(told + np.timedelta64(14, "s")))
        self.assertIn(line[:23], navigation_text([message], {}))


class Atmosphere(unittest.TestCase):
    def test_published_values(self) -> None:
        """Klobuchar: 40 N, 260 E, elevation 20, azimuth 210, Thursday 20:45 gives 23.784 m (Borre and Strang,
        Algorithms for Global Positioning, from memory). Hydrostatic zenith delay at the sea and 45 degrees:
        2.307 m (Saastamoinen). Niell's functions at five degrees are some 10.15 and 10.75."""
        alpha, beta = (0.3820e-7, 0.1490e-7, -0.1790e-6, 0.0), (0.1430e6, 0.0, -0.3280e6, 0.1130e6)
        args = (
            np.radians(40.0),
            np.radians(-100.0),
            np.radians(np.array([210.0])),
            np.radians(np.array([20.0])),
        )
        self.assertAlmostEqual(float(klobuchar_delay(alpha, beta, *args, np.array([74700.0]))[0]), 23.784, 3)
        self.assertAlmostEqual(zenith_delays(np.radians(45.0), 0.0)[0], 2.307, 3)
        dry, wet = mapping(np.radians(np.array([5.0, 90.0])), np.radians(45.0), 0.0, 28.0)
        np.testing.assert_allclose([dry, wet], [[10.15, 1.0], [10.75, 1.0]], atol=0.01)

    def test_the_seasons_of_the_hydrostatic_mapping(self) -> None:
        """Niell 1996: a cosine about day 28 in the north, half a year later in the south."""
        low = np.radians(np.array([5.0]))
        for day in (40.0, 75.0):
            before, after = (mapping(low, 0.8, 0.0, 28.0 + k * day)[0] for k in (-1.0, 1.0))
            south = mapping(low, -0.8, 0.0, 28.0 + day + 182.625)[0]
            np.testing.assert_allclose([after, south], [before, before], rtol=1e-12)


class Receivers(unittest.TestCase):
    def test_carriers_of_glonass(self) -> None:
        """1602 MHz + 0.5625 k, 1246 MHz + 0.4375 k (GLONASS ICD 5.1)."""
        for band, mhz in (("1", 1598.0625), ("2", 1242.9375)):
            found = frequencies("R", band, np.array([1, 2]), {1: -7})
            self.assertAlmostEqual(found[0] / 1e6, mhz, 9)
            self.assertTrue(np.isnan(found[1]))

    def test_an_antenna_with_its_centre_to_the_east(self) -> None:
        """ANTEX 1.4: offsets north, east, up; a centre nearer the satellite shortens the range."""
        frequency = AntennaFrequency(
            offset=np.array([0.1, 0.02, 0.3]), zenith=np.array([0.0, 90.0]), variation=np.zeros((1, 2))
        )
        antenna = AntennaType(kind="MADE UP", serial="", frequencies={"G01": frequency})
        np.testing.assert_allclose(
            phase_centre(antenna, "G", ("1",), np.eye(3)), [[-0.02], [-0.1], [-0.3]], atol=1e-15
        )

    def test_open_half_cycles_are_left_out_and_lost_phases_begin_arcs(self) -> None:
        lli = np.zeros((12, 2), dtype=np.uint8)
        lli[4, 1], lli[8, 1] = 2, 1  # RINEX 3.04, table A2: bit 1 half a cycle, bit 0 lost lock
        data = SystemData(
            system="G", codes=("C1C", "L1C"), epoch=np.repeat(np.arange(6), 2), number=np.tile([3, 4], 6),
            values=np.full((12, 2), 1e8), lli=lli,
        )  # fmt: skip
        obs = Observations(
            path="", header=Header(version="3.04", time_system="GPS"), ticks=np.arange(6) * 10_000_000,
            systems={"G": data}, events=(), skipped=0,
        )  # fmt: skip
        rows = rows_of(obs, "G", (Signal(name="1C", ranges=("C1C",), phases=("L1C",)),))
        pairs = pairs_of(rows, rows, np.arange(6), np.arange(6), phases=True)
        first = pairs.code == pairs.code[0]
        self.assertEqual(pairs.epoch[first].tolist(), [0, 1, 3, 4, 5])
        arc, slips = arcs(pairs, np.zeros((11, 1)), np.full(11, 1.0), np.arange(6.0), 1.0)
        self.assertEqual((arc[first].tolist(), arc[~first].tolist()), ([0, 0, 0, 1, 1], [2] * 6))
        self.assertEqual(slips, 2, "lost at both ends")


class Integers(unittest.TestCase):
    def test_a_published_example(self) -> None:
        """De Jonge and Tiberius, The LAMBDA method for integer ambiguity estimation, 1996 (from memory):
        (5, 3, 4) at 0.2183, then (6, 4, 4) at 0.3073."""
        q = np.array([[6.290, 5.978, 0.544], [5.978, 6.292, 2.340], [0.544, 2.340, 6.288]])
        found, norms = nearest(np.array([5.450, 3.100, 2.970]), decorrelated(q))
        np.testing.assert_array_equal(found.T, [[5, 3, 4], [6, 4, 4]])
        np.testing.assert_allclose(norms, [0.2183, 0.3073], atol=1e-4)

    def test_against_trying_all(self) -> None:
        rng = np.random.default_rng(0)
        for _ in range(60):
            n = int(rng.integers(2, 5))
            b = rng.standard_normal((n, n))
            q = b @ b.T * rng.uniform(0.01, 1.0) + 1e-3 * np.eye(n)
            a = rng.standard_normal(n) * 5.0
            decor = decorrelated(q)
            self.assertAlmostEqual(abs(float(np.linalg.det(decor.z))), 1.0, 6)
            _, norms = nearest(a, decor)
            steps = np.array(list(itertools.product(range(-6, 7), repeat=n)))
            off = np.round(a) + steps - a
            every = np.sort(np.einsum("ki,ij,kj->k", off, np.linalg.inv(q), off))[:2]
            np.testing.assert_allclose(norms, every, rtol=1e-6)

    def test_the_success_rate_is_that_of_simulated_rounding(self) -> None:
        rng = np.random.default_rng(1)
        b = rng.standard_normal((3, 3))
        q = 0.03 * (b @ b.T) + 1e-3 * np.eye(3)
        decor = decorrelated(q)
        draws = rng.multivariate_normal(np.zeros(3), q, 1500)
        right = np.mean([not np.any(nearest(a, decor)[0][:, 0]) for a in draws])
        self.assertGreater(right, decor.success_rate - 0.03)
        self.assertLess(right, decor.success_rate + 0.12)
