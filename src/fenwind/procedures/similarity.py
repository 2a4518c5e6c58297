"""The plane similarity behind every fit: how it acts, how it is estimated, and how its models nest.

E = shift_e + s (e cos r + n sin r), N = shift_n + s (-e sin r + n cos r), r clockwise: bearings increase by r
(a four-parameter plane similarity, IOGP Guidance Note 7-2, "Similarity Transformation", in this sign
convention). Inside, coordinates are counted from the centres of both sets, so that the unknowns are well
separated and the shift's uncertainty is that at the centre of the pairs.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import DatumDefectError, ProcedureError
from fenwind.estimation.blocks import Whitening
from fenwind.estimation.engine import Adjustment, Problem, adjust

FloatArray = NDArray[np.float64]
UNKNOWNS = ("shift E", "shift N", "rotation", "scale")

#: Models from simple to rich, with the unknowns each leaves free.
FREE: dict[str, tuple[str, ...]] = {"shift": ("shift E", "shift N"), "turn": UNKNOWNS[:3], "scale": UNKNOWNS}


@dataclass(frozen=True, kw_only=True, eq=False)
class Similarity:
    """A similarity from (e, n) to (E, N), metres and radians. source_centre and target_centre (2,) are the
    points it turns about: E - target_centre = s R (e - source_centre). covariance (4, 4) of (target centre E,
    N, rotation, scale)."""

    source_centre: FloatArray
    target_centre: FloatArray
    rotation_rad: float
    scale: float
    covariance: FloatArray

    @property
    def shift(self) -> tuple[float, float]:
        """shift_e and shift_n of the formula above, counted from the origin of both systems."""
        turned = self._turn(self.source_centre[0], self.source_centre[1])
        return float(self.target_centre[0] - turned[0]), float(self.target_centre[1] - turned[1])

    def _turn(self, e: FloatArray | float, n: FloatArray | float) -> tuple[FloatArray, FloatArray]:
        c, s = self.scale * math.cos(self.rotation_rad), self.scale * math.sin(self.rotation_rad)
        return np.asarray(e * c + n * s), np.asarray(n * c - e * s)

    def forward(self, e_m: FloatArray, n_m: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Carry source coordinates (k,) onto the target system."""
        east, north = self._turn(e_m - self.source_centre[0], n_m - self.source_centre[1])
        return east + self.target_centre[0], north + self.target_centre[1]

    def inverse(self, e_m: FloatArray, n_m: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Carry target coordinates (k,) back onto the source system."""
        de, dn = e_m - self.target_centre[0], n_m - self.target_centre[1]
        c, s = math.cos(self.rotation_rad) / self.scale, math.sin(self.rotation_rad) / self.scale
        return de * c - dn * s + self.source_centre[0], de * s + dn * c + self.source_centre[1]

    def design(self, e_m: FloatArray, n_m: FloatArray) -> FloatArray:
        """Derivatives (2, 4, k) of (E, N) by the target centre E, N, the rotation and the scale."""
        return _design(
            e_m - self.source_centre[0], n_m - self.source_centre[1], self.rotation_rad, self.scale
        )


def _design(de: FloatArray, dn: FloatArray, rotation: float, scale: float) -> FloatArray:
    c, s = math.cos(rotation), math.sin(rotation)
    east, north = de * c + dn * s, dn * c - de * s
    design = np.zeros((2, 4, de.size))
    design[0, 0] = design[1, 1] = 1.0
    design[0, 2], design[1, 2] = scale * north, -scale * east
    design[0, 3], design[1, 3] = east, north
    return design


def _turned_and_design(
    source: FloatArray, rotation: float, scale: float, free: list[int]
) -> tuple[FloatArray, FloatArray]:
    """Source coordinates (2, k) turned and scaled, and the derivatives (2, f, k) by the unknowns in
    `free`."""
    c, s = scale * math.cos(rotation), scale * math.sin(rotation)
    turned = np.stack([source[0] * c + source[1] * s, source[1] * c - source[0] * s])
    design = np.zeros((2, len(free), source.shape[1]))
    for column, unknown in enumerate(free):
        if unknown < 2:
            design[unknown, column] = 1.0
        elif unknown == 2:
            design[0, column], design[1, column] = turned[1], -turned[0]
        else:
            design[:, column] = turned / scale
    return turned, design


def turn_covariance(covariance: FloatArray, rotation_rad: float, scale: float) -> FloatArray:
    """Covariance (2, 2, k) of e, n after a turn by r and a scale: s^2 R C R^T."""
    cee, cen, cnn = covariance[0, 0], covariance[0, 1], covariance[1, 1]
    if not cen.any() and np.array_equal(cee, cnn):  # circles stay circles
        return covariance * scale**2 if scale != 1.0 else covariance.copy()
    c, s = math.cos(rotation_rad), math.sin(rotation_rad)
    out = np.empty(covariance.shape)
    out[0, 0] = c * c * cee + 2.0 * c * s * cen + s * s * cnn
    out[1, 1] = s * s * cee - 2.0 * c * s * cen + c * c * cnn
    out[0, 1] = out[1, 0] = c * s * (cnn - cee) + (c * c - s * s) * cen
    out *= scale**2
    return out


@dataclass(frozen=True, kw_only=True, eq=False)
class PairSet:
    """Pairs that take part: source e, n (2, k), target E, N (2, k), covariances (2, 2, k) of both."""

    source: FloatArray
    target: FloatArray
    source_covariance: FloatArray
    target_covariance: FloatArray

    def take(self, rows: NDArray[np.intp] | slice) -> PairSet:
        """Some of the pairs, in that order; a slice copies nothing."""
        return PairSet(
            source=self.source[:, rows],
            target=self.target[:, rows],
            source_covariance=self.source_covariance[:, :, rows],
            target_covariance=self.target_covariance[:, :, rows],
        )


def alike(source: FloatArray, target: FloatArray) -> PairSet:
    """Pairs (2, k) that count alike: one metre in each coordinate of the target, none in the source."""
    unit = np.repeat(np.eye(2)[:, :, None], source.shape[1], axis=2)
    return PairSet(
        source=source, target=target, source_covariance=0.0 * unit, target_covariance=unit,
    )  # fmt: skip


@dataclass(frozen=True, kw_only=True, eq=False)
class Prepared:
    """Pairs counted from their centres, with a closed-form start (target centre E, N, rotation, scale) and
    the whitening of computed - known, which all nested models share so that they can be compared."""

    source_centre: FloatArray
    target_centre: FloatArray
    source: FloatArray
    target: FloatArray
    start: FloatArray
    whitening: Whitening


def prepare(pairs: PairSet) -> Prepared:
    """Centre pairs and find where to start. Raises ProcedureError when there are none."""
    if pairs.source.shape[1] == 0:
        raise ProcedureError(
            "no pair is held in plan", hint="Hold at least one pair, or choose another use for a pair"
        )
    source_centre, target_centre = pairs.source.mean(axis=1), pairs.target.mean(axis=1)
    source, target = pairs.source - source_centre[:, None], pairs.target - target_centre[:, None]
    ratio = _ratio(pairs, source[0] + 1j * source[1], target[0] + 1j * target[1])
    rotation, scale = float(-np.angle(ratio)), float(abs(ratio)) or 1.0
    # With a turn that is far from zero, covariances must be turned before they can be added to those of the
    # target.
    covariance = turn_covariance(pairs.source_covariance, rotation, scale)
    covariance += pairs.target_covariance
    return Prepared(
        source_centre=source_centre,
        target_centre=target_centre,
        source=source,
        target=target,
        start=np.array([0.0, 0.0, rotation, scale]),
        whitening=Whitening(covariance),
    )


def _ratio(pairs: PairSet, source: NDArray[np.complex128], target: NDArray[np.complex128]) -> complex:
    """Complex ratio target / source by least squares with one weight a pair: its modulus is the scale, its
    angle minus the rotation; the exact optimum when the weights are equal and isotropic."""
    trace = pairs.source_covariance[0, 0] + pairs.source_covariance[1, 1]
    trace = trace + pairs.target_covariance[0, 0] + pairs.target_covariance[1, 1]
    if not (trace > 0.0).all():
        trace = np.ones(trace.shape)
    weight = 1.0 / trace
    weight /= weight.sum()
    spread = source - weight @ source
    total = float(weight @ (spread.real**2 + spread.imag**2))
    return complex(np.vdot(spread * weight, target)) / total if total > 0.0 else 1.0 + 0.0j


def estimate(
    pairs: PairSet | Prepared, model: str, rotation_rad: float | None = None, scale: float | None = None
) -> tuple[Similarity, Adjustment]:
    """Least-squares similarity of a model of FREE; a given rotation or scale is held exactly.

    Residuals of the adjustment are computed - known (2, k). Raises ProcedureError when there are too few
    pairs.
    """
    ready = pairs if isinstance(pairs, Prepared) else prepare(pairs)
    held = {"rotation": rotation_rad, "scale": scale}
    if "rotation" not in FREE[model] and rotation_rad is None:
        held["rotation"] = 0.0
    if "scale" not in FREE[model] and scale is None:
        held["scale"] = 1.0
    free = [i for i, name in enumerate(UNKNOWNS) if held.get(name) is None]
    whole = ready.start.copy()
    for i, name in enumerate(UNKNOWNS):
        whole[i] = held.get(name) if i not in free else whole[i]

    def computed(x: FloatArray) -> tuple[FloatArray, FloatArray]:
        whole[free] = x
        turned, design = _turned_and_design(ready.source, float(whole[2]), float(whole[3]), free)
        return whole[:2, None] + turned, design

    problem = Problem(
        names=tuple(UNKNOWNS[i] for i in free),
        start=whole[free],
        observed=ready.target,
        covariance=ready.whitening,
        model=computed,
        linear=len(free) == 2,
    )
    try:
        result = adjust(problem)
    except DatumDefectError as error:
        few = (
            "two or more pairs at different places"
            if ready.source.shape[1] < 2
            else "pairs that are not all at one place"
        )
        raise ProcedureError(
            f"{error.message}: {model} needs {few}", hint="Hold more pairs, or choose a simpler model"
        ) from error
    whole[free] = result.x
    covariance = np.zeros((4, 4))
    covariance[np.ix_(free, free)] = result.cofactors
    similarity = Similarity(
        source_centre=ready.source_centre,
        target_centre=ready.target_centre + whole[:2],
        rotation_rad=float(math.remainder(whole[2], 2.0 * math.pi)),
        scale=float(whole[3]),
        covariance=covariance,
    )
    return similarity, result


def pivot(pairs: PairSet) -> tuple[Similarity, Adjustment]:
    """Hold the first of two pairs exactly and turn onto the direction to the second; scale 1.

    Both positions and the direction are three observations for three unknowns, so that their covariance
    reaches the result through the engine. Raises ProcedureError when the two marks coincide in either system.
    """
    (e1, e2), (n1, n2) = pairs.source
    (ke1, ke2), (kn1, kn2) = pairs.target
    length = math.hypot(e2 - e1, n2 - n1)
    if min(length, math.hypot(ke2 - ke1, kn2 - kn1)) < 1e-6:
        raise ProcedureError(
            "the pivot and its second pair are at one place", hint="Choose a second pair away from the pivot"
        )
    direction = math.atan2(e2 - e1, n2 - n1)
    rotation = math.remainder(math.atan2(ke2 - ke1, kn2 - kn1) - direction, 2.0 * math.pi)
    across = np.array(
        [-math.cos(direction) / length, math.sin(direction) / length]
    )  # d direction / d (e1, n1)
    turned = turn_covariance(pairs.source_covariance, rotation, 1.0) + pairs.target_covariance
    back = turn_covariance(turned, -rotation, 1.0)
    to_observed = np.zeros((3, 4))
    to_observed[0, 0] = to_observed[1, 1] = 1.0
    to_observed[2, :2], to_observed[2, 2:] = across, -across
    corners = np.zeros((4, 4))
    corners[:2, :2], corners[2:, 2:] = back[:, :, 0], back[:, :, 1]
    c, s = math.cos(rotation), math.sin(rotation)
    spin = np.array([[c, s, 0.0], [-s, c, 0.0], [0.0, 0.0, 1.0]])
    covariance = spin @ to_observed @ corners @ to_observed.T @ spin.T
    design = np.eye(3)[:, :, None]
    result = adjust(
        Problem(
            names=UNKNOWNS[:3],
            start=np.zeros(3),
            observed=np.zeros((3, 1)),
            covariance=covariance[:, :, None],
            model=lambda x: (x[:, None], design),
            linear=True,
        )
    )
    full = np.zeros((4, 4))
    full[:3, :3] = result.cofactors
    similarity = Similarity(
        source_centre=pairs.source[:, 0].copy(),
        target_centre=pairs.target[:, 0].copy(),
        rotation_rad=rotation,
        scale=1.0,
        covariance=full,
    )
    return similarity, result
