"""Temporal classification against the sum over all paths, and its search against all sequences."""

import itertools
from collections import defaultdict

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy.special import log_softmax

import vinestep as vs
from vinestep._alignment import alignment_loss, best_labels
from vinestep.errors import DataError, ShapeError


def collapsed(path, blank):
    kept = [label for i, label in enumerate(path) if i == 0 or path[i - 1] != label]
    return tuple(label for label in kept if label != blank)


def by_paths(logits):
    """The probability of every sequence of labels."""
    logs, blank = log_softmax(logits, axis=1), logits.shape[1] - 1
    found = defaultdict(float)
    for path in itertools.product(range(blank + 1), repeat=len(logits)):
        found[collapsed(path, blank)] += np.exp(sum(logs[t, k] for t, k in enumerate(path)))
    return found


@settings(max_examples=40, deadline=None)
@given(st.integers(1, 5), st.integers(1, 3), st.integers(0, 9999))
def test_the_loss_is_the_sum_over_all_paths(time, classes, seed):
    rng = np.random.default_rng(seed)
    logits = 2 * rng.normal(size=(3, time, classes + 1))
    tables = [by_paths(one) for one in logits]
    chosen = [list(table)[rng.integers(len(table))] for table in tables]
    length = max(1, *map(len, chosen))
    labels = np.full((3, length), -1)
    for row, sequence in zip(labels, chosen, strict=True):
        row[: len(sequence)] = sequence
    expected = [-np.log(table[one]) for table, one in zip(tables, chosen, strict=True)]
    loss = vs.losses.temporal_classification
    np.testing.assert_allclose(loss(logits, labels, reduction="none"), expected, rtol=1e-9)
    np.testing.assert_allclose(alignment_loss.definition(logits, labels), expected, rtol=1e-9)
    assert vs.check_gradients(lambda z: loss(z, labels), logits).ok


def test_kernel_and_definition_have_the_same_slopes_and_second_derivatives():
    rng = np.random.default_rng(0)
    logits, labels = rng.normal(size=(2, 4, 3)), np.array([[0, 0], [1, -1]])
    ours = vs.gradient_of(lambda z: np.sum(alignment_loss(z, labels) ** 2))(logits)
    plain = vs.gradient_of(lambda z: np.sum(alignment_loss.definition(z, labels) ** 2))(logits)
    np.testing.assert_allclose(ours, plain, atol=1e-12)
    hessian = vs.hessian_of(lambda z: vs.losses.temporal_classification(z, labels))(logits)
    slope = vs.gradient_of(lambda z: vs.losses.temporal_classification(z, labels))
    step = np.zeros(logits.shape)
    step[0, 1, 2] = 1e-5
    along = (slope(logits + step) - slope(logits - step)) / 2e-5
    np.testing.assert_allclose(hessian[..., 0, 1, 2], along, atol=1e-8)


@settings(max_examples=30, deadline=None)
@given(st.integers(1, 5), st.integers(1, 3), st.integers(0, 9999))
def test_the_search_finds_the_likeliest_sequence(time, classes, seed):
    logits = 2 * np.random.default_rng(seed).normal(size=(time, classes + 1))
    table = by_paths(logits)
    found = best_labels(logits[None], beams=400)[0]
    assert table[tuple(found)] == pytest.approx(max(table.values()))
    path = best_labels(logits[None])[0]
    assert tuple(path) == collapsed(logits.argmax(axis=1).tolist(), classes)


def test_long_sequences_stay_finite():
    logits = np.random.default_rng(0).normal(size=(2, 400, 30)).astype(np.float32) * 20
    labels = np.random.default_rng(1).integers(0, 29, (2, 80))
    value, slopes = vs.gradient_of(
        lambda z: vs.losses.temporal_classification(z, labels), with_value=True
    )(logits)
    assert np.isfinite(value)
    assert np.isfinite(slopes).all()
    np.testing.assert_allclose(slopes.sum(axis=2), 0, atol=1e-4)


def test_what_does_not_fit_is_refused_in_words():
    loss = vs.losses.temporal_classification
    with pytest.raises(DataError, match="row 1 needs 3 times"):
        loss(np.zeros((2, 2, 3)), [[0, 1], [1, 1]])
    with pytest.raises(DataError, match="label 2 in row 0"):
        loss(np.zeros((1, 4, 3)), [[2]])
    with pytest.raises(DataError, match="what follows the last"):
        loss(np.zeros((1, 4, 3)), [[-1, 1]])
    with pytest.raises(ShapeError, match="length"):
        loss(np.zeros((1, 4, 3)), [0])
    with pytest.raises(DataError, match="whole numbers"):
        loss(np.zeros((1, 4, 3)), [[0.5]])


def lines(n, seed=0):
    """Strips of 0 to 3 letters, each two columns wide, with gaps between them."""
    rng = np.random.default_rng(seed)
    shapes = rng.normal(size=(3, 2, 4))
    inputs, labels = np.zeros((n, 14, 4), np.float32), np.full((n, 3), -1)
    for x, row in zip(inputs, labels, strict=True):
        at = 0
        for i in range(rng.integers(1, 4)):
            at += int(rng.integers(1, 3))
            row[i] = rng.integers(3)
            x[at : at + 2] = shapes[row[i]]
            at += 2
    inputs += 0.1 * rng.normal(size=inputs.shape).astype(np.float32)
    return vs.data.Dataset(inputs, labels, class_values=("a", "b", "c"))


def test_lines_are_read_and_the_model_file_reads_them_too(tmp_path):
    train, test = lines(300).split(0.8, 0.2)
    training = vs.Training(
        vs.Stack(vs.Dense(24, np.tanh), vs.GRU(16), vs.Dense(4)),
        task=vs.tasks.Unaligned(),
        optimiser=vs.optimisers.Adam(0.01),
    )
    outcome = training.run(train.batches(32), validation=test.batches(60), epochs=25)
    assert outcome.best_row["validation_token_error_rate"] < 0.1
    found = training.assess(test.batches(7))
    model = training.model()
    again = vs.open_model(model.save(tmp_path / "lines.vine"))
    assert again.assess(test)["loss"] == pytest.approx(found["loss"], rel=1e-5)
    predicted = again.predict(test.inputs)["predicted"]
    true = ["".join("abc"[i] for i in row if i >= 0) for row in test.targets]
    assert vs.metrics.character_error_rate(predicted.tolist(), true) == pytest.approx(
        found["token_error_rate"]
    )
    low, high = found.intervals["token_error_rate"]
    assert low <= found["token_error_rate"] <= high
