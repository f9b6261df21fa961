"""Two models on the same examples, held against one another in pairs."""

import numpy as np
import pytest
from scipy import stats

import vinestep as vs
from vinestep.errors import DataError

SETS = 40


def scored(outputs, targets, **options):
    return vs.evaluation.assess(outputs, targets, vs.losses.squared_error, **options)


def test_models_that_are_equally_good_are_told_apart_as_often_as_the_level_says():
    rng = np.random.default_rng(0)
    apart = 0
    for _ in range(SETS):
        truth = rng.normal(size=(60, 1))
        models = [scored(truth + 0.3 * rng.normal(size=truth.shape), truth) for _ in range(2)]
        apart += vs.evaluation.paired_bootstrap(*models)[0].p < 0.05
    assert apart / SETS < 0.05 + 3 * np.sqrt(0.05 * 0.95 / SETS)


def test_against_the_t_test_of_the_differences():
    rng = np.random.default_rng(1)
    truth = rng.normal(size=(2000, 1))
    shared = rng.normal(size=truth.shape)  # errors that both make
    errors = [shared + 0.1 * rng.normal(size=truth.shape), shared + 0.15]
    one, other = (scored(truth + e, truth) for e in errors)
    (found,) = vs.evaluation.paired_bootstrap(one, other)
    apart = (errors[1] ** 2 - errors[0] ** 2)[:, 0]
    known = stats.ttest_1samp(apart, 0).confidence_interval(0.95)
    assert found.difference == pytest.approx(apart.mean())
    assert (found.low, found.high) == pytest.approx((known.low, known.high), rel=0.1, abs=2e-3)
    assert found.examples == 2000


def test_scores_of_classes_and_weights_are_drawn_with_their_examples():
    rng = np.random.default_rng(2)
    labels = rng.integers(0, 3, 300)
    good = np.eye(3)[labels] * 2 + rng.normal(size=(300, 3))
    weights = rng.uniform(0, 2, 300)
    one, other = (
        vs.evaluation.assess(
            logits, labels, vs.losses.cross_entropy, [vs.metrics.accuracy], weights=weights
        )
        for logits in (good, rng.normal(size=(300, 3)))
    )
    loss, accuracy = vs.evaluation.paired_bootstrap(one, other)
    assert (loss.score, accuracy.score) == ("loss", "accuracy")
    assert loss.low < loss.difference < loss.high
    assert accuracy.high < 0 < loss.low
    assert loss.p == accuracy.p < 0.01  # the least there is, times two scores


def test_chance_is_said_of_equal_models():
    truth = np.arange(12.0)[:, None]
    same = scored(truth + 1, truth), scored(truth + 1, truth)
    (found,) = vs.evaluation.paired_bootstrap(*same)
    assert found.p == 1
    assert "chance explains it" in str(found)


def test_other_examples_are_refused():
    truth = np.arange(12.0)[:, None]
    with pytest.raises(DataError, match="other examples"):
        vs.evaluation.paired_bootstrap(scored(truth, truth), scored(truth, truth[::-1]))
    with pytest.raises(DataError, match="other examples"):
        vs.evaluation.paired_bootstrap(scored(truth, truth), scored(truth[:5], truth[:5]))


def test_one_example_tells_nothing():
    one = scored(np.ones((1, 1)), np.zeros((1, 1)))
    (found,) = vs.evaluation.paired_bootstrap(one, one)
    assert np.isnan(found.p)
    assert "too few to tell" in str(found)
