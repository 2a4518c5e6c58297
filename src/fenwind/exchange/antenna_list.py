"""Antenna models from JSON: an object with a list `antennas` of model, radius, rim_offset, mount_offset and
arp_to_l1, metres (docs/formats/world.md)."""

from __future__ import annotations

import json
from typing import Any

from fenwind.errors import FormatError
from fenwind.exchange.files import read_bytes
from fenwind.geodesy.antenna import MOST_M, AntennaModel

KEYS = ("radius", "rim_offset", "mount_offset", "arp_to_l1")
_HINT = "Give JSON with a list antennas of model, radius, ..."


def read_antennas(path: str) -> dict[str, AntennaModel]:
    """Models of a file by name. Raises FormatError."""
    try:
        found = json.loads(read_bytes(path))
        return antennas_of(found.get("antennas") if isinstance(found, dict) else None)
    except FormatError as error:
        raise FormatError(error.message, where=path, hint=error.hint) from error
    except (ValueError, RecursionError) as error:
        raise FormatError(f"that is no JSON: {error}", where=path, hint=_HINT) from error


def antennas_of(rows: Any) -> dict[str, AntennaModel]:
    """Models by name of a list. Raises FormatError."""
    if not isinstance(rows, list):
        raise FormatError("there is no list antennas", hint=_HINT)
    out: dict[str, AntennaModel] = {}
    for number, row in enumerate(rows, 1):
        model = row.get("model") if isinstance(row, dict) else None
        if not isinstance(model, str) or not model.strip():
            raise FormatError(f"antenna {number} has no model", hint=_HINT)
        values = [row.get(key, 0.0) for key in KEYS]
        if not all(
            isinstance(v, int | float) and not isinstance(v, bool) and abs(v) < MOST_M for v in values
        ):
            raise FormatError(f"antenna {model} has a length that cannot be", hint=_HINT)
        if model in out:
            raise FormatError(f"antenna {model} stands there twice", hint=_HINT)
        radius, rim, mount, l1 = (float(v) for v in values)
        out[model] = AntennaModel(
            model=model, radius_m=radius, rim_offset_m=rim, mount_offset_m=mount, arp_to_l1_m=l1
        )
    return out
