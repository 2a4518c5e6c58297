"""A plane on the ground: a projected system scaled by one factor about an origin and shifted, as a derived
system in WKT2 and as a PROJ pipeline that others can follow."""

from __future__ import annotations

import itertools
import math
import re
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyproj
from numpy.typing import NDArray

from fenwind.errors import FrameError
from fenwind.geodesy.axes import from_greenwich
from fenwind.geodesy.frames import Frame, crs_unit_metres
from fenwind.quantities.angles import RAD_PER_DEGREE

FloatArray = NDArray[np.float64]

#: Positions that differ by less are the same, in the unit of a system's axes.
SAME = 1e-4
#: EPSG codes of the affine method and of its parameters (EPSG dataset, method 9624).
AFFINE = 9624
PARAMETERS = (("A0", 8623), ("A1", 8624), ("A2", 8625), ("B0", 8639), ("B1", 8640), ("B2", 8641))


@dataclass(frozen=True, slots=True, kw_only=True)
class GroundScale:
    """ground = origin + factor (grid - origin) + offset, in the unit of the grid."""

    factor: float
    origin: tuple[float, float] = (0.0, 0.0)
    offset: tuple[float, float] = (0.0, 0.0)

    def forward(self, grid: FloatArray) -> FloatArray:
        """Ground coordinates (2, k) of grid coordinates (2, k)."""
        origin, offset = np.array(self.origin)[:, None], np.array(self.offset)[:, None]
        return np.asarray(origin + self.factor * (grid - origin) + offset)

    def inverse(self, ground: FloatArray) -> FloatArray:
        """Grid coordinates (2, k) of ground coordinates (2, k)."""
        origin, offset = np.array(self.origin)[:, None], np.array(self.offset)[:, None]
        return np.asarray(origin + (ground - offset - origin) / self.factor)

    def __post_init__(self) -> None:
        for name in ("origin", "offset"):  # plain numbers, whose repr PROJ reads
            east, north = getattr(self, name)
            object.__setattr__(self, name, (float(east), float(north)))
        object.__setattr__(self, "factor", float(self.factor))

    @property
    def shift(self) -> tuple[float, float]:
        """What the affine form adds: ground = shift + factor grid."""
        e, n = ((1.0 - self.factor) * o + d for o, d in zip(self.origin, self.offset, strict=True))
        return e, n


def factors_at(frame: Frame, lat_rad: FloatArray, lon_rad: FloatArray, h_m: FloatArray) -> FloatArray:
    """(R + h) / (R k) at places with ellipsoidal heights: over 1 it lengthens the grid. R = sqrt(M N)."""
    scale, _ = frame.point_scale(lat_rad, lon_rad)
    return np.asarray(1.0 / (scale * frame.elevation_factor(lat_rad, h_m)))


def proj_pipeline(frame: Frame, scale: GroundScale) -> str:
    """From longitude and latitude in degrees on the frame's datum to the ground. Raises FrameError where PROJ
    does not give the frame's own positions."""
    crs = frame.crs
    assert crs is not None
    base = crs.geodetic_crs
    assert base is not None
    definition = pyproj.Transformer.from_crs(base.to_2d(), crs.to_2d(), always_xy=True).definition
    # Degrees from Greenwich come in: a step that turns from the system's own meridian falls away, the
    # projection's own step knows it.
    parts = [part.strip() for part in definition.replace("proj=pipeline", "").split("step ") if part.strip()]
    parts = [part for part in parts if not part.startswith("inv proj=longlat")]
    parts[0] = parts[0].replace("xy_in=grad", "xy_in=deg")
    meridian = base.prime_meridian
    if meridian is not None:  # PROJ's own figure for a named meridian differs from the dataset's
        degrees = math.degrees(float(meridian.longitude) * float(meridian.unit_conversion_factor))
        parts = [re.sub(r"pm=[a-z]+", f"pm={degrees!r}", part) for part in parts]
    steps = " ".join("+step " + " ".join(f"+{word}" for word in part.split()) for part in parts)
    (lat, lon), grid = _places(frame)
    plain = pyproj.Transformer.from_pipeline(f"+proj=pipeline {steps}")
    found = np.array(plain.transform(np.degrees(lon), np.degrees(lat)))
    east, north = _axes_in(found, grid, crs.name)
    if (east, north) != ((0, 1), (1, 1)):
        order = ",".join(f"{sign * (column + 1)}" for column, sign in (east, north))
        steps += f" +step +proj=axisswap +order={order}"
    e, n = scale.shift
    return (
        f"+proj=pipeline {steps} +step +proj=affine +xoff={e!r} +yoff={n!r} +s11={scale.factor!r} "
        f"+s22={scale.factor!r}"
    )


def _places(frame: Frame) -> tuple[tuple[FloatArray, FloatArray], FloatArray]:
    """Latitude and longitude (k,) of places in the area of a frame, and their positions (2, k) in the unit of
    its axes."""
    assert frame.crs is not None
    area = frame.crs.area_of_use
    west, south, east, north = (-10.0, -60.0, 30.0, 60.0) if area is None else area.bounds
    share = np.array([0.2, 0.45, 0.7])
    lat = RAD_PER_DEGREE * (south + share[[1, 0, 2]] * (north - south))
    lon = RAD_PER_DEGREE * (west + share * ((east - west) % 360.0 or 360.0))
    return (lat, lon), np.stack(frame.forward(lat, lon)) / crs_unit_metres(frame.crs)


Axis = tuple[int, int]


def _axes_in(found: FloatArray, grid: FloatArray, name: str) -> tuple[Axis, Axis]:
    """Column of easting and of northing, each with its sign, in what PROJ finds (2, k) for places with these
    eastings and northings. Polar systems and those counted south or west are told by nothing else as surely.
    Raises FrameError."""
    for east, north in ((0, 1), (1, 0)):
        for signs in itertools.product((1, -1), repeat=2):
            own = np.stack([signs[0] * found[east], signs[1] * found[north]])
            if np.abs(own - grid).max() < SAME:
                return (east, signs[0]), (north, signs[1])
    raise FrameError(
        f"PROJ places {name} otherwise than it is placed here, so nothing can be handed over for it",
        hint="Choose another frame of the same area",
    )


def derived_wkt(frame: Frame, scale: GroundScale) -> str:
    """WKT2:2019 of the derived projected system, by the affine method on the frame's own axes."""
    assert frame.crs is not None
    crs = frame.crs.to_2d()
    base = crs.to_json_dict()
    axes = base["coordinate_system"]["axis"]
    (lat, lon), grid = _places(frame)
    geodetic = crs.geodetic_crs
    assert geodetic is not None
    own = pyproj.Transformer.from_crs(geodetic, crs, always_xy=True)
    written = np.array(own.transform(*from_greenwich(geodetic, lat, lon)))
    if [axis["direction"] for axis in axes[:2]] == ["north", "east"]:  # which PROJ exchanges
        written = written[::-1]
    placed = _axes_in(written, grid, crs.name)
    if {axis["direction"] for axis in axes[:2]} <= {"north", "south"}:
        # PROJ writes a polar system below another with its easting first, whatever order the axes are in.
        axes.sort(key=lambda axis: "north" in axis["name"].lower())
    rows = [0.0, 0.0]
    for (column, sign), along in zip(placed, scale.shift, strict=True):
        rows[column] = sign * along
    unit = axes[0].get("unit", "metre")
    values = (rows[0], scale.factor, 0.0, rows[1], 0.0, scale.factor)
    parameters: list[dict[str, Any]] = [
        {
            "name": name, "value": value, "unit": unit if name in ("A0", "B0") else "unity",
            "id": {"authority": "EPSG", "code": code},
        }
        for (name, code), value in zip(PARAMETERS, values, strict=True)
    ]  # fmt: skip
    base.pop("$schema", None)
    derived = {
        "$schema": "https://proj.org/schemas/v0.7/projjson.schema.json",
        "type": "DerivedProjectedCRS",
        "name": f"{frame.spec.name} on the ground",
        "base_crs": base,
        "conversion": {
            "name": "Grid to ground",
            "method": {
                "name": "Affine parametric transformation", "id": {"authority": "EPSG", "code": AFFINE},
            },
            "parameters": parameters,
        },
        "coordinate_system": base["coordinate_system"],
    }  # fmt: skip
    text = pyproj.CRS.from_json_dict(derived).to_wkt("WKT2_2019")
    # PROJ writes 15 digits; a factor needs all of them over 7,000 km.
    for (name, _), value in zip(PARAMETERS, values, strict=True):
        text = re.sub(rf'(PARAMETER\["{name}",)[^,]+,', rf"\g<1>{value!r},", text)
    return text
