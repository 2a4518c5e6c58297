"""Write the records part of docs/formats/job.md from their classes: python docs/formats/make_job_page.py"""

from __future__ import annotations

import types
from dataclasses import MISSING, Field, fields, is_dataclass
from pathlib import Path
from typing import Any, Literal, Union, get_args, get_origin, get_type_hints

import msgspec

from fenwind.job.schema import FORMAT
from fenwind.records.records import KINDS

PAGE = Path(__file__).with_name("job.md")
#: What stands above it on the page is written by hand.
MARK = "<!-- Made by make_job_page.py from here on -->\n"
HEAD = """## Records of format {format}

The body of an entry `add KIND` is a JSON object with the fields below; the `old` and `new` of an `amend`
have some of the same
fields. Lengths are metres, angles radians, sigmas one standard deviation, times seconds, whatever the job
shows;
the end of a name says the unit (`_m`, `_m2`, `_rad`, `_s`, `_year`). A field that is missing has the value
of the last column; "needed" means that it may not be missing.

Types: `text`, `number`, `integer`, `true or false`, `null`, `list of T`, `[T, U]` (a list of just these),
words in quotes (one of them), and the name of another table.
"""


def type_words(hint: Any, others: dict[str, Any]) -> str:
    """A type as the page writes it; classes met on the way are noted in `others`."""
    origin, inner = get_origin(hint), get_args(hint)
    if hint in (str, float, int, bool, type(None)):
        return {str: "text", float: "number", int: "integer", bool: "true or false", type(None): "null"}[hint]
    if origin is Literal:
        return " or ".join(f'"{word}"' for word in inner)
    if origin in (Union, types.UnionType):
        return " or ".join(type_words(one, others) for one in inner)
    if origin is tuple and inner[-1] is Ellipsis:
        return f"list of {_bracketed(type_words(inner[0], others))}"
    if origin is tuple:
        return f"[{', '.join(type_words(one, others) for one in inner)}]"
    if origin is dict:
        return f"object of text to {_bracketed(type_words(inner[1], others))}"
    if is_dataclass(hint):
        others[hint.__name__] = hint
        return hint.__name__
    raise TypeError(f"no words for {hint!r}")


def _bracketed(words: str) -> str:
    return f"({words})" if " or " in words else words


def default_words(field: Field[Any]) -> str:
    """What a missing field counts as, in JSON."""
    if field.default is not MISSING:
        return msgspec.json.encode(field.default).decode()
    if field.default_factory is not MISSING:
        return msgspec.json.encode(field.default_factory()).decode()
    return "needed"


def table(title: str, cls: Any, others: dict[str, Any]) -> list[str]:
    """Lines of one class: its docstring and its fields."""
    hints = get_type_hints(cls)
    lines = [
        f"### {title}",
        "",
        " ".join((cls.__doc__ or "").split()),
        "",
        "| field | type | when missing |",
        "|---|---|---|",
    ]
    lines += [
        f"| `{f.name}` | {type_words(hints[f.name], others)} | {default_words(f)} |" for f in fields(cls)
    ]
    return [*lines, ""]


def page() -> str:
    """The part below the mark."""
    lines = [*HEAD.format(format=FORMAT).splitlines(), ""]
    others: dict[str, Any] = {}
    for kind, cls in KINDS.items():
        lines += table(f"add {kind}", cls, others)
    done: set[str] = set()
    while waiting := [name for name in others if name not in done]:
        for name in waiting:
            done.add(name)
            lines += table(name, others[name], others)
    return "\n".join(lines).rstrip() + "\n"


if __name__ == "__main__":
    PAGE.write_text(PAGE.read_text(encoding="utf-8").split(MARK)[0] + MARK + page(), encoding="utf-8")
