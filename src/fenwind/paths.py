"""Names of files beside others."""

from __future__ import annotations

from pathlib import Path


def free_name(path: Path, words: str) -> Path:
    """A name beside a file that is not taken: its own with some words."""
    names = (f"{path.stem} ({words}{'' if i == 1 else f', {i}'}){path.suffix}" for i in range(1, 10_000))
    return next(p for p in (path.with_name(name) for name in names) if not p.exists())
