"""The same survey told in other conventions gives the same answers: units, axes that count west and
south, another prime meridian, northing before easting. Positions, sigmas and doubts agree; what is written is
read back as what it was."""

from typing import Any

import numpy as np
import pyproj

from fenwind.doubts.of_job import Judge
from fenwind.exchange.formats import read_table
from fenwind.exchange.point_list import interpret, match_header
from fenwind.geodesy.frames import FrameSpec, axes_of
from fenwind.job.job import Job
from fenwind.quantities.lengths import METRE, UNITS
from fenwind.records.records import FrameRecord
from tests.support import CommandCase
from tests.worlds import survey

BASE = "+proj=tmerc +lat_0=0 +lon_0=9 +k=1 +x_0=0 +y_0=0 +ellps=GRS80"


def south_and_west() -> str:
    """WKT of the projection of BASE, counted from its axis southwards and westwards (EPSG method 9808)."""
    parts, base = pyproj.CRS("EPSG:2053").to_json_dict(), pyproj.CRS(f"{BASE} +units=m").to_json_dict()
    parts["base_crs"] = base["base_crs"]
    values = {"Longitude of natural origin": 9}
    for one in parts["conversion"]["parameters"]:
        one["value"] = values.get(one["name"], one["value"])
    for key in ("id", "area", "bbox", "scope", "usages"):
        parts.pop(key, None)
    parts["name"] = parts["conversion"]["name"] = "south and west"
    parts["conversion"].pop("id", None)
    return str(pyproj.CRS.from_json_dict(parts).to_wkt())


#: The same projection as BASE, each in a convention of its own.
CONVENTIONS = {
    "metres": FrameSpec(name="C", crs=f"{BASE} +units=m"),
    "us feet": FrameSpec(name="C", crs=f"{BASE} +units=us-ft", unit="ftUS"),
    "feet shown": FrameSpec(name="C", crs=f"{BASE} +units=m", unit="ft"),
    "south and west": FrameSpec(name="C", crs=south_and_west()),
    "northing first": FrameSpec(name="C", crs=f"{BASE} +units=m", axis_order="NE"),
    "paris": FrameSpec(name="C", crs=BASE.replace("+lon_0=9", "+lon_0=6.66277083 +pm=paris")),
}
MIDDLE = (-37_000.0, 5_400_000.0)


class Conventions(CommandCase):
    def setUp(self) -> None:
        super().setUp()
        self.jobs: dict[str, Any] = {}
        _, *records = survey(CONVENTIONS["metres"], MIDDLE)
        for name, spec in CONVENTIONS.items():
            told = [FrameRecord(id="map", spec=spec) if r.id == "map" else r for r in records]
            job = Job.create(self.folder / f"{name}.fenwind", "survey", told, "map")
            self.jobs[name] = (job, self.derive(job))
            self.addCleanup(job.close)

    def test_positions_sigmas_and_doubts(self) -> None:
        job, derived = self.jobs["metres"]
        wanted = {key: a for key, a in derived.adopted.items()}
        doubts = {(d.rule, d.names) for d in Judge().judge(job.state, derived).open}
        for name, (other, found) in self.jobs.items():
            with self.subTest(name):
                for key, a in wanted.items():
                    b = found.adopted[key]
                    self.assertEqual(a.names, b.names)
                    self.assertEqual(a.basis, b.basis)
                    for column in ("e_m", "n_m", "height_m", "sigma_h_m", "sigma_v_m"):
                        np.testing.assert_allclose(
                            getattr(b, column),
                            getattr(a, column),
                            rtol=0,
                            atol=2e-6,
                            err_msg=f"{key} {column}",
                        )
                same = {(d.rule, d.names) for d in Judge().judge(other.state, found).open}
                self.assertEqual(same, doubts)

    def test_what_is_written_is_read_back(self) -> None:
        for name, (job, derived) in self.jobs.items():
            spec, adopted = CONVENTIONS[name], derived.adopted["map"]
            job.close()
            for form, ending in (("csv", ".csv"), ("xlsx", ".xlsx"), ("landxml", ".xml")):
                with self.subTest(name, form=form):
                    out = self.path(f"out{ending}")
                    self.run_json("export", job.path, "--as", form, "--out", out, "--frame", "C")
                    table = read_table(out)
                    match = match_header(table, axes_of(spec))
                    unit = UNITS[table.unit] if table.unit else METRE if match.units else UNITS[spec.unit]
                    points = interpret(table, match, unit)
                    for point in points.points:
                        row = adopted.index[point.name]
                        np.testing.assert_allclose(
                            (point.first, point.second, point.height_m),
                            (adopted.e_m[row], adopted.n_m[row], adopted.height_m[row]),
                            atol=2e-4,
                        )
                    self.assertEqual(len(points.names), len(adopted.names))
