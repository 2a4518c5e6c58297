"""GPS time in ticks of 100 ns since 6 January 1980, exact to the last digit of a RINEX time; other time
systems of files are brought to it.

GLONASS files count UTC, BeiDou's own time is 14 s behind GPS time, Galileo's and QZSS's agree with it to
nanoseconds (RINEX 3.05, section 4.1). Leap seconds: IERS Bulletins C.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import numpy as np
from numpy.typing import NDArray

TICKS = 10_000_000
_EPOCH = datetime(1980, 1, 6, tzinfo=UTC)
_EPOCH_DAY = np.datetime64("1980-01-06", "D")
#: BeiDou time is behind GPS time by so many seconds.
BDT_BEHIND = 14
#: First days (UTC) from which GPS time is one second more ahead of UTC.
_LEAPS = (
    "1981-07-01", "1982-07-01", "1983-07-01", "1985-07-01", "1988-01-01", "1990-01-01", "1991-01-01",
    "1992-07-01", "1993-07-01", "1994-07-01", "1996-01-01", "1997-07-01", "1999-01-01", "2006-01-01",
    "2009-01-01", "2012-07-01", "2015-07-01", "2017-01-01",
)  # fmt: skip
_LEAP_DAYS = np.array(_LEAPS, dtype="datetime64[D]")
IntArray = NDArray[np.int64]


def ticks_of(
    year: IntArray, month: IntArray, day: IntArray, hour: IntArray, minute: IntArray, tick: IntArray
) -> IntArray:
    """Ticks (k,) of calendar times (k,) as they are written; `tick` are those since the minute."""
    months = (year - 1970) * 12 + month - 1
    days = months.astype("datetime64[M]").astype("datetime64[D]") + (day - 1).astype("timedelta64[D]")
    whole = (days - _EPOCH_DAY).astype(np.int64) * 86400 + hour * 3600 + minute * 60
    return np.asarray(whole * TICKS + tick, dtype=np.int64)


def leap_seconds(ticks: IntArray) -> IntArray:
    """GPS time less UTC (k,), seconds, at times in UTC."""
    days = _EPOCH_DAY + (ticks // (86400 * TICKS)).astype("timedelta64[D]")
    return np.searchsorted(_LEAP_DAYS, days, side="right").astype(np.int64)


def to_gps(ticks: IntArray, system: str) -> IntArray:
    """Times (k,) of a file's time system (GPS, GLO, GAL, BDT, QZS, UTC) in GPS time."""
    if system in ("GLO", "UTC"):
        return ticks + leap_seconds(ticks) * TICKS
    return ticks + BDT_BEHIND * TICKS if system == "BDT" else ticks


def iso(ticks: int | None) -> str | None:
    """A time as ISO 8601 without a zone, with as many decimals as it has."""
    if ticks is None:
        return None
    seconds, rest = divmod(int(ticks), TICKS)
    text = (_EPOCH + timedelta(seconds=seconds)).strftime("%Y-%m-%dT%H:%M:%S")
    return f"{text}.{rest:07d}".rstrip("0") if rest else text


def day_of(ticks: int) -> str:
    """The day of a time, YYYY-MM-DD."""
    return (_EPOCH + timedelta(seconds=int(ticks) // TICKS)).strftime("%Y-%m-%d")


def decimal_year(ticks: int) -> float:
    """A time as a year with decimals."""
    when = _EPOCH + timedelta(seconds=int(ticks) / TICKS)
    start = datetime(when.year, 1, 1, tzinfo=UTC)
    return when.year + (when - start) / (datetime(when.year + 1, 1, 1, tzinfo=UTC) - start)
