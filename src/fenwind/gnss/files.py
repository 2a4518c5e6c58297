"""GNSS files by their content, never by their name: plain, gzip, compress, or the compact form of RINEX."""

from __future__ import annotations

import gzip
import io
import warnings
import zlib
from pathlib import Path
from typing import Any, Literal

from fenwind.errors import FormatError
from fenwind.gnss.broadcast import Navigation, read_navigation_file
from fenwind.gnss.observations import Observations
from fenwind.gnss.other_files import Antennas, Clocks, Orbits, read_antennas, read_clocks, read_orbits
from fenwind.gnss.rinex_obs import read_observations

Kind = Literal["observation", "navigation", "orbit", "clock", "antenna"]
#: Larger files than this, unpacked, are no files of a receiver.
MOST_BYTES = 4_000_000_000
_HINT = "Give a RINEX, SP3 or ANTEX file"
READERS: dict[Kind, Any] = {
    "observation": read_observations, "navigation": read_navigation_file, "orbit": read_orbits,
    "clock": read_clocks, "antenna": read_antennas,
}  # fmt: skip


def unpacked(data: bytes, path: str) -> bytes:
    """The plain text of a file. Raises FormatError for one that is cut off or damaged."""
    for _ in range(3):
        if data[:2] == b"\x1f\x8b":
            data = _gunzipped(data, path)
        elif data[:2] == b"\x1f\x9d":
            data = _uncompressed(data, path)
        elif b"COMPACT RINEX FORMAT" in data[:80]:
            data = _expanded(data, path)
        else:
            break
    return data.removeprefix(b"\xef\xbb\xbf")


def _gunzipped(data: bytes, path: str) -> bytes:
    try:
        with gzip.open(io.BytesIO(data)) as file:
            out = file.read(MOST_BYTES)
    except EOFError as error:
        raise FormatError("the gzip file is cut off", where=path, hint="Fetch it again") from error
    except (OSError, zlib.error) as error:
        raise FormatError("the gzip file is damaged", where=path, hint="Fetch it again") from error
    return out


def _uncompressed(data: bytes, path: str) -> bytes:
    import ncompress

    try:
        return bytes(ncompress.decompress(data))
    except ValueError as error:
        raise FormatError("the compressed file is damaged", where=path, hint="Fetch it again") from error


def _expanded(data: bytes, path: str) -> bytes:
    import hatanaka

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # of epochs that are passed over
            return bytes(hatanaka.crx2rnx(data, skip_strange_epochs=True))
    except (hatanaka.HatanakaException, ValueError) as error:
        reason = str(error).strip().splitlines()[-1][:100] if str(error).strip() else "it is damaged"
        raise FormatError(
            f"the compact form cannot be read: {reason}", where=path, hint="Fetch it again"
        ) from error


def kind_of(data: bytes, path: str) -> Kind:
    """What a plain file is. Raises FormatError."""
    first = data[:400].split(b"\n", 1)[0].decode("ascii", "replace")
    label = first[60:80].strip()
    if label == "ANTEX VERSION / SYST":
        return "antenna"
    if label.startswith("RINEX VERSION"):
        letters = {"O": "observation", "N": "navigation", "G": "navigation", "H": "navigation", "C": "clock"}
        found = letters.get(first[20:21])
        if found is None:
            raise FormatError(
                f"RINEX of the kind {first[20:21]!r} found, expected observation, navigation or clock",
                where=f"{path}, line 1", hint=_HINT,
            )  # fmt: skip
        return found  # type: ignore[return-value]
    if first[:1] == "#" and first[1:2] in ("a", "b", "c", "d") and first[2:3] in ("P", "V"):
        return "orbit"
    raise FormatError("it has no RINEX header", where=f"{path}, line 1", hint=_HINT)


Content = Observations | Navigation | Orbits | Clocks | Antennas


def read_gnss(path: str) -> tuple[Kind, Content]:
    """A file by its content. Raises FormatError."""
    data = unpacked(_bytes(path), path)
    kind = kind_of(data, path)
    return kind, READERS[kind](data, path)


def read_kind(path: str, kind: Kind) -> Any:
    """A file that must be of a kind. Raises FormatError."""
    data = unpacked(_bytes(path), path)
    found = kind_of(data, path)
    if found != kind:
        raise FormatError(
            f"{_words(found)} found, expected {_words(kind)}", where=path, hint=f"Give {_words(kind)}"
        )
    return READERS[kind](data, path)


def _words(kind: Kind) -> str:
    return {"observation": "observations", "navigation": "navigation messages", "orbit": "SP3 orbits",
            "clock": "clocks", "antenna": "antenna corrections"}[kind]  # fmt: skip


def _bytes(path: str) -> bytes:
    file = Path(path)
    try:
        if not file.is_file():
            raise FormatError("there is no such file", where=path, hint=_HINT)
        if file.stat().st_size > MOST_BYTES:
            raise FormatError("the file is too large", where=path, hint=_HINT)
        return file.read_bytes()
    except OSError as error:
        raise FormatError(f"cannot be read: {error.strerror}", where=path, hint=_HINT) from error
