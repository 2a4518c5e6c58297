"""Sentences, roles and trails: every word that depends on the job, for each of its cases."""

import math
import unittest
from dataclasses import replace
from types import SimpleNamespace
from typing import Any

import numpy as np

from fenwind.geodesy.frames import HeightReference
from fenwind.job import gestures
from fenwind.job.steps.sightings import air_ppm
from fenwind.procedures.accuracy_classes import Relative
from fenwind.procedures.network_weights import GroupFactor
from fenwind.quantities.lengths import FOOT, METRE
from fenwind.records.entries import amend
from fenwind.records.setups import Air, Setup
from fenwind.reports.fit_report import fit_report
from fenwind.reports.handover import checks_of
from fenwind.reports.model import Table
from fenwind.reports.network_words import between_words, weighing_words
from fenwind.reports.setup_words import checks_words, grid_words, treated_words
from fenwind.reports.space_words import _three, parameters_words
from fenwind.reports.statement import further_words, sentence, statement_of_fit
from fenwind.reports.trail import trail
from tests.support import TempFolder, made_up_pairs


class Setups(unittest.TestCase):
    def test_how_a_setup_is_treated(self) -> None:
        air = Air(temperature_c=30.0, pressure_hpa=900.0, carrier_um=0.85)
        setup = Setup(id="s", name="s", frame="f", station="a", air=air, targets="weighted", scale="apply")
        self.assertEqual(
            treated_words(setup),
            "targets by their weights, scale estimated and applied, air 30 °C, 900 hPa, 60 %: "
            f"{air_ppm(air):+.1f} ppm (first velocity correction, carrier 0.85 µm)",
        )
        self.assertEqual([grid_words(False, 0.9996), grid_words(True, 1.0)], ["as they were measured"] * 2)
        self.assertEqual(grid_words(True, 0.9996), "to the grid by 0.9996000")

    def test_what_a_check_misses_by(self) -> None:
        shots = SimpleNamespace(position=np.array([[10.003], [20.004], [5.0]]))
        found = SimpleNamespace(
            part=["check"], setup=SimpleNamespace(target=["k"]), shots=shots, names={"k": "T-05"},
            known={"k": SimpleNamespace(at=np.array([10.0, 20.0, 5.002]))},
        )  # fmt: skip
        words = "The check on T-05 misses by 5.0 mm in plan, 2.0 mm in height."
        self.assertEqual(checks_words(found), [words])  # type: ignore[arg-type]
        shots.position[2] = np.nan
        self.assertEqual(checks_words(found), [words.replace(", 2.0 mm in height", "")])  # type: ignore


class Balanced(unittest.TestCase):
    def test_groups_that_keep_what_is_stated_are_named(self) -> None:
        factors = [GroupFactor(group=n, redundancy=1.0, factor=f) for n, f in (
            ("vector", 1.44), ("azimuth", None), ("height_difference", None))]  # fmt: skip
        found: Any = SimpleNamespace(step=SimpleNamespace(components=True), factors=factors, biases=())
        self.assertEqual(
            weighing_words(found),
            "Sigmas balanced by group: vector × 1.20; as stated, since too little checks them: azimuth, "
            "height difference. ",
        )


class InSpace(unittest.TestCase):
    def test_three_axes_with_and_without_sigmas(self) -> None:
        values, minus = np.array([2e-6, -4e-6, 0.0]), "\u2212"
        self.assertEqual(_three(values, None, 1e-6, 1, "″"), f"X +2.0, Y {minus}4.0, Z 0.0″")
        self.assertEqual(
            _three(values, np.full(3, 1e-7), 1e-6, 1, ""), f"X +2.0 ± 0.1, Y {minus}4.0 ± 0.1, Z 0.0 ± 0.1"
        )

    def test_the_turn_in_both_signs_that_are_in_use(self) -> None:
        turn = np.array([1.0, -2.0, 0.5]) * math.pi / 648000.0
        fit = SimpleNamespace(
            shift_at_centre=np.array([1.0, -2.0, 3.0]), shift=np.array([100.5, -20.25, 0.0]), rotation=turn,
            scale=-1.5e-6, covariance=None,
        )  # fmt: skip
        for count, more in ((3, ""), (7, (
            " Turn, position vector: X +1.000000, Y −2.000000, Z +0.500000″; coordinate frame: "
            "X −1.000000, Y +2.000000, Z −0.500000″. Scale −1.50000 ppm."
        ))):  # fmt: skip
            found: Any = SimpleNamespace(fit=fit, step=SimpleNamespace(parameters=count))
            self.assertEqual(
                parameters_words(found),
                "At the middle of the pairs: shift X +1.0000, Y −2.0000, Z +3.0000 m. At the geocentre: "
                f"shift X 100.5000, Y −20.2500, Z 0.0000 m.{more}",
            )

    def test_sigmas_of_what_was_found(self) -> None:
        arc, variances = math.pi / 648000.0, [0.01, 0.02, 0.03, 1.0, 2.0, 3.0, 4e-7]
        variances[3:6] = [v * arc for v in variances[3:6]]
        fit = SimpleNamespace(
            shift_at_centre=np.ones(3), shift=np.ones(3), rotation=np.full(3, arc), scale=1e-6,
            covariance=np.diag(np.square(variances)),
        )  # fmt: skip
        words = parameters_words(SimpleNamespace(fit=fit, step=SimpleNamespace(parameters=7)))  # type: ignore
        self.assertIn("shift X +1.0000 ± 0.0100, Y +1.0000 ± 0.0200, Z +1.0000 ± 0.0300 m.", words)
        vector = "X +1.000000 ± 1.000000, Y +1.000000 ± 2.000000, Z +1.000000 ± 3.000000″; coordinate"
        self.assertIn(f"position vector: {vector}", words)
        self.assertTrue(words.endswith("Scale +1.00000 ± 0.40000 ppm."))


class Between(unittest.TestCase):
    def test_two_marks_in_feet(self) -> None:
        one = Relative(
            distance_m=304.8, a_m=0.003048, b_m=0.001, bearing_rad=0.1, height_m=0.002, accuracy=None
        )
        self.assertEqual(
            between_words("A", "B", one, FOOT).replace("\u2009", ""),
            "A – B, 1000.000 ft: at 95 % 3.0 by 1.0 mm in plan, 10.0 ppm, no class of FGCC 1989, "
            "± 2.0 mm in height.",
        )


class Sentences(TempFolder):
    def test_what_a_further_pair_will_add(self) -> None:
        names = made_up_pairs().names
        for plan, heights, words in (
            (1, 1, "With one pair it is only shifted: .* One height shifts all by the same"),
            (1, 0, "With one pair .* Heights stay as they are: holding one would shift them all"),
            (2, 2, "Two pairs cannot check turn and scale: a third will.$"), (3, 0, "^$"),
        ):  # fmt: skip
            options = {"no_horizontal": frozenset(names[plan:]), "no_height": frozenset(names[heights:])}
            result = made_up_pairs().fit(height="shift" if heights else "none", **options)
            self.assertRegex(further_words(result), words)

    def test_what_heights_are_counted_over_and_the_checks(self) -> None:
        job = self.demo()
        self.addCleanup(job.close)
        step, spec = job.state.fits["fit-1"], job.state.frames["map"].spec
        marks = [m for m in job.state.marks.values() if m.name in ("T-04", "T-07")]
        for height, words in (
            (spec.height, "geoid"),
            (HeightReference(), "the ellipsoid"),
            (HeightReference(kind="geoid", grid=spec.height.grid), "a geoid grid"),
        ):
            job.record("heights", [amend(job.state.frames["map"], spec=replace(spec, height=height))])
            said = sentence(statement_of_fit(job.state, step, None))
            self.assertIn(words, said)
            place = trail(job.state, self.derive(job), job.state.mark_named("P-01"), "dam")
            over = [link.note for link in place if link.kind == "step" and "UTM" in link.note]
            self.assertTrue(all((" over " in note) == (height.kind == "geoid") for note in over), over)
        job.record(*gestures.set_use(job.state, step, marks, "both"))
        self.assertIn(
            "no pair as a check", sentence(statement_of_fit(job.state, job.state.fits["fit-1"], None))
        )
        for count in (1, 2):
            job.record(*gestures.set_use(job.state, job.state.fits["fit-1"], marks[:count], "check"))
            said = sentence(statement_of_fit(job.state, job.state.fits["fit-1"], None))
            self.assertIn(marks[count - 1].name, said)
            self.assertTrue(said.rstrip().endswith("as a check." if count == 1 else "as checks."), said)

    def test_a_model_that_the_global_test_rejects_is_never_called_accepted(self) -> None:
        """Given sigmas of a tenth of what the pairs misfit by."""
        for factor, fits in ((1.0, True), (0.1, False)):
            pairs = made_up_pairs(k=8)
            pairs.sigma_h *= factor
            case = pairs.case(height="shift")
            self.assertEqual(case.result.sigmas_assumed, False)
            report = fit_report(case, [], title="t", subtitle="")
            texts = report.statement + str(report.sections)
            self.assertEqual(("simplest accepted" in texts, "none fits" in texts), (fits, not fits))

    def test_roles_in_the_table_of_pairs(self) -> None:
        case = made_up_pairs(k=5).case(
            horizontal="turn", height="shift", no_height=frozenset(["T-02"]),
            no_horizontal=frozenset(["T-03"]),
        )  # fmt: skip
        report = fit_report(case, [], title="t", subtitle="")
        tables = [b for s in report.sections for b in s.blocks if isinstance(b, Table)]
        table = next(b for b in tables if "dE" in str(b.headers))
        roles = {row[0]: row[1] for row in table.rows}
        self.assertEqual(len({roles["T-01"], roles["T-02"], roles["T-03"]}), 3)
        self.assertEqual(roles["T-01"], roles["T-04"])
        for model, told in (("turn", True), ("pivot", False)):
            options = {"pivot": ("T-01", "T-02")} if model == "pivot" else {}
            case = made_up_pairs(k=5).case(horizontal=model, height="shift", **options)
            report = fit_report(case, [], title="t", subtitle="")
            texts = " ".join(str(b) for s in report.sections for b in s.blocks if not isinstance(b, Table))
            self.assertEqual("Detectable: the smallest error" in texts, told)

    def test_metres_among_feet_are_called_that(self) -> None:
        job = self.demo()
        self.addCleanup(job.close)
        derived, mark = self.derive(job), job.state.mark_named("P-01")
        for unit, ending in ((FOOT, " m"), (METRE, "")):
            shown = {x.title: x.values for x in trail(job.state, derived, mark, "dam", unit) if x.values}
            mean = next(v for title, v in shown.items() if title.startswith(("Mean", "Projected")))
            self.assertTrue(mean[0][-1].isdigit() if not ending else mean[0].endswith(ending), mean)
            self.assertTrue(shown["Adopted"][0][-1].isdigit())
            first = float(shown["Adopted"][0].replace("\u2009", "").split()[0])
            row = derived.adopted["dam"].index["P-01"]
            self.assertAlmostEqual(first * unit.metres, float(derived.adopted["dam"].e_m[row]), places=3)

    def test_what_was_not_adopted_stands_with_its_differences(self) -> None:
        job = self.demo()
        self.addCleanup(job.close)
        mark, derived = job.state.mark_named("T-05"), self.derive(job)
        adopted, result = derived.adopted["dam"], derived.fits["fit-1"].case.result
        link = next(x for x in trail(job.state, derived, mark, "dam") if x.title == "Not adopted")
        row, at = result.carried.index["T-05"], adopted.index["T-05"]
        away = (result.carried.e_m[row] - adopted.e_m[at], result.carried.n_m[row] - adopted.n_m[at])
        shown = link.values[0].replace("−", "-").split()
        for text, meant in zip(shown, away, strict=False):
            self.assertAlmostEqual(float(text), 1000.0 * meant, delta=0.051)

    def test_checks_among_targets_are_marks_held_in_nothing(self) -> None:
        job = self.demo()
        self.addCleanup(job.close)
        one, two, three = list(job.state.marks.values())[:3]
        off = {"hold_horizontal": False, "hold_height": False}
        job.record(
            "holds", [amend(one, **off), amend(two, hold_horizontal=False), amend(three, hold_height=False)]
        )
        self.assertEqual(checks_of(job.state), {one.name})

    def test_an_occupation_on_a_plane_shows_easting_before_northing(self) -> None:
        job = self.demo()
        self.addCleanup(job.close)
        first = job.state.measured["m-P-01-1"]
        place = {"lat_rad": None, "lon_rad": None, "e_m": 467001.25, "n_m": 6797002.5, "frame": "map"}
        job.record("plane", [amend(first, **place)])
        links = trail(job.state, self.derive(job), job.state.mark_named("P-01"), "map")
        raw = next(link for link in links if link.title == "Occupation" and "467" in link.values[0])
        self.assertEqual(raw.values[0].replace("\u2009", ""), "467001.2500   6797002.5000")
        job.record("sigmas", [amend(job.state.measured["m-P-01-1"], sigma_h_m=0.007, sigma_v_m=0.013)])
        links = trail(job.state, self.derive(job), job.state.mark_named("P-01"), "map")
        raw = next(link for link in links if link.title == "Occupation" and "467" in link.values[0])
        self.assertTrue(raw.values[1].endswith("± 7.0 mm, height ± 13.0 mm"), raw.values[1])
