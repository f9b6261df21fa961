"""Metrics over a whole epoch against brute-force definitions, and merged over any division."""

import itertools
import math
from fractions import Fraction
from functools import reduce

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy.integrate import quad
from scipy.special import logsumexp, softmax

import vinestep as vs
from vinestep.errors import SettingError

m = vs.metrics


def merged(metric, outputs, targets, cuts):
    parts = [
        metric.count(o, t)
        for o, t in zip(np.split(outputs, cuts), np.split(targets, cuts), strict=True)
    ]
    return metric.conclude(reduce(metric.merge, parts))


@st.composite
def scored(draw):
    """Logits with ties, labels of two or more classes, and where to divide them."""
    n, k = draw(st.integers(2, 14)), draw(st.integers(2, 4))
    rng = np.random.default_rng(draw(st.integers(0, 10_000)))
    logits = rng.integers(-3, 4, (n, k)) * draw(st.sampled_from([0.5, 1.0, 40.0]))
    labels = rng.integers(0, k, n) if draw(st.booleans()) else np.full(n, k - 1)
    cuts = sorted(draw(st.lists(st.integers(0, n), max_size=3)))
    return logits, labels, cuts


def odds(logits, c):
    rest = np.delete(logits, c, axis=1)
    return logits[:, c] - (rest[:, 0] if rest.shape[1] == 1 else logsumexp(rest, axis=1))


def roc_by_pairs(scores, own):
    pairs = [
        Fraction(1) if a > b else Fraction(1, 2) if a == b else Fraction(0)
        for a, b in itertools.product(scores[own], scores[~own])
    ]
    return float(sum(pairs) / len(pairs))


def points(scores, own):
    """True and false positives at each threshold, from the highest."""
    return [
        (int((own & (scores >= s)).sum()), int((~own & (scores >= s)).sum()))
        for s in sorted(set(scores), reverse=True)
    ]


def precision_by_thresholds(scores, own):
    result, before = Fraction(0), 0
    for right, wrong in points(scores, own):
        result += Fraction(right - before, int(own.sum())) * Fraction(right, right + wrong)
        before = right
    return float(result)


def curve_area(scores, own):
    """By numerical integration of the precision between the points."""
    area, (a, b) = 0.0, (0, 0)
    for right, wrong in points(scores, own):
        if right > a:
            slope = (wrong - b) / (right - a)
            area += quad(
                lambda t, a=a, b=b, slope=slope: (
                    t / (t + b + slope * (t - a)) if t else 1 / (1 + slope)
                ),
                a,
                right,
            )[0]
        a, b = right, wrong
    return area / own.sum()


@pytest.mark.parametrize(
    ("make", "definition"),
    [
        (m.area_under_roc, roc_by_pairs),
        (m.average_precision, precision_by_thresholds),
        (m.area_under_precision_recall, curve_area),
    ],
)
@settings(max_examples=60, deadline=None)
@given(scored(), st.sampled_from([None, "macro", "weighted", 0, 1]))
def test_areas_are_those_of_pairs_and_thresholds(make, definition, drawn, over):
    logits, labels, cuts = drawn
    k = logits.shape[1]
    areas = {
        c: definition(odds(logits, c), labels == c)
        for c in range(k)
        if 0 < (labels == c).sum() < len(labels)
    }
    if over is None:
        over = 1 if k == 2 else "macro"
    if isinstance(over, int):
        expected = areas.get(over, math.nan)
    elif not areas:
        expected = math.nan
    else:
        shares = [(labels == c).sum() if over == "weighted" else 1 for c in areas]
        expected = np.average(list(areas.values()), weights=shares)
    assert merged(make(over), logits, labels, cuts) == pytest.approx(
        expected, nan_ok=True, abs=1e-9
    )


def test_scores_far_from_a_half_keep_their_order():
    logits = np.array([[0.0, 50.0], [0.0, 60.0], [0.0, 70.0], [0.0, 80.0]])
    assert m.area_under_roc()(logits, np.array([0, 0, 1, 1])) == 1
    assert np.isnan(m.area_under_roc()(logits * np.nan, np.array([0, 0, 1, 1])))
    assert np.isnan(m.area_under_roc()(logits, np.ones(4, int)))
    assert np.isnan(m.area_under_roc()(logits[:0], np.ones(0, int)))
    with pytest.raises(SettingError, match="classes 0 to 1"):
        m.area_under_roc(5)(logits, np.array([0, 0, 1, 1]))


@settings(max_examples=60, deadline=None)
@given(scored())
def test_counts_of_classes(drawn):
    logits, labels, cuts = drawn
    k, best = logits.shape[1], logits.argmax(axis=1)
    chances = softmax(logits, axis=1)

    def of(metric):
        return merged(metric, logits, labels, cuts)

    hot, found = np.eye(k)[labels], np.eye(k)[best]
    c, v, w = (
        sum(np.cov(a[:, i], b[:, i])[0, 1] for i in range(k))
        for a, b in ((hot, found), (hot, hot), (found, found))
    )
    expected = c / math.sqrt(v * w) if v > 1e-12 and w > 1e-12 else math.nan
    assert of(m.matthews_correlation) == pytest.approx(expected, nan_ok=True, abs=1e-9)
    squares = ((chances - hot) ** 2).sum(axis=1)
    assert of(m.brier_score) == pytest.approx(squares.mean() / (2 if k == 2 else 1))
    logs = logsumexp(logits, axis=1) - logits[np.arange(len(labels)), labels]
    assert of(m.log_loss) == pytest.approx(logs.mean(), abs=1e-9)
    sure, right, error = chances.max(axis=1), best == labels, 0.0
    for low in np.arange(5) / 5:
        inside = (sure > low) & (sure <= low + 0.2 + 1e-15)
        if inside.any():
            error += inside.mean() * abs(sure[inside].mean() - right[inside].mean())
    if not (np.abs(sure * 5 - np.round(sure * 5)) < 1e-9).any():
        assert of(m.calibration_error(5)) == pytest.approx(error, abs=1e-9)
    unions = [
        ((best == c) & (labels == c)).sum() / ((best == c) | (labels == c)).sum()
        for c in range(k)
        if ((best == c) | (labels == c)).any()
    ]
    assert of(m.intersection_over_union()) == pytest.approx(np.mean(unions))
    each = []
    for c in range(k):
        both, true, told = (
            ((best == c) & (labels == c)).sum(),
            (labels == c).sum(),
            (best == c).sum(),
        )
        each.append(5 * both / (told + 4 * true) if told + 4 * true else 0)
    assert of(m.f_measure(2.0)) == pytest.approx(np.mean(each))
    weighted = np.average(each, weights=np.bincount(labels, minlength=k))
    assert of(m.f_measure(2.0, "weighted")) == pytest.approx(weighted)
    assert of(m.rank_error) == pytest.approx(np.abs(best - labels).mean())


@settings(max_examples=40, deadline=None)
@given(st.integers(2, 30), st.integers(0, 9999), st.floats(-1e6, 1e6), st.data())
def test_metrics_of_numbers(n, seed, offset, data):
    rng = np.random.default_rng(seed)
    y = rng.normal(size=(n, 1)) + offset
    z = y + rng.normal(size=(n, 1))
    cuts = sorted(data.draw(st.lists(st.integers(0, n), max_size=3)))
    assert merged(m.correlation, z, y, cuts) == pytest.approx(
        np.corrcoef(z[:, 0], y[:, 0])[0, 1], abs=1e-6
    )
    rest = y - z
    assert merged(m.root_mean_squared_error, z, y, cuts) == pytest.approx(np.sqrt(np.mean(rest**2)))
    pinball = np.where(rest > 0, 0.2 * rest, -0.8 * rest).mean()
    assert merged(m.quantile_loss(0.2), z, y, cuts) == pytest.approx(pinball)
    median = m.of_all(lambda o, t: np.median(np.abs(o - t)), "median")
    assert merged(median, z, y, cuts) == pytest.approx(np.median(np.abs(rest)))


def test_what_never_varies_has_no_correlation():
    y = np.arange(5.0)[:, None]
    assert np.isnan(m.correlation(np.full((5, 1), 1e6 + 0.1), y))
    assert m.correlation(y * 1e-9 + 1, y) == pytest.approx(1, abs=1e-6)
    assert np.isnan(m.correlation(y[:1], y[:1]))


def test_a_function_of_all_outputs_gets_their_shapes():
    seen = []
    metric = m.of_all(lambda o, t: seen.append((o.shape, t.shape)) or 0.0, "shapes")
    merged(metric, np.zeros((7, 2, 3)), np.zeros(7, int), [3])
    assert seen == [((7, 2, 3), (7,))]


def test_metrics_over_an_epoch_are_trained_with_recorded_and_resumed(tmp_path):
    rng = np.random.default_rng(0)
    x = rng.normal(size=(90, 3))
    data = vs.data.Dataset(x, (x[:, 0] > 0.7).astype(int))

    def training():
        return vs.Training(
            vs.Dense(1),
            task=vs.tasks.Binary(),
            metrics=[m.area_under_roc(), m.average_precision(), m.brier_score, m.correlation][:3],
        )

    class Stop(vs.observers.Observer):
        def after_step(self, run, step):
            if step.number == 8:
                run.stop("told to", resumable=True)

    parts = {
        "epochs": 3,
        "validation": vs.data.Dataset(x[:40] + 1e-9, data.targets[:40]).batches(9),
    }
    whole = training().run(data.batches(20), **parts)
    first = training().run(data.batches(20), **parts, observers=[Stop()], record=tmp_path)
    again = training().run(data.batches(20), **parts, resume=first.folder)
    assert again.rows == whole.rows
    last = whole.rows[-1]
    assert {"area_under_roc", "validation_average_precision", "brier_score"} <= set(last)
    one = training()
    for step in one.steps(data.batches(90), epochs=1):
        z = step.metrics["area_under_roc"]
        assert 0 <= z <= 1
