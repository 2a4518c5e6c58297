"""The commands of the desk as one table."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

from fenwind.desk.actions import ActionSpec
from fenwind.desk.rail import STAGES
from fenwind.records.records import Use
from fenwind.reports.handover import FORMATS

if TYPE_CHECKING:
    from fenwind.desk.workspace import Workspace


def action_specs(desk: Workspace) -> list[ActionSpec]:
    """Every command of the desk."""
    bridge, fits, marks = desk.bridge, desk.fits, desk.marks

    def on_fit() -> bool:
        return desk.stage == "Fits" and bridge.fit is not None

    def on_marks() -> bool:
        return desk.stage == "Marks"

    def spec(
        id_: str,
        menu: str,
        text: str,
        tip: str,
        run: Callable[[], object],
        shortcut: str = "",
        enabled: Callable[[], bool] = lambda: True,
    ) -> ActionSpec:
        return ActionSpec(id=id_, menu=menu, text=text, tip=tip, run=run, shortcut=shortcut, enabled=enabled)

    uses: tuple[tuple[Use, str, str], ...] = (
        ("both", "Hold in plan and height", "Ctrl+H"),
        ("horizontal", "Hold in plan only", ""),
        ("height", "Hold in height only", ""),
        ("check", "Hold out as a check", "Ctrl+E"),
        ("off", "Switch the pair off", "Ctrl+D"),
    )
    return [
        spec("job.rename", "Job", "Rename the job", "Give the job another name", desk._ask_name),
        spec("job.copy", "Job", "Copy the job to …", "Write a copy of the job as it is now", desk._copy_job),
        spec(
            "job.quit",
            "Job",
            "Quit",
            "Close the window; everything is kept already",
            desk.shell.close,
            "Ctrl+Q",
        ),
        spec(
            "edit.undo",
            "Edit",
            "Undo",
            "Take the latest change back",
            bridge.undo,
            "Ctrl+Z",
            lambda: bool(bridge.job.undo_text),
        ),
        spec(
            "edit.redo",
            "Edit",
            "Do again",
            "Do the change undone last again",
            bridge.redo,
            "Ctrl+Shift+Z",
            lambda: bool(bridge.job.redo_text),
        ),
        spec(
            "edit.find",
            "Edit",
            "Find a mark or an action",
            "Marks and commands by any part of the name",
            desk.open_finder,
            "Ctrl+K",
        ),
        spec(
            "edit.derive",
            "Edit",
            "Derive again",
            "Compute all results from the records again",
            bridge.rederive,
            "F5",
        ),
        spec(
            "edit.doubts",
            "Edit",
            "Show all doubts",
            "Open or close the list of doubts",
            desk.doubts.toggle_list,
            "Ctrl+L",
        ),
        spec(
            "frame.find",
            "Frame",
            "Find a system",
            "By name, code, country, or where the job lies",
            desk._find_system,
        ),
        spec(
            "marks.paste",
            "Marks",
            "Paste a list",
            "Show a pasted list against the job, before anything is changed",
            desk.paste_list,
            "Ctrl+Shift+V",
        ),
        spec(
            "marks.read",
            "Marks",
            "Read a list from a file …",
            "Show a file's list against the job, before anything is changed",
            desk._read_file,
            "Ctrl+O",
        ),
        spec(
            "marks.set_down",
            "Marks",
            "Set down the selection",
            "Topmost selected value into all selected cells of its column",
            marks.marks.set_down,
            "Ctrl+Down",
            on_marks,
        ),
        spec(
            "marks.control",
            "Marks",
            "Make control of the selection",
            "Derived marks keep the position they have now, with its uncertainty, and may be held",
            marks.marks.make_control,
            "",
            on_marks,
        ),
        spec(
            "marks.derive",
            "Marks",
            "Derive the selection again",
            "Given positions are switched off; fits carry the marks again",
            marks.marks.release_control,
            "",
            on_marks,
        ),
        spec(
            "marks.off",
            "Marks",
            "Switch marks off",
            "Selected marks take no part; they stay, greyed",
            lambda: marks.marks.switch(False),
            "",
            on_marks,
        ),
        spec(
            "marks.on",
            "Marks",
            "Switch marks on",
            "Selected marks take part again",
            lambda: marks.marks.switch(True),
            "",
            on_marks,
        ),
        spec(
            "fits.new",
            "Fits",
            "New fit",
            "Carry measured positions onto known ones",
            desk._new_fit,
            "Ctrl+N",
        ),
        spec(
            "fits.next",
            "Fits",
            "Next fit",
            "Look at the next fit of the job",
            fits.next_fit,
            "Ctrl+J",
            lambda: len(bridge.state.fits) > 1,
        ),
        spec(
            "fits.move",
            "Fits",
            "Move a file …",
            "Move a drawing or a list by a fit, a shift or a turn",
            desk.move_a_file,
        ),
        spec(
            "fits.compare",
            "Fits",
            "Compare two sets of positions",
            "By name: adopted, given, carried, before the last change, or a file",
            desk.open_comparison,
        ),
        *(
            spec(
                f"fits.use.{use}",
                "Fits",
                text,
                "For the selected pairs",
                partial(fits.set_use, use),
                key,
                on_fit,
            )
            for use, text, key in uses
        ),
        *(
            spec(
                f"handover.{f.key}",
                "Handover",
                f"Hand over {f.words}",
                "Preview it, then write it",
                partial(desk._hand_over, f.key),
            )
            for f in FORMATS.values()
        ),
        spec(
            "plan.fit",
            "Plan",
            "Show all marks",
            "Fit the plan to all marks",
            desk.plan_pane.plan.fit_all,
            "Ctrl+0",
        ),
        spec(
            "plan.in",
            "Plan",
            "Zoom in",
            "Show less, larger",
            lambda: desk.plan_pane.plan.zoom(1.25),
            "Ctrl++",
        ),
        spec(
            "plan.out",
            "Plan",
            "Zoom out",
            "Show more, smaller",
            lambda: desk.plan_pane.plan.zoom(0.8),
            "Ctrl+-",
        ),
        spec(
            "plan.measure",
            "Plan",
            "Measure between two marks",
            "Distance, azimuth and height difference",
            desk.plan_pane.measure.toggle,
            "Ctrl+M",
        ),
        spec(
            "plan.layers",
            "Plan",
            "Layers of the plan",
            "What the plan shows, and what lies under it",
            desk.plan_commands.open_layers,
        ),
        spec(
            "plan.under",
            "Plan",
            "Put a drawing or an image under the plan …",
            "DXF, GeoTIFF, or an image with a world file",
            desk.plan_commands._browse,
        ),
        spec(
            "plan.png",
            "Plan",
            "Save the plan as a picture …",
            "Write a PNG of the plan",
            desk.plan_commands.save_png,
        ),
        spec(
            "plan.print",
            "Plan",
            "Print the plan …",
            "Print the plan on one page",
            desk.plan_commands.print_plan,
            "Ctrl+P",
        ),
        spec(
            "plan.night",
            "Plan",
            "Night or day colours",
            "Dark colours for dark places, and back",
            desk.toggle_night,
            "Ctrl+Shift+D",
        ),
        *(spec(f"go.{n.lower()}", "Go", n, f"Go to {n}", partial(desk.show_stage, n), "") for n in STAGES),
    ]
