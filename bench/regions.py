"""How often stated 95 % regions hold the truth: 2 to 12 pairs, every model, sigmas given and not; minutes,
run by name. The share over all draws of a case must be 94 to 96 %: python -m bench regions [draws of a
case]."""

from __future__ import annotations

import sys

import numpy as np
from tests.procedures.test_regions import holds, trial

from bench.timing import say

MODELS = {"shift": 2, "turn": 2, "scale": 3}


def main() -> None:
    """Simulate, print each case, then the farthest share from 95 % over the models."""
    draws = int(sys.argv[1]) if len(sys.argv) > 1 else 1500
    dice = np.random.default_rng(2026)
    for model, least in MODELS.items():
        for given in (True, False):
            shares: list[tuple[float, float]] = []
            for pairs in range(least, 13):
                seen = [
                    holds(*trial(dice, pairs, given, horizontal=model, height="shift")) for _ in range(draws)
                ]
                plan, height = (100.0 * sum(s[axis] for s in seen) / draws for axis in (0, 1))
                shares.append((plan, height))
                print(
                    f"{model:6} {pairs:2} pairs, sigmas {'given' if given else 'not given':9} {plan:6.2f} "
                    f"{height:6.2f} %"
                )
            for axis, what in ((0, "plan"), (1, "height")):
                mean = float(np.mean([s[axis] for s in shares]))
                words = f"regions in {what}, {model}, sigmas {'given' if given else 'not given'}, from 95 %"
                say(words, abs(mean - 95.0), 1.0, "%")


if __name__ == "__main__":
    main()
