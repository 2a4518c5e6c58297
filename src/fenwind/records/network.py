"""Records of a network: observations taken in from a file, and the step that adjusts them. Metres, radians,
one sigma."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

NetworkDatum = Literal["hold", "weighted", "free"]


@dataclass(frozen=True, slots=True, kw_only=True)
class ObservationSet:
    """Observations of one file, a column a field, a row an observation. at, to, back: ids of marks, back the
    first target of an angle, else empty; setup: which directions belong together; line: where the row stood
    in the file; value: one number, three of a vector; covariance: one variance, or the upper triangle of a
    vector's (geocentric axes)."""

    id: str
    name: str
    source: str = ""
    line: tuple[int, ...] = ()
    kind: tuple[str, ...] = ()
    at: tuple[str, ...] = ()
    to: tuple[str, ...] = ()
    back: tuple[str, ...] = ()
    setup: tuple[str, ...] = ()
    group: tuple[str, ...] = ()
    hi_m: tuple[float, ...] = ()
    ht_m: tuple[float, ...] = ()
    value: tuple[tuple[float, ...], ...] = ()
    covariance: tuple[tuple[float, ...], ...] = ()
    active: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class NetworkStep:
    """Adjust the observations of a set in a frame. datum: what is given there is held, has weight, or only
    says where the free network lies; hold: ids of the marks held, empty for all that are given. off: rows
    of the set left out. slope: angles and height differences follow the plumb line of the frame's geoid.
    k: coefficient of refraction; alpha, power: of the tests. loop_limit: what loops may miss by, metres
    and a part of their length, None for 3.29 of their sigmas."""

    id: str
    name: str
    frame: str
    observations: str
    datum: NetworkDatum = "hold"
    hold: tuple[str, ...] = ()
    off: tuple[int, ...] = ()
    slope: bool = True
    k: float = 0.13
    alpha: float = 0.001
    power: float = 0.80
    loop_limit: tuple[float, float] | None = None
    active: bool = True
