"""All rules, a line each, in the order they are told: causes before symptoms."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from fenwind.doubts import (
    fit_blunders,
    fit_causes,
    fit_evidence,
    fit_geometry,
    job_rules,
    line_job,
    network_job,
    session_rules,
    setup_job,
    space_job,
    velocity_rules,
)
from fenwind.doubts.registry import Doubt, Rule, guarded
from fenwind.job.derive import Derived
from fenwind.job.state import JobState
from fenwind.procedures.fit_case import FitCase
from fenwind.progress import NULL_PROGRESS, Progress

EPSG = "EPSG dataset"
TOLERANCE = "tolerance of the fit; 10 and 20 mm are common practice, no source"

RULES: tuple[Rule, ...] = (
    Rule(
        about="fit",
        look=fit_blunders.longitude_sign,
        limit="area of use",
        source=EPSG,
        explains=("fit.longitude-sign",),
    ),
    Rule(about="fit", look=fit_causes.axes, limit="area of use", source=EPSG),
    Rule(about="fit", look=fit_causes.zone, limit="30 m in a neighbouring zone", source=EPSG),
    Rule(
        about="fit",
        look=fit_blunders.unit_ratio,
        limit="0.1 % off the ratio of two units",
        source="definitions of the units",
        explains=("fit.unit-ratio",),
    ),
    Rule(
        about="fit",
        look=fit_blunders.two_feet,
        limit="10 % off the 2 ppm between the feet",
        source="definitions of the units",
    ),
    Rule(about="fit", look=fit_blunders.swapped_axes, limit="10 tolerances", explains=("fit.swapped-axes",)),
    Rule(
        about="fit",
        look=fit_blunders.exchanged_names,
        limit="10 tolerances",
        explains=("fit.exchanged-names",),
    ),
    Rule(about="fit", look=fit_causes.height_unit, limit="2 % off the ratio of two units"),
    Rule(about="fit", look=fit_causes.geoid, limit="1 m off the geoid's height"),
    Rule(
        about="fit",
        look=fit_causes.height_minority,
        limit="4 tolerances",
        explains=("fit.outlier-height",),
    ),
    Rule(about="fit", look=fit_causes.scale_factor, limit="3.29 sigma off the factor's square"),
    Rule(about="fit", look=fit_causes.realisation, limit="30 mm, all pairs alike"),
    Rule(
        about="fit",
        look=fit_blunders.standing_out,
        limit="tolerance, and 1 % over all pairs",
        source=TOLERANCE,
    ),
    Rule(about="fit", look=fit_evidence.residual_over_tolerance, limit="tolerance", source=TOLERANCE),
    Rule(about="fit", look=fit_evidence.no_check, limit="1 pair"),
    Rule(about="fit", look=fit_evidence.no_redundancy, limit="1 degree of freedom", source="least squares"),
    Rule(about="fit", look=fit_evidence.scale_unexplained, limit="3.29 sigma and 5 mm over the pairs"),
    Rule(about="fit", look=fit_evidence.scale_reason, limit="a scale of 1"),
    Rule(about="fit", look=fit_geometry.outside_area, limit="area of use", source=EPSG),
    Rule(about="fit", look=fit_geometry.tilting_plane, limit="20 mm/km over a geoid, 100 over an ellipsoid"),
    Rule(about="fit", look=fit_geometry.unseen_model, limit="95 % region of the mark"),
    Rule(about="fit", look=fit_geometry.far_outside, limit="half the extent of the pairs"),
    Rule(about="job", look=job_rules.set_aside, limit="0 entries", source="checksums of the job file"),
    Rule(about="job", look=session_rules.bases, limit="a word to stand on; 5 mm of what is broadcast"),
    Rule(about="job", look=session_rules.occupations, limit="3.29 sigma, 15 and 25 mm at least"),
    Rule(about="job", look=session_rules.sessions, limit="one check on a known mark"),
    Rule(about="job", look=job_rules.no_control, limit="1 mark"),
    Rule(about="job", look=job_rules.not_tied, limit="0 marks"),
    Rule(about="job", look=job_rules.two_places, limit="20 mm given, 100 mm occupied"),
    Rule(about="job", look=job_rules.two_frames, limit="20 mm in plan, 40 mm in height, or 3 sigmas"),
    Rule(about="job", look=job_rules.two_names, limit="20 mm in plan, 0.3 m in height"),
    Rule(about="job", look=job_rules.coarse_heights, limit="2 decimals fewer than most"),
    Rule(about="job", look=job_rules.height_reference_unknown, limit="a reference that is stated"),
    Rule(about="job", look=job_rules.astray, limit="0 marks"),
    Rule(about="job", look=job_rules.heights_apart, limit="0 marks"),
    Rule(
        about="job",
        look=job_rules.grids_and_epochs,
        limit="grids and epochs that operations need",
        source=EPSG,
    ),
    Rule(about="job", look=velocity_rules.velocities, limit="20 mm a year against the plate"),
    Rule(about="job", look=job_rules.changed_after_use, limit="0"),
    Rule(about="job", look=network_job.networks, limit="the alpha of the network"),
    Rule(about="job", look=setup_job.setups, limit="15 mm in plan, 20 mm in height; 3.5 sigmas"),
    Rule(
        about="job",
        look=space_job.space_fits,
        limit="1 : 50 of the figure; 5 times what the others leave, 20 mm",
    ),
    Rule(about="job", look=line_job.lines, limit="the limits of the traverse and of the levelling"),
)


#: What a cause settles is not told beside it.
SETTLED = {
    "fit.height-unit": ("fit.residual-height",),
    "fit.geoid": ("fit.residual-height",),
    "fit.outlier-height": ("fit.residual-height",),
    "fit.axes": ("fit.residual-plan", "fit.scale", "fit.scale-reason", "fit.outside-area"),
    "fit.zone": ("fit.residual-plan", "fit.scale", "fit.scale-reason"),
    "fit.scale-factor": ("fit.scale", "fit.scale-reason"),
}


def doubts_about_fit(case: FitCase) -> tuple[Doubt, ...]:
    """Every doubt about one fit, the grave ones first, causes before symptoms."""
    found = list(_about_fit(case))
    minority = [d for d in found if d.rule == "fit.outlier-height" and len(d.names) > 1]
    causes = {d.rule for d in found} - (set() if minority else {"fit.outlier-height"})
    settled = {rule for cause in causes for rule in SETTLED.get(cause, ())}
    return tuple(sorted((d for d in found if d.rule not in settled), key=lambda d: not d.grave))


def _about_fit(case: FitCase) -> Iterator[Doubt]:
    explained: set[str] = set()
    causes = {key for rule in RULES for key in rule.explains}
    for rule in RULES:
        words = rule.name.replace("_", " ")
        for doubt in guarded(words, case.subject, partial(rule.look, case)) if rule.about == "fit" else ():
            # A longitude without its sign also mirrors the marks, as exchanged axes do; the first cause found
            # is told.
            if doubt.rule in (*causes, "fit.outlier") and doubt.names and set(doubt.names) <= explained:
                continue
            if doubt.rule in causes:
                explained.update(doubt.names)
            yield doubt


def doubts_about_job(
    state: JobState, derived: Derived, progress: Progress = NULL_PROGRESS
) -> tuple[Doubt, ...]:
    """Every doubt about the records of a job. Raises Cancelled when `progress` says so."""
    found = []
    for rule in RULES:
        words = rule.name.replace("_", " ")
        for doubt in guarded(words, words, partial(rule.look, state, derived)) if rule.about == "job" else ():
            progress.check()
            found.append(doubt)
        progress.check()
    return tuple(found)
