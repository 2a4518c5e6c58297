"""fenwind export: the positions or the report of a job, in any of the formats of Handover."""

from __future__ import annotations

import argparse
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from fenwind.commands.units_told import add_units
from fenwind.errors import FormatError, JobError

if TYPE_CHECKING:
    from fenwind.geodesy.frames import FrameSpec
    from fenwind.job.derive import Derived
    from fenwind.job.state import JobState

_DESCRIPTION = """Formats: csv, xlsx, landxml, dxf, geojson, kml, geopackage, targets, html and pdf
(the report of a fit). Every file names its system. The job is only read."""


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser(
        "export", help="hand over a job's positions or report", description=_DESCRIPTION
    )
    parser.add_argument("job", metavar="JOB")
    parser.add_argument("--as", dest="format", metavar="FORMAT", required=True)
    parser.add_argument("--out", metavar="FILE", required=True)
    parser.add_argument(
        "--frame",
        metavar="NAME",
        help="frame of the job to hand over in; default: the one shown; for geojson and kml the first with "
        "a datum if it has none",
    )
    parser.add_argument(
        "--layout", metavar="NAME", default="", help="layout of a list, by its name in the job"
    )
    parser.add_argument(
        "--class", dest="mark_class", metavar="CLASS", default="", help="only marks of this class or code"
    )
    parser.add_argument("--fit", metavar="NAME", help="fit to report on; the same as --of")
    parser.add_argument(
        "--of",
        metavar="NAME",
        help="fit, network, setup, traverse, levelling or system to report on; default: the first",
    )
    add_units(parser, angles=False)
    parser.add_argument("--json", action="store_true", help="print what was written as one JSON object")


def run(options: argparse.Namespace) -> int:
    """Derive, write and tell; 1 when a grave doubt is open."""
    import os
    from datetime import datetime

    from fenwind.commands.reading import dump
    from fenwind.doubts.of_job import Judge
    from fenwind.exchange.files import check_target
    from fenwind.exchange.outgoing import outgoing
    from fenwind.job.derive import derive
    from fenwind.job.job import Job
    from fenwind.job.memory import Memory
    from fenwind.job.reader import with_grid_folder
    from fenwind.reports import handover

    wanted = handover.format_named(options.format)
    if not os.path.isfile(options.job):
        raise JobError("there is no such job", where=options.job, hint="Name an existing job file")
    job = Job.open(options.job)
    try:
        state, folder = job.state, os.path.dirname(os.path.abspath(options.job))
        grids = [r.spec.height.grid for r in state.frames.values() if r.spec.height.grid]
        grids += [backdrop.path for backdrop in state.backdrops.values()]
        beside = [os.path.join(folder, name) for name in grids]
        check_target(options.out, (options.job, *beside))
        derived = derive(state, Memory(), folder)
        findings = Judge().judge(state, derived)
        payload: dict[str, Any] = {
            "out": options.out,
            "format": wanted.key,
            "open_doubts": [d.text for d in findings.open],
        }
        if wanted.report is not None:
            handover.write_report(options.out, wanted.key, _report(options, state, derived, findings))
        else:
            frame = _frame(options.frame, state, wanted.positions is not None and wanted.positions.geographic)
            spec = _in_unit(with_grid_folder(state.frames[frame].spec, folder), options.unit)
            out = outgoing(state, derived.adopted, frame, spec)
            checks = handover.checks_of(state)
            if options.format == "targets":
                judged = handover.judge_targets(out, handover.target_names(out, options.mark_class), checks)
                payload["coverage"] = [
                    {"rule": j.rule, "fine": j.fine, "text": j.text} for j in judged.judgements
                ]
                out = out.only(handover.target_names(out, options.mark_class))
            elif options.mark_class:
                out = out.only(handover.target_names(out, options.mark_class))
            layout = handover.layout_named(state, options.layout)
            handover.write_positions(options.out, wanted.key, out, layout, checks, datetime.now())
            left = out.left_out(wanted.positions is not None and wanted.positions.geographic)
            payload |= {"marks": len(out.names) - len(left), "left_out": left, "system": out.system_words}
    finally:
        job.close()
    print(dump(payload) if options.json else _words(payload))
    return 1 if payload.get("left_out") or any(d.grave for d in findings.open) else 0


def _in_unit(spec: FrameSpec, unit: str | None) -> FrameSpec:
    return spec if unit is None else replace(spec, unit=unit)


def _frame(name: str | None, state: JobState, geographic: bool) -> str:
    """Id of the frame named, else of the one shown; geographic formats take the first with a datum when that
    one has none."""
    if name:
        found = next((k for k, r in state.frames.items() if r.active and name in (k, r.spec.name)), "")
        if not found:
            names = ", ".join(r.spec.name for r in state.frames.values())
            raise FormatError(f"the job has no frame {name!r}", hint=f"Choose one of {names}")
        return found
    shown = state.info.frame if state.info.frame in state.frames else next(iter(state.frames), "")
    if not shown:
        raise FormatError("the job has no frame yet", hint="Take in control, or choose a frame first")
    if geographic and not state.frames[shown].spec.crs:
        return next((k for k, r in state.frames.items() if r.active and r.spec.crs), shown)
    return shown


def _report(options: argparse.Namespace, state: JobState, derived: Derived, findings: Any) -> Any:
    from datetime import datetime

    from fenwind.reports.kinds import report_of, reportable

    wanted = options.of or options.fit
    every = reportable(state, derived)
    nodes = [node for node, name in every.items() if not wanted or wanted in (name, node.subject)]
    if not nodes:
        names = ", ".join(every.values())
        raise FormatError(
            f"there is no result to report on{f' named {wanted!r}' if wanted else ''}", where=options.job,
            hint=f"There is one of {names}" if names else "Make a fit, a network or a setup first",
        )  # fmt: skip
    made = report_of(state, derived, findings, nodes[0], f"{datetime.now():%Y-%m-%d}")
    if made is None:
        raise FormatError(
            f"there is nothing to say about {every[nodes[0]]}", where=options.job, hint="Give marks positions"
        )
    return made


def _words(payload: dict[str, Any]) -> str:
    lines = [f"written: {payload['out']}"]
    if "system" in payload:
        lines.append(f"{payload['marks']} marks in {payload['system']}")
    if payload.get("left_out"):
        names = payload["left_out"]
        more = " …" if len(names) > 12 else ""
        lines.append(f"left out, no position there: {', '.join(names[:12])}{more}")
    lines += [f"{'fine ' if j['fine'] else 'LACKS'}  {j['text']}" for j in payload.get("coverage", ())]
    lines += [f"open doubt: {text}" for text in payload["open_doubts"]]
    return "\n".join(lines)
