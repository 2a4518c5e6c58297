"""fenwind show: the marks of a job, what they could be, and where that comes from."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from fenwind.errors import ProcedureError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from fenwind.commands.session_json import Opened
    from fenwind.geodesy.frames import Frame
    from fenwind.job.adopted import Adopted

BASIS = {"given": "known", "carried": "fit"}


def add_parser(verbs: Any) -> None:
    """Declare the verb."""
    parser = verbs.add_parser("show", help="marks of a job and where their positions come from")
    parser.add_argument("job", metavar="JOB")
    parser.add_argument("--frame", metavar="NAME", help="frame of the job; default: the one shown")
    parser.add_argument("--between", metavar="A,B", help="difference of two marks with its covariance")
    parser.add_argument("--json", action="store_true", help="print one JSON object, nothing rounded")


def run(options: argparse.Namespace) -> int:
    """Derive and tell."""
    from fenwind.commands.answers import answer, doubts_json
    from fenwind.commands.session_json import opened_job

    with opened_job(options.job) as found:
        view = _View(found, options.frame)
        payload: dict[str, Any] = {"marks": view.marks()}
        if options.between:
            payload["between"] = view.between(options.between)
            payload |= payload["between"]
        payload["doubts"] = doubts_json(list(found.every_doubt()))
    words = [f"{m['name']:12} {_coordinates(m)}  {m['why']}" for m in payload["marks"]]
    return answer(payload, words, options.json)


def _coordinates(mark: dict[str, Any]) -> str:
    if mark["e"] is not None:
        first = f"{mark['e']:z.4f} {mark['n']:z.4f}"
    elif mark["lat"] is not None:
        first = f"{mark['lat']:z.9f} {mark['lon']:z.9f}"
    else:
        return "no position"
    return first + (f" {mark['h']:z.4f}" if mark["h"] is not None else "")


class _View:
    """A job in one of its frames."""

    def __init__(self, found: Opened, name: str | None) -> None:
        import os

        from fenwind.geodesy.frames import open_frame
        from fenwind.job.reader import with_grid_folder
        from fenwind.quantities.lengths import UNITS

        self.found, self.state = found, found.job.state
        frames = {k: r for k, r in self.state.frames.items() if r.active}
        self.named = bool(name) or self.state.info.frame in frames
        key = self.state.info.frame if self.state.info.frame in frames else next(iter(frames), "")
        if name:
            key = next((k for k, r in frames.items() if name in (k, r.spec.name, r.spec.crs)), "")
            if not key:
                names = ", ".join(r.spec.name for r in frames.values()) or "none yet"
                raise ProcedureError(f"the job has no frame {name!r}", hint=f"Choose one of {names}")
        self.key = key
        self.frame: Frame | None = None
        self.unit = 1.0
        if key:
            folder = os.path.dirname(os.path.abspath(found.job.path))
            self.frame = open_frame(with_grid_folder(frames[key].spec, folder))
            self.unit = UNITS[self.frame.spec.unit].metres
        self.adopted: Adopted | None = found.derived.adopted.get(key)

    def marks(self) -> list[dict[str, Any]]:
        """Every mark."""
        return [self._mark(key, mark.name) for key, mark in self.state.marks.items() if mark.active]

    def _mark(self, key: str, name: str) -> dict[str, Any]:
        from fenwind.job.trail import trail

        row = self.adopted.place.get(key) if self.adopted is not None else None
        out: dict[str, Any] = {"name": name, "class": self.state.marks[key].mark_class}
        if self.adopted is None or row is None:
            return out | self._place(*[float("nan")] * 3) | {
                "basis": None, "why": "nothing gives it a position", "region95": None, "candidates": [],
                "trail": [],
            }  # fmt: skip
        a = self.adopted
        count = self._count(key)
        return out | self._place(float(a.e_m[row]), float(a.n_m[row]), float(a.height_m[row])) | {
            "basis": _basis(a.basis[row], count), "why": a.why[row], "region95": self._region(row),
            "candidates": [
                {
                    "step": c.key, "basis": _basis(c.basis, count),
                    **self._place(c.e_m, c.n_m, c.height_m),
                }
                for c in a.candidates(key)
            ],
            "trail": trail(self.state, self.found.derived, key, a.basis[row]),
        }  # fmt: skip

    def _count(self, key: str) -> int:
        from fenwind.job.session_view import rover_of

        return len(rover_of(self.found.derived).used.get(key, ()))

    def _place(self, e: float, n: float, h: float) -> dict[str, float | None]:
        """Coordinates in the unit of the frame, and the place on the earth."""
        import math

        import numpy as np

        from fenwind.commands.reading import number
        from fenwind.procedures.onto_plane import tied

        lat = lon = up = float("nan")
        if self.frame is not None and self.frame.has_datum:
            lat_at, lon_at = self.frame.inverse(np.array([e]), np.array([n]))
            lat, lon = float(lat_at[0]), float(lon_at[0])
            if tied(self.frame):
                up = h + float(self.frame.geoid_height(lat_at, lon_at)[0])
        named = self.named
        return {
            "e": number(e / self.unit) if named else None, "n": number(n / self.unit) if named else None,
            "h": number(h / self.unit), "lat": number(math.degrees(lat)), "lon": number(math.degrees(lon)),
            "ellipsoid_h": number(up),
        }  # fmt: skip

    def _region(self, row: int) -> dict[str, float | None] | None:
        """95 % region from the stated sigmas, metres and degrees."""
        import math

        import numpy as np

        from fenwind.commands.reading import number
        from fenwind.estimation.distributions import chi2_quantile, normal_quantile
        from fenwind.procedures.regions import ellipses

        root, z = math.sqrt(chi2_quantile(0.95, 2)), normal_quantile(0.975)
        assert self.adopted is not None
        source = self.adopted.sets[self.adopted.set_row[row]]
        c = source.positions.covariance[:, :, self.adopted.row[row]]
        if not np.isfinite(c[:2, :2]).all():
            return None
        a, b, bearing = ellipses(c[:2, :2, None])
        return {
            "a": number(root * float(a[0])), "b": number(root * float(b[0])),
            "bearing_deg": number(math.degrees(float(bearing[0]))),
            "v": number(z * math.sqrt(max(float(c[2, 2]), 0.0))) if np.isfinite(c[2, 2]) else None,
        }  # fmt: skip

    def between(self, text: str) -> dict[str, Any]:
        """Difference of two marks with its covariance in square metres."""
        from fenwind.commands.reading import number, split_names
        from fenwind.job.session_view import between

        names = split_names(text)
        if len(names) != 2:
            raise ProcedureError("--between takes two marks", hint="Write --between A,B")
        a = self.adopted
        rows = []
        for name in names:
            mark = self.state.mark_named(name)
            row = a.place.get(mark.id) if a is not None and mark is not None else None
            if row is None:
                raise ProcedureError(f"{name} has no position here", hint="Name two marks that have one")
            rows.append(row)
        assert a is not None
        i, j = rows
        joint = a.difference_covariance(i, j)
        if self.frame is not None and {a.basis[i], a.basis[j]} == {"given", "measured"}:
            found = between(self.found.derived, self.frame, a.ids[j], a.ids[i])
            joint = joint if found is None else found
        covariance = [[number(v) for v in line] for line in joint.tolist()]
        differences: Sequence[float] = [float(v[j] - v[i]) / self.unit for v in (a.e_m, a.n_m, a.height_m)]
        de, dn, dh = (number(v) for v in differences)
        return {"from": names[0], "to": names[1], "de": de, "dn": dn, "dh": dh, "covariance": covariance}


def _basis(basis: str, count: int) -> str:
    if basis == "measured":
        return "mean" if count > 1 else "measured"
    return BASIS.get(basis, basis)
