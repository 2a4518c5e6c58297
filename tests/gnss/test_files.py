"""RINEX, SP3, clock and ANTEX files: real station data, files written here by the formats' own tables, and
files that are cut off or damaged."""

import gzip
import random

import hatanaka
import numpy as np

from fenwind.errors import FenwindError, FormatError
from fenwind.gnss.files import read_gnss, read_kind
from fenwind.gnss.gps_time import iso, ticks_of, to_gps
from fenwind.gnss.other_files import read_antennas, read_orbits
from tests.support import DATA, CommandCase

STATION = DATA / "gnss" / "station.rnx"
SYSTEMS = {"C": 5, "E": 6, "G": 11, "R": 9}


def line(text: str, label: str) -> str:
    return f"{text:60}{label}"


TWO = "\n".join([
    line("     2.11           OBSERVATION DATA    M (MIXED)", "RINEX VERSION / TYPE"),
    line("ALPHA", "MARKER NAME"),
    line("        1.2340        0.0100       -0.0200", "ANTENNA: DELTA H/E/N"),
    line("     6    C1    P2    L1    L2    S1    S2", "# / TYPES OF OBSERV"),
    line("    30.000", "INTERVAL"),
    line("  2001     3    24    13    10    0.0000000     GPS", "TIME OF FIRST OBS"),
    line("", "END OF HEADER"),
    " 01  3 24 13 10  0.0000000  0  2G12R 9",
    f"{20000000.123:14.3f}  {20000001.456:14.3f} 5{105000000.25:14.3f}15{82000000.5:14.3f} 4{45.0:14.3f}  ",
    f"{40.0:14.3f}  ",
    f"{21000000.0:14.3f}  {'':16}{110000000.0:14.3f}  {0.0:14.3f}  ",
    "",
    " 01  3 24 13 10 30.0000000  4  1",
    line("BETA", "MARKER NAME"),
    " 01  3 24 13 11  0.0000000  6  1G12",
    f"{1.0:14.3f}  {'':16}{3.0:14.3f}  ",
    "",
    " 01  3 24 13 11 30.0000000  0  1  9",
    f"{22000000.0:14.3f}  {'':16}{120000000.0:14.3f}  ",
    "",
]) + "\n"  # fmt: skip


class Observed(CommandCase):
    def write(self, text: str | bytes, name: str = "file") -> str:
        path = self.folder / name
        path.write_bytes(text if isinstance(text, bytes) else text.encode("latin-1"))
        return str(path)

    def test_a_real_station(self) -> None:
        """Counted by the text itself: lines after each epoch's own, values that are not blank."""
        text = STATION.read_text()
        told = self.run_json("rinex", str(STATION))
        body = text[text.index("END OF HEADER") :].splitlines()[1:]
        self.assertEqual(told["epochs"], sum(row.startswith(">") for row in body))
        self.assertEqual((told["interval"], told["share"], told["skipped"]), (300.0, 1.0, 0))
        self.assertEqual({s: len(n) for s, n in told["satellites"].items()}, SYSTEMS)
        for system, codes in told["observations"].items():
            rows = [row for row in body if row[:1] == system]
            for k, code in enumerate(read_kind(str(STATION), "observation").systems[system].codes):
                cells = [row[3 + 16 * k : 17 + 16 * k].strip() for row in rows]
                self.assertEqual(codes.get(code, 0), sum(bool(c) and float(c) != 0.0 for c in cells), code)
        self.assertEqual(told["antenna"], "TRM55971.00     NONE")
        self.assertEqual((told["first"], told["last"]), ("2018-02-01T00:00:00", "2018-02-01T00:15:00"))

    def test_the_same_however_it_is_packed(self) -> None:
        plain = self.run_json("rinex", str(STATION))
        data = STATION.read_bytes()
        compact = hatanaka.rnx2crx(data)
        for name, packed in (
            ("a.dat", gzip.compress(data)),
            ("b.bin", compact),
            ("c", gzip.compress(compact)),
        ):
            self.assertEqual(self.run_json("rinex", self.write(packed, name)), plain)
        for cut, words in (
            (gzip.compress(data)[:4000], "cut off"),
            (data[:900], "no end"),
            (b"x" * 300, "header"),
        ):
            self.assertIn(words, self.run_json("rinex", self.write(cut), code=2))

    def test_version_two(self) -> None:
        told = self.run_json("rinex", self.write(TWO))
        self.assertEqual((told["epochs"], told["expected"], told["interval"]), (2, 2, 90.0))
        self.assertEqual(told["satellites"], {"G": ["G09", "G12"], "R": ["R09"]})
        self.assertEqual(told["observations"]["G"], {"C1": 2, "P2": 1, "L1": 2, "L2": 1, "S1": 1, "S2": 1})
        self.assertEqual(told["lli"], {"G": 1, "R": 0})
        self.assertEqual([e["flag"] for e in told["events"]], [4, 6])
        self.assertEqual((told["header_changes"], told["skipped"], told["mark"]), (1, 0, "ALPHA"))
        self.assertEqual(told["antenna_delta"], {"h": 1.234, "e": 0.01, "n": -0.02})

    def test_what_cannot_be_read_is_skipped_and_counted(self) -> None:
        text = STATION.read_text()
        rows = text.splitlines()
        first = next(i for i, row in enumerate(rows) if row.startswith(">"))
        damaged = [*rows]
        damaged[first + 1] = damaged[first + 1].replace("40600783.887", "4060x783.887")
        for lines, skipped, epochs in (
            (rows[:-3], 1, 3), (damaged, 1, 4), ([*rows[:first], "junk", *rows[first:]], 1, 4),
            ([*rows[: first + 2], "Q99 12.000", *rows[first + 2 :]], 2, 4),
        ):  # fmt: skip
            told = self.run_json("rinex", self.write("\n".join(lines) + "\n"))
            self.assertEqual((told["skipped"], told["epochs"]), (skipped, epochs))
            self.assertIn("file.skipped", [d["rule"] for d in told["doubts"]])

    def test_times_of_other_systems(self) -> None:
        """GLONASS files count UTC, 18 s behind GPS time in 2018; BeiDou's time is 14 s behind."""
        text = STATION.read_text()
        for system, first in (("GLO", "2018-02-01T00:00:18"), ("BDT", "2018-02-01T00:00:14")):
            label = "         TIME OF FIRST"
            other = text.replace(f"0.0000000     GPS{label}", f"0.0000000     {system}{label}")
            self.assertEqual(self.run_json("rinex", self.write(other))["first"], first)
        utc = ticks_of(*(np.array([v]) for v in (2005, 12, 31, 23, 59, 590_000_000)))
        self.assertEqual(iso(int(to_gps(utc, "UTC")[0])), "2006-01-01T00:00:12")

    def test_other_kinds(self) -> None:
        nav = self.run_json("rinex", str(DATA / "gnss" / "navigation.rnx"))
        text = (DATA / "gnss" / "navigation.rnx").read_text()
        self.assertEqual(nav["kind"], "navigation")
        for system, count in nav["ephemerides"].items():
            self.assertEqual(
                count, sum(row[:1] == system and row[1:3].isdigit() for row in text.splitlines())
            )
        sp3 = (
            "#dP2020  6 24  0  0  0.00000000       2 ORBIT IGS14 HLM  IGS\n%c M  cc GPS ccc cccc cccc\n"
            "*  2020  6 24  0  0  0.00000000\nPG01  13000.000001  14000.000000  15000.000000    100.000000\n"
            "PE05  -9000.000000 999999.000000      1.000000 999999.999999\n*  2020  6 24  0 15  0.00000000\n"
            "PG01  13001.000000  14000.500000  15000.250000    100.000100\nEOF\n"
        )
        found = read_orbits(sp3.encode(), "x")
        self.assertEqual((found.names, found.version, found.ticks.size), (("E05", "G01"), "d", 2))
        np.testing.assert_allclose(found.xyz[:, 1, 1], [13001e3, 14000.5e3, 15000.25e3])
        self.assertTrue(np.isnan(found.clock[0, 0]))
        antex = "\n".join([
            line("     1.4            M", "ANTEX VERSION / SYST"), line("", "END OF HEADER"),
            line("", "START OF ANTENNA"), line("TEST.1          NONE", "TYPE / SERIAL NO"),
            line("     5.0", "DAZI"), line("     0.0  90.0  30.0", "ZEN1 / ZEN2 / DZEN"),
            line("   G01", "START OF FREQUENCY"), line("      1.00     -2.00     90.50", "NORTH / EAST / UP"),
            "   NOAZI    0.00   -1.00   -2.00    3.00", line("   G01", "END OF FREQUENCY"),
            line("", "END OF ANTENNA"),
        ])  # fmt: skip
        one = read_antennas(antex.encode(), "x").types[0]
        np.testing.assert_allclose(one.frequencies["G01"].offset, [1e-3, -2e-3, 90.5e-3])
        np.testing.assert_allclose(one.frequencies["G01"].variation, [[0.0, -1e-3, -2e-3, 3e-3]])
        self.assertEqual(self.run_json("rinex", self.write(antex))["antennas"], ["TEST.1          NONE"])

    def test_mutated_files_end_in_words_or_are_counted(self) -> None:
        rng = random.Random(5)
        seeds = [STATION.read_bytes(), TWO.encode(), (DATA / "gnss" / "navigation.rnx").read_bytes()[:20000]]
        for k in range(240):
            data = bytearray(rng.choice(seeds))
            for _ in range(rng.randint(1, 30)):
                at = rng.randrange(len(data))
                deed = rng.randrange(4)
                if deed == 0:
                    data[at] = rng.randrange(256)
                elif deed == 1:
                    del data[at : at + rng.randrange(200)]
                elif deed == 2:
                    data[at:at] = data[at : at + rng.randrange(300)]
                else:
                    data[at : at + 10] = b"          "
            path = self.write(bytes(data), f"m{k % 3}")
            try:
                read_gnss(path)
            except FenwindError as error:
                self.assertTrue(error.message)
        with self.assertRaises(FormatError):
            read_gnss(str(self.folder / "none"))
