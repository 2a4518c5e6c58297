"""What a job file may hold and what becomes of the rest: nothing is written that does not read back, what
cannot be read is set aside, and whatever was changed by hand is told."""

import math
import os
import sqlite3
import unittest.mock
import zlib
from collections.abc import Callable
from contextlib import closing
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from fenwind.doubts.of_job import Judge
from fenwind.errors import JobError
from fenwind.job.checksums import anchor_crc, blob_link
from fenwind.job.file import Blob, JobFile
from fenwind.job.job import Job
from fenwind.job.measuring import kept_rows
from fenwind.job.rescue import rescue
from fenwind.job.schema import FORMAT
from fenwind.records.entries import Add, Amend, Entry, amend
from fenwind.records.network import ObservationSet
from fenwind.records.records import Mark
from tests.support import TempFolder
from tests.worlds import WORLDS

ENDLESS = "WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM c)"
LONE = "caf\udce9"  # what Python makes of a file name in another encoding


class ReadBack(TempFolder):
    """Refused before anything is written, in words; the next gesture works."""

    def refused(
        self, job: Job, words: str, what: str, entries: list[Entry], blobs: tuple[Blob, ...] = ()
    ) -> None:
        before = dict(job.state.records), os.path.getsize(job.path)
        with self.assertRaisesRegex(JobError, words) as caught:
            job.record(what, entries, blobs)
        self.assertTrue(caught.exception.hint)
        str(caught.exception).encode()
        self.assertEqual((dict(job.state.records), os.path.getsize(job.path)), before)
        job.record("next", [amend(job.state.marks["T-01"], code=f"N{job.history.depth}")])

    def test_what_does_not_read_back(self) -> None:
        job = self.demo()
        mark, step, given = job.state.marks["T-01"], job.state.fits["fit-1"], job.state.given["g-T-02"]
        two = {"kind": ("distance",) * 2, "hi_m": (0.0,) * 2, "ht_m": (0.0,) * 2, "covariance": ((1.0,),) * 2}
        words = dict.fromkeys(("at", "to", "back", "setup", "group"), ("", ""))
        rows = ObservationSet(id="o", name="O", value=((1.0,), (math.nan,)), **two, **words)
        odd: Any = None
        cases: list[tuple[str, list[Entry]]] = [
            ("not a number", [Add(record=rows)]),
            ("not a number", [amend(given, e_m=-math.inf)]),
            ("not a number", [amend(step, uses=(("m", math.nan),))]),
            ("not a number", [Add(record=replace(given, id="new", n_m=math.inf))]),
            ("letters that cannot be kept", [amend(mark, code=LONE)]),
            ("letters that cannot be kept", [Add(record=Mark(id="x", name=LONE))]),
            ("letters that cannot be kept", [amend(mark, reason=LONE, code="X")]),
            ("missing or of another kind", [amend(mark, name=odd)]),
            ("missing or of another kind", [Add(record=Mark(id="x", name=odd))]),
            ("missing or of another kind", [amend(mark, active=odd)]),
            ("missing or of another kind", [amend(step, horizontal="sideways")]),
        ]
        for words, entries in cases:
            with self.subTest(entries=entries):
                self.refused(job, words, "bad", entries)
        code = [amend(job.state.marks["T-02"], code="X")]
        self.refused(job, "letters that cannot be kept", f"Read {LONE}", code)
        self.refused(
            job, "letters that cannot be kept", "raw", code, (Blob(name=LONE, origin="o", data=b"x"),)
        )
        self.refused(
            job, "letters that cannot be kept", "raw", code, (Blob(name="n", origin=LONE, data=b"x"),)
        )

    def test_any_exception_rolls_back(self) -> None:
        job = self.demo()
        for place in ("insert", "set_anchor"):
            broken = unittest.mock.patch(f"fenwind.job.file.{place}", side_effect=MemoryError)
            with broken, self.assertRaises(MemoryError):
                job.record("x", [amend(job.state.marks["T-01"], code="X")])
            job.record("y", [amend(job.state.marks["T-01"], code=place)])
            job.close()
            job = Job.open(job.path)
            self.addCleanup(job.close)
            self.assertEqual((job.state.marks["T-01"].code, job.undo_text), (place, "y"))

    def test_numbers_of_arrays_come_back_as_numbers(self) -> None:
        job = self.demo()
        job.record("n", [amend(job.state.given["g-T-02"], e_m=np.float64(1.5))])
        self.assertIs(type(job.state.given["g-T-02"].e_m), float)


class SetAside(TempFolder):
    def with_entries(self, *rows: tuple[str, str, str], name: str = "odd.fenwind") -> Job:
        path = self.folder / name
        file = JobFile(path, create=True)
        head = [("add job", "job", '{"name": "Odd"}'), ("add mark", "m", '{"id": "m", "name": "M"}')]
        file.append("2026-12-01T10:00:00", "New job", head)
        file.append("2026-12-01T10:01:00", "odd", rows)
        file.append(
            "2026-12-01T10:02:00",
            "code",
            [("amend", "m", '{"old": {"code": ""}, "new": {"code": "X"}, "reason": ""}')],
        )
        file.close()
        job = Job.open(path)
        self.addCleanup(job.close)
        return job

    def test_the_rest_is_there_and_so_is_its_undo(self) -> None:
        good = ("add mark", "n", '{"id": "n", "name": "N"}')
        odd = (
            ("add mark", "k", '{"id": 5, "name": "K"}'),
            ("add mark", "k", '{"id": "k"}'),
            ("add mark", "k", "{"),
            ("amend", "gone", '{"old": {}, "new": {"code": "Y"}, "reason": ""}'),
            ("amend", "m", '{"old": {}, "new": {"name": null}, "reason": ""}'),
            ("amend", "m", "[]"),
            ("add mark", "m", '{"id": "m", "name": "twice"}'),
            ("add mark", "k", "[" * 100_000),
            ("add given", "g", '{"id": "g", "mark": "m", "frame": "f"}'),
        )
        for number, row in enumerate(odd):
            with self.subTest(row=row[2][:40]):
                job = self.with_entries(good, row, name=f"{number}.fenwind")
                self.assertEqual((set(job.state.marks), job.state.marks["m"].name), ({"m", "n"}, "M"))
                self.assertEqual(len(job.state.set_aside), 1, job.state.set_aside)
                findings = Judge().judge(job.state, self.derive(job))
                told = [d for d in findings.open if d.rule == "job.set-aside"]
                self.assertRegex(told[0].text, "Set aside .*gesture 2, 'odd'")
                self.assertFalse(job.read_only)
                job.undo()
                job.undo()
                self.assertEqual(set(job.state.marks), {"m"})
                job.redo()
                self.assertEqual((set(job.state.marks), job.redo_text), ({"m", "n"}, "code"))

    def test_a_newer_kind_or_field_is_read_only_and_stays(self) -> None:
        newer = (
            ("add satellite", "s", '{"id": "s"}'),
            ("add mark", "s", '{"id": "s", "name": "S", "colour": "red"}'),
            ("amend", "m", '{"old": {}, "new": {"colour": "red"}, "reason": ""}'),
            ("split", "m", "{}"),
            (
                "add frame",
                "s",
                '{"id": "s", "spec": {"name": "F", "height": {"kind": "geoid", "tide": "zero"}}}',
            ),
        )
        for number, row in enumerate(newer):
            with self.subTest(row=row):
                job = self.with_entries(row, name=f"n{number}.fenwind")
                before = Path(job.path).read_bytes()
                self.assertEqual((set(job.state.marks), job.state.marks["m"].code), ({"m"}, "X"))
                self.assertRegex(job.state.set_aside[0], "made with a newer Fenwind")
                self.assertTrue(job.read_only)
                with self.assertRaisesRegex(JobError, "made with a newer Fenwind"):
                    job.record("x", [amend(job.state.marks["m"], code="Y")])
                self.assertEqual(Path(job.path).read_bytes(), before)

    def test_a_later_format_says_who_may_read_it(self) -> None:
        job = self.demo("later.fenwind")
        job.close()
        for least, words in ((FORMAT, ""), (FORMAT + 1, "made with a newer Fenwind")):
            with closing(sqlite3.connect(job.path, isolation_level=None)) as db:
                row = list(db.execute("SELECT * FROM anchor").fetchone()[1:10])
                row[:2] = [FORMAT + 1, least]
                db.execute("UPDATE anchor SET format = ?, reader = ?, crc = ?", (*row[:2], anchor_crc(row)))
                db.execute(f"PRAGMA user_version={FORMAT + 1}")
            if words:
                with self.assertRaisesRegex(JobError, words):
                    Job.open(job.path)
            else:
                again = Job.open(job.path)
                self.assertTrue(again.read_only)
                again.close()


class ByHand(TempFolder):
    """Changed with another program: told on opening."""

    def changed(self, change: Callable[[sqlite3.Connection], object], base: bytes) -> Path:
        path = self.folder / "changed.fenwind"
        path.write_bytes(base)
        with closing(sqlite3.connect(path, isolation_level=None)) as db:
            for (name,) in db.execute("SELECT name FROM sqlite_schema WHERE type = 'trigger'").fetchall():
                self.triggers[name] = db.execute(
                    "SELECT sql FROM sqlite_schema WHERE name = ?", (name,)
                ).fetchone()[0]
                db.execute(f"DROP TRIGGER {name}")
            change(db)
            for sql in self.triggers.values():
                db.execute(sql)
            db.execute("VACUUM")
        with open(path, "r+b") as file:  # as if it had been written like any other
            with closing(sqlite3.connect(path, isolation_level=None)) as db:
                cookie = db.execute("SELECT cookie FROM anchor").fetchone()[0]
            file.seek(40)
            file.write(int(cookie).to_bytes(4, "big"))
        return path

    def setUp(self) -> None:
        super().setUp()
        self.triggers: dict[str, str] = {}
        job = self.demo()
        for k in range(3):
            blobs = [Blob(name=f"raw {k}", origin="rover", data=b"data %d" % k * 50)]
            job.record(f"code {k}", [amend(job.state.marks["T-01"], code=f"C{k}")], blobs)
        job.close()
        self.good = Path(job.path).read_bytes()

    def test_tables_numbers_and_ends(self) -> None:
        cases: dict[str, tuple[str, ...]] = {
            "cut off": (
                "DELETE FROM entries WHERE gesture = (SELECT max(id) FROM gestures)",
                "DELETE FROM gestures WHERE id = (SELECT max(id) FROM gestures)",
            ),
            "no Fenwind made": (f"CREATE VIEW endless AS {ENDLESS} SELECT x FROM c",),
            "no Fenwind made \\(spy": (
                "CREATE TRIGGER spy AFTER INSERT ON entries BEGIN DELETE FROM entries; END",
            ),
            "no Fenwind made \\(more": ("CREATE TABLE more (a)",),
            "states format 0": ("PRAGMA user_version=0",),
            "states format 3": ("PRAGMA user_version=3",),
            "newer Fenwind": (f"PRAGMA user_version={FORMAT + 1}",),
            "mark as a job": ("PRAGMA application_id=7",),
            "anchor": ("UPDATE anchor SET gestures = 2",),
            "not what was written": ("UPDATE gestures SET what = 'x' WHERE id = 2",),
        }
        for words, statements in cases.items():
            with self.subTest(words=words):
                path = self.changed(lambda db, all_=statements: [db.execute(s) for s in all_], self.good)
                before = path.read_bytes()
                with self.assertRaisesRegex(JobError, words):
                    Job.open(path)
                self.assertEqual(path.read_bytes(), before)

    def test_an_endless_view_in_the_place_of_a_table(self) -> None:
        path = self.folder / "endless.fenwind"
        with closing(sqlite3.connect(path)) as db:
            db.execute("PRAGMA application_id=0x46574A42")
            columns = "x AS id, '' AS at, '' AS what, x'00' AS chain"
            db.execute(f"CREATE VIEW gestures AS {ENDLESS} SELECT {columns} FROM c")
            db.execute("CREATE TABLE entries (seq INTEGER PRIMARY KEY)")
        with self.assertRaisesRegex(JobError, "no Fenwind made"):
            Job.open(path)
        with self.assertRaisesRegex(JobError, "intact"):
            rescue(path)

    def test_pieces_of_raw_files(self) -> None:
        cases: dict[str, tuple[str, ...]] = {
            "not what was kept": ("UPDATE blobs SET name = 'raw 9' WHERE seq = 2",),
            "stands in another's place": (
                "CREATE TEMP TABLE t AS SELECT * FROM blobs WHERE seq < 3",
                "UPDATE blobs SET (hash, contents) = (SELECT hash, contents FROM t WHERE seq = 2) "
                "WHERE seq = 1",
                "UPDATE blobs SET (hash, contents) = (SELECT hash, contents FROM t WHERE seq = 1) "
                "WHERE seq = 2",
            ),
            "at the end are missing": ("DELETE FROM blobs WHERE seq = 3",),
            "contents of raw 2 \\(rover\\) are missing": ("DELETE FROM contents WHERE id = 3",),
            "were changed": ("UPDATE contents SET data = x'00' WHERE rowid = 1",),
            "nobody kept": (
                "INSERT INTO blobs SELECT 4, name, origin, at, hash, contents, chain "
                "FROM blobs WHERE seq = 3",
            ),
            "no kept file names": ("INSERT INTO contents VALUES (9, 1, 0, x'00')",),
        }
        for words, statements in cases.items():
            with self.subTest(words=words):
                path = self.changed(lambda db, all_=statements: [db.execute(s) for s in all_], self.good)
                job = Job.open(path)
                self.assertRegex("; ".join(job.state.set_aside), words)
                self.assertEqual(job.state.marks["T-01"].code, "C2", "the ledger is whole")
                job.close()

    def test_contents_are_unpacked_to_the_size_stated_only(self) -> None:
        bomb = zlib.compress(bytes(50_000_000))
        path = self.changed(
            lambda db: db.execute(
                "UPDATE contents SET data = ?, crc = ? WHERE rowid = 1", (bomb, zlib.crc32(bomb))
            ),
            self.good,
        )
        with closing(JobFile(path)) as file, self.assertRaisesRegex(JobError, "damaged"):
            file.blobs_of("rover")

    def test_equal_contents_under_two_names_are_two_files(self) -> None:
        path = self.folder / "two.fenwind"
        path.write_bytes(self.good)
        with closing(JobFile(path)) as file:
            same = [Blob(name=n, origin="base", data=b"equal") for n in ("a", "b", "a")]
            file.append_blobs(same)
            self.assertEqual([b.name for b in file.blobs_of("base")], ["a", "b"])
        with closing(Job.open(path)) as job:
            self.assertEqual(job.state.set_aside, ())

    def test_epochs_that_are_anothers(self) -> None:
        demo = WORLDS[0].make(self.folder / "d.fenwind")
        self.addCleanup(demo.close)
        ids = sorted(o for o in demo.state.records if demo.file.blobs_of(f"epochs of {o}"))
        blob = demo.file.blobs_of(f"epochs of {ids[0]}")[0]
        self.assertTrue(kept_rows(demo.file, ids[0]))
        for name, origin in (("000001", ids[0]), ("000001", ids[1]), ("000000", "nobody")):
            demo.file.append_blobs([Blob(name=name, origin=f"epochs of {origin}", data=blob.data)])
            with self.assertRaisesRegex(JobError, "is missing, or is another's"):
                kept_rows(demo.file, origin)

    def test_cut_short_while_open(self) -> None:
        path = self.folder / "open.fenwind"
        path.write_bytes(self.good)
        job = Job.open(path)
        self.addCleanup(job.close)
        self.assertFalse(job.taken_away)
        os.truncate(path, len(self.good) - 4096)
        self.assertTrue(job.taken_away)
        with self.assertRaisesRegex(JobError, "cut short"):
            job.record("x", [amend(job.state.marks["T-01"], code="X")])

    def test_a_file_system_without_hard_links(self) -> None:
        from tests.job.test_file import Formats

        old = Formats.old(self, 2)  # type: ignore[arg-type]
        with unittest.mock.patch("os.link", side_effect=OSError(1, "Operation not permitted")):
            job = Job.open(old)
            self.addCleanup(job.close)
            job.record("name", [amend(job.state.marks["m"], name="N")])
        self.assertTrue(Path(job.kept).is_file())

    def test_a_chain_of_blobs_is_what_the_page_says(self) -> None:
        link = blob_link(b"before", "n", "o", "t", "ab", 12)
        import hashlib

        self.assertEqual(link, hashlib.blake2b(b"before\x1fn\x1fo\x1ft\x1fab\x1f12", digest_size=16).digest())


class EveryByte(TempFolder):
    def test_a_changed_byte_is_told(self) -> None:
        """Bytes at random of a job with raw files: refused, set aside with a doubt, or told when it is
        read."""
        job = self.demo()
        for k in range(8):
            blobs = [Blob(name=f"raw {k}", origin="rover", data=os.urandom(900))]
            job.record(f"code {k}", [amend(job.state.marks["T-01"], code=f"C{k}")], blobs)
        job.close()
        good, rng = Path(job.path).read_bytes(), np.random.default_rng(30)
        path, silent = self.folder / "bent.fenwind", []
        for at in rng.choice(len(good), 400, replace=False).tolist():
            bent = bytearray(good)
            bent[at] ^= int(rng.integers(1, 256))
            path.write_bytes(bytes(bent))
            try:
                with closing(Job.open(path)) as again:
                    if not again.state.set_aside:
                        silent.append(at)
            except JobError:
                continue
        self.assertEqual(silent, [])


class Large(TempFolder):
    def test_a_long_list_opens_without_a_doubt(self) -> None:
        """Pages that lead to others are parted from some 400 on; what SQLite leaves in them is no damage."""
        job = self.demo()
        long = [Add(record=Mark(id=f"x{i}", name=f"X{i}", description="d" * 400)) for i in range(6000)]
        job.record("a list", long)
        job.close()
        self.assertGreater(os.path.getsize(job.path), 600 * 4096)
        with closing(Job.open(job.path)) as again:
            self.assertEqual((again.state.set_aside, len(again.state.marks) > 6000), ((), True))


class Faults(TempFolder):
    def test_amendments_know_their_old_values(self) -> None:
        job = self.demo()
        mark = job.state.marks["T-01"]
        wrong = Amend(subject=mark.id, old={"code": math.nan}, new={"code": "X"})
        with self.assertRaisesRegex(JobError, "not a number"):
            job.record("x", [wrong])
