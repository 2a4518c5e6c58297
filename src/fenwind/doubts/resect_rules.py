"""Rules about resections: the one blunder that explains the residuals, weak figures, the danger circle."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.registry import Doubt
from fenwind.errors import FenwindError
from fenwind.estimation.distributions import chi2_quantile
from fenwind.procedures.causes import Cause, likely, minimised
from fenwind.procedures.resection import Case, Resection, Scale, is_far, part_of, tried
from fenwind.procedures.resection_squares import Solved
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.quantities.lengths import FEET, format_way
from fenwind.quantities.numbers import format_fixed

FloatArray = NDArray[np.float64]

#: Level of the test of the whole; a single residual is over its limit above so many sigmas.
WHOLE_ALPHA, RESIDUAL = 0.001, 3.8906
#: A set-up is weak with a semi-axis above this, metres, or with two marks nearer to one line, radians.
WEAK_M, WEAK_RAD = 0.030, 15.0 * math.pi / 180.0
#: How near to the circle through three targets is danger: a part of its radius.
CIRCLE = 0.10
#: Collimation or index that a check of the instrument would put right, seconds.
FACES_S = 30.0


@dataclass(frozen=True, kw_only=True, eq=False)
class Looked:
    """What the rules look at. others: coordinates of marks of the control that were not sighted."""

    case: Case
    found: Resection
    scale: Scale
    others: Mapping[str, tuple[float, float, float]]
    checks: int
    collimation_s: float
    index_s: float


def _grave(
    rule: str, names: tuple[str, ...], text: str, value: float | None = None, limit: float | None = None
) -> Doubt:
    return Doubt(
        rule=rule, subject="resect", names=names, text=text, value=value, limit=limit, grave=True
    )  # fmt: skip


def resect_doubts(look: Looked) -> list[Doubt]:
    """Blunders, the likeliest first, then residuals over their limit, then the figure."""
    out: list[Doubt] = []
    if look.found.dof > 0 and _suspicious(look.found):
        out += _causes(look) or [_residual(look)]
    out += list(_circle(look.case, look.found))
    if not out or out[-1].rule != "resect.danger-circle":
        out += list(_weak(look))
    worst = max((abs(v) for v in (look.collimation_s, look.index_s) if math.isfinite(v)), default=0.0)
    if worst > FACES_S:
        out.append(
            Doubt(
                rule="resect.faces", subject="resect", names=(), value=worst, limit=FACES_S, unit="s",
                text=f"The two faces differ by an error of {format_fixed(worst, 0)} s: adjust it.",
            )
        )  # fmt: skip
    if look.scale == "apply":
        out.append(
            Doubt(
                rule="resect.scale-applied", subject="resect", names=(), unit="",
                text="The estimated scale is applied: it hides what the residuals would have told.",
            )
        )  # fmt: skip
    if not look.checks:
        out.append(
            Doubt(
                rule="resect.unchecked", subject="resect", names=(), unit="",
                text="No check was sighted: sight a known mark that takes no part.",
            )
        )  # fmt: skip
    return out


def _suspicious(found: Resection) -> bool:
    return found.sum_squares > chi2_quantile(1.0 - WHOLE_ALPHA, found.dof) or bool(
        np.nanmax(found.standardised, initial=0.0) > RESIDUAL
    )


def _residual(look: Looked) -> Doubt:
    """The residual furthest over its limit, where no cause is found. It names a target only where what is
    left without that reading passes the test; else all that is known is that the sightings do not agree."""
    w = np.nan_to_num(look.found.standardised)
    kind, k = np.unravel_index(int(np.argmax(w)), w.shape)
    name = look.case.reduced.targets[k]
    used = look.case.used.copy()
    used[kind, k] = False
    rest = replace(look.case, used=used, heights=look.case.heights and bool(used[2].any()))
    v, most = float(look.found.residuals[kind, k]), float(w[kind, k])
    size = f"{format_fixed(v / RAD_PER_SECOND, 1)} s" if kind == 0 else format_way(v)
    what = f"The residual of the {('direction', 'distance', 'height')[kind]} to {name} is {size}"
    alone = look.found.dof > 1 and _squares(rest, look.scale) < math.inf
    text = f"{what}, {most:.1f} sigmas."
    if not alone:
        text = f"The sightings do not agree, and no single reading explains it. {text}"
    return Doubt(
        rule="resect.residual", subject="resect", names=(name,) if alone else (), grave=True, limit=RESIDUAL,
        value=most, unit="", text=text,
    )  # fmt: skip


# One blunder at a time
# ---------------------------------------------------------------------------------------------------------


def _causes(look: Looked) -> list[Doubt]:
    found: list[Cause[Doubt]] = []
    for search in (_units, _offsets, _exchanged, _wrong_marks, _shared, _units_of_one, _controls, _index):
        found += list(search(look))
    return [cause.told for cause in likely(found, look.found.sum_squares, WHOLE_ALPHA)]


def _cause(look: Looked, squares: float, doubt: Doubt, parameters: int = 0, lost: int = 0) -> Cause[Doubt]:
    """A cause with so many parameters; lost: readings that take no part with it."""
    dof = look.found.dof - parameters - lost
    return Cause(told=doubt, parameters=parameters + lost, squares=squares, dof=dof)


def _squares(case: Case, scale: Scale) -> float:
    """What a changed case leaves; infinite where it has no solution, and what it can leave by itself does
    not count."""
    try:
        found, dof = tried(case, "fixed" if scale == "show" else scale)
    except FenwindError:
        return math.inf
    if dof > 0 and found.sum_squares > chi2_quantile(1.0 - WHOLE_ALPHA, dof):
        return math.inf
    return found.sum_squares


def _units(look: Looked) -> Iterator[Cause[Doubt]]:
    """All distances in feet: the figure then fits with another scale."""
    if int(look.case.used[1].sum()) < 2:
        return
    for words, metres in FEET.items():
        for factor in (metres, 1.0 / metres):
            r = look.case.reduced
            reduced = replace(r, hd=r.hd * factor, dh=r.dh * factor)
            squares = _squares(replace(look.case, reduced=reduced), look.scale)
            if squares < math.inf:
                text = f"The distances or the coordinates are in {words}."
                yield _cause(look, squares, _grave("resect.unit", (), text, factor))
                return


def _offsets(look: Looked) -> Iterator[Cause[Doubt]]:
    """A target's distances, or its heights, that are all off by the same."""
    case, scale = look.case, "fixed" if look.scale == "show" else look.scale
    most = chi2_quantile(1.0 - WHOLE_ALPHA, look.found.dof)
    for name in dict.fromkeys(case.reduced.targets):
        mine = np.array([t == name for t in case.reduced.targets])
        for kind, rule in ((1, "resect.prism"), (2, "resect.target-height")):
            rows = mine & case.used[kind]
            if not rows.any():
                continue
            used = case.used.copy()
            used[kind, rows] = False
            freed = replace(case, used=used, heights=case.heights and bool(used[2].any()))
            try:
                found = tried(freed, scale)[0]
            except FenwindError:
                continue
            if found.sum_squares > most:
                continue  # without those readings, more is left than any one offset of theirs would leave
            off = _offset(case, freed, found, scale, kind, rows)
            squares = _squares(_put_right(case, kind, rows, off), look.scale)
            if squares < math.inf:
                yield _cause(look, squares, _offset_doubt(rule, name, off), 1)


def _put_right(case: Case, kind: int, rows: NDArray[np.bool_], off: float) -> Case:
    """The case with an offset taken off readings; a distance takes its height difference with it."""
    r = case.reduced
    hd, dh = r.hd.copy(), r.dh.copy()
    if kind == 1:
        dh[rows] -= off * r.dh[rows] / r.hd[rows]
        hd[rows] -= off
    else:
        dh[rows] -= off
    return replace(case, reduced=replace(r, hd=hd, dh=dh))


def _offset(
    case: Case, freed: Case, found: Solved, scale: Scale, kind: int, rows: NDArray[np.bool_]
) -> float:
    """How much too large the readings of a target are, metres, in the mean, by where the others place the
    instrument."""
    known, r, x = case.known[:, rows], case.reduced, found.x
    if kind == 1:
        d = np.hypot(known[0] - x[0], known[1] - x[1]) / (x[-1] if scale == "apply" else 1.0)
        return float(np.mean(r.hd[rows] - d))
    return float(np.mean(r.dh[rows] - (known[2] - x[3]))) if freed.heights else math.nan


def _offset_doubt(rule: str, name: str, error: float) -> Doubt:
    if rule == "resect.prism":
        text = f"The distances to {name} are off by {format_way(error)}: another prism constant than was set."
        return _grave(rule, (name,), text, error)
    # Too low a target height makes the mark too high: the height difference is too large.
    text = f"Heights at {name} are off by {format_way(error)}: its target height is another."
    return _grave(rule, (name,), text, -error)


def _at(case: Case, places: Mapping[str, FloatArray]) -> Case:
    """The case with some targets at other coordinates (3,)."""
    known = case.known.copy()
    for i, name in enumerate(case.reduced.targets):
        if name in places:
            known[:, i] = places[name]
    return replace(case, known=known)


def _exchanged(look: Looked) -> Iterator[Cause[Doubt]]:
    """Two targets whose names were exchanged."""
    place = {t: look.case.known[:, i] for i, t in enumerate(look.case.reduced.targets)}
    if len(place) > 12 or is_far(look.case.known).any():
        return
    for a, b in combinations(place, 2):
        squares = _squares(_at(look.case, {a: place[b], b: place[a]}), look.scale)
        if squares < math.inf:
            text = f"The names of {a} and {b} were exchanged."
            yield _cause(look, squares, _grave("resect.names", (a, b), text))


def _wrong_marks(look: Looked) -> Iterator[Cause[Doubt]]:
    """A target that is another mark of the control."""
    for name in dict.fromkeys(look.case.reduced.targets):
        rest = part_of(look.case, np.array([t != name for t in look.case.reduced.targets]))
        if len(set(rest.reduced.targets)) >= 3 and _squares(rest, look.scale) == math.inf:
            continue
        for other, place in list(look.others.items())[:200]:
            squares = _squares(_at(look.case, {name: np.array(place)}), look.scale)
            if squares < math.inf:
                text = f"Not {name} but another mark was sighted: {other} fits."
                yield _cause(look, squares, _grave("resect.wrong-mark", (name, other), text))


# What readings share
# ---------------------------------------------------------------------------------------------------------


def _left(case: Case, scale: Scale) -> float:
    """Sum of squares of the standardised residuals of a changed case."""
    return tried(case, "fixed" if scale == "show" else scale)[0].sum_squares


def _shared(look: Looked) -> Iterator[Cause[Doubt]]:
    """One prism constant, or one scale, of all distances."""
    case, r = look.case, look.case.reduced
    rows = case.used[1]
    if len({t for t, used in zip(r.targets, rows.tolist(), strict=True) if used}) < 2:
        return
    off, squares = minimised(lambda c: _left(_put_right(case, 1, rows, c), look.scale), 0.01)
    if squares < math.inf:
        text = f"The distances to all targets are off by {format_way(off)}: one prism constant for all."
        yield _cause(look, squares, _grave("resect.prism", (), text, off), 1)
    if look.scale == "apply":
        return
    with suppress(FenwindError):
        free, _ = tried(case, "apply")
        ppm = (float(free.x[-1]) - 1.0) * 1e6
        text = f"All distances are off by {format_fixed(-ppm, 0, sign=True)} ppm: the scale of air or grid?"
        yield _cause(look, free.sum_squares, _grave("resect.scale", (), text, -ppm), 1)


def _units_of_one(look: Looked) -> Iterator[Cause[Doubt]]:
    """The distances to one target in feet."""
    case, r = look.case, look.case.reduced
    for name in dict.fromkeys(r.targets):
        mine = np.array([t == name for t in r.targets]) & case.used[1]
        if not mine.any() or case.used[1].sum() == mine.sum():
            continue
        for words, metres in FEET.items():
            for factor in (metres, 1.0 / metres):
                changed = replace(
                    r, hd=np.where(mine, r.hd * factor, r.hd), dh=np.where(mine, r.dh * factor, r.dh)
                )
                squares = _squares(replace(case, reduced=changed), look.scale)
                if squares < math.inf:
                    text = f"The distance to {name} is in {words}."
                    yield _cause(look, squares, _grave("resect.unit", (name,), text, factor))
                    break


def _controls(look: Looked) -> Iterator[Cause[Doubt]]:
    """A target whose given coordinates are wrong: where it was seen both by direction and by distance."""
    case = look.case
    for name in dict.fromkeys(case.reduced.targets):
        mine = np.array([t == name for t in case.reduced.targets])
        if not case.used[:2, mine].all():
            continue
        rest = part_of(case, ~mine)
        try:
            found, _ = tried(rest, "fixed" if look.scale == "show" else look.scale)
        except FenwindError:
            continue
        x, r, k = found.x, case.reduced, int(np.flatnonzero(mine)[0])
        azimuth, hd = r.direction[k] + x[2], r.hd[k] * (x[-1] if look.scale == "apply" else 1.0)
        seen = np.array([x[0] + hd * math.sin(azimuth), x[1] + hd * math.cos(azimuth)])
        away = float(np.hypot(*(seen - case.known[:2, k])))
        text = f"{name} is seen {format_way(away)} from its given coordinate: is that right?"
        lost = int(case.used[:, mine].sum()) - 2
        yield _cause(look, found.sum_squares, _grave("resect.control", (name,), text, away), 2, lost)


def _index(look: Looked) -> Iterator[Cause[Doubt]]:
    """One index error of the vertical circle in all zenith angles."""
    case, r = look.case, look.case.reduced
    if not case.heights or case.used[2].sum() < 3:
        return

    def left(seconds: float) -> float:
        turn = seconds * RAD_PER_SECOND
        hd, dh = r.hd - np.nan_to_num(r.dh) * turn, r.dh + r.hd * turn
        return _left(replace(case, reduced=replace(r, hd=hd, dh=dh)), look.scale)

    seconds, squares = minimised(left, 20.0)
    if squares < math.inf:
        size = format_fixed(seconds, 0, sign=True)
        text = f"All zenith angles are off by {size} s: an index error of the vertical circle."
        yield _cause(look, squares, _grave("resect.index", (), text, seconds), 1)


# The figure
# ---------------------------------------------------------------------------------------------------------


def circle_through(points: FloatArray) -> tuple[FloatArray, float]:
    """Centre (2,) and radius of the circle through three points (2, 3); infinite for three on a line."""
    a = 2.0 * (points[:, 1:] - points[:, :1]).T
    b = (points[:, 1:] ** 2).sum(axis=0) - (points[:, :1] ** 2).sum(axis=0)
    if abs(np.linalg.det(a)) < 1e-9 * np.abs(a).max() ** 2:
        return np.full(2, np.inf), math.inf
    centre = np.linalg.solve(a, b)
    return centre, float(np.hypot(*(centre - points[:, 0])))


def _circle(case: Case, found: Resection) -> Iterator[Doubt]:
    """Directions only, to three marks, near the circle through these."""
    names = list(dict.fromkeys(case.reduced.targets))
    if case.used[1].any() or len(names) != 3 or is_far(case.known).any():
        return
    points = np.stack([case.known[:2, case.reduced.targets.index(n)] for n in names], axis=1)
    about = points.mean(axis=1, keepdims=True)
    centre, radius = circle_through(points - about)
    if not math.isfinite(radius):
        return
    off = abs(float(np.hypot(*(np.array([found.e, found.n]) - about[:, 0] - centre))) / radius - 1.0)
    if off < CIRCLE:
        yield _grave(
            "resect.danger-circle", tuple(names),
            f"The instrument is near the danger circle through {', '.join(names)}: there directions alone do "
            "not place it. Measure a distance.", off, CIRCLE,
        )  # fmt: skip


def _weak(look: Looked) -> Iterator[Doubt]:
    axis = math.sqrt(max(float(np.linalg.eigvalsh(look.found.covariance[:2, :2])[-1]), 0.0))
    names = tuple(dict.fromkeys(look.case.reduced.targets))
    if axis > WEAK_M:
        yield Doubt(
            rule="resect.weak", subject="resect", names=names, value=axis, limit=WEAK_M,
            text=f"The resection is weak: the instrument is known to {format_way(axis)} only.",
        )  # fmt: skip
    elif len(names) == 2 and not is_far(look.case.known).any():
        at = np.stack([look.case.known[:2, look.case.reduced.targets.index(n)] for n in names], axis=1)
        de, dn = at - np.array([[look.found.e], [look.found.n]])
        a, b = np.arctan2(de, dn)
        angle = abs((a - b + math.pi) % (2.0 * math.pi) - math.pi)
        if min(angle, math.pi - angle) < WEAK_RAD:
            yield Doubt(
                rule="resect.weak", subject="resect", names=names, value=math.degrees(angle), unit="°",
                limit=math.degrees(WEAK_RAD),
                text=f"The resection is weak: its two marks stand {math.degrees(angle):.0f}° apart.",
            )  # fmt: skip
