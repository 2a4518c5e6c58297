"""What bench/fuzz.py throws mutated inputs at: every reader of files, every stream of a device, every grid,
each with honest inputs to begin with (those that are not written here stand in bench/seeds)."""

from __future__ import annotations

import contextlib
import io
import math
import struct
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import numpy as np
from tests.geodesy.test_shift_grid import ntv2

from fenwind.devices.nmea_in import NmeaReader
from fenwind.devices.rtcm_in import RtcmReader
from fenwind.errors import FenwindError
from fenwind.exchange.antenna_list import read_antennas
from fenwind.exchange.backdrop import read_image, read_line_work
from fenwind.exchange.dxf import write_dxf
from fenwind.exchange.dxf_move import move_drawing, preview
from fenwind.exchange.elevation import read_elevation
from fenwind.exchange.features import write_geojson, write_geopackage
from fenwind.exchange.field_book import read_setups
from fenwind.exchange.formats import read_table
from fenwind.exchange.kml import write_kml
from fenwind.exchange.landxml import write_landxml
from fenwind.exchange.landxml_survey import read_field_work, read_observations
from fenwind.exchange.line_csv import read_book, read_runs, typed_row
from fenwind.exchange.network_csv import read_network
from fenwind.exchange.outgoing import WORDS as TOLD
from fenwind.exchange.outgoing import Outgoing
from fenwind.exchange.outline import read_outline
from fenwind.exchange.pairs_list import read_pairs
from fenwind.exchange.point_list import interpret
from fenwind.exchange.rover_list import read_rover_list
from fenwind.exchange.setup_csv import read_sightings
from fenwind.exchange.sinex import read_sinex
from fenwind.exchange.velocity_list import read_velocities
from fenwind.exchange.xlsx import write_xlsx
from fenwind.geodesy.frames import FrameSpec, find_crs
from fenwind.geodesy.geoid import GeoidGrid
from fenwind.geodesy.shift_grid import with_shift_grid
from fenwind.gnss.rinex_nav import read_navigation
from fenwind.procedures.fit import FitOptions
from fenwind.procedures.move import move_fit, move_of, shift_pairs
from fenwind.quantities.angles import parse_angle
from fenwind.quantities.bearings import parse_bearing
from fenwind.quantities.geographic import parse_latitude
from fenwind.quantities.lengths import parse_length, parse_tolerances
from fenwind.standins.receivers import Simulation
from fenwind.standins.serve import answered
from fenwind.standins.station import Station, station_world_of
from fenwind.standins.world import read_json, world_of

SEEDS, DATA = Path(__file__).parent / "seeds", Path(__file__).parents[1] / "tests" / "data"
MADE = datetime(2026, 6, 1, 8, tzinfo=UTC)
#: Bytes that readers of text trip over.
WORDS = (
    b"NaN", b"inf", b"-inf", b"1e308", b"-1e-308", b"1e309", b"9" * 400, b"0", b"-0", b"", b" " * 900, b"\0",
    b"\xff\xfe", b"\xef\xbb\xbf", b"\xc3\x28", b"\r", b"\n\n\n", b";", b",", b"\t", b'"', b"'", b"=cmd()",
    b"\xe2\x88\x92", b"1_000", b"<![CDATA[", b"<!DOCTYPE a [<!ENTITY b 'c'>]>&b;", b"&#0;", b"</", b"\\u0000",
    b"[" * 300, b"{" * 300, b"2147483648", b"-2147483649", b"18446744073709551616", b"90.0000001", b"-180",
    b"360", b"1e5", b"0x10", b"\x7f", b"\xe2\x80\xae",
)  # fmt: skip


@dataclass(frozen=True)
class Target:
    """A reader: what it is called, the ending of its files, honest inputs, and what reads the file at a
    path."""

    name: str
    suffix: str
    seeds: tuple[bytes, ...]
    read: Callable[[str], object]


def targets(folder: Path) -> tuple[Target, ...]:
    """All of them; what honest files need to be written into goes into a folder."""
    return (*_tables(), *_files(folder), *_drawings(folder), *_grids(), *_streams())


def _kept(*names: str) -> tuple[bytes, ...]:
    return tuple((SEEDS / name).read_bytes() for name in names)


def _text(path: str) -> str:
    return Path(path).read_bytes().decode("utf-8", "replace")


def _listed(path: str) -> object:
    return interpret(read_table(path))


def _tables() -> tuple[Target, ...]:
    lists = _kept("list-semicolon.csv", "list-wide.csv", "list-plain.csv")
    typed = _kept("typed.txt", "typed-bearing.txt", "typed-latitude.txt", "typed-length.txt")
    world = _kept("world.json")

    def sightings(path: str) -> object:
        return read_sightings(path, 0.0, lambda name: True, "the job")

    def words(path: str) -> None:
        for parse in (parse_angle, parse_bearing, parse_latitude, parse_length, parse_tolerances, typed_row):
            with contextlib.suppress(FenwindError):
                parse(_text(path))

    def worlds(path: str) -> None:
        for make in (world_of, station_world_of):
            with contextlib.suppress(FenwindError):
                make(read_json(path))

    return (
        Target("list", ".csv", lists, _listed),
        Target("pairs", ".csv", _kept("pairs.csv"), read_pairs),
        Target("network list", ".csv", _kept("network-list.csv"), read_network),
        Target("sightings", ".csv", _kept("sightings.csv"), sightings),
        Target("field book", ".csv", _kept("field-book.csv"), read_setups),
        Target("traverse book", ".csv", _kept("traverse-book.csv"), read_book),
        Target("level runs", ".csv", _kept("level-runs.csv"), read_runs),
        Target("rover list", ".csv", _kept("rover-list.csv"), read_rover_list),
        Target(
            "velocities", ".csv", (b"name,ve,vn,vu\nT-01,14.2,15.1,-0.3\nT-02,14.0,15.3,\n",), read_velocities
        ),
        Target("sinex", ".snx", _kept("solution.snx"), read_sinex),
        Target("navigation", ".rnx", _kept("navigation.rnx"), read_navigation),
        Target("antennas", ".json", world, read_antennas),
        Target("world", ".json", world, worlds),
        Target("typed", ".txt", typed, words),
    )


def _outgoing() -> Outgoing:
    return Outgoing(
        title="Honest", spec=FrameSpec(name="UTM", crs="EPSG:25832"), names=("T-01", "T-02", "T-03"),
        e_m=np.array([468000.1, 468100.0, 468200.5]), n_m=np.array([6797000.4, 6797100.0, 6797333.0]),
        height_m=np.array([1240.1, 20.0, math.nan]), sigma_h_m=np.array([0.002, math.nan, 0.01]),
        sigma_v_m=np.full(3, math.nan), words={key: ("", key, "") for key in TOLD},
        symbols=("triangle", "ring", "cross"), labelled=np.array([True, True, False]),
    )  # fmt: skip


def _written(folder: Path, name: str, write: Callable[[str], object]) -> tuple[bytes, ...]:
    write(str(folder / name))
    return ((folder / name).read_bytes(),)


def _files(folder: Path) -> tuple[Target, ...]:
    out = _outgoing()
    places = (out.e_m.tolist(), out.n_m.tolist(), out.height_m.tolist())
    rows = list(zip(out.names, *places, strict=True))
    xlsx = _written(folder, "a.xlsx", lambda p: write_xlsx(p, ("name", "e", "n", "h"), rows, "x", ()))
    gpkg = _written(folder, "a.gpkg", lambda p: write_geopackage(p, out))
    geojson = _written(folder, "a.geojson", lambda p: write_geojson(p, out))

    def survey(path: str) -> None:
        for read in (read_field_work, read_observations):
            with contextlib.suppress(FenwindError):
                read(path)

    return (
        Target("xlsx", ".xlsx", xlsx, _listed),
        Target("landxml", ".xml", _written(folder, "a.xml", lambda p: write_landxml(p, out, MADE)), _listed),
        Target("landxml survey", ".xml", _kept("survey.xml"), survey),
        Target("geojson", ".geojson", geojson, _listed),
        Target("outline", ".geojson", _kept("outline.geojson"), read_outline),
        Target("geopackage", ".gpkg", gpkg, _listed),
        Target("kml", ".kml", _written(folder, "a.kml", lambda p: write_kml(p, out)), _listed),
    )


def _drawings(folder: Path) -> tuple[Target, ...]:
    points = _written(folder, "a.dxf", lambda p: write_dxf(p, _outgoing()))
    lines = _written(folder, "b.dxf", _drawing)
    pairs = shift_pairs(1.0, 2.0, 0.0, (468000.0, 6797000.0, 0.0))
    move = move_of(move_fit(*pairs, FitOptions(horizontal="shift", height="none")), pairs[1])

    def moved(path: str) -> object:
        return preview(path, move), move_drawing(path, str(folder / "moved.dxf"), move)

    def image(path: str) -> object:
        Path(path).with_suffix(".pgw").write_bytes(*_kept("image.pgw"))
        return read_image(path)

    def world_file(path: str) -> object:
        Path(path).with_suffix(".png").write_bytes(_png())
        return read_image(str(Path(path).with_suffix(".png")))

    return (
        Target("dxf", ".dxf", points, _listed),
        Target("dxf as backdrop", ".dxf", (*points, *lines), read_line_work),
        Target("dxf to move", ".dxf", (*points, *lines), moved),
        Target("image", ".png", (_png(),), image),
        Target("world file", ".pgw", _kept("image.pgw"), world_file),
    )


def _drawing(path: str) -> None:
    """Lines, arcs, a block in a block, texts, in the oldest and barest form there is."""
    import ezdxf

    drawing = ezdxf.new("R12", units=0)
    inner, outer = drawing.blocks.new("inner"), drawing.blocks.new("outer")
    inner.add_circle((0, 0), 1.0)
    outer.add_blockref("inner", (1, 1), dxfattribs={"xscale": 2.0, "rotation": 30.0})
    space = drawing.modelspace()
    space.add_line((0, 0, 1), (10, 5, 2))
    space.add_arc((5, 5), 3.0, 10.0, 200.0)
    space.add_polyline2d([(0, 0), (5, 1), (7, 7)], close=True)
    space.add_blockref("outer", (100, 200), dxfattribs={"zscale": -1.0})
    space.add_text("T-01", height=2.5).set_placement((4, 4))
    space.add_solid([(0, 0), (1, 0), (0, 1), (1, 1)])
    drawing.saveas(path)


def _png() -> bytes:
    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = chunk(b"IHDR", struct.pack(">IIBBBBB", 4, 4, 8, 0, 0, 0, 0))
    return b"\x89PNG\r\n\x1a\n" + head + chunk(b"IDAT", zlib.compress(b"\0abcd" * 4)) + chunk(b"IEND", b"")


def _grids() -> tuple[Target, ...]:
    def geoid(path: str) -> object:
        return GeoidGrid(path).height(np.radians([61.3, 0.5, -45.0]), np.radians([8.4, 0.5, -120.0]))

    def shifted(path: str) -> object:
        return with_shift_grid("EPSG:27572", path, "EPSG:4171")

    gtx = struct.pack(">4d2i", 0.0, 0.0, 0.5, 0.5, 4, 4) + np.arange(16, dtype=">f4").tobytes()
    tiffs = tuple((DATA / f"test_vgrid_{n}.tif").read_bytes() for n in ("deflate", "unsupported_byte"))
    proj = b"+proj=tmerc +lat_0=0 +lon_0=9 +k=0.9996 +ellps=GRS80 +units=m"
    systems = (find_crs("EPSG:25832").to_wkt().encode(), proj, b"EPSG:25832")
    return (
        Target("geoid gtx", ".gtx", (gtx,), geoid),
        Target("geoid tiff", ".tif", tiffs, geoid),
        Target("elevation", ".tif", tiffs, read_elevation),
        Target("shift grid", ".gsb", (ntv2(), ntv2(">")), shifted),
        Target("system", ".wkt", systems, lambda path: find_crs(_text(path))),
    )


def _streams() -> tuple[Target, ...]:
    world = read_json(SEEDS / "world.json")
    gnss, station = Simulation(world_of(world), 1, MADE), Station(station_world_of(world), 1)
    nmea, rtcm = io.BytesIO(), io.BytesIO()
    for _ in range(30):
        sent = gnss.run_tick()
        nmea.write(sent.get("rover", b""))
        rtcm.write(sent.get("rtcm", b""))

    def fed(path: str, feed: Callable[[bytes], object]) -> None:
        data = Path(path).read_bytes()
        for k in range(0, len(data), 700):
            feed(data[k : k + 700])

    def control(path: str) -> None:
        for line in Path(path).read_bytes().split(b"\n")[:40]:
            answered(line, "2026", lambda command: gnss.control("rover", command))
            answered(line, "2026", station.control)

    return (
        Target("nmea", ".nmea", (nmea.getvalue(),), lambda path: fed(path, NmeaReader().feed)),
        Target("rtcm", ".rtcm", (rtcm.getvalue(),), lambda path: fed(path, RtcmReader().feed)),
        Target("control port", ".txt", _kept("commands.txt"), control),
    )
