"""Moving files, comparing, control made and released, rules of classes, and what the plan can do, in the real
window."""

import math
import struct
from pathlib import Path

import ezdxf
import numpy as np
from PIL import Image, TiffImagePlugin
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt
from PySide6.QtGui import QDragEnterEvent, QDropEvent, QImage
from PySide6.QtPrintSupport import QPrinter
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMenu

from fenwind.desk.plan_symbols import SQUARE
from fenwind.desk.stages.meaning_drag import MIME
from fenwind.desk.theme import colour, is_night
from fenwind.errors import FormatError
from fenwind.exchange.backdrop import GroundImage, LineWork, read_backdrop
from fenwind.job import gestures
from fenwind.job.moved import moved
from fenwind.quantities.lengths import METRE
from tests.desk.qt_case import QtTestCase
from tests.support import TempFolder


class Moving(QtTestCase):
    def drawing(self, w) -> str:
        drawing, adopted = ezdxf.new(units=6), w.bridge.derived.adopted["map"]
        space = drawing.modelspace()
        for e, n in zip(adopted.e_m.tolist(), adopted.n_m.tolist(), strict=True):
            space.add_point((e, n, 0))
        space.add_line((462500, 6796000, 0), (463900, 6797000, 0), dxfattribs={"layer": "road"})
        dam = w.bridge.derived.adopted["dam"]
        space.add_point((dam.e_m[0], dam.n_m[0], 0))
        path = str(Path(w.bridge.folder) / "site.dxf")
        drawing.saveas(path)
        return path

    def test_a_drawing_moves_by_the_fit_after_its_preview(self) -> None:
        w = self.open()
        doubt = next(d for d in w.bridge.findings.open if d.remedies)
        w.bridge.settle(doubt, doubt.remedies[0])
        sheet = w.pages["Fits"].moving
        sheet.open_file(self.drawing(w))
        w.pages["Fits"].stack.setCurrentWidget(sheet)
        w.show_stage("Fits")
        self.wait_for(lambda: sheet.table.records.rows)
        shown = {(r.what, r.count, r.why) for r in sheet.table.records.rows}
        self.assertEqual(
            shown,
            {("POINT on 0", 40, ""), ("LINE on road", 1, ""), ("POINT on 0", 1, "is a target of the move")},
        )
        self.assertIn("heights untouched", sheet.note.text())
        self.assertEqual(len(sheet.distances.records.rows), 36, "nine pairs: 36 distances")
        sheet._set("stay", ("road",))
        self.wait_for(
            lambda: (
                ("LINE on road", 1, "named: road")
                in {(r.what, r.count, r.why) for r in sheet.table.records.rows}
            )
        )
        self.wait_for(sheet.go.isEnabled)
        sheet.go.click()
        self.wait_for(lambda: "Moved 40, stayed 2" in w.line.text())
        self.assertIn("AGAINST THEIR TARGETS", sheet.caption.text())
        residuals = w.bridge.derived.fits["fit-1"].case.result.pairs
        shown = [sheet.distances.records.columns[1].value(i) for i in range(9)]
        np.testing.assert_allclose(shown, residuals.de_m * 1000)
        sheet.leave.click()
        self.assertIs(w.pages["Fits"].stack.currentWidget(), w.pages["Fits"].fits)
        space = ezdxf.readfile(sheet.out).modelspace()
        carried = w.bridge.derived.fits["fit-1"].case.result.carried
        place = w.bridge.derived.adopted["map"].names.index("P-05")  # measured there alone
        moved_to = space.query("POINT")[place].dxf.location
        row = carried.index["P-05"]
        np.testing.assert_allclose([moved_to.x, moved_to.y], [carried.e_m[row], carried.n_m[row]], atol=1e-6)

    def test_shift_and_turn_typed_and_a_scale_is_asked_its_reason(self) -> None:
        w = self.open()
        path = Path(w.bridge.folder) / "list.csv"
        path.write_text("name,e,n,h\nA,0,0,1\nB,10,0,\n")
        sheet = w.pages["Fits"].moving
        sheet.open_file(str(path))
        for text, wrong in (
            ("1,2,3,4", "two or three"), ("T-01 > NOBODY", "NOBODY has no position"), ("x", "not a length"),
        ):  # fmt: skip
            self.assertFalse(sheet.use_shift(text))
            self.assertIn(wrong, w.line.text())
        self.assertFalse(sheet.use_turn("left a bit"))
        self.assertTrue(sheet.use_turn("about T-01 from T-02 to T-03"))
        self.assertIn("a turn about T-01 from T-02 to T-03", sheet.statement.text())
        self.assertTrue(sheet.use_shift("100.5, -20, 0.25"))
        sheet._set("heights", True)
        self.wait_for(lambda: sheet._task is None)
        sheet.move_file()
        self.wait_for(lambda: Path(sheet.out).exists())
        self.wait_for(lambda: sheet._task is None)
        lines = Path(sheet.out).read_text().splitlines()
        self.assertEqual(lines[1:], ["A,100.500000,-20.000000,1.250000", "B,110.500000,-20.000000,"])
        w.bridge.do(gestures.change_step(w.bridge.fit, "with scale", horizontal="scale"))
        sheet.open_file(str(path))
        self.wait_for(lambda: sheet._task is None)
        sheet.move_file()
        self.assertTrue(sheet.ask.isVisibleTo(sheet))
        self.assertIn("Why?", sheet.ask.label.text())
        sheet.ask.edit.setText("the old grid was at ground level")
        sheet.ask.ok.click()
        self.wait_for(lambda: sheet._task is None)
        self.assertEqual(w.bridge.fit.scale_reason, "the old grid was at ground level")
        self.assertNotIn("fit.scale-reason", [d.rule for d in w.bridge.findings.open])

    def test_units_and_columns_are_said_and_can_be_changed_and_the_plan_shows_what_moves(self) -> None:
        w = self.open()
        doubt = next(d for d in w.bridge.findings.open if d.remedies)
        w.bridge.settle(doubt, doubt.remedies[0])
        page, folder = w.pages["Fits"], Path(w.bridge.folder)
        sheet, there = page.moving, w.bridge.derived.adopted["map"]
        here = w.bridge.derived.adopted["dam"]
        row = there.index["P-05"]
        feet = 0.3048
        drawn = ezdxf.new(units=2)  # feet
        place = (there.e_m[row] / feet, there.n_m[row] / feet)
        drawn.modelspace().add_line(place, (place[0] + 100.0, place[1]))
        drawn.saveas(folder / "feet.dxf")
        (folder / "list.csv").write_text(f"Pt,Y,X\nQ,{there.e_m[row]:.4f},{there.n_m[row]:.4f}\n")
        w.show_stage("Fits")
        page.stack.setCurrentWidget(sheet)
        carried = np.array([here.e_m[here.index["P-05"]], here.n_m[here.index["P-05"]]])
        sheet.open_file(str(folder / "feet.dxf"))
        self.wait_for(lambda: sheet.coming is not None)
        self.assertIn("read in international feet, as it states", sheet.statement.text())
        np.testing.assert_allclose(w.plan_pane.plan.scene.coming.lines[:2, 0], carried, atol=0.02)
        length = np.hypot(*(sheet.coming.lines[2:, 0] - sheet.coming.lines[:2, 0]))
        self.assertAlmostEqual(float(length), 30.48, places=6)
        sheet._set("_unit", METRE)
        self.wait_for(lambda: sheet.coming is not None)
        self.assertIn("read in metres,", sheet.statement.text())
        self.assertGreater(float(np.hypot(*(sheet.coming.lines[:2, 0] - carried))), 1e6)
        # A list whose X is the northing: the pairs tell; then somebody says otherwise.
        sheet.open_file(str(folder / "list.csv"))
        self.wait_for(lambda: sheet.coming is not None)
        np.testing.assert_allclose(sheet.coming.at[:, 0], carried, atol=0.02)
        self.assertEqual(
            [c.title for c in sheet.heads.table.records.columns], ["in the move", "name", "E", "N"]
        )
        self.assertEqual(w.plan_pane.plan.scene.title, "Dam grid 1968")
        sheet.heads.set_meaning(1, "n")
        sheet.heads.set_meaning(2, "e")
        self.wait_for(lambda: sheet.coming is not None and sheet._task is None)
        self.assertGreater(float(np.hypot(*(sheet.coming.at[:, 0] - carried))), 1e6)
        sheet.heads.set_meaning(1, "e")
        sheet.heads.set_meaning(2, "n")
        self.wait_for(lambda: sheet.coming is not None and sheet._task is None)
        self.wait_for(sheet.go.isEnabled)
        sheet.go.click()
        self.wait_for(lambda: "Columns: name from 'Pt', E from 'Y', N from 'X', in metres." in w.line.text())

    def test_comparing(self) -> None:
        w = self.open()
        w.actions.run("fits.compare")
        sheet = w.pages["Fits"].comparing
        self.assertEqual((len(sheet.found.names), len(sheet.found.only_b)), (9, 31))
        self.assertEqual(float(sheet.found.d_m.max()), 0.0, "held control is adopted as given")
        sheet.set_side("b", "carried:fit-1")
        self.assertEqual(sheet.table.records.rows[0].name, sheet.found.names[0])
        self.assertIn("over", sheet.note.text())
        self.assertEqual(w.plan_pane.plan.scene.vector_rows.size, 9)
        doubt = next(d for d in w.bridge.findings.open if d.remedies)
        w.bridge.settle(doubt, doubt.remedies[0])
        sheet.set_side("a", "before")
        sheet.set_side("b", "adopted")
        self.assertGreater(float(sheet.found.d_m.max()), 1.0, "before and after the blunder was settled")
        sheet._ask_tolerance()
        sheet.ask.edit.setText("5, 1 m")
        sheet.ask.ok.click()
        self.assertEqual(sheet.tolerance, (0.005, 1.0))
        (Path(w.bridge.folder) / "bad.csv").write_text("name,e,n\nA,x,y\n")
        sheet.set_side("b", "file:" + str(Path(w.bridge.folder) / "bad.csv"))
        self.wait_for(lambda: "line 2" in sheet.note.text())
        sheet.leave.click()
        self.assertIs(w.pages["Fits"].stack.currentWidget(), w.pages["Fits"].fits)


class Marks(QtTestCase):
    own_windows = True

    def test_control_is_made_and_released_with_its_uncertainty(self) -> None:
        w = self.open()
        w.show_stage("Marks")
        before = w.bridge.derived.adopted["dam"]
        table = w.pages["Marks"].marks.table
        table.pick_all(lambda r: r.mark.name in ("P-01", "P-02"))
        w.pages["Marks"].marks.make_control()
        state = w.bridge.state
        given = next(g for g in state.given.values() if state.marks[g.mark].name == "P-01")
        row = before.index["P-01"]
        self.assertEqual((given.e_m, given.sigma_h_m), (float(before.e_m[row]), float(before.sigma_h_m[row])))
        after = w.bridge.derived.adopted["dam"]
        self.assertEqual(after.basis[after.index["P-01"]], "given")
        table.pick_all(lambda r: r.mark.name == "P-01")
        w.pages["Marks"].marks.release_control()
        after = w.bridge.derived.adopted["dam"]
        self.assertEqual(after.basis[after.index["P-01"]], "carried")
        w.pages["Marks"].marks.release_control()
        self.assertIn("None of these marks is given in the frame shown.", w.line.text())

    def test_another_position_is_adopted_for_a_reason(self) -> None:
        w = self.open()
        w.show_stage("Marks")
        sheet = w.pages["Marks"].marks
        sheet.choose_position()
        self.assertIn("Select one mark", w.line.text())
        mark = next(m for m in w.bridge.state.marks.values() if m.name == "T-03")
        sheet.table.pick_all(lambda r: r.mark.name == "T-03")
        before = w.bridge.derived.adopted["dam"]
        carried = next(c for c in before.candidates(mark.id) if not c.adopted)
        menu = QMenu()
        sheet.fill_choices(menu, mark)
        words = [a.text() for a in menu.actions() if a.text()]
        self.assertEqual([a.isChecked() for a in menu.actions() if a.text()], [True, False, False])
        row = before.index["T-03"]
        away = 1000.0 * (carried.e_m - before.e_m[row]), 1000.0 * (carried.n_m - before.n_m[row])
        for value in away:
            self.assertIn(f"{value:+.1f}".replace("-", "−"), words[1].replace("\u2009", ""))
        menu.actions()[1].trigger()
        sheet.ask.edit.setText("as reported")
        sheet.ask.ok.click()
        after = w.bridge.derived.adopted["dam"]
        self.assertEqual(after.e_m[after.index["T-03"]], carried.e_m)
        self.assertIn("as reported", after.why[after.index["T-03"]])
        sheet.fill_choices(menu := QMenu(), mark)
        menu.actions()[-1].trigger()
        usual = w.bridge.derived.adopted["dam"]
        self.assertEqual(usual.basis[usual.index["T-03"]], "given")

    def test_a_class_has_a_tolerance_a_symbol_and_labels(self) -> None:
        w = self.open()
        w.show_stage("Marks")
        marks = w.pages["Marks"].marks
        marks._show_class("main")
        self.choose(marks.statement.parts["symbol"], "square")
        self.choose(marks.statement.parts["label"], "not labelled")
        self.choose(marks.statement.parts["tolerance"], "3.0 mm in plan and height")
        rule = w.bridge.state.rule_of("class", "main")
        self.assertEqual((rule.symbol, rule.label, rule.tolerance_h_m), ("square", False, 0.003))
        scene = w.plan_pane.plan.scene
        row = scene.names.index("T-01")
        self.assertEqual((scene.symbol[row], bool(scene.labelled[row])), (SQUARE, False))

    def test_a_row_coming_in_shows_what_it_would_move_and_a_word_is_dropped_on_a_head(self) -> None:
        w = self.open()
        given = w.bridge.state.given["g-T-04"]
        w.show_stage("Marks")
        w.pages["Marks"].paste(f"a;b;c;d\nT-04;{given.e_m};{given.n_m + 0.025};{given.height_m}\n")
        incoming = w.pages["Marks"].incoming
        header = incoming.table.horizontalHeader()
        for section, meaning in ((2, "name"), (3, "e"), (4, "n"), (5, "h")):
            data = QMimeData()
            data.setData(MIME, meaning.encode())
            at = QPointF(header.sectionViewportPosition(section) + 5, 10)
            buttons, keys = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
            QApplication.sendEvent(
                header.viewport(),
                QDragEnterEvent(at.toPoint(), Qt.DropAction.CopyAction, data, buttons, keys),
            )
            QApplication.sendEvent(
                header.viewport(), QDropEvent(at, Qt.DropAction.CopyAction, data, buttons, keys)
            )
        self.assertEqual(incoming._match.columns, {"name": 0, "e": 1, "n": 2, "h": 3})
        incoming.table.setCurrentIndex(incoming.table.proxy.index(0, 1))
        links = w.trail_pane.links.links
        self.assertEqual([k.title for k in links], ["In the job", "Coming in", "Difference", "If taken"])
        self.assertEqual(links[2].values, ("0.0   +25.0   0.0 mm",))
        self.assertRegex(links[3].values[0], r"^31 other marks move by \d")
        before = dict(w.bridge.derived.adopted)
        self.assertFalse(incoming.take.isEnabled(), "it differs over the tolerance: nothing is ticked")
        incoming._toggle(0)
        incoming.take.click()
        others: dict[str, float] = {}
        for key, own in before.items():
            change = moved(key, own, w.bridge.derived.adopted[key])
            for i, n in enumerate(change.names):
                if n != "T-04":
                    others[n] = max(others.get(n, 0.0), math.hypot(change.de_m[i], change.dn_m[i]))
        self.assertEqual(len(others), 31, "in the dam's frame, and the traverse in the map's")
        self.assertIn(
            f"{max(others.values()) * 1000:.1f}", links[3].values[0], "what was said is what happened"
        )


class Plan(QtTestCase):
    def test_layers_backdrops_window_picture_and_print(self) -> None:
        w = self.open()
        drawing = ezdxf.new(units=6)
        drawing.modelspace().add_line((500, 1600), (2100, 1750), dxfattribs={"layer": "road"})
        drawing.modelspace().add_circle((1200, 2500), 200, dxfattribs={"layer": "shore"})
        path = str(Path(w.bridge.folder) / "under.dxf")
        drawing.saveas(path)
        w.show_stage("Marks")
        w.plan_commands.add_backdrop(path)
        plan = w.plan_pane.plan
        self.wait_for(lambda: len(plan.scene.under) == 2)
        record = next(iter(w.bridge.state.backdrops.values()))
        self.assertEqual(record.path, "under.dxf", "kept relative to the job")
        w.plan_commands.toggle_layer(record.id, "road")
        self.assertEqual([x.name for x in plan.scene.under], ["shore"])
        menu = QMenu()
        w.plan_commands.fill_layers(menu)
        self.assertIn("under.dxf", [a.text() for a in menu.actions()])
        full = w.plan_pane.picture()
        for name in ("marks", "labels", "map grid", "hull and area", "residuals", "error ellipses"):
            w.plan_commands.toggle_view(name)
        self.assertNotEqual(full, w.plan_pane.picture())
        plan.hidden.clear()
        plan.fit_all()
        shift = Qt.KeyboardModifier.ShiftModifier
        QTest.mousePress(plan, Qt.MouseButton.LeftButton, shift, QPoint(1, 1))
        QTest.mouseMove(plan, plan.rect().center())
        QTest.mouseRelease(plan, Qt.MouseButton.LeftButton, shift, plan.rect().bottomRight())
        self.assertEqual(len(w.pages["Marks"].marks.table.selected_rows()), 40)
        self.assertEqual(w.line.text(), "40 marks in the window.")
        png = str(self.folder / "plan.png")
        w.plan_commands.write_png(png)
        self.assertEqual(QImage(png).width(), 2 * plan.width())
        w.plan_commands.write_png(str(self.folder / "no" / "plan.png"))
        self.assertIn("cannot be written", w.line.text())
        printer = QPrinter()
        printer.setOutputFormat(QPrinter.OutputFormat.PdfFormat)
        printer.setOutputFileName(str(self.folder / "plan.pdf"))
        w.plan_commands.print_to(printer)
        self.assertTrue((self.folder / "plan.pdf").read_bytes().startswith(b"%PDF"))

    def test_night_and_day(self) -> None:
        w = self.open()
        self.addCleanup(lambda: w.toggle_night() if is_night() else None)
        day = colour("paper").name()
        w.toggle_night()
        self.assertTrue(is_night() and colour("paper").name() != day)
        dark = w.shell.grab().toImage()
        self.assertLess(dark.pixelColor(dark.width() // 2, dark.height() - 4).lightness(), 90)
        w.toggle_night()
        self.assertEqual(colour("paper").name(), day)


class Backdrops(TempFolder):
    def image(self, name: str, **options: object) -> str:
        Image.fromarray(np.full((20, 30, 3), 200, dtype=np.uint8)).save(self.path(name), **options)
        return self.path(name)

    def test_images_know_their_place(self) -> None:
        tags = TiffImagePlugin.ImageFileDirectory_v2()
        tags[33550], tags[33922] = (0.5, 0.5, 0.0), (0.0, 0.0, 0.0, 1000.0, 2000.0, 0.0)
        tags.tagtype[33550] = tags.tagtype[33922] = 12
        found = read_backdrop(self.image("g.tif", tiffinfo=tags))
        self.assertIsInstance(found, GroundImage)
        self.assertEqual(found.place, (1000.0, 0.5, 0.0, 2000.0, 0.0, -0.5))
        self.assertEqual(found.pixels.shape, (20, 30, 4))
        plain = self.image("w.png")
        with self.assertRaisesRegex(FormatError, "nothing says where"):
            read_backdrop(plain)
        self.write("w.pgw", "0.5\n0\n0\n-0.5\n1000.25\n1999.75\n")
        self.assertEqual(read_backdrop(plain).place, (1000.0, 0.5, 0.0, 2000.0, 0.0, -0.5))

    def test_bad_backdrops_are_refused(self) -> None:
        cases = {
            "a.tif": (b"II*\x00" + struct.pack("<I", 8) + b"\x00" * 8, "image cannot be read|nothing says"),
            "b.png": (b"\x89PNG and nothing", "image cannot be read"),
            "c.dxf": (b"0\nSECTION\n", "drawing cannot be read"),
            "d.doc": (b"", "no drawing or image"),
        }
        for name, (data, words) in cases.items():
            with self.subTest(name), self.assertRaisesRegex(FormatError, words):
                read_backdrop(self.write(name, data))
        self.image("e.png")
        self.write("e.pgw", "0\n0\n0\n0\n1\n1\n")
        with self.assertRaisesRegex(FormatError, "no extent"):
            read_backdrop(self.path("e.png"))

    def test_curves_are_flattened_near_the_true_ones(self) -> None:
        drawing = ezdxf.new(units=2)
        drawing.blocks.new("part").add_circle((0, 0), 10)
        drawing.modelspace().add_blockref("part", (100, 200), dxfattribs={"layer": "shore"})
        drawing.saveas(self.path("f.dxf"))
        found = read_backdrop(self.path("f.dxf"))
        self.assertIsInstance(found, LineWork)
        (lines,) = found.layers.values()
        radius = np.hypot(lines[0] / 0.3048 - 100, lines[1] / 0.3048 - 200)
        np.testing.assert_allclose(radius, 10.0, rtol=3e-4)  # the library draws circles as cubic curves
        middle = np.hypot((lines[0] + lines[2]) / 0.6096 - 100, (lines[1] + lines[3]) / 0.6096 - 200)
        self.assertGreater(middle.min(), 10.0 - 0.06)
