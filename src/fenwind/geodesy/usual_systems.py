"""Geographic systems that latitudes and longitudes are usually in, those first that are meant for a place."""

from __future__ import annotations

from fenwind.errors import FrameError
from fenwind.geodesy.area import inside_area
from fenwind.geodesy.frames import find_crs
from fenwind.quantities.angles import RAD_PER_DEGREE

#: Codes of the EPSG dataset; those of a continent before those of the world.
_USUAL = (
    "EPSG:4258",  # ETRS89
    "EPSG:6318",  # NAD83(2011)
    "EPSG:7844",  # GDA2020
    "EPSG:4167",  # NZGD2000
    "EPSG:4674",  # SIRGAS 2000
    "EPSG:4148",  # Hartebeesthoek94
    "EPSG:6668",  # JGD2011
    "EPSG:9990",  # ITRF2020
    "EPSG:7912",  # ITRF2014
    "EPSG:4979",  # WGS 84
)


def likely_systems(lat_rad: float, lon_rad: float) -> list[tuple[str, str]]:
    """Code and name of the usual systems whose area of use covers a place."""
    found = []
    for code in _USUAL:
        crs = find_crs(code)
        area = crs.area_of_use
        west, south, east, north = (v * RAD_PER_DEGREE for v in area.bounds) if area else (0.0, 0.0, 0.0, 0.0)
        if area and inside_area((west, south, east, north), lat_rad, lon_rad):
            found.append((code, str(crs.name)))
    return found


def geographic_system(text: str) -> str:
    """The code of a usual system that was named, else the text (a code, name, WKT or PROJ string) itself.
    Raises FrameError for anything that is no geographic system."""
    listed = {find_crs(code).name.lower(): code for code in _USUAL}
    text = listed.get(text.strip().lower(), text.strip())
    crs = find_crs(text)
    if not crs.is_geographic:
        raise FrameError(
            f"{crs.name} is not a system of latitude and longitude",
            hint="Name a geographic one such as ETRS89, WGS 84 or EPSG:4258",
        )
    return text
