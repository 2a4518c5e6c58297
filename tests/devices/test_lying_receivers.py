"""Receivers, casters and streams that lie: times that stand still, leap or go back, sigmas of another
epoch, floods of what looks like frames, answers that are none, files that changed on the receiver."""

import hashlib
import json
import socket
import threading
import time
import unittest
from typing import Any
from unittest import mock

import numpy as np
from pynmeagps import calc_checksum
from pyrtcm import calc_crc24q

from fenwind.devices import raw_files
from fenwind.devices.crc24q import Shifts, remainders
from fenwind.devices.nmea_in import NmeaReader
from fenwind.devices.raw_files import RawFile, delete_kept
from fenwind.devices.rtcm_in import RtcmReader
from fenwind.devices.transport import CONNECT_S, DeviceError, Link, address
from fenwind.procedures.rover import mean_of_epochs, observed_span_s


def line(text: str) -> bytes:
    return f"${text}*{calc_checksum(text)}\r\n".encode()


def gga(at: str, height: str = "1240.0") -> bytes:
    return line(f"GPGGA,{at},6118.0,N,00824.0,E,4,12,1.0,{height},M,40.0,M,1.0,0")


def gst(at: str, sigma: str = "0.01") -> bytes:
    return line(f"GPGST,{at},,,,,{sigma},{sigma},0.02")


def rmc(at: str) -> bytes:
    return line(f"GPRMC,{at},A,6118.0,N,00824.0,E,0,0,011226,,,A")


class Times(unittest.TestCase):
    def test_repeats_are_dropped_and_counted(self) -> None:
        reader = NmeaReader()
        data = (
            b"".join(gga("080000.00") + rmc("080000.00") for _ in range(5))
            + gga("080001.00")
            + rmc("080001.00")
        )
        self.assertEqual(len(reader.feed(data)), 2)
        self.assertEqual(reader.counts.repeated, 4)

    def test_sigmas_are_of_their_own_epoch(self) -> None:
        """Before it, after it, or of another one; none of zero."""
        cases = (
            (gga("080000.00") + gst("080000.00") + rmc("080000.00"), (0.01, 0.01, 0.02)),
            (gst("080000.00") + gga("080000.00") + rmc("080000.00"), (0.01, 0.01, 0.02)),
            (gga("080000.00") + gst("080000") + rmc("080000.00"), (0.01, 0.01, 0.02)),
            (gga("080001.00") + gst("080000.00") + rmc("080001.00"), None),
            (gga("080000.00") + gst("080000.00", "0.0") + rmc("080000.00"), None),
            (gga("080000.00") + gst("080000.00", "1e300") + rmc("080000.00"), None),
        )
        for data, sigma in cases:
            with self.subTest(data=data):
                (epoch,) = NmeaReader().feed(data)
                self.assertEqual(epoch.sigma, sigma)

    def test_heights_beyond_the_earth_are_refused(self) -> None:
        reader = NmeaReader()
        self.assertEqual(
            reader.feed(gga("080000.00", "1e300") + gga("080001.00", "-2e5") + rmc("080001.00")), []
        )
        self.assertEqual(reader.counts.unread, 2)

    def test_a_clock_never_makes_a_mean_better(self) -> None:
        """Sixty epochs a second apart, and the same with times that stand still, leap by a day or go back."""
        seconds = np.arange(60.0)
        xyz = np.zeros((3, 60))
        honest = mean_of_epochs(xyz, seconds, "fixed").effective
        still, leap, back = np.zeros(60), seconds.copy(), seconds.copy()
        leap[30:] += 86_400.0
        back[30:] -= 3600.0
        for times, most in ((still, 1.0), (leap, 1.2 * honest), (back, honest), (seconds[::-1], 1.0)):
            self.assertLessEqual(mean_of_epochs(xyz, times, "fixed").effective, most + 1e-9)
        self.assertEqual(observed_span_s(seconds), 60.0)
        self.assertEqual(observed_span_s(leap), 69.0)


class Frames(unittest.TestCase):
    def test_remainders_against_pyrtcm(self) -> None:
        data = np.random.default_rng(3).integers(0, 256, 2000).astype(np.uint8).tobytes()
        after, shifts = [0, *remainders(data)], Shifts()
        for begin, end in ((0, 2000), (5, 6), (100, 1129), (1999, 2000), (700, 700)):
            part = after[end] ^ shifts.moved(after[begin], end - begin)
            self.assertEqual(part, calc_crc24q(data[begin:end]) if end > begin else 0)

    def test_a_flood_of_beginnings(self) -> None:
        """Each byte is looked at once: the work grows with the bytes, not with bytes times frames."""
        reader = RtcmReader()
        with mock.patch("fenwind.devices.rtcm_in._parsed") as parsed:
            for _ in range(20):
                reader.feed(b"\xd3\x03\xff" * 350)
        self.assertFalse(parsed.called)
        self.assertGreater(reader.wrong, 5000)
        self.assertLess(len(reader._buffer), 1100)


class Answers(unittest.TestCase):
    def serve(self, answer: bytes, drip_s: float = 0.0) -> int:
        """A server of one connection that answers so."""
        listener = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(listener.close)

        def run() -> None:
            try:
                link, _ = listener.accept()
                with link:
                    link.recv(4096)
                    for byte in answer if drip_s else [answer]:
                        link.sendall(bytes([byte]) if drip_s else byte)
                        time.sleep(drip_s)
            except OSError:
                pass

        threading.Thread(target=run, daemon=True).start()
        return int(listener.getsockname()[1])

    def test_casters_say_why(self) -> None:
        cases = {
            "refuses the password": b"HTTP/1.1 401 Unauthorized\r\n\r\n",
            "sends elsewhere: http://other": b"HTTP/1.1 302 Found\r\nLocation: http://other/x\r\n\r\n",
            "a page for people": b"HTTP/1.1 200 OK\r\nContent-Type: text/html\r\n\r\n<html>",
            "has no 'MOUNT'": b"SOURCETABLE 200 OK\r\n\r\n",
            "never comes to its stream": b"HTTP/1.1 200 OK\r\n" + b"X: y\r\n" * 40_000,
        }
        for words, answer in cases.items():
            with self.subTest(words=words), self.assertRaisesRegex(DeviceError, words):
                Link(address(f"ntrip://me@127.0.0.1:{self.serve(answer)}/MOUNT")).open()

    def test_a_header_that_drips(self) -> None:
        port = self.serve(b"H" * 100_000, drip_s=0.01)
        with mock.patch("fenwind.devices.transport.CONNECT_S", 0.3), self.assertRaises(DeviceError):
            Link(address(f"ntrip://me@127.0.0.1:{port}/MOUNT")).open()
        self.assertLess(0.3, CONNECT_S)

    def test_deep_json(self) -> None:
        from fenwind.devices.control import command

        with self.assertRaisesRegex(DeviceError, "does not answer"):
            command(address(f"127.0.0.1:{self.serve(b'[' * 150_000 + bytes([10]))}"), do="status")


class OnTheReceiver(unittest.TestCase):
    """A raw file is deleted only where a copy of just that file is proved."""

    def asked(self, **changes: Any) -> list[str]:
        data = b"raw"
        said = {
            "files": {"files": [{"name": "A", "size": 3, "time": "t"}]},
            "status": {"logging": ""},
            "fetch": {"size": 3, "sha256": hashlib.sha256(data).hexdigest()},
            "delete": {},
        } | changes
        done: list[str] = []

        def command(where: object, **values: Any) -> Any:
            done.append(values["do"])
            return json.loads(json.dumps(said[values["do"]]))

        with mock.patch.object(raw_files, "command", command):
            try:
                file = RawFile(name="A", size=3, time="t")
                delete_kept(address("127.0.0.1:1"), file, hashlib.sha256(data).hexdigest())
            except DeviceError as error:
                done.append(str(error))
        return done

    def test_deleted_only_when_it_is_safe(self) -> None:
        self.assertEqual(self.asked(), ["files", "status", "fetch", "delete"])
        cases: tuple[tuple[dict[str, Any], str], ...] = (
            ({"files": {"files": []}}, "no longer what was listed"),
            ({"files": {"files": [{"name": "A", "size": 4, "time": "t"}]}}, "no longer what was listed"),
            ({"status": {"logging": "A"}}, "is being written"),
            ({"fetch": {"size": 3, "sha256": "ab"}}, "not what is in the job"),
        )
        for changes, words in cases:
            with self.subTest(words=words):
                done = self.asked(**changes)
                self.assertNotIn("delete", done)
                self.assertIn(words, done[-1])
