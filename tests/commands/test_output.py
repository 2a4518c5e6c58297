"""What is written where it cannot be: one line, exit 2, nothing broken; and nothing obeyed by a terminal."""

import os
import pty
import subprocess
import sys

from tests.support import TempFolder

RUN = [sys.executable, "-m", "fenwind"]


class Output(TempFolder):
    def setUp(self) -> None:
        super().setUp()
        self.file = self.write("a.csv", "name,e,n,h\nA,460000,6790000,1\nØ,460100,6790000,1\n")

    def run_to(self, *arguments: str, **more: object) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [*RUN, *arguments],
            stderr=subprocess.PIPE,
            text=True,
            timeout=180,
            **more,  # type: ignore[call-overload]
        )

    def test_full_and_narrow_outputs(self) -> None:
        with open("/dev/full", "w") as full:
            done = self.run_to("inverse", self.file, "A", "Ø", stdout=full)
        self.assertEqual((done.returncode, done.stderr.count("\n")), (2, 1), done.stderr)
        self.assertIn("No space left", done.stderr)
        ascii_only = dict(os.environ, PYTHONIOENCODING="ascii", PYTHONUTF8="0")
        convert = ("convert", self.file, "--from", "EPSG:25832", "--to", "EPSG:4258")
        done = self.run_to(*convert, stdout=subprocess.PIPE, env=ascii_only)
        self.assertEqual((done.returncode, done.stderr), (0, ""))
        self.assertIn("\\xd8", done.stdout)

    def test_a_terminal_is_told_text_only(self) -> None:
        done = self.run_to("inverse", self.file, "A", "x\x1b[31mred\x9b", stdout=subprocess.DEVNULL)
        self.assertIn("x\\\\x1b[31mred\\\\x9b", done.stderr.replace("\\x", "\\\\x"))
        self.assertNotIn("\x1b", done.stderr)
        import ezdxf

        drawing = ezdxf.new()
        drawing.modelspace().add_point((0, 0))
        drawing.modelspace().add_text("A\x1b]0;owned\x07", dxfattribs={"height": 2}).set_placement((1, 1))
        drawing.saveas(self.path("d.dxf"))
        ours, theirs = pty.openpty()
        done = self.run_to(
            "convert", self.path("d.dxf"), "--from", "EPSG:25832", "--to", "EPSG:4258", stdout=theirs
        )
        os.close(theirs)
        shown = os.read(ours, 4096)
        os.close(ours)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertNotIn(b"\x1b", shown)

    def test_what_is_no_regular_file_is_refused_at_once(self) -> None:
        pipe = self.path("pipe.csv")
        os.mkfifo(pipe)
        grid = ("--frame", "EPSG:25832", "--geoid")
        for arguments in (
            ("inverse", pipe, "A", "B"), ("inverse", self.file, "A", "Ø", *grid, pipe),
            ("inverse", self.file, "A", "Ø", *grid, "/dev/zero"),
            ("move", self.file, pipe, "--out", self.path("o.csv")), ("inverse", "/dev/zero", "A", "B"),
        ):  # fmt: skip
            done = self.run_to(*arguments, stdout=subprocess.PIPE)
            self.assertEqual((done.returncode, done.stdout, done.stderr.count("\n")), (2, "", 1), arguments)
