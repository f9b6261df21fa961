"""Runs with planted trouble are seen through, with the layer and the epoch; sound ones raise no
alarm.
"""

import contextlib
import logging

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import NotFiniteError

o = vs.observers
LOOKING = 5


def blobs(n, seed=0, spread=1.0, noisy=0.0, classes=3, width=6):
    """Classes around centres; a share of the labels drawn anew."""
    centres = np.random.default_rng(99).normal(size=(classes, width)) * 1.5
    rng = np.random.default_rng(seed)
    labels = rng.integers(classes, size=n)
    x = (centres[labels] + spread * rng.normal(size=(n, width))).astype(np.float32)
    wrong = rng.random(n) < noisy
    return x, np.where(wrong, rng.integers(classes, size=n), labels)


def run(
    tmp_path,
    network,
    *,
    train=None,
    validation=None,
    epochs=30,
    rate=0.005,
    observers=(),
    schedule=None,
    optimiser=None,
    clip=None,
    loss=None,
):
    train = train if train is not None else blobs(400, 1)
    validation = validation if validation is not None else blobs(300, 2)
    loss = loss or vs.losses.cross_entropy
    metrics = [vs.metrics.accuracy] if loss is vs.losses.cross_entropy else []
    optimiser = optimiser or vs.optimisers.Adam(rate)
    training = vs.Training(
        network,
        loss=loss,
        metrics=metrics,
        optimiser=optimiser,
        schedule=schedule,
        seed=3,
        clip=clip,
    )
    looking = [o.Steps(), o.Norms(LOOKING), o.Distributions(LOOKING * 4), o.Samples(6), *observers]
    with contextlib.suppress(NotFiniteError):
        training.run(
            vs.data.Dataset(*train).batches(32),
            epochs=epochs,
            validation=vs.data.Dataset(*validation).batches(256),
            observers=looking,
            record=tmp_path,
        )
    return vs.runs.open(tmp_path)["run-1"]


def dense(*widths, act=vs.relu, **options):
    layers = []
    for width in widths:
        layers += [vs.Dense(width, **options), act]
    return vs.Stack(*layers, vs.Dense(3))


class KillLayer(o.Observer):
    """Puts the bias of a layer far below 0 at an epoch, as one large step does."""

    def __init__(self, path, epoch):
        self.path, self.epoch = path, epoch

    def after_epoch(self, run, row):
        if row["epoch"] == self.epoch:
            network = run.parts[""].network
            network.load(
                network.weights() | {self.path: np.full_like(network.weights()[self.path], -1e4)}
            )


def overfitting(path):
    return run(
        path,
        dense(128, 128),
        train=blobs(60, 1, spread=2.5),
        validation=blobs(400, 2, spread=2.5),
        epochs=60,
        rate=0.002,
    )


def rate_too_high(path):
    return run(path, dense(32, 32), rate=0.5, epochs=25)


def rate_too_low(path):
    return run(path, dense(32), rate=1e-7, epochs=20)


def not_finite(path):
    x, _ = blobs(400, 1)
    y = (100 * x[:, :3]).astype(np.float32)
    return run(
        path,
        dense(32, 32),
        train=(x, y),
        validation=(x[:100] + 1, y[:100]),
        optimiser=vs.optimisers.SGD(0.9),
        loss=vs.losses.squared_error,
    )


def dead_layer(path):
    return run(path, dense(16, 16, 16), observers=[KillLayer("2/bias", 12)])


def vanishing(path):
    return run(path, dense(*[12] * 8, act=vs.sigmoid), epochs=15)


def exploding(path):
    class Blow(o.Observer):
        def after_epoch(self, run, row):
            if row["epoch"] == 15:
                network = run.parts[""].network
                weights = network.weights()
                network.load(weights | {"4/weight": weights["4/weight"] * 1e5})

    return run(path, dense(16, 16, act=vs.leaky_relu), observers=[Blow()])


def plateau(path):
    return run(
        path,
        dense(16),
        train=blobs(400, 1, spread=2.0),
        validation=blobs(300, 2, spread=2.0),
        epochs=40,
        rate=0.01,
        schedule=lambda step: 1.0 if step < 60 else 0.0,
    )


def noisy_labels(path):
    return run(path, dense(8), train=blobs(600, 1, noisy=0.25), epochs=25)


def leak(path):
    def leaking(n, seed):
        x, y = blobs(n, seed, spread=4.0)
        return np.concatenate([x, 6 * np.eye(3, dtype=np.float32)[y]], axis=1), y

    return run(path, dense(16), train=leaking(400, 1), validation=leaking(300, 2))


def saturated(path):
    x, y = blobs(400, 1)
    more, labels = blobs(300, 2)
    return run(
        path,
        dense(24, act=np.tanh),
        train=(100 * x, y),
        validation=(100 * more, labels),
        epochs=20,
        rate=0.001,
    )


def does_not_move(path):
    return run(path, dense(16, 16), optimiser=vs.optimisers.Adam(0.005, rate_factors={"2/*": 0.0}))


PLANTED = {
    overfitting: ("overfitting", None, "curve"),
    rate_too_high: ("rate too high", None, 0),
    rate_too_low: ("rate too low", None, 0),
    not_finite: ("not finite", None, None),
    dead_layer: ("dead", "2", 12),
    vanishing: ("vanishing", "0", 0),
    exploding: ("exploding", None, 15),
    plateau: ("plateau", None, 60 / 13),
    noisy_labels: ("noisy labels", None, None),
    leak: ("leak", None, None),
    saturated: ("saturated", "1", 0),
    does_not_move: ("does not move", "2", 0),
}


def told(found):
    return [
        (answer.trouble, answer.layer, answer.epoch, answer.evidence)
        for answer in found
        if answer.verdict != "sound"
    ]


@pytest.mark.parametrize("plant", PLANTED, ids=lambda plant: plant.__name__)
def test_planted_trouble_is_found(tmp_path, plant, caplog):
    caplog.set_level(logging.ERROR, "vinestep")
    trouble, layer, epoch = PLANTED[plant]
    record = plant(tmp_path)
    found = record.diagnose()
    named = [answer for answer in found if answer.trouble == trouble]
    assert named, told(found)
    answer = named[0]
    if layer is not None:
        assert answer.layer == layer, told(found)
    if epoch == "curve":
        curves = record.curves
        epoch = curves["epoch"][
            curves["validation_loss"].rolling(5, center=True, min_periods=1).mean().idxmin()
        ]
    if epoch is not None:
        assert answer.epoch == pytest.approx(epoch, abs=0.1 * max(record.epochs, 1) + 0.5), told(
            found
        )


SOUND = {
    "dense": lambda path: run(path, dense(16)),
    "deeper": lambda path: run(path, dense(32, 32, 32), rate=0.002, epochs=12),
    "tanh": lambda path: run(path, dense(16, 16, act=np.tanh), epochs=20),
    "gelu": lambda path: run(path, dense(24, act=vs.gelu), epochs=15),
    "dropout": lambda path: run(
        path, vs.Stack(vs.Dense(32), vs.relu, vs.Dropout(0.3), vs.Dense(3)), epochs=15
    ),
    "norm": lambda path: run(
        path, vs.Stack(vs.Dense(32), vs.BatchNorm(), vs.relu, vs.Dense(3)), rate=0.001, epochs=10
    ),
    "layer_norm": lambda path: run(
        path, vs.Stack(vs.Dense(24), vs.LayerNorm(), vs.gelu, vs.Dense(3)), epochs=12
    ),
    "sgd": lambda path: run(
        path, dense(16), optimiser=vs.optimisers.SGD(0.05, momentum=0.9), epochs=15
    ),
    "residual": lambda path: run(
        path,
        vs.Stack(
            vs.Dense(16), vs.Residual(vs.Stack(vs.Dense(16), vs.relu, vs.Dense(16))), vs.Dense(3)
        ),
        epochs=15,
        rate=0.002,
    ),
    "cosine": lambda path: run(path, dense(16), epochs=20, schedule=vs.schedules.cosine(260)),
    "hard": lambda path: run(
        path,
        dense(8),
        train=blobs(800, 1, spread=3.0),
        validation=blobs(500, 2, spread=3.0),
        epochs=12,
        rate=0.002,
    ),
    "numbers": lambda path: run(
        path,
        dense(16),
        epochs=20,
        loss=vs.losses.squared_error,
        rate=0.003,
        train=(blobs(500, 1)[0], np.tanh(blobs(500, 1)[0][:, :3])),
        validation=(blobs(300, 2)[0], np.tanh(blobs(300, 2)[0][:, :3])),
    ),
}


@pytest.mark.parametrize("name", SOUND)
def test_sound_runs_raise_no_alarm(tmp_path, name):
    found = SOUND[name](tmp_path).diagnose()
    assert not told(found)
    assert {answer.question for answer in found} >= {
        "learning",
        "overfitting",
        "layers",
        "optimiser",
        "mistakes",
    }


def test_a_validation_part_with_gaps_is_told_of(tmp_path):
    x = np.random.default_rng(0).normal(size=(120, 3)).astype("f4")
    train, validation = vs.data.Dataset(x, (x[:, 0] > 0).astype(int)).split(0.7, 0.3, seed=0)
    validation.inputs[2, 1] = np.nan
    training = vs.Training(vs.Dense(2), task=vs.tasks.Classes())
    found = training.rehearse(train.batches(16), validation.batches(64), quick=True).findings
    assert [one for one in found if "no score of it is a number" in one.evidence]
    training.run(train.batches(16), validation=validation.batches(64), epochs=6, record=tmp_path)
    record = vs.runs.open(tmp_path)["run-1"]
    assert [one for one in record.diagnose() if one.subject == "the validation loss"]
    assert record.held_out["targets"] == {}


def test_the_record_knows_what_a_constant_answer_gets(tmp_path):
    rng = np.random.default_rng(0)
    x = rng.normal(size=(400, 3)).astype("f4")
    y = rng.choice(3, 400, p=[0.6, 0.3, 0.1])
    train, validation = vs.data.Dataset(x, y).split(0.5, 0.5, seed=0)
    training = vs.Training(vs.Dense(3), task=vs.tasks.Classes(), optimiser=vs.optimisers.Adam(0.05))
    training.run(train.batches(20), validation=validation.batches(200), epochs=8, record=tmp_path)
    record = vs.runs.open(tmp_path)["run-1"]
    shares = np.bincount(train.targets, minlength=3) / 200
    expected = -np.mean(np.log(shares)[validation.targets])
    assert record.about["baseline"]["validation_loss"] == pytest.approx(expected, rel=1e-4)
    (found,) = [one for one in record.diagnose() if one.subject == "what was learned"]
    assert found.verdict == "wrong"
    assert found.trouble == "chance"
    learning = [one for one in record.diagnose() if one.question == "learning"]
    assert not [one for one in learning if one.cure and not one.is_trouble]
    told = record.held_out["targets"][""]
    assert sum(told["true"]) == sum(told["decided"]) == 200
