"""Records of a network: observations taken in from a file, and the step that adjusts them. Metres, radians,
one sigma."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from fenwind.records.table_columns import require_one_length

NetworkDatum = Literal["hold", "weighted", "free"]
#: What stands for the id of a set where a network adjusts all that the job has observed.
EVERYTHING = "everything"
#: A row of a set: its number, or in a set that is gathered the key it has there.
RowKey = int | str


@dataclass(frozen=True, slots=True, kw_only=True)
class ObservationSet:
    """Observations of one file, a column a field, a row an observation. at, to, back: ids of marks, back the
    first target of an angle, else empty; setup: which directions belong together; line: where the row stood
    in the file; value: one number, three of a vector; covariance: one variance, or the upper triangle of a
    vector's (geocentric axes). origin: in a set that is gathered and not kept, what each row comes from."""

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
    origin: tuple[str, ...] = ()
    active: bool = True

    def __post_init__(self) -> None:
        require_one_length(
            self,
            "kind",
            "at",
            "to",
            "back",
            "setup",
            "group",
            "hi_m",
            "ht_m",
            "value",
            "covariance",
            optional=("line", "origin"),
        )

    def key(self, row: int) -> RowKey:
        """What a row is left out by."""
        return self.origin[row] if self.origin else row


@dataclass(frozen=True, slots=True, kw_only=True)
class NetworkStep:
    """Adjust the observations of a set, or everything, in a frame. datum: what is given there is held, has
    weight, or only says where the free network lies; hold: ids of the marks held, empty for all that are
    given. off: rows left out. slope: angles and height differences follow the plumb line of the frame's
    geoid. k: coefficient of refraction; alpha, power: of the tests. loop_limit: what loops may miss by, in m
    and a part of their length, None for 3.29 of their sigmas. components: variances of each group times what
    the residuals say; robust: a second opinion on what stands out; down: factors by which sigmas of some
    rows are enlarged; centring_m: of instruments and targets, along an axis; biases: (kind, group) that are
    found as well."""

    id: str
    name: str
    frame: str
    observations: str
    datum: NetworkDatum = "hold"
    hold: tuple[str, ...] = ()
    off: tuple[RowKey, ...] = ()
    slope: bool = True
    k: float = 0.13
    alpha: float = 0.001
    power: float = 0.80
    loop_limit: tuple[float, float] | None = None
    components: bool = False
    robust: bool = False
    down: tuple[tuple[RowKey, float], ...] = ()
    centring_m: float = 0.0
    biases: tuple[tuple[str, str], ...] = ()
    active: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class DesignStep:
    """A network that is planned in a frame, a row a line: kind ("vector", "sighting", "levelling"), at, to:
    ids of marks. marks: ids of marks that are not given in the frame, with where they are planned (e, n,
    height). off: rows left out. limit_m: what 95 % ellipses may have as their semi-axis. The rest: what
    lines are worth, as procedures.network_design.Accuracy has it."""

    id: str
    name: str
    frame: str
    kind: tuple[str, ...] = ()
    at: tuple[str, ...] = ()
    to: tuple[str, ...] = ()
    off: tuple[int, ...] = ()
    marks: tuple[tuple[str, float, float, float], ...] = ()
    limit_m: float = 0.010
    vector_m: float = 0.003
    vector_part: float = 0.5e-6
    direction_s: float = 3.0
    zenith_s: float = 4.0
    distance_m: float = 0.002
    distance_part: float = 2e-6
    centring_m: float = 0.001
    levelling_m: float = 0.0015
    active: bool = True

    def __post_init__(self) -> None:
        require_one_length(self, "kind", "at", "to")


@dataclass(frozen=True, slots=True, kw_only=True)
class EpochsStep:
    """Two networks (ids of their steps) that are epochs of one, compared. stable: ids of marks taken for
    stable, empty to have them found; alpha: level of the tests."""

    id: str
    name: str
    first: str
    second: str
    stable: tuple[str, ...] = ()
    alpha: float = 0.01
    active: bool = True
