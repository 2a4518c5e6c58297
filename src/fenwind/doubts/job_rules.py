"""Rules about the records of a job: names and places, heights, frames, control that changed or is not
there."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator

import numpy as np

from fenwind.doubts.registry import Doubt, Remedy
from fenwind.errors import FenwindError
from fenwind.geodesy.frames import height_words, is_dynamic
from fenwind.job.derive import Derived
from fenwind.job.incoming import CAME_IN_AGAIN, ONE_PLACE_M, TWO_PLACES_M
from fenwind.job.state import JobState
from fenwind.procedures.near import near_pairs
from fenwind.procedures.onto_plane import SAME_DATUM
from fenwind.procedures.positions import Positions
from fenwind.quantities.lengths import UNITS, format_way
from fenwind.quantities.numbers import counted
from fenwind.records.entries import Amend
from fenwind.records.records import GivenPosition

#: Doubts of one rule listed at most; more say the same again.
MOST = 12
#: How many decimals fewer than most a height must have, so that chance (trailing zeros) is 1 % or less.
FEWER_DECIMALS = 2


def set_aside(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """Entries and files of the job that could not be read are kept where they are and take no part."""
    for number, words in enumerate(state.set_aside):
        yield Doubt(
            rule="job.set-aside",
            subject=str(number),
            names=(),
            text=f"Set aside when the job was opened: {words}. It stays in the file and takes no part.",
            value=1,
            limit=0,
            unit="entries",
            limit_source="checksums of the job file",
            grave=True,
        )


def no_control(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """A fit needs known positions in its target frame, and there are none that may be held."""
    for step in state.fits.values():
        if step.active and not any(
            _may_be_held(state, g) for g in state.given.values() if g.frame == step.target_frame
        ):
            frame = state.frames.get(step.target_frame)
            yield Doubt(
                rule="job.no-control",
                subject=step.id,
                names=(),
                text=f"{step.name} needs control in {frame.spec.name if frame else 'a frame that is gone'}, "
                "and the job has none: "
                "take in known positions, or make marks control.",
                value=0,
                limit=1,
                unit="marks",
                grave=True,
            )


def _may_be_held(state: JobState, given: GivenPosition) -> bool:
    mark = state.marks.get(given.mark)
    return given.active and mark is not None and mark.active and (mark.hold_horizontal or mark.hold_height)


def not_tied(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """Marks given in another frame that have no position in the frame shown: nothing ties the two."""
    shown = state.info.frame
    if shown not in derived.adopted or shown not in state.frames:
        return
    here = derived.adopted[shown].place
    for key, record in state.frames.items():
        if not record.active or key == shown:
            continue
        names = [state.marks[g.mark].name for g in stranded(state, key, here)]
        if names:
            count, frame = len(names), state.frames[shown].spec.name
            some = ", ".join(names[:4]) + (" and more" if count > 4 else "")
            yield Doubt(
                rule="marks.not-tied",
                subject=key,
                names=(),
                text=f"{counted(count, 'mark')} without a position in {frame}: given in {record.spec.name}, "
                f"and nothing ties the two ({some}). Measure some of what is there and tie it by a fit, or "
                f"say that it was given in {frame}.",
                value=count,
                limit=0,
                unit="marks",
                grave=True,
                remedies=(
                    Remedy(kind="given-here", label=f"given in {frame} all along"),
                    Remedy(kind="tie", label="tie them by a fit"),
                ),
            )


def stranded(state: JobState, frame: str, here: Collection[str]) -> Iterator[GivenPosition]:
    """Given positions of a frame whose marks are not among those that have a position elsewhere."""
    for given in state.given.values():
        if given.active and given.frame == frame and given.mark not in here:
            mark = state.marks.get(given.mark)
            if mark is not None and mark.active:
                yield given


def two_places(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """One name at two places: given twice in one frame, or occupations far from their mean."""
    seen: dict[tuple[str, str], GivenPosition] = {}
    for given in state.given.values():
        if not given.active or given.mark not in state.marks:
            continue
        before = seen.setdefault((given.mark, given.frame), given)
        if before is given:
            continue
        (e, n, _), (e0, n0, _) = given.values, before.values
        apart = float(np.hypot(e - e0, n - n0))
        if apart > ONE_PLACE_M:
            yield _two_places(state.marks[given.mark].name, "is given", apart, ONE_PLACE_M)
    told: set[str] = set()
    for found in derived.measured.values():
        if isinstance(found, FenwindError):
            continue
        apart = np.hypot(found.departure[0], found.departure[1])
        for row in np.flatnonzero(apart > TWO_PLACES_M).tolist():
            name = found.plane.names[row]
            if name not in told:
                told.add(name)
                yield _two_places(name, "was occupied", float(apart[row]), TWO_PLACES_M)


def _two_places(name: str, what: str, apart_m: float, limit_m: float) -> Doubt:
    return Doubt(
        rule="marks.two-places",
        subject="job",
        names=(name,),
        text=f"{name} {what} at two places, {format_way(apart_m)} apart: one of them is another mark, or "
        "is wrong.",
        value=apart_m,
        limit=limit_m,
        grave=True,
    )


def two_frames(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """One mark given in two frames of one datum, where the two do not say the same place or height."""
    told: set[tuple[str, frozenset[str]]] = set()
    for frame, found in derived.elsewhere.items():
        here = derived.given.get(frame)
        if isinstance(found, FenwindError) or not isinstance(here, Positions):
            continue
        for other, other_name, points in found.by_frame:
            pair = frozenset((frame, other))
            if found.operations[other] != SAME_DATUM:
                continue  # an operation has an accuracy of its own
            rows = [(here.index[n], k, n) for k, n in enumerate(points.names) if n in here.index]
            for i, k, name in rows:
                apart, limit = _apart(here, i, points, k)
                if apart > limit and (name, pair) not in told and len(told) < MOST:
                    told.add((name, pair))
                    yield Doubt(
                        rule="marks.two-frames", subject="job", names=(name,), value=apart, limit=limit,
                        grave=True,
                        text=f"{name} is given in {state.frames[frame].spec.name} and in {other_name}, "
                        f"{format_way(apart)} apart: one of the two is wrong, or another mark.",
                    )  # fmt: skip


def _apart(here: Positions, i: int, there: Positions, k: int) -> tuple[float, float]:
    """How far two positions of a mark are from each other, in plan or in height, whichever is more over its
    limit, and that limit."""
    plan = float(np.hypot(here.e_m[i] - there.e_m[k], here.n_m[i] - there.n_m[k]))
    up = abs(float(here.height_m[i] - there.height_m[k]))
    sigma_h, sigma_v = (
        float(np.hypot(np.nan_to_num(a[i]), np.nan_to_num(b[k])))
        for a, b in ((here.sigma_h_m, there.sigma_h_m), (here.sigma_v_m, there.sigma_v_m))
    )
    limits = (max(ONE_PLACE_M, 3.0 * sigma_h), max(2.0 * ONE_PLACE_M, 3.0 * sigma_v))
    both = [(d, limit) for d, limit in zip((plan, up), limits, strict=True) if np.isfinite(d)]
    return max(both, key=lambda pair: pair[0] / pair[1], default=(0.0, ONE_PLACE_M))


def two_names(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """Two names at one place, among the adopted positions of a frame."""
    told: set[tuple[str, str]] = set()
    for adopted in derived.adopted.values():
        try:
            first, second = near_pairs(adopted.e_m, adopted.n_m, ONE_PLACE_M)
        except ValueError:
            continue
        for i, j in zip(first.tolist(), second.tolist(), strict=True):
            names = (adopted.names[i], adopted.names[j])
            heights = abs(adopted.height_m[i] - adopted.height_m[j])
            if (
                names in told or heights > 0.3 or len(told) >= MOST
            ):  # one above the other is a bolt and a pillar's top
                continue
            told.add(names)
            apart = float(np.hypot(adopted.e_m[i] - adopted.e_m[j], adopted.n_m[i] - adopted.n_m[j]))
            yield Doubt(
                rule="marks.two-names",
                subject="job",
                names=names,
                text=f"{names[0]} and {names[1]} lie {format_way(apart)} apart: one mark under two names?",
                value=apart,
                limit=ONE_PLACE_M,
            )


def coarse_heights(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """Given heights with fewer decimals than those around them were rounded, or read off a map."""
    by_frame: dict[str, list[tuple[str, int]]] = {}
    for given in state.given.values():
        if (
            given.active
            and given.height_m is not None
            and given.mark in state.marks
            and given.frame in state.frames
        ):
            unit = UNITS[state.frames[given.frame].spec.unit].metres
            found = (state.marks[given.mark].name, _decimals(given.height_m / unit))
            by_frame.setdefault(given.frame, []).append(found)
    for frame, heights in by_frame.items():
        usual, times = Counter(d for _, d in heights).most_common(1)[0]
        few = [(name, d) for name, d in heights if d <= usual - FEWER_DECIMALS]
        if len(heights) >= 4 and times >= 0.6 * len(heights) and few:
            yield _coarse(frame, few, usual)


def _coarse(frame: str, few: list[tuple[str, int]], usual: int) -> Doubt:
    names = tuple(name for name, _ in few)
    listed = ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")
    head = f"The heights of {listed} have" if len(names) > 1 else f"The height of {listed} has"
    most = max(d for _, d in few)
    up_to = "" if all(d == most for _, d in few) else "at most "
    decimals = f"{up_to}{counted(most, 'decimal')}"
    return Doubt(
        rule="marks.coarse-height",
        subject=frame,
        names=names,
        text=f"{head} {decimals}, most others {usual}: rounded, or read off a plan?",
        value=most,
        limit=usual - FEWER_DECIMALS + 1,
        unit="decimals",
    )


def _decimals(value: float) -> int:
    """Decimals a height was written with, as far as its digits tell; at most 5."""
    return len(f"{value:.5f}".rstrip("0").split(".")[1])


def height_reference_unknown(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """Heights are given, and nobody said what they are counted from."""
    for key, record in state.frames.items():
        if (
            record.active
            and record.spec.height.kind == "unknown"
            and any(g.active and g.frame == key and g.height_m is not None for g in state.given.values())
        ):
            yield Doubt(
                rule="frame.height-unknown",
                subject=key,
                names=(),
                text=f"Heights are given in {record.spec.name}, and it is not said what they are "
                "counted from: "
                "a geoid, the ellipsoid, a local zero?",
                unit="",
            )


def astray(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """Occupations that a frame has no place for, or its geoid grid no height: they alone go without."""
    told: set[tuple[str, str]] = set()
    for key, found in derived.measured.items():
        if isinstance(found, FenwindError):
            continue
        frame = state.frames[key].spec.name
        for rule, names, what in (
            ("marks.astray", found.astray, f"cannot be projected into {frame}: check latitude and longitude"),
            ("marks.off-grid", found.off_grid, f"lies off the geoid grid of {frame} and has no height in it"),
        ):
            fresh = tuple(n for n in names if (rule, n) not in told)
            told.update((rule, n) for n in fresh)
            if fresh:
                more = f" and {len(fresh) - 1} more" if len(fresh) > 1 else ""
                yield Doubt(
                    rule=rule,
                    subject=key,
                    names=fresh[:1],
                    text=f"{fresh[0]}{more} {what}.",
                    value=len(fresh),
                    limit=0,
                    unit="marks",
                    grave=True,
                )


def heights_apart(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """Heights above the ellipsoid that were measured in a frame whose heights are counted from something
    else that nothing ties to it."""
    for key, found in derived.measured.items():
        if isinstance(found, FenwindError) or key != state.info.frame or not found.loose.any():
            continue
        names = [found.plane.names[i] for i in np.flatnonzero(found.loose)]
        spec = state.frames[key].spec
        yield Doubt(
            rule="frame.heights-apart",
            subject=key,
            names=tuple(names[:1]),
            text=f"{counted(len(names), 'mark')} with measured heights above the ellipsoid, where heights in "
            f"{spec.name} are counted from {height_words(spec.height)}: kept, and not shown beside them. "
            "Name a geoid or a height system, or fit heights.",
            value=len(names),
            limit=0,
            unit="marks",
        )


def grids_and_epochs(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """Heights that need a grid that is not here, systems that move with time without an epoch, and what
    conversions said."""
    for key, grids in derived.missing_grids.items():
        spec = state.frames[key].spec
        yield Doubt(
            rule="frame.grid-missing",
            subject=key,
            names=(),
            text=f"Heights in {spec.height.name or spec.height.crs} need a grid that is not here "
            f"({', '.join(grids[:3])}): "
            "they are not known until it is given.",
            limit_source="EPSG dataset",
            unit="",
            grave=True,
        )
    for key, record in state.frames.items():
        if (
            record.active
            and record.spec.crs
            and record.spec.epoch_year is None
            and is_dynamic(record.spec.crs)
        ):
            yield Doubt(
                rule="frame.no-epoch",
                subject=key,
                names=(),
                text=f"{record.spec.name} moves with time and has no epoch: coordinates in it are good to "
                "decimetres only.",
                limit_source="EPSG dataset",
                unit="",
            )
    told = {
        o.step.source_frame for o in derived.fits.values()
    }  # their notes and failures are told with the fit
    for key, found in (
        *derived.elsewhere.items(),
        *((k, m) for k, m in derived.measured.items() if k not in told),
    ):
        if isinstance(found, FenwindError):
            name = state.frames[key].spec.name
            text = f"What was measured has no place in {name}: {found}. {found.hint}."
            yield Doubt(
                rule="frame.unreachable",
                subject=key,
                names=(),
                text=text,
                unit="",
                limit_source="computation",
                grave=True,
            )
            continue
        for note in found.notes:
            yield Doubt(
                rule=note.rule, subject=key, names=(), text=note.text, unit="", limit_source="EPSG dataset"
            )


def changed_after_use(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """A list that came in changed control which a fit held already."""
    for given_id, entries in state.amendments.items():
        given = state.records.get(given_id)
        if not isinstance(given, GivenPosition) or not given.active or given.mark not in state.marks:
            continue
        name = state.marks[given.mark].name
        for entry, when in zip(entries, state.amended_at[given_id], strict=True):
            if not entry.reason.startswith(CAME_IN_AGAIN):
                continue
            changed, moved = _changes(given, entry)
            users = _held_before(state, derived, given.frame, name, when) if changed else []
            if users:
                by = f"by {format_way(max(moved))}" if moved else "in whether it has a height"
                yield Doubt(
                    rule="marks.changed-after-use",
                    subject=given.id,
                    names=(name,),
                    text=f"A list changed {name} {by} after {', '.join(users)} had held it "
                    f"({entry.reason.removeprefix(CAME_IN_AGAIN)}).",
                    value=max(moved, default=None),
                    limit=0.0,
                )


def _changes(given: GivenPosition, entry: Amend) -> tuple[bool, list[float]]:
    """Whether an amendment changed coordinates, and by how much where there was one before and after,
    metres."""
    old = {"e_m": given.e_m, "n_m": given.n_m, "height_m": given.height_m} | entry.old
    changed = [k for k in ("e_m", "n_m", "height_m") if k in entry.new and entry.new[k] != old[k]]
    both = [k for k in changed if entry.new[k] is not None and old[k] is not None]
    return bool(changed), [abs(entry.new[k] - old[k]) for k in both]


def _held_before(state: JobState, derived: Derived, frame: str, name: str, when: int) -> list[str]:
    """Names of the fits onto a frame that hold a mark and were made before an entry."""
    fits = (o for o in derived.fits.values() if o.step.target_frame == frame and o.case is not None)
    return [
        o.step.name
        for o in fits
        if state.added_at[o.step.id] < when and o.case and _held(o.case.result, name)
    ]


def _held(result: object, name: str) -> bool:
    table = result.pairs  # type: ignore[attr-defined]
    return name in table.names and bool((table.used_h | table.used_v)[table.names.index(name)])
