"""The everyday of the window: jobs opened and remembered, files dropped on it, help, words of the trade,
who a report is from, marks that are one."""

import struct
import subprocess
import sys
import zlib
from pathlib import Path
from unittest import mock

from PySide6.QtCore import QEvent, QMimeData, QPoint, QPointF, Qt, QUrl
from PySide6.QtGui import QDragEnterEvent, QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMenu, QWidget

from fenwind.desk.finder import matching
from fenwind.desk.help_window import PACKAGES
from fenwind.desk.job_commands import RECENT, recent_jobs, remember_job
from fenwind.desk.letterhead import MOST
from fenwind.desk.stage_table import STAGES
from fenwind.desk.synonyms import SYNONYMS
from fenwind.job.steps.outcome import Node
from tests.desk.qt_case import QtTestCase

#: Shows the window, and when that is painted which enumerations of Qt's namespace and modules there are.
FIRST_PAINTING = """
import enum, os, sys
made, new = set(), enum.EnumType.__new__
enum.EnumType.__new__ = lambda m, name, *a, **k: (made.add(name), new(m, name, *a, **k))[1]
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication
from fenwind.desk.launch import Launch, parse_arguments
from fenwind.desk.theme import apply_theme
app = QApplication([])
apply_theme(app)
launch = Launch(parse_arguments([]))
def tell():
    mods = {"dataclasses", "datetime", "numpy"} & set(sys.modules)
    print(*{"GlobalColor", "AlignmentFlag", "Key"} & made, *mods, "painted", flush=True)
    os._exit(0)
launch.shell.first_painted.connect(lambda: QTimer.singleShot(0, tell))
launch.shell.show()
app.exec()
"""


class Everyday(QtTestCase):
    own_windows = True

    def setUp(self) -> None:
        super().setUp()
        self.w = self.open()
        self.b = self.w.bridge

    def answer(self, text: str, ask=None) -> None:
        ask = ask or self.w.doubts.ask
        ask.edit.setText(text)
        QTest.keyClick(ask.edit, Qt.Key.Key_Return)

    def test_the_first_painting_needs_little(self) -> None:
        run = [sys.executable, "-c", FIRST_PAINTING]
        done = subprocess.run(run, capture_output=True, text=True, check=False)
        self.assertEqual(done.stdout, "painted\n", done.stderr)

    def test_how_large_sheets_would_like_to_be_is_not_asked(self) -> None:
        """When any text changes; a sheet out of sight is not laid out, so nobody else asks it."""
        asked: list[int] = []

        class Asked(QWidget):
            def hasHeightForWidth(self) -> bool:
                return True

            def heightForWidth(self, width: int) -> int:
                asked.append(width)
                return 10

        hidden = Asked()
        self.w.shell.pages.addWidget(hidden)
        QTest.qWait(20)
        for text in ("FIT", "FIT 1, with a longer caption"):
            hidden.updateGeometry()
            asked.clear()
            self.w.page.fits.caption.setText(text)
            QApplication.sendPostedEvents(None, QEvent.Type.LayoutRequest.value)
            self.assertEqual(asked, [])

    def test_jobs_are_opened_beside_and_remembered(self) -> None:
        commands, settings = self.w.job_commands, self.w.shell.settings
        here = self.b.path
        self.assertEqual(recent_jobs(settings), [str(Path(here).absolute())])
        started: list[tuple[str, ...]] = []
        with mock.patch.object(commands, "start", lambda *a: started.append(a)):
            self.w.actions.run("job.new")
            commands.open_path(str(here))
            commands.open_path("/other.fenwind")
            self.assertEqual(started, [("--empty",), ("/other.fenwind",)])
            self.assertIn("is the job that is open here", self.w.line.text())
            self.w.actions.run("job.recent")
            self.assertIn("No other job", self.w.line.text())
            others = [self.folder / f"{k}.fenwind" for k in range(12)]
            for path in others:
                path.touch()
                remember_job(settings, str(path))
            others[11].unlink()
            self.assertEqual(recent_jobs(settings)[0], str(others[10]))
            self.assertEqual(len(recent_jobs(settings)), RECENT - 1)
            self.w.actions.run("job.recent")
            menu = QApplication.activePopupWidget()
            assert isinstance(menu, QMenu)
            menu.actions()[0].trigger()
            self.assertEqual(started[-1], (str(others[10]),))
            menu.close()

    def test_files_dropped_open_as_what_they_are(self) -> None:
        points = self.folder / "points.csv"
        points.write_text("name,e,n,h\nD-1,1200,2100,1230\n")
        job = self.folder / "other.fenwind"
        opened: list[str] = []
        under: list[str] = []
        with (
            mock.patch.object(self.w.job_commands, "open_path", opened.append),
            mock.patch.object(self.w.plan_commands, "add_backdrop", under.append),
        ):
            for path in (job, self.folder / "plan.DXF", self.folder / "air.tif", points):
                data = QMimeData()
                data.setUrls([QUrl.fromLocalFile(str(path)), QUrl("https://example.org/x.csv")])
                how = (
                    Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                    Qt.KeyboardModifier.NoModifier,
                )  # fmt: skip
                QApplication.sendEvent(self.w.shell, QDragEnterEvent(QPoint(300, 300), *how))
                QApplication.sendEvent(self.w.shell, QDropEvent(QPointF(300, 300), *how))
        self.assertEqual([Path(p).name for p in opened], ["other.fenwind"])
        self.assertEqual([Path(p).name for p in under], ["plan.DXF", "air.tif"])
        marks = self.w.pages["Marks"]
        self.assertEqual((self.w.stage, marks.stack.currentWidget()), ("Marks", marks.incoming))
        self.assertEqual(marks.incoming.name_of(0), "D-1")

    def test_help_for_every_stage_shortcuts_and_licences(self) -> None:
        page = None
        for stage in STAGES:
            self.w.show_stage(stage.name)
            self.w.actions.run("help.stage")
            window = self.w.job_commands.help_window
            page = window.page.toPlainText()
            self.assertTrue(page.startswith(stage.name) and len(page) > 300, stage.name)
        QTest.keyClick(window.page, Qt.Key.Key_Escape)
        self.assertFalse(window.isVisible())
        self.w.actions.run("help.shortcuts")
        page = window.page.toPlainText()
        for spec in self.w.actions.specs.values():
            if spec.shortcut:
                self.assertIn(spec.shortcut, page)
        self.w.actions.run("help.about")
        page = window.page.toPlainText()
        for name in PACKAGES:
            self.assertIn(name.lower().replace("_", "-"), page.lower().replace("_", "-"))
        self.assertNotIn("None", page)
        self.assertEqual(self.w.actions.actions["help.stage"].shortcut().toString(), "F1")

    def test_words_of_the_trade_find_commands(self) -> None:
        self.assertEqual([key for key in SYNONYMS if key not in self.w.actions.specs], [])
        entries = self.w._findable()
        for words, text in (
            ("import", "Paste a list"), ("export dxf", "Hand over a drawing (DXF)"),
            ("rotate", "Move a file …"),
            ("inverse", "Measure between two marks"), ("geoid", "Frame"), ("feet", "Frame"),
            ("scale factor", "Scale the grid to the ground"), ("average", "Adopt another position …"),
            ("delete", "Switch marks off"), ("ground", "Ground"), ("redo", "Do again"),
            ("open", "Open a job …"), ("help", "Help for this stage"), ("resection", "Take in a setup …"),
            ("loop heights", "Take in levelling …"), ("calibration", "New fit"), ("epsg", "Find a system"),
        ):  # fmt: skip
            found = [f.text for f in matching(entries, words)]
            self.assertTrue(found and found[0] == text, (words, found[:3]))

    def test_client_surveyor_letterhead_and_the_report_of_any_step(self) -> None:
        w, handover = self.w, self.w.pages["Handover"]
        w.actions.run("job.client")
        for text in ("Kraft AS", "I. Moen", "second campaign"):
            self.answer(text)
        self.assertFalse(w.doubts.ask.isVisible())
        info = self.b.state.info
        self.assertEqual((info.client, info.surveyor, info.notes), ("Kraft AS", "I. Moen", "second campaign"))
        logo = self.folder / "logo.png"
        logo.write_bytes(_png())
        told: list[str] = []
        self.b.told.connect(lambda text, tone: told.append(text))
        self.wait_for(lambda: w.doubts.ask.isVisible() or w.actions.run("job.letterhead"))
        self.answer(f"Moen & Co, {self.folder / 'no.png'}")
        self.assertEqual(told, [f"{self.folder / 'no.png'} is no file."])
        self.assertTrue(w.doubts.ask.isVisible(), "a picture that is not there is asked for again")
        huge = self.folder / "huge.png"
        huge.write_bytes(_png() + bytes(MOST))
        self.answer(f"Moen & Co, {huge}")
        self.assertTrue(w.doubts.ask.isVisible(), "so is one that is too large")
        self.answer(f"Moen & Co, {logo}")
        self.assertFalse(w.doubts.ask.isVisible())
        w.show_stage("Handover")
        handover.set_kind("html")
        self.assertEqual(handover.statement.text(), "Hand over a report (HTML) of Fit 1.")
        self.choose(handover.statement.parts["step"], "Levelling 1")
        self.assertEqual(handover.step, Node("levelling", "levelling-1"))
        report = handover.report()
        self.assertEqual((report.letterhead.name, report.letterhead.logo), ("Moen & Co", _png()))
        self.assertIn(("Surveyor", "I. Moen"), report.facts)
        path = self.folder / "r.html"
        handover.path.setText(str(path))
        handover.write_file()
        self.wait_for(path.exists)
        self.assertIn("Loops and lines", path.read_text())
        doubt = self.b.findings.open[0]
        self.b.accept(doubt, "known")
        self.assertEqual(self.b.findings.accepted[0][1].by, "I. Moen")

    def test_two_marks_become_one(self) -> None:
        w, marks = self.w, self.w.pages["Marks"].marks
        w.show_stage("Marks")
        w.actions.run("marks.merge")
        self.assertIn("Select the two marks", w.line.text())
        w.pages["Marks"].pick({"P-08", "P-09"})
        w.actions.run("marks.merge")
        self.answer("T-99", marks.ask)
        self.assertTrue(marks.ask.isVisible())
        self.answer("P-09", marks.ask)
        state = self.b.state
        self.assertEqual((state.marks["P-08"].active, state.marks["P-09"].active), (False, True))
        self.assertEqual(sum(m.mark == "P-09" for m in state.measured.values()), 2)
        w.actions.run("edit.undo")
        self.assertTrue(self.b.state.marks["P-08"].active)

    def test_the_centre_of_what_cannot_be_occupied(self) -> None:
        w, page = self.w, self.w.pages["Marks"]
        w.show_stage("Marks")
        page.pick({"P-08"})
        w.actions.run("marks.centre")
        self.assertIn("Select two opposite points", w.line.text())
        page.pick({"P-08", "P-09"})
        w.actions.run("marks.centre")
        self.assertIn("halfway between P-08, P-09", page.marks.ask.label.text())
        self.answer("P-08", page.marks.ask)
        self.assertIn("one of the points around it", w.line.text())
        self.answer("Mast", page.marks.ask)
        adopted = self.b.derived.adopted[self.b.frame_id]
        e = [float(adopted.e_m[adopted.index[n]]) for n in ("P-08", "Mast", "P-09")]
        self.assertAlmostEqual(e[1], 0.5 * (e[0] + e[2]), 8)
        self.assertEqual(self.b.selection, "Mast")
        self.assertIn("Mast", w.plan_pane.plan.scene.names)
        page.pick({"Mast"})
        w.actions.run("marks.no_centre")
        self.assertNotIn("Mast", self.b.derived.adopted[self.b.frame_id].index)


def _png() -> bytes:
    """A picture of two pixels."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = struct.pack(">IIBBBBB", 2, 1, 8, 0, 0, 0, 0)
    pixels = chunk(b"IDAT", zlib.compress(b"\0\0\xff"))
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + pixels + chunk(b"IEND", b"")
