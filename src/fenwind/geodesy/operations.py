"""The ways from one system to another: each with its accuracy, its area and the grids it needs."""

from __future__ import annotations

import warnings
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyproj
from numpy.typing import NDArray
from pyproj.aoi import AreaOfInterest
from pyproj.exceptions import ProjError
from pyproj.transformer import TransformerGroup

from fenwind.errors import FrameError


@dataclass(frozen=True, slots=True, kw_only=True)
class Operation:
    """One way. accuracy_m None where the dataset states none. grids: (file name, present). chosen: the one
    that is used."""

    name: str
    accuracy_m: float | None
    area: str
    grids: tuple[tuple[str, bool], ...]
    present: bool
    assumed: bool
    chosen: bool = False


#: Systems that most datums are related to: where PROJ relates two datums by taking them as equal alone, the
#: way leads over one of these.
HUBS = ("EPSG:4326", "EPSG:4258")


@dataclass(frozen=True, slots=True)
class Chain:
    """Two operations, one after the other, where PROJ has no published one between their ends."""

    first: pyproj.Transformer
    second: pyproj.Transformer

    @property
    def description(self) -> str:
        """Names of both."""
        return f"{self.first.description} + {self.second.description}"

    @property
    def accuracy(self) -> float:
        """The sum of both, -1 where one is not stated."""
        parts = [stated_accuracy(step.accuracy) for step in (self.first, self.second)]
        return -1.0 if None in parts else float(sum(p for p in parts if p is not None))

    @property
    def area_of_use(self) -> Any:
        """The smaller of both areas."""
        areas = [step.area_of_use for step in (self.first, self.second) if step.area_of_use is not None]
        return min(areas, key=_size, default=None)

    @property
    def operations(self) -> tuple[Any, ...]:
        """Those of both."""
        return (*(self.first.operations or ()), *(self.second.operations or ()))

    def transform(self, *values: Any) -> Any:
        """Coordinates through both; a time stays what it is."""
        between = self.first.transform(*values)
        return self.second.transform(*between)


Way = pyproj.Transformer | Chain


def _size(area: Any) -> float:
    west, south, east, north = area.bounds
    return float((east - west) % 360.0 * (north - south))


@dataclass(frozen=True, slots=True, kw_only=True)
class Ways:
    """PROJ's operations: those that can be done, the best first, and those for the area that lack a grid.
    elsewhere: the best is meant for another area than was asked for."""

    present: tuple[Way, ...]
    lacking: tuple[Any, ...]
    best_present: bool
    elsewhere: bool = False

    @property
    def missing_grids(self) -> list[str]:
        """Names of the grids that are lacking."""
        return sorted({g.short_name for op in self.lacking for g in op.grids if not g.available})


def ways(
    source: pyproj.CRS, target: pyproj.CRS, area: tuple[float, float, float, float] | None = None
) -> Ways:
    """PROJ's operations from `source` to `target` for an area (west, south, east, north in degrees).

    Asked for an area PROJ leaves out operations that go by a third system; where it then has nothing but
    datums taken as equal, it is asked without one, and the areas are compared here. Raises FrameError when it
    knows no operation at all.
    """
    group = _group(source, target, _interest(area))
    present: list[Way] = list(group.transformers)
    if area is not None and (not present or is_assumed(present[0])):
        group = _group(source, target, None)
        present = sorted(group.transformers, key=lambda t: (is_assumed(t), not _covers(t, area)))
    if not present or is_assumed(present[0]):
        chain = _over_a_hub(source, target, area)
        present = [*([] if chain is None else [chain]), *present]
    elsewhere = bool(
        area is not None and present and not is_assumed(present[0]) and not _covers(present[0], area)
    )
    lacking = tuple(op for op in group.unavailable_operations if area is None or _covers(op, area))
    return Ways(
        present=tuple(present),
        lacking=lacking,
        best_present=group.best_available or not lacking,
        elsewhere=elsewhere,
    )


def _over_a_hub(
    source: pyproj.CRS, target: pyproj.CRS, area: tuple[float, float, float, float] | None
) -> Chain | None:
    """The most accurate pair of published operations over a system of HUBS, None where there is none."""
    found: list[Chain] = []
    for code in HUBS:
        hub = pyproj.CRS(code)
        hub = hub.to_3d() if len(source.axis_info) > 2 else hub
        steps = []
        for one, other in ((source, hub), (hub, target)):
            if one == other or plain_datum(one) == plain_datum(other):
                break
            try:
                group = _group(one, other, _interest(area))
            except FrameError:
                break
            fine = [t for t in group.transformers if not is_assumed(t) and (area is None or _covers(t, area))]
            if not fine:
                break
            steps.append(fine[0])
        if len(steps) == 2:
            found.append(Chain(*steps))
    stated = [chain for chain in found if chain.accuracy >= 0.0]
    return min(stated, key=lambda chain: chain.accuracy, default=found[0] if found else None)


def plain_datum(crs: pyproj.CRS) -> str:
    """Name of a system's datum."""
    return crs.datum.name if crs.datum is not None else crs.name


def _interest(area: tuple[float, float, float, float] | None) -> AreaOfInterest | None:
    """An area for PROJ; a single place is widened a little, since one of no size lies in none."""
    if area is None:
        return None
    west, south, east, north = area
    near = 1e-4
    return AreaOfInterest(
        max(west - near, -180.0), max(south - near, -90.0), min(east + near, 180.0), min(north + near, 90.0)
    )


def areas_of(source: pyproj.CRS, target: pyproj.CRS) -> NDArray[np.float64]:
    """Areas (4, k) of all operations between two systems: west, south, east, north in degrees, west > east
    across the half turn."""
    group = _group(source, target, None)
    every: list[Any] = [*group.transformers, *group.unavailable_operations]
    bounds = {tuple(op.area_of_use.bounds) for op in every if op.area_of_use is not None}
    return np.array(sorted(bounds), dtype=float).reshape(-1, 4).T


def _group(source: pyproj.CRS, target: pyproj.CRS, interest: AreaOfInterest | None) -> TransformerGroup:
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # of a better operation that lacks a grid; that becomes a note
            return TransformerGroup(
                source,
                target,
                always_xy=True,
                area_of_interest=interest,  # type: ignore[arg-type]
            )
    except ProjError as error:
        raise FrameError(
            f"no way is known from {source.name} to {target.name}",
            hint="Choose systems whose datums are related",
        ) from error


def is_assumed(transformer: Way) -> bool:
    """Whether an operation only takes the datums as equal."""
    return "ballpark" in transformer.description.lower()


def _covers(transformer: Any, area: tuple[float, float, float, float]) -> bool:
    if transformer.area_of_use is None:  # such as a change of form, which holds everywhere
        return True
    west, south, east, north = transformer.area_of_use.bounds
    across = west > east
    along = (area[0] >= west or area[2] <= east) if across else (west <= area[0] and area[2] <= east)
    return bool(south <= area[1] and area[3] <= north and along)


def operations(
    source: pyproj.CRS, target: pyproj.CRS, area: tuple[float, float, float, float] | None = None
) -> tuple[Operation, ...]:
    """All ways from `source` to `target` for an area, the chosen one first, those that lack a grid last;
    those meant for elsewhere are left out.

    Raises FrameError when there is none at all.
    """
    found = ways(source, target, area)
    present = [
        _present(t, chosen=i == 0)
        for i, t in enumerate(found.present)
        if i == 0 or area is None or _covers(t, area)
    ]
    return (*present, *(_missing(op) for op in found.lacking))


def _present(transformer: Way, chosen: bool) -> Operation:
    grids = {(g.short_name, bool(g.available)) for op in transformer.operations or () for g in op.grids}
    return Operation(
        name=plain_name(transformer.description),
        accuracy_m=stated_accuracy(transformer.accuracy),
        area=transformer.area_of_use.name if transformer.area_of_use is not None else "",
        grids=tuple(sorted(grids)),
        present=True,
        assumed=is_assumed(transformer),
        chosen=chosen,
    )


def _missing(operation: Any) -> Operation:
    return Operation(
        name=plain_name(operation.name),
        accuracy_m=stated_accuracy(operation.accuracy),
        area=operation.area_of_use.name if operation.area_of_use is not None else "",
        grids=tuple(sorted({(g.short_name, bool(g.available)) for g in operation.grids})),
        present=False,
        assumed=False,
    )


def stated_accuracy(stated: float | None) -> float | None:
    """PROJ numbers an operation's accuracy -1 where the dataset states none."""
    return stated if stated is not None and stated >= 0 else None


def plain_name(description: str) -> str:
    """An operation's name without the changes of axis order and of form (geocentric, geographic) that PROJ
    puts around it."""
    idle = ("axis order change", "Conversion from", "Inverse of Conversion from")
    parts = [part for part in description.split(" + ") if not part.startswith(idle)]
    return " + ".join(parts) or description
