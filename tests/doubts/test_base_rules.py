"""A base that all marks measured from it say is wrong, on four known marks: simulated truth."""

import unittest
from typing import Any

import numpy as np

from fenwind.doubts.of_job import Judge
from fenwind.doubts.settling import settle
from fenwind.geodesy.frames import open_frame
from fenwind.geodesy.geocentric import enu_axes, from_xyz, to_xyz
from fenwind.geodesy.own_plane import plane_through
from fenwind.job.job import Job
from fenwind.records.entries import amend
from fenwind.records.records import FrameRecord, GivenPosition, Mark, Record
from fenwind.records.sessions import BaseSetup, Occupation
from tests.support import TempFolder

PLACES = {"A": (-33.5, -70.6, 812.0), "B": (-33.509, -70.61, 820.0), "C": (-33.495, -70.595, 801.5),
          "D": (-33.502, -70.62, 830.0)}  # fmt: skip


def point(name: str, height: float = 0.0) -> np.ndarray:
    lat, lon, h = PLACES[name]
    return to_xyz(np.radians(lat), np.radians(lon), h + height)


class WrongBases(TempFolder):
    def job(self, on: str = "A", booked_m: float = 1.5, moved: tuple[float, ...] = (0.0, 0.0, 0.0)) -> Job:
        """Base D1, said to stand on A with an antenna of `booked_m`, which is 1.5 m over the mark `on`; three
        marks measured from it. moved: how far A is given from where it is, east, north, up."""
        lat, lon, h = (np.array([v]) for v in (np.radians(PLACES["A"][0]), np.radians(PLACES["A"][1]), 812.0))
        spec = plane_through("EPSG:4979", lat, lon, h)
        records: list[Record] = [FrameRecord(id="f", spec=spec)]
        for name in PLACES:
            shift = np.array(moved) if name == "A" else np.zeros(3)
            xyz = point(name) + enu_axes(lat[0], lon[0]).T @ shift
            at = [np.array([float(v)]) for v in from_xyz(xyz)]
            e, n = open_frame(spec).forward(at[0], at[1])
            records += [
                Mark(id=name.lower(), name=name),
                GivenPosition(id=f"g {name}", mark=name.lower(), frame="f", e_m=float(e[0]), n_m=float(n[0]),
                              height_m=float(at[2][0]), sigma_h_m=0.003, sigma_v_m=0.005),
            ]  # fmt: skip
        records.append(BaseSetup(id="d1", name="D1", height_m=booked_m, started="2026-05-01T08:00:00+00:00",
                                 word="known", mark="a"))  # fmt: skip
        rng = np.random.default_rng(5)
        for k, name in enumerate(n for n in "BCD" if n != on):
            d = point(name, 2.0) - point(on, 1.5) + rng.normal(0.0, 0.002, 3)
            records.append(
                Occupation(
                    id=f"o{k}", mark=name.lower(), base="d1", height_m=2.0, dx_m=d[0], dy_m=d[1], dz_m=d[2],
                    started=f"2026-05-01T{9 + k:02d}:00:00+00:00", solution="fixed", epochs=60, check=True,
                    effective=3.0, cee_m2=4e-6, cnn_m2=4e-6, cuu_m2=9e-6,
                )
            )  # fmt: skip
        number = len(list(self.folder.glob("*.fenwind")))
        job = Job.create(self.folder / f"{number}.fenwind", "bases", records, "f")
        self.addCleanup(job.close)
        return job

    def grave(self, job: Job) -> list[Any]:
        return [d for d in Judge().judge(job.state, self.derive(job)).open if d.grave]

    def test_each_is_named_with_a_remedy_that_settles_it(self) -> None:
        for words, job, rule, names, value in (
            ("", self.job(), "", (), 0.0),
            ("too high", self.job(booked_m=1.62), "base.antenna", ("D1",), 0.12),
            ("stands on B", self.job(on="B"), "base.wrong-mark", ("D1", "A", "B"), 1364.0),
            (r"mm east, \d+\.\d mm south", self.job(moved=(0.4, -0.3, 0.0)), "base.position", ("D1",), 0.5),
        ):
            with self.subTest(words):
                told = self.grave(job)
                self.assertEqual([(d.rule, d.names) for d in told], [(rule, names)] if rule else [])
                for doubt in told:
                    self.assertAlmostEqual(doubt.value, value, delta=max(0.01, 1e-3 * value))
                    self.assertRegex(doubt.text, words)
                    for remedy in doubt.remedies:
                        self.assertRegex(remedy.label, r"to 1\.(50|49)\d\d m$|on B$")
                        job.record(*settle(job.state, doubt, remedy))
                        self.assertEqual(self.grave(job), [])
                        job.undo()
                        self.assertEqual([d.rule for d in self.grave(job)], [rule])

    def test_one_mark_that_is_off_accuses_no_base(self) -> None:
        job = self.job()
        given = job.state.given["g B"]
        job.record("moved", [amend(given, e_m=given.e_m + 0.3)])
        self.assertEqual({d.rule for d in self.grave(job)}, {"occupation.check"})


if __name__ == "__main__":
    unittest.main()
