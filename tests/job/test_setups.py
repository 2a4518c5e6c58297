"""Setups as steps of a job: against the truth of the demo, against the command, blunders named."""

import itertools
import math
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np

from fenwind.doubts.of_job import Judge
from fenwind.doubts.settling import settle
from fenwind.errors import FenwindError, ProcedureError
from fenwind.exchange.setup_csv import setup_record
from fenwind.geodesy.air import refractivity, velocity_ppm
from fenwind.geodesy.frames import FrameSpec, HeightReference, open_frame
from fenwind.geodesy.geocentric import to_xyz
from fenwind.geodesy.grid_line import grid_lines
from fenwind.geodesy.refraction import EARTH_RADIUS_M
from fenwind.job.live_place import LivePlane
from fenwind.job.reader import with_grid_folder
from fenwind.job.setup_gestures import (
    Sighted,
    add_sightings,
    change,
    set_use,
    take_setups,
)  # fmt: skip
from fenwind.job.steps.fit import fit_node
from fenwind.job.steps.occupied import occupied
from fenwind.job.steps.setup import one_more
from fenwind.job.steps.sightings import (
    air_ppm,
    air_typed,
    air_values,
    options_of,
    round_spreads,
    sightings_of,
)  # fmt: skip
from fenwind.procedures.positions import Positions
from fenwind.procedures.resection import (
    Sighting,
    reduce,
    solve,
)  # fmt: skip
from fenwind.quantities.angles import RAD_PER_SECOND, format_angle
from fenwind.quantities.lengths import FOOT
from fenwind.quantities.numbers import format_fixed
from fenwind.records.entries import Add, amend
from fenwind.records.records import FrameRecord
from fenwind.records.setups import Air, Setup
from fenwind.reports.trail import trail
from fenwind.standins.of_job import station_world_of_job
from fenwind.standins.tarnholt import CENTRE_EN
from fenwind.standins.tarnholt_days import true_places
from fenwind.standins.tarnholt_setups import POINTS, STATION
from tests.support import DemoCase


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
        rows = ("target", "direction_rad", "zenith_rad", "distance_m", "target_height_m", "prism_m", "face")
        empty = dict.fromkeys((*rows, "use", "round", "time"), ())
        draft = replace(one, id="", station="P-12", **empty)
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
