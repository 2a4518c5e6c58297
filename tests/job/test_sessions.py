"""What follows from bases and occupations, on a job whose truth is known."""

import math
from dataclasses import replace

import numpy as np

from fenwind.doubts.of_job import about_sessions
from fenwind.doubts.settling import settle
from fenwind.errors import FenwindError
from fenwind.geodesy.frames import open_frame
from fenwind.geodesy.geocentric import enu_axes, to_xyz
from fenwind.job import session_gestures as gestures
from fenwind.job.job import Job
from fenwind.job.session_view import between, enu_between, moved, places, rover_of, summary
from fenwind.job.steps.vectors import vectors_node
from fenwind.job.trail import session_trail
from fenwind.procedures.rover import Point, mean_of_epochs
from fenwind.records.entries import Add, amend
from fenwind.records.sessions import BaseSetup, Equipment, Occupation
from tests.session_job import JUMP, VARIANCE, place, session_job
from tests.support import TempFolder


def truth(name: str) -> Point:
    return Point(xyz=to_xyz(*place(name)))


class Sessions(TempFolder):
    def setUp(self) -> None:
        super().setUp()
        self.job = session_job(self.path("j.fenwind"), blunder=0.0)
        self.addCleanup(lambda: self.job.close())

    def away(self, name: str) -> np.ndarray:
        return enu_between(places(self.derive(self.job))[name.lower()], truth(name))

    def do(self, word: str, mark: str = "") -> None:
        base = self.job.state.of(BaseSetup)["d2"]
        state = self.job.state
        gesture = gestures.stand_on(base, word, state.marks.get(mark))  # type: ignore[arg-type]
        self.job.record(*gesture)

    def test_an_untied_base_takes_no_part_where_there_are_others(self) -> None:
        rover = rover_of(self.derive(self.job))
        self.assertEqual(rover.used, {"b": ("o1",), "c": ("o2",)})
        np.testing.assert_allclose(self.away("B"), 0.0, atol=1e-6)
        off = enu_between(rover.each["o4"], truth("C"))
        lat, lon, _ = place("A")
        axes = enu_axes(*place("C")[:2]) @ enu_axes(lat, lon).T
        np.testing.assert_allclose(off, axes @ JUMP, atol=1e-6)
        doubts = {d.rule: d for d in about_sessions(self.job.state, self.derive(self.job))}
        self.assertEqual(doubts["base.untied"].names, ("D2", "B", "C"))
        self.assertAlmostEqual(doubts["base.untied"].value or 0.0, float(np.linalg.norm(JUMP)), 5)
        self.assertIn("2 marks stand on it; a common mark", doubts["base.untied"].text)
        for gone, words in (("o3", "1 mark stands on it"), ("o4", "no mark stands on it yet")):
            self.job.record("out", [amend(self.job.state.of(Occupation)[gone], active=False)])
            doubts = {d.rule: d for d in about_sessions(self.job.state, self.derive(self.job))}
            self.assertIn(words, doubts["base.untied"].text)

    def test_covariances_keep_their_order(self) -> None:
        one = self.job.state.of(Occupation)["o1"]
        named = dict(cee_m2=4e-6, cen_m2=1e-6, ceu_m2=2e-6, cnn_m2=5e-6, cnu_m2=3e-6, cuu_m2=9e-6)
        self.job.record("whole", [Add(record=replace(one, id="whole", **named))])
        rows = self.derive(self.job).outcomes[vectors_node()].result
        found = next(row.measured.covariance for row in rows if row.measured.id == "whole")
        np.testing.assert_allclose(found, np.array([[4, 1, 2], [1, 5, 3], [2, 3, 9]]) * 1e-6)

    def test_a_trail_goes_into_the_latest_occupations(self) -> None:
        one = self.job.state.of(Occupation)["o1"]
        more = [replace(one, id=f"more {k}", started=f"2026-06-09T{k:02d}:00:00Z") for k in range(5, 20)]
        self.job.record("more", [Add(record=o) for o in more])
        derived = self.derive(self.job)
        steps = session_trail(self.job.state, derived, "b", 12)
        seen = [step["start"][11:13] for step in steps if step["what"] == "occupation"]
        self.assertEqual(sorted(seen), [f"{k:02d}" for k in range(8, 20)])
        self.assertEqual(steps[0]["text"], "B is the mean of 16 occupations; the latest 12 stand here")
        whole = session_trail(self.job.state, derived, "b")
        self.assertEqual(sum(step["what"] == "occupation" for step in whole), 16)

    def test_every_word_a_base_can_stand_on(self) -> None:
        self.do("tie", "b")
        np.testing.assert_allclose(self.away("C"), 0.0, atol=1e-6)
        before = places(self.derive(self.job))
        self.do("known", "a")
        np.testing.assert_allclose(self.away("C"), 0.0, atol=1e-6)
        self.assertEqual(moved(before, places(self.derive(self.job))).marks, 0)
        lat, lon, h = place("A")
        base = self.job.state.of(BaseSetup)["d2"]
        self.job.record(
            "place", [amend(base, word="place", place_lat_rad=lat, place_lon_rad=lon, place_h_m=h + 0.5)]
        )
        # Half the weight of C comes from D2, which now lies half a metre too high.
        np.testing.assert_allclose(self.away("C"), [0.0, 0.0, 0.25], atol=1e-4)
        change = moved(before, places(self.derive(self.job)))
        self.assertEqual(change.marks, 2)
        self.assertAlmostEqual(change.dh_m, 0.25, 4)

    def test_a_tie_needs_another_position(self) -> None:
        self.job.record(*gestures.set_active([self.job.state.of(Occupation)["o1"]], False))
        self.do("tie", "b")
        doubts = [d for d in about_sessions(self.job.state, self.derive(self.job))]
        self.assertIn("base.nowhere", [d.rule for d in doubts])
        self.assertIn("B has no other position", doubts[0].text)

    def test_covariances_by_hand(self) -> None:
        """B: known mark, base antenna, vector, pole. B to C on one base: two vectors and two poles alone."""
        rover = rover_of(self.derive(self.job))
        b = rover.marks["b"].covariance().diagonal()
        # The base's height carries over B: its up and B's differ by about 0.2 mrad, which is nothing.
        wanted = [
            0.004**2 + VARIANCE["cee_m2"], 0.004**2 + VARIANCE["cnn_m2"],
            0.006**2 + 0.001**2 + VARIANCE["cuu_m2"] + 0.001**2,
        ]  # fmt: skip
        np.testing.assert_allclose(b, wanted, rtol=1e-3)
        adopted = self.derive(self.job).adopted["f"]
        joint = adopted.difference_covariance(adopted.place["b"], adopted.place["c"])
        np.testing.assert_allclose(
            np.diag(joint), [2 * VARIANCE["cee_m2"], 2 * VARIANCE["cnn_m2"], 2 * VARIANCE["cuu_m2"] + 2e-6],
            rtol=1e-3,
        )  # fmt: skip

    def test_a_mark_on_a_known_one_shares_its_error(self) -> None:
        found = between(self.derive(self.job), open_frame(self.job.state.frames["f"].spec), "b", "a")
        assert found is not None
        # The antenna of the base, the vector, the pole: nothing of A's own 4 and 6 mm.
        wanted = [VARIANCE["cee_m2"], VARIANCE["cnn_m2"], VARIANCE["cuu_m2"] + 2e-6]
        np.testing.assert_allclose(np.diag(found), wanted, rtol=2e-3)

    def test_a_check_is_compared_and_takes_no_part(self) -> None:
        self.do("tie", "b")
        self.job.record(*gestures.set_check([self.job.state.of(Occupation)["o4"]], True))
        rover = rover_of(self.derive(self.job))
        self.assertEqual(rover.used["c"], ("o2",))
        self.assertIn("o4", rover.each)
        one = summary(list(self.job.state.of(Occupation).values()), rover, "b")
        self.assertEqual((one.count, one.separation_h), (2, 24.0))

    def test_wrong_heights_are_told_and_not_those_that_they_pull(self) -> None:
        """B measured more often: 20 mm higher; then 150 mm too low as a check, which has a say in heights but
        not in spreads; then 200 mm too high. Values are against the mean of what is right, 6.7 mm up."""
        self.do("known", "a")
        up = enu_axes(*place("B")[:2])[2]
        first = self.job.state.of(Occupation)["o1"]
        told: list[tuple[str, str]] = []
        for key, off, check, value in (
            ("o5", 0.020, False, 0.0), ("o6", -0.150, True, 0.1567), ("o7", 0.200, False, -0.1933)
        ):  # fmt: skip
            moved = np.array([first.dx_m, first.dy_m, first.dz_m], dtype=float) + off * up
            dx, dy, dz = moved.tolist()
            more = replace(first, id=key, dx_m=dx, dy_m=dy, dz_m=dz, check=check)
            self.job.record("more", [Add(record=replace(more, started="2026-05-03T08:00:00+00:00"))])
            told += [("occupation.antenna", key)] if value else []
            derived = self.derive(self.job)
            grave = [d for d in about_sessions(self.job.state, derived) if d.grave]
            self.assertEqual(sorted((d.rule, d.subject) for d in grave), told)
            for doubt in grave:
                wanted = {"o6": 0.1567, "o7": -0.1933}[doubt.subject]
                self.assertAlmostEqual(doubt.value or 0.0, wanted, 3)

    def test_how_several_occupations_count(self) -> None:
        """B from two bases, the second time 30 mm east with three times the sigma and twice the PDOP."""
        self.do("known", "a")
        east = enu_axes(*place("B")[:2])[0] * 0.030
        two = self.job.state.of(Occupation)["o3"]
        self.job.record("worse", [amend(
            two, dx_m=two.dx_m + east[0], dy_m=two.dy_m + east[1], dz_m=two.dz_m + east[2], pdop=3.0,
            **{key: 9.0 * value for key, value in VARIANCE.items()},
        ), amend(self.job.state.of(Occupation)["o1"], pdop=1.5)])  # fmt: skip
        for word, wanted in (("equal", 0.015), ("covariance", 0.003), ("pdop", 0.006)):
            with self.subTest(word=word):
                old = self.job.state.of(Equipment).get("equipment")
                entry = Add(record=Equipment(weights=word)) if old is None else amend(old, weights=word)
                self.job.record("weights", [entry])
                np.testing.assert_allclose(self.away("B"), [wanted, 0.0, 0.0], atol=1e-6)
        own = rover_of(self.derive(self.job)).marks["b"].covariance()
        self.assertGreater(float(own[0, 0]), 0.0)

    def test_mean_of_epochs_against_a_simulation(self) -> None:
        """4,000 first-order processes: the variance of their means is that of one epoch over `effective`."""
        rng, t, count = np.random.default_rng(6), 60.0, 120
        fade = math.exp(-1.0 / t)
        x = np.empty((4000, count))
        x[:, 0] = rng.standard_normal(4000)
        for k in range(1, count):
            x[:, k] = fade * x[:, k - 1] + math.sqrt(1.0 - fade**2) * rng.standard_normal(4000)
        found = mean_of_epochs(np.zeros((3, count)), np.arange(count, dtype=float), "fixed")
        self.assertAlmostEqual(x.mean(axis=1).var() * found.effective, 1.0, delta=0.08)


class Heights(TempFolder):
    def named(self, job: Job) -> dict[str, tuple[str, float]]:
        found = about_sessions(job.state, self.derive(job))
        return {d.names[0]: (d.rule, d.value or 0.0) for d in found if d.rule.startswith("occupation.")}

    def test_the_odd_antenna_height_is_named(self) -> None:
        job = session_job(self.path("j.fenwind"), blunder=0.11)
        self.addCleanup(job.close)
        base = job.state.of(BaseSetup)["d2"]
        job.record(*gestures.stand_on(base, "tie", job.state.marks["b"]))
        (found,) = self.named(job).items()
        self.assertEqual(found[0], "o2")
        self.assertEqual(found[1][0], "occupation.antenna")
        self.assertAlmostEqual(found[1][1], 0.11, 6)
        doubt = next(d for d in about_sessions(job.state, self.derive(job)) if d.rule == "occupation.antenna")
        self.assertEqual([r.label for r in doubt.remedies], ["amend to 2.0000 m", "leave it out"])
        before = job.state.snapshot()
        for remedy in doubt.remedies:
            job.record(*settle(before, doubt, remedy))
            self.assertEqual(self.named(job), {})
            job.undo()
        job.record(*gestures.set_height(job.state, job.state.of(Occupation)["o2"], "2.0 vertical"))
        self.assertEqual(self.named(job), {})

    def test_a_slant_given_as_vertical_is_named_as_one(self) -> None:
        slant = math.hypot(2.06, 0.15)
        job = session_job(self.path("j.fenwind"), blunder=0.0, slant=slant)
        self.addCleanup(job.close)
        base = job.state.of(BaseSetup)["d2"]
        job.record(*gestures.stand_on(base, "tie", job.state.marks["b"]))
        (found,) = self.named(job).items()
        self.assertEqual((found[0], found[1][0]), ("o4", "occupation.slant"))
        self.assertAlmostEqual(found[1][1], slant - 2.0, 6)
        job.record(*gestures.set_height(job.state, job.state.of(Occupation)["o4"], f"{slant} slant"))
        self.assertEqual(self.named(job), {})
        for text in ("x", "2.0 sideways", "-1", "9"):
            with self.subTest(text=text), self.assertRaises(FenwindError):
                gestures.set_height(job.state, job.state.of(Occupation)["o4"], text)
