"""Bases: where each is, by the word that it stands on."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from fenwind.errors import ProcedureError
from fenwind.geodesy.antenna import AntennaModel, reduced
from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.outcome import Gathering, Node, Outcome
from fenwind.job.steps.receiver_known import receiver_known
from fenwind.job.steps.vectors import antennas_of, vectors_node
from fenwind.procedures.rover import Measured, Point, given_point, ground_of, mean, raised, tied_arp
from fenwind.progress import Progress
from fenwind.records.records import Mark
from fenwind.records.sessions import Antenna, BaseSetup


def base_node(key: str) -> Node:
    """The step of a base's id."""
    return Node("base", key)


@dataclass(frozen=True, kw_only=True, eq=False)
class PlacedBase:
    """A base: its record, the ground below it, its ARP, and how high that is over the ground."""

    record: BaseSetup
    ground: Point
    arp: Point
    height_m: float


def antenna_model(state: JobState, model: str) -> AntennaModel | None:
    """A model of the job by its name."""
    found = next((a for a in state.of(Antenna).values() if a.active and a.model == model), None)
    return None if found is None else model_of(found)


def model_of(record: Antenna) -> AntennaModel:
    """The model that a record holds."""
    return AntennaModel(
        model=record.model, radius_m=record.radius_m, rim_offset_m=record.rim_offset_m,
        mount_offset_m=record.mount_offset_m, arp_to_l1_m=record.arp_to_l1_m,
    )  # fmt: skip


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    record: BaseSetup
    antenna: AntennaModel | None
    known: Mapping[str, Point]
    there: tuple[Measured, ...]
    others: tuple[Point, ...]
    mark_name: str


class Base(Gathering):
    """See the module."""

    name = "base"

    def nodes(self, state: JobState) -> Iterable[Node]:
        """Bases that are on."""
        return [base_node(b.id) for b in state.of(BaseSetup).values() if b.active]

    def title(self, state: JobState, node: Node) -> str:
        """Its name."""
        return f"base {state.of(BaseSetup)[node.subject].name}"

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """The base, what is known, and for a tie the occupations of its mark from here and from elsewhere."""
        record = reader.needed(BaseSetup, node.subject)
        known = reader.result(receiver_known())
        mark = reader.record(Mark, record.mark) if record.mark else None
        there: list[Measured] = []
        others: list[Point] = []
        if record.word == "tie" and record.mark not in known:
            every = [o.measured for o in reader.result(vectors_node()) if o.measured.mark == record.mark]
            there = [o for o in every if o.base == record.id]
            for one in every:
                other = reader.record(BaseSetup, one.base) if one.base != record.id else None
                if other is not None and other.active and (other.word, other.mark) != ("tie", record.mark):
                    others.append(ground_of(reader.result(base_node(one.base)).arp, one))
        elif record.word == "tie":
            there = [
                o.measured
                for o in reader.result(vectors_node())
                if (o.measured.mark, o.measured.base) == (record.mark, record.id)
            ]
        inputs = _Inputs(
            record=record,
            antenna=antennas_of(reader).get(record.antenna),
            known=known,
            there=tuple(there),
            others=tuple(others),
            mark_name=mark.name if mark is not None else "a mark that is gone",
        )
        return inputs, None

    def solve(self, inputs: _Inputs, progress: Progress) -> PlacedBase:
        """Where it is. Raises ProcedureError when its word stands on nothing."""
        record = inputs.record
        height = reduced(record.height_m, record.method, inputs.antenna)
        source = f"base antenna {record.id}"
        if record.word == "tie":
            target = inputs.known.get(record.mark)
            if target is None and not inputs.others:
                raise ProcedureError(
                    f"{inputs.mark_name} has no other position to tie it to",
                    hint="Measure the mark from another base, or give its position",
                )
            arp = tied_arp(target if target is not None else mean(inputs.others), inputs.there)
            return PlacedBase(
                record=record, ground=raised(arp, height, source, -1.0), arp=arp, height_m=height
            )
        if record.word == "average":
            if record.average_lat_rad is None or record.average_lon_rad is None or record.average_h_m is None:
                raise ProcedureError("it was never averaged", hint="Place it, or tie it to a mark")
            arp = given_point(
                record.average_lat_rad, record.average_lon_rad, record.average_h_m,
                record.average_sigma_h_m, record.average_sigma_v_m, f"average of {record.id}",
            )  # fmt: skip
            ground = raised(arp, height, source, -1.0)
            return PlacedBase(record=record, ground=ground, arp=arp, height_m=height)
        if record.word == "known":
            found = inputs.known.get(record.mark)
            if found is None:
                raise ProcedureError(
                    f"{inputs.mark_name} has no known position", hint="Give its position, or tie the base"
                )
            ground = found
        else:
            lat, lon, h = record.place_lat_rad, record.place_lon_rad, record.place_h_m
            if lat is None or lon is None or h is None:
                raise ProcedureError("nobody said where it is", hint="Place it, or tie it to a mark")
            sigmas = record.place_sigma_h_m, record.place_sigma_v_m
            ground = given_point(lat, lon, h, *sigmas, f"place of {record.id}")
        return PlacedBase(record=record, ground=ground, arp=raised(ground, height, source), height_m=height)

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> Any:
        """The placed base, or why there is none."""
        return outcome.result if outcome.error is None else outcome.error
