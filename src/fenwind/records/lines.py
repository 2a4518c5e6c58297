"""Records of work along lines of marks: traverses and levelling, as booked. Metres, radians, one sigma."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from fenwind.records.table_columns import require_one_length

BookKind = Literal["azimuth", "right", "left", "deflection"]
TraverseMethod = Literal["none", "compass", "transit", "lsq"]
HeightsBy = Literal["distance", "setups"]
LengthKind = Literal["km", "setups"]


@dataclass(frozen=True, slots=True, kw_only=True)
class TraverseBook:
    """A traverse, a column a field and a row a leg or a side shot, in the order of the walk. here, there,
    back, close, fore: ids of marks. distance_m horizontal; dh_m: height of `there` less that of `here`,
    None without. The start line is an azimuth, or leads to the mark `back`; the closing line likewise, to
    `fore`. close: empty for an open traverse; loop: `close` is the start, under another name or its own.
    grid: distances go by the factors of their lines. spec: the n of 1:n asked for; angle_limit_s: of the
    whole figure, None for twice the sigma times the root of the number of angles. setups: ids of those
    that the rows are collected from, in the order of the walk; then it has no rows of its own."""

    id: str
    name: str
    frame: str
    source: str = ""
    here: tuple[str, ...] = ()
    there: tuple[str, ...] = ()
    kind: tuple[BookKind, ...] = ()
    direction_rad: tuple[float, ...] = ()
    distance_m: tuple[float, ...] = ()
    dh_m: tuple[float | None, ...] = ()
    back: str = ""
    start_azimuth_rad: float | None = None
    close: str = ""
    loop: bool = False
    fore: str = ""
    closing_azimuth_rad: float | None = None
    closing_angle_rad: float | None = None
    balance: bool = False
    method: TraverseMethod = "compass"
    heights_by: HeightsBy = "distance"
    grid: bool = True
    sigma_angle_s: float = 5.0
    sigma_distance_m: float = 0.003
    sigma_distance_ppm: float = 2.0
    spec: float = 10_000.0
    angle_limit_s: float | None = None
    setups: tuple[str, ...] = ()
    active: bool = True

    def __post_init__(self) -> None:
        require_one_length(self, "here", "there", "kind", "direction_rad", "distance_m", "dh_m")


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelBook:
    """Levelling, a row a run. first, second: ids of marks; dh_m: height of `second` less that of `first`;
    length in km or set-ups. free: ids of marks whose known height is not held; off: rows left out.
    sigma_m, limit_m: for a length of 1."""

    id: str
    name: str
    frame: str
    source: str = ""
    first: tuple[str, ...] = ()
    second: tuple[str, ...] = ()
    dh_m: tuple[float, ...] = ()
    length: tuple[float, ...] = ()
    length_kind: LengthKind = "km"
    free: tuple[str, ...] = ()
    off: tuple[int, ...] = ()
    sigma_m: float = 0.001
    limit_m: float = 0.004
    active: bool = True

    def __post_init__(self) -> None:
        require_one_length(self, "first", "second", "dh_m", "length")
