"""Setups as steps of a job: against the truth of the demo, against the command, blunders named."""

import itertools
import math
import unittest
from dataclasses import replace
from functools import partial
from typing import Any, ClassVar

import numpy as np

from fenwind.doubts.of_job import Judge
from fenwind.doubts.settling import settle
from fenwind.errors import FenwindError, ParseError, ProcedureError
from fenwind.exchange.setup_csv import read_sightings, setup_record
from fenwind.geodesy.air import refractivity, velocity_ppm
from fenwind.geodesy.frames import FrameSpec, HeightReference, open_frame
from fenwind.geodesy.geocentric import to_xyz
from fenwind.geodesy.grid_line import grid_lines
from fenwind.geodesy.refraction import EARTH_RADIUS_M
from fenwind.job.job import Job
from fenwind.job.live_place import LivePlane
from fenwind.job.network_gestures import adjust_everything
from fenwind.job.reader import with_grid_folder
from fenwind.job.setup_gestures import (
    Sighted,
    add_sightings,
    change,
    set_azimuth,
    set_use,
    take_setup,
    take_setups,
)  # fmt: skip
from fenwind.job.steps.fit import fit_node
from fenwind.job.steps.known_places import KnownPlace, _add
from fenwind.job.steps.occupied import occupied
from fenwind.job.steps.reductions import reductions
from fenwind.job.steps.setup import one_more
from fenwind.job.steps.sightings import (
    air_ppm,
    air_typed,
    air_values,
    options_of,
    round_spreads,
    sightings_of,
)  # fmt: skip
from fenwind.job.tool_gestures import keep_instrument, observed_with, tape
from fenwind.procedures.positions import Positions
from fenwind.procedures.resection import (
    ResectionOptions,
    Sighting,
    case_of,
    part_of,
    reduce,
    solve,
    with_known_sigmas,
)  # fmt: skip
from fenwind.procedures.setup_figure import largest_gap, plan_sigma, with_one_more
from fenwind.procedures.side_shots import oriented, pointing, side_shots
from fenwind.quantities.angles import RAD_PER_SECOND, format_angle
from fenwind.quantities.lengths import FOOT, METRE
from fenwind.quantities.numbers import format_fixed
from fenwind.records.entries import Add, amend
from fenwind.records.records import FrameRecord, GivenPosition, Mark
from fenwind.records.setups import Air, Setup
from fenwind.records.tools import InstrumentModel, TapedDistance
from fenwind.reports.trail import trail
from fenwind.standins.of_job import station_world_of_job
from fenwind.standins.tarnholt import CENTRE_EN
from fenwind.standins.tarnholt_days import true_places
from fenwind.standins.tarnholt_setups import POINTS, STATION
from tests.support import CommandCase, DemoCase

MARKS = {"A": (1000.0, 2000.0, 50.0), "B": (1180.0, 2090.0, 61.0), "C": (1060.0, 1870.0, 44.0)}


class Demo(DemoCase):
    def found(self, key: str = "setup-1") -> Any:
        return self.derive(self.job).of_kind("setup")[key]

    def setup_of(self, key: str = "setup-1") -> Setup:
        return self.job.state.of(Setup)[key]

    def test_free_and_known_stations_against_the_truth(self) -> None:
        for key, names in (("setup-1", ("St-1", "K-01", "K-03")), ("setup-2", ("K-01", "K-02", "K-03"))):
            found = self.found(key)
            self.assertEqual(found.new.names, names)
            for i, name in enumerate(names):
                with self.subTest(setup=key, name=name):
                    e, n, h = {**POINTS, "St-1": STATION}[name]
                    true = np.array([CENTRE_EN[0] + e, CENTRE_EN[1] + n, h])
                    p = found.new
                    away = np.array([p.e_m[i], p.n_m[i], p.height_m[i]]) - true
                    # The network's own error, about 4 mm, is in all of them.
                    self.assertLess(float(np.abs(away).max()), 0.012)
                    self.assertGreater(float(p.covariance[0, 0, i]), 1e-6)
        # Grid distances: 100 m would be 58 mm off without the frame's factor.
        self.job.record(*change(self.setup_of(), "distances", grid=False))
        self.assertGreater(float(np.nanmax(np.abs(self.found().found.residuals[1]))), 0.05)

    def test_a_check_takes_no_part_and_a_trail_says_from_what(self) -> None:
        found = self.found()
        self.assertEqual(found.part, ("held", "held", "held", "check", "held", "new", "new"))
        self.assertEqual(found.rows, (0, 1, 2, -1, 3, -1, -1))
        derived = self.derive(self.job)
        mark = self.job.state.marks["St-1"]
        links = {k.title: k.note for k in trail(self.job.state, derived, mark, "map")}
        self.assertEqual(links["Resected"], "from T-04, T-07, T-08, P-11")
        self.assertEqual(links["Adopted"], "observed from Setup 1")
        self.job.record(*set_use(self.setup_of(), [3], "used"))
        self.assertEqual(self.found().found.dof, found.found.dof + 3)
        turned = self.found().found.sigma_orientation
        self.job.record(*change(self.setup_of(), "sigmas", sigma_direction_s=50.0))
        self.assertGreater(self.found().found.sigma_orientation, 3.0 * turned)
        self.job.record(*set_use(self.setup_of(), [0, 1], "off"))
        self.assertEqual(self.found().part[:2], ("off", "off"))

    def test_seen_from_two_setups_and_in_every_frame(self) -> None:
        derived = self.derive(self.job)
        one, two = (derived.of_kind("setup")[key].new for key in ("setup-1", "setup-2"))
        adopted, dam = derived.adopted["map"], derived.adopted["dam"]
        i, j, row = one.index["K-01"], two.index["K-01"], adopted.index["K-01"]
        self.assertEqual(adopted.why[row], "observed from Setup 1 and Setup 2")
        # By hand: the weighted mean of the height, whose axis stands apart from the plan.
        a, b = float(one.covariance[2, 2, i]), float(two.covariance[2, 2, j])
        wanted = (float(one.height_m[i]) / a + float(two.height_m[j]) / b) / (1.0 / a + 1.0 / b)
        self.assertAlmostEqual(float(adopted.height_m[row]), wanted, delta=2e-5)
        self.assertLess(float(adopted.sigma_v_m[row]), min(math.sqrt(a), math.sqrt(b)))
        self.assertEqual(set(adopted.names), set(dam.names))
        self.assertEqual([c.basis for c in dam.candidates("T-04")].count("carried"), 1)
        self.assertEqual(dam.why[dam.index["K-01"]], "observed from Setup 1 and Setup 2, carried by Fit 1")
        fit = derived.outcomes[fit_node("fit-1")].result.case.result
        carried = fit.forward(Positions(
            names=("K-01",), e_m=adopted.e_m[[row]], n_m=adopted.n_m[[row]], height_m=adopted.height_m[[row]],
            covariance=np.full((3, 3, 1), np.nan),
        ))  # fmt: skip
        self.assertAlmostEqual(float(carried.e_m[0]), float(dam.e_m[dam.index["K-01"]]), 8)
        links = [k.title for k in trail(self.job.state, derived, self.job.state.marks["K-01"], "map")]
        wanted = ["Reading", "Sighted", "Reading", "Sighted", "Mean of 2 setups"]
        self.assertEqual(links, [*wanted, "Adopted"])
        there = trail(self.job.state, derived, self.job.state.marks["K-01"], "dam")
        self.assertEqual([k.title for k in there], [*wanted, "Carried on", "Adopted"])
        self.assertEqual(there[1].note, "in ETRS89 / UTM 32N (m); 1 time from St-1")
        self.assertEqual(there[-2].values[0], there[-1].values[0])

    def test_every_reduction_stands_in_the_trail(self) -> None:
        """A reading in face 2 with prism and air, each line recomputed by hand; in gon, then in feet."""
        setup = self.setup_of("setup-2")
        names = {m.id: m.name for m in self.job.state.marks.values()}
        row = next(i for i, key in enumerate(setup.target) if names[key] == "K-03")
        columns = {f: list(getattr(setup, f)) for f in ("direction_rad", "zenith_rad", "prism_m", "face")}
        columns["direction_rad"][row] += math.pi
        columns["zenith_rad"][row] = 2.0 * math.pi - columns["zenith_rad"][row]
        columns["prism_m"][row], columns["face"][row] = -0.0345, 2
        air = Air(temperature_c=30.0, pressure_hpa=900.0)
        self.job.record("x", [amend(setup, air=air, k=0.2, **{f: tuple(v) for f, v in columns.items()})])
        setup, found = self.setup_of("setup-2"), self.found("setup-2")
        derived = self.derive(self.job)
        links = trail(self.job.state, derived, self.job.state.marks["K-03"], "map")
        read = [k for k in links if k.title == "Reading" and k.note.startswith("face 2")]
        (lines,) = [[v.split("   ") for v in k.values] for k in read]
        ppm, slope = air_ppm(air), setup.distance_m[row]
        whole = slope * (1.0 + ppm * 1e-6) - 0.0345
        z = 2.0 * math.pi - setup.zenith_rad[row]
        radius = EARTH_RADIUS_M
        level = whole * math.sin(z) - (1.0 - 0.1) * whole**2 * math.sin(z) * math.cos(z) / radius
        rise = whole * math.cos(z) + 0.5 * 0.8 * (whole * math.sin(z)) ** 2 / radius
        ht = setup.target_height_m[row]
        angle = partial(format_angle, style="gon", decimals=4)
        back = setup.direction_rad[row] - math.pi
        self.assertEqual(lines[0], [
            f"hz {angle(setup.direction_rad[row])}", f"za {angle(setup.zenith_rad[row])}",
            f"slope {format_fixed(slope, 4)}",
        ])  # fmt: skip
        self.assertEqual(lines[1], [f"face 1: hz {angle(back % (2.0 * math.pi))}", f"za {angle(z)}"])
        self.assertEqual(lines[2], [
            "prism \u221234.5 mm", f"air {format_fixed(ppm, 1, sign=True)} ppm",
            f"= slope {format_fixed(whole, 4)}",
        ])  # fmt: skip
        self.assertEqual(lines[3], [
            "k 0.2", f"level {format_fixed(level, 4)}", f"rise {format_fixed(rise, 4)}",
        ])  # fmt: skip
        self.assertEqual(lines[4], [
            f"+ instrument {format_fixed(setup.height_m, 4)}", f"\u2212 target {format_fixed(ht, 4)}",
            f"= dh {format_fixed(rise + setup.height_m - ht, 4)}",
        ])  # fmt: skip
        factor = float(found.reduced.hd[row]) / level
        self.assertEqual(lines[5], [
            f"times {factor:.7f}", f"= on the grid {format_fixed(level * factor, 4)}",
        ])  # fmt: skip
        self.assertAlmostEqual(factor, found.factor, delta=2e-6)
        azimuth = (back + found.found.orientation) % (2.0 * math.pi)
        self.assertEqual(lines[6][-1], f"= azimuth {angle(azimuth)}")
        feet = trail(self.job.state, derived, self.job.state.marks["K-03"], "map", FOOT)
        line = next(k for k in feet if k.note.startswith("face 2")).values[3]
        self.assertIn(f"level {format_fixed(level / 0.3048, 4)}", line)

    def test_places_of_a_plane_go_back_to_the_earth(self) -> None:
        """Above the geoid on the map, and in the dam grid through its fit."""
        exchanged = next(d for d in Judge().judge(self.job.state, self.derive(self.job)).open if d.remedies)
        self.job.record(*settle(self.job.state, exchanged, exchanged.remedies[0]))
        derived, true = self.derive(self.job), true_places()
        for key, within in (("map", 5e-3), ("dam", 0.05)):  # the grid is 2 mm from what made it
            adopted = derived.adopted[key]
            row = adopted.index["T-01"]
            plane = LivePlane(self.job.state, derived, key, str(self.folder))
            back = plane.back(*(float(v[row]) for v in (adopted.e_m, adopted.n_m, adopted.height_m)))
            lat, lon, h = true["T-01"]
            self.assertLess(abs(back[0] - lat) * 6.4e6, within)
            self.assertLess(abs(back[1] - lon) * 3.1e6, within)
            self.assertLess(abs(back[2] - h), within)

    def test_places_go_to_receivers_and_back_in_another_datum(self) -> None:
        """In a frame on an ellipsoid of another century receivers speak of WGS 84: 100 m away."""
        spec = FrameSpec(name="old", crs="EPSG:27572", height=HeightReference(kind="ellipsoid"))
        self.job.record("x", (Add(record=FrameRecord(id="old", spec=spec)),))
        plane = LivePlane(self.job.state, self.derive(self.job), "old", str(self.folder))
        lat, lon, h = plane.back(669_430.0, 2_227_847.0, 281.5)
        at = plane.place(to_xyz(lat, lon, h))
        np.testing.assert_allclose((at.e_m, at.n_m), (669_430.0, 2_227_847.0), atol=0.01)
        own = open_frame(spec).inverse(669_430.0, 2_227_847.0)
        self.assertGreater(math.hypot((lat - own[0]) * 6.4e6, (lon - own[1]) * 4.4e6), 40.0)

    def test_a_known_mark_is_from_the_list_that_the_receivers_know(self) -> None:
        """T-02 is given in the dam grid as well, which has no datum."""
        links = trail(self.job.state, self.derive(self.job), self.job.state.marks["S-02"], "map")
        self.assertEqual(next(k.note for k in links if k.title == "Known mark"),
                         "T-02 is known from national list (made up)")  # fmt: skip

    def test_a_wrong_prism_is_named_and_compared_only(self) -> None:
        one = self.setup_of()
        prisms = list(one.prism_m)
        prisms[1] = 0.034
        self.job.record("blunder", [amend(one, prism_m=tuple(prisms))])
        found = [
            d for d in Judge().judge(self.job.state, self.derive(self.job)).open if d.subject == "setup-1"
        ]
        self.assertTrue(found and found[0].grave, found)
        self.assertEqual(found[0].names[0], "T-07")
        self.assertAlmostEqual(abs(found[0].value or 0.0), 0.034, delta=0.006)
        right, only = found[0].remedies
        self.assertEqual(right.kind, "sighted-prism")
        self.assertAlmostEqual(float(right.names[0]), 0.0, delta=0.006)
        self.job.record(*settle(self.job.state, found[0], right))
        left = Judge().judge(self.job.state, self.derive(self.job)).open
        self.assertNotIn("setup-1", [d.subject for d in left])
        self.job.undo()
        self.job.record(*settle(self.job.state, found[0], only))
        self.assertEqual(dict(self.setup_of().use)[1], "check")
        checks = [
            d for d in Judge().judge(self.job.state, self.derive(self.job)).open if d.subject == "setup-1"
        ]
        self.assertEqual([d.rule for d in checks], ["resect.check"])

    def test_targets_that_receivers_measured_take_part_with_their_weight(self) -> None:
        """From marks that only a rover saw, from one base: what their errors share is in the covariance of
        the setup, worked out here with the whole matrix and slopes by differences."""
        state, names = self.job.state, ("S-01", "S-02", "S-03", "S-04")
        keys = [state.mark_named(n).id for n in names]
        plane = self.derive(self.job).outcomes[occupied("map")].result.levelled
        rows = [plane.index[key] for key in keys]
        at = np.array([[plane.e_m[r], plane.n_m[r], plane.height_m[r]] for r in rows])
        middle, shots = np.array([40.0, -30.0, 2.0]) + at.mean(axis=0), []
        for name, (e, n, h) in zip(names, (at - middle).tolist(), strict=True):
            way = math.hypot(e, n, h)
            zenith = math.acos(h / way)
            shots.append(Sighting(target=name, direction=math.atan2(e, n) - 1.0, zenith=zenith, distance=way))
        record = replace(setup_record(shots, ""), station="St-7", sigma_distance_m=0.001)
        self.job.record(*take_setups(state, [record], "map", set()))
        key = list(self.job.state.of(Setup))[-1]
        self.assertIn("no known mark was sighted", str(self.found(key)))  # of held marks nothing is known
        self.job.record(*change(self.setup_of(key), "x", targets="weighted", grid=False))
        found = self.found(key)
        self.assertEqual(found.part, ("held",) * 4)
        start = np.array([found.found.e, found.found.n, found.found.orientation])

        def place(shift: np.ndarray) -> np.ndarray:
            got = solve(replace(found.case, known=found.case.known + shift), "fixed", start)
            return np.array([got.e, got.n, got.h])

        slope, spread = np.zeros((3, 12)), np.zeros((3, 3))
        for column in range(12):
            shift = np.zeros((3, 4))
            shift[column % 3, column // 3] = 0.01
            slope[:, column] = (place(shift) - place(-shift)) / 0.02
        for i, j in itertools.permutations(range(4), 2):
            one, two = (slope[:, 3 * k : 3 * k + 3] for k in (i, j))
            spread += one @ plane.joint.between(np.array([rows[i]]), np.array([rows[j]]))[:, :, 0] @ two.T
        alone = solve(found.case, "fixed", start)
        self.assertGreater(spread[0, 0], 0.2 * alone.covariance[0, 0])
        np.testing.assert_allclose(found.found.covariance - alone.covariance, spread, rtol=1e-3, atol=1e-9)
        held = solve(replace(found.case, reduced=reduce(shots, options_of(self.setup_of(key), 1.0))), "fixed")
        self.assertLess(held.covariance[0, 0], 0.5 * alone.covariance[0, 0])

    def test_sightings_in_plan_or_in_height_alone(self) -> None:
        before = self.found().found
        one = self.setup_of()
        heights = (one.target_height_m[0] + 5.0, *one.target_height_m[1:])
        self.job.record(*change(one, "a pole booked 5 m too long", target_height_m=heights))
        self.job.record(*set_use(self.setup_of(), [0], "plan"))
        self.job.record(*set_use(self.setup_of(), [1], "height"))
        found = self.found()
        residuals = found.found.residuals
        np.testing.assert_array_equal(
            np.isnan(residuals[:, :2]), [[False, True], [False, True], [True, False]]
        )
        self.assertLess(abs(found.found.h - before.h), 0.004)
        self.assertLess(math.hypot(found.found.e - before.e, found.found.n - before.n), 0.004)
        self.assertEqual(found.part[:2], ("held", "held"))
        self.job.record(*set_use(self.setup_of(), [2, 4], "height"))
        self.assertIn("1 mark with a distance", str(self.found()))
        self.job.record(*set_use(self.setup_of("setup-2"), [0], "height"))
        self.assertIn("no direction", str(self.found("setup-2")))  # the other known mark is a check

    def test_a_scale_is_shown_or_applied(self) -> None:
        one, plain = self.setup_of(), self.found()
        self.job.record(*change(one, "x", distance_m=tuple(d * (1.0 - 1e-4) for d in one.distance_m)))
        fixed = self.found()
        self.job.record(*change(self.setup_of(), "x", scale="show"))
        shown = self.found()
        self.assertAlmostEqual(
            (shown.found.scale - 1.0) * 1e6, 100.0, delta=4.0 * shown.found.sigma_scale * 1e6
        )
        np.testing.assert_array_equal(shown.shots.position, fixed.shots.position)
        self.job.record(*change(self.setup_of(), "x", scale="apply"))
        applied = self.found()
        np.testing.assert_allclose(applied.shots.position[:2], plain.shots.position[:2], atol=0.008)
        hd = applied.reduced.hd[5]  # of K-01: what the scale is not known to is in it
        way = applied.shots.shared[:2, :2, 5] @ np.ones(2)
        whole = applied.found.whole
        azimuth = applied.reduced.direction[5] + applied.found.orientation
        own = np.array([[1, 0, hd * math.cos(azimuth), 0, hd * math.sin(azimuth)],
                        [0, 1, -hd * math.sin(azimuth), 0, hd * math.cos(azimuth)]])  # fmt: skip
        np.testing.assert_allclose(way, own @ whole @ own.T @ np.ones(2), rtol=1e-4)
        rules = [d.rule for d in Judge().judge(self.job.state, self.derive(self.job)).open]
        self.assertIn("resect.scale-applied", rules)

    def test_each_line_goes_by_its_own_factor_at_the_height_of_the_instrument(self) -> None:
        frame = open_frame(with_grid_folder(self.job.state.frames["map"].spec, str(self.folder)))
        found = self.found("setup-2")
        self.job.record(*change(self.setup_of("setup-2"), "x", grid=False))
        plain = self.found("setup-2")
        axis = np.array([[found.found.e], [found.found.n], [found.found.h + found.setup.height_m]])
        ends = np.vstack([found.shots.position[:2], np.full(5, axis[2, 0])])
        lines = grid_lines(frame, axis, ends)
        np.testing.assert_allclose(found.reduced.hd / plain.reduced.hd, lines.factor, atol=1e-10)
        turn = found.reduced.direction - plain.reduced.direction
        np.testing.assert_allclose(turn, lines.arc_to_chord, atol=1e-9)
        self.assertGreater(float(np.abs(turn).max()), 1e-8)
        # Kilometres away and higher, where the geoid is another: its height and the line's are those halfway.
        half = axis + np.array([[15_000.0], [16_000.0], [20.0]])
        far = 2.0 * half - axis
        lat, lon = frame.inverse(half[0], half[1])
        above = half[2] + frame.geoid_height(lat, lon)
        places = (frame.inverse(p[0], p[1]) for p in (axis, half, far))
        scale = [float(frame.point_scale(*place)[0][0]) for place in places]
        mean = (scale[0] + 4.0 * scale[1] + scale[2]) / 6.0
        wanted = mean * float(frame.elevation_factor(lat, above)[0])
        self.assertAlmostEqual(float(grid_lines(frame, axis, far).factor[0]), wanted, delta=2e-9)
        self.job.record(*change(self.setup_of("setup-2"), "x", grid=True, height_m=101.593))
        higher = self.found("setup-2").reduced.hd / found.reduced.hd
        np.testing.assert_allclose(higher, 1.0 - 100.0 / 6.39e6, atol=1e-7)

    def test_one_more_sighting_lies_where_it_would_if_it_were_kept(self) -> None:
        self.job.record(*change(self.setup_of(), "x", air=Air(temperature_c=30.0, pressure_hpa=900.0)))
        found = self.found()
        frame = open_frame(with_grid_folder(self.job.state.frames["map"].spec, str(self.folder)))
        for i, target in enumerate(found.setup.target):
            near = found.shots.position[:, i] + np.array([30.0, -20.0, 1.0])
            raw = sightings_of(replace(found.setup, air=None))[i]
            np.testing.assert_allclose(
                one_more(found, frame, raw, near), found.shots.position[:, i], atol=2e-5, err_msg=target
            )

    def test_a_world_to_practise_in(self) -> None:
        """Its plumb line leans away from where the geoid rises."""
        derived, folder = self.derive(self.job), str(self.folder)
        world = station_world_of_job(self.job.state, derived, folder, {"mark": "P-12"}, 1.6)["station"]
        lat, lon, _ = true_places()["P-12"]
        frame = open_frame(with_grid_folder(self.job.state.frames["map"].spec, folder))
        n = frame.geoid_height(np.array([lat, lat + 1e-5, lat]), np.array([lon, lon, lon + 1e-5]))
        north, east = (n[1:] - n[0]) / (6.371e6 * 1e-5 * np.array([1.0, math.cos(lat)])) / RAD_PER_SECOND
        self.assertAlmostEqual(world["lean_north_s"], -north, delta=0.5)
        self.assertAlmostEqual(world["lean_east_s"], -east, delta=0.5)
        self.assertGreater(math.hypot(north, east), 1.5)

    def test_readings_come_one_by_one_and_are_corrected_for_the_air(self) -> None:
        one = self.setup_of()
        row = Sighted(
            target=" K-09 ", direction_rad=1.0, zenith_rad=1.5, distance_m=500.0, target_height_m=1.2,
            prism_m=-0.03, face=2, round=2, time="2026-05-04T08:00:00Z",
        )  # fmt: skip
        self.job.record(*add_sightings(self.job.state, one, [row], "check"))
        after, mark = self.setup_of(), self.job.state.mark_named("K-09")
        self.assertEqual(after.target, (*one.target, mark.id))
        self.assertEqual(
            (after.round[-2:], after.time[-2:], after.face[-1], after.zenith_rad[-1], dict(after.use)[7]),
            ((0, 2), ("", "2026-05-04T08:00:00Z"), 2, 1.5, "check"),
        )
        bad = replace(row, target="St-1")
        self.assertRaises(ProcedureError, add_sightings, self.job.state, after, [bad])
        draft = replace(one, id="", station="P-12", target=(), direction_rad=(), use=())
        gesture = add_sightings(self.job.state, draft, [row], "check", {"P-12"})
        begun = gesture.entries[-1].record
        self.assertEqual((begun.word, begun.use, begun.round), ("known", ((0, "check"),), (2,)))
        self.assertEqual(round_spreads(after, self.found().reduced), {})
        twice = [replace(row, target="K-01", direction_rad=1.0 + 5e-4 * k, round=k, face=1) for k in (1, 2)]
        both = replace(twice[1], face=2, direction_rad=1.0 + math.pi + 5e-4 * 4, zenith_rad=2 * math.pi - 1.5)
        self.job.record(*add_sightings(self.job.state, after, [*twice, both]))
        self.job.record(*set_use(self.setup_of(), [5], "off"))
        spread = round_spreads(self.setup_of(), self.found().reduced)["K-01"]
        self.assertEqual(spread.count, 2)  # both faces of a round are one
        self.assertAlmostEqual(spread.sigma[0] / 5e-4, 0.75 / math.sqrt(2.0), delta=0.01)
        told = [
            d for d in Judge().judge(self.job.state, self.derive(self.job)).open if d.rule == "resect.rounds"
        ]
        self.assertEqual((told[0].names, told[0].limit), (("K-01",), 3.5))
        self.job.undo(), self.job.undo()
        usual = Air(temperature_c=12.0, pressure_hpa=1013.25, applied_ppm=3.0)
        for text, values in (
            ("8, 990", (8, 990, 60, 3)), ("-5, 700, 10", (-5, 700, 10, 3)),
            ("8, 990, 20, -4.5", (8, 990, 20, -4.5)),
        ):  # fmt: skip
            typed = air_typed(text, usual)
            self.assertEqual(typed and air_values(typed), values)
        self.assertIsNone(air_typed(" ", usual))
        self.assertRaises(FenwindError, air_typed, "8", usual)
        before = [s.distance for s in sightings_of(after)]
        air = Air(temperature_c=30.0, pressure_hpa=900.0, applied_ppm=10.0)
        ppm = velocity_ppm(air.reference, refractivity(30.0, 900.0, 60.0)) - 10.0
        self.assertAlmostEqual(air.reference, refractivity(12.0, 1013.25, 60.0), 2)
        for was, now in zip(before, sightings_of(replace(after, air=air)), strict=True):
            self.assertAlmostEqual(now.distance / was, 1.0 + ppm * 1e-6, 12)

    def test_too_little_says_what_is_missing(self) -> None:
        self.job.record(*set_use(self.setup_of(), [0, 1, 2, 4], "off"))
        found = self.found()
        self.assertIsInstance(found, FenwindError)
        self.assertIn(
            "resect.failed", [d.rule for d in Judge().judge(self.job.state, self.derive(self.job)).open]
        )


class FromFiles(CommandCase):
    SHOTS = (
        "target,hz_deg,za_deg,sd,ht,prism_mm\nA,10-00-00,91.2,148.1,1.5,0\nB,80.0,88.6,120.4,1.5,0\n"
        "C,150.5,92.9,128.8,1.5,0\nX,200.0,90.0,55.5,1.2,\n"
    )

    def job(self) -> Job:
        spec = FrameSpec(name="site")
        marks = [Mark(id=n.lower(), name=n) for n in MARKS]
        given = [
            GivenPosition(id=f"g{n}", mark=n.lower(), frame="f", e_m=e, n_m=m, height_m=h)
            for n, (e, m, h) in MARKS.items()
        ]
        job = Job.create(
            self.path("j.fenwind"), "site", [FrameRecord(id="f", spec=spec), *marks, *given], "f"
        )
        self.addCleanup(job.close)
        return job

    def test_the_same_as_the_command(self) -> None:
        path = self.write("s.csv", self.SHOTS)
        job = self.job()
        job.record(
            *take_setup(job.state, setup_record(read_sightings(path), path), "S", 1.6, "f", set(MARKS))
        )
        found = next(iter(self.derive(job).of_kind("setup").values()))
        only = self.write("o.csv", "\n".join(self.SHOTS.splitlines()[:4]) + "\n")
        rows = [f"{n},{e},{m},{h}" for n, (e, m, h) in MARKS.items()]
        control = self.write("c.csv", "\n".join(["name,e,n,h", *rows, ""]))
        wanted = self.run_json("resect", only, control, "--hi", "1.6", "--heights", code=1)
        f = found.found
        np.testing.assert_allclose([f.e, f.n, f.h], [wanted[k] for k in "enh"], atol=1e-9)
        np.testing.assert_allclose(f.covariance, wanted["covariance"], rtol=1e-9)
        self.assertEqual([found.names[k] for k in found.new.names], ["S", "X"])
        # X by hand: orientation and a level sight of 55.5 m, 1.6 over the mark and 1.2 over X.
        turn = math.radians(200.0) + f.orientation
        i = found.new.names.index(job.state.mark_named("X").id)
        np.testing.assert_allclose(
            [found.new.e_m[i], found.new.n_m[i], found.new.height_m[i]],
            [f.e + 55.5 * math.sin(turn), f.n + 55.5 * math.cos(turn), f.h + 0.4], atol=5e-4,
        )  # fmt: skip

    def test_refusals(self) -> None:
        path = self.write("s.csv", self.SHOTS)
        job, record = self.job(), setup_record(read_sightings(path), path)
        for station, frame, words in (
            ("A", "f", "from itself"), ("S", "none", "no frame"), ("", "f", "name"),
        ):  # fmt: skip
            with self.subTest(station=station), self.assertRaisesRegex(FenwindError, words):
                take_setup(job.state, record, station, 1.6, frame, ())


class WhatIsKnown(CommandCase):
    def test_what_is_given_comes_before_what_was_adjusted(self) -> None:
        def at(e: float) -> Positions:
            return Positions(
                names=("a",), e_m=np.array([e]), n_m=np.array([0.0]), height_m=np.array([np.nan]),
                covariance=np.full((3, 3, 1), np.nan),
            )  # fmt: skip

        places: dict[str, KnownPlace] = {}
        _add(places, at(1.0), "given", False)
        _add(places, at(2.0), "adjusted", False)
        self.assertEqual((places["a"].origin, float(places["a"].at[0])), ("given", 1.0))


class Figures(unittest.TestCase):
    def test_one_more_target_equals_solving_again(self) -> None:
        marks = {**MARKS, "D": (700.0, 2300.0, 51.0)}
        options = ResectionOptions(instrument_height=0.0, heights=False, sigma_direction=2e-5, plane=True)
        shots = [
            _sighting(name, math.atan2(e, n), math.pi / 2, math.hypot(e, n))
            for name, e, n in ((name, e - 1090.0, n - 1990.0) for name, (e, n, _) in marks.items())
        ]

        def solved(count: int) -> tuple[Any, Any]:
            known = np.array([*marks.values()])[:count].T
            case = case_of(reduce(shots[:count], options), known, False)
            return case, solve(case, "fixed")

        case, found = solved(3)
        places = np.array([marks["D"][:2], (1095.0, 1992.0)]).T
        hz, za = pointing(replace(found, h=100.0), np.array([1180.0, 2090.0, 150.0]), 1.5, 3.5)
        self.assertAlmostEqual((hz + found.orientation) % math.tau, math.atan2(90.0, 100.0), 6)
        self.assertAlmostEqual(za, math.atan2(math.hypot(90.0, 100.0), 52.0), 6)
        after = with_one_more(found, places, np.zeros(2), options)
        self.assertAlmostEqual(float(after[0]) / plan_sigma(solved(4)[1].covariance), 1.0, 4)
        four = solved(4)[0]
        own = np.zeros((3, 3, 4))
        own[[0, 1], [0, 1], 3] = 0.004**2  # what D itself is known to
        loose = with_known_sigmas(four.reduced, four.known, own, np.array([found.e, found.n]))
        less = float(with_one_more(found, places, np.full(2, 0.004), options)[0])
        self.assertAlmostEqual(
            less / plan_sigma(solve(replace(four, reduced=loose), "fixed").covariance), 1.0, 4
        )
        self.assertGreater(less, float(after[0]))
        self.assertLess(float(after[1]), plan_sigma(found.covariance))
        azimuths = sorted(
            math.degrees(math.atan2(e - 1090.0, n - 1990.0)) % 360.0 for e, n, _ in MARKS.values()
        )
        gaps = [(b - a) % 360.0 for a, b in zip(azimuths, [*azimuths[1:], azimuths[0]], strict=True)]
        self.assertAlmostEqual(math.degrees(largest_gap(case, found)), max(gaps), 6)


class ByAzimuth(CommandCase):
    """A known station, or one known mark with a distance, turned by a spire whose azimuth alone is known."""

    TRUTH: ClassVar = {"S": (500000.0, 6300000.0, 120.0), "A": (500180.0, 6299930.0, 131.0)}
    TURN, SPIRE, NEW = 2.2, math.radians(301.5), (500050.0, 6300075.0, 118.0)

    def job_of(self, word: str, known: str, azimuth_of: int | None = 0) -> Any:
        s = np.array(self.TRUTH["S"])
        shots = []
        for to in (None, self.TRUTH["A"], self.NEW):
            d = (
                np.array(to) - s
                if to is not None
                else np.array([math.sin(self.SPIRE), math.cos(self.SPIRE), 0.0])
            )
            hd = math.hypot(d[0], d[1])
            shots.append((math.atan2(d[0], d[1]) - self.TURN, math.atan2(hd, d[2]), math.hypot(hd, d[2])))
        setup = Setup(
            id="x", name="Setup 1", frame="f", station="s", word=word, target=("p", "a", "n"), k=0.13,
            direction_rad=tuple(v[0] % math.tau for v in shots), zenith_rad=(None, shots[1][1], shots[2][1]),
            distance_m=(None, shots[1][2], shots[2][2]), target_height_m=(0.0,) * 3, prism_m=(0.0,) * 3,
            face=(1, 1, 1), grid=False, use=((1, "off"),) if known == "S" else (),
            azimuths=() if azimuth_of is None else ((azimuth_of, self.SPIRE),),
        )  # fmt: skip
        e, n, h = self.TRUTH[known]
        records = [
            FrameRecord(id="f", spec=FrameSpec(name="plane")),
            *(Mark(id=key, name=key.upper()) for key in "spna"),
            GivenPosition(id="g", mark=known.lower(), frame="f", e_m=e, n_m=n, height_m=h), setup,
        ]  # fmt: skip
        return Job.create(self.path(f"{word}{azimuth_of}.fenwind"), "azimuth", records, "f")

    def test_it_turns_the_circle(self) -> None:
        for word, known in (("known", "S"), ("free", "A")):
            job = self.job_of(word, known)
            self.addCleanup(job.close)
            derived = self.derive(job)
            found = derived.of_kind("setup")["x"]
            with self.subTest(word):
                self.assertNotIsInstance(found, FenwindError)
                self.assertEqual(found.part[0], "held")
                off = (found.found.orientation - self.TURN + math.pi) % math.tau - math.pi
                self.assertAlmostEqual(off, 0.0, delta=1e-9)
                place = {k: found.new.e_m[i] for k, i in found.new.index.items()}
                self.assertAlmostEqual(place["n"], self.NEW[0], delta=1e-3)
                self.assertNotIn("p", place, "a spire without a distance stays nowhere")
                # Its direction alone turns it: 5 seconds, and where the circle is turned by it alone no more.
                if word == "known":
                    self.assertAlmostEqual(found.found.sigma_orientation / RAD_PER_SECOND, 5.0, 6)
                else:
                    self.assertAlmostEqual(place["s"], self.TRUTH["S"][0], delta=1e-3)
                    self.assertEqual(found.found.dof, 0)
                job.record(*set_azimuth(job.state.of(Setup)["x"], [0], self.SPIRE + 1e-4))
                moved = self.derive(job).of_kind("setup")["x"].found.orientation
                self.assertAlmostEqual(moved - found.found.orientation, 1e-4, delta=1e-8)
                job.record(*set_azimuth(job.state.of(Setup)["x"], [0], None))
                self.assertIsInstance(self.derive(job).of_kind("setup")["x"], FenwindError)
                rules = [d.rule for d in Judge().judge(job.state, derived).open]
                self.assertNotIn("resect.danger-circle", rules)
                self.assertNotIn("resect.weak", rules)


class Tools(CommandCase):
    """An instrument with 20 seconds of collimation and 30 of index, kept from a setup in both faces and used
    for one in face 1; distances by tape."""

    KNOWN: ClassVar = {
        "A": (500200.0, 6300010.0, 160.0), "B": (499900.0, 6300140.0, 118.0),
        "C": (500030.0, 6299850.0, 101.0),
    }  # fmt: skip
    C, INDEX = 20.0 * RAD_PER_SECOND, -30.0 * RAD_PER_SECOND

    def setup_of(self, key: str, faces: tuple[int, ...]) -> Setup:
        station, shots = np.array([500000.0, 6300000.0, 120.0]), []
        for name, place in self.KNOWN.items():
            d = np.array(place) - station
            hd, curve = math.hypot(d[0], d[1]), 0.87 / (2.0 * EARTH_RADIUS_M)
            za = math.atan2(hd, d[2]) + hd * curve
            for face in faces:
                sign = 1.0 if face == 1 else -1.0
                hz = (
                    math.atan2(d[0], d[1])
                    - 0.5
                    + (0.0 if face == 1 else math.pi)
                    + sign * self.C / math.sin(za)
                )
                read = (za if face == 1 else math.tau - za) + self.INDEX
                shots.append((name.lower(), hz % math.tau, read, math.hypot(hd, d[2]), face))
        target, hz, za, sd, face = zip(*shots, strict=True)
        return Setup(
            id=key, name=key, frame="f", station=f"at-{key}", target=target, direction_rad=hz, zenith_rad=za,
            distance_m=sd, target_height_m=(0.0,) * len(sd), prism_m=(0.0,) * len(sd), face=face, grid=False,
            sigma_direction_s=1.5, sigma_zenith_s=2.5, sigma_distance_m=0.001, sigma_distance_ppm=1.5,
        )  # fmt: skip

    def job_of(self) -> Job:
        records: list[Any] = [FrameRecord(id="f", spec=FrameSpec(name="plane"))]
        for name, (e, n, h) in self.KNOWN.items():
            records.append(Mark(id=name.lower(), name=name))
            records.append(
                GivenPosition(id=f"g{name}", mark=name.lower(), frame="f", e_m=e, n_m=n, height_m=h)
            )
        records += [Mark(id=f"at-{key}", name=f"St {key}") for key in ("one", "two")]
        records += [self.setup_of("two", (1, 2)), replace(self.setup_of("one", (1,)), sigma_zenith_s=9.0)]
        job = Job.create(self.path("tools.fenwind"), "tools", records, "f")
        self.addCleanup(job.close)
        return job

    def test_what_both_faces_gave_is_taken_off_one(self) -> None:
        job = self.job_of()
        found = self.derive(job).of_kind("setup")
        two, one = found["two"], found["one"]
        self.assertAlmostEqual(two.reduced.collimation, self.C, delta=1e-9)
        self.assertAlmostEqual(two.found.h, 120.0, delta=5e-4)
        self.assertGreater(abs(one.found.h - 120.0), 0.015, "30 seconds in 150 m")
        with self.assertRaises(ProcedureError):
            observed_with(job.state, job.state.of(Setup)["one"], "TS-7")
        job.record(*keep_instrument(job.state, two, " TS-7 "))
        (kept,) = job.state.of(InstrumentModel).values()
        self.assertEqual((kept.name, kept.sigma_direction_s, kept.sigma_distance_ppm), ("TS-7", 1.5, 1.5))
        self.assertAlmostEqual(kept.index_rad or 0.0, self.INDEX, delta=1e-9)
        job.record(*observed_with(job.state, job.state.of(Setup)["one"], "ts-7"))
        setup = job.state.of(Setup)["one"]
        self.assertEqual((setup.instrument, setup.sigma_zenith_s), (kept.id, 2.5))
        after = self.derive(job).of_kind("setup")["one"]
        self.assertAlmostEqual(after.found.h, 120.0, delta=5e-4)
        self.assertAlmostEqual(after.found.orientation - 0.5, 0.0, delta=5e-7)
        lines = [figures.terms for figures in reductions(after, 0)]
        self.assertIn(("collimation", kept.collimation_rad, "seconds"), lines[1])
        on_grid = replace(after.reduced, direction=after.reduced.direction + 3.0e-5)  # t - T of 6.2 seconds
        *_, told = (figures.terms for figures in reductions(replace(after, reduced=on_grid), 0))
        ((_, turned, _),) = [term for term in told if term[0] == "arc to chord"]
        self.assertAlmostEqual(turned, 3.0e-5, 12)
        by_hand = replace(self.setup_of("three", (1,)), instrument=kept.id, sigma_direction_s=9.0)
        job.record("x", (Add(record=by_hand), amend(job.state.of(Setup)["two"], sigma_direction_s=2.0)))
        gesture = keep_instrument(job.state, self.derive(job).of_kind("setup")["two"], "TS-7")
        self.assertEqual(gesture.what, "Instrument TS-7, and of 1 more setup")
        job.record(*gesture)
        self.assertEqual(len(job.state.of(InstrumentModel)), 1, "one of that name is amended")
        sigmas = {key: one.sigma_direction_s for key, one in job.state.of(Setup).items()}
        self.assertEqual(sigmas, {"one": 2.0, "two": 2.0, "three": 9.0}, "but what was said by hand stays")

    def test_distances_by_tape(self) -> None:
        job = self.job_of()
        job.record(*tape(job.state, "A, B, 326.9, 35", METRE))
        job.record(*tape(job.state, "A, Q, 100 ft, h", METRE))
        one, two = job.state.of(TapedDistance).values()
        self.assertAlmostEqual(one.true_m, 326.9 * (1.0 + 1.16e-5 * 15.0), 9)
        self.assertAlmostEqual(one.variance_m2, 0.003**2 + (50e-6 * 326.9) ** 2, 15)
        self.assertEqual((two.slope, two.temperature_c, two.length_m), (False, None, 30.48))
        self.assertEqual(job.state.mark_name(two.second), "Q")
        job.record(*adjust_everything(job.state, "f"))
        (net,) = self.derive(job).of_kind("network").values()
        row = net.observations.group.index("taped distances")
        self.assertEqual(
            (net.observations.kind[row], net.observations.value[row]), ("distance", (one.true_m,))
        )
        flat = net.observations.kind.index("horizontal_distance")
        self.assertEqual((net.observations.value[flat], net.missing), ((30.48,), ()))
        for text in ("A, B", "A, A, 3", "A, B, -3", "A, B, 3, h, h", "A, B, 3, 12, 13", "A, B, 3, 99", "A,,3",
                     "A, B, far", "A, B, 20000"):  # fmt: skip
            with self.assertRaises(ParseError, msg=text):
                tape(job.state, text, METRE)


class Drawn(unittest.TestCase):
    def test_a_thousand_setups_by_targets_of_their_own_weight(self) -> None:
        """Targets are drawn as well as they are known (one 20 mm, the others 2 to 5), sightings as they are
        stated: places and orientations spread as their covariance says, and 95 % regions hold."""
        rng = np.random.default_rng(5)
        truth = np.array([[0.0, 300.0, 250.0, -150.0], [280.0, 90.0, -210.0, -120.0], [5.0, 20.0, -8.0, 0.0]])
        sigma = np.array([0.002, 0.020, 0.004, 0.005])
        known_to = np.stack([np.diag([s**2, s**2, s**2]) for s in sigma], axis=2)
        options = ResectionOptions(heights=True)
        d = truth - np.array([20.0, 30.0, 1.0])[:, None]
        hd, turn = np.hypot(d[0], d[1]), 1.1
        off, inside = [], 0
        for _ in range(1000):
            hz = np.arctan2(d[0], d[1]) - turn + options.sigma_direction * rng.standard_normal(4)
            z = np.arctan2(hd, d[2]) + (options.k - 1.0) * hd / (2.0 * EARTH_RADIUS_M) * -1.0
            z = z + options.sigma_zenith * rng.standard_normal(4)
            slope = np.hypot(hd, d[2])
            spread = options.sigma_distance_m + options.sigma_distance_ppm * 1e-6 * slope
            s = slope + spread * rng.standard_normal(4)
            at = truth + sigma * rng.standard_normal((3, 4))
            r = reduce([_sighting(f"M{k}", hz[k], z[k], s[k]) for k in range(4)], options)
            r = with_known_sigmas(r, at, known_to, np.array([20.0, 30.0]))
            one = solve(case_of(r, at, True), "fixed", np.array([20.0, 30.0, turn]))
            away = np.array([one.e - 20.0, one.n - 30.0, one.h - 1.0])
            off.append((*away, one.orientation - turn))
            plane = away[:2] @ np.linalg.solve(one.covariance[:2, :2], away[:2])
            inside += plane <= 5.991
        found = np.array(off)
        stated = (*np.diag(one.covariance), one.sigma_orientation**2)
        np.testing.assert_allclose(np.var(found, axis=0) / stated, 1.0, atol=0.15)
        np.testing.assert_allclose(found.mean(axis=0) / np.sqrt(stated), 0.0, atol=0.12)
        self.assertTrue(930 <= inside <= 970, inside)


class OnAKnownMark(CommandCase):
    def test_orientation_and_side_shots_against_a_simulation(self) -> None:
        """4,000 draws of station, directions and distances: orientation and a side shot spread as stated."""
        rng = np.random.default_rng(12)
        station, sigma = np.array([100.0, 200.0, 10.0]), 0.005
        known = np.array([[400.0, 150.0], [500.0, -100.0], [20.0, 5.0]])
        options = ResectionOptions(heights=True)
        found = []
        for _ in range(4000):
            at = station + sigma * rng.standard_normal(3)
            turn = 0.7
            shots = []
            for k in range(3):
                to = known[:, k] if k < 2 else np.array([160.0, 260.0, 12.0])
                # The instrument really stands at `station`; the job believes `at`.
                d = to - station
                hd = math.hypot(d[0], d[1])
                z = math.atan2(hd, d[2]) + options.sigma_zenith * rng.standard_normal()
                s = math.hypot(hd, d[2])
                hz = math.atan2(d[0], d[1]) - turn + options.sigma_direction * rng.standard_normal()
                s += 0.003 * rng.standard_normal()
                shots.append((f"M{k}", hz, z, s))
            r = reduce([_sighting(*shot) for shot in shots], options)
            case = case_of(r, np.column_stack([known, [np.nan] * 3]), True)
            one = oriented(part_of(case, np.array([True, True, False])), at, sigma**2 * np.eye(3))
            side = side_shots(one, r)
            found.append((one.orientation, *side.position[:2, 2]))
        spread = np.var(np.array(found), axis=0)
        stated = (one.sigma_orientation**2, *np.diag((side.own + side.shared)[:, :, 2])[:2])
        np.testing.assert_allclose(spread / stated, 1.0, atol=0.09)


def _sighting(target: str, hz: float, z: float, s: float) -> Any:
    return Sighting(target=target, direction=hz, zenith=z, distance=s)
