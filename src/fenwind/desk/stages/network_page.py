"""The Network stage: the adjustment, the loops before it, designs, and two epochs."""

from __future__ import annotations

from functools import partial

from fenwind.desk.bridge import JobBridge
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.designs import DesignSheet
from fenwind.desk.stages.epochs import EpochsSheet
from fenwind.desk.stages.loops import LoopsSheet
from fenwind.desk.stages.network import NetworkSheet
from fenwind.desk.stages.sheets_page import SheetsPage


class NetworkPage(SheetsPage):
    """See the module."""

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        self.network = NetworkSheet(bridge, stage)
        self.loops = LoopsSheet(bridge, stage, self.network)
        self.designs = DesignSheet(bridge, stage)
        self.epochs = EpochsSheet(bridge, stage)
        choices = (
            ("Adjustment", self.network, lambda: 0),
            ("Loops", self.loops, self.loops.count),
            ("Design", self.designs, self.designs.count),
            ("Two epochs", self.epochs, self.epochs.count),
        )
        super().__init__(bridge, stage, choices)
        for sheet in (self.network, self.designs, self.epochs):
            sheet.wanted.connect(partial(self.show_sheet, sheet))
