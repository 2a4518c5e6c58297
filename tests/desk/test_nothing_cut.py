"""Nothing that is shown is cut: every table and every label, in windows of three sizes and with larger
text."""

import json
import os
import subprocess
import sys
import unittest

WALK = """
import json, os, sys, tempfile
os.environ["QT_QPA_PLATFORM"] = "offscreen"
os.environ["FENWIND_HOME"] = tempfile.mkdtemp()
from PySide6.QtCore import QSettings
from PySide6.QtGui import QFontMetrics
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel, QPushButton
from fenwind.desk.launch import Launch, parse_arguments
from fenwind.desk.shell import ShortButton, ShortLabel
from fenwind.desk.stage_table import STAGES
from fenwind.desk.table import RecordTable
from fenwind.desk.theme import SEMIBOLD, apply_theme, font, set_text_scale

set_text_scale(float(sys.argv[1]))
app = QApplication([])
apply_theme(app)
settings = QSettings(os.environ["FENWIND_HOME"] + "/s.ini", QSettings.Format.IniFormat)
launch = Launch(parse_arguments([]), settings)
launch.shell.show()
while launch.workspace is None:
    QTest.qWait(5)
w, cut, seen = launch.workspace, [], 0

HEAD, CELL = QFontMetrics(font(11, SEMIBOLD)), QFontMetrics(font(13))

def advance(widget):
    return widget.fontMetrics().horizontalAdvance(widget.text().replace("&&", "&"))

def look(where):
    global seen
    for label in w.shell.findChildren(QLabel):
        if not label.isVisible() or not label.text() or "<" in label.text():
            continue
        seen += 1
        if label.wordWrap():
            needed = label.heightForWidth(label.width())
            if label.height() < needed - 1:
                cut.append(f"{where}: label {label.text()[:50]!r} is {label.height()} high, needs {needed}")
        elif not isinstance(label, ShortLabel) and label.width() < advance(label):
            cut.append(f"{where}: label {label.text()[:50]!r}")
    for button in w.shell.findChildren(QPushButton):
        if button.isVisible() and button.text() and not isinstance(button, ShortButton):
            seen += 1
            if button.width() < advance(button):
                cut.append(f"{where}: button {button.text()[:50]!r}")
    for table in w.shell.findChildren(RecordTable):
        if not table.isVisible():
            continue
        for place, column in enumerate(table.records.columns):
            width = table.columnWidth(place) - 18
            for line in (column.title, column.unit):
                seen += 1
                if HEAD.horizontalAdvance(line) > width + 12:
                    cut.append(f"{where}: head {line!r} in {width}")
            for number in range(min(len(table.records.rows), 40)):
                if column.box is not None:
                    continue
                text = column.text(table.records.rows[number])
                seen += 1
                if CELL.horizontalAdvance(text) <= width:
                    continue
                tip = table.records.data(table.records.index(number, place), 3)
                if column.right or not tip or text[:8] not in str(tip):  # 3: the tool tip
                    cut.append(f"{where}: {column.key} {text[:40]!r} in {width}, tip {str(tip)[:20]!r}")

for width, height in ((1024, 700), (1280, 800), (2560, 1440)):
    w.shell.resize(width, height)
    for stage in STAGES:
        w.show_stage(stage.name)
        w.bridge.select("T-04")
        QTest.qWait(30)
        look(f"{width}x{height} {stage.name}")
    w.actions.run("sessions.settings")
    ask = w.pages["Sessions"].ask
    long = "From, to, distance by tape (m); then h if it is horizontal, and the tape's temperature:"
    for asked in ("Why?", long):
        ask.ask(asked, print, text="x", button="Keep it")
        QTest.qWait(30)
        look(f"{width}x{height} asking")
        if ask.edit.width() < 200:
            cut.append(f"{width}x{height}: {ask.edit.width()} to type in beside {asked!r}")
    ask.hide()
    w.actions.run("fits.space")
    w.actions.run("setups.show.traverses")
    QTest.qWait(30)
    look(f"{width}x{height} traverses")
    head, rest = "name,lat,lon,Ellipsoid Height,remark\\n", "a long remark about a mark that goes on"
    rows = (f"K{i},-36.{i}00300001234,-149.{i}23456789123,{1000+i}.12345,{rest}\\n" for i in range(9))
    w.pages["Marks"].paste(head + "".join(rows))
    w.show_stage("Marks")
    QTest.qWait(30)
    look(f"{width}x{height} coming in")
    w.pages["Marks"].incoming.leave.click()
    w.actions.run("fits.compare")
    QTest.qWait(30)
    look(f"{width}x{height} comparing")
    w.pages["Fits"].comparing.closed.emit()
    w.actions.run("edit.doubts")
    QTest.qWait(30)
    look(f"{width}x{height} doubts")
    w.actions.run("edit.doubts")
w.shell.close()
print(json.dumps({"cut": cut, "seen": seen}))
"""


class Walk(unittest.TestCase):
    def test_every_table_and_label(self) -> None:
        for scale in ("1.0", "1.5"):
            with self.subTest(scale):
                done = subprocess.run(
                    [sys.executable, "-c", WALK, scale], capture_output=True, text=True, env=dict(os.environ)
                )
                self.assertEqual(done.returncode, 0, done.stderr[-2000:])
                found = json.loads(done.stdout.splitlines()[-1])
                self.assertGreater(found["seen"], 2500)
                self.assertEqual(found["cut"], [])
