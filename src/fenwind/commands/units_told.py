"""--unit and --angle-unit: the units that lists and options are read in, and that JSON tells lengths in."""

from __future__ import annotations

import argparse
from collections.abc import Collection
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from fenwind.exchange.list_units import ListUnits
    from fenwind.geodesy.frames import Frame
    from fenwind.quantities.lengths import LengthUnit


def add_units(parser: argparse.ArgumentParser, angles: bool = True) -> None:
    """Declare --unit and, where lists have angles, --angle-unit."""
    parser.add_argument(
        "--unit", choices=("m", "ft", "ftUS"),
        help="of every length without one of its own, in lists and options, and of every length told",
    )  # fmt: skip
    if angles:
        parser.add_argument(
            "--angle-unit", choices=("deg", "gon"), help="of angles in lists without one of their own (deg)"
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class Units:
    """Units that are read and told: of plane coordinates and heights, and of all other lengths. asked:
    whether --unit named them."""

    coordinate: LengthUnit
    length: LengthUnit
    angle: Any
    asked: bool

    @property
    def of_lists(self) -> ListUnits:
        """Those of columns whose heads state none."""
        from fenwind.exchange.list_units import ListUnits

        return ListUnits(coordinate=self.coordinate, length=self.length, angle=self.angle)

    def told(
        self, payload: dict[str, Any], coordinates: Collection[str] = (), lengths: Collection[str] = (),
        squares: Collection[str] = (),
    ) -> dict[str, Any]:  # fmt: skip
        """An answer in metres as `scaled` has it; with --unit the name of the unit."""
        out: dict[str, Any] = self.scaled(payload, coordinates, lengths, squares)
        return out | {"unit": self.length.key} if self.asked else out

    def scaled(
        self, payload: Any, coordinates: Collection[str] = (), lengths: Collection[str] = (),
        squares: Collection[str] = (),
    ) -> Any:  # fmt: skip
        """What is in metres, with the values of these keys, at any depth, in the units: plane coordinates and
        heights, other lengths, squares of lengths."""
        by = dict.fromkeys(coordinates, self.coordinate.metres)
        by |= dict.fromkeys(lengths, self.length.metres)
        by |= dict.fromkeys(squares, self.length.metres**2)
        return payload if set(by.values()) <= {1.0} else divided(payload, by)


def divided(value: Any, by: dict[str, float]) -> Any:
    """A payload with the numbers under these keys, at any depth, divided."""
    if isinstance(value, list):
        return [divided(v, by) for v in value]
    if not isinstance(value, dict):
        return value
    return {k: _scaled(v, by[k]) if k in by else divided(v, by) for k, v in value.items()}


def _scaled(value: Any, by: float) -> Any:
    if isinstance(value, list):
        return [_scaled(v, by) for v in value]
    if isinstance(value, dict):
        return {k: _scaled(v, by) for k, v in value.items()}
    return value / by if isinstance(value, int | float) and not isinstance(value, bool) else value


def units_of(options: argparse.Namespace, frame: Frame | None = None) -> Units:
    """The units of a command: --unit for everything; without it metres, coordinates and heights in the unit
    of the frame."""
    from fenwind.quantities.lengths import METRE, UNITS

    angle = "gon" if getattr(options, "angle_unit", None) == "gon" else "degrees"
    if options.unit is not None:
        unit = UNITS[options.unit]
        return Units(coordinate=unit, length=unit, angle=angle, asked=True)
    own = UNITS[frame.spec.unit] if frame is not None else METRE
    return Units(coordinate=own, length=METRE, angle=angle, asked=False)
