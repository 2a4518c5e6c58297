"""The engine against certified regression data and worked examples."""

import math
import re
import unittest

import numpy as np

from fenwind.estimation.engine import Problem, adjust
from fenwind.procedures.similarity import Similarity
from tests.support import DATA


def _uncorrelated(m: int) -> np.ndarray:
    return np.ones((1, 1, m))


class Longley(unittest.TestCase):
    """NIST Statistical Reference Datasets, Longley: certified estimates, standard deviations and residual sum
    of squares."""

    B = (
        -3482258.63459582, 15.0618722713733, -0.358191792925910e-01, -2.02022980381683, -1.03322686717359,
        -0.511041056535807e-01, 1829.15146461355,
    )  # fmt: skip
    SD = (
        890420.383607373, 84.9149257747669, 0.334910077722432e-01, 0.488399681651699, 0.214274163161675,
        0.226073200069370, 455.478499142212,
    )  # fmt: skip
    RSS = 836424.055505915

    def test_estimates_and_deviations(self) -> None:
        table = np.genfromtxt(DATA / "nist/longley.csv", delimiter=",", skip_header=1)[:, 1:]
        y, a = table[:, 0], np.column_stack([np.ones(len(table)), table[:, 1:]])
        names = tuple(f"b{i}" for i in range(7))
        problem = Problem(
            names=names, start=np.zeros(7), observed=y[None], covariance=_uncorrelated(y.size),
            model=lambda x: ((a @ x)[None], a.T[None]), linear=True,
        )  # fmt: skip
        result = adjust(problem)
        # The columns are nearly dependent (condition about 5e9): normal equations keep nine digits of the
        # sum, six of the estimates.
        self.assertAlmostEqual(result.sum_squares / self.RSS, 1.0, delta=1e-9)
        sigma0 = math.sqrt(result.variance_factor)
        for i in range(7):
            self.assertAlmostEqual(result.x[i] / self.B[i], 1.0, delta=1e-6)
            self.assertAlmostEqual(sigma0 * result.sigma_of(names[i]) / self.SD[i], 1.0, delta=1e-6)
        self.assertAlmostEqual(float(result.redundancy.sum()), 9.0, delta=1e-5)


E = np.exp
# name, f(x, b), digits that must agree
NONLINEAR = [
    ("Misra1a", lambda x, b: b[0] * (1 - E(-b[1] * x)), 8),
    ("Chwirut2", lambda x, b: E(-b[0] * x) / (b[1] + b[2] * x), 8),
    ("DanWood", lambda x, b: b[0] * x ** b[1], 8),
    ("Kirby2", lambda x, b: (b[0] + b[1] * x + b[2] * x**2) / (1 + b[3] * x + b[4] * x**2), 7),
    (
        "Hahn1",
        lambda x, b: (
            (b[0] + b[1] * x + b[2] * x**2 + b[3] * x**3) / (1 + b[4] * x + b[5] * x**2 + b[6] * x**3)
        ),
        6,
    ),
    ("Eckerle4", lambda x, b: b[0] / b[1] * E(-0.5 * ((x - b[2]) / b[1]) ** 2), 8),
    (
        "Gauss1",
        lambda x, b: (
            b[0] * E(-b[1] * x)
            + b[2] * E(-((x - b[3]) ** 2) / b[4] ** 2)
            + b[5] * E(-((x - b[6]) ** 2) / b[7] ** 2)
        ),
        8,
    ),
    ("Rat43", lambda x, b: b[0] / (1 + E(b[1] - b[2] * x)) ** (1 / b[3]), 7),
]


class Nonlinear(unittest.TestCase):
    """NIST Statistical Reference Datasets, nonlinear regression: certified values in each file, from the
    second start given there."""

    def test_certified(self) -> None:
        for name, function, digits in NONLINEAR:
            with self.subTest(name):
                start, certified, deviation, rss, y, x = _read(name)
                result = adjust(_problem(function, start, y, x))
                self.assertAlmostEqual(result.sum_squares / rss, 1.0, delta=10.0 ** (-digits))
                sigma0 = math.sqrt(result.variance_factor)
                for i, (value, sd) in enumerate(zip(certified, deviation, strict=True)):
                    self.assertAlmostEqual(result.x[i] / value, 1.0, delta=10.0 ** (-digits + 1))
                    self.assertAlmostEqual(sigma0 * math.sqrt(result.cofactors[i, i]) / sd, 1.0, delta=1e-4)


def _problem(function, start: np.ndarray, y: np.ndarray, x: np.ndarray) -> Problem:
    def model(b: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        design = np.empty((1, b.size, x.size))
        for j in range(b.size):  # complex step: exact to rounding (Squire and Trapp, SIAM Review 40, 1998)
            step = b.astype(complex)
            h = 1e-20 * max(abs(b[j]), 1.0)
            step[j] += 1j * h
            design[0, j] = function(x.astype(complex), step).imag / h
        return function(x, b)[None], design

    names = tuple(f"b{i + 1}" for i in range(start.size))
    return Problem(names=names, start=start, observed=y[None], covariance=_uncorrelated(y.size), model=model)


def _read(name: str):
    text = (DATA / f"nist/{name}.dat").read_text()
    rows = re.findall(r"^\s*b\d+\s*=\s*(\S+)\s+(\S+)\s+(\S+)\s+(\S+)\s*$", text, flags=re.MULTILINE)
    numbers = np.array(rows, dtype=float)
    rss = float(re.search(r"Residual Sum of Squares:\s*(\S+)", text)[1])
    first, last = (int(v) for v in re.search(r"Data\s+\(lines\s+(\d+) to\s+(\d+)\)", text).groups())
    data = np.array([line.split()[:2] for line in text.splitlines()[first - 1 : last]], dtype=float)
    return numbers[:, 1], numbers[:, 2], numbers[:, 3], rss, data[:, 0], data[:, 1]


class Resection(unittest.TestCase):
    def test_three_points_by_angles(self) -> None:
        """Worked example of Tienstra's method, in pygeodesy's tests: P at (2128.3903, 5578.1443), to 0.1
        mm."""
        a, b, c = np.array([1000.0, 5300.0]), np.array([2200.0, 6300.0]), np.array([3100.0, 5000.0])
        stated = {("B", "C"): 115.0889, ("A", "B"): 109.5125}
        marks = {"A": a, "B": b, "C": c}

        def model(x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
            values, design = [], []
            for left, right in stated:
                angle, row = 0.0, np.zeros(2)
                for name, sign in ((right, 1.0), (left, -1.0)):
                    d = marks[name] - x
                    angle += sign * math.atan2(d[0], d[1])
                    row += sign * np.array([-d[1], d[0]]) / (d @ d)
                values.append(angle % (2 * math.pi))
                design.append(row)
            return np.array(values)[None], np.array(design).T[None]

        observed = np.radians(list(stated.values()))
        result = adjust(
            Problem(
                names=("E", "N"), start=np.array([2100.0, 5600.0]), observed=observed[None],
                covariance=1e-10 * _uncorrelated(2), model=model,
            )
        )  # fmt: skip
        np.testing.assert_allclose(result.x, (2128.3903, 5578.1443), atol=1e-4)


class PlaneSimilarity(unittest.TestCase):
    def test_sewrpc(self) -> None:
        """SEWRPC Technical Report 34, in PROJ's more_builtins.gie: a plane similarity with E0, N0, scale and
        a turn of -1.244048 seconds."""
        # The method (EPSG 9621) turns the axes, positive anticlockwise; seen from the axes, bearings grow by
        # -1.244048" the other way.
        turn = math.radians(-1.244048 / 3600)
        zero = np.zeros(2)
        plan = Similarity(
            source_centre=zero, target_centre=np.array([-9597.3572, 0.6112]), rotation_rad=turn,
            scale=0.304794780637, covariance=np.zeros((4, 4)),
        )  # fmt: skip
        carried = [float(v) for v in plan.forward(np.array(2546506.957), np.array(542256.609))]
        np.testing.assert_allclose(carried, (766563.675, 165282.277), atol=1.5e-3)
        np.testing.assert_allclose(
            plan.inverse(*plan.forward(np.array([3.0]), np.array([4.0]))), [[3.0], [4.0]], atol=1e-8
        )
