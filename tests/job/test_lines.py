"""Traverses and levelling as steps of a job: against the command, against the truth of the demo, blunders
named and put right, and how well stations are known."""

import math
from dataclasses import replace
from typing import Any

import numpy as np
from pyproj import Transformer
from scipy.optimize import least_squares

from fenwind.doubts.of_job import Judge
from fenwind.doubts.settling import settle
from fenwind.errors import FenwindError, FormatError, ParseError
from fenwind.exchange.line_csv import book_record, read_book, read_runs, runs_record, typed_row
from fenwind.geodesy.frames import FrameSpec
from fenwind.job.job import Job
from fenwind.job.line_gestures import (
    book_row,
    change,
    drop_rows,
    set_cell,
    set_runs_off,
    start_book,
    take_book,
    take_levelling,
)  # fmt: skip
from fenwind.job.steps.fit import fit_node
from fenwind.procedures.traverse import Ends, Options, Sight, Traverse, solve, turned
from fenwind.procedures.traverse_errors import covariances
from fenwind.quantities.angles import RAD_PER_GON, RAD_PER_SECOND, exchanged_digits
from fenwind.quantities.lengths import FOOT
from fenwind.records.entries import Add
from fenwind.records.lines import LevelBook, TraverseBook
from fenwind.records.records import FrameRecord, GivenPosition, Mark
from fenwind.reports.trail import trail
from fenwind.standins.tarnholt_lines import PLACES
from tests.support import CommandCase, DemoCase

GIVEN = {"A": (1000.0, 2000.0, 50.0), "B": (1000.0, 2300.0, 52.0), "C": (1400.0, 2010.0, 55.0),
         "D": (1500.0, 2400.0, 60.0)}  # fmt: skip
BOOK = (
    "from,to,direction_kind,direction_dms,distance,dh\nA,P,right,85-00-00,200.0,2.0\n"
    "P,X,right,30.5,40.0,1.0\nP,C,right,187-50-00,201.5,3.05\n"
)


class Errors(CommandCase):
    def test_covariances_against_a_step_in_every_observation(self) -> None:
        """Each booked value is moved by a sigma and the traverse adjusted again: the moves of stations and
        side shots are the errors, one observation after the other (propagation of errors). A closed one meets
        its end exactly, where every rule is linear."""
        legs = [("S", "1", "right", 2.0, 120.0, 1.0), ("1", "2", "left", 2.6, 250.0, -3.0),
                ("2", "3", "azimuth", 1.0, 90.0, 2.5),
                ("3", "E", "deflection", 0.7, 180.0, -0.5)]  # fmt: skip
        aside = (("S", "U", "right", 1.0, 60.0, 0.0), ("2", "V", "left", 0.5, 80.0, 0.0),
                 ("3", "W", "azimuth", 0.2, 150.0, 0.0))  # fmt: skip
        shots = tuple(
            Sight(here=a, there=b, kind=k, direction=d, distance=s, dh=h) for a, b, k, d, s, h in aside
        )
        ways = [(m, b) for m in ("none", "compass", "transit", "lsq") for b in (False, True)]
        for closing, loop in ((2.5, False), (None, False), (None, None), (1.4, True)):
            rows = [
                Sight(here=a, there=b, kind=k, direction=d, distance=s, dh=h) for a, b, k, d, s, h in legs
            ]
            if loop:
                rows[0] = replace(rows[0], kind="azimuth")
            work = replace(self.work(rows, closing, loop), shots=shots)
            for method, balance in ways:
                options = replace(work.options, method=method, balance=balance, heights_by="setups")
                with self.subTest(closing=closing, loop=loop, method=method, balance=balance):
                    self.held(replace(work, options=options))

    def held(self, work: Traverse) -> None:
        def places(other: Traverse) -> np.ndarray:
            found = solve(other)
            return np.concatenate([found.adjusted, found.shots], axis=1)

        now, moves, o = places(work), [], work.options
        for part in ("legs", "shots"):
            for i, leg in enumerate(getattr(work, part)):
                rows = list(getattr(work, part))
                sigma = o.sigma_distance_m + o.sigma_distance_ppm * 1e-6 * leg.distance
                up = o.sigma_height * math.sqrt(leg.distance / 1000.0)
                for what, step in (("direction", o.sigma_angle), ("distance", sigma), ("dh", up)):
                    rows[i] = replace(leg, **{what: getattr(leg, what) + step})
                    moves.append(places(replace(work, **{part: tuple(rows)})) - now)
        if work.ends.closing_angle is not None:
            ends = replace(work.ends, closing_angle=work.ends.closing_angle + o.sigma_angle)
            moves.append(places(replace(work, ends=ends)) - now)
        wanted = np.einsum("kin,kjn->ijn", np.array(moves), np.array(moves))
        got = np.concatenate(covariances(work, solve(work)), axis=2)
        np.testing.assert_allclose(got[:2, :2], wanted[:2, :2], atol=2e-3 * np.abs(wanted[:2, :2]).max())
        np.testing.assert_allclose(got[2, 2], wanted[2, 2], atol=1e-3 * wanted[2, 2].max())

    def test_a_long_one_by_least_squares_against_scipy(self) -> None:
        """Directions of all kinds, left out of none; 240 legs take the sparse solver."""
        rng = np.random.default_rng(12)
        kinds = ("right", "left", "deflection", "azimuth")
        rows, azimuth = [], 0.4
        for k in range(240):
            kind = kinds[int(rng.integers(0, 4))] if k < 239 else "deflection"
            back = azimuth + (math.pi if k else 0.0)
            azimuth = float(rng.uniform(0.0, math.tau))
            to = {"left": back - azimuth, "right": azimuth - back, "azimuth": azimuth,
                  "deflection": azimuth - back - math.pi}[kind]  # fmt: skip
            value = to + 10.0 * RAD_PER_SECOND * rng.standard_normal()
            rows.append(Sight(here=f"{k}", there=f"{k + 1}", kind=kind, direction=value,
                              distance=float(rng.uniform(50.0, 300.0))))  # fmt: skip
        names = tuple(str(k) for k in range(241))
        work = replace(self.work(rows, 1.3, False), names=names)
        found, o = solve(work), work.options
        ends = np.array([work.ends.start[:2], work.ends.close[:2]]).T

        def off(x: np.ndarray) -> np.ndarray:
            p = np.concatenate([ends[:, :1], x.reshape(2, -1), ends[:, 1:]], axis=1)
            d = np.diff(p, axis=1)
            line, length = np.arctan2(d[0], d[1]), np.hypot(*d)
            back = np.concatenate([[work.ends.start_line], line[:-1] + math.pi])
            seen = [*zip(rows, line, back, strict=True)]
            last = replace(rows[-1], direction=work.ends.closing_angle)
            if last.kind == "azimuth":
                last = replace(last, kind="right")
            seen.append((last, work.ends.closing_line, line[-1] + math.pi))
            angles = [{"left": b - f, "right": f - b, "azimuth": f, "deflection": f - b - math.pi}[r.kind]
                      - r.direction for r, f, b in seen]  # fmt: skip
            sigma = o.sigma_distance_m + o.sigma_distance_ppm * 1e-6 * np.array([r.distance for r in rows])
            way = (length - np.array([r.distance for r in rows])) / sigma
            turned_off = np.remainder(np.array(angles) + math.pi, math.tau) - math.pi
            return np.concatenate([turned_off / o.sigma_angle, way])

        theirs = least_squares(off, found.unadjusted[:2, 1:-1].ravel(), x_scale=1.0, xtol=1e-14, ftol=1e-14)
        np.testing.assert_allclose(found.adjusted[:2, 1:-1].ravel(), theirs.x, atol=2e-5)
        self.assertAlmostEqual(found.variance_factor, 2.0 * theirs.cost / (481 - 478), 4)

    def work(self, rows: list[Sight], closing: float | None, loop: bool | None) -> Traverse:
        ends = Ends(start=(10.0, 20.0, 5.0), start_line=0.4)
        names = ("S", "1", "2", "3", "E")
        options = Options(method="lsq", sigma_angle=10.0 * RAD_PER_SECOND)
        open_ended = Traverse(names=names, legs=tuple(rows), shots=(), ends=ends, options=options)
        if loop is None:
            return open_ended
        found = solve(open_ended)
        e, n = found.unadjusted[:2, -1]
        line = float(found.azimuths[0]) if loop else turned("deflection", closing or 0.0, float(
            found.azimuths[-1]) + math.pi)  # fmt: skip
        if loop:  # the closing angle that leads back to the line begun with
            closing = (line - float(found.azimuths[-1]) - math.pi + math.pi) % (2 * math.pi)
        ends = Ends(
            start=(10.0, 20.0, 5.0), start_line=0.4, close=(float(e), float(n), 5.0), loop=bool(loop),
            closing_line=None if loop else line, closing_angle=closing,
        )  # fmt: skip
        return replace(open_ended, ends=ends)


COLUMNS = ("here", "there", "kind", "direction_rad", "distance_m", "dh_m")


class Site(CommandCase):
    def setUp(self) -> None:
        super().setUp()
        marks = [Mark(id=n.lower(), name=n) for n in GIVEN]
        given = [
            GivenPosition(id=f"g{n}", mark=n.lower(), frame="f", e_m=e, n_m=m, height_m=h)
            for n, (e, m, h) in GIVEN.items()
        ]
        spec = FrameSpec(name="site")
        self.job = Job.create(
            self.path("j.fenwind"), "site", [FrameRecord(id="f", spec=spec), *marks, *given], "f"
        )
        self.addCleanup(self.job.close)

    def take(self, text: str, known: Any = tuple(GIVEN)) -> TraverseBook:
        path = self.write("book.csv", text)
        self.job.record(*take_book(self.job.state, book_record(read_book(path), path), "f", known))
        return self.book()

    def book(self) -> TraverseBook:
        return list(self.job.state.of(TraverseBook).values())[-1]

    def found(self) -> Any:
        return self.derive(self.job).of_kind("traverse")[self.book().id]

    def change(self, **changes: Any) -> None:
        self.job.record(*change(self.book(), "options", **changes))

    def command(self, book: str, *options: str) -> Any:
        start, back, close, fore = (f"{n},{GIVEN[n][0]},{GIVEN[n][1]},{GIVEN[n][2]}" for n in "ABCD")
        ends = ("--start", start, "--backsight", back[:-5], "--close", close, "--foresight", fore[:-5])
        return self.run_json("traverse", self.write("c.csv", book), *ends, *options, code=1)

    def test_the_same_as_the_command_whatever_the_options(self) -> None:
        # The last row, from the closing mark to another known one, is the closing angle.
        self.take(BOOK + "C,D,right,103-50-00,402.6,5.0\n")
        book = self.book()
        self.assertEqual((book.close, book.fore, len(book.here)), ("c", "d", 3))
        self.assertIn("has no start line", str(self.found()))
        self.change(back="b")
        for options, changes in (
            ((), {}),
            (("--angles", "equal"), {"balance": True}),
            (("--method", "transit"), {"method": "transit"}),
            (("--method", "lsq", "--sigma-angle", "20", "--sigma-distance", "5,10"),
             {"method": "lsq", "sigma_angle_s": 20.0, "sigma_distance_m": 0.005, "sigma_distance_ppm": 10.0}),
            (("--heights-by", "setups"), {"heights_by": "setups"}),
            (("--method", "none"), {"method": "none"}),
        ):  # fmt: skip
            with self.subTest(options=options):
                plain = {
                    "balance": False, "method": "compass", "heights_by": "distance", "sigma_angle_s": 5.0,
                }  # fmt: skip
                self.change(**{**plain, **changes})
                wanted = self.command(BOOK, "--closing-angle", "103-50-00", *options)
                f = self.found()
                for key, got in (("adjusted", f.found.adjusted), ("unadjusted", f.found.unadjusted),
                                 ("side_shots", f.found.shots)):  # fmt: skip
                    np.testing.assert_allclose(
                        got.T, [[row[k] for k in "enh"] for row in wanted[key]], atol=1e-9
                    )
                self.assertAlmostEqual(f.angle_limit / RAD_PER_SECOND, wanted["angular_limit_s"], places=9)
        names = [self.job.state.marks[key].name for key in f.new.names]
        self.assertEqual(names, ["P", "X"])

    def test_what_it_hangs_on(self) -> None:
        self.take(BOOK)
        self.change(back="b")
        derived = self.derive(self.job)
        adopted = derived.adopted["f"]
        row = adopted.index["P"]
        self.assertEqual((adopted.basis[row], adopted.why[row]), ("traversed", "Traverse 1"))
        titles = [k.title for k in trail(self.job.state, derived, self.job.state.mark_named("X"), "f")]
        self.assertEqual(titles, ["Side shot", "Adopted"])
        found = self.found().found
        way = (found.adjusted - found.unadjusted)[:, 1] * 1000.0
        e, n, h = (f"{v:+.1f}".replace("-", "−") for v in way)
        link = next(iter(trail(self.job.state, derived, self.job.state.mark_named("P"), "f")))
        self.assertEqual(link.note, "station 2 of 3")
        self.assertEqual(link.values[-1].replace("\u2009", ""), f"adjusted by  {e}  {n}  {h} mm")
        for changes, words in (
            ({"close": "", "back": "", "start_azimuth_rad": 0.0}, ""),
            ({"close": self.job.state.mark_named("P").id}, "it closes at P, which is not known"),
            ({"close": "c", "closing_angle_rad": 1.0, "fore": self.job.state.mark_named("X").id},
             "it is turned at X, which is not"),
            ({"fore": "c"}, "a line leads to its own mark"),
            ({"fore": "", "closing_azimuth_rad": 0.2, "closing_angle_rad": 1.0}, ""),
        ):  # fmt: skip
            with self.subTest(changes=changes):
                self.change(**changes)
                found = self.found()
                said = str(found) if isinstance(found, FenwindError) else ""
                self.assertTrue(said.startswith(words) and bool(said) == bool(words), said)
        self.assertEqual(self.found().found.angles, 3)
        self.change(close="", closing_angle_rad=None)
        rules = [d.rule for d in Judge().judge(self.job.state, self.derive(self.job)).open]
        self.assertIn("traverse.unchecked", rules)

    def test_loops(self) -> None:
        square = "from,to,direction_kind,direction_dms,distance\nA,P,azimuth,90,100\nP,Q,right,90,100\n"
        for end, name in (("A", "A"), ("Z", "Z")):
            with self.subTest(end=end):
                self.take(f"{square}Q,R,right,90,100\nR,{end},right,90,100.02\n")
                self.assertEqual(self.book().close, "a" if end == "A" else "")
                self.change(close=self.job.state.mark_named(name).id, loop=name != "A")
                f = self.found()
                self.assertTrue(f.work.ends.loop)
                self.assertAlmostEqual(f.found.linear, 0.02, places=9)
                new = [self.job.state.marks[key].name for key in f.new.names]
                self.assertEqual(new, ["P", "Q", "R", *(["Z"] if end == "Z" else [])])

    def test_booked_row_by_row(self) -> None:
        self.job.record(*start_book(self.job.state, "f"))
        self.assertIn("nothing is booked yet", str(self.found()))
        for text in ("A, P, bearing S 85 E, 200, 2", "P; X; 30.5; 40; 1", "P\tC\tleft 172-10-00\t661.09 ft"):
            self.job.record(*book_row(self.job.state, self.book(), typed_row(text)))
        book = self.book()
        self.assertEqual(book.kind, ("azimuth", "right", "left"))
        np.testing.assert_allclose(book.direction_rad, np.radians([95.0, 30.5, 172.0 + 10 / 60]))
        np.testing.assert_allclose(book.distance_m, [200.0, 40.0, 661.09 * 0.3048])
        self.assertEqual(book.dh_m, (2.0, 1.0, None))
        self.job.record(*set_cell(book, "distance_m", 2, 201.5))
        self.job.record(*drop_rows(self.book(), {1}))
        self.assertEqual((len(self.book().here), self.book().distance_m[-1]), (2, 201.5))
        self.job.undo()
        self.assertEqual(len(self.book().here), 3)
        row = typed_row("A, P, 100, 100, 5", "gon", FOOT)
        np.testing.assert_allclose((row.direction, row.distance, row.dh), (math.pi / 2, 30.48, 1.524))
        for text in ("A, P, 30", "A, A, 30, 10", "A, P, right, 10", "A, P, 30, -4", "A,P,30,4,5,6"):
            with self.subTest(text=text), self.assertRaises(ParseError):
                typed_row(text)

    def test_stations_are_seen_in_other_frames(self) -> None:
        frames = [FrameRecord(id=k, spec=FrameSpec(name=k, crs=f"EPSG:{k}")) for k in ("25832", "25833")]
        at = {"A": (500_000.0, 6_000_000.0), "B": (500_000.0, 6_000_300.0), "C": (500_400.0, 6_000_010.0)}
        marks = [Mark(id=n, name=n) for n in at]
        given = [
            GivenPosition(id=f"g{n}", mark=n, frame="25832", e_m=e, n_m=m, height_m=640.0)
            for n, (e, m) in at.items()
        ]
        job = Job.create(self.path("two.fenwind"), "two", [*frames, *marks, *given], "25832")
        self.addCleanup(job.close)
        record = book_record(read_book(self.write("b.csv", BOOK)), "")
        job.record(*take_book(job.state, replace(record, dh_m=(None,) * 3), "25832", set(at)))
        job.record(*change(next(iter(job.state.of(TraverseBook).values())), "line", back="B"))
        derived = self.derive(job)
        found = next(iter(derived.of_kind("traverse").values()))
        # 0.9996 on the central meridian, 640 m up over a radius of 6,380 km: 100 ppm more.
        self.assertAlmostEqual(found.factor, 0.9995, places=6)
        self.assertAlmostEqual(found.work.legs[0].distance, 200.0 * found.factor, places=9)
        self.assertTrue(np.isnan(found.new.sigma_v_m).all(), "no height, no sigma of one")
        here, there = (derived.adopted[key] for key in ("25832", "25833"))
        i, k = here.index["P"], there.index["P"]
        to = Transformer.from_crs(25832, 25833, always_xy=True)
        np.testing.assert_allclose(
            to.transform(here.e_m[i], here.n_m[i]), (there.e_m[k], there.n_m[k]), atol=1e-4
        )

    def test_refusals_and_bearings(self) -> None:
        path = self.write("b.csv", BOOK)
        record = book_record(read_book(path), path)
        for frame, book in (("g", record), ("f", replace(record, **dict.fromkeys(COLUMNS, ())))):
            with self.assertRaises(FenwindError):
                take_book(self.job.state, book, frame, ())
        shot = self.take(BOOK.replace("P,C,right,187-50-00,201.5,3.05", "C,D,right,10,9,1"))
        self.assertIsNone(shot.closing_angle_rad, "the walk did not lead to C")
        head = "from,to,direction_kind,direction_dms,distance\n"
        rows = read_book(self.write("q.csv", head + "A,P,bearing,S 45-30 W,10\n"))
        self.assertEqual(rows[0].kind, "azimuth")
        self.assertAlmostEqual(rows[0].direction, math.radians(225.5))
        for text in ("A,P,bearing,N 100 E,10", "A,P,sideways,10,10"):
            with self.assertRaises(FormatError):
                read_book(self.write("q.csv", head + text + "\n"))

    def test_levelling(self) -> None:
        runs = "from,to,dh,distance_km\nA,L1,1.000,1\nL1,C,4.006,4\nA,L2,0.5,1\nL2,L1,0.5009,1\n"
        path = self.write("runs.csv", runs)
        self.job.record(*take_levelling(self.job.state, runs_record(read_runs(path), path), "f"))
        book = next(iter(self.job.state.of(LevelBook).values()))
        control = self.write("c.csv", "name,h\nA,50.0\nC,55.0\n")
        wanted = self.run_json("level", path, control)

        def found() -> Any:
            return self.derive(self.job).of_kind("levelling")[book.id]

        self.assertEqual(
            [(n, float(h), float(s)) for n, h, s in zip(
                found().found.names, found().found.height_m, found().found.sigma_m, strict=True)],
            [(r["name"], r["h"], r["sigma"]) for r in wanted["heights"]],
        )  # fmt: skip
        np.testing.assert_allclose(found().new.covariance[2, 2], found().found.sigma_m[[1, 3]] ** 2)
        adopted = self.derive(self.job).adopted["f"]
        row = adopted.index["L1"]
        self.assertTrue(math.isnan(adopted.e_m[row]))
        self.assertAlmostEqual(adopted.height_m[row], found().new.height_m[0])
        # Without C nothing is left of its line; a run left out is not there at all.
        state = self.job.state
        self.job.record(*change(state.of(LevelBook)[book.id], "free", free=("c",)))
        self.assertEqual(found().found.dof, 1)
        self.assertNotIn("c", found().work.control)
        self.job.record(*set_runs_off(state.of(LevelBook)[book.id], [3], True))
        self.assertEqual((found().rows, found().found.dof), ((0, 1, 2), 0))
        # A benchmark that is known by its height alone is one to hang on.
        benchmark = GivenPosition(id="gL2", mark=state.mark_named("L2").id, frame="f", height_m=50.5)
        self.job.record("benchmark", [Add(record=benchmark)])
        self.assertEqual(found().work.control, {"A": 50.0, "L2": 50.5})
        self.job.undo()
        titles = [k.title for k in trail(state, self.derive(self.job), state.mark_named("L2"), "f")]
        self.assertEqual(titles, ["Levelled", "Adopted"])


class Demo(DemoCase):
    def test_exchanged_digits_are_named_and_put_right(self) -> None:
        doubts = Judge().judge(self.job.state, self.derive(self.job)).open
        doubt = next(d for d in doubts if d.rule == "traverse.angle")
        self.assertEqual(doubt.names, ("V-02",))
        self.assertIn("too small by 113 s. Two digits exchanged: 243.4736 gon?", doubt.text)
        self.job.record(*settle(self.job.state, doubt, doubt.remedies[0]))
        derived = self.derive(self.job)
        rules = [d.rule for d in Judge().judge(self.job.state, derived).open]
        self.assertFalse([rule for rule in rules if rule.startswith(("traverse", "level"))])
        found = derived.of_kind("traverse")["traverse-1"]
        for i, name in enumerate(found.new.names):
            p = found.new
            away = np.array([p.e_m[i], p.n_m[i], p.height_m[i]]) - np.array(PLACES[name])
            with self.subTest(name=name):
                # All but one in a hundred of the chi-square distribution with three degrees.
                self.assertLess(float(away @ np.linalg.solve(p.covariance[:, :, i], away)), 11.34)

    def test_stations_come_back_through_a_fit(self) -> None:
        derived = self.derive(self.job)
        there, here = derived.adopted["dam"], derived.adopted["map"]
        rows = [there.index[n] for n in PLACES]
        fit = derived.outcomes[fit_node("fit-1")].result.case.result
        back = fit.inverse(there.e_m[rows], there.n_m[rows], there.height_m[rows])
        mine = [here.index[n] for n in PLACES]
        np.testing.assert_allclose(
            [here.e_m[mine], here.n_m[mine], here.height_m[mine]], back, rtol=0, atol=1e-6
        )
        self.assertEqual(here.why[mine[0]], "Traverse 1, carried by Fit 1")
        for i, k in zip(rows, mine, strict=True):
            self.assertGreater(here.sigma_h_m[k], there.sigma_h_m[i], "the fit's own error comes on top")
            self.assertGreater(here.sigma_v_m[k], there.sigma_v_m[i])

    def test_a_run_that_is_wrong_is_left_out(self) -> None:
        book = self.job.state.of(LevelBook)["levelling-1"]
        self.job.record(*set_cell(book, "dh_m", 1, book.dh_m[1] + 0.1))
        doubts = Judge().judge(self.job.state, self.derive(self.job)).open
        doubt = next(d for d in doubts if d.rule == "level.run")
        self.assertEqual(doubt.names, ("P-01", "P-02"))
        self.job.record(*settle(self.job.state, doubt, doubt.remedies[0]))
        self.assertEqual(self.job.state.of(LevelBook)["levelling-1"].off, (1,))
        rules = [d.rule for d in Judge().judge(self.job.state, self.derive(self.job)).open]
        self.assertFalse([rule for rule in rules if rule.startswith("level")])

    def test_digits(self) -> None:
        read = 243.4376 * RAD_PER_GON
        found = [round(v / RAD_PER_GON, 4) for v in exchanged_digits(read, "gon")]
        self.assertEqual(found, [423.4376, 234.4376, 244.3376, 243.3476, 243.4736, 243.4367])
        seconds = [round(v / RAD_PER_SECOND, 1) for v in exchanged_digits(math.radians(10.5), "degrees")]
        self.assertEqual(seconds, [5400.0, 46800.0, 36180.0])
