"""The command line. Each verb loads what it needs only when it runs, so that --help and --version always
work.

Exit codes: 0 done, 1 done with a grave doubt, 2 bad input (one line on standard error).
"""

from __future__ import annotations

import argparse
import io
import os
import re
import sys
from contextlib import suppress
from importlib import import_module
from types import ModuleType

from fenwind import __version__
from fenwind.errors import FenwindError
from fenwind.terminal import PlainStream, plain

VERBS = (
    "fit",
    "move",
    "inverse",
    "convert",
    "compare",
    "frame",
    "export",
    "explain",
    "new",
    "show",
    "base",
    "measure",
    "sessions",
    "standin",
    "traverse",
    "level",
    "resect",
    "ground",
    "projection",
    "datum-fit",
    "loops",
    "adjust",
    "design",
    "epochs",
    "rinex",
    "point",
    "baseline",
    "service",
)


def _module(verb: str) -> ModuleType:
    return import_module(f"fenwind.commands.{verb.replace('-', '_')}")


def build_parser() -> argparse.ArgumentParser:
    """The parser with all verbs."""
    parser = argparse.ArgumentParser(
        prog="fenwind", description="Control surveys: fits, frames and their evidence."
    )
    parser.add_argument("--version", action="version", version=f"fenwind {__version__}")
    verbs = parser.add_subparsers(dest="verb", required=True, metavar="VERB")
    for verb in VERBS:
        _module(verb).add_parser(verbs)
    return parser


def _joined(arguments: list[str]) -> list[str]:
    """Arguments in which a value that begins with a minus sign and a digit, such as a southern latitude, is
    joined to its option: argparse would take it for an option of its own."""
    out: list[str] = []
    for text in arguments:
        if out and re.fullmatch(r"--[a-z-]+", out[-1]) and re.match(r"-\d|-\.\d", text):
            out[-1] += f"={text}"
        else:
            out.append(text)
    return out


def main(argv: list[str] | None = None) -> int:
    """Run one command and return its exit code."""
    options = build_parser().parse_args(_joined(sys.argv[1:] if argv is None else argv))
    whole = sys.stdout
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):  # letters that it has none for are written as escapes
            stream.reconfigure(errors="backslashreplace")
    if whole.isatty():
        sys.stdout = PlainStream(whole)
    try:
        code = int(_module(options.verb).run(options))
        sys.stdout.flush()
        return code
    except FenwindError as error:
        return _refuse(error.one_line)
    except BrokenPipeError:
        _forget_output()
        return 0
    except OSError as error:
        _forget_output()
        return _refuse(
            f"the output cannot be written: {error.strerror}. Make room for it, or name another place"
        )
    finally:
        sys.stdout = whole


def _refuse(text: str) -> int:
    print(f"fenwind: {plain(text)}", file=sys.stderr)
    return 2


def _forget_output() -> None:
    """Keep the interpreter from trying to write the rest of the output at exit."""
    with suppress(OSError, ValueError, AttributeError):  # standard output is no file, as in a test
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
