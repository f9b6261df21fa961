"""Any division of the data into batches gives the same loss, scores, intervals and gradients."""

from functools import partial

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

import vinestep as vs
from vinestep._loss_reduction import ELEMENTWISE, OF_LIBRARY, inferred_reduction
from vinestep.errors import DataError, SettingError
from vinestep.evaluation._scores import Assessment, Scored, joined, metric_counts
from vinestep.parts._registry import kinds
from vinestep.training.step._scoring import average_scores

losses = vs.losses
C = 4


class Given(vs.Layer):
    """Puts out what it is given, times a parameter of one."""

    def declare(self, shape):
        self.parameter("factor", (), vs.initialisers.ones)

    def compute(self, x):
        return x * self.factor


class Parts:
    """Batches as a network is given them."""

    def __init__(self, batches):
        self.batches = batches

    def in_order(self):
        return iter(self.batches)


def own_mean(outputs, targets):
    return np.mean(np.abs(outputs - targets) ** 1.5)


def own_sum(outputs, targets):
    return np.sum(np.abs(outputs - targets) ** 1.5)


def own_weighted(outputs, targets, weights=None):
    w = np.ones(len(targets)) if weights is None else weights
    return np.sum(np.mean(np.square(outputs - targets), axis=1) * w) * (1 / np.sum(w))


def own_root(outputs, targets):
    return np.sqrt(np.mean(np.square(outputs - targets)))


CASES = {
    "labels": (losses.cross_entropy, "labels"),
    "ignored": (partial(losses.cross_entropy, ignored=-1), "ignored"),
    "class weights": (
        partial(losses.cross_entropy, class_weights=[0.5, 2.0, 1.0, 3.0], ignored=-1),
        "ignored",
    ),
    "soft": (losses.cross_entropy, "soft"),
    "soft, class weights": (
        partial(losses.cross_entropy, class_weights=[0.5, 2.0, 1.0, 3.0], smoothing=0.1),
        "soft",
    ),
    "summed": (partial(losses.cross_entropy, reduction="sum"), "labels"),
    "padded labels": (losses.next_token, "tokens"),
    "hinge": (losses.hinge, "labels"),
    "negative_log_likelihood": (losses.negative_log_likelihood, "logs"),
    "kullback_leibler": (losses.kullback_leibler, "logs of soft"),
    "cosine": (losses.cosine, "numbers"),
    "temporal_classification": (losses.temporal_classification, "lines"),
    "binary_cross_entropy": (partial(losses.binary_cross_entropy, positive_weight=2.0), "yes"),
    "squared_error": (losses.squared_error, "numbers"),
    "absolute_error": (losses.absolute_error, "numbers"),
    "huber": (losses.huber, "numbers"),
    "log_cosh": (losses.log_cosh, "numbers"),
    "own mean": (own_mean, "numbers"),
    "own sum": (own_sum, "numbers"),
    "own, weighted": (own_weighted, "numbers"),
}
METRICS = {
    "labels": [vs.metrics.accuracy, vs.metrics.f1(), vs.metrics.kappa, vs.metrics.perplexity],
    "ignored": [vs.metrics.accuracy, vs.metrics.recall(1)],
    "tokens": [vs.metrics.accuracy, vs.metrics.perplexity],
    "numbers": [vs.metrics.absolute_error, vs.metrics.squared_error, vs.metrics.r_squared],
}


def examples(kind, n, rng):
    """Outputs and targets, one a row; sequences of any length in a list."""
    outputs = rng.normal(size=(n, C))
    labels = rng.integers(0, C, n)
    if kind == "labels":
        return outputs, labels
    if kind == "ignored":
        return outputs, np.where(rng.random(n) < 0.4, -1, labels)
    if kind == "soft":
        return outputs, rng.dirichlet(np.ones(C), n)
    if kind == "logs":
        return np.log(rng.dirichlet(np.ones(C), n)), labels
    if kind == "logs of soft":
        return np.log(rng.dirichlet(np.ones(C), n)), rng.dirichlet(np.ones(C), n)
    if kind == "lines":
        lines = rng.integers(0, C - 1, (n, 2))
        lines[rng.random(n) < 0.4, 1] = -1
        return rng.normal(size=(n, 5, C)), lines
    if kind == "yes":
        return outputs, (rng.random((n, C)) < 0.3).astype(float)
    return outputs, rng.normal(size=(n, C))


def sequences(n, rng):
    lengths = rng.integers(1, 6, n)
    return [(rng.normal(size=(k, C)), rng.integers(0, C, k)) for k in lengths]


def cut(n, rng):
    """Places that divide n examples into batches."""
    pieces = rng.integers(1, min(n, 6) + 1)
    return np.sort(rng.choice(np.arange(1, n), pieces - 1, replace=False)) if n > 1 else []


def divided(kind, data, weights, places):
    """Batches of these examples."""
    if kind == "tokens":
        for part in np.split(np.arange(len(data)), places):
            longest = max(len(data[i][1]) for i in part)
            outputs = np.zeros((len(part), longest, C))
            labels = np.full((len(part), longest), -1)
            for row, i in enumerate(part):
                outputs[row, : len(data[i][1])], labels[row, : len(data[i][1])] = data[i]
            yield vs.data.Batch(outputs, labels)
        return
    outputs, targets = data
    for part in np.split(np.arange(len(targets)), places):
        yield vs.data.Batch(
            outputs[part], targets[part], None if weights is None else weights[part]
        )


@pytest.mark.parametrize("weighed", [False, True])
@pytest.mark.parametrize("name", CASES)
@settings(max_examples=10)
@given(seed=st.integers(0, 2**32 - 1))
def test_any_division_gives_the_same_loss_scores_and_gradients(name, weighed, seed):
    loss, kind = CASES[name]
    if weighed and (name in ("own mean", "own sum") or kind == "tokens"):
        return
    rng = np.random.default_rng(seed)
    n = int(rng.integers(2, 14))
    data = sequences(n, rng) if kind == "tokens" else examples(kind, n, rng)
    weights = rng.choice([0.0, 0.5, 1.0, 3.0], n) if weighed else None
    whole = list(divided(kind, data, weights, []))
    parts = list(divided(kind, data, weights, cut(n, rng)))
    network = Given().initialise(whole[0].inputs, dtype=float)
    metrics = METRICS.get(kind, [])
    try:
        expected = average_scores(network, Parts(whole), loss, metrics)
    except DataError:  # nothing counts
        with pytest.raises(DataError, match="nothing to average"):
            average_scores(network, Parts(parts), loss, metrics)
        return
    found = average_scores(network, Parts(parts), loss, metrics)
    assert found == pytest.approx(expected, rel=1e-9, abs=1e-9, nan_ok=True)

    def gradients(batches):
        training = vs.Training(network, loss=loss, accumulate=len(batches))
        _, value, gradients = training.derived(batches)
        return value, gradients.flat.copy()

    value, slope = gradients(parts)
    wanted, wanted_slope = gradients(whole)
    assert value == pytest.approx(wanted, rel=1e-9)
    np.testing.assert_allclose(slope, wanted_slope, rtol=1e-8, atol=1e-10)


@pytest.mark.parametrize("name", CASES)
def test_intervals_are_those_of_resampled_examples(name):
    loss, kind = CASES[name]
    rng = np.random.default_rng(5)
    n = 9
    data = sequences(n, rng) if kind == "tokens" else examples(kind, n, rng)
    metrics = METRICS.get(kind, [])
    batches = [
        Scored(np.asarray(batch.inputs), batch.targets, batch.weights)
        for batch in divided(kind, data, None, [2, 3, 7])
    ]
    found = Assessment(
        dict.fromkeys(["loss", *(m.name for m in metrics)], 0.0), lambda: batches, loss, metrics
    )
    draws = np.random.default_rng([n, 0xB007])
    whole = joined(batches)
    values = {score: [] for score in found}
    for _ in range(400):
        index = draws.integers(0, n, n)
        outputs, targets = whole.outputs[index], whole.targets[index]
        try:
            values["loss"].append(float(loss(outputs, targets)))
        except DataError:
            values["loss"].append(np.nan)
        for metric in metrics:
            values[metric.name].append(
                metric.conclude(metric_counts(metric, loss, outputs, targets))
            )
    for score, drawn in values.items():
        if score in ("accuracy",):
            continue
        np.testing.assert_allclose(
            found.intervals[score], np.nanpercentile(drawn, [2.5, 97.5]), rtol=1e-9, err_msg=score
        )


def test_a_batch_of_ignored_labels_only_weighs_nothing_in_a_run():
    rng = np.random.default_rng(0)
    x = rng.normal(size=(12, 3)).astype(np.float32)
    labels = np.r_[np.full(4, -1), rng.integers(0, 3, 8)]
    loss = partial(losses.cross_entropy, ignored=-1)
    data = vs.data.Dataset(x, labels)
    whole, parts = (
        vs.Training(vs.Dense(3), loss=loss, metrics=[vs.metrics.accuracy], accumulate=k)
        for k in (1, 3)
    )
    one = next(iter(whole.steps(data.batches(12, shuffled=False))))
    three = next(iter(parts.steps(data.batches(4, shuffled=False))))
    assert three.loss == pytest.approx(one.loss, rel=1e-6)
    assert three.metrics == pytest.approx(one.metrics)
    np.testing.assert_allclose(three.gradients.flat, one.gradients.flat, rtol=1e-5, atol=1e-7)


def test_the_curve_of_a_network_that_stands_still_is_its_assessment():
    rng = np.random.default_rng(0)
    x = rng.normal(size=(30, 3)).astype(np.float32)
    labels = np.where(rng.random(30) < 0.5, -1, rng.integers(0, 3, 30))
    loss = partial(losses.cross_entropy, ignored=-1, class_weights=[1.0, 5.0, 0.2])
    data = vs.data.Dataset(x, labels)
    training = vs.Training(
        vs.Dense(3), loss=loss, optimiser=vs.optimisers.SGD(1e-12), metrics=[vs.metrics.accuracy]
    )
    row = training.run(data.batches(7), epochs=1, validation=None).curves.iloc[0]
    assessed = training.assess(data.batches(4))
    assert row["loss"] == pytest.approx(assessed["loss"], rel=1e-5)
    assert row["accuracy"] == pytest.approx(assessed["accuracy"])


def test_a_loss_of_ones_own_is_asked_how_it_adds_up():
    rng = np.random.default_rng(0)
    outputs, targets = rng.normal(size=(2, 9, 3))
    weights = rng.uniform(0.1, 3, 9)
    assert inferred_reduction(own_mean, outputs, targets).by == "weight"
    assert inferred_reduction(own_sum, outputs, targets).by == "sum"
    assert inferred_reduction(own_weighted, outputs, targets, weights).by == "weight"
    assert inferred_reduction(own_root, outputs, targets).by == "unknown"
    assert inferred_reduction(own_sum, outputs[:1], targets[:1]).by == "sum"

    def whole_batches_only(outputs, targets):
        if len(targets) < 9:
            raise ValueError("nine")
        return np.mean(outputs)

    assert inferred_reduction(whole_batches_only, outputs, targets).by == "unknown"


def test_a_loss_that_does_not_add_up_is_taken_of_all_examples_at_once_or_refused():
    rng = np.random.default_rng(0)
    outputs, targets = rng.normal(size=(2, 9, 3))
    network = Given().initialise(outputs, dtype=float)
    data = vs.data.Dataset(outputs, targets)
    training = vs.Training(network, loss=own_root, accumulate=2)
    found = training.assess(data.batches(2))
    assert found["loss"] == pytest.approx(float(own_root(outputs, targets)))
    low, high = found.intervals["loss"]
    assert low < found["loss"] < high
    with pytest.raises(SettingError, match="accumulate: the loss own_root of several batches"):
        next(iter(training.steps(data.batches(2))))


def test_every_loss_of_the_library_has_a_rule():
    two = {getattr(losses, kind.name) for kind in kinds("loss")}
    takes_more = {losses.triplet, losses.contrastive}
    takes_more |= {losses.batch_triplet, losses.batch_contrastive}  # of whole batches
    assert two - takes_more == set(OF_LIBRARY)
    covered = {getattr(loss, "func", loss) for loss, _ in CASES.values()}
    assert set(OF_LIBRARY) <= covered
    assert set(ELEMENTWISE) < set(OF_LIBRARY)
