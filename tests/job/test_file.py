"""The job file: nothing committed is lost, whatever happens to the process, the disk or the file."""

import hashlib
import math
import os
import resource
import signal
import sqlite3
import subprocess
import sys
import unittest
import unittest.mock
from dataclasses import replace
from pathlib import Path

import numpy as np

from fenwind.errors import FormatError, JobError
from fenwind.job.checksums import TOGETHER, chain_of
from fenwind.job.file import Blob
from fenwind.job.job import Job
from fenwind.job.rescue import rescue
from fenwind.job.schema import FORMAT
from fenwind.job.state import REMEMBERED
from fenwind.job.state import TOGETHER as RUN
from fenwind.paths import free_name
from fenwind.records import series
from fenwind.records.entries import Add, amend
from fenwind.records.records import KINDS, Acceptance, FitStep, GivenPosition, Mark, MeasuredPosition, Record
from tests.support import TempFolder

WRITER = """
import sys
from fenwind.job.job import Job
from fenwind.records.entries import Add
from fenwind.records.records import Mark
job = Job.open(sys.argv[1]) if len(sys.argv) > 2 else Job.create(sys.argv[1], "killed")
for i in range(100000):
    marks = [Mark(id=f"m{i}", name=f"M{i}"), Mark(id=f"n{i}", name=f"N{i}")]
    job.record(f"mark {i}", [Add(record=m) for m in marks])
    print(i, flush=True)
"""


POSITION = MeasuredPosition(id="", mark="", lat_rad=1.0698, lon_rad=0.1466, h_m=1284.1)


class Kept(TempFolder):
    def test_every_kind_comes_back_as_it_was(self) -> None:
        path = self.folder / "a.fenwind"
        records = [
            Mark(id="m", name='Ø "1"; DROP', description="Zeile\nzwei", hold_height=False),
            GivenPosition(
                id="g", mark="m", frame="f", e_m=0.1 + 0.2, n_m=-1e-17, height_m=None, sigma_h_m=1 / 3
            ),
            MeasuredPosition(
                id="o", mark="m", lat_rad=1.0698, lon_rad=0.1466, h_m=1284.1, crs="EPSG:4937",
                epoch_year=2026.9,
            ),
            FitStep(
                id="s", name="Fit 1", source_frame="f", target_frame="g", pivot=("m", "n"),
                uses=(("m", "check"),), rotation_rad=0.1,
            ),
            Acceptance(id="a", doubt="k|l", reason="why", value=0.25),
        ]  # fmt: skip
        job = Job.create(path, "all", records)
        step = job.state.fits["s"]
        job.record(
            "change",
            [amend(step, reason="tried", horizontal="scale", uses=(("m", "off"), ("n", "both")), pivot=None)],
        )
        job.close()
        again = Job.open(path)
        self.addCleanup(again.close)
        for record in (*records[:3], records[4]):
            self.assertEqual(again.state.records[record.id], record)
        self.assertEqual(again.state.fits["s"].uses, (("m", "off"), ("n", "both")))
        self.assertIsNone(again.state.fits["s"].pivot)
        self.assertEqual(again.state.amendments["s"][0].old["pivot"], ("m", "n"))
        self.assertTrue(set(KINDS) >= {"mark", "given", "measured", "fit", "acceptance"})

    def test_undo_and_redo_outlive_closing_and_append_only(self) -> None:
        job = self.demo()
        mark = job.state.marks["T-01"]
        job.record("one", [amend(mark, code="X1")])
        job.record("two", [amend(job.state.marks["T-01"], code="X2")])
        self.assertEqual(job.undo(), "two")
        job.close()
        job = Job.open(self.folder / "demo.fenwind")
        self.addCleanup(job.close)
        self.assertEqual((job.undo_text, job.redo_text, job.state.marks["T-01"].code), ("one", "two", "X1"))
        job.redo()
        job.undo()
        job.undo()
        self.assertEqual((job.state.marks["T-01"].code, job.state.amendments["T-01"]), (mark.code, []))
        self.assertEqual(job.undo(), "", "the making of the job cannot be undone")
        job.record("three", [amend(job.state.marks["T-01"], code="X3")])
        self.assertEqual(job.redo(), "", "a new gesture ends what could be redone")
        job.close()
        db = sqlite3.connect(self.folder / "demo.fenwind")
        self.addCleanup(db.close)
        self.assertEqual(db.execute("SELECT count(*) FROM gestures").fetchone()[0], 1 + 2 + 1 + 3 + 1)
        for statement in ("DELETE FROM entries", "UPDATE gestures SET what = ''"):
            with self.assertRaises(sqlite3.IntegrityError):
                db.execute(statement)

    def test_killed_at_any_moment(self) -> None:
        """A process that commits without pause is killed ten times; every gesture it had told of is there,
        whole."""
        path, told = str(self.folder / "k.fenwind"), 0
        for round_ in range(10):
            command = [
                sys.executable, "-c", WRITER.replace("range(100000)", f"range({told}, 100000)"), path,
                *(["again"] if round_ else []),
            ]  # fmt: skip
            with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
                assert process.stdout is not None
                for _ in range(3 + 7 * round_):
                    line = process.stdout.readline()
                    told = max(told, int(line or -1) + 1)
                process.send_signal(signal.SIGKILL)
                for line in process.stdout:
                    told = max(told, int(line) + 1) if line.endswith("\n") else told
            job = Job.open(path)
            marks = job.state.marks
            job.close()
            self.assertTrue(all(f"m{i}" in marks and f"n{i}" in marks for i in range(told)), told)
            self.assertEqual(len(marks) % 2, 0, "a gesture is kept whole or not at all")
            told = len(marks) // 2


#: The layout of formats 1 and 2, as the first two versions wrote it.
OLD_SCHEMA = """
CREATE TABLE gestures (id INTEGER PRIMARY KEY, at TEXT NOT NULL, what TEXT NOT NULL) STRICT;
CREATE TABLE entries (seq INTEGER PRIMARY KEY, gesture INTEGER NOT NULL REFERENCES gestures (id),
  kind TEXT NOT NULL, subject TEXT NOT NULL, body TEXT NOT NULL) STRICT;
CREATE TRIGGER gestures_kept BEFORE DELETE ON gestures BEGIN SELECT RAISE(ABORT, 'kept'); END;
CREATE TRIGGER entries_fixed BEFORE UPDATE ON entries BEGIN SELECT RAISE(ABORT, 'kept'); END;
"""


class Formats(TempFolder):
    def old(self, version: int) -> Path:
        """A file of an earlier format, with an undo in it."""
        path = self.folder / f"old {version}.fenwind"
        db = sqlite3.connect(path)
        db.executescript(OLD_SCHEMA)
        db.execute(f"PRAGMA application_id={0x46574A42}")
        db.execute(f"PRAGMA user_version={version}")
        rows = [
            (
                "New job",
                [("add job", "job", '{"name": "Old"}'), ("add mark", "m", '{"id": "m", "name": "M"}')],
            ),
            ("code", [("amend", "m", '{"old": {"code": ""}, "new": {"code": "X"}, "reason": "r"}')]),
            ("Undo code", [("undo", "2", "{}")]),
        ]
        for number, (what, entries) in enumerate(rows, 1):
            db.execute("INSERT INTO gestures VALUES (?, '2026-11-01', ?)", (number, what))
            for entry in entries:
                db.execute(
                    "INSERT INTO entries (gesture, kind, subject, body) VALUES (?, ?, ?, ?)", (number, *entry)
                )
        db.commit()
        db.close()
        return path

    def test_earlier_formats_are_read_as_they_are_and_become_new_with_the_first_gesture(self) -> None:
        for version in (1, 2):
            path = self.old(version)
            before = path.read_bytes()
            job = Job.open(path)
            self.assertEqual(
                (job.state.marks["m"].code, job.redo_text, job.state.info.name), ("", "code", "Old")
            )
            job.close()
            self.assertEqual(path.read_bytes(), before, "looking changes nothing")
            job = Job.open(path)
            job.redo()
            job.record("name", [amend(job.state.marks["m"], name="N")])
            self.assertEqual(Path(job.kept).read_bytes(), before, "the old file is kept")
            job.close()
            again = Job.open(path)
            self.addCleanup(again.close)
            self.assertEqual((again.state.marks["m"].code, again.state.marks["m"].name), ("X", "N"))
            self.assertEqual((again.undo_text, again._file.version, again.kept), ("name", FORMAT, ""))

    def test_an_upgrade_that_fails_leaves_the_old_file(self) -> None:
        path = self.old(2)
        before = path.read_bytes()
        job = Job.open(path)
        broken = unittest.mock.patch("os.replace", side_effect=OSError(5, "Input/output error"))
        with broken, self.assertRaisesRegex(JobError, "earlier format"):
            job.record("name", [amend(job.state.marks["m"], name="N")])
        self.assertEqual((path.read_bytes(), job.state.marks["m"].name), (before, "M"))
        job.close()
        self.assertFalse(list(self.folder.glob(".*upgrade")))

    def test_blobs_and_series(self) -> None:
        columns = {
            "t": ("s", np.arange(5, dtype="<f8") / 7),
            "sats": ("", np.array([1, 2, 3], dtype="<i2")),
            "none": ("m", np.zeros(0, dtype="<f4")),
        }
        data = series.encode(columns)
        self.assertEqual(data[:6], b"FWSR1\n")
        for name, (unit, values) in series.decode(data).items():
            self.assertEqual(unit, columns[name][0])
            np.testing.assert_array_equal(values, columns[name][1])
        for bad in (b"", data[:-1], data + b"x", data.replace(b"<f8", b"<c8"), b"FWSR1\n{", data[:10]):
            with self.assertRaises(FormatError):
                series.decode(bad)
        with self.assertRaises(FormatError):
            series.encode({"c": ("", np.zeros(2, dtype=complex))})
        job = self.demo()
        raw = Blob(name="day 1.nmea", origin="rover, port 9001", data=b"$GPGGA" * 5000)
        kept = [raw, Blob(name="series", origin="day 1", data=data)]
        job.record("log", [amend(job.state.marks["T-01"], code="L")], blobs=kept)
        job.close()
        self.assertLess((self.folder / "demo.fenwind").stat().st_size, 30_000 + 150_000)
        again = Job.open(self.folder / "demo.fenwind")
        self.addCleanup(again.close)
        self.assertEqual([again.blob(b.hash) for b in kept], kept)
        with self.assertRaisesRegex(JobError, "holds no file"):
            again.blob("0" * 64)


class Damage(TempFolder):
    def test_every_changed_value_is_found_and_named(self) -> None:
        """Bits flipped in stored values behind SQLite's back: what is read is never what nobody wrote."""
        job = self.demo()
        job.record("code", [amend(job.state.marks["T-01"], code="SEEN")])
        job.close()
        path = self.folder / "demo.fenwind"
        good, rng = path.read_bytes(), np.random.default_rng(5)
        wanted = self.records(path)
        text = [i for i in range(len(good)) if 32 <= good[i] < 127]
        noticed = 0
        for place in rng.choice(text, 150, replace=False).tolist():
            data = bytearray(good)
            data[place] ^= 1 << int(rng.integers(0, 7))
            path.write_bytes(bytes(data))
            try:
                found = self.records(path)
            except JobError as error:
                noticed += 1
                self.assertTrue(error.hint)
            else:
                self.assertEqual(found, wanted, f"byte {place}")
            self.assertEqual(path.read_bytes(), bytes(data), "a damaged file is never written to")
        self.assertGreater(noticed, 40)
        path.write_bytes(good.replace(b"SEEN", b"SEEM"))
        with self.assertRaisesRegex(JobError, "damaged at gesture 2 .*T-01.*1 gestures before it are intact"):
            Job.open(path)

    def test_the_intact_part_opens_beside_the_damaged_file(self) -> None:
        """Cut at any byte and with values changed: every gesture before the damage is there, none after it,
        and the damaged file keeps its bytes."""
        job = self.demo()
        for i in range(12):
            blob = Blob(name="a", origin="b", data=b"raw %d" % i)
            job.record(f"code {i}", [amend(job.state.marks["T-01"], code=f"C{i:03d}")], [blob])
        job.close()
        path = self.folder / "demo.fenwind"
        good, rng = path.read_bytes(), np.random.default_rng(4)
        told = {self.codes(path)}
        self.assertEqual(told, {"C011"})
        damages = [good[:cut] for cut in (*rng.integers(1, len(good), 25), len(good) - 1, 4096, 100)]
        damages += [good.replace(b"C%03d" % i, b"X%03d" % i) for i in (0, 5, 11)]
        seen = set()
        for damaged in damages:
            path.write_bytes(damaged)
            try:
                self.codes(path)
                self.assertEqual(self.codes(path), "C011", "opened whole, or not at all")
            except JobError:
                pass
            try:
                found = rescue(path)
            except JobError as error:
                self.assertIn("intact", str(error))
                continue
            finally:
                self.assertEqual(path.read_bytes(), damaged)
            kept = Job.open(found.path, read_only=True)
            seen.add(kept.state.marks["T-01"].code)
            self.assertEqual(kept.blob(Blob(name="", origin="", data=b"raw 0").hash).data, b"raw 0")
            with self.assertRaisesRegex(JobError, "read only"):
                kept.record("x", [amend(kept.state.marks["T-01"], code="N")])
            kept.copy_to(self.folder / "go on.fenwind")
            kept.close()
            again = Job.open(self.folder / "go on.fenwind")
            again.record("x", [amend(again.state.marks["T-01"], code="N")])
            again.close()
            for file in (found.path, self.folder / "go on.fenwind"):
                file.unlink()
        self.assertLessEqual({"C004", "C010"}, seen, seen)
        self.assertLessEqual(seen, {"BB", *(f"C{i:03d}" for i in range(12))})

    def codes(self, path: Path) -> str:
        return self.records(path)["T-01"].code

    def records(self, path: Path) -> dict:
        job = Job.open(path)
        try:
            return dict(job.state.records)
        finally:
            job.close()


class Chained(unittest.TestCase):
    def test_all_of_a_long_gesture_is_in_its_checksum(self) -> None:
        rows = [("add mark", f"m{k}", "{}") for k in range(2 * TOGETHER + 1)]
        text = "\x1f".join(["", "now", "what", *(word for row in rows for word in row)])
        whole = hashlib.blake2b(b"before", digest_size=16)
        whole.update(text.encode())
        self.assertEqual(chain_of(b"before", "now", "what", rows), whole.digest())


class Refused(TempFolder):
    def refusal(self, path: object, words: str) -> None:
        file = Path(str(path))
        before = file.read_bytes() if file.is_file() else b""
        with self.assertRaisesRegex(JobError, words) as caught:
            Job.open(str(path))
        self.assertTrue(caught.exception.hint)
        if before:
            self.assertEqual(file.read_bytes(), before)

    def test_a_long_gesture_comes_back_in_its_order_and_is_taken_back_as_one(self) -> None:
        """Marks and positions by turns, of lengths about those that are taken in together."""
        for count in (REMEMBERED // 2 - 1, REMEMBERED // 2, RUN // 2 - 1, RUN // 2, RUN + 7):
            with self.subTest(count=count):
                path = self.folder / f"{count}.fenwind"
                job = Job.create(path, "long")
                records: list[Record] = [Mark(id="first", name="M")]
                for i in range(count):
                    records += [Mark(id=f"m{i}", name=f"M{i}"), replace(POSITION, id=f"o{i}", mark=f"m{i}")]
                job.record("a list", [Add(record=r) for r in records])
                before = dict(job.state.records), dict(job.state.added_at)
                job.close()
                again = Job.open(path)
                self.assertEqual((again.state.records, again.state.added_at), before)
                self.assertEqual(list(again.state.records), list(before[0]))
                self.assertEqual(list(again.state.of(Mark)), ["first", *(f"m{i}" for i in range(count))])
                again.undo()
                self.assertEqual(len(again.state.records), len(before[0]) - 2 * count - 1)
                again.redo()
                self.assertEqual(list(again.state.records), list(before[0]))
                again.close()

    def test_files_that_cannot_be_used(self) -> None:
        good = self.demo("good.fenwind")
        good.close()
        data = (self.folder / "good.fenwind").read_bytes()
        self.refusal(self.folder / "none.fenwind", "no such job")
        self.refusal(self.write("empty.fenwind", b""), "empty")
        self.refusal(self.write("text.fenwind", "name,e,n\n" * 900), "no job file")
        self.refusal(self.write("half.fenwind", data[: len(data) // 2]), "damaged")
        broken = bytearray(data)
        broken[4096:12288] = os.urandom(8192)
        self.refusal(self.write("broken.fenwind", bytes(broken)), "damaged")
        other = sqlite3.connect(self.folder / "other.db")
        other.execute("CREATE TABLE t (a)")
        other.close()
        self.refusal(self.folder / "other.db", "not a Fenwind job")
        os.chmod(self.write("fixed.fenwind", data), 0o444)
        self.refusal(self.folder / "fixed.fenwind", "read-only")
        newer = sqlite3.connect(self.write("newer.fenwind", data))
        newer.execute(f"PRAGMA user_version={FORMAT + 1}")
        newer.close()
        self.refusal(self.folder / "newer.fenwind", "newer Fenwind")
        self.refusal(self.folder, "no such job")
        with self.assertRaisesRegex(JobError, "already"):
            Job.create(self.folder / "good.fenwind", "again")
        with self.assertRaisesRegex(JobError, "folder"):
            Job.create(self.folder / "nowhere" / "x.fenwind", "again")

    def test_locked(self) -> None:
        self.demo("open.fenwind")
        self.refusal(self.folder / "open.fenwind", "another window")

    def test_full_disk_loses_nothing(self) -> None:
        job = self.demo()
        before = len(job.state.records)
        pages = job._file._db.execute("PRAGMA page_count").fetchone()[0]
        job._file._db.execute(f"PRAGMA max_page_count={pages}")
        many = [Add(record=Mark(id=f"x{i}", name=f"X{i}")) for i in range(5000)]
        with self.assertRaisesRegex(JobError, "disk is full"):
            job.record("too much", many)
        self.assertEqual((len(job.state.records), job.undo_text), (before, ""))
        job._file._db.execute("PRAGMA max_page_count=100000")
        job.record("again", many[:10])
        self.assertEqual(len(job.state.records), before + 10)

    def test_a_file_that_may_not_grow(self) -> None:
        """The kernel itself refuses: the file size limit of the process is reached."""
        job = self.demo()
        size = os.path.getsize(job.path)
        soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
        self.addCleanup(resource.setrlimit, resource.RLIMIT_FSIZE, (soft, hard))
        handler = signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
        self.addCleanup(signal.signal, signal.SIGXFSZ, handler)
        resource.setrlimit(resource.RLIMIT_FSIZE, (size, hard))
        with self.assertRaisesRegex(JobError, "disk"):
            job.record("too much", [Add(record=Mark(id=f"x{i}", name=f"X{i}")) for i in range(5000)])
        resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))
        self.assertNotIn("x0", job.state.records)
        job.close()
        again = Job.open(self.folder / "demo.fenwind")
        self.addCleanup(again.close)
        self.assertNotIn("x0", again.state.records)

    def test_copy(self) -> None:
        job = self.demo()
        job.copy_to(self.folder / "copy.fenwind")
        copy = Job.open(self.folder / "copy.fenwind")
        self.addCleanup(copy.close)
        self.assertEqual(copy.state.records, job.state.records)
        with self.assertRaisesRegex(JobError, "already"):
            job.copy_to(self.folder / "copy.fenwind")


class NoNumbers(TempFolder):
    def test_nan_and_infinity_of_either_sign_never_reach_the_ledger(self) -> None:
        job = self.demo()
        self.addCleanup(job.close)
        known, count = job.state.given["g-T-02"], len(job.state.given)
        for value in (math.nan, math.inf, -math.inf):
            for entry in (amend(known, e_m=value), Add(record=replace(known, id="new", n_m=value))):
                with self.assertRaisesRegex(JobError, "not a number"):
                    job.record("bad", [entry])
        self.assertEqual((job.state.given["g-T-02"], len(job.state.given)), (known, count))

    def test_a_name_that_is_taken_is_not_given(self) -> None:
        names = []
        for _ in range(3):
            found = free_name(self.folder / "job.fenwind", "before")
            found.write_text("taken")
            names.append(found.name)
        self.assertEqual(
            names, ["job (before).fenwind", "job (before, 2).fenwind", "job (before, 3).fenwind"]
        )


class TakenAway(TempFolder):
    def test_a_file_that_is_gone_is_noticed_and_everything_can_be_copied(self) -> None:
        for count, deed in enumerate(("delete", "replace", "move")):
            with self.subTest(deed):
                job = self.demo(f"job{count}.fenwind")
                path = Path(job.path)
                job.record("before", [amend(job.state.marks["P-01"], code="ZZ")])
                self.assertFalse(job.taken_away)
                if deed == "move":
                    path.rename(self.folder / "elsewhere")
                else:
                    path.unlink()
                if deed == "replace":
                    path.write_bytes(b"something else")
                with self.assertRaisesRegex(JobError, "nothing is kept there any more"):
                    job.record("after", [amend(job.state.marks["P-01"], code="YY")])
                self.assertEqual(job.state.marks["P-01"].code, "ZZ")
                job.copy_to(self.folder / f"saved{count}.fenwind")
                job.close()
                if deed == "replace":
                    self.assertEqual(path.read_bytes(), b"something else")
                saved = Job.open(self.folder / f"saved{count}.fenwind")
                self.assertEqual((saved.state.marks["P-01"].code, saved.undo_text), ("ZZ", "before"))
                saved.record("on", [amend(saved.state.marks["P-01"], code="YY")])
                saved.close()
