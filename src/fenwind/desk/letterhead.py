"""The letterhead of reports, kept for all jobs."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import QSettings

from fenwind.reports.model import Letterhead

#: Largest picture that is taken for a logo, bytes.
MOST = 4_000_000


def letterhead(settings: QSettings | None) -> Letterhead:
    """Name and picture as they were set; a picture that is gone, or is none, is left out."""
    if settings is None:
        return Letterhead()
    path, logo = str(settings.value("letterhead/logo", "") or ""), b""
    if path:
        try:
            logo = read_logo(path)
        except OSError:
            logo = b""
    return Letterhead(name=str(settings.value("letterhead/name", "") or ""), logo=logo)


def read_logo(path: str) -> bytes:
    """The bytes of a PNG or JPEG. Raises OSError for anything else."""
    if not Path(path).is_file():
        raise OSError(f"{path} is no file")
    with open(path, "rb") as file:
        data = file.read(MOST + 1)
    if len(data) > MOST or data[:4] not in (b"\x89PNG", b"\xff\xd8\xff\xe0", b"\xff\xd8\xff\xe1"):
        raise OSError(f"{path} is no PNG or JPEG of up to {MOST // 1_000_000} MB")
    return data


def set_letterhead(settings: QSettings, name: str, logo: str) -> None:
    """Keep a name and the file of a picture, for all jobs."""
    settings.setValue("letterhead/name", name)
    settings.setValue("letterhead/logo", logo)
