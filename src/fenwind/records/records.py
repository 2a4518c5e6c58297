"""The kinds of record a job keeps. Metres, radians, one sigma; None where a value was not given.

`active` False means switched off: the record stays, greyed, and takes no part.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

from fenwind.geodesy.frames import FrameSpec
from fenwind.records.centres import Centre
from fenwind.records.lines import LevelBook, TraverseBook
from fenwind.records.network import DesignStep, EpochsStep, NetworkStep, ObservationSet
from fenwind.records.sessions import Antenna, BaseSetup, Equipment, Occupation
from fenwind.records.setups import Setup
from fenwind.records.space_fits import SpaceFit
from fenwind.records.tools import InstrumentModel, TapedDistance
from fenwind.records.velocities import MarkVelocity

Use = Literal["both", "horizontal", "height", "check", "off"]
HorizontalChoice = Literal["auto", "shift", "turn", "scale", "pivot"]
HeightChoice = Literal["none", "shift", "plane"]
MarkSymbol = Literal["by state", "triangle", "ring", "square", "cross", "dot"]


@dataclass(frozen=True, slots=True, kw_only=True)
class JobInfo:
    """The job itself: its name, the frame its coordinates are shown in, and how they are shown (decimals of
    lengths in the frame's unit); whom it is for, who answers for it, and notes."""

    id: str = "job"
    name: str
    frame: str = ""
    angle_style: Literal["degrees", "gon"] = "gon"
    decimals: int = 4
    client: str = ""
    surveyor: str = ""
    notes: str = ""
    active: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class FrameRecord:
    """A frame of the job under its own id."""

    id: str
    spec: FrameSpec
    active: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Mark:
    """A physical mark. hold_horizontal and hold_height say whether a known position of it may be held in
    fits."""

    id: str
    name: str
    mark_class: str = ""
    code: str = ""
    description: str = ""
    monument: str = ""
    hold_horizontal: bool = True
    hold_height: bool = True
    active: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class GivenPosition:
    """A known position of a mark in one frame of the job; height_m None for a position in plan only, e_m and
    n_m None for a height only."""

    id: str
    mark: str
    frame: str
    e_m: float | None = None
    n_m: float | None = None
    height_m: float | None = None
    sigma_h_m: float | None = None
    sigma_v_m: float | None = None
    source: str = ""
    active: bool = True

    def __post_init__(self) -> None:
        if (self.e_m is None) != (self.n_m is None) or (self.e_m is None and self.height_m is None):
            raise ValueError("a given position needs easting and northing, or a height")

    @property
    def values(self) -> tuple[float, float, float]:
        """Easting, northing and height, nan where there is none."""
        e, n, h = (math.nan if v is None else v for v in (self.e_m, self.n_m, self.height_m))
        return e, n, h


@dataclass(frozen=True, slots=True, kw_only=True)
class PositionChoice:
    """The user's own choice of the position that a mark has in a frame: `origin` is the id of a step or of
    another frame, "given" or "measured"."""

    id: str
    mark: str
    frame: str
    origin: str
    reason: str = ""
    active: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class MeasuredPosition:
    """One occupation. Either geodetic in the system `crs` (lat_rad, lon_rad, h_m above the ellipsoid; crs
    empty means the datum of the frame it is worked in), or on the plane of the job's frame `frame` (e_m, n_m,
    h_m in that frame's heights). Sigmas are per horizontal axis and vertical."""

    id: str
    mark: str
    lat_rad: float | None = None
    lon_rad: float | None = None
    e_m: float | None = None
    n_m: float | None = None
    h_m: float | None = None
    frame: str = ""
    crs: str = ""
    epoch_year: float | None = None
    sigma_h_m: float | None = None
    sigma_v_m: float | None = None
    session: str = ""
    source: str = ""
    active: bool = True

    def __post_init__(self) -> None:
        pair = (self.e_m, self.n_m) if self.frame else (self.lat_rad, self.lon_rad)
        if None in pair:
            raise ValueError("an occupation needs latitude and longitude, or easting and northing in a frame")


@dataclass(frozen=True, slots=True, kw_only=True)
class FitStep:
    """A fit: measured positions, worked in `source_frame`, carried onto the positions known in
    `target_frame`.

    sessions: which occupations take part, all when empty. uses: (mark id, use) where the pair's use differs
    from the mark's hold flags. pivot: two mark ids. rotation_rad and scale: given values, None when they are
    estimated. scale_reason: why the scale is not 1.
    """

    id: str
    name: str
    source_frame: str
    target_frame: str
    horizontal: HorizontalChoice = "auto"
    height: HeightChoice = "shift"
    pivot: tuple[str, str] | None = None
    rotation_rad: float | None = None
    scale: float | None = None
    scale_reason: str = ""
    sessions: tuple[str, ...] = ()
    uses: tuple[tuple[str, Use], ...] = ()
    tolerance_h_m: float = 0.010
    tolerance_v_m: float = 0.020
    active: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class MarkRule:
    """What holds for marks of one class or one code: how far a position may differ from a known one before it
    counts as different, how the plan and drawings show it, and whether they label it."""

    id: str
    by: Literal["class", "code"]
    value: str
    tolerance_h_m: float = 0.010
    tolerance_v_m: float = 0.010
    symbol: MarkSymbol = "by state"
    label: bool = True
    active: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Layout:
    """A list's layout for handover, under a name: its columns in order (keys of exchange.columns), what parts
    them, and the decimals."""

    id: str
    name: str
    columns: tuple[str, ...]
    delimiter: str = ","
    decimals: int = 4
    active: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Backdrop:
    """A drawing or an image under the plan: the file, and the frame its coordinates are in. active False
    hides it."""

    id: str
    path: str
    frame: str
    hidden_layers: tuple[str, ...] = ()
    active: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class TwoFigures:
    """Two distances for one line at a mark (id) that do not agree, as they were written, in one unit; dh: the
    difference in height of its ends, in that unit, empty where nobody knows it; line: which one, in words."""

    id: str
    mark: str
    first: str
    second: str
    dh: str = ""
    line: str = ""
    active: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Acceptance:
    """A doubt looked at and accepted, with the reason, by the job's surveyor of that time; `doubt` is its
    key, which names its rule and records, `value` what was measured then: it lapses when the number grows
    by over a tenth."""

    id: str
    doubt: str
    reason: str
    value: float | None = None
    by: str = ""
    active: bool = True


Record = (
    JobInfo
    | FrameRecord
    | Mark
    | GivenPosition
    | MeasuredPosition
    | FitStep
    | MarkRule
    | Layout
    | Backdrop
    | Acceptance
    | PositionChoice
    | Antenna
    | BaseSetup
    | Occupation
    | Equipment
    | ObservationSet
    | NetworkStep
    | DesignStep
    | EpochsStep
    | Setup
    | TraverseBook
    | LevelBook
    | TwoFigures
    | Centre
    | SpaceFit
    | InstrumentModel
    | TapedDistance
    | MarkVelocity
)
KINDS: dict[str, type[Record]] = {
    "job": JobInfo,
    "frame": FrameRecord,
    "mark": Mark,
    "given": GivenPosition,
    "measured": MeasuredPosition,
    "fit": FitStep,
    "mark rule": MarkRule,
    "layout": Layout,
    "backdrop": Backdrop,
    "acceptance": Acceptance,
    "choice": PositionChoice,
    "antenna": Antenna,
    "base": BaseSetup,
    "occupation": Occupation,
    "equipment": Equipment,
    "observations": ObservationSet,
    "network": NetworkStep,
    "design": DesignStep,
    "epochs": EpochsStep,
    "setup": Setup,
    "traverse": TraverseBook,
    "levelling": LevelBook,
    "figures": TwoFigures,
    "centre": Centre,
    "space fit": SpaceFit,
    "instrument": InstrumentModel,
    "taped": TapedDistance,
    "velocity": MarkVelocity,
}
KIND_OF: dict[type, str] = {cls: kind for kind, cls in KINDS.items()}
