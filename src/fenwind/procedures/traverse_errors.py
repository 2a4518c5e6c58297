"""How well the stations of a traverse are known: angles and distances carried along the chain, and what its
closing takes away from that.

The errors of a chain of observations under linear conditions: C = G Q G' - G Q B' (B Q B')^-1 B Q G' with Q
the variances of the observations, G the stations by them and B the conditions by them (adjustment of
conditions; Mikhail, Observations and Least Squares, from memory). The same for every rule of adjustment: a
rule moves the stations by less than these.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenwind.procedures.traverse import Traverse, TraverseResult

FloatArray = NDArray[np.float64]


def station_covariances(work: Traverse, found: TraverseResult) -> FloatArray:
    """Covariance (3, 3, n+1) of e, n, h of the stations, m^2, from the stated sigmas; the start and a
    closing mark are held. A height's error is that of zenith angles as good as the angles."""
    n, o = len(work.legs), work.options
    lengths = np.array([leg.distance for leg in work.legs])
    turns = _turns(work)
    sigma = np.concatenate(
        [np.full(turns.shape[1], o.sigma_angle), o.sigma_distance_m + o.sigma_distance_ppm * 1e-6 * lengths]
    )
    plan = _by_observations(found.azimuths, lengths, turns)
    rows = plan.reshape(2 * n, -1) * sigma
    conditions = _conditions(work, plan, turns) * sigma
    covariance = np.zeros((3, 3, n + 1))
    covariance[:2, :2, 1:] = _blocks(_conditioned(rows, conditions), n)
    up = np.tril(np.ones((n, n))) * (o.sigma_angle * lengths)
    end = up[-1:] if work.ends.close is not None else np.zeros((0, n))
    covariance[2, 2, 1:] = np.diag(_conditioned(up, end))
    return covariance


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


def _by_observations(azimuths: FloatArray, lengths: FloatArray, turns: FloatArray) -> FloatArray:
    """Stations after the start (2, n, n+1+n) by angles and distances."""
    n = lengths.size
    across = np.stack([lengths * np.cos(azimuths), -lengths * np.sin(azimuths)])
    along = np.stack([np.sin(azimuths), np.cos(azimuths)])
    by_angle = np.cumsum(across[:, :, None] * turns[:n], axis=1)
    by_length = np.tril(np.ones((n, n))) * along[:, None, :]
    return np.concatenate([by_angle, by_length], axis=2)


def _conditions(work: Traverse, plan: FloatArray, turns: FloatArray) -> FloatArray:
    """What closes the figure, by the observations (c, 2n+1)."""
    n = len(work.legs)
    if work.ends.close is None:
        return np.zeros((0, 2 * n + 1))
    rows = [plan[0, -1], plan[1, -1]]
    if work.ends.closing_angle is not None:
        angle = turns[n].copy()
        if work.ends.closing_line is None and work.ends.loop and work.legs[0].kind == "azimuth":
            angle -= turns[0]  # the line closed on is the one booked first
        rows.append(np.concatenate([angle, np.zeros(n)]))
    return np.array(rows)


def _conditioned(rows: FloatArray, conditions: FloatArray) -> FloatArray:
    """Covariance of what `rows` make of uncorrelated unit observations that meet the conditions."""
    whole = rows @ rows.T
    if not conditions.size:
        return np.asarray(whole)
    cross = rows @ conditions.T
    return np.asarray(whole - cross @ np.linalg.pinv(conditions @ conditions.T) @ cross.T)


def _blocks(covariance: FloatArray, n: int) -> FloatArray:
    """Blocks (2, 2, n) of the stations on the diagonal of (2n, 2n), east part first."""
    parts = covariance.reshape(2, n, 2, n)
    return np.asarray(np.einsum("aibi->abi", parts))
