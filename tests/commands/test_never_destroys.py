"""What a command writes never takes the place of a job, an input, another result, a device, a pipe or a
folder; links and permissions stay."""

import contextlib
import io
import os
from pathlib import Path

from fenwind.cli import main
from fenwind.errors import FormatError
from fenwind.exchange.files import write_text
from tests.support import TempFolder

PAIRS = "name,e,n,h\nA,1,2,3\nB,100,2,3\nC,50,90,2\n"


class NeverDestroys(TempFolder):
    def run_one(self, *arguments: str) -> tuple[int, str]:
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = main(list(arguments))
        return code, err.getvalue()

    def test_refused_with_every_byte_kept(self) -> None:
        self.demo("job.fenwind").close()
        one, two = self.write("one.csv", PAIRS), self.write("two.csv", PAIRS)
        link, pipe = self.path("link"), self.path("pipe")
        os.symlink(self.path("job.fenwind"), link)
        os.mkfifo(pipe)
        grid = next(str(p) for p in self.folder.glob("*.gtx"))
        job = self.path("job.fenwind")
        cases = (
            *(
                (("export", job, "--as", "csv", "--out", out), "")
                for out in (job, link, pipe, grid, "/dev/null")
            ),
            (("export", job, "--as", "kml", "--frame", "map", "--out", str(self.folder)), ""),
            (("fit", one, two, "--out", one), "reads"),
            (("fit", one, two, "--out", two), "reads"),
            (("fit", one, two, "--out", job), "a job of Fenwind"),
            (("fit", one, two, "--out", self.path("x"), "--report", self.path("x")), "two results"),
            (("move", one, two, "--out", one), "reads"),
            (("move", one, two, "--out", two), "reads"),
        )
        kept = {p: p.read_bytes() for p in self.folder.iterdir() if p.is_file()}
        for arguments, words in cases:
            with self.subTest(arguments):
                code, said = self.run_one(*arguments)
                self.assertEqual((code, said.count("\n")), (2, 1), said)
                self.assertIn(words, said)
                self.assertEqual({p: p.read_bytes() for p in kept}, kept)
        self.assertTrue(os.path.islink(link))
        self.assertFalse(Path(self.path("x")).exists())

    def test_links_are_followed_and_permissions_stay(self) -> None:
        path, link = self.write("list.txt", "old"), self.path("latest")
        os.chmod(path, 0o640)
        os.symlink("list.txt", link)
        write_text(link, "new")
        self.assertTrue(os.path.islink(link))
        self.assertEqual((Path(path).read_text(), os.stat(path).st_mode & 0o777), ("new", 0o640))
        with self.assertRaises(FormatError):
            write_text(self.folder, "text")
