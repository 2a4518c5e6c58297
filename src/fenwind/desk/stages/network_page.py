"""The Network stage: the adjustment, and the loops before it."""

from __future__ import annotations

from functools import partial

from fenwind.desk.bridge import JobBridge
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.loops import LoopsSheet
from fenwind.desk.stages.network import NetworkSheet
from fenwind.desk.stages.sheets_page import SheetsPage


class NetworkPage(SheetsPage):
    """See the module."""

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        self.network = NetworkSheet(bridge, stage)
        self.loops = LoopsSheet(bridge, stage, self.network)
        choices = (("Adjustment", self.network, lambda: 0), ("Loops", self.loops, self.loops.count))
        super().__init__(bridge, stage, choices)
        self.network.wanted.connect(partial(self.show_sheet, self.network))
