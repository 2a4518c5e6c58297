"""A plane on the ground: a projected system scaled by one factor about an origin and shifted, as a derived
system in WKT2 and as a PROJ pipeline that others can follow."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyproj
from numpy.typing import NDArray

from fenwind.geodesy.frames import Frame

FloatArray = NDArray[np.float64]

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
    """From longitude and latitude in degrees on the frame's datum to the ground."""
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
    steps = " ".join("+step " + " ".join(f"+{word}" for word in part.split()) for part in parts)
    signs = [-1 if axis.direction in ("west", "south") else 1 for axis in crs.to_2d().axis_info]
    if sum(signs) < 2:
        steps += f" +step +proj=axisswap +order={signs[0]},{2 * signs[1]}"
    e, n = scale.shift
    return (
        f"+proj=pipeline {steps} +step +proj=affine +xoff={e!r} +yoff={n!r} +s11={scale.factor!r} "
        f"+s22={scale.factor!r}"
    )


def derived_wkt(frame: Frame, scale: GroundScale) -> str:
    """WKT2:2019 of the derived projected system, by the affine method on the frame's own axes."""
    assert frame.crs is not None
    base = frame.crs.to_2d().to_json_dict()
    axes = base["coordinate_system"]["axis"]
    e, n = scale.shift
    rows = []
    for axis in axes:
        away = axis["direction"]
        along = e if away in ("east", "west") else n
        rows.append(-along if away in ("west", "south") else along)
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
