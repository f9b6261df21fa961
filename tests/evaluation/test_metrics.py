"""Scores against brute-force definitions, in exact fractions and extended precision."""

import math
import os
from fractions import Fraction

import mpmath
import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import DataError, NotFiniteError, ShapeError
from vinestep.evaluation.metrics._exact_sums import as_fraction, exact_sum, exact_sum_of_squares

metrics, losses = vs.metrics, vs.losses
CASES = int(os.environ.get("VINESTEP_TEST_SCORES", "50"))
DTYPES = (np.float16, np.float32, np.float64)


def drawn_rows(rng):
    """Outputs with ties, infinities and NaN, and labels."""
    n, classes = rng.integers(1, 9), rng.integers(2, 6)
    kind = rng.integers(4)
    outputs = rng.normal(size=(n, classes)) * 10.0 ** rng.integers(-3, 5)
    if kind == 1:
        outputs = rng.integers(-1, 2, (n, classes)).astype(float)
    if kind == 2:
        outputs[rng.random((n, classes)) < 0.2] = rng.choice([np.inf, -np.inf])
    if kind == 3:
        outputs[rng.random((n, classes)) < 0.1] = np.nan
    with np.errstate(over="ignore"):
        outputs = outputs.astype(DTYPES[rng.integers(3)])
    return outputs, rng.integers(0, classes, n)


def order(row):
    """Classes from the highest output down; of equal ones the first comes first."""
    return sorted(range(len(row)), key=lambda c: (-row[c], c))


def brute_top(outputs, labels, k):
    right = 0
    for row, label in zip(outputs.tolist(), labels.tolist(), strict=True):
        right += not any(map(math.isnan, row)) and label in order(row)[:k]
    return Fraction(right, len(labels))


def same(found, exact):
    if math.isnan(found):
        assert exact is None
    else:
        assert exact is not None
        assert found == pytest.approx(float(exact), rel=1e-12, abs=1e-300)


@pytest.mark.parametrize("seed", range(CASES))
def test_scores_of_classes(seed):
    rng = np.random.default_rng([1, seed])
    outputs, labels = drawn_rows(rng)
    classes = outputs.shape[1]
    same(metrics.accuracy(outputs, labels), brute_top(outputs, labels, 1))
    k = int(rng.integers(1, classes + 1))
    same(metrics.top(k)(outputs, labels), brute_top(outputs, labels, k))
    if np.isnan(outputs).any():
        for metric in (metrics.f1(), metrics.precision(), metrics.recall(0), metrics.kappa):
            assert math.isnan(metric(outputs, labels))
        with pytest.raises(NotFiniteError, match="NaN, which decides nothing"):
            metrics.confusion(outputs, labels)
        return
    decided = [order(row)[0] for row in outputs.tolist()]
    pairs = list(zip(labels.tolist(), decided, strict=True))
    found = metrics.confusion(outputs, labels)
    assert found.tolist() == [
        [pairs.count((true, other)) for other in range(classes)] for true in range(classes)
    ]
    n = len(pairs)
    precisions, recalls, f1s = [], [], []
    for c in range(classes):
        both, said, true = pairs.count((c, c)), decided.count(c), labels.tolist().count(c)
        precisions.append(Fraction(both, said) if said else Fraction(0))
        recalls.append(Fraction(both, true) if true else Fraction(0))
        f1s.append(Fraction(2 * both, said + true) if said + true else Fraction(0))
    for name, each in (("precision", precisions), ("recall", recalls), ("f1", f1s)):
        metric = getattr(metrics, name)
        same(metric()(outputs, labels), sum(each) / classes)
        same(metric("micro")(outputs, labels), Fraction(sum(a == b for a, b in pairs), n))
        same(metric(classes - 1)(outputs, labels), each[-1])
    agreed = Fraction(sum(a == b for a, b in pairs), n)
    chance = sum(
        Fraction(decided.count(c) * labels.tolist().count(c), n * n) for c in range(classes)
    )
    same(metrics.kappa(outputs, labels), (agreed - chance) / (1 - chance) if chance < 1 else None)


def drawn_numbers(rng):
    n = int(rng.integers(1, 30))
    dtype = DTYPES[rng.integers(3)]
    scale = 10.0 ** rng.integers(-6, 7) if dtype is not np.float16 else 1.0
    middle = scale * rng.choice([0, 1, -30, 1e3, 1e8]) if dtype is np.float64 else 0
    targets = middle + scale * rng.normal(size=n)
    if rng.random() < 0.1:
        targets[:] = targets[0]
    outputs = targets + scale * rng.normal(size=n) * rng.choice([0, 1e-3, 1, 10])
    return outputs.astype(dtype), targets.astype(dtype)


@pytest.mark.parametrize("seed", range(CASES))
def test_scores_of_numbers(seed):
    outputs, targets = drawn_numbers(np.random.default_rng([2, seed]))
    o, t = ([Fraction(float(x)) for x in a] for a in (outputs, targets))
    n = len(t)
    errors = [a - b for a, b in zip(o, t, strict=True)]
    mean = sum(t) / n
    around = sum((x - mean) ** 2 for x in t)
    squares = sum(e * e for e in errors)
    # the error of one number is rounded once, as any subtraction is
    assert metrics.squared_error(outputs, targets) == pytest.approx(float(squares / n), rel=1e-6)
    assert metrics.absolute_error(outputs, targets) == pytest.approx(
        float(sum(map(abs, errors)) / n), rel=1e-6
    )
    found = metrics.r_squared(outputs, targets)
    if not around:
        assert math.isnan(found)
    else:
        assert found == pytest.approx(float(1 - squares / around), rel=1e-6, abs=1e-9)


@pytest.mark.parametrize("seed", range(CASES))
def test_the_area_under_the_roc_curve(seed):
    rng = np.random.default_rng([3, seed])
    n = int(rng.integers(1, 12))
    scores = rng.integers(-2, 3, n) if seed % 2 else rng.normal(size=n)
    scores = scores.astype(DTYPES[seed % 3])
    if seed % 5 == 0:
        scores[rng.random(n) < 0.3] = rng.choice([np.inf, -np.inf])
    labels = rng.integers(0, 2, n)
    pairs = [(a, b) for a in scores[labels == 1].tolist() for b in scores[labels == 0].tolist()]
    wins = sum(Fraction(1) if a > b else Fraction(1, 2) if a == b else 0 for a, b in pairs)
    same(metrics.roc_area(scores, labels), wins / len(pairs) if pairs else None)


@pytest.mark.parametrize(
    "labels", [[0, 1, 2], [0.5, 0, 1], [np.nan, 0, 1], [-1, 0, 1], ["a", "b", "a"], [None, 0, 1]]
)
def test_the_area_of_labels_that_are_none_is_refused(labels):
    with pytest.raises(DataError, match="labels are 0 or 1, got"):
        metrics.roc_area([0.1, 0.2, 0.3], labels)
    with pytest.raises(ShapeError, match="2 scores for 3 labels"):
        metrics.roc_area([0.1, 0.2], labels)


def exact_log_cosh(r):
    return mpmath.log(mpmath.cosh(mpmath.mpf(r)))


def exact_binary(x, t, positive):
    x = mpmath.mpf(x)
    yes = mpmath.log1p(mpmath.exp(-x)) if math.isfinite(x) else (0 if x > 0 else mpmath.inf)
    no = mpmath.log1p(mpmath.exp(x)) if math.isfinite(x) else (0 if x < 0 else mpmath.inf)
    return (yes * t * positive if t else 0) + (no * (1 - t) if t != 1 else 0)


@pytest.mark.parametrize("seed", range(CASES))
def test_losses_at_the_ends_of_their_range(seed):
    rng = np.random.default_rng([4, seed])
    dtype = DTYPES[seed % 3]
    largest = 4 if dtype is np.float16 else 30
    sign = rng.choice([-1, 1], 6)
    x = sign * 10.0 ** rng.uniform(-7 if dtype is not np.float16 else -2, np.log10(largest), 6)
    x = x.astype(dtype)
    if seed % 4 == 0:
        x[0] = rng.choice([-np.inf, np.inf])
    eps = float(np.finfo(dtype).eps)
    targets = rng.choice([0.0, 0.25, 1.0], 6).astype(dtype)
    with mpmath.workdps(60):
        wanted = [
            float(exact_binary(float(a), float(t), 2.0)) for a, t in zip(x, targets, strict=False)
        ]
        with np.errstate(all="ignore"):
            found = losses.binary_cross_entropy(x, targets, positive_weight=2.0, reduction="none")
        np.testing.assert_allclose(found, wanted, rtol=8 * eps, atol=8 * eps)
        r = x[np.isfinite(x)]
        wanted = [float(exact_log_cosh(float(a))) for a in r]
        found = losses.log_cosh(r, np.zeros_like(r), reduction="none")
        np.testing.assert_allclose(found, wanted, rtol=8 * eps, atol=float(np.finfo(dtype).tiny))


def test_minus_infinity_of_what_has_no_share_costs_nothing():
    log_shares = np.array([[0.0, -np.inf]])
    shares = np.array([[1.0, 0.0]])
    assert losses.cross_entropy(log_shares, shares) == 0
    assert losses.kullback_leibler(log_shares, shares) == 0
    logits = vs.Tensor([[0.0, -np.inf]])
    slope = vs.differentiate(losses.cross_entropy(logits, shares), wrt={"x": logits})["x"]
    np.testing.assert_array_equal(slope, 0)


def test_exact_sums_are_exact_in_any_order_and_division():
    rng = np.random.default_rng(0)
    for _ in range(200):
        values = rng.normal(size=rng.integers(0, 30)) * 10.0 ** rng.integers(-40, 60)
        values *= 10.0 ** rng.integers(-9, 9, values.shape)
        cut = rng.integers(0, len(values) + 1)
        for columns, power in ((exact_sum, 1), (exact_sum_of_squares, 2)):
            parts = columns(values[:cut][::-1]) + columns(values[cut:])
            exact = sum((Fraction(x) ** power for x in values.tolist()), Fraction(0))
            assert as_fraction(parts) == exact
