"""The simulated total station: what it reads against the truth and the stated errors, what it refuses; the
device that listens to it; the first velocity correction."""

import json
import math
import random
import socketserver
import threading
import unittest
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np

from fenwind.devices.instrument import Instrument
from fenwind.devices.raw_files import start_logging
from fenwind.devices.settings import Settings, set_receivers
from fenwind.devices.transport import DeviceError, address
from fenwind.errors import FormatError, ParseError, ProcedureError
from fenwind.geodesy.air import refractivity, velocity_ppm
from fenwind.geodesy.geocentric import enu_axes, to_xyz
from fenwind.procedures.resection import ResectionOptions, Sighting, in_face_one, reduce
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.standins.receivers import Refused
from fenwind.standins.serve import answered
from fenwind.standins.station import SPEC, Station, station_world_of

#: In the south and the west.
MARKS = {"A": (-33.5, -70.6, 812.0), "B": (-33.4975, -70.6021, 861.0), "C": (-33.5003, -70.5971, 790.0)}
PERFECT = {
    "direction_s": 0.0, "zenith_s": 0.0, "distance_mm": 0.0, "distance_ppm": 0.0, "collimation_s": 0.0,
    "index_s": 0.0, "trunnion_s": 0.0, "centring_mm": 0.0, "target_mm": 0.0,
}  # fmt: skip


def station(
    seed: int = 1, air: dict[str, float] | None = None, marks: dict[str, Any] | None = None, **spec: float
) -> Station:
    """An instrument 1.6 m over A without any error but those named, the prism 1.3 m over B."""
    marks = marks or MARKS
    world = {
        "marks": [{"name": n, "lat": p[0], "lon": p[1], "h": p[2]} for n, p in marks.items()],
        "station": {"mark": "A", "height": 1.6},
        "prisms": [{"mark": n, "height": 1.2, "prism_mm": -30.0} for n in marks if n == "C"],
        "pole": {"mark": "B", "height": 1.3}, "instrument": PERFECT | spec, "air": air or {},
    }  # fmt: skip
    return Station(station_world_of(world), seed)


def read(one: Station, face: int = 1) -> dict[str, float]:
    """A pointing at the pole in a face."""
    true = one.control({"do": "truth"})
    hz = math.degrees(math.atan2(true["de"], true["dn"])) - true["turn"]
    za = math.degrees(math.atan2(math.hypot(true["de"], true["dn"]), true["dh"]))
    one.control({"do": "turn", "hz": hz, "za": za})
    one.control({"do": "face", "face": face})
    one.control({"do": "search", "window": 0.2})
    return one.control({"do": "measure"})


def way(to: str, hi: float = 1.6, ht: float = 1.3) -> np.ndarray:
    """East, north, up from the instrument over A to a target, on the ellipsoid."""
    at = {n: to_xyz(math.radians(p[0]), math.radians(p[1]), p[2]) for n, p in MARKS.items()}
    axes = {n: enu_axes(math.radians(p[0]), math.radians(p[1])) for n, p in MARKS.items()}
    return axes["A"] @ (at[to] + ht * axes[to][2] - at["A"] - hi * axes["A"][2])


class Readings(unittest.TestCase):
    def test_without_errors_it_reads_the_truth(self) -> None:
        air = {"temperature": 12.0, "pressure": 1013.25, "humidity": 60.0}
        one = station(refraction=0.0, air=air)
        e, n, u = way("B")
        found = read(one)
        turn = one.control({"do": "truth"})["turn"]
        self.assertAlmostEqual((found["hz"] + turn) % 360.0, math.degrees(math.atan2(e, n)) % 360.0, 9)
        self.assertAlmostEqual(found["za"], math.degrees(math.acos(u / math.dist((e, n, u), (0, 0, 0)))), 9)
        self.assertAlmostEqual(found["sd"], math.dist((e, n, u), (0, 0, 0)), 5)  # the air it is made for
        reduced = reduce(
            [Sighting(target="B", direction=0.0, zenith=math.radians(read(station())["za"]),
                      distance=found["sd"], target_height=1.3)],
            ResectionOptions(instrument_height=1.6, heights=True, k=0.13),
        )  # fmt: skip
        self.assertAlmostEqual(float(reduced.dh[0]), MARKS["B"][2] - MARKS["A"][2], delta=2e-4)

    def test_axes_prisms_and_air_err_as_they_should(self) -> None:
        right = read(station())
        one = station(collimation_s=12.0, index_s=-9.0)
        shots = [
            Sighting(target="B", direction=math.radians(r["hz"]), zenith=math.radians(r["za"]),
                     distance=r["sd"], target_height=1.3, face=face)
            for face in (1, 2) for r in [read(one, face)]
        ]  # fmt: skip
        hz, za, collimation, index = in_face_one(shots)
        self.assertAlmostEqual(collimation / RAD_PER_SECOND, 12.0, 6)
        self.assertAlmostEqual(index / RAD_PER_SECOND, -9.0, 6)
        np.testing.assert_allclose(np.degrees(hz) % 360.0, right["hz"], atol=1e-8)
        np.testing.assert_allclose(np.degrees(za), right["za"], atol=1e-8)
        # A steep sight bears the trunnion axis by its cotangent.
        tilted = read(station(trunnion_s=20.0))
        off = (tilted["hz"] - right["hz"]) * 3600.0
        self.assertAlmostEqual(off, 20.0 / math.tan(math.radians(right["za"])), 5)
        one = station(air={"temperature": 30.0, "pressure": 900.0})
        one.control({"do": "pole", "prism_mm": 34.4})  # its glass makes the way seem shorter
        one.control({"do": "set", "prism_mm": -5.0, "ppm": 7.0})
        ppm = velocity_ppm(SPEC["reference"], refractivity(30.0, 900.0, 60.0))
        d = (read(one)["sd"] + 0.005) / (1.0 + 7e-6) * (1.0 + ppm * 1e-6) + 0.0344
        self.assertAlmostEqual(d, right["sd"] + _air_of_standard(right["sd"]), 4)

    def test_a_plumb_line_that_leans(self) -> None:
        """Zenith angles are from the plumb line: less by what it leans towards a target."""
        right = read(station())
        azimuth = math.atan2(*way("B")[:2])
        for north, east in ((30.0, 0.0), (0.0, 30.0)):
            one = Station(replace(station().world, plumb=(north, east)), 1)
            off = (read(one)["za"] - right["za"]) * 3600.0
            self.assertAlmostEqual(off, -(north * math.cos(azimuth) + east * math.sin(azimuth)), delta=0.02)

    def test_noise_is_as_stated(self) -> None:
        spec = {"direction_s": 2.0, "zenith_s": 3.0, "distance_mm": 2.0, "distance_ppm": 5.0}
        one, right = station(**spec), read(station())
        rows = [read(one) for _ in range(800)]
        length = 0.002 + 5e-6 * right["sd"]
        for key, unit, sigma in (("hz", 1 / 3600, 2.0), ("za", 1 / 3600, 3.0), ("sd", 1.0, length)):
            off = np.array([r[key] - right[key] for r in rows]) / unit
            self.assertAlmostEqual(float(off.std()) / sigma, 1.0, delta=0.08, msg=key)
            self.assertLess(abs(float(off.mean())), 4.0 * sigma / math.sqrt(800.0), key)
        # Centring stays as long as the tripod does, and is another at another setting up.
        off = [read(station(seed, centring_mm=5.0))["sd"] - right["sd"] for seed in range(60)]
        self.assertAlmostEqual(float(np.std(off)), 0.005, delta=0.0015)
        self.assertEqual(read(station(3, centring_mm=5.0))["sd"], read(station(3, centring_mm=5.0))["sd"])

    def test_prisms_are_found_where_they_are(self) -> None:
        one = station()
        one.control({"do": "turn", "hz": read(one)["hz"] + 2.0, "za": read(one)["za"]})
        self.assertRaises(Refused, one.control, {"do": "measure"})
        self.assertRaises(Refused, one.control, {"do": "search", "window": 1.0})
        self.assertAlmostEqual(one.control({"do": "search", "window": 3.0})["away"], 2.0, delta=0.05)
        one.control({"do": "lock"})
        one.control({"do": "go", "mark": "C"})  # the prism is carried, and followed
        e, n, _ = way("C")
        turn = one.control({"do": "truth"})["turn"]
        hz = one.control({"do": "measure"})["hz"]
        self.assertAlmostEqual((hz + turn) % 360.0, math.degrees(math.atan2(e, n)) % 360.0, 8)
        one.control({"do": "tilt", "across_s": -200.0})
        self.assertFalse(one.control({"do": "level"})["level"])
        with self.assertRaisesRegex(Refused, "out of level"):
            one.control({"do": "measure"})

    def test_whatever_comes_is_answered(self) -> None:
        one = station()
        lines = [
            b"", b"{", b"[" * 5000, b"3", b"null", b'{"do": "turn"}', b'{"do": "turn", "hz": "x"}',
            b'{"do": "turn", "hz": 1e999}', b'{"do": "face", "face": 3}', b'{"do": "go"}', b'{"do": {}}',
            b'{"do": "go", "mark": "Z"}', b'{"do": "pole", "height": []}', b"\xff\xfe",
        ]  # fmt: skip
        for line in lines:
            self.assertFalse(answered(line, "now", one.control)["ok"], line)
        self.assertTrue(answered(b'{"do": "status"}', "now", one.control)["ok"])
        fine = {"station": {"lat": 1, "lon": 2, "h": 3}}
        for wrong in ({}, {"station": {"mark": "Z"}}, fine | {"air": {"pressure": "x"}},
                      fine | {"instrument": {"speed": 1}}):  # fmt: skip
            self.assertRaises(FormatError, station_world_of, wrong)


def _air_of_standard(length: float) -> float:
    """What the air of the world (12 degrees, 1013.25 hPa, 60 %) leaves of a length."""
    return -length * (velocity_ppm(SPEC["reference"], refractivity(12.0, 1013.25, 60.0))) * -1e-6


class Air(unittest.TestCase):
    def test_against_ciddor(self) -> None:
        """Dry air of 15 degrees and 1013.25 hPa: P. E. Ciddor, Applied Optics 35 (1996), equation 1, with its
        group refractivity n + sigma dn/dsigma; from memory. It is for 450 ppm of CO2, the other for 375."""

        def phase(s: float) -> float:
            return 1e-2 * (5792105.0 / (238.0185 - s * s) + 167917.0 / (57.362 - s * s))

        for carrier in (0.633, 0.658, 0.850, 0.95):
            s, h = 1.0 / carrier, 1e-5
            group = phase(s) + s * (phase(s + h) - phase(s - h)) / (2.0 * h)
            self.assertAlmostEqual(refractivity(15.0, 1013.25, 0.0, carrier), group, delta=0.15)

    def test_what_everybody_knows_of_it(self) -> None:
        """A degree is 1 ppm, 3.5 hPa are 1 ppm, humidity nearly nothing (common practice, no source)."""
        at = refractivity(15.0, 1013.25, 50.0)
        self.assertAlmostEqual(velocity_ppm(at, refractivity(16.0, 1013.25, 50.0)), 1.0, delta=0.1)
        self.assertAlmostEqual(velocity_ppm(at, refractivity(15.0, 1009.75, 50.0)), 1.0, delta=0.1)
        self.assertAlmostEqual(velocity_ppm(at, refractivity(15.0, 1013.25, 100.0)), 0.35, delta=0.15)
        for bad in (
            (99.0, 1013.0, 50.0), (15.0, 200.0, 50.0), (15.0, 1013.0, 101.0), (math.nan, 1013.0, 0.0),
        ):  # fmt: skip
            self.assertRaises(ProcedureError, refractivity, *bad)


class Device(unittest.TestCase):
    """What instruments answer, taken or said to be nonsense."""

    def served(self, answer: Callable[[bytes], bytes]) -> Instrument:
        class Handler(socketserver.StreamRequestHandler):
            def handle(self) -> None:
                self.wfile.write(answer(self.rfile.readline()))

        server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), Handler)
        server.daemon_threads = True
        threading.Thread(target=server.serve_forever, args=(0.01,), daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        return Instrument(address(f"127.0.0.1:{server.server_address[1]}"))

    def test_a_real_one(self) -> None:
        one = station(direction_s=1.0, zenith_s=1.0, distance_mm=1.0)
        read(one)
        one.control({"do": "set", "prism_mm": -5.0, "ppm": 7.0})
        found = self.served(lambda line: json.dumps(answered(line, "2026", one.control)).encode() + b"\n")
        state, reading = found.state(), found.measure()
        self.assertEqual((state.prism_m, state.applied_ppm, state.air), (-0.005, 7.0, (12.0, 1013.25, 60.0)))
        wild = json.loads(json.dumps(one.control({"do": "status"})))
        for air in (None, [1, 2], [900, 1013, 60], ["1", 2, 3], {}):
            said = json.dumps({"ok": True} | wild | {"air": air}).encode() + b"\n"
            self.assertIsNone(self.served(lambda line, said=said: said).state().air)
        self.assertEqual((reading.prism_m, reading.applied_ppm, reading.time), (-0.005, 7.0, "2026"))
        self.assertEqual((state.face, state.sigma_distance_m, state.reference), (1, 0.001, SPEC["reference"]))

    def test_what_receivers_are_set_to(self) -> None:
        heard: dict[str, list[dict[str, Any]]] = {"base": [], "rover": []}

        def keep(which: str, line: bytes) -> bytes:
            heard[which].append(json.loads(line))
            return b'{"ok": true}\n'

        places = {which: self.served(partial(keep, which)).where for which in heard}
        to = Settings(mask_deg=12.5, strength_dbhz=33.0, rate_hz=5, message_set="msm4", channel=9)
        self.assertEqual(set_receivers(places, to), ("base", "rover"))
        mask = {"do": "mask", "degrees": 12.5, "strength": 33.0}
        sends = {"do": "corrections", "channel": 9}
        self.assertEqual(heard["base"], [mask, sends | {"set": "msm4"}])
        self.assertEqual(heard["rover"], [mask, sends, {"do": "rate", "hz": 5}])

    def test_names_of_raw_files(self) -> None:
        """The receiver's own time, and no name that it has already."""
        there: list[str] = []

        def answer(line: bytes) -> bytes:
            asked = json.loads(line)
            if asked["do"] == "log":
                there.append(asked["name"])
            files = [{"name": n, "size": 1, "time": ""} for n in there]
            return json.dumps({"ok": True, "time": "2026-03-01T23:59:58Z", "files": files}).encode() + b"\n"

        where, words = self.served(answer).where, {"receiver": "rover", "base": "D 1"}
        for naming, wanted in (
            ("{receiver}-{date}-{time}", "rover-20260301-235958"), ("{base}_{day}", "D-1_060"),
            ("{base}_{day}", "D-1_060-2"), ("{base}_{day}", "D-1_060-3"), (" ../a b ", "a-b"),
        ):  # fmt: skip
            self.assertEqual(start_logging(where, 1.0, naming, words), wanted)
        for naming in ("{mark}", "{", "{0}", "{receiver.x}", " / ", ""):
            with self.assertRaises(ParseError, msg=naming):
                start_logging(where, 1.0, naming, words)

    def test_nonsense_is_not_taken(self) -> None:
        fine = {"ok": True, "hz": 10.0, "za": 90.0, "sd": 100.0, "face": 1, "prism_mm": 0.0, "ppm": 0.0}
        wrong = ({"sd": -1.0}, {"sd": None}, {"za": 361.0}, {"hz": "10"}, {"hz": math.inf}, {"face": 3},
                 {"face": None}, {"ppm": 1e9}, {"ok": False}, {"prism_mm": True})  # fmt: skip
        for change in wrong:
            text = json.dumps(fine | change).encode() + b"\n"
            with self.assertRaises(DeviceError, msg=change):
                self.served(lambda line, text=text: text).measure()
        for text in (b"garbage\n", b"[1]\n", b"\xff\n"):
            with self.assertRaises(DeviceError, msg=text):
                self.served(lambda line, text=text: text).measure()
        rng, text, now = random.Random(11), json.dumps(fine | {"time": "2026"}).encode(), [b""]
        device = self.served(lambda line: now[0])
        for _ in range(120):  # whatever comes, it is a reading that can be, or an error in words
            wild = bytearray(text)
            for _ in range(rng.randint(1, 6)):
                wild[rng.randrange(len(wild))] = rng.randrange(256)
            now[0] = bytes(wild[: rng.choice((len(wild), len(wild), rng.randrange(len(wild))))]) + b"\n"
            try:
                found = device.measure()
            except DeviceError:
                continue
            self.assertTrue(0.05 <= (found.sd or 0.0) <= 1e5 and 0.0 <= found.za <= math.tau, now[0])
        angles = {k: v for k, v in fine.items() if k != "sd"}
        self.assertIsNone(
            self.served(lambda line: json.dumps(angles).encode() + b"\n").measure(distance=False).sd
        )
