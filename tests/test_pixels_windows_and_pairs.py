"""Segmentation, unaligned chalk, windows of several steps, losses over pairs of a batch, and plain
functions as transforms.
"""

import numpy as np
import pandas as pd
import pytest
from scipy.special import log_softmax

import vinestep as vs
from vinestep.errors import DataError, SettingError, ShapeError
from vinestep.training.plans._plan import read_plan
from vinestep.training.plans._planned_run import PlannedRun


def test_spots_on_leaves_are_found(tmp_path):
    found = vs.demo.leaf_spots(120)
    assert set(np.unique(found.masks)) == {0, 1, 2}
    data = vs.data.Dataset(found.pictures, found.masks, class_values=found.names)
    train, test = data.split(0.75, 0.25)
    training = vs.Training(
        vs.networks.UShaped(3, channels=(8, 16)),
        task=vs.tasks.Classes(),
        metrics=[vs.metrics.accuracy, vs.metrics.intersection_over_union()],
        optimiser=vs.optimisers.Adam(0.01),
    )
    outcome = training.run(train.batches(16), validation=test.batches(30), epochs=6)
    assert outcome.best_row["validation_intersection_over_union"] > 0.5
    model = vs.open_model(training.model().save(tmp_path / "spots.vine"))
    scores = training.assess(test.batches(8))
    assert model.assess(test)["accuracy"] == pytest.approx(scores["accuracy"], abs=1e-6)
    answers = model.predict(test.inputs)
    shares = answers[[f"share {name}" for name in found.names]].to_numpy()
    np.testing.assert_allclose(shares.sum(axis=1), 1)
    cell = np.array(answers["predicted"][0])
    assert cell.shape == (32, 32)
    assert (cell == "leaf").mean() == pytest.approx(shares[0, 1])
    with pytest.raises(ShapeError, match="cannot be halved"):
        vs.networks.UShaped(2).initialise(np.ones((1, 10, 10, 1)))


def test_chalk_is_read_without_alignment_by_a_plan(tmp_path):
    (tmp_path / "plan.toml").write_text("""
name = "chalk"
steps = 6
task = "unaligned"
metrics = ["token_error_rate"]
[data]
source = { kind = "demo_chalk", n = 60 }
batch = 8
[[layers]]
kind = "gru"
width = 12
[[layers]]
kind = "dense"
width = "outputs"
""")
    run = PlannedRun(read_plan(tmp_path / "plan.toml"), tmp_path)
    outcome = run.run(record=tmp_path / "records")
    assert np.isfinite(outcome.rows[-1]["loss"])
    assert run.training.network[-1].width == len(run.source.class_values) + 1
    samples = sorted(outcome.folder.rglob("samples-*.csv"))
    last = pd.read_csv(samples[-1], dtype={"truth": str, "output": str}, keep_default_na=False)
    assert last["truth"].str.len().between(3, 6).all()
    errors = last["error"].to_numpy()
    pairs = zip(last["output"], last["truth"], strict=True)
    edits = [vs.metrics.edit_distance(*pair) for pair in pairs]
    np.testing.assert_allclose(errors, edits / last["truth"].str.len(), atol=1e-6)


def test_casks_are_trained_for_both_targets():
    table = vs.data.Table(
        vs.demo.casks(300), targets=["state", "alcohol"], target_gaps=True, weight="tasters"
    )
    assert "tasters" not in table.feature_names
    assert table.weights.min() == 1
    train, test = table.split(0.8, 0.2, stratified="state")
    train, test = vs.data.scaled(train, test)
    heads = {"state": vs.Dense(3), "alcohol": vs.Dense(1)}
    training = vs.Training(
        vs.Heads(vs.Dense(16, vs.relu), heads),
        task=vs.tasks.task_for(train),
        optimiser=vs.optimisers.Adam(0.02),
    )
    outcome = training.run(train.batches(32), validation=test.batches(100), epochs=10)
    losses = [row["validation_loss"] for row in outcome.rows]
    assert min(losses) < losses[0] / 4


def test_windows_of_several_steps_with_what_is_known_ahead():
    series = np.arange(20, dtype=np.float32)[:, None]
    calendar = series % 7
    found = vs.data.sequences.windows(series, 4, ahead=[1, 3], step=2, known=calendar)
    window, future = found.inputs
    assert window[:, :, 0].tolist()[:2] == [[0, 1, 2, 3], [2, 3, 4, 5]]
    assert found.targets[:2, :, 0].tolist() == [[4, 6], [6, 8]]
    assert future[:2, :, 0].tolist() == [[4, 6], [6, 1]]
    assert found.targets[-1].max() <= 19
    one = vs.data.sequences.windows(series, 4, ahead=3)
    np.testing.assert_array_equal(one.targets[:, 0], np.arange(6.0, 20))

    class Foretold(vs.Layer):
        def __init__(self):
            self.past, self.both = vs.GRU(4), vs.Dense(1)

        def compute(self, window, future):
            seen = self.past(window)[:, -1]
            wide = np.broadcast_to(seen[:, None], (*future.shape[:2], seen.shape[-1]))
            return self.both(np.concatenate([wide, future], axis=-1))

    training = vs.Training(Foretold(), task=vs.tasks.Numbers())
    outcome = training.run(found.batches(4), epochs=2)
    assert np.isfinite(outcome.rows[-1]["loss"])
    assert training.outputs(found).shape == found.targets.shape
    with pytest.raises(SettingError, match="ahead must be"):
        vs.data.sequences.windows(series, 4, ahead=[0])
    with pytest.raises(DataError, match="what is known"):
        vs.data.sequences.windows(series, 4, known=calendar[:3])


def test_losses_over_pairs_are_their_definitions():
    rng = np.random.default_rng(0)
    x, kinds = rng.normal(size=(9, 3)), np.array([0, 0, 1, 1, 1, 2, 2, 0, 3])
    apart = np.linalg.norm(x[:, None] - x[None], axis=2)
    same = kinds[:, None] == kinds[None]
    each = [
        max(0, 0.5 + apart[i][same[i] & (np.arange(9) != i)].max() - apart[i][~same[i]].min())
        for i in range(8)
    ]
    assert vs.losses.batch_triplet(x, kinds, margin=0.5) == pytest.approx(np.mean(each))
    unit = x / np.linalg.norm(x, axis=1, keepdims=True)
    each = []
    for i in range(8):
        others = np.arange(9) != i
        logs = np.full(9, np.nan)
        logs[others] = log_softmax(unit[i] @ unit[others].T / 0.2)
        each.append(-logs[others & same[i]].mean())
    found = vs.losses.batch_contrastive(x, kinds, temperature=0.2)
    assert found == pytest.approx(np.mean(each))
    for loss in (vs.losses.batch_triplet, vs.losses.batch_contrastive):
        assert vs.check_gradients(lambda z, loss=loss: loss(z, kinds), x).ok
        with pytest.raises(DataError, match="its kind"):
            loss(x[:2], [0, 1])
        with pytest.raises(ShapeError, match="kinds"):
            loss(x, kinds[:3])
    data = vs.data.Dataset(np.repeat(np.eye(3), 8, axis=0), np.repeat(np.arange(3), 8))
    training = vs.Training(vs.Dense(2), loss=vs.losses.batch_contrastive)
    outcome = training.run(data.batches(12), epochs=2)
    assert np.isfinite(outcome.rows[-1]["loss"])


def test_functions_transform_and_augment():
    x = np.arange(12.0).reshape(6, 2)
    data = vs.data.Dataset(x, np.arange(6)).prepared(lambda values: values / 2)
    assert data[1][0].tolist() == [1.0, 1.5]

    def noisy(one, rng):
        return one + rng.normal(size=one.shape)

    first, again = (
        [b.inputs for b in data.batches(4, augment=noisy).epoch(0, seed=1)] for _ in range(2)
    )
    np.testing.assert_array_equal(first[0], again[0])
    by_reader = [b.inputs for b in data.batches(4, augment=noisy, readers=2).epoch(0, seed=1)]
    np.testing.assert_array_equal(first[1], by_reader[1])
    other = next(data.batches(4, augment=noisy).epoch(1, seed=1)).inputs
    assert not np.array_equal(np.sort(other, axis=0), np.sort(first[0], axis=0))
    with pytest.raises(DataError, match="Keep the first axis"):
        next(data.batches(4, augment=lambda values: values[:1]).epoch(0))
    with pytest.raises(DataError, match="random"):
        vs.data.Dataset(x).prepared(noisy)
