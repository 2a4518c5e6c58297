"""The page of the job file's format: it has every field, a job can be read by it alone, and a change of what
stands in the file gets a number."""

import hashlib
import importlib.util
import json
import re
import sqlite3
import unittest
from pathlib import Path
from typing import Any

from fenwind.job.schema import FORMAT
from tests.support import TempFolder
from tests.worlds import WORLDS

FORMATS = Path(__file__).parents[2] / "docs" / "formats"
PAGE = FORMATS / "job.md"
#: Digest of the tables of fields of each format. Where the fields changed, FORMAT in job/schema.py goes up by
#: one, and the new digest comes here; that of a format that was given out never changes.
FIELDS = {4: "f26f19b52ff8f7a5"}


def generated() -> str:
    spec = importlib.util.spec_from_file_location("make_job_page", FORMATS / "make_job_page.py")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return str(module.page())


def tables(text: str) -> dict[str, dict[str, tuple[str, str]]]:
    """Fields of each table of the page: name to type and what a missing one counts as."""
    found: dict[str, dict[str, tuple[str, str]]] = {}
    for part in text.split("\n### ")[1:]:
        rows = re.findall(r"^\| `(\w+)` \| (.+?) \| (.+?) \|$", part, re.MULTILINE)
        found[part.splitlines()[0]] = {name: (words, missing) for name, words, missing in rows}
    return found


class ByThePage:
    """Judges JSON values by the page's words for types, and by nothing else."""

    def __init__(self, text: str) -> None:
        self.tables = tables(text)

    def fits(self, words: str, value: Any) -> bool:
        for one in self._alternatives(words):
            plain = {
                "text": isinstance(value, str),
                "null": value is None,
                "true or false": isinstance(value, bool),
                "number": isinstance(value, float | int) and not isinstance(value, bool),
                "integer": isinstance(value, int) and not isinstance(value, bool),
            }
            if plain.get(one) or (one.startswith('"') and value == one.strip('"')):
                return True
            if one in self.tables and isinstance(value, dict) and self.record(one, value) == "":
                return True
            if one.startswith("list of ") and isinstance(value, list):
                inner = one[8:]
                inner = inner[1:-1] if inner.startswith("(") else inner
                if all(self.fits(inner, part) for part in value):
                    return True
            if one.startswith("[") and isinstance(value, list):
                inners = self._split(one[1:-1], ", ")
                if len(inners) == len(value) and all(map(self.fits, inners, value)):
                    return True
        return False

    def _alternatives(self, words: str) -> list[str]:
        return ["true or false"] if words == "true or false" else self._split(words, " or ")

    @staticmethod
    def _split(words: str, at: str) -> list[str]:
        parts, depth, start = [], 0, 0
        for k, letter in enumerate(words):
            depth += (letter in "([") - (letter in ")]")
            if depth == 0 and words.startswith(at, k):
                parts.append(words[start:k])
                start = k + len(at)
        return [*parts, words[start:]]

    def record(self, table: str, body: dict[str, Any]) -> str:
        """What of a record is not as the page says, empty for nothing."""
        fields = self.tables[table]
        for name, (_, missing) in fields.items():
            if missing == "needed" and name not in body:
                return f"{table}: {name} is missing"
        for name, value in body.items():
            if name not in fields or not self.fits(fields[name][0], value):
                return f"{table}: {name} is {json.dumps(value)[:60]}"
        return ""


class Page(unittest.TestCase):
    def test_it_is_made_from_the_classes_and_their_number_with_it(self) -> None:
        fresh = generated()
        self.assertTrue(PAGE.read_text().endswith(fresh), "run python docs/formats/make_job_page.py")
        rows = "\n".join(sorted(line for line in fresh.splitlines() if line.startswith(("| `", "### "))))
        digest = hashlib.sha256(rows.encode()).hexdigest()[:16]
        self.assertEqual(FIELDS.get(FORMAT), digest, "the fields changed: give the format a number")


class Reading(TempFolder):
    def test_six_jobs_are_read_by_the_page_alone(self) -> None:
        page = ByThePage(PAGE.read_text())
        self.assertGreater(sum(map(len, page.tables.values())), 360)
        seen = set()
        for world in WORLDS:
            job = world.make(self.folder / f"{world.name}.fenwind")
            job.close()
            db = sqlite3.connect(job.path)
            self.addCleanup(db.close)
            for kind, subject, body in db.execute("SELECT kind, subject, body FROM entries").fetchall():
                if kind.startswith("add "):
                    seen.add(kind)
                    self.assertEqual(page.record(kind, json.loads(body)), "", subject)
        self.assertGreaterEqual(len(seen), 20, seen)
        self.assertNotEqual(page.record("add mark", {"id": "m"}), "")
        self.assertNotEqual(page.record("add mark", {"id": "m", "name": 5}), "")
