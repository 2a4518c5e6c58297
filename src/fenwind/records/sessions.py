"""Records of base and rover sessions: antennas, bases, occupations. Metres, radians, one sigma;
covariances of vectors in local east, north, up at the rover."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from fenwind.geodesy.antenna import Method

#: How several occupations of a mark count in its mean.
MeanWeights = Literal["equal", "covariance", "pdop"]
BaseWord = Literal["known", "average", "tie", "place"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Antenna:
    """A model of antenna, as geodesy.antenna.AntennaModel has it."""

    id: str
    model: str
    radius_m: float = 0.0
    rim_offset_m: float = 0.0
    mount_offset_m: float = 0.0
    arp_to_l1_m: float = 0.0
    active: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class BaseSetup:
    """A base that was started. word: what its position stands on now; mark: id of the mark of `known` and
    of `tie`; average_*: mean of its own autonomous solution at its ARP, with sigmas; place_*: ground below
    it, as somebody gave it. broadcast_*: geocentric ARP that was read from its stream, or set."""

    id: str
    name: str
    antenna: str = ""
    height_m: float = 0.0
    method: Method = "vertical"
    started: str = ""
    word: BaseWord = "average"
    mark: str = ""
    average_lat_rad: float | None = None
    average_lon_rad: float | None = None
    average_h_m: float | None = None
    average_sigma_h_m: float | None = None
    average_sigma_v_m: float | None = None
    average_epochs: int = 0
    place_lat_rad: float | None = None
    place_lon_rad: float | None = None
    place_h_m: float | None = None
    place_sigma_h_m: float | None = None
    place_sigma_v_m: float | None = None
    broadcast_x_m: float | None = None
    broadcast_y_m: float | None = None
    broadcast_z_m: float | None = None
    read_back: bool = False
    message_set: str = ""
    active: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Occupation:
    """A mark measured by a rover from a base: the vector from the base's ARP to the rover's, geocentric,
    with its covariance; how high the antenna was; what the epochs were like (step_m: the last digit of the
    receiver's sentences; moved_m: how far the position broadcast leapt meanwhile; off_m: how far it was
    from the one known before). check: it is compared and takes no part. finished False: it ended by
    itself. Its epochs are kept under its id."""

    id: str
    mark: str
    base: str
    started: str = ""
    ended: str = ""
    epochs: int = 0
    antenna: str = ""
    height_m: float = 0.0
    method: Method = "vertical"
    dx_m: float | None = None
    dy_m: float | None = None
    dz_m: float | None = None
    cee_m2: float = 0.0
    cen_m2: float = 0.0
    ceu_m2: float = 0.0
    cnn_m2: float = 0.0
    cnu_m2: float = 0.0
    cuu_m2: float = 0.0
    solution: str = ""
    pdop: float | None = None
    age_s: float | None = None
    spread_e_m: float | None = None
    spread_n_m: float | None = None
    spread_u_m: float | None = None
    effective: float = 0.0
    step_m: float = 0.0
    message_set: str = ""
    moved_m: float = 0.0
    off_m: float = 0.0
    check: bool = False
    finished: bool = True
    active: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Equipment:
    """What the desk measures with: where the receivers are listened to and spoken to (places as the
    command line has them, never a password), the rover's antenna, and when an epoch counts. max_*: None for
    no limit. weights: of several occupations in the mean of a mark. What receivers are set to: mask_deg,
    strength_dbhz: the lowest and the weakest satellite; rate_hz: sentences a second of a rover; interval_s:
    seconds between raw epochs; naming: of raw files, as devices.raw_files.raw_name has it; message_set and
    channel of the corrections.
    instrument: where the total station is spoken to; target_m, prism_m: height and constant of the prism that
    is carried; both_faces: every target is read in both."""

    id: str = "equipment"
    rover: str = ""
    corrections: str = ""
    base: str = ""
    base_control: str = ""
    rover_control: str = ""
    antenna: str = ""
    height_m: float = 2.0
    method: Method = "vertical"
    epochs: int = 60
    solution: str = "fixed"
    max_sigma_h_m: float | None = None
    max_sigma_v_m: float | None = None
    max_pdop: float | None = None
    weights: MeanWeights = "equal"
    mask_deg: float = 10.0
    rate_hz: int = 1
    interval_s: float = 1.0
    strength_dbhz: float = 0.0
    naming: str = "{receiver}-{date}-{time}"
    message_set: str = "msm7"
    channel: int = 1
    instrument: str = ""
    target_m: float = 1.5
    prism_m: float = 0.0
    both_faces: bool = False
    active: bool = True
