"""All that is shown and handed over, held word for word against copies that were looked at
(tests/data/whole): what no other test asks for is noticed here when it changes. FENWIND_COPIES=write makes
the copies anew."""

import contextlib
import io
import json
import os
import re
import shlex
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

from fenwind.cli import main
from fenwind.doubts.of_job import Judge
from fenwind.doubts.settling import settle
from fenwind.exchange.columns import BUILT_IN, list_text
from fenwind.exchange.outgoing import outgoing
from fenwind.geodesy.axes import shown_axes
from fenwind.geodesy.frames import find_crs
from fenwind.job import gestures
from fenwind.job.network_gestures import adjust_everything
from fenwind.job.reader import with_grid_folder
from fenwind.quantities.lengths import FOOT
from fenwind.records.entries import Amend, amend
from fenwind.reports import handover
from fenwind.reports.html import to_html
from fenwind.reports.kinds import report_of, reportable
from fenwind.reports.pdf import to_pdf
from fenwind.reports.plain import to_text
from fenwind.reports.statement import sentence, statement_of_fit
from fenwind.reports.trail import trail
from fenwind.standins import tarnholt
from fenwind.standins.demo import make_demo
from tests.support import DATA, TempFolder

COPIES = DATA / "whole"


def said(*arguments: str) -> str:
    """What a command answers and how it ends, JSON with a line a value."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        code = main(list(arguments))
    text = out.getvalue()
    if text and "--json" in arguments:
        text = _laid_out(_brief(json.loads(text))) + "\n"
    return f"{text}{err.getvalue()}exit {code}\n"


def _brief(value: Any) -> Any:
    """A JSON value with numbers of nine digits."""
    if isinstance(value, dict):
        return {k: _brief(v) for k, v in value.items()}
    if isinstance(value, list):
        return [_brief(v) for v in value]
    return float(f"{value:.9g}") if isinstance(value, float) else value


def _laid_out(value: Any, margin: str = "") -> str:
    """JSON with a line for whatever fits into one."""
    short = json.dumps(value, ensure_ascii=False)
    if len(short) < 150 or not isinstance(value, dict | list):
        return short
    items = value.items() if isinstance(value, dict) else ((None, v) for v in value)
    keys = (("" if k is None else f'"{k}": ', v) for k, v in items)
    inner = ",\n".join(f"{margin} {key}{_laid_out(v, margin + ' ')}" for key, v in keys)
    return f"{{\n{inner}\n{margin}}}" if isinstance(value, dict) else f"[\n{inner}\n{margin}]"


NUMBER = re.compile(r"([-−]?(?:\d+\.\d+(?:e[+-]?\d+)?|\d+e[+-]?\d+))")


def alike(one: str, other: str) -> bool:
    """Whether two lines say the same, but for the last digit of a number: another processor may round it
    otherwise, and what ought to be nothing is as much as rounding leaves."""
    a, b = NUMBER.split(one), NUMBER.split(other)
    return a[::2] == b[::2] and all(map(_near, a[1::2], b[1::2]))


def _near(one: str, other: str) -> bool:
    digits, _, power = one.partition("e")
    last = 1.01 * 10.0 ** (int(power or 0) - len(digits.partition(".")[2]))
    x, y = (float(text.replace("−", "-")) for text in (one, other))
    return abs(x - y) <= max(last, min(1e-6 * abs(x), 1e-4), 5e-10)


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
        text = re.sub(r"\b\d\d:\d{3}:\d{5}\b", "TIME", text)
        text = re.sub(r"(?<![\w.-])[0-9a-f]{16}\b", "ID", text)  # ids, those of digits alone too
        path = COPIES / f"{name}.txt"
        if os.environ.get("FENWIND_COPIES") == "write":
            COPIES.mkdir(exist_ok=True)
            path.write_text(text)
        kept, told = path.read_text().splitlines(), text.splitlines()
        for k, (one, other) in enumerate(zip(kept, told, strict=False)):
            if alike(one, other):
                told[k] = one
        self.assertEqual(kept, told, name)

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

    def test_the_whole_demo(self) -> None:
        """Of the demo with all its days and networks: every report, doubt, remedy, position and trail."""
        tarnholt.write_grid(self.folder)
        job = make_demo(self.folder / "demo.fenwind")
        self.addCleanup(job.close)
        job.record(*adjust_everything(job.state, "map"))
        given, measured = (next(iter(every.values())) for every in (job.state.given, job.state.measured))
        again = amend(given, reason="read again", e_m=given.e_m - 0.001, sigma_h_m=0.002, source="sheet 3")
        job.record("put right", [again, amend(measured, lat_rad=measured.lat_rad + 1e-9, active=False)])
        state, derived = job.state, self.derive(job)
        findings = Judge().judge(state, derived)
        reports = (report_of(state, derived, findings, node, "then") for node in reportable(state, derived))
        self.held("demo reports", "\n\n".join(to_text(r) for r in reports if r is not None))
        told = []
        for d in findings.open:
            value, limit = ("" if v is None else f"{v:.7g}" for v in (d.value, d.limit))
            told.append(f"{d.rule} {d.names} {value} {limit} {d.unit} {d.text}")
            for remedy in d.remedies:
                gesture = settle(state, d, remedy)
                changes = [e.new if isinstance(e, Amend) else e.record for e in gesture.entries]
                told += [f"    {remedy.label}: {gesture.what}", *(f"        {c}" for c in changes)]
        self.held("demo doubts", "\n".join(told))
        lines = []
        westward = shown_axes(find_crs("EPSG:2048"))
        for frame, every in derived.adopted.items():
            for mark in (state.marks[key] for key in every.ids if key in state.marks):
                lines += [f"{frame} {mark.name}", *(f"    {c}" for c in every.candidates(mark.id))]
                links = trail(state, derived, mark, frame, FOOT, westward)
                lines += (f"    {k.kind} {k.title}: {k.note} {k.values}" for k in links)
        self.held("demo marks", "\n".join(lines))
        job.close()
        key = next(iter(state.marks.values())).name
        asked = (("show",), ("show", "--frame", "Dam grid 1968", "--between", f"{key},T-05"), ("sessions",))
        shown = (said(*words, *more, job.path) for words in asked for more in ((), ("--json",)))
        self.held("demo commands", "".join(shown))

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
        """Lines of a copy that begin with $ are commands on tests/data/field; what follows is their answer,
        at the end what they wrote."""
        self.addCleanup(os.chdir, os.getcwd())
        os.chdir(DATA / "field")
        for path in sorted(COPIES.glob("commands*.txt")):
            with self.subTest(path.stem):
                asked = [x[2:] for x in path.read_text().splitlines() if x.startswith("$ ")]
                told = (said(*shlex.split(x.replace("FOLDER", str(self.folder)))) for x in asked)
                lines = [f"$ {a}\n{t}" for a, t in zip(asked, told, strict=True)]
                for written in sorted(self.folder.iterdir()):
                    lines.append(f"== {written.name}\n{written.read_text()}")
                    written.unlink()
                self.held(path.stem, "".join(lines))
