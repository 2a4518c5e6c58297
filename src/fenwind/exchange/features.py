"""GeoPackage (OGC 12-128r18) and GeoJSON (RFC 7946) through GDAL: point features in and out."""

from __future__ import annotations

import json
import os
import tempfile
import warnings
from pathlib import Path
from typing import Any

import numpy as np

from fenwind.errors import FormatError
from fenwind.exchange.files import check_size, foreign_reader, read_bytes, read_head, write_bytes, write_whole
from fenwind.exchange.outgoing import Outgoing
from fenwind.exchange.raw_table import RawTable, plain
from fenwind.quantities.lengths import UNITS
from fenwind.quantities.numbers import counted

_WRITE_HINT = "Choose another folder or name, or another format"
_HINT = "Export the points again, or check the file in a geographic information system"
MAX_FEATURES = 2_000_000
MAX_PROPERTIES = 1000
#: A point as WKB alone is 21 bytes.
BYTES_A_FEATURE = 21


def read_geopackage(path: str, part: str = "") -> RawTable:
    """Point features of a GeoPackage's layer, `part` or the first with points. Raises FormatError when the
    file is no SQLite database or no GeoPackage, is damaged, or holds no points."""
    check_size(path)
    if read_head(path, 16) != b"SQLite format 3\x00":
        raise FormatError("this is not a GeoPackage: it is not an SQLite database", where=path, hint=_HINT)
    return _read(path, part, "the GeoPackage")


def read_geojson(path: str, part: str = "") -> RawTable:
    """Point features of a GeoJSON file; longitude and latitude in WGS 84 unless it states another system.
    Raises FormatError."""
    data = read_bytes(path)
    try:
        # Numbers stay as they are written, for names such as 7.10.
        parsed = json.loads(data.decode("utf-8-sig"), parse_float=_Written, parse_int=_Written)
    except UnicodeDecodeError as error:
        raise FormatError("the GeoJSON file is not UTF-8 text", where=path, hint=_HINT) from error
    except json.JSONDecodeError as error:
        raise FormatError(
            f"the GeoJSON file is not well formed: {error.msg}",
            where=f"{path}, line {error.lineno}, column {error.colno}",
            hint=_HINT,
        ) from error
    except (RecursionError, ValueError) as error:
        raise FormatError("the GeoJSON file cannot be read", where=path, hint=_HINT) from error
    if not isinstance(parsed, dict) or parsed.get("type") not in ("FeatureCollection", "Feature"):
        raise FormatError("there is no FeatureCollection in it", where=path, hint=_HINT)
    features = parsed.get("features", []) if parsed["type"] == "FeatureCollection" else [parsed]
    properties = [f.get("properties") or {} if isinstance(f, dict) else {} for f in features]
    most = max((len(one) for one in properties if isinstance(one, dict)), default=0)
    if most > MAX_PROPERTIES:
        raise FormatError(
            f"a feature has {most} properties; a list of marks has at most {MAX_PROPERTIES}", where=path,
            hint=_HINT,
        )  # fmt: skip
    return _as_written(_read(path, part, "the GeoJSON file"), properties)


class _Written(str):
    """A number of a JSON text, as it is written."""


def _as_written(table: RawTable, properties: list[Any]) -> RawTable:
    """The table with numbers among its properties as the file writes them. Where some features hold no point
    nothing is known to belong to a row, and all stays as it is."""
    if len(properties) != len(table.rows):
        return table
    for row, own in zip(table.rows, properties, strict=True):
        for column, head in enumerate(table.headers):
            found = own.get(head) if isinstance(own, dict) else None
            if isinstance(found, _Written) and column < len(row):
                row[column] = str(found)
    return table


def _read(path: str, part: str, what: str) -> RawTable:
    import pyogrio
    import shapely

    # A view can go on for ever: a feature takes some bytes of its file.
    most = min(MAX_FEATURES, os.path.getsize(path) // BYTES_A_FEATURE + 1)
    with foreign_reader(path, what, _HINT), warnings.catch_warnings():
        warnings.simplefilter("ignore")  # what GDAL warns of shows in what was read
        layers = [(str(name), str(kind)) for name, kind in pyogrio.list_layers(path)]
        names = tuple(name for name, _ in layers)
        if part and part not in names:
            raise FormatError(
                f"there is no layer {part!r}", where=path, hint=f"Choose one of {', '.join(names)}"
            )
        likely = [
            n
            for n, kind in layers
            if "Point" in kind or kind in ("Unknown", "3D Unknown", "GeometryCollection")
        ]
        for name in [part] if part else likely or list(names[:1]):
            meta, _, shapes, columns = pyogrio.raw.read(path, layer=name, max_features=most + 1)
            if shapes is None:
                continue
            if len(shapes) > most:
                raise FormatError(
                    f"layer {name!r} says that it has more features than a file of this size can hold",
                    where=path, hint="Export the points again as a table of their own",
                )  # fmt: skip
            geometry = shapely.from_wkb(shapes, on_invalid="ignore")
            points = np.flatnonzero(shapely.get_type_id(geometry) == 0)
            if points.size:
                return _table(path, name, names, meta, geometry, points, columns)
    raise FormatError("there are no points in it", where=path, hint="Export points, not lines or areas")


def _table(
    path: str, name: str, names: tuple[str, ...], meta: Any, geometry: Any, points: Any, columns: Any
) -> RawTable:
    import shapely

    xyz = shapely.get_coordinates(geometry[points], include_z=True)
    crs = str(meta.get("crs") or "")
    geographic, unit = _system(crs)
    if unit:
        xyz[:, 0], xyz[:, 1] = _true_axes(crs, xyz[:, 0], xyz[:, 1])
    texts = {
        str(field): [_text(v) for v in np.asarray(column, dtype=object)[points]]
        for field, column in zip(meta["fields"], columns, strict=True)
    }
    # What the geometry holds; a field of that name would say it twice.
    said = {"e", "n", "lat", "lon"} | ({"h"} if np.isfinite(xyz[:, 2]).any() else set())
    texts = {field: cells for field, cells in texts.items() if field.lower() not in said}
    order = (1, 0, 2) if geographic else (0, 1, 2)
    cells = [[plain(v) for v in xyz[:, axis]] for axis in order] + list(texts.values())
    heads = [*(("lat", "lon") if geographic else ("e", "n")), "h", *texts]
    left = len(geometry) - points.size
    return RawTable(
        source=f"{path}, layer {name}" if len(names) > 1 else path,
        headers=tuple(heads),
        rows=[list(row) for row in zip(*cells, strict=True)],
        lines=(points + 1).tolist(),
        place="feature",
        unit=unit,
        crs=crs,
        part=name,
        parts=names if len(names) > 1 else (),
        remarks=(f"{counted(left, 'feature')} without a point: left out.",) if left else (),
    )


def _true_axes(crs: str, first: Any, second: Any) -> tuple[Any, Any]:
    """Eastings and northings of a projected system that may count southwards or westwards."""
    from fenwind.geodesy.axes import parts_of, true_axes
    from fenwind.geodesy.frames import find_crs

    parts = parts_of(find_crs(crs))
    return true_axes(parts.plain, first, second) if parts is not None else (first, second)


def _system(crs: str) -> tuple[bool, str]:
    """Whether coordinates of a system are latitude and longitude, and the key of its unit."""
    from fenwind.errors import FrameError
    from fenwind.geodesy.axes import is_plane
    from fenwind.geodesy.frames import find_crs, unit_key_of

    try:
        found = find_crs(crs) if crs else None
        if found is None or not (found.is_geographic or is_plane(found) or found.is_compound):
            return False, ""
        base = found.sub_crs_list[0] if found.is_compound else found
        return base.is_geographic, "" if base.is_geographic else unit_key_of(crs)
    except FrameError:
        return False, ""


def _text(value: Any) -> str:
    if isinstance(value, (float, np.floating)):
        number = float(value)
        return plain(number) if not number.is_integer() else str(int(number))
    if value is None:
        return ""
    return str(value).strip()


def _fields(out: Outgoing) -> dict[str, Any]:
    words = {
        "name": out.names,
        **{k: out.words[k] for k in ("class", "code", "monument", "description", "source", "because")},
    }
    fields: dict[str, Any] = {k: np.array(v, dtype=object) for k, v in words.items()}
    fields["height"] = np.asarray(out.height_m / UNITS[out.spec.unit].metres)
    fields["sh"], fields["sv"] = out.sigma_h_m, out.sigma_v_m
    fields["system"] = np.array([out.system_words] * len(out.names), dtype=object)
    return fields


def write_geopackage(path: str, out: Outgoing) -> None:
    """Write positions as a layer of points in the frame's own system and unit, height as z; a frame without a
    datum is written without a system, its name in the column "system". Raises FormatError when the file
    cannot be written."""
    unit = UNITS[out.spec.unit].metres

    def put(name: str) -> None:
        made = f"{name}.gpkg"  # GDAL wants the ending, whatever the user calls the file
        try:
            with foreign_reader(path, "the GeoPackage", _WRITE_HINT, "written"):
                _write(made, "GPKG", out, *out.system_axes(), out.height_m / unit, out.wkt() or None)
            os.replace(made, name)
        finally:
            Path(made).unlink(missing_ok=True)

    write_whole(path, put)


def write_geojson(path: str, out: Outgoing) -> None:
    """Write positions as RFC 7946 wants them: WGS 84 longitude and latitude in degrees, ellipsoidal height in
    metres. Raises FormatError when the frame has no datum, or the file cannot be written."""
    lat, lon, h = out.wgs84()
    with tempfile.TemporaryDirectory() as folder:
        name = os.path.join(folder, "out.geojson")
        with foreign_reader(path, "the GeoJSON file", _WRITE_HINT, "written"):
            _write(
                name,
                "GeoJSON",
                out,
                np.degrees(lon),
                np.degrees(lat),
                h,
                "EPSG:4326",
                RFC7946="YES",
                COORDINATE_PRECISION="10",
            )
        write_bytes(path, read_bytes(name))


def _write(
    name: str, driver: str, out: Outgoing, x: Any, y: Any, z: Any, crs: str | None, **options: str
) -> None:
    import pyogrio
    import shapely

    flat = ~np.isfinite(z)
    shapes = np.where(flat, shapely.points(x, y), shapely.points(x, y, np.where(flat, 0.0, z)))
    fields = _fields(out)
    with warnings.catch_warnings():
        warnings.filterwarnings("ignore", message=".*'crs' was not provided")  # a local plane has none
        pyogrio.raw.write(
            name,
            shapely.to_wkb(shapes, output_dimension=3),
            list(fields.values()),
            list(fields),
            geometry_type="Point" if flat.all() else "Point Z",
            crs=crs,
            driver=driver,
            layer="positions",
            dataset_options={},
            layer_options=options,
        )
