"""What went wrong in the first hours of jobs: a mark with a height alone is looked at, a shorter list is
pasted after a row of a longer one was, the job's file goes away."""

import os

from PySide6.QtTest import QTest

from tests.desk.qt_case import QtTestCase

HEAD = "name,e,n,h\n"


class FirstHour(QtTestCase):
    own_windows = True

    def test_a_mark_with_a_height_alone(self) -> None:
        w = self.open("--empty")
        page = w.pages["Marks"]
        page.paste("name,h\nBM-1,12.345\nBM-2,13.5\n")
        page.incoming.take.click()
        self.wait_for(lambda: len(w.bridge.state.marks) == 2)
        for stage in list(w.pages):
            w.show_stage(stage)
            for name in [m.name for m in w.bridge.state.marks.values()]:
                w.bridge.select(name)
                w.refresh()
                w.shell.grab()
        self.assertEqual(self.errors, [])

    def test_a_shorter_list_after_a_row_of_a_longer_one(self) -> None:
        w = self.open()
        page = w.pages["Marks"]
        w.show_stage("Marks")
        long = HEAD + "".join(f"N{k},{1000 + k},{2000 + k},5\n" for k in range(30))
        for short in (HEAD + "A,1,2,3\n", HEAD + "A,1,2,3\nB,4,5,6\n", "no list at all", HEAD + "A,x,y,z\n"):
            page.paste(long)
            table = page.incoming.table
            self.wait_for(lambda t=table: t.model().rowCount() == 30)
            table.selectRow(29)
            table.setCurrentIndex(table.model().index(29, 0))
            QTest.qWait(1)
            page.paste(short)
            QTest.qWait(1)
            w.refresh()
            w.shell.grab()
            self.assertEqual(self.errors, [], short)
            if page.incoming.isVisible():
                page.incoming.leave.click()

    def test_a_file_that_goes_away_is_told_at_once(self) -> None:
        w = self.open("--empty")
        os.truncate(w.bridge.path, 4096)
        self.wait_for(lambda: "cut short" in w.line.text())
