"""How well the stations and side shots of a traverse are known, by the rule and the balancing that were used.

Propagation of errors: a rule moves every station by a share of the misclosure, which is linear in the
observations at the misclosure nothing; least squares are observations under linear conditions,
C = G Q G' - G Q B' (B Q B')^-1 B Q G' with Q the variances of the observations, G the stations by them and B
the conditions by them (Mikhail, Observations and Least Squares, from memory).
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from fenwind.procedures.traverse import Traverse, TraverseResult, last_chain, shares_of

FloatArray = NDArray[np.float64]


def covariances(work: Traverse, found: TraverseResult) -> tuple[FloatArray, FloatArray]:
    """Covariances of e, n, h of the stations (3, 3, n+1) and of the side shots (3, 3, s), m^2, from the
    stated sigmas; the start is held, and a closing mark that the traverse is adjusted to."""
    plan = _stations_by_observations(work, found)
    up = _heights_by_observations(work, found)
    stations = _covariance(plan, up)
    shots = np.zeros((3, 3, len(work.shots)))
    place = {name: i for i, name in reversed(list(enumerate(work.names)))}
    for k, shot in enumerate(work.shots):
        i = place[shot.here]
        rows, azimuth = plan[:, i], _shot_azimuth(found, i, k)
        across = shot.distance * np.array([math.cos(azimuth), -math.sin(azimuth)])
        along = np.array([math.sin(azimuth), math.cos(azimuth)])
        if i and shot.kind != "azimuth":  # turned from the station before, as adjusted
            back = found.adjusted[:2, i - 1] - found.adjusted[:2, i]
            turn = np.array([back[1], -back[0]]) / (back @ back)
            rows = rows + np.outer(across, turn @ (plan[:, i - 1] - rows))
        own = np.stack(
            [across * work.options.sigma_angle, along * float(_distance_sigma(work, shot.distance))], axis=1
        )
        shots[:2, :2, k] = rows @ rows.T + own @ own.T
        shots[2, 2, k] = up[i] @ up[i] + work.options.sigma_height**2 * shot.distance / 1000.0
    return stations, shots


def bearing_on_closure(work: Traverse) -> int:
    """How many angles bear on the angular misclosure: those since the last azimuth row, and the closing
    angle."""
    return len(last_chain(work)) + (work.ends.closing_angle is not None)


def closure_sigma(work: Traverse) -> float:
    """Standard deviation of the angular misclosure, radians; azimuth rows that it rests on included."""
    return work.options.sigma_angle * float(np.linalg.norm(_closing_row(work, _turns(work))))


def _shot_azimuth(found: TraverseResult, station: int, shot: int) -> float:
    de, dn = found.shots[:2, shot] - found.adjusted[:2, station]
    return math.atan2(de, dn)


def _distance_sigma(work: Traverse, lengths: FloatArray | float) -> FloatArray:
    o = work.options
    return np.asarray(o.sigma_distance_m + o.sigma_distance_ppm * 1e-6 * np.asarray(lengths))


def _turns(work: Traverse) -> FloatArray:
    """Azimuths of the legs, and the last row of the closing line, by the angles booked (n+1, n+1)."""
    n = len(work.legs)
    out = np.zeros((n + 1, n + 1))
    for k, leg in enumerate(work.legs):
        if leg.kind != "azimuth" and k:
            out[k] = out[k - 1]
        out[k, k] = 1.0
    out[n] = out[n - 1]
    out[n, n] = 1.0
    return out


def _closing_row(work: Traverse, turns: FloatArray) -> FloatArray:
    """The angular misclosure by the angles booked (n+1,)."""
    row: FloatArray = turns[-1].copy()
    if work.ends.closing_line is None and work.ends.loop and work.legs[0].kind == "azimuth":
        row -= turns[0]  # the line closed on is the one booked first
    return row


def _stations_by_observations(work: Traverse, found: TraverseResult) -> FloatArray:
    """Stations (2, n+1, m) by m observations in units of their sigmas: the angles, and the distances."""
    n, o = len(work.legs), work.options
    lengths = np.array([leg.distance for leg in work.legs])
    turns, closed = _turns(work), work.ends.closing_angle is not None
    closing = _closing_row(work, turns)
    if o.balance and closed and o.method != "lsq":
        chain = last_chain(work)
        for place, k in enumerate(chain, 1):
            turns[k] -= closing * place / (len(chain) + 1)
    sigma = np.concatenate([np.full(n + 1, o.sigma_angle), _distance_sigma(work, lengths)])
    walked: FloatArray = _walked(found.azimuths, lengths, turns) * sigma
    if work.ends.close is None or o.method == "none":
        return walked
    if o.method != "lsq":
        shares = shares_of(work, found.azimuths, lengths)[:2]
        return np.asarray(walked - shares[:, :, None] * walked[:, -1:])
    conditions = [walked[0, -1], walked[1, -1]]
    if closed:
        conditions.append(np.concatenate([closing, np.zeros(n)]) * sigma)
    held = _under(walked.reshape(2 * (n + 1), -1), np.array(conditions))
    return np.asarray(held.reshape(walked.shape))


def _walked(azimuths: FloatArray, lengths: FloatArray, turns: FloatArray) -> FloatArray:
    """Stations (2, n+1, n+1+n) as walked, by angles and distances."""
    n = lengths.size
    across = np.stack([lengths * np.cos(azimuths), -lengths * np.sin(azimuths)])
    along = np.stack([np.sin(azimuths), np.cos(azimuths)])
    by_angle = np.cumsum(across[:, :, None] * turns[:n], axis=1)
    by_length = np.tril(np.ones((n, n))) * along[:, None, :]
    steps = np.concatenate([by_angle, by_length], axis=2)
    return np.concatenate([np.zeros((2, 1, steps.shape[2])), steps], axis=1)


def _heights_by_observations(work: Traverse, found: TraverseResult) -> FloatArray:
    """Heights (n+1, n) by the height differences in units of their sigmas, which grow with the root of the
    length."""
    n, o = len(work.legs), work.options
    lengths = np.array([leg.distance for leg in work.legs])
    walked = np.concatenate([np.zeros((1, n)), np.tril(np.ones((n, n)))])
    walked *= o.sigma_height * np.sqrt(lengths / 1000.0)
    if not math.isfinite(found.misclosure[2]) or o.method == "none":
        return walked
    share = shares_of(work, found.azimuths, lengths)[2]
    return np.asarray(walked - share[:, None] * walked[-1])


def _under(rows: FloatArray, conditions: FloatArray) -> FloatArray:
    """Rows by uncorrelated unit observations, of these as they are adjusted under conditions."""
    cross = rows @ conditions.T @ np.linalg.pinv(conditions @ conditions.T)
    return np.asarray(rows - cross @ conditions)


def _covariance(plan: FloatArray, up: FloatArray) -> FloatArray:
    out = np.zeros((3, 3, plan.shape[1]))
    out[:2, :2] = np.einsum("ikm,jkm->ijk", plan, plan)
    out[2, 2] = np.einsum("km,km->k", up, up)
    return out
