"""From a mark's position down to the readings: each step with its names, its words and its numbers."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from fenwind.errors import FenwindError
from fenwind.geodesy.antenna import arithmetic, reduced
from fenwind.job.derive import Derived
from fenwind.job.session_view import known_of, rover_of
from fenwind.job.state import JobState
from fenwind.job.steps.base import antenna_model
from fenwind.quantities.numbers import counted
from fenwind.records.sessions import BaseSetup, Occupation

Step = dict[str, Any]


def trail(state: JobState, derived: Derived, mark: str, basis: str) -> list[Step]:
    """Steps from the adopted position of a mark (by id) down to the readings."""
    name = state.marks[mark].name
    if basis == "given":
        return [_known(state, derived, mark)]
    measured = session_trail(state, derived, mark)
    if basis == "measured" and measured:
        return measured
    return [{"what": "position", "names": [name], "text": f"{name} is {basis}"}, *measured]


def session_trail(state: JobState, derived: Derived, mark: str, most: int | None = None) -> list[Step]:
    """Steps of a mark that was measured from bases, from its mean down to what the bases stand on; empty for
    any other. most: of its occupations only so many, the latest."""
    return list(_Follow(state, derived).mark(mark, most=most)) if mark in rover_of(derived).used else []


def _known(state: JobState, derived: Derived, mark: str) -> Step:
    name = state.marks[mark].name
    out: Step = {"what": "known", "names": [name], "text": f"{name} is known"}
    known = known_of(derived)
    frame = known.frames.get(mark)  # a mark may be given in others too, which the receivers know nothing of
    rows = [g for g in state.given.values() if g.active and g.mark == mark and frame in (None, g.frame)]
    given = rows[-1] if rows else None
    if given is not None:
        out["text"] = f"{name} is known" + (f" from {given.source}" if given.source else "")
        out |= {"sh": given.sigma_h_m, "sv": given.sigma_v_m}
    point = known.get(mark)
    return out | (_place(point) if point is not None else {})


def _minute(moment: str) -> str:
    """A moment in ISO 8601 to the minute, for people."""
    return f"{moment[:16].replace('T', ' ')} UTC"


def _place(point: Any) -> dict[str, float]:
    lat, lon, h = point.geodetic
    return {"lat": math.degrees(lat), "lon": math.degrees(lon), "h": h}


@dataclass
class _Follow:
    """Walks down; a base is told once."""

    state: JobState
    derived: Derived

    def __post_init__(self) -> None:
        self._told: set[str] = set()

    def mark(self, mark: str, without: str = "", most: int | None = None) -> Iterator[Step]:
        """A measured mark, from its used occupations; those from one base may be left out, and all but the
        latest."""
        rover = rover_of(self.derived)
        name = self.state.marks[mark].name
        every = self.state.of(Occupation)
        ids = [i for i in rover.used.get(mark, ()) if every[i].base != without]
        told = ids if most is None else sorted(ids, key=lambda i: every[i].started)[-most:]
        rest = f"; the latest {len(told)} stand here" if len(told) < len(ids) else ""
        yield {
            "what": "position", "names": [name], "occupations": len(ids), **_place(rover.marks[mark]),
            "text": f"{name} is the mean of {len(ids)} occupations{rest}"
            if len(ids) > 1 else f"{name} was measured",
        }  # fmt: skip
        for key in told:
            yield from self.occupation(every[key])

    def occupation(self, one: Occupation) -> Iterator[Step]:
        """An occupation, its vector, its antenna, and its base."""
        name = self.state.marks[one.mark].name
        base = self.state.of(BaseSetup)[one.base]
        yield {
            "what": "occupation", "names": [one.id, name, base.name], "epochs": one.epochs,
            "effective_epochs": one.effective, "pdop": one.pdop, "age": one.age_s, "start": one.started,
            "text": f"{counted(one.epochs, 'epoch')}, {one.solution}, from {_minute(one.started)}",
        }  # fmt: skip
        yield {
            "what": "vector", "names": [base.name, name], "dx": one.dx_m, "dy": one.dy_m, "dz": one.dz_m,
            "text": f"from the antenna of {base.name} to the one over {name}",
        }  # fmt: skip
        yield self._antenna(one, [name])
        yield from self.base(base)

    def _antenna(self, one: BaseSetup | Occupation, names: list[str]) -> Step:
        model = antenna_model(self.state, one.antenna)
        out: Step = {"what": "antenna", "names": names, "value": one.height_m, "method": one.method}
        try:
            height = reduced(one.height_m, one.method, model)
        except FenwindError as error:
            return out | {"reduced": None, "text": str(error)}
        return out | {"reduced": height, "text": arithmetic(one.height_m, one.method, model)}

    def base(self, base: BaseSetup) -> Iterator[Step]:
        """A base, its antenna, and what it stands on."""
        placed = rover_of(self.derived).bases.get(base.id)
        where = _place(placed.ground) if placed is not None else {}
        yield {
            "what": "base", "names": [base.name], "basis": base.word, **where,
            "text": f"base {base.name}, started {_minute(base.started)}",
        }  # fmt: skip
        if base.id in self._told:
            return
        self._told.add(base.id)
        yield self._antenna(base, [base.name])
        if base.word == "average":
            yield {
                "what": "average", "names": [base.name], "epochs": base.average_epochs,
                "sh": base.average_sigma_h_m, "sv": base.average_sigma_v_m,
                "text": f"mean of {counted(base.average_epochs, 'epoch')} of its own solution",
            }  # fmt: skip
        elif base.word == "place":
            yield {
                "what": "place", "names": [base.name], "sh": base.place_sigma_h_m,
                "sv": base.place_sigma_v_m, **where, "text": "somebody said where it is",
            }  # fmt: skip
        elif base.mark in self.state.marks:
            yield from self._mark_below(base)

    def _mark_below(self, base: BaseSetup) -> Iterator[Step]:
        name = self.state.marks[base.mark].name
        if base.word == "tie":
            there = [
                o for o in self.state.of(Occupation).values()
                if (o.mark, o.base, o.active, o.finished) == (base.mark, base.id, True, True)
            ]  # fmt: skip
            yield {
                "what": "tie", "names": [base.name, name], "occupations": len(there),
                "text": f"{base.name} lies so that {len(there)} occupations of {name} agree with it",
            }  # fmt: skip
        if base.mark in known_of(self.derived):
            yield _known(self.state, self.derived, base.mark)
        elif base.mark in rover_of(self.derived).marks:
            yield from self.mark(base.mark, without=base.id)
