"""Fenwind among a user's applications: an entry for the menu, an icon, and the kind of file that jobs are,
by the XDG desktop-entry, icon-theme and shared MIME-info specifications."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Iterable
from pathlib import Path
from xml.sax.saxutils import escape

#: The kind of file that jobs are.
MIME = "application/x-fenwind-job"
ICON = """<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 64 64">
<rect width="64" height="64" rx="12" fill="#22302E"/>
<path d="M32 12l18 34H14z" fill="none" stroke="#FAF8F3" stroke-width="4" stroke-linejoin="round"/>
<circle cx="32" cy="35" r="4" fill="#FAF8F3"/><path d="M12 54h40" stroke="#4E7A51" stroke-width="4"/></svg>
"""


def data_home() -> Path:
    """Where a user's applications, icons and kinds of file are (XDG base directories)."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def _files(start: str) -> dict[Path, str]:
    home = data_home()
    # A path in quotes, with what the specification wants escaped.
    quoted = start
    for character in '\\"`$':
        quoted = quoted.replace(character, f"\\{character}")
    entry = (
        "[Desktop Entry]\nType=Application\nName=Fenwind\nGenericName=Control surveys\n"
        "Comment=Control surveys with honest statistics and a trail behind every coordinate\n"
        f'Exec="{quoted}" %f\nIcon=fenwind\nTerminal=false\nCategories=Science;Geoscience;\n'
        f"MimeType={MIME};\n"
    )
    kind = (
        '<?xml version="1.0" encoding="UTF-8"?>\n'
        '<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">\n'
        f'  <mime-type type="{MIME}"><comment>{escape("Fenwind job")}</comment>'
        '<glob pattern="*.fenwind"/><icon name="fenwind"/></mime-type>\n</mime-info>\n'
    )
    return {
        home / "applications" / "fenwind.desktop": entry,
        home / "icons" / "hicolor" / "scalable" / "apps" / "fenwind.svg": ICON,
        home / "mime" / "packages" / "fenwind.xml": kind,
    }


def install(start: str) -> list[Path]:
    """Write the files, for a program that is started by the file `start`; returns them. Raises OSError."""
    written = []
    for path, text in _files(start).items():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
        written.append(path)
    _tell_the_desktop()
    return written


def uninstall() -> list[Path]:
    """Take the files away again; returns those that were there. Raises OSError."""
    found = [path for path in _files("") if path.exists()]
    for path in found:
        path.unlink()
    _tell_the_desktop()
    return found


def _tell_the_desktop() -> None:
    """Let the desktop look again, where it has what does that."""
    home = data_home()
    commands: Iterable[tuple[str, Path]] = (
        ("update-mime-database", home / "mime"), ("update-desktop-database", home / "applications"),
    )  # fmt: skip
    for command, folder in commands:
        program = shutil.which(command)
        if program is not None and folder.is_dir():
            subprocess.run([program, str(folder)], check=False, capture_output=True, timeout=30)


def main(arguments: list[str]) -> int:
    """--install START or --uninstall START, as ./start calls it; says what was written or taken away."""
    action, start = arguments
    try:
        files = install(start) if action == "--install" else uninstall()
    except OSError as error:
        sys.stderr.write(f"fenwind: {error}\n")
        return 2
    word = "written" if action == "--install" else "taken away"
    sys.stdout.write("\n".join([*(f"{word}: {path}" for path in files)] or ["nothing was installed"]) + "\n")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
