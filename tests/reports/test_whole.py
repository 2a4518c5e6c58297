"""All that is shown and handed over, held word for word against copies that were looked at
(tests/data/whole): what no other test asks for is noticed here when it changes. FENWIND_COPIES=write makes
the copies anew."""

import contextlib
import io
import os
import re
import unittest
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path

from fenwind.cli import main
from fenwind.doubts.of_job import Judge
from fenwind.exchange.columns import BUILT_IN, list_text
from fenwind.exchange.outgoing import outgoing
from fenwind.job import gestures
from fenwind.job.reader import with_grid_folder
from fenwind.records.entries import amend
from fenwind.reports import handover
from fenwind.reports.html import to_html
from fenwind.reports.kinds import report_of
from fenwind.reports.pdf import to_pdf
from fenwind.reports.plain import to_text
from fenwind.reports.statement import sentence, statement_of_fit
from fenwind.reports.trail import trail
from tests.support import DATA, TempFolder

COPIES = DATA / "whole"


def said(*arguments: str) -> str:
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        code = main(list(arguments))
    return f"{out.getvalue()}{err.getvalue()}exit {code}\n"


def strokes(pdf: bytes) -> str:
    """What a PDF's pages do: operators and numbers, without fonts and pictures of letters."""
    streams = re.findall(rb"stream\r?\n(.*?)endstream", pdf, re.DOTALL)
    pages = (s.decode("latin-1") for s in streams if b" re" in s or b" Tf" in s)
    return "\n".join(pages).replace("\r\n", "\n")


def entities(path: str) -> Iterator[str]:
    import ezdxf

    drawing = ezdxf.readfile(path)
    yield f"unit {drawing.header.get('$INSUNITS')}"
    for block in drawing.blocks:
        if not block.name.startswith("*"):
            yield from (f"block {block.name} {line(e)}" for e in block)
    for entity in drawing.modelspace():
        yield line(entity)
        yield from (f"    {line(a)}" for a in getattr(entity, "attribs", ()))


def line(entity: object) -> str:
    skip = ("handle", "owner", "paperspace")
    known = entity.dxfattribs()  # type: ignore[attr-defined]
    values = {k: v for k, v in sorted(known.items()) if k not in skip}
    points = [tuple(round(c, 4) for c in p) for p in entity] if hasattr(entity, "__iter__") else ""
    return f"{entity.dxftype()} {values} {points}"  # type: ignore[attr-defined]


class Whole(TempFolder):
    def setUp(self) -> None:
        super().setUp()
        import reportlab.rl_config

        self.addCleanup(setattr, reportlab.rl_config, "pageCompression", reportlab.rl_config.pageCompression)
        reportlab.rl_config.pageCompression = 0

    def held(self, name: str, text: str) -> None:
        text = re.sub(re.escape(str(self.folder)), "FOLDER", text)
        text = re.sub(r"\d{4}-\d\d-\d\d([T ]\d\d:\d\d(:\d\d)?)?", "DATE", text)
        text = re.sub(r"\b(?=[0-9]*[a-f])[0-9a-f]{16}\b", "ID", text)
        path = COPIES / f"{name}.txt"
        if os.environ.get("FENWIND_COPIES") == "write":
            COPIES.mkdir(exist_ok=True)
            path.write_text(text)
        self.assertEqual(path.read_text().splitlines(), text.splitlines(), name)

    def test_reports(self) -> None:
        for name, planted, changes in (
            ("report", False, {}),
            ("report of a blunder", True, {"horizontal": "auto", "height": "plane", "tolerance_h_m": 0.003}),
        ):
            job = self.demo(f"{name}.fenwind", planted=planted)
            job.record("fit", gestures.change_step(job.state.fits["fit-1"], "x", **changes).entries or [
                amend(job.state.info, decimals=4)])  # fmt: skip
            derived = self.derive(job)
            findings = Judge().judge(job.state, derived)
            node = next(n for n in derived.outcomes if n.kind == "fit")
            report = report_of(job.state, derived, findings, node, "for the copy")
            assert report is not None
            self.held(name, to_text(report))
            self.held(f"{name} html", to_html(report))
            self.held(f"{name} pdf", strokes(to_pdf(report)))
            marks = "\n".join(
                f"{mark.name}\n" + "\n".join(f"  {k.kind} {k.title}: {k.note} {k.values}" for k in links)
                for mark in job.state.marks.values()
                for links in (trail(job.state, derived, mark, "dam"),)
            )
            told = "\n".join(
                f"{d.rule} {d.names} {d.value!r:.12} {d.limit!r:.12} {d.text}" for d in findings.open
            )
            words = sentence(statement_of_fit(job.state, job.state.fits["fit-1"], derived.fits["fit-1"].case))
            self.held(f"{name} trails", f"{marks}\n{told}\n{words}\n")

    def test_files(self) -> None:
        job = self.demo()
        derived = self.derive(job)
        for frame, unit in (("map", "m"), ("dam", "ft")):
            record = job.state.frames[frame]
            job.record("unit", [amend(record, spec=gestures.replace(record.spec, unit=unit, axis_order="NE"))]
                       if unit != "m" else [amend(job.state.info, decimals=3)])  # fmt: skip
            spec = with_grid_folder(job.state.frames[frame].spec, str(self.folder))
            out = outgoing(job.state, derived.adopted, frame, spec)
            texts = [list_text(out, layout) for layout in BUILT_IN]
            texts.append(handover.targets_text(out, frozenset(["T-07"])))
            for key in ("landxml", "dxf", *(("kml", "geojson") if frame == "map" else ())):
                path = self.path(f"{frame}.{key}")
                handover.write_positions(path, key, out, BUILT_IN[0], frozenset(), datetime(2026, 11, 26))
                texts.append("\n".join(entities(path)) if key == "dxf" else Path(path).read_text())
            self.held(f"files {frame}", "\n".join(texts))

    def test_commands(self) -> None:
        head = "name,from_e,from_n,from_h,to_e,to_n,to_h"
        rows = "A,0,0,10,1000,2000,10.5", "B,100,0,11,1000,1900.01,11.52", "C,0,80,9,1080,2000,9.5"
        pairs = self.write("p.csv", "\n".join((head, *rows)))
        head, low = "name,e,n,h", "A,460000,6790000,1240"
        rows = (
            "B,460100.5,6790050,1250",
            "C,460000,6790300,1230",
            "D,461000,6790300,",
            "E,460500,6790100,1245",
        )
        marks = "\n".join((head, low, *rows))
        one = self.write("a.csv", marks)
        two = self.write("b.csv", marks.replace("460100.5", "460100.52").replace("1230", "1230.03"))
        place = ("--at", "61.3,8.4,1285", "--frame", "EPSG:25832")
        lines = [
            ("frame", "EPSG:25832", "--at", "61.3,8.4,1285"),
            ("frame", "EPSG:3035", "--at", "61.3,8.4,1285"),
            ("inverse", one, "A", "B", "--frame", "EPSG:25832"),
            ("inverse", one, "A", "D"),
            ("convert", one, "--from", "EPSG:25832", "--to", "EPSG:4258"),
            ("compare", one, two, "--tolerance-v", "0.025"),
            ("fit", one, two, "--height", "plane"),
            ("fit", one, two, "--check", "D", "--horizontal", "turn"),
            ("move", one, pairs, "--out", self.path("o.csv"), "--height", "shift"),
            ("move", one, pairs, "--out", self.path("o.csv"), "--back", "--horizontal", "scale"),
            ("explain", "100.000", "99.959", *place),
        ]
        self.held("commands", "\n".join(f"$ {' '.join(x)}\n{said(*x)}" for x in lines))


if __name__ == "__main__":
    unittest.main()
