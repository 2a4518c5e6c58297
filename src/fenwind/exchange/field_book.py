"""A field book as CSV: one row a reading of an instrument, in docs/formats/field-book.md. Metres, degrees."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterable, Mapping
from dataclasses import replace

from fenwind.exchange.files import read_head, write_text
from fenwind.exchange.landxml_survey import FieldSetup, read_field_work
from fenwind.exchange.list_units import METRIC, ListUnits
from fenwind.exchange.named_csv import read_named
from fenwind.exchange.setup_csv import NEEDED, sighting
from fenwind.job.steps.sightings import air_ppm
from fenwind.quantities.lengths import METRE, LengthUnit
from fenwind.records.setups import Setup

#: May be left out: what is still to be applied for the air, the round, the time of a reading (UTC).
MORE = ("face", "ppm", "round", "time")
COLUMNS = ("setup", "station", "hi", *NEEDED, *MORE)
#: Columns that are written with the unit of lengths behind them.
_IN_UNIT = ("hi", "sd", "ht")


def read_setups(path: str, units: ListUnits = METRIC) -> dict[str, FieldSetup]:
    """Set-ups that sighted something, by what the book calls them; of a LandXML file as well. units: of
    columns whose heads state none. Raises
    FormatError with the place of the first bad cell."""
    if read_head(path, 4096).lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"<"):
        return {key: setup for key, setup in read_field_work(path).setups.items() if setup.shots}
    out: dict[str, FieldSetup] = {}
    for row in read_named(path, ("setup", "station", *NEEDED), ("hi", *MORE), units)[1]:
        key, station = row.text("setup"), row.text("station")
        height = row.length("hi")
        known = out.setdefault(
            key, FieldSetup(station=station, height_m=0.0 if math.isnan(height) else height)
        )
        if known.station != station:
            raise row.bad("station", f"{known.station}, over which {key} stands in the rows before")
        if not math.isnan(height) and height != known.height_m:
            raise row.bad("hi", f"{known.height_m:g}, as in the rows of {key} before")
        shot = sighting(row, 0.0, lambda name: True, "")
        if shot.target == station:
            raise row.bad("target", "another mark than the station")
        ppm, count = row.number("ppm"), row.number("round", "a whole number", lambda v: v == int(v) >= 0)
        longer = 1.0 if math.isnan(ppm) else 1.0 + ppm * 1e-6
        known.shots.append(replace(shot, distance=shot.distance * longer))
        known.rounds.append(0 if math.isnan(count) else int(count))
        known.times.append(row.text("time", needed=False))
    return out


def is_field_book(path: str) -> bool:
    """Whether a file holds set-ups with their stations, and not the sightings of one alone."""
    head = read_head(path, 4096).lstrip(b"\xef\xbb\xbf \t\r\n")
    first = head.split(b"\n", 1)[0].lower()
    return head.startswith(b"<") or (b"setup" in first and b"station" in first)


def write_field_book(
    path: str, setups: Iterable[Setup], names: Mapping[str, str], unit: LengthUnit = METRE
) -> None:
    """Write every sighting of set-ups with its lengths in `unit`; names: of marks by their ids. Raises
    FormatError when the file cannot be written."""
    text = io.StringIO()
    out = csv.writer(text, lineterminator="\n")
    out.writerow([f"{c}_{unit.key}" if c in _IN_UNIT else c for c in COLUMNS])
    for setup in setups:
        ppm = "" if setup.air is None else f"{air_ppm(setup.air):.3f}"
        for i, target in enumerate(setup.target):
            zenith, distance = setup.zenith_rad[i], setup.distance_m[i]
            out.writerow([
                setup.name, names[setup.station], f"{setup.height_m / unit.metres:.4f}", names[target],
                f"{math.degrees(setup.direction_rad[i]):.7f}",
                "" if zenith is None else f"{math.degrees(zenith):.7f}",
                "" if distance is None else f"{distance / unit.metres:.5f}",
                f"{setup.target_height_m[i] / unit.metres:.4f}",
                f"{setup.prism_m[i] * 1000.0:.2f}", setup.face[i], ppm,
                setup.round[i] or "" if setup.round else "", setup.time[i] if setup.time else "",
            ])  # fmt: skip
    write_text(path, text.getvalue())
