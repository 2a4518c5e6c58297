"""A rover and its corrections listened to in threads: what is told of them, sentence by sentence."""

import math
import socket
import threading
import time
import unittest
from datetime import UTC, datetime

import numpy as np

from fenwind.devices.following import Following
from fenwind.devices.transport import address
from fenwind.geodesy.geocentric import to_xyz
from fenwind.standins.receivers import Simulation
from fenwind.standins.world import world_of
from tests.devices.test_readers import checksum


class Follow(unittest.TestCase):
    def test_what_came_is_counted_and_told(self) -> None:
        marks = [{"name": n, "lat": 61.3 + k, "lon": 8.4, "h": 1240.0} for n, k in (("A", 0.0), ("B", 0.01))]
        world = world_of({"marks": marks, "base": {"mark": "A", "height": 1.5}, "rover": {"mark": "B"}})
        simulation = Simulation(world, 1, datetime(2026, 6, 9, 8, tzinfo=UTC))
        simulation.control("base", {"do": "set_position", "lat": 61.3, "lon": 8.4, "h": 1241.5})
        ticks = [simulation.run_tick() for _ in range(100)]
        spoken = b"".join(t.get("rover", b"") for t in ticks)
        bad = b"$GPGGA,080000.00,6118.0,N,00824.0,E,4,12,1.0,1240.0,M,40.0,M,1.0,0*00\r\n"
        bad += b"$GPGGA,080000.00,north*%02X\r\n" % checksum(b"GPGGA,080000.00,north")
        ports = [self.serve(spoken + bad), self.serve(b"".join(t.get("rtcm", b"") for t in ticks))]
        woken = threading.Event()
        links = [address(f"127.0.0.1:{port}") for port in ports]
        following = Following(*links, woken.set)
        following.start()
        self.addCleanup(following.stop)
        end = time.monotonic() + 180.0
        wanted = spoken.count(b"$")
        found = following.take()
        epochs = len(found.epochs)
        while found.sentences < wanted or found.wrong < 2 or found.corrections.position is None:
            self.assertLess(time.monotonic(), end, found)
            woken.wait(0.05)
            found = following.take()
            epochs += len(found.epochs)
        self.assertEqual((found.sentences, found.wrong, found.without_height), (wanted + 1, 2, 0))
        self.assertEqual(epochs, spoken.count(b"RMC"))
        self.assertGreater(len(found.satellites), 10)
        arp = np.array(to_xyz(math.radians(61.3), math.radians(8.4), 1241.5))
        np.testing.assert_allclose(found.corrections.position, arp, atol=1e-3)
        self.assertEqual((found.corrections.message_set, found.corrections.wrong), ("msm", 0))
        following.stop()  # what still comes would make it younger
        following._stream.at -= 30.0
        least = time.monotonic() - following._stream.at
        age, most = following.take().corrections.age_s, time.monotonic() - following._stream.at
        self.assertTrue(30.0 <= least <= age <= most, (least, age, most))

    def serve(self, data: bytes) -> int:
        """A port that says this to whoever comes, and then nothing."""
        server = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(server.close)

        def speak() -> None:
            client, _ = server.accept()
            client.sendall(data)
            self.addCleanup(client.close)

        threading.Thread(target=speak, daemon=True).start()
        return int(server.getsockname()[1])
