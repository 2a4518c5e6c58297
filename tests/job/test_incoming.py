"""Rows coming in against the job, and what moved: differences of either sign, on each axis."""

import unittest

from fenwind.job.incoming import against_job, take_in
from fenwind.job.moved import moved
from fenwind.records.entries import Add, Amend, amend
from tests.job.test_derive import points
from tests.support import TempFolder


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

    def test_candidates_have_their_own_figures(self) -> None:
        adopted = self.derive(self.job).adopted["dam"]
        mark = next(m for m in self.job.state.marks.values() if m.name == "T-02")
        for candidate in adopted.candidates(mark.id):
            if candidate.adopted:
                row = adopted.index["T-02"]
                self.assertEqual(candidate.height_m, adopted.height_m[row])
        carried = adopted.index["P-01"]
        self.assertNotEqual(adopted.sigma_h_m[carried], adopted.sigma_v_m[carried])


if __name__ == "__main__":
    unittest.main()
