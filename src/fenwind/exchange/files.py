"""Files as bytes: read with a limit, written whole or not at all; the one error that foreign readers'
failures become."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from fenwind.errors import FenwindError, FormatError

#: Largest file read, bytes; larger ones are not lists of marks.
MAX_BYTES = 200_000_000


def read_bytes(path: str | os.PathLike[str]) -> bytes:
    """Bytes of a file. Raises FormatError when it is missing or too large."""
    check_size(path)
    try:
        return Path(path).read_bytes()
    except OSError as error:
        raise _unreadable(path, error) from error


def check_size(path: str | os.PathLike[str]) -> None:
    """Raise FormatError when a file is missing, a folder, or too large."""
    where = str(path)
    try:
        if Path(path).is_dir():
            raise FormatError("this is a folder", where=where, hint="Name a file in it")
        if not Path(path).is_file():
            Path(path).stat()  # the reason, where there is none of that name
            raise FormatError("this is no regular file", where=where, hint="Name a file on a disk")
        if Path(path).stat().st_size > MAX_BYTES:
            raise FormatError(
                "the file is larger than 200 MB",
                where=where,
                hint="Split it, or check that it is a point list",
            )
    except OSError as error:
        raise _unreadable(path, error) from error


def same_file(one: str, other: str) -> bool:
    """Whether two names are of one existing file."""
    return os.path.exists(one) and os.path.exists(other) and os.path.samefile(one, other)


def read_head(path: str | os.PathLike[str], size: int) -> bytes:
    """First bytes of a file. Raises FormatError when it cannot be read or is none, as a pipe."""
    check_size(path)
    try:
        with open(path, "rb") as file:
            return file.read(size)
    except OSError as error:
        raise _unreadable(path, error) from error


def _unreadable(path: str | os.PathLike[str], error: OSError) -> FormatError:
    return FormatError(
        f"cannot be read: {error.strerror}", where=str(path), hint="Check the name and the permissions"
    )


@contextmanager
def foreign_reader(where: str, what: str, hint: str, deed: str = "read") -> Iterator[None]:
    """Turn whatever a library's reader (or writer: `deed`) raises into FormatError.

    A damaged file can make a parser fail in any way at all; none of it is a fault of the user or of Fenwind,
    so all of it becomes one message. Errors of our own pass.
    """
    try:
        yield
    except FenwindError:
        raise
    except MemoryError as error:
        raise FormatError(f"{what} is too large for this machine's memory", where=where, hint=hint) from error
    except Exception as error:
        reason = " ".join(str(error).split())[:160]
        raise FormatError(
            f"{what} cannot be {deed}{': ' + reason if reason else ''}", where=where, hint=hint
        ) from error


#: Bytes 68 to 71 of an SQLite file that is a job of Fenwind.
_JOB_MARK = b"FWJB"


def check_target(
    path: str | os.PathLike[str], inputs: Iterable[str] = (), others: Iterable[str] = ()
) -> None:
    """Raise FormatError when a file is not to be written over: a job, a device, a pipe or a folder, one of
    the inputs of the same command, or another of its outputs."""
    where = str(path)
    hint = "Choose another name; nothing was written"
    if os.path.exists(where):
        if not os.path.isfile(where):
            raise FormatError("this is no file that can be written over", where=where, hint=hint)
        head = read_head(where, 72)
        if head.startswith(b"SQLite format 3\x00") and head[68:72] == _JOB_MARK:
            raise FormatError("this is a job of Fenwind", where=where, hint=hint)
    if any(same_file(where, other) for other in inputs):
        raise FormatError("this is a file the command reads", where=where, hint=hint)
    if any(os.path.realpath(where) == os.path.realpath(other) for other in others):
        raise FormatError("two results would go into one file", where=where, hint=hint)


def write_whole(path: str | os.PathLike[str], write: Callable[[str], None]) -> None:
    """Let `write` make a file under a temporary name beside the target, then put it in place. Raises
    FormatError when that fails or the target is not to be written over; a file that was there before stays
    then. Links are followed, and permissions of a file that was there stay."""
    check_target(path)
    target = Path(os.path.realpath(path))  # a link stays one
    name = ""
    try:
        with tempfile.NamedTemporaryFile(
            dir=target.parent, prefix=".fenwind-", suffix=target.suffix, delete=False
        ) as file:
            name = file.name
        write(name)
        with open(name, "rb+") as done:
            os.fsync(done.fileno())
        umask = os.umask(0)
        os.umask(umask)
        os.chmod(name, target.stat().st_mode & 0o777 if target.exists() else 0o666 & ~umask)
        os.replace(name, target)
    except OSError as error:
        raise FormatError(
            f"cannot be written: {error.strerror or error}",
            where=str(path),
            hint="Choose a folder you may write to",
        ) from error
    finally:
        if name:
            Path(name).unlink(missing_ok=True)


def write_text(path: str | os.PathLike[str], text: str) -> None:
    """Write a text file in UTF-8, whole or not at all. Raises FormatError when it cannot."""
    write_bytes(path, text.encode())


def write_bytes(path: str | os.PathLike[str], data: bytes) -> None:
    """Write a file, whole or not at all. Raises FormatError when it cannot."""

    def put(name: str) -> None:
        Path(name).write_bytes(data)

    write_whole(path, put)
