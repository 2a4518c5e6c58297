"""What would become of a point that is coming in: in the job, coming in, the difference, and what taking it
would move."""

from __future__ import annotations

import math
from collections.abc import Callable

from fenwind.geodesy.axes import ShownAxis, shown_axes
from fenwind.job.derive import Derived
from fenwind.job.incoming import Against, IncomingPoints
from fenwind.job.moved import moved
from fenwind.job.state import JobState
from fenwind.quantities.lengths import METRE, LengthUnit, format_way
from fenwind.quantities.numbers import counted
from fenwind.records.entries import Entry
from fenwind.reports.fit_report import mm
from fenwind.reports.trail import Link, triple


def incoming_links(
    state: JobState,
    derived: Derived,
    points: IncomingPoints,
    point: int,
    against: Against,
    frame: str,
    entries: tuple[Entry, ...],
    what_if: Callable[[tuple[Entry, ...]], Derived | None],
    unit: LengthUnit = METRE,
    axes: tuple[ShownAxis, ShownAxis] = shown_axes(None),
) -> tuple[Link, ...]:
    """Links for the trail. `entries` would take the point; `what_if` derives a job that has them, None where
    that takes long; positions are shown in `unit`, as `axes` says."""
    name = points.names[point]
    mark = state.mark_named(name)
    links: list[Link] = []
    given = next(
        (
            g
            for g in state.given.values()
            if mark is not None and g.mark == mark.id and g.frame == frame and g.active
        ),
        None,
    )
    if given is not None:
        links.append(
            Link(
                kind="record",
                title="In the job",
                note=given.source,
                values=(triple(given.values, unit, axes),),
            )
        )
    first, second, height = points.values[:3, point].tolist()
    values = () if points.geographic else (triple((first, second, height), unit, axes),)
    links.append(Link(kind="record", title="Coming in", note=points.source_of(point), values=values))
    if given is not None:
        limit = against.tolerance_m[:, point]
        way = "   ".join(
            mm(v, sign=True) if math.isfinite(v) else "-" for v in against.d_m[:, point].tolist()
        )
        note = f"tolerance of the class {mm(float(limit[0]))} mm, height {mm(float(limit[1]))} mm"
        links.append(Link(kind="step", title="Difference", note=note, values=(f"{way} mm",)))
    if point in against.clash:
        links.append(Link(kind="amendment", title="Odd name", note=against.clash[point]))
    after = what_if(entries)
    if after is not None:
        links.append(_if_taken(derived, after, name))
    return tuple(links)


def _if_taken(before: Derived, after: Derived, name: str) -> Link:
    changes = [
        moved(key, before.adopted[key], own) for key, own in after.adopted.items() if key in before.adopted
    ]
    others = [(c, i) for c in changes for i, n in enumerate(c.names) if n != name]
    again = [
        o.step.name
        for key, o in after.fits.items()
        if key in before.fits and o.case is not None and not _same(before, o.step.id, after)
    ]
    note = f"{', '.join(again)} derived again" if again else "no fit uses it"
    if not others:
        return Link(kind="adopted", title="If taken", note=note, values=("no other mark moves",))
    largest = max(
        math.sqrt(c.de_m[i] ** 2 + c.dn_m[i] ** 2 + (c.dh_m[i] if math.isfinite(c.dh_m[i]) else 0.0) ** 2)
        for c, i in others
    )
    count = len({c.names[i] for c, i in others})
    moves = "moves" if count == 1 else "move"
    return Link(
        kind="adopted",
        title="If taken",
        note=note,
        values=(f"{counted(count, 'other mark')} {moves} by {format_way(largest)} at most",),
    )


def _same(before: Derived, key: str, after: Derived) -> bool:
    old, new = before.fits[key].raw, after.fits[key].raw
    return old is not None and old is new
