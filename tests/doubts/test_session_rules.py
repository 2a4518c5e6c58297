"""What is told of occupations that depart, with the size and the limit worked out by hand."""

import math
from dataclasses import replace

import numpy as np

from fenwind.doubts.of_job import about_sessions
from fenwind.geodesy.frames import open_frame
from fenwind.geodesy.geocentric import enu_axes
from fenwind.records.entries import Add, amend
from fenwind.records.records import GivenPosition
from fenwind.records.sessions import BaseSetup, Occupation
from tests.session_job import VARIANCE, arp, place, session_job
from tests.support import TempFolder

#: Sigmas of east and north, and of up with that of the antenna height, of one occupation; metres.
PLAN, UP = math.sqrt(4e-6 + 9e-6), math.sqrt(1.6e-5 + 1e-6)
#: Of an occupation against the mean of two others, whose base is its own.
AGAINST_TWO = math.sqrt(1.5)


class Departing(TempFolder):
    """B measured from D1 as in the job, then twice more; the last is somewhere else."""

    def setUp(self) -> None:
        super().setUp()
        self.job = session_job(self.path("j.fenwind"), blunder=0.0)
        self.addCleanup(lambda: self.job.close())
        every = self.job.state.of(Occupation)
        self.job.record("D2 is left out", [amend(every[key], active=False) for key in ("o3", "o4")])

    def occupied(
        self, key: str, mark: str, way: tuple[float, float, float], size: float, **more: object
    ) -> None:
        """An occupation of a mark from D1, a way (east, north, up) beside the truth, sigmas times a size."""
        vector = arp(mark, 2.0) - arp("A", 1.5) + enu_axes(*place(mark)[:2]).T @ np.array(way)
        x, y, z = (float(v) for v in vector)
        one = replace(
            self.job.state.of(Occupation)["o1"], id=key, mark=mark.lower(), height_m=2.0, dx_m=x,
            dy_m=y, dz_m=z, **{k: v * size**2 for k, v in VARIANCE.items()}, **more,
        )  # fmt: skip
        self.job.record("one", [Add(record=one)])

    def told(self) -> list[tuple[str, str, float, float, str]]:
        found = about_sessions(self.job.state, self.derive(self.job))
        return [
            (d.rule, d.subject, d.value or 0.0, d.limit or 0.0, d.text)
            for d in found
            if d.grave and d.rule.startswith("occupation.")
        ]

    def test_a_known_mark_that_two_bases_place_elsewhere(self) -> None:
        """B given 0.2 m east of where both bases find it: the mark has moved, and no occupation of it is
        accused. From one base alone, or where the bases disagree, it is not the mark."""
        lat, lon, h = place("B")
        e, n = open_frame(self.job.state.frames["f"].spec).forward(np.array([lat]), np.array([lon]))
        second = amend(self.job.state.of(BaseSetup)["d2"], word="known", mark="a")
        given = GivenPosition(
            id="gb", mark="b", frame="f", e_m=float(e[0]) + 0.2, n_m=float(n[0]), height_m=h
        )
        self.job.record("B is known", [second, Add(record=given)])
        for base, way, wanted in (("d2", 0.0, ["marks.moved"]), ("d1", 0.0, []), ("d2", 0.5, [])):
            self.occupied("x", "B", (way, 0.0, 0.0), 1.0, base=base, check=True)
            found = [d for d in about_sessions(self.job.state, self.derive(self.job)) if d.grave]
            self.assertEqual([d.rule for d in found if d.rule == "marks.moved"], wanted, (base, way))
            if wanted:
                self.assertEqual((found[0].names, [d for d in found if "x" in d.names]), (("B",), []))
                self.assertAlmostEqual(found[0].value or 0.0, 0.2, 3)
            self.job.undo()

    def test_epochs_in_two_places(self) -> None:
        """Scatter of 180 m is told, 20 mm is not; not beside a base whose broadcast leapt meanwhile."""
        for spread, moved, wanted in ((180.0, 0.0, True), (0.02, 0.0, False), (180.0, 0.5, False)):
            self.occupied("x", "B", (0.0, 0.0, 0.0), 1.0, spread_e_m=spread, moved_m=moved)
            rules = [rule for rule, subject, *_ in self.told() if subject == "x"]
            self.assertEqual("occupation.scatter" in rules, wanted, (spread, moved))
            self.job.undo()

    def test_how_far_one_of_three_lies_apart(self) -> None:
        for way, size, wanted in (
            ((0.0149, 0.0, 0.0), 1.0, None), ((0.0151, 0.0, 0.0), 1.0, ("plan", 0.0151, 0.015)),
            ((0.0, -0.03, 0.0), 1.0, ("plan", 0.03, 0.015)),
            ((0.0, 0.09, 0.0), 3.0, ("plan", 0.09, 3.29 * AGAINST_TWO * 3.0 * PLAN)),
            ((0.0, 0.03, 0.0), 3.0, None), ((0.02, 0.0, -0.2), 1.0, ("height", 0.2, 0.025)),
            ((0.15, 0.0, 0.155), 3.0, ("plan", 0.15, 3.29 * AGAINST_TWO * 3.0 * PLAN)),
            ((0.05, 0.0, 0.1), 3.0, ("height", 0.1, 3.29 * AGAINST_TWO * math.hypot(3.0 * 4e-3, 1e-3))),
        ):  # fmt: skip
            with self.subTest(way=way, size=size):
                first = self.job.state.of(Occupation)["o1"]
                self.job.record("as well", [amend(first, **{k: v * size**2 for k, v in VARIANCE.items()})])
                for key, off in (("x1", (0.0, 0.0, 0.0)), ("x2", way)):
                    self.job.record("it goes", [amend(o, active=False) for o in self.extra(key)])
                    self.occupied(f"{key} {way} {size}", "B", off, size)
                found = self.told()
                self.assertEqual(len(found), int(wanted is not None), found)
                if wanted is not None:
                    rule, subject, value, limit, text = found[0]
                    self.assertEqual((rule, subject), ("occupation.spread", f"x2 {way} {size}"))
                    np.testing.assert_allclose((value, limit), wanted[1:], rtol=2e-3)
                    self.assertIn(f"apart in {wanted[0]}", text)

    def extra(self, key: str) -> list[Occupation]:
        return [o for o in self.job.state.of(Occupation).values() if o.id.startswith(f"{key} ") and o.active]

    def test_by_how_much_a_check_misses(self) -> None:
        """On A, which D1 stands on: its own error is in both."""
        for way, size, value, limit in (
            ((0.03, 0.04, 0.0), 1.0, 0.05, 0.015),
            ((0.0, -0.05, 0.2), 3.0, 0.05, 3.29 * 3.0 * PLAN),
        ):  # fmt: skip
            with self.subTest(way=way):
                key = f"check {size}"
                self.occupied(key, "A", way, size, check=True)
                ((rule, subject, *found, text),) = self.told()
                self.assertEqual((rule, subject), ("occupation.check", key))
                np.testing.assert_allclose(found, (value, limit), rtol=2e-3)
                self.assertTrue(text.endswith("misses by 50.0 mm in plan."), text)
                self.job.record("it goes", [amend(self.job.state.of(Occupation)[key], active=False)])

    def test_what_a_days_work_lacks_is_told_of_its_own_base(self) -> None:
        """D1 is heard by what was measured from it and finished, not by what D2 or a broken one says."""
        every = self.job.state.of(Occupation)
        other = amend(every["o3"], active=True, message_set="legacy")
        broken = amend(every["o2"], finished=False, message_set="legacy")
        gone = amend(every["o4"], base="d1", active=False, message_set="legacy")
        for change, told in (
            (other, ["d2"]), (broken, []), (gone, []), (amend(every["o1"], message_set="legacy"), ["d1"]),
        ):  # fmt: skip
            before = self.job.state.snapshot()
            self.job.record("older", [change])
            found = about_sessions(self.job.state, self.derive(self.job))
            self.assertEqual([d.subject for d in found if d.rule == "session.legacy"], told)
            self.job.undo()
            self.assertEqual(before.of(Occupation), self.job.state.of(Occupation))

    def test_a_check_on_what_was_measured_once(self) -> None:
        """Of two heights the odd one is told as wrong; the check misses it nevertheless."""
        every = self.job.state.of(Occupation)
        vector = arp("B", 1.9) - arp("A", 1.5)
        dx, dy, dz = (float(v) for v in vector)
        self.job.record("odd", [amend(every["o1"], height_m=1.9, dx_m=dx, dy_m=dy, dz_m=dz)])
        self.occupied("check", "B", (0.0, 0.0, 0.2), 1.0, check=True)
        by_rule = {rule: (subject, value, limit, text) for rule, subject, value, limit, text in self.told()}
        self.assertEqual(by_rule["occupation.antenna"][0], "o1")
        least = max(0.025, 3.29 * math.sqrt(2.0) * UP)
        np.testing.assert_allclose(by_rule["occupation.antenna"][1:3], (0.2, least), atol=1e-5)
        subject, value, limit, text = by_rule["occupation.check"]
        self.assertEqual((subject, round(value, 6)), ("check", 0.2))
        self.assertAlmostEqual(limit, least, 5)
        self.assertIn("in height", text)
