"""The stages of the rail, a line each: which sheet, which doubts, what stands there while it is empty.

Sheets are named and not imported, so that the shell can paint the rail before any of them is loaded.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from fenwind.desk.bridge import JobBridge
    from fenwind.desk.stages.page import StagePage
    from fenwind.doubts.registry import Doubt
    from fenwind.job.state import JobState


class Stage(NamedTuple):
    """One stage: its name, the page as module:class below desk/stages, the families of doubt rules it
    answers for, and the kinds of record that such doubts are about; `empty` says what belongs there while
    there is nothing."""

    name: str
    page: str
    families: tuple[str, ...] = ()
    subjects: tuple[str, ...] = ()
    empty: str = ""

    def open(self, bridge: JobBridge) -> StagePage:
        """Its page for a job."""
        module, name = self.page.split(":")
        page: StagePage = getattr(import_module(f"fenwind.desk.stages.{module}"), name)(bridge, self)
        return page


STAGES: tuple[Stage, ...] = (
    Stage(name="Frame", page="frame:FrameSheet", families=("frame", "convert"), subjects=("frame",)),
    Stage(
        name="Marks",
        page="marks_page:MarksPage",
        families=("marks", "job"),
        empty="No marks yet. Copy a list of control in a spreadsheet or an editor and paste it here: "
        "names with "
        "easting, northing and height, or with latitude and longitude, the columns in any order. You see "
        "what came "
        "in before anything is changed.",
    ),
    Stage(
        name="Sessions",
        page="sessions:SessionsSheet",
        families=("base", "occupation", "session"),
        subjects=("base", "occupation"),
        empty="Bases and the occupations that follow from them stand here. Start a base over a known "
        "mark, or "
        "on an average of its own; then listen to a rover and measure marks. Each base says what it "
        "stands on; "
        "when that changes, every mark that was measured from it follows. Without receivers, the "
        "stand-in ones "
        "(Ctrl+K, stand) are there to practise with.",
    ),
    Stage(
        name="Setups",
        page="setups_page:SetupsPage",
        families=("resect", "traverse", "level"),
        subjects=("setup", "traverse", "levelling"),
        empty="A setup is an instrument and what it sighted. Take in a list of its sightings: target, "
        "hz_deg, "
        "za_deg, sd, ht, prism_mm and, for two faces, face. What is known of the targets in the frame shown, "
        "given or from a network, places it; what is not known comes to lie where it was sighted.",
    ),
    Stage(
        name="Fits",
        page="fits_page:FitsPage",
        families=("fit", "step", "space"),
        subjects=("fit", "space fit"),
        empty="A fit ties measured positions to known ones. It needs known positions in one frame and "
        "measured ones "
        "of the same marks: paste both in Marks, then make the fit.",
    ),
    Stage(
        name="Network",
        page="network_page:NetworkPage",
        families=("adjust", "loops"),
        subjects=("network", "observations", "design", "epochs"),
        empty="A network is everything observed in one solution. Take in a list of observations: kind, "
        "at, to "
        "and value (distance, direction, angle, azimuth, zenith, height_difference), or dx, dy, dz of "
        "vectors. "
        "What is given in the frame shown is held.",
    ),
    Stage(
        name="Ground",
        page="ground:GroundSheet",
        empty="Ground and grid are compared here: combined factors, coordinates on the ground, projections "
        "laid along the marks. It needs marks with heights in a frame that has a datum: set one up in Frame, "
        "then take marks in.",
    ),
    Stage(
        name="Handover",
        page="handover:HandoverSheet",
        families=("coverage",),
        empty="There are no positions to hand over yet: paste control in Marks, or make a fit.",
    ),
)


def stage_of(doubt: Doubt, state: JobState) -> str:
    """Name of the stage where a doubt can be looked at: by what it is about, else by the family of its
    rule."""
    from fenwind.records.records import KIND_OF

    record = state.records.get(doubt.subject)
    kind = KIND_OF[type(record)] if record is not None else ""
    family = doubt.rule.split(".")[0]
    by_subject = next((s.name for s in STAGES if kind and kind in s.subjects), "")
    return by_subject or next((s.name for s in STAGES if family in s.families), "Marks")
