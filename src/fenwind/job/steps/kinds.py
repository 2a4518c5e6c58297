"""All kinds of step, a line each."""

from __future__ import annotations

from fenwind.job.steps.adoption import Adoption
from fenwind.job.steps.elsewhere import GivenElsewhere
from fenwind.job.steps.fit import Fit
from fenwind.job.steps.known import Known
from fenwind.job.steps.occupied import OccupiedMarks
from fenwind.job.steps.outcome import StepKind

STEP_KINDS: dict[str, StepKind] = {
    kind.name: kind
    for kind in (
        Known(),
        GivenElsewhere(),
        OccupiedMarks(),
        Fit(),
        Adoption(),
    )
}
