"""The Setups stage: setups, traverses and levelling."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from fenwind.desk.bridge import JobBridge
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.levellings import LevellingSheet
from fenwind.desk.stages.setups import SetupsSheet
from fenwind.desk.stages.sheets_page import SheetsPage
from fenwind.desk.stages.traverses import TraverseSheet
from fenwind.records.lines import LevelBook, TraverseBook
from fenwind.records.setups import Setup


class SetupsPage(SheetsPage):
    """See the module."""

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        self.setups = SetupsSheet(bridge, stage)
        self.traverses = TraverseSheet(bridge, stage)
        self.levelling = LevellingSheet(bridge, stage)

        def many(kind: type[Setup] | type[TraverseBook] | type[LevelBook]) -> Callable[[], int]:
            return lambda: sum(record.active for record in bridge.state.of(kind).values())

        super().__init__(
            bridge, stage,
            (
                ("Setups", self.setups, many(Setup)), ("Traverses", self.traverses, many(TraverseBook)),
                ("Levelling", self.levelling, many(LevelBook)),
            ),
        )  # fmt: skip
        self.traverses.wanted.connect(partial(self.show_sheet, self.traverses))
        self.levelling.wanted.connect(partial(self.show_sheet, self.levelling))
