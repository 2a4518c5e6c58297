"""Fit of 10,000 pairs with all statistics against numpy.linalg.lstsq on the same matrix (plan and height in
one design)."""

from __future__ import annotations

import numpy as np

from bench.timing import best, say
from fenwind.procedures.fit import FitOptions, FitResult, fit
from fenwind.procedures.positions import positions

K = 10_000


def main() -> None:
    """Measure and print the ratio."""
    rng = np.random.default_rng(1)
    e, n, h = rng.uniform(-2000, 2000, K), rng.uniform(-2000, 2000, K), rng.uniform(100, 200, K)
    names = [f"P{i}" for i in range(K)]
    noise = rng.normal(0, 0.005, (3, K))
    measured = positions(
        names, e + noise[0], n + noise[1], h + noise[2], np.full(K, 0.005), np.full(K, 0.005)
    )
    c, s = np.cos(0.2), np.sin(0.2)
    known = positions(names, 100 + c * e + s * n, 200 - s * e + c * n, h - 45)

    def whole() -> FitResult:
        result = fit(measured, known, FitOptions(horizontal="scale"))
        for adjustment in (result.plan_adjustment, result.height_adjustment):
            assert adjustment is not None and adjustment.global_test is not None
        return result

    result = whole()
    design = np.zeros((3 * K, 5))
    plan = result.plan_adjustment.whitened_design
    assert result.height_adjustment is not None
    design[: 2 * K, :4] = plan.transpose(0, 2, 1).reshape(2 * K, 4)
    design[2 * K :, 4:] = result.height_adjustment.whitened_design[0].T
    right = np.concatenate(
        [
            result.plan_adjustment.whitened_residuals.ravel(),
            result.height_adjustment.whitened_residuals.ravel(),
        ]
    )
    peer = best(lambda: np.linalg.lstsq(design, right, rcond=None), 30)
    own = best(whole, 30)
    print(
        f"lstsq {peer * 1e3:.2f} ms, fit with all statistics, three models and carried covariances "
        f"{own * 1e3:.2f} ms"
    )
    say("fit of 10,000 pairs / lstsq", own / peer, 5.0, "x")


if __name__ == "__main__":
    main()
