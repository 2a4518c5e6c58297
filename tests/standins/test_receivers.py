"""The simulated receivers: their sentences and messages read by general libraries, and their errors by the
statistics that the world states."""

import json
import math
import os
import tempfile
import unittest
from datetime import UTC, datetime

import numpy as np
from pynmeagps import NMEAReader
from pyrtcm import RTCMReader

from fenwind.errors import FormatError
from fenwind.exchange.antenna_list import antennas_of
from fenwind.geodesy.geocentric import enu_axes, to_xyz
from fenwind.standins.receivers import Refused, Simulation
from fenwind.standins.rtcm_out import station
from fenwind.standins.world import World, read_world, world_of

START = datetime(2026, 5, 4, 8, 0, tzinfo=UTC)
#: A place in the south and the west.
WORLD = {
    "marks": [
        {"name": "P", "lat": -33.5, "lon": -70.6, "h": 812.0},
        {"name": "Q", "lat": -33.509, "lon": -70.61, "h": 820.0},
    ],
    "base": {"mark": "P", "antenna": {"height": 1.5, "method": "vertical", "model": "A"}},
    "rover": {"mark": "Q", "pole": 2.0, "model": "A"},
    "separation": 27.5,
    "antennas": [{"model": "A", "radius": 0.075, "rim_offset": 0.025}],
}


def world(**changes: object) -> World:
    """The world, with changes."""
    with tempfile.TemporaryDirectory() as folder:
        path = os.path.join(folder, "w.json")
        with open(path, "w", encoding="utf-8") as file:
            json.dump(WORLD | changes, file)
        return read_world(path)


def truth(simulation: Simulation, which: str) -> np.ndarray:
    """Where an ARP really is, geocentric."""
    said = simulation.control(which, {"do": "truth"})
    return to_xyz(math.radians(said["lat"]), math.radians(said["lon"]), said["h"])


def second(simulation: Simulation, rtcm: bool = True) -> dict[str, bytes]:
    """What is sent in the next second: ten ticks."""
    first = simulation.run_tick(rtcm)
    for _ in range(9):
        simulation.run_tick(rtcm)
    return first


class Numbers(unittest.TestCase):
    def test_numbers_that_are_none_are_refused(self) -> None:
        """Also whole ones that no float holds."""
        for bad in (10**400, -(10**400), math.inf, math.nan, "1", True, None):
            with self.subTest(bad=str(bad)[:9]):
                self.assertRaises(FormatError, world_of, WORLD | {"separation": bad})
                simulation = Simulation(world(), 1, START)
                self.assertRaises(Refused, simulation.control, "rover", {"do": "rate", "hz": bad})
                self.assertRaises(FormatError, antennas_of, [{"model": "A", "radius": bad}])


class Sentences(unittest.TestCase):
    """NMEA and RTCM against what the simulation says is so."""

    def test_gga_is_the_rovers_arp(self) -> None:
        simulation = Simulation(world(), 7, START)
        for _ in range(60):
            data = second(simulation)["rover"]
        lines = [NMEAReader.parse(line + b"\r\n") for line in data.split(b"\r\n") if line]
        self.assertEqual([m.msgID for m in lines if m.msgID != "GSV"], ["GGA", "GST", *["GSA"] * 4, "RMC"])
        gga, gst = lines[0], lines[1]
        self.assertEqual((gga.quality, gga.NS, gga.EW, gga.sep), (4, "S", "W", 27.5))
        here = to_xyz(math.radians(gga.lat), math.radians(gga.lon), gga.alt + gga.sep)
        away = enu_axes(math.radians(-33.509), math.radians(-70.61)) @ (here - truth(simulation, "rover"))
        # The base that nobody set is metres off, and the rover carries that whole.
        sent = simulation.control("base", {"do": "status"})["broadcast"]
        off = to_xyz(math.radians(sent["lat"]), math.radians(sent["lon"]), sent["h"])
        shift = enu_axes(math.radians(-33.5), math.radians(-70.6)) @ (off - truth(simulation, "base"))
        self.assertGreater(np.linalg.norm(shift), 0.1)
        np.testing.assert_allclose(away, shift, atol=0.05)
        self.assertGreater(gst.stdAlt, gst.stdLat)

    def test_1006_holds_the_arp_that_is_set(self) -> None:
        simulation = Simulation(world(), 7, START)
        simulation.control("base", {"do": "set_position", "lat": -33.5, "lon": -70.6, "h": 813.5})
        data = simulation.run_tick()["rtcm"]
        kinds = []
        while data:
            size = 6 + ((data[1] & 3) << 8) + data[2]
            message = RTCMReader.parse(data[:size])
            kinds.append(str(message.identity))
            if message.identity in ("1005", "1006"):
                found = np.array([message.DF025, message.DF026, message.DF027])
            data = data[size:]
        wanted = to_xyz(math.radians(-33.5), math.radians(-70.6), 813.5)
        np.testing.assert_allclose(found, wanted, atol=1e-4)
        self.assertEqual(len([k for k in kinds if k.startswith(("107", "108", "109", "112"))]), 4)

    def test_1005_of_the_reference_frame(self) -> None:
        """The 1005 of the check values (pyrtcm 1.2.1 reads the same), written by our own encoder."""
        frame = station(np.array([4444030.8028, 3085671.2349, 3366658.2560]))
        found = RTCMReader.parse(bytes.fromhex("d300133ed000038a58d9493c872f34109d07d6af48205ad7f7"))
        again = RTCMReader.parse(frame)
        for field in ("DF025", "DF026", "DF027"):
            self.assertEqual(getattr(found, field), getattr(again, field))

    def test_errors_have_the_sigma_that_the_world_states(self) -> None:
        """120 separate starts: the standard deviation of a fixed epoch within 20 % (3 of its own sigmas)."""
        fine = world(errors={"fixed": 0.02, "fixed_ppm": 0.0, "white": 0.001, "to_fixed_s": 2})
        off = []
        for seed in range(120):
            simulation = Simulation(fine, seed, START)
            sent = {"do": "set_position", "lat": -33.5, "lon": -70.6, "h": 813.5}
            simulation.control("base", sent)
            for _ in range(4):
                data = second(simulation, False)["rover"]
            gga = NMEAReader.parse(data.split(b"\r\n", 1)[0] + b"\r\n")
            self.assertEqual(gga.quality, 4)
            here = to_xyz(math.radians(gga.lat), math.radians(gga.lon), gga.alt + gga.sep)
            axes = enu_axes(math.radians(gga.lat), math.radians(gga.lon))
            off.append(axes @ (here - truth(simulation, "rover")))
        spread = np.std(off, axis=0)
        np.testing.assert_allclose(spread, [0.02, 0.02, 0.034], rtol=0.2)

    def test_same_seed_same_bytes_whatever_is_read(self) -> None:
        one, other = Simulation(world(), 5, START), Simulation(world(), 5, START)
        for k in range(30):
            self.assertEqual(second(one)["rover"], second(other, k % 2 == 0)["rover"])

    def test_states_follow_the_corrections(self) -> None:
        simulation = Simulation(world(), 3, START)

        def state() -> str:
            return str(simulation.control("rover", {"do": "status"})["state"])

        seen = []
        for _ in range(40):
            second(simulation)
            seen.append(state())
        self.assertEqual(list(dict.fromkeys(seen)), ["code", "float", "fixed"])
        simulation.control("base", {"do": "trouble", "what": "link"})
        seen = []
        for _ in range(80):
            second(simulation)
            seen.append(state())
        self.assertEqual(list(dict.fromkeys(seen)), ["fixed", "float", "autonomous"])

    def test_the_radio(self) -> None:
        """Somebody else on the channel lets nearly nothing through; both on another channel, it comes again.
        A wrong channel is cured by setting it."""
        simulation = Simulation(world(errors={"to_float_s": 2, "to_fixed_s": 4}), 3, START)

        def after(seconds: int) -> tuple[str, float]:
            for _ in range(seconds):
                second(simulation)
            return simulation.rover_state(), simulation.age()

        self.assertEqual(after(20)[0], "fixed")
        simulation.control("base", {"do": "trouble", "what": "jammed"})
        state, age = after(20)
        self.assertEqual((state, age > 10.0), ("float", True))
        simulation.control("base", {"do": "corrections", "channel": 7})
        self.assertGreater(after(3)[1], age)  # the rover still hears the old one
        simulation.control("rover", {"do": "corrections", "channel": 7})
        self.assertEqual(simulation.control("rover", {"do": "status"})["channel"], 7)
        self.assertEqual((after(8)[0], simulation.age() < 2.0), ("fixed", True))
        simulation.control("rover", {"do": "trouble", "what": "wrong_channel"})
        self.assertEqual(after(15)[0], "float")
        simulation.control("rover", {"do": "corrections", "channel": 7})
        self.assertEqual(after(8)[0], "fixed")

    def test_weak_satellites_are_not_used(self) -> None:
        """The strength that GSV says of every satellite used is the limit or more, and fewer are used."""
        simulation = Simulation(world(), 3, START)

        def strengths() -> list[int]:
            lines = [line for line in second(simulation)["rover"].split(b"\r\n") if b"GSV" in line]
            cells = [line.split(b"*")[0].split(b",")[4:-1] for line in lines]
            return [int(row[k + 3]) for row in cells for k in range(0, len(row), 4)]

        every = strengths()
        self.assertLess(min(every), 42)
        simulation.control("rover", {"do": "mask", "degrees": 10.0, "strength": 43.0})
        strong = strengths()
        self.assertGreaterEqual(min(strong), 43)
        self.assertEqual(len(strong), sum(v >= 43 for v in every))

    def test_refusals_say_what(self) -> None:
        simulation = Simulation(world(), 3, START)
        for which, command in (
            ("base", {"do": "go", "mark": "Q"}),
            ("base", {"do": "set_position", "lat": 95, "lon": 0, "h": 0}),
            ("rover", {"do": "go", "mark": "nowhere"}), ("rover", {"do": "rate", "hz": 3}),
            ("rover", {"do": "fetch", "name": "none"}),
            ("rover", {"do": "mask", "degrees": 10, "strength": 61}),
            ("base", {"do": "corrections", "channel": 17}), ("base", {"do": "corrections", "channel": 2.5}),
            ("rover", {"do": "dance"}), ("rover", {}),
        ):  # fmt: skip
            with self.subTest(command=command), self.assertRaises(Refused):
                simulation.control(which, command)
