"""The client of a placing service against the stand-in: files placed, refusals, restarts, broken links."""

import http.client
import json
import socket
import threading
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np

from fenwind.devices.placing import PlacingService, Waited
from fenwind.devices.transport import DeviceError
from fenwind.gnss.files import read_kind
from fenwind.gnss.sources import Sources
from fenwind.standins.processing import Limits, Service, serve
from tests.gnss.test_static import MARKS, StaticCase


class Placing(StaticCase):
    def setUp(self) -> None:
        super().setUp()
        self.data = self.folder / "jobs"
        self.data.mkdir()

    def start(self, **limits: Any) -> str:
        """A stand-in over the base's file; its address."""
        stations = [read_kind(self.base, "observation")]
        sources = Sources(
            navigation=(read_kind(self.nav, "navigation"),), unfit=(), orbits=None, antennas=None
        )
        self.service = Service(stations, sources, self.data, Limits(**limits))
        server = serve(self.service, 0)
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
        self.port = server.server_address[1]
        return f"http://127.0.0.1:{self.port}"

    def ask(self, method: str, path: str, body: bytes | None = None, **headers: str) -> tuple[int, Any]:
        link = http.client.HTTPConnection("127.0.0.1", self.port, timeout=20)
        link.request(method, path, body, headers)
        answer = link.getresponse()
        found = answer.status, json.loads(answer.read())
        link.close()
        return found

    def test_a_file_is_placed(self) -> None:
        url = self.start(busy=1)
        plan = self.run_json("service", self.rover, "--url", url, "--height", "1.5")
        self.assertEqual((plan["sent"], plan["mark"], plan["height"]), (False, "ROVER", 1.5))
        self.assertEqual(self.ask("GET", "/jobs")[1], {"jobs": []})
        told = self.run_json("service", self.rover, "--url", url, "--send")
        answer = told["answer"]
        self.assertEqual((told["state"], answer["stations"], answer["solution"]), ("done", ["BASE"], "fixed"))
        lat, lon, h = MARKS["ROVER"]
        self.assertLess(abs(answer["lat"] - lat) * 111e3, 0.02)
        self.assertLess(abs(answer["lon"] - lon) * 53e3, 0.02)
        self.assertLess(abs(answer["h"] - h), 0.06)
        self.assertTrue((np.linalg.eigvalsh(answer["covariance"]) > 0.0).all())
        again = self.run_json("service", self.rover, "--url", url, "--id", told["id"])
        self.assertEqual(again["answer"], answer)

    def test_wrong_answers_and_refusals(self) -> None:
        url = self.start(wrong=(100.0, 0.0, 0.0), min_minutes=10.0)
        told = self.run_json("service", self.rover, "--url", url, "--send", code=1)
        self.assertEqual([d["rule"] for d in told["doubts"] if d["grave"]], ["service.far"])
        self.service.limits = Limits(min_minutes=60.0)
        self.assertIn("at least 60", self.run_json("service", self.rover, "--url", url, "--send", code=2))
        self.service.limits = Limits(intervals=(1.0,))
        self.assertIn("interval", self.run_json("service", self.rover, "--url", url, "--send", code=2))
        self.service.limits = Limits()
        for method, path, body, wanted in (
            ("GET", "/nothing", None, (404, "service.path")), ("PUT", "/jobs", b"x", (405, "service.path")),
            ("GET", "/jobs/00ff", None, (404, "service.unknown")),
            ("POST", "/jobs", b"no file", (400, "service.file")),
        ):  # fmt: skip
            status, answer = self.ask(method, path, body)
            self.assertEqual((status, answer["rule"]), wanted)
        status, answer = self.ask("POST", "/jobs?height=tall", Path(self.rover).read_bytes())
        self.assertEqual((status, answer["rule"]), (422, "service.height"))
        self.assertIn("address", self.run_json("service", self.rover, "--url", "ftp://x", code=2))

    def test_a_job_outlives_the_service_and_can_be_cancelled(self) -> None:
        url = self.start(delay=3600.0)
        client = PlacingService(url, 30.0)
        job = client.send(Path(self.rover).read_bytes(), {})
        with self.assertRaises(Waited) as waited:
            PlacingService(url, 0.3).answer(job)
        self.assertEqual(waited.exception.job, job)
        self.assertEqual(self.ask("GET", f"/jobs/{job}/result")[0], 409)
        self.start()  # another one, on the same data: the job is done again
        self.assertEqual(
            PlacingService(f"http://127.0.0.1:{self.port}", 60.0).answer(job)["stations"], ["BASE"]
        )
        self.service.limits = Limits(delay=3600.0)
        other = PlacingService(f"http://127.0.0.1:{self.port}", 30.0).send(Path(self.rover).read_bytes(), {})
        self.assertEqual(self.ask("DELETE", f"/jobs/{other}")[1]["state"], "cancelled")
        self.assertEqual(self.ask("GET", f"/jobs/{other}/result")[0], 410)

    def test_half_an_upload_leaves_no_job(self) -> None:

        self.start()
        link = socket.create_connection(("127.0.0.1", self.port))
        link.sendall(b"POST /jobs HTTP/1.1\r\nHost: x\r\nContent-Length: 100000\r\n\r\nhalf")
        link.close()
        link = socket.create_connection(("127.0.0.1", self.port))
        link.sendall(b"\x00\xff garbage\r\n\r\n")
        link.close()
        status, told = self.ask("GET", "/jobs")
        self.assertEqual((status, told), (200, {"jobs": []}))
        nobody = self.run_json(
            "service", self.rover, "--url", "http://127.0.0.1:9", "--send", "--wait", "0.2", code=1
        )
        self.assertEqual((nobody["id"], nobody["answer"]), (None, None))


class Client(unittest.TestCase):
    def test_busy_services_and_other_hosts(self) -> None:
        """RFC 9110, 10.2.3: Retry-After in seconds is kept to; a file goes to no other host unasked."""
        pauses: list[float] = []
        service = PlacingService("http://here.example", 60.0, pauses.append)
        busy, fine = (503, {"Retry-After": "7"}, b""), (201, {}, b'{"id": "1", "state": "queued"}')
        with mock.patch.object(service, "_request", side_effect=[busy, fine]):
            self.assertEqual(service.send(b"x", {}), "1")
        self.assertEqual(pauses, [7.0])
        away = (302, {"Location": "http://there.example/jobs"}, b"")
        with (
            mock.patch.object(service, "_request", side_effect=[away, fine]),
            self.assertRaisesRegex(DeviceError, "another host"),
        ):
            service.send(b"x", {})
