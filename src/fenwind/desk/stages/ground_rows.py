"""What is wanted on the Ground stage, what it comes to, and the rows of its table."""

from __future__ import annotations

from dataclasses import dataclass, field

from fenwind.desk.stages.ground_area import Wanted
from fenwind.geodesy.axes import ShownAxis
from fenwind.geodesy.frames import Frame, FrameSpec
from fenwind.job.ground_view import Distortion, Marks

#: Distortion that is drawn as a whole bar unless another is chosen, parts per million.
LIMIT_PPM = 20.0


@dataclass(frozen=True, kw_only=True)
class Draft:
    """What is wanted: a method; where the factor is taken (id of a mark, "mean", or what was typed);
    origin: id of a mark, empty for zero; offset in the frame's unit; kind of projection; what it is laid
    for."""

    frame: str = ""
    method: str = "factor"
    at: str = "mean"
    origin: str = ""
    offset: tuple[float, float] = (0.0, 0.0)
    kind: str = ""
    limit_ppm: float = LIMIT_PPM
    area: Wanted = field(default_factory=Wanted)


@dataclass(frozen=True, kw_only=True, eq=False)
class Found:
    """The marks of the frame, how its own grid lies on the ground, and the system that is wanted."""

    frame: Frame
    marks: Marks
    grid: Distortion
    factor: float
    spec: FrameSpec | None = None
    wanted: Distortion | None = None
    doubts: tuple[str, ...] = ()
    error: str = ""


def as_written(offset: tuple[float, float], axes: tuple[ShownAxis, ShownAxis]) -> list[float]:
    """An offset (east, north) in the order and with the signs that the frame's coordinates are written."""
    return [axis.of(*offset) + 0.0 for axis in axes]


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    i: int
    name: str
    found: Found = field(repr=False)

    @property
    def shown(self) -> Distortion:
        """The system that is looked at."""
        return self.found.wanted or self.found.grid
