"""What a job hands over, whatever the format: adopted positions with all that is known of their marks, and
the system in words."""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FormatError
from fenwind.geodesy.axes import own_axes
from fenwind.geodesy.conversion import convert
from fenwind.geodesy.frames import Frame, FrameSpec, crs_unit_metres, height_words, open_frame
from fenwind.job.adopted import Adopted
from fenwind.job.appearance import appearance
from fenwind.job.state import JobState

FloatArray = NDArray[np.float64]
WORDS = ("class", "code", "monument", "description", "source", "because")


@dataclass(frozen=True, kw_only=True, eq=False)
class Outgoing:
    """k positions of one frame, metres, nan where there is none. words: texts (k,) by WORDS. symbols: by
    `MarkSymbol` names with "by state" resolved. labelled (k,). spec: frame with its grid's full path. others:
    the same marks' positions in other frames of the job, (3, k) each."""

    title: str
    spec: FrameSpec
    names: tuple[str, ...]
    e_m: FloatArray
    n_m: FloatArray
    height_m: FloatArray
    sigma_h_m: FloatArray
    sigma_v_m: FloatArray
    words: dict[str, tuple[str, ...]]
    symbols: tuple[str, ...]
    labelled: NDArray[np.bool_]
    decimals: int = 4
    others: dict[str, tuple[FrameSpec, FloatArray]] = field(default_factory=dict)

    @cached_property
    def _frame(self) -> Frame:
        return open_frame(self.spec)

    @property
    def system_words(self) -> str:
        """The system in one sentence: name, code, unit, heights, epoch. An export always carries it."""
        return frame_words(self.spec)

    def axis_metres(self) -> float:
        """Metres in a unit of the system's own axes; of the frame's unit where it has no datum."""
        from fenwind.quantities.lengths import UNITS

        return (
            crs_unit_metres(self._frame.crs) if self._frame.crs is not None else UNITS[self.spec.unit].metres
        )

    def system_axes(self) -> tuple[FloatArray, FloatArray]:
        """First and second coordinate as the system itself counts them, southwards or westwards where it
        does, in its unit; easting and northing of a local plane."""
        east, north = self.e_m / self.axis_metres(), self.n_m / self.axis_metres()
        return own_axes(self._frame.crs, east, north) if self._frame.crs is not None else (east, north)

    def wkt(self) -> str:
        """WKT2 of the system, empty for a local plane."""
        return str(self._frame.crs.to_wkt()) if self._frame.crs is not None else ""

    def geodetic(self) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Latitude, longitude in radians and ellipsoidal height in metres in the frame's own datum. Heights
        above a local zero give nan.

        Raises FormatError when the frame has no datum.
        """
        if not self._frame.has_datum:
            raise FormatError(
                f"{self.spec.name} is a local plane; latitude and longitude are not known in it",
                where=self.title,
                hint="Hand over in a frame with a datum, or choose a format with plane coordinates",
            )
        lat, lon = self._frame.inverse(self.e_m, self.n_m)
        if self.spec.height.kind not in ("ellipsoid", "geoid", "vertical"):
            return lat, lon, np.full(lat.shape, math.nan)
        return lat, lon, self.height_m + self._frame.geoid_height(lat, lon)

    @cached_property
    def _wgs84(self) -> tuple[FloatArray, FloatArray, FloatArray, str]:
        lat, lon, h = self.geodetic()
        found = convert(
            self._frame.geodetic_name, "EPSG:4979", np.degrees(lon), np.degrees(lat), h, self.spec.epoch_year
        )
        notes = " ".join(n.text for n in found.notes)
        accuracy = f", {found.accuracy_m:g} m" if found.accuracy_m is not None else ""
        words = f"To WGS 84 by {found.operation}{accuracy}. {notes}".strip()
        return np.radians(found.second), np.radians(found.first), found.height, words

    def wgs84(self) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Latitude, longitude in radians and ellipsoidal height in WGS 84. Raises FormatError when the frame
        has no datum."""
        return self._wgs84[:3]

    @property
    def wgs84_words(self) -> str:
        """How WGS 84 was reached, with the stated accuracy and what may be wrong with it."""
        return self._wgs84[3]

    def left_out(self, geographic: bool) -> tuple[str, ...]:
        """Names of marks that have no place to be written: no position, or, for formats that hold latitude
        and longitude, none of those."""
        first, second = self.wgs84()[:2] if geographic else (self.e_m, self.n_m)
        lacking = np.flatnonzero(~(np.isfinite(first) & np.isfinite(second)))
        return tuple(self.names[i] for i in lacking)

    def only(self, names: frozenset[str]) -> Outgoing:
        """The named marks alone."""
        rows = np.array([i for i, n in enumerate(self.names) if n in names], dtype=np.intp)
        return replace(
            self,
            names=tuple(self.names[i] for i in rows),
            e_m=self.e_m[rows],
            n_m=self.n_m[rows],
            height_m=self.height_m[rows],
            sigma_h_m=self.sigma_h_m[rows],
            sigma_v_m=self.sigma_v_m[rows],
            words={k: tuple(v[i] for i in rows) for k, v in self.words.items()},
            symbols=tuple(self.symbols[i] for i in rows),
            labelled=self.labelled[rows],
            others={k: (spec, values[:, rows]) for k, (spec, values) in self.others.items()},
        )


def frame_words(spec: FrameSpec) -> str:
    """A frame in one sentence: name, code, unit, what heights are counted from, epoch."""
    from fenwind.quantities.lengths import UNITS

    code = (
        f" ({spec.crs})"
        if spec.crs.upper().startswith("EPSG:") and spec.crs.upper() not in spec.name.upper()
        else ""
    )
    epoch = f", epoch {spec.epoch_year:g}" if spec.epoch_year is not None else ""
    epoch += f", moving with {spec.plate}" if spec.plate else ""
    return f"{spec.name}{code}, {UNITS[spec.unit].plural}, heights above {height_words(spec.height)}{epoch}."


def outgoing(state: JobState, adopted: dict[str, Adopted], frame: str, spec: FrameSpec) -> Outgoing:
    """Adopted positions of a frame as they are handed over; `spec` is the frame's recipe with its grid's full
    path."""
    own = adopted[frame]
    marks = {m.name: m for m in state.marks.values()}
    given = {g.mark: g for g in state.given.values() if g.active and g.frame == frame}
    words: dict[str, list[str]] = {key: [] for key in WORDS}
    symbols, labelled = appearance(state, own)
    for i, name in enumerate(own.names):
        mark = marks[name]
        record = given.get(mark.id)
        texts = (
            mark.mark_class,
            mark.code,
            mark.monument,
            mark.description,
            record.source if record is not None else "",
            own.why[i],
        )
        for key, text in zip(WORDS, texts, strict=True):
            words[key].append(text)
    return Outgoing(
        title=state.info.name,
        spec=spec,
        names=own.names,
        e_m=own.e_m,
        n_m=own.n_m,
        height_m=own.height_m,
        sigma_h_m=own.sigma_h_m,
        sigma_v_m=own.sigma_v_m,
        words={k: tuple(v) for k, v in words.items()},
        symbols=symbols,
        labelled=labelled,
        decimals=state.info.decimals,
        others={k: (state.frames[k].spec, _aligned(own, a)) for k, a in adopted.items() if k != frame},
    )


def _aligned(own: Adopted, other: Adopted) -> FloatArray:
    """Positions (3, k) of `other` in the order of `own`, nan where it has none."""
    rows = np.array([other.index.get(name, -1) for name in own.names], dtype=np.intp)
    table = np.stack([other.e_m, other.n_m, other.height_m])
    if not table.size:
        return np.full((3, rows.size), math.nan)
    return np.where(rows >= 0, table[:, rows], math.nan)
