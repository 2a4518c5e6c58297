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


@dataclass(frozen=True, slots=True, kw_only=True)
class Ways:
    """PROJ's operations: those that can be done, the best first, and those for the area that lack a grid.
    elsewhere: the best is meant for another area than was asked for."""

    present: tuple[pyproj.Transformer, ...]
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
    present = group.transformers
    if area is not None and (not present or is_assumed(present[0])):
        group = _group(source, target, None)
        present = sorted(group.transformers, key=lambda t: (is_assumed(t), not _covers(t, area)))
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


def is_assumed(transformer: pyproj.Transformer) -> bool:
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


def _present(transformer: pyproj.Transformer, chosen: bool) -> Operation:
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
