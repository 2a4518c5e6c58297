"""All kinds of step, a line each."""

from __future__ import annotations

from fenwind.job.steps.adoption import Adoption
from fenwind.job.steps.base import Base
from fenwind.job.steps.carried_on import CarriedOn
from fenwind.job.steps.centre import CentreKind
from fenwind.job.steps.design import DesignKind
from fenwind.job.steps.elsewhere import GivenElsewhere
from fenwind.job.steps.epochs import EpochsKind
from fenwind.job.steps.fit import Fit
from fenwind.job.steps.known import Known
from fenwind.job.steps.levelled import LevellingKind
from fenwind.job.steps.loops import LoopsKind
from fenwind.job.steps.network import NetworkKind
from fenwind.job.steps.occupied import OccupiedMarks
from fenwind.job.steps.outcome import StepKind
from fenwind.job.steps.receiver_known import ReceiverKnown
from fenwind.job.steps.rover import Rover
from fenwind.job.steps.setup import SetupKind
from fenwind.job.steps.sighted import SightedMarks
from fenwind.job.steps.space_fit import SpaceFitKind
from fenwind.job.steps.traverse import TraverseKind
from fenwind.job.steps.vectors import Vectors

STEP_KINDS: dict[str, StepKind] = {
    kind.name: kind
    for kind in (
        Known(),
        GivenElsewhere(),
        ReceiverKnown(),
        Vectors(),
        Base(),
        Rover(),
        OccupiedMarks(),
        Fit(),
        NetworkKind(),
        LoopsKind(),
        DesignKind(),
        EpochsKind(),
        SetupKind(),
        SightedMarks(),
        TraverseKind(),
        LevellingKind(),
        CarriedOn(),
        SpaceFitKind(),
        CentreKind(),
        Adoption(),
    )
}
