"""Positions with their covariance as SINEX, the open format of solutions (Solution INdependent EXchange
format, version 2.02; its columns from memory). Geocentric metres.

Read: SOLUTION/ESTIMATE with STAX, STAY and STAZ, and SOLUTION/MATRIX_ESTIMATE, lower or upper triangle, as
covariance, correlation or its inverse. Other parameters are passed over: their columns are left out.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FormatError
from fenwind.exchange.files import read_bytes

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]

AXES = ("STAX", "STAY", "STAZ")
#: Parameters of a file, at most: their matrix is kept whole.
MOST = 6000


@dataclass(frozen=True, kw_only=True, eq=False)
class Solution:
    """m stations: code of four characters, description; xyz (3, m), covariance (3m, 3m) station by station;
    epoch in years of each coordinate, nan where not said."""

    codes: tuple[str, ...]
    descriptions: tuple[str, ...]
    xyz: FloatArray
    covariance: FloatArray
    epoch: float = math.nan


@dataclass
class _Read:
    """What was read so far."""

    descriptions: dict[str, str] = field(default_factory=dict)
    place: dict[tuple[str, str], int] = field(default_factory=dict)
    values: dict[int, float] = field(default_factory=dict)
    sigmas: dict[int, float] = field(default_factory=dict)
    epochs: list[float] = field(default_factory=list)
    cells: list[tuple[int, int, float]] = field(default_factory=list)
    form: str = ""


def read_sinex(path: str) -> Solution:
    """The stations of a file. Raises FormatError with the line that cannot be read, or says what lacks."""
    found = _Read()
    block = ""
    lines = read_bytes(path).decode("latin-1").splitlines()
    if not lines or not lines[0].startswith("%=SNX"):
        raise FormatError(
            "this is no SINEX file: it does not begin with %=SNX", where=path, hint="Choose another"
        )
    for number, line in enumerate(lines, 1):
        if line.startswith("+"):
            block = line[1:].strip()
            if block.startswith("SOLUTION/MATRIX_ESTIMATE"):
                found.form = block.split()[-1]
        elif line.startswith("-"):
            block = ""
        elif line[:1] == " " and block:
            try:
                _line(found, block, line)
            except (ValueError, IndexError):
                raise FormatError(
                    f"a line of {block} cannot be read", where=f"{path}, line {number}",
                    hint="Correct it, or write the file again",
                ) from None  # fmt: skip
    return _solution(found, path)


def _line(found: _Read, block: str, line: str) -> None:
    if block == "SITE/ID":
        found.descriptions[line[1:5].strip()] = line[21:43].strip()
    elif block == "SOLUTION/ESTIMATE":
        index, kind, code = int(line[1:6]), line[7:13].strip(), line[14:18].strip()
        if kind in AXES:
            found.place[code, kind] = index
            found.values[index], found.sigmas[index] = float(line[47:68]), float(line[69:80])
            found.epochs.append(_year(line[27:39]))
    elif block.startswith("SOLUTION/MATRIX_ESTIMATE"):
        first, second, *values = line.split()
        for k, value in enumerate(values):
            found.cells.append((int(first), int(second) + k, float(value)))


def _year(text: str) -> float:
    """Year of YY:DDD:SSSSS; nan for zeros."""
    year, day, second = (int(part) for part in text.split(":"))
    if not (year or day or second):
        return math.nan
    whole = year + (1900 if year > 50 else 2000) if year < 100 else year
    length = 366 if whole % 4 == 0 and (whole % 100 or whole % 400 == 0) else 365
    return whole + (day - 1 + second / 86400.0) / length


def _solution(found: _Read, path: str) -> Solution:
    codes = [c for c, kind in found.place if kind == "STAX"]
    codes = [c for c in codes if all((c, axis) in found.place for axis in AXES)]
    if not codes:
        raise FormatError("there is no station with X, Y and Z in it", where=path, hint="Choose another file")
    if found.form not in ("COVA", "CORR", "INFO") or not found.cells:
        raise FormatError(
            "there is no SOLUTION/MATRIX_ESTIMATE in it", where=path,
            hint="A solution without its covariance has no weight: take it in as a list of positions",
        )  # fmt: skip
    index = np.array([found.place[c, axis] for c in codes for axis in AXES])
    covariance, place = _covariance(found, path)
    rows = np.array([place[i] for i in index.tolist()])
    part = covariance[np.ix_(rows, rows)]
    if not np.isfinite(part).all() or not np.linalg.eigvalsh(part)[0] > 0.0:
        raise FormatError("its covariance is not positive definite", where=path, hint="Write it again")
    xyz = np.array([found.values[i] for i in index.tolist()]).reshape(-1, 3).T
    epochs = np.array(found.epochs)
    same = epochs.size and np.ptp(epochs) < 1e-6
    return Solution(
        codes=tuple(codes), descriptions=tuple(found.descriptions.get(c, "") for c in codes), xyz=xyz,
        covariance=part, epoch=float(epochs[0]) if same else math.nan,
    )  # fmt: skip


def _covariance(found: _Read, path: str) -> tuple[FloatArray, dict[int, int]]:
    """The whole matrix as covariance, and the row of each parameter in it by its number."""
    numbers = sorted({i for i, _, _ in found.cells} | {j for _, j, _ in found.cells} | set(found.values))
    if len(numbers) > MOST:
        raise FormatError(f"{len(numbers)} parameters are too many", where=path, hint=f"At most {MOST}")
    place = {number: k for k, number in enumerate(numbers)}
    whole = np.zeros((len(numbers), len(numbers)))
    for i, j, value in found.cells:
        whole[place[i], place[j]] = whole[place[j], place[i]] = value
    if found.form == "INFO":
        try:
            return np.asarray(np.linalg.inv(whole)), place
        except np.linalg.LinAlgError:
            raise FormatError("its normal matrix has no inverse", where=path, hint="Write it again") from None
    if found.form == "CORR":  # its diagonal holds the sigmas
        sigma = np.diag(whole).copy()
        np.fill_diagonal(whole, 1.0)
        whole = whole * sigma[:, None] * sigma[None]
    return whole, place


# Out
# ---------------------------------------------------------------------------------------------------------


def codes_of(names: Sequence[str]) -> list[str]:
    """A code of four characters for each name: the name where it fits and is alone, else a number."""
    out: list[str] = []
    for number, name in enumerate(names, 1):
        code = name.upper().replace(" ", "_")
        fits = len(code) <= 4 and code.isascii() and code not in out
        out.append(code if fits else f"{number:04d}")
    return out


def sinex_lines(
    names: Sequence[str], xyz: FloatArray, covariance: FloatArray, lat_lon_h: FloatArray, when: datetime,
    observations: int, epoch: float = math.nan,
) -> Iterator[str]:  # fmt: skip
    """Lines of a file: stations (3, m) with covariance (3m, 3m) station by station; lat_lon_h (3, m) degrees
    and metres; when: the time it is written at; epoch: of the coordinates, in years."""
    codes, m = codes_of(names), len(names)
    stamp = _stamp(when.year + (when - datetime(when.year, 1, 1, tzinfo=when.tzinfo)).total_seconds() / (
        86400.0 * (366 if when.year % 4 == 0 else 365)))  # fmt: skip
    at = _stamp(epoch) if math.isfinite(epoch) else "00:000:00000"
    yield f"%=SNX 2.02 FWD {stamp} FWD {at} {at} C {3 * m:05d} 2 S"
    yield "+FILE/REFERENCE"
    yield " DESCRIPTION        Adjusted network"
    yield " SOFTWARE           Fenwind"
    yield "-FILE/REFERENCE"
    yield "+SITE/ID"
    yield "*CODE PT __DOMES__ T _STATION DESCRIPTION__ APPROX_LON_ APPROX_LAT_ _APP_H_"
    for code, name, (lat, lon, h) in zip(codes, names, lat_lon_h.T.tolist(), strict=True):
        plain = name.encode("ascii", "replace").decode()[:22]
        yield f" {code:<4}  A           C {plain:<22} {_dms(lon % 360.0)} {_dms(lat)} {h:7.1f}"
    yield "-SITE/ID"
    yield "+SOLUTION/STATISTICS"
    yield f" NUMBER OF OBSERVATIONS         {observations:22d}"
    yield "-SOLUTION/STATISTICS"
    yield "+SOLUTION/ESTIMATE"
    yield "*INDEX TYPE__ CODE PT SOLN _REF_EPOCH__ UNIT S __ESTIMATED VALUE____ _STD_DEV___"
    sigma = np.sqrt(np.maximum(np.diag(covariance), 0.0))
    for k in range(3 * m):
        value, axis = float(xyz[k % 3, k // 3]), AXES[k % 3]
        yield (
            f" {k + 1:5d} {axis:<6} {codes[k // 3]:<4}  A    1 {at} m    2 {value:21.14E} {sigma[k]:11.5E}"
        )
    yield "-SOLUTION/ESTIMATE"
    yield "+SOLUTION/MATRIX_ESTIMATE L COVA"
    yield "*PARA1 PARA2 ____PARA2+0__________ ____PARA2+1__________ ____PARA2+2__________"
    for i in range(3 * m):
        for j in range(0, i + 1, 3):
            cells = " ".join(f"{covariance[i, c]:21.14E}" for c in range(j, min(j + 3, i + 1)))
            yield f" {i + 1:5d} {j + 1:5d} {cells}"
    yield "-SOLUTION/MATRIX_ESTIMATE L COVA"
    yield "%ENDSNX"


def _stamp(year: float) -> str:
    """YY:DDD:SSSSS of a year with its part."""
    whole = int(year)
    length = 366 if whole % 4 == 0 and (whole % 100 or whole % 400 == 0) else 365
    seconds = round((year - whole) * length * 86400.0)
    return f"{whole % 100:02d}:{seconds // 86400 + 1:03d}:{seconds % 86400:05d}"


def _dms(degrees: float) -> str:
    tenths = round(abs(degrees) * 36000.0)
    d, m, s = tenths // 36000, tenths // 600 % 60, tenths % 600 / 10.0
    sign = "-" if degrees < 0.0 else ""
    return f"{sign + str(d):>3} {m:2d} {s:4.1f}"
