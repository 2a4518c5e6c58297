"""Points and vectors of simulated static receivers against their truth, and what is told of blunders."""

import math
from pathlib import Path

import numpy as np

from fenwind.geodesy.geocentric import GRS80_A, GRS80_F, enu_axes, to_xyz
from fenwind.gnss.gps_time import ticks_of
from fenwind.gnss.rinex_out import navigation_text, observation_text
from fenwind.gnss.satellites import BroadcastSky, satellite_code
from fenwind.standins.static_sky import IONOSPHERE, Air, Receiver, messages_of, observe
from tests.support import CommandCase

MARKS = {"BASE": (61.30, 8.40, 1240.0), "ROVER": (61.33, 8.46, 1290.0)}
START = int(ticks_of(*(np.array([v]) for v in (2026, 5, 14, 10, 0, 0)))[0])


def place(name: str) -> str:
    return ",".join(f"{v!r}" for v in MARKS[name])


class StaticCase(CommandCase):
    """Two receivers 4.7 km apart that log together for 25 minutes, written as RINEX."""

    messages = messages_of(START, 1.0, "GE")

    def setUp(self) -> None:
        super().setUp()
        self.nav = self.file("nav", navigation_text(self.messages, IONOSPHERE))
        self.base, self.rover = self.log("BASE"), self.log("ROVER", seed=2)

    def file(self, name: str, text: str) -> str:
        path = self.folder / f"{name}.rnx"
        path.write_text(text)
        return str(path)

    def log(self, mark: str, seed: int = 1, name: str = "", **more: object) -> str:
        xyz = [to_xyz(math.radians(a), math.radians(o), h, GRS80_A, GRS80_F) for a, o, h in MARKS.values()]
        mine = tuple(float(v) for v in xyz[list(MARKS).index(mark)])
        base = tuple(float(v) for v in xyz[0])
        receiver = Receiver(mark=name or mark, xyz=mine, **more)
        rng = np.random.default_rng(seed)
        header, ticks, systems = observe(self.messages, START, 50, 30.0, receiver, Air(), rng, origin=base)
        return self.file(f"{mark}{seed}{name}", observation_text(header, ticks, systems))


class Static(StaticCase):
    def test_a_point(self) -> None:
        found = self.run_json("point", self.base, self.nav)
        away = found["header_difference"]
        sigmas = np.sqrt(np.diag(found["covariance"]))
        self.assertLess(max(abs(away[k]) / s for k, s in zip(("de", "dn", "du"), sigmas, strict=True)), 3.5)
        self.assertLess(math.hypot(away["de"], away["dn"]), 2.0)
        self.assertEqual((found["epochs"], found["mark"]), (50, "BASE"))
        lower = self.run_json("point", self.base, self.nav, "--height", "2.5", code=1)
        self.assertAlmostEqual(found["h"] - lower["h"], 1.0, 6)
        self.assertEqual(lower["doubts"][0]["rule"], "header.antenna-height")
        one = self.run_json("point", self.base, self.nav, "--signals", "G:1C")
        self.assertEqual({s[0] for s in one["used"]}, {"G"})
        for options, words in ((("--signals", "G:5X"), "no such signal"), (("--mask", "95"), "degrees"),
                               (("--systems", "Q"), "letters")):  # fmt: skip
            self.assertIn(words, self.run_json("point", self.base, self.nav, *options, code=2))

    def test_a_vector(self) -> None:
        found = self.run_json("baseline", self.base, self.rover, self.nav, "--rover", place("ROVER"))
        self.assertEqual(found["solution"], "fixed")
        check, limit = found["check"], 0.005 + 0.5e-6 * found["length"]
        self.assertLess(max(abs(check["de"]), abs(check["dn"])), 2.0 * limit)
        self.assertLess(abs(check["du"]), 6.0 * limit)
        ends = [
            np.array(to_xyz(math.radians(a), math.radians(o), h, GRS80_A, GRS80_F))
            for a, o, h in MARKS.values()
        ]
        away = np.array([found[k] for k in ("dx", "dy", "dz")]) - (ends[1] - ends[0])
        self.assertLess(float(away @ np.linalg.solve(found["covariance"], away)), 20.0)
        # Backwards it is the same with the other sign.
        back = self.run_json("baseline", self.rover, self.base, self.nav)
        for k in ("dx", "dy", "dz"):
            self.assertAlmostEqual(back[k], -found[k], delta=0.004)

    def test_an_antenna_east_and_south_of_its_mark(self) -> None:
        """ANTENNA: DELTA H/E/N (RINEX 3.04): the mark lies the other way from the antenna."""
        text = Path(self.rover).read_text()
        self.assertIn(f"{1.5:14.4f}{0.0:14.4f}{0.0:14.4f}", text)
        beside = text.replace(f"{1.5:14.4f}{0.0:14.4f}{0.0:14.4f}", f"{1.5:14.4f}{0.3:14.4f}{-0.2:14.4f}")
        moved = self.file("beside", beside)
        for one, two in (
            (("point", self.rover, self.nav), ("point", moved, self.nav)),
            (("baseline", self.base, self.rover, self.nav), ("baseline", self.base, moved, self.nav)),
        ):
            plain, other = self.run_json(*one), self.run_json(*two)
            ends = [
                to_xyz(math.radians(f["lat"]), math.radians(f["lon"]), f["h"], GRS80_A, GRS80_F)
                if one[0] == "point" else [f[k] for k in ("dx", "dy", "dz")]
                for f in (plain, other)
            ]  # fmt: skip
            lat, lon = (np.array([math.radians(v)]) for v in MARKS["ROVER"][:2])
            away = enu_axes(lat, lon)[:, :, 0] @ (np.array(ends[1]) - np.array(ends[0]))
            np.testing.assert_allclose(away, [-0.3, 0.2, 0.0], atol=2e-3, err_msg=one[0])

    def test_slips_are_found_or_taken_as_flagged(self) -> None:
        for flagged in (True, False):
            slipped = self.log("ROVER", seed=2, slips=(("G03", 20), ("E06", 30)), flagged=flagged)
            found = self.run_json("baseline", self.base, slipped, self.nav, "--rover", place("ROVER"))
            self.assertEqual((found["solution"], found["slips"]), ("fixed", 2))
            self.assertLess(math.hypot(found["check"]["de"], found["check"]["dn"]), 0.015)

    def test_satellites_that_are_missing_now_and_then(self) -> None:
        """One line in ten of the rover's file is lost: arcs go on over single epochs."""
        rng = np.random.default_rng(4)
        out: list[str] = []
        head = 0
        body = False
        for line in Path(self.rover).read_text().splitlines():
            if line.startswith(">"):
                body, head = True, len(out)
            elif body and rng.random() < 0.1:
                out[head] = f"{out[head][:32]}{int(out[head][32:35]) - 1:3d}"
                continue
            out.append(line)
        thin = self.file("thin", "\n".join(out) + "\n")
        self.assertEqual(self.run_json("rinex", thin)["skipped"], 0)
        found = self.run_json("baseline", self.base, thin, self.nav, "--rover", place("ROVER"))
        self.assertEqual((found["solution"], found["slips"]), ("fixed", 0))
        self.assertLess(math.hypot(found["check"]["de"], found["check"]["dn"]), 0.015)

    def test_one_signal_and_a_file_against_itself(self) -> None:
        """A file against itself is a vector of nothing, exactly; one signal is enough for a short vector."""
        same = self.run_json("baseline", self.base, self.base, self.nav)
        self.assertLess(max(abs(same[k]) for k in ("dx", "dy", "dz")), 1e-6)
        self.assertFalse([d for d in same["doubts"] if d["rule"] == "header.mark"])
        one = self.run_json(
            "baseline", self.base, self.rover, self.nav, "--signals", "G:1C", "--rover", place("ROVER")
        )
        self.assertLess(math.hypot(one["check"]["de"], one["check"]["dn"]), 0.05)
        wrong = self.run_json("baseline", self.base, self.rover, self.nav, "--signals", "G:1C/2W", code=2)
        self.assertIn("same band", wrong)

    def test_blunders_are_named(self) -> None:
        swapped = self.run_json("baseline", self.base, self.rover, self.nav, "--base", place("ROVER"), code=1)
        self.assertEqual((swapped["doubts"][0]["rule"], swapped["doubts"][0]["names"]),
                         ("baseline.swapped", ["BASE", "ROVER"]))  # fmt: skip
        wrong = self.run_json("baseline", self.base, self.rover, self.nav, "--base", "61.31,8.4,1240", code=1)
        self.assertEqual(wrong["doubts"][0]["rule"], "baseline.base-position")
        high = self.log("ROVER", seed=2, height=1.5, said_height=1.3)
        told = self.run_json("baseline", self.base, high, self.nav, "--rover", place("ROVER"), code=1)
        self.assertEqual(told["doubts"][0]["rule"], "baseline.antenna-height")
        self.assertAlmostEqual(told["doubts"][0]["value"], -0.2, delta=0.05)
        other = self.log("ROVER", seed=2, name="BASE")
        rules = [d["rule"] for d in self.run_json("baseline", self.base, other, self.nav, code=1)["doubts"]]
        self.assertIn("header.mark", rules)
        east = "61.33,8.461,1290"
        off = self.run_json("baseline", self.base, self.rover, self.nav, "--rover", east, code=1)
        self.assertEqual(off["doubts"][0]["rule"], "baseline.check")

    def test_precise_orbits(self) -> None:
        """The same orbits and clocks as SP3, whose clocks leave out relativity, give the same point."""
        sky = BroadcastSky(start=START, messages=self.messages, galileo="5")
        names = sorted({m.name for m in self.messages})
        codes = np.array([int(satellite_code(n[0], int(n[1:]))) for n in names])
        lines = ["#dP2026  5 14  8  0  0.00000000      24 ORBIT IGS20 HLM  FEN", "%c M  cc GPS ccc cccc cccc"]
        for k in range(24):
            seconds = -7200.0 + 900.0 * k
            before, here, after = (
                sky.states(codes, np.full(codes.size, seconds + d)) for d in (-0.5, 0.0, 0.5)
            )
            speed = after.xyz - before.xyz
            clock = here.clock + 2.0 * (here.xyz * speed).sum(axis=0) / 299792458.0**2
            hour, minute = divmod(8 * 60 + 15 * k, 60)
            lines.append(f"*  2026  5 14 {hour:2d} {minute:2d}  0.00000000")
            lines += [
                f"P{n}" + "".join(f"{v:14.6f}" for v in (*here.xyz[:, i] / 1e3, clock[i] * 1e6))
                for i, n in enumerate(names) if np.isfinite(here.xyz[0, i])
            ]  # fmt: skip
        sp3 = self.file("orbits", "\n".join([*lines, "EOF", ""]))
        plain = self.run_json("point", self.base, self.nav)
        precise = self.run_json("point", self.base, self.nav, "--sp3", sp3)
        for k in "xyz":
            self.assertAlmostEqual(plain[k], precise[k], delta=0.03)
        self.assertLess(np.trace(precise["covariance"]), np.trace(plain["covariance"]))
        self.assertEqual(self.run_json("rinex", sp3)["epochs"], 24)

    def test_antenna_corrections(self) -> None:
        """An offset of the phase centre upwards, the same for all signals, lowers the mark by as much."""
        up = f"{'      0.00      0.00    100.00':60}NORTH / EAST / UP"
        flat = "   NOAZI" + "    0.00" * 4
        block = []
        for name in ("G01", "G02", "E01", "E05"):
            block += [f"{'   ' + name:60}START OF FREQUENCY", up, flat, f"{'   ' + name:60}END OF FREQUENCY"]
        text = "\n".join([
            f"{'     1.4            M':60}ANTEX VERSION / SYST", f"{'':60}START OF ANTENNA",
            f"{'FENWIND-A       NONE':60}TYPE / SERIAL NO", f"{'     0.0  90.0  30.0':60}ZEN1 / ZEN2 / DZEN",
            *block, f"{'':60}END OF ANTENNA",
        ])  # fmt: skip
        antex = self.file("antennas", text + "\n")
        plain = self.run_json("point", self.base, self.nav)
        found = self.run_json("point", self.base, self.nav, "--antex", antex)
        self.assertAlmostEqual(plain["h"] - found["h"], 0.1, delta=1e-3)
        radome = self.run_json(
            "point", self.base, self.nav, "--antex", antex, "--antenna", "FENWIND-A DOME", code=1
        )
        self.assertAlmostEqual(found["h"], radome["h"], 6)
        self.assertEqual([d["rule"] for d in radome["doubts"]], ["header.antenna"] * 2)
        unknown = self.run_json(
            "point", self.base, self.nav, "--antex", antex, "--antenna", "OTHER NONE", code=1
        )
        self.assertAlmostEqual(unknown["h"], plain["h"], 6)

    def test_navigation_of_another_day(self) -> None:
        later = self.file(
            "later", navigation_text(messages_of(START + 5 * 864_000_000_000, 1.0, "G"), IONOSPHERE)
        )
        line = self.run_json("point", self.base, later, code=2)
        self.assertTrue("navigation" in line and "2026-05-19" in line and "2026-05-14" in line, line)
        told = self.run_json("point", self.base, self.nav, later)
        self.assertEqual([d["rule"] for d in told["doubts"]], ["nav.day"])
