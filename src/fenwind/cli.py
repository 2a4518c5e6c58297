"""The command line. Each verb loads what it needs only when it runs, so that --help and --version always
work.

Exit codes: 0 done, 1 done with a grave doubt, 2 bad input (one line on standard error).
"""

from __future__ import annotations

import argparse
import os
import re
import sys
from importlib import import_module

from fenwind.errors import FenwindError

VERBS = ("fit", "move", "inverse", "convert", "compare", "frame", "export", "explain")


def build_parser() -> argparse.ArgumentParser:
    """The parser with all verbs."""
    parser = argparse.ArgumentParser(
        prog="fenwind", description="Control surveys: fits, frames and their evidence."
    )
    parser.add_argument("--version", action="version", version="fenwind 0.1.0")
    verbs = parser.add_subparsers(dest="verb", required=True, metavar="VERB")
    for verb in VERBS:
        import_module(f"fenwind.commands.{verb}").add_parser(verbs)
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
    try:
        return int(import_module(f"fenwind.commands.{options.verb}").run(options))
    except FenwindError as error:
        print(f"fenwind: {error.one_line}", file=sys.stderr)
        return 2
    except BrokenPipeError:
        # The reader of our output closed it; keep the interpreter from complaining about that at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
