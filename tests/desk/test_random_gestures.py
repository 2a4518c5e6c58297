"""A few of the gestures that bench/attacks.py makes thousands of."""

from fenwind.job.job import Job
from tests.desk.gestures import RandomHand
from tests.desk.qt_case import QtTestCase


class AtRandom(QtTestCase):
    own_windows = True

    def test_stages_switched_while_results_are_derived(self) -> None:
        w = self.open()
        self.let_run(w)  # gestures overtake what is derived
        hand = RandomHand(w, 7)
        for _ in range(90):
            hand.act()
            self.assertEqual(self.errors, [], hand.done[-8:])
        self.wait_for(lambda: not w.bridge.deriving)
        path, kept = w.bridge.path, dict(w.bridge.state.records)
        w.shell.close()
        job = Job.open(path)
        self.addCleanup(job.close)
        self.assertEqual(dict(job.state.records), kept)
