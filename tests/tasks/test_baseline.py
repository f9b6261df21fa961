"""The best constant answer of every task, held against what an optimiser finds."""

import numpy as np
import pytest
from scipy.optimize import minimize

import vinestep as vs

t = vs.tasks
RNG = np.random.default_rng(3)
LABELS = RNG.choice(4, 300, p=[0.5, 0.3, 0.15, 0.05])
NUMBERS = RNG.normal(2.0, 1.5, size=(300, 2))
GAPS = np.where(RNG.random((300, 2)) < 0.2, np.nan, NUMBERS)

CASES = {
    "classes": (t.Classes(), LABELS, 4),
    "classes with gaps": (t.Classes(gaps=True), np.where(RNG.random(300) < 0.3, -1, LABELS), 4),
    "weighted classes": (t.Classes(class_weights=[1, 2, 3, 4.0]), LABELS, 4),
    "soft classes": (t.Classes(), RNG.dirichlet([1, 2, 3], 300), 3),
    "pixels": (t.Classes(), RNG.integers(0, 3, (20, 4, 5)), 3),
    "binary": (t.Binary(), (LABELS == 1)[:, None].astype(np.float64), 1),
    "weighted binary": (t.Binary(positive_weight=3.0), (LABELS == 1)[:, None].astype(float), 1),
    "labels": (t.Labels(), (NUMBERS > 1.5).astype(np.float64), 2),
    "ordered": (t.Ordered(), LABELS, 3),
    "numbers": (t.Numbers(), NUMBERS, 2),
    "numbers with gaps": (t.Numbers(gaps=True), GAPS, 2),
    "absolute": (t.Numbers("absolute"), NUMBERS, 2),
    "counts": (t.Counts(), RNG.poisson(3.0, (300, 1)).astype(np.float64), 1),
    "quantiles": (t.Quantiles([0.1, 0.5, 0.9]), NUMBERS[:, :1], 3),
    "gaussian": (t.Gaussian(), NUMBERS, 4),
}


@pytest.mark.parametrize("name", CASES)
def test_no_other_constant_is_better(name):
    task, targets, width = CASES[name]
    shape = (*np.shape(targets)[: np.ndim(targets) if name == "pixels" else 1], width)

    def loss(constant):
        return float(vs.held(task(np.broadcast_to(constant, shape), targets)))

    found = task.baseline(np.asarray(targets), width)
    assert found.shape == (width,)
    best = min(
        minimize(loss, start, method="Nelder-Mead", options={"maxiter": 4000, "xatol": 1e-6}).fun
        for start in (found, found + 0.1)
    )
    assert loss(found) == pytest.approx(best, abs=2e-3)


def test_a_task_of_ones_own_has_none():
    class Sine(t.Task):
        def losses(self, outputs, targets):
            return 1 - np.cos(outputs - targets)

    assert Sine().baseline(NUMBERS, 2) is None
