"""Epochs from a stream of NMEA 0183, by pynmeagps: partial lines, wrong checksums, garbage and floods are
counted and survived."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from datetime import UTC, date, datetime, timedelta

from pynmeagps import calc_checksum, get_parts
from pynmeagps.exceptions import NMEAMessageError

from fenwind.quantities.angles import RAD_PER_DEGREE

#: GGA's quality in words.
SOLUTIONS = {1: "autonomous", 2: "code", 4: "fixed", 5: "float"}
LONGEST_LINE = 1024
#: Nobody surveys higher or deeper, and no receiver that works is less certain, metres.
MAX_HEIGHT_M, MAX_SIGMA_M = 100_000.0, 1e6


@dataclass(frozen=True, slots=True, kw_only=True)
class Epoch:
    """One epoch of a receiver: time in UTC, position (radians, ellipsoidal metres), solution, satellites,
    sigmas of east, north, up in metres (None without GST), PDOP and HDOP (None without), age of the
    corrections, decimals of the minutes and of the height as they were written."""

    time: datetime
    lat: float
    lon: float
    h: float
    solution: str
    satellites: int
    sigma: tuple[float, float, float] | None = None
    pdop: float | None = None
    hdop: float | None = None
    age: float | None = None
    decimals: tuple[int, int] = (0, 0)


@dataclass
class Counts:
    """Counts of sentences read, with a wrong checksum, that could not be read, bytes that were none, and
    epochs that had come already."""

    sentences: int = 0
    wrong: int = 0
    unread: int = 0
    garbage: int = 0
    repeated: int = 0


@dataclass
class NmeaReader:
    """Feed it bytes; it gives whole epochs: an epoch is done when the next begins, or RMC ends it.

    satellites: name to elevation, azimuth, C/N0 of the last sky that was told whole.
    """

    counts: Counts = field(default_factory=Counts)
    satellites: dict[str, tuple[int, int, int]] = field(default_factory=dict)
    without_height: int = 0
    _buffer: bytes = b""
    _date: date | None = None
    _open: Epoch | None = None
    _sky: dict[str, tuple[int, int, int]] | None = None  # as it is being told
    _sigma: tuple[float, tuple[float, float, float]] | None = None  # of GST, with its time of day
    _tag: float = math.nan  # time of day of the epoch that is open
    _told: datetime | None = None  # time of the epoch given last

    def feed(self, data: bytes) -> list[Epoch]:
        """Epochs that are whole by now."""
        self._buffer += data
        out: list[Epoch] = []
        *lines, self._buffer = self._buffer.split(b"\n")
        if len(self._buffer) > LONGEST_LINE:
            self.counts.garbage += len(self._buffer)
            self._buffer = b""
        for line in lines:
            out += self._line(line.strip())
        return out

    def _line(self, line: bytes) -> list[Epoch]:
        start = line.rfind(b"$")
        if start < 0 or len(line) > LONGEST_LINE:
            self.counts.garbage += len(line)
            return []
        self.counts.garbage += start
        # Only cells are asked for: what each means is read where it is used, which most never are.
        try:
            content, talker, kind, cells, checksum = get_parts(line[start:])
        except NMEAMessageError:
            self.counts.unread += 1
            return []
        if checksum.upper() != calc_checksum(content):
            self.counts.wrong += 1
            return []
        try:
            return self._sentence(talker, [kind, *cells])
        except (ValueError, IndexError, OverflowError):
            self.counts.unread += 1
            return []

    def _sentence(self, talker: str, cells: list[str]) -> list[Epoch]:
        self.counts.sentences += 1
        kind = cells[0]
        if kind == "GGA":
            done = self._finish()
            self._gga(cells)
            return done
        if kind == "RMC":
            self._rmc(cells)
        elif kind == "GST":
            self._gst(cells)
        elif kind == "GSA" and self._open is not None:
            self._open = replace(self._open, pdop=_some(cells[15]), hdop=_some(cells[16]))
        elif kind == "GSV":
            self._gsv(talker, cells)
        return self._finish() if kind == "RMC" else []

    def _gsv(self, talker: str, cells: list[str]) -> None:
        self._sky = {} if self._sky is None else self._sky
        for k in range(4, len(cells) - 3, 4):
            if cells[k]:
                elevation, azimuth, strength = (int(c or 0) for c in cells[k + 1 : k + 4])
                self._sky[f"{talker}{cells[k]}"] = (elevation, azimuth, strength)

    def _gst(self, cells: list[str]) -> None:
        """Sigmas belong to the epoch of their own time, which may come before or after them."""
        east, north, up = (float(cells[k]) for k in (7, 6, 8))
        if not all(0.0 < s <= MAX_SIGMA_M for s in (east, north, up)):
            raise ValueError(cells)
        self._sigma = (float(cells[1]), (east, north, up))
        self._join_sigma()

    def _join_sigma(self) -> None:
        if self._open is not None and self._sigma is not None and self._sigma[0] == self._tag:
            self._open = replace(self._open, sigma=self._sigma[1])

    def _finish(self) -> list[Epoch]:
        done, self._open = self._open, None
        if done is not None and done.time == self._told:
            self.counts.repeated += 1
            done = None
        self._told = done.time if done is not None else self._told
        if self._sky is not None:
            self.satellites, self._sky = self._sky, None
        return [done] if done is not None else []

    def _gga(self, cells: list[str]) -> None:
        quality = int(cells[6] or 0)
        if quality not in SOLUTIONS or not cells[2] or not cells[4]:
            return
        if not cells[9] or not cells[11]:
            self.without_height += 1  # no height above the ellipsoid, no epoch
            return
        lat, lon = _angle(cells[2], 2), _angle(cells[4], 3)
        decimals = len(cells[2].partition(".")[2]), len(cells[9].partition(".")[2])
        h = float(cells[9]) + float(cells[11])
        if not (abs(h) <= MAX_HEIGHT_M and abs(lat) <= 0.5 * math.pi and abs(lon) <= math.pi + 1e-9):
            raise ValueError(cells)
        self._open = Epoch(
            time=self._moment(cells[1]),
            lat=-lat if cells[3] == "S" else lat,
            lon=-lon if cells[5] == "W" else lon,
            h=h,
            solution=SOLUTIONS[quality],
            satellites=int(cells[7] or 0),
            age=_some(cells[13]) if len(cells) > 13 else None,
            decimals=decimals,
        )
        self._tag = float(cells[1])
        self._join_sigma()

    def _rmc(self, cells: list[str]) -> None:
        text = cells[9]
        if len(text) == 6:
            fresh = date(2000 + int(text[4:6]), int(text[2:4]), int(text[:2]))
            if self._date is None and self._open is not None:
                self._date = fresh
                self._open = replace(self._open, time=datetime.combine(fresh, self._open.time.timetz()))
                self._last = self._open.time
            self._date = fresh

    def _moment(self, text: str) -> datetime:
        """The time of a sentence; its day is that of the last RMC, or of this machine until one came."""
        seconds = float(text[4:])
        day = self._date or datetime.now(UTC).date()
        moment = datetime(day.year, day.month, day.day, int(text[:2]), int(text[2:4]), tzinfo=UTC)
        moment += timedelta(seconds=seconds)
        back = self._last - moment if self._last is not None else timedelta()
        if timedelta(hours=12) < back < timedelta(hours=36):
            moment += timedelta(days=1)  # midnight passed since that RMC
        self._last = moment
        return moment

    _last: datetime | None = None


def _some(text: str) -> float | None:
    try:
        value = float(text)
    except ValueError:
        return None
    return value if math.isfinite(value) else None


def _angle(text: str, digits: int) -> float:
    """Radians of degrees and minutes."""
    minutes = float(text[digits:])
    if not 0.0 <= minutes < 60.0:
        raise ValueError(text)
    return (int(text[:digits]) + minutes / 60.0) * RAD_PER_DEGREE
