"""The window around the stages: commands, sentences, and what it says when things go wrong."""

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtGui import QFontMetrics
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel, QPushButton, QWidget

from fenwind.desk.finder import Found, matching
from fenwind.desk.flow import Flow
from fenwind.desk.statement import Statement
from fenwind.desk.table import plain_tip
from fenwind.desk.theme import MEDIUM, font
from fenwind.job import gestures
from fenwind.job.job import Job
from fenwind.records.entries import Gesture, amend
from fenwind.records.records import Mark
from fenwind.reports.statement import Part
from tests.desk.qt_case import QtTestCase


class Window(QtTestCase):
    own_windows = True

    def test_every_command_is_unique_has_a_tip_and_a_menu_and_is_found(self) -> None:
        w = self.open()
        keys = [s.shortcut for s in w.actions.specs.values() if s.shortcut] + [
            f"Ctrl+{i}" for i in range(1, 9)
        ]
        self.assertEqual(len(keys), len(set(keys)))
        listed = [a.objectName() for m in w.actions.menu.actions() for a in m.menu().actions()]
        self.assertEqual(sorted(listed), sorted(w.actions.specs))
        self.assertTrue(all(s.tip and s.text for s in w.actions.specs.values()))
        QTest.keyClick(w.shell, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
        QTest.keyClicks(w.finder.edit, "hand report")
        QTest.keyClick(w.finder.edit, Qt.Key.Key_Return)
        self.assertEqual((w.stage, w.pages["Handover"].kind), ("Handover", "html"))
        w.open_finder()
        QTest.keyClicks(w.finder.edit, "p-07")
        QTest.keyClick(w.finder.edit, Qt.Key.Key_Return)
        self.assertEqual(w.bridge.selection, "P-07")
        entries = [
            Found("Undo", "", lambda: None),
            Found("P-01", "", lambda: None),
            Found("XP-01", "", lambda: None),
        ]
        self.assertEqual([f.text for f in matching(entries, "p-0")], ["P-01", "XP-01"])

    def test_stages_that_wait_and_measuring(self) -> None:
        w = self.open()
        for name in ("Sessions", "Setups", "Network", "Ground"):
            w.show_stage(name)
            self.assertEqual(w.stage, name)
        w.show_stage("Fits")
        w.actions.run("plan.measure")
        w.plan_pane.plan._click("T-01")
        w.plan_pane.plan._click("T-02")
        self.assertIn("T-01 → T-02", w.plan_pane.result.text())
        self.assertNotIn("combined factor", w.plan_pane.result.text(), "a local plane has no factor")
        w.bridge.do(gestures.set_field([w.bridge.state.info], "frame", "map", "show"))
        w.show_stage("Marks")
        w.plan_pane.plan._click("T-02")
        w.plan_pane.plan._click("T-03")
        self.assertRegex(w.plan_pane.result.text(), r"ellipsoid .* ground .*combined factor 0\.9994")

    def test_what_cannot_be_opened_is_said_in_the_window(self) -> None:
        launch = self.launch(str(self.folder / "none.fenwind"))
        self.wait_for(lambda: "no such job" in launch.shell.note.text())
        (self.folder / "bad.fenwind").write_bytes(b"SQLite format 3\x00" + b"\x07" * 5000)
        launch = self.launch(str(self.folder / "bad.fenwind"))
        self.wait_for(lambda: "damaged" in launch.shell.note.text())

    def test_the_intact_part_of_a_damaged_job_is_offered_and_read_only(self) -> None:
        path = self.folder / "hurt.fenwind"
        job = Job.create(path, "hurt", [Mark(id="m", name="M")])
        job.record("code", [amend(job.state.marks["m"], code="SEEN")])
        job.close()
        path.write_bytes(path.read_bytes().replace(b"SEEN", b"SEEM"))
        launch = self.launch(str(path))
        self.wait_for(lambda: launch.shell.note_button.isVisible())
        self.assertIn("damaged at gesture 2", launch.shell.note.text())
        QTest.keyClick(launch.shell.note_button, Qt.Key.Key_Space)
        self.wait_for(lambda: launch.workspace is not None)
        bridge = launch.workspace.bridge
        self.assertEqual(bridge.state.marks["m"].code, "")
        self.assertIn("read only", launch.shell.header.kept.text())
        bridge.do(Gesture("x", (amend(bridge.state.marks["m"], code="N"),)))
        bridge.wait()
        self.assertEqual(bridge.state.marks["m"].code, "")
        self.assertIn("Copy the job", launch.workspace.line.text())

    def test_a_disk_that_fills_up_is_said_and_nothing_changes(self) -> None:
        w = self.open()

        def fill(job: Job) -> None:
            db = job.file._db
            db.execute(f"PRAGMA max_page_count={db.execute('PRAGMA page_count').fetchone()[0]}")

        w.bridge.ask(fill)
        w.show_stage("Marks")
        before = dict(w.bridge.state.records)
        w.pages["Marks"].paste("name,e,n\n" + "\n".join(f"Z{i},1,{i}" for i in range(2000)))
        w.pages["Marks"].incoming.take.click()
        self.assertIn("disk is full", w.line.text())
        self.assertEqual(dict(w.bridge.state.records), before)
        self.assertTrue(w.pages["Marks"].incoming.take.isEnabled(), "the list stays")

    def test_a_job_file_taken_away_is_said_and_never_called_kept(self) -> None:
        w = self.open()
        self.assertIn("all kept", w.shell.header.kept.text())
        Path(w.bridge.path).unlink()
        mark = w.bridge.state.mark_named("P-01")
        w.bridge.do(gestures.rename_mark(w.bridge.state, mark, "Q"))
        self.assertIsNone(w.bridge.state.mark_named("Q"))
        self.assertIn("nothing is kept there any more", w.line.text())
        self.assertIn("not kept", w.shell.header.kept.text())
        w.bridge.ask(lambda job: job.copy_to(self.folder / "saved.fenwind"))
        self.assertEqual(len(Job.open(self.folder / "saved.fenwind").state.marks), len(w.bridge.state.marks))

    def test_demo_is_kept_and_fresh_keeps_the_old_one(self) -> None:
        w = self.open()
        path = Path(w.bridge.path)
        w.actions.run("job.quit")
        w = self.open("--fresh")
        self.assertEqual(len(list(self.folder.glob("*.fenwind"))), 2)
        self.assertEqual(Path(w.bridge.path), path)
        w.shell.close()
        Job.open(path).close()


class PlainText(QtTestCase):
    def test_names_are_shown_as_they_are(self) -> None:
        w = self.open()
        name = '<img src="x"> <b>T</b>'
        mark = w.bridge.state.mark_named("T-09")
        w.bridge.do(gestures.rename_mark(w.bridge.state, mark, name))
        w.bridge.select(name)
        w.doubts.toggle_list()
        for stage in ("Frame", "Marks", "Fits", "Handover"):
            w.show_stage(stage)
            for label in w.shell.findChildren(QLabel):
                if name in label.text():
                    self.assertEqual(label.textFormat(), Qt.TextFormat.PlainText, label.text())
        self.assertTrue(any(name in label.text() for label in w.shell.findChildren(QLabel)), "it is shown")
        self.assertEqual(plain_tip(name), "<span>&lt;img src=&quot;x&quot;&gt; &lt;b&gt;T&lt;/b&gt;</span>")


class Sentences(QtTestCase):
    def test_widgets_are_used_again_and_lines_break_like_text(self) -> None:
        statement = Statement()
        statement.resize(700, 60)
        statement.show()
        sentence = [
            Part(text="Held are "), Part(text="3 marks", key="held"), Part(text=", the rest is free."),
        ]  # fmt: skip

        def shown() -> list[QLabel | QPushButton]:
            found = [
                w for w in statement.children() if isinstance(w, (QLabel, QPushButton)) and w.isVisible()
            ]
            return sorted(found, key=lambda w: (w.y(), w.x()))

        statement.show_parts([*sentence, Part(text=" Nothing more is said.")])
        button = statement.parts["held"]
        for parts in (sentence, [sentence[0], Part(text="12 & more", key="held"), sentence[2]], sentence):
            statement.show_parts(parts)
            said = "".join(w.text() for w in shown()).replace("&&", "&")
            self.assertEqual(said, "".join(part.text for part in parts))
            self.assertIs(statement.parts["held"], button)
            statement.show_parts([*parts, *parts])  # a key that comes twice leaves nothing behind
            statement.show_parts(parts)
            self.assertEqual("".join(w.text() for w in shown()).replace("&&", "&"), said)
            button = statement.parts["held"]
            needed = QFontMetrics(font(19, MEDIUM)).horizontalAdvance(parts[1].text)
            self.assertGreater(button.width(), needed)
        for width in range(700, 100, -3):
            statement.resize(width, 60)
            boxes = [w.geometry() for w in shown()]
            self.assertTrue(all(b.left() >= 0 and b.right() < width for b in boxes), width)
            self.assertFalse(any(a.intersects(b) for k, a in enumerate(boxes) for b in boxes[:k]), width)
            self.assertEqual(statement.height(), max(b.bottom() for b in boxes) + 1)
            comma = next(w for w in shown() if w.text().startswith(","))
            self.assertEqual((comma.y(), comma.x()), (button.y(), button.x() + button.width()), "not alone")
        self.assertGreater(len({b.top() for b in boxes}), 2)

    def test_what_is_glued_stays_on_the_page(self) -> None:
        """A label, a value and two buttons with gaps between them go to the next line together."""
        flow = Flow(gap=6)
        widgets: list[QWidget] = []
        for group in range(3):
            for k in range(4):
                widget = QPushButton(f"{group}{k}")
                widget.setProperty("glued", k > 0)
                widget.setFixedSize(40, 20)
                widgets.append(widget)
        flow.set_widgets(widgets)
        flow.show()
        for width in range(180, 600, 2):
            flow.resize(width, flow.height())
            self.assertTrue(all(w.geometry().right() < width for w in widgets), width)
            lines = [{w.y() for w in widgets[4 * g : 4 * g + 4]} for g in range(3)]
            self.assertEqual([len(line) for line in lines], [1, 1, 1], width)
