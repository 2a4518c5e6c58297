"""Rows coming in against the job, and what moved: differences of either sign, on each axis."""

import re

import numpy as np

from fenwind.job.derive import Derived
from fenwind.job.incoming import against_job, take_in
from fenwind.job.memory import Memory
from fenwind.job.moved import moved
from fenwind.records.entries import Add, Amend, Entry, amend
from fenwind.reports.incoming_trail import incoming_links
from fenwind.reports.trail import Link
from tests.job.test_derive import points
from tests.support import TempFolder


def shown_numbers(link: Link) -> list[float]:
    return [float(v) for v in link.values[0].replace("\u2009", "").split()]


class Either(TempFolder):
    def setUp(self) -> None:
        super().setUp()
        self.job = self.demo()
        self.addCleanup(self.job.close)
        self.known = self.job.state.given["g-T-02"]

    def row(self, de: float = 0.0, dn: float = 0.0, dh: float = 0.0, name: str = "T-02"):
        k = self.known
        return points([(name, k.e_m + de, k.n_m + dn, k.height_m + dh)])

    def test_verdicts(self) -> None:
        for way, verdict in (
            ({}, "same"),
            *(({axis: sign * 0.004}, "within") for axis in ("de", "dn", "dh") for sign in (1, -1)),
            *(({axis: sign * 0.4}, "differs") for axis in ("de", "dn", "dh") for sign in (1, -1)),
            ({"de": -0.004, "dn": -0.004, "dh": -0.004}, "within"),
            ({"name": "NEW"}, "new"),
        ):
            with self.subTest(way):
                found = against_job(self.job.state, self.row(**way), "dam", False)
                self.assertEqual(found.verdict, (verdict,))
                if "name" not in way:
                    axes = [way.get(axis, 0.0) for axis in ("de", "dn", "dh")]
                    for shown, meant in zip(found.d_m[:, 0], axes, strict=True):
                        self.assertAlmostEqual(shown, meant, places=6)

    def test_given_in_another_frame_is_given_here_as_well(self) -> None:
        taken = take_in(self.job.state, self.row(), [0], measured=False, frame="map")
        self.assertEqual([type(e) for e in taken], [Add])
        again = take_in(self.job.state, self.row(), [0], measured=False, frame="dam")
        self.assertEqual([type(e) for e in again], [Amend])

    def test_an_empty_cell_takes_no_text_away(self) -> None:
        for text, count in (("", 0), (self.job.state.marks[self.known.mark].code, 0), ("XX", 1)):
            rows = self.row()
            rows.words["code"] = [text]
            taken = take_in(self.job.state, rows, [0], measured=False, frame="dam")
            self.assertEqual(sum(e.subject == self.known.mark for e in taken), count, text)

    def test_what_moved_either_way(self) -> None:
        before = self.derive(self.job).adopted["dam"]
        for field in ("e_m", "n_m", "height_m"):
            for by in (0.02, -0.02):
                self.job.record("move", [amend(self.known, **{field: getattr(self.known, field) + by})])
                found = moved("dam", before, self.derive(self.job).adopted["dam"])
                at = found.names.index("T-02")
                way = {"e_m": found.de_m, "n_m": found.dn_m, "height_m": found.dh_m}[field][at]
                self.assertAlmostEqual(way, by, places=9)
                self.job.undo()

    def test_what_taking_a_row_would_do(self) -> None:
        memory, known = Memory(), self.known
        before = self.derive(self.job, memory)

        def what_if(entries: tuple[Entry, ...]) -> Derived:
            self.job.record("take", entries)
            after = self.derive(self.job, memory)
            self.job.undo()
            return after

        for row, frame, again in (
            (self.row(0.5, -0.25, 0.1), "dam", "Fit 1 derived again"),
            (self.row(name="NEW"), "map", "no fit uses it"),
        ):
            taken = tuple(take_in(self.job.state, row, [0], measured=False, frame=frame))
            against = against_job(self.job.state, row, frame, False)
            said = (self.job.state, before, row, 0, against, frame, taken, what_if)
            links = {link.title: link for link in incoming_links(*said)}
            coming = shown_numbers(links["Coming in"])
            np.testing.assert_allclose(coming, row.values[:3, 0], atol=5.1e-5)
            self.assertEqual(links["If taken"].note, again)
            self.assertEqual("In the job" in links, frame == "dam")
            if frame != "dam":
                self.assertEqual(links["If taken"].values, ("no other mark moves",))
                continue
            there = shown_numbers(links["In the job"])
            np.testing.assert_allclose(there, known.values, atol=5.1e-5)
            self.assertEqual(links["Difference"].values, ("+500.0   −250.0   +100.0 mm",))
            limit = [f"{1000 * v:.1f} mm" for v in against.tolerance_m[:2, 0]]
            self.assertEqual(
                links["Difference"].note, f"tolerance of the class {limit[0]}, height {limit[1]}"
            )
            old, new = before.adopted["dam"], what_if(taken).adopted["dam"]
            up = np.nan_to_num(new.height_m - old.height_m)
            way = np.stack([new.e_m - old.e_m, new.n_m - old.n_m, up])
            way[:, old.index["T-02"]] = 0.0
            size = np.hypot(np.hypot(way[0], way[1]), way[2])
            told = r"^(\d+) other marks move by ([\d.]+) (mm|m) at most$"
            count, most, unit = re.findall(told, links["If taken"].values[0])[0]
            self.assertEqual(int(count), int((np.nan_to_num(size) > 1e-9).sum()))
            found = float(most) * (0.001 if unit == "mm" else 1.0)
            self.assertAlmostEqual(found, float(np.nanmax(size)), delta=6e-5)

    def test_candidates_have_their_own_figures(self) -> None:
        adopted = self.derive(self.job).adopted["dam"]
        mark = next(m for m in self.job.state.marks.values() if m.name == "T-02")
        for candidate in adopted.candidates(mark.id):
            if candidate.adopted:
                row = adopted.index["T-02"]
                self.assertEqual(candidate.height_m, adopted.height_m[row])
        carried = adopted.index["P-01"]
        self.assertNotEqual(adopted.sigma_h_m[carried], adopted.sigma_v_m[carried])
