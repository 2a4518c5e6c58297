"""Two marks that are one: every kind of record goes over, nothing is lost, and what contradicts is
refused."""

import os
import subprocess
import xml.etree.ElementTree as ET
from dataclasses import fields as fields_of
from pathlib import Path
from unittest import mock

from fenwind import install
from fenwind.errors import ProcedureError
from fenwind.geodesy.frames import FrameSpec
from fenwind.job.job import Job
from fenwind.job.merging import MARK_FIELDS, merge_marks
from fenwind.records.lines import LevelBook, TraverseBook
from fenwind.records.network import NetworkStep, ObservationSet
from fenwind.records.records import (
    KINDS,
    FitStep,
    FrameRecord,
    GivenPosition,
    Mark,
    MeasuredPosition,
    PositionChoice,
)  # fmt: skip
from fenwind.records.sessions import BaseSetup, Occupation
from fenwind.records.setups import Setup
from tests.support import TempFolder

ROOT = Path(__file__).parents[2]


class Merging(TempFolder):
    def setUp(self) -> None:
        super().setUp()
        one = ("c",), ("o",)
        records = [
            *(FrameRecord(id=k, spec=FrameSpec(name=k)) for k in "fg"),
            *(Mark(id=k, name=k.upper()) for k in "koc"),
            *(GivenPosition(id=f"{m}{f}", mark=m, frame=f, e_m=1.0, n_m=2.0) for m, f in
              (("k", "f"), ("o", "f"), ("o", "g"))),
            MeasuredPosition(id="m", mark="o", lat_rad=1.0, lon_rad=0.1, h_m=5.0, crs="EPSG:4937"),
            PositionChoice(id="p", mark="o", frame="g", origin="given", reason="r"),
            BaseSetup(id="b", name="B", mark="o", word="known"), Occupation(id="u", mark="o", base="b"),
            ObservationSet(id="s", name="s", kind=("angle",), at=one[0], to=one[1], back=("k2",), setup=("",),
                           group=("",), hi_m=(0.0,), ht_m=(0.0,), value=((1.0,),), covariance=((1.0,),),
                           line=(1,)),
            NetworkStep(id="n", name="n", frame="f", observations="s", hold=("o", "c")),
            Setup(id="t", name="t", frame="f", station="c", target=("o", "o"), direction_rad=(0.0, 1.0),
                  zenith_rad=(None, None), distance_m=(None, None), target_height_m=(0.0, 0.0),
                  prism_m=(0.0, 0.0), face=(1, 1)),
            TraverseBook(id="v", name="v", frame="f", here=("o",), there=("c",), kind=("azimuth",),
                         direction_rad=(0.0,), distance_m=(1.0,), dh_m=(None,), back="o", close="c",
                         fore="o"),
            LevelBook(id="l", name="l", frame="f", first=("c",), second=("o",), dh_m=(1.0,), length=(1.0,),
                      free=("o",)),
            FitStep(id="x", name="x", source_frame="f", target_frame="g", uses=(("o", "check"),),
                    pivot=("c", "o")),
        ]  # fmt: skip
        self.job = Job.create(self.path("j.fenwind"), "j", records, "f")
        self.addCleanup(self.job.close)

    def merge(self, kept: str = "k", other: str = "o") -> None:
        marks = self.job.state.marks
        self.job.record(*merge_marks(self.job.state, marks[kept], marks[other]))

    def test_everything_goes_over(self) -> None:
        before = dict(self.job.state.records)
        self.merge()
        state = self.job.state
        self.assertFalse(state.marks["o"].active)
        self.assertTrue(state.marks["k"].active)
        for kind, fields in MARK_FIELDS.items():
            for record in state.of(kind).values():
                for field in fields:
                    old, new = getattr(before[record.id], field), getattr(record, field)
                    self.assertEqual(repr(new), repr(old).replace("'o'", "'k'"), f"{kind.__name__}.{field}")
        # Both were given in one frame: the one that stays keeps its own there.
        self.assertEqual([state.given[k].active for k in ("kf", "of", "og")], [True, False, True])
        self.job.undo()
        self.assertEqual(dict(self.job.state.records), before)

    def test_no_kind_of_record_is_forgotten(self) -> None:
        for kind in KINDS.values():
            own = {f.name for f in fields_of(kind)} & {
                "mark", "at", "to", "here", "there", "station", "target",
            }  # fmt: skip
            self.assertLessEqual(own, set(MARK_FIELDS.get(kind, ())), kind.__name__)

    def test_what_contradicts_is_refused(self) -> None:
        for kept, other in (("c", "o"), ("k", "k")):
            with self.assertRaises(ProcedureError):
                self.merge(kept, other)
        self.assertTrue(self.job.state.marks["o"].active)


class Installed(TempFolder):
    def test_an_entry_an_icon_and_a_kind_of_file_come_and_go(self) -> None:
        start = '/home/a "b"/$x/start'
        with mock.patch.dict(os.environ, {"XDG_DATA_HOME": self.path("share")}):
            files = install.install(start)
            entry = dict(line.split("=", 1) for line in files[0].read_text().splitlines()[1:])
            self.assertEqual(entry["Exec"], '"/home/a \\"b\\"/\\$x/start" %f')
            self.assertEqual((entry["Icon"], entry["MimeType"]), (files[1].stem, f"{install.MIME};"))
            root = ET.parse(files[2]).getroot()
            name = "{http://www.freedesktop.org/standards/shared-mime-info}"
            self.assertEqual(root.find(f"{name}mime-type/{name}glob").get("pattern"), "*.fenwind")
            ET.fromstring(files[1].read_text())
            self.assertEqual(install.uninstall(), files)
            self.assertFalse(any(path.exists() for path in files))
            self.assertEqual(install.uninstall(), [])

    def test_by_the_starter(self) -> None:
        env = os.environ | {"XDG_DATA_HOME": self.path("share"), "DISPLAY": "", "WAYLAND_DISPLAY": ""}
        entry = Path(self.path("share")) / "applications" / "fenwind.desktop"
        for option, there in (("--install", True), ("--uninstall", False)):
            found = subprocess.run(
                [ROOT / "start", option], env=env, capture_output=True, text=True, check=True
            )
            self.assertEqual((entry.exists(), found.stdout.count("\n")), (there, 3))
