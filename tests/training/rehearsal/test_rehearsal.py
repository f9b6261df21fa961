"""Mistakes planted in trainings, which the rehearsal has to find, and sound ones, on which it has
to say nothing.
"""

import copy
import re
import time

import numpy as np
import pytest

import vinestep as vs
from vinestep.training.plans._plan import read_plan
from vinestep.training.plans._planned_run import PlannedRun
from vinestep.training.rehearsal._covariate_shift import covariate_shift
from vinestep.training.rehearsal._stage import Stage

SEED = np.random.SeedSequence(8)


def points(n=600, seed=0, features=6):
    """Three classes, told by a curved border."""
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(n, features)).astype("f4")
    score = x[:, 0] * x[:, 1] + x[:, 2]
    return x, np.digitize(score, [-0.5, 0.5])


def split(x, y, **options):
    data = vs.data.Dataset(
        x, y, class_values=("a", "b", "c") if y.dtype.kind in "iu" else (), **options
    )
    train, validation = data.split(0.75, 0.25, seed=1)
    return train, validation


def net(*layers):
    return (
        vs.Stack(*layers)
        if layers
        else vs.Stack(vs.Dense(24, vs.relu), vs.Dense(24, vs.relu), vs.Dense(3))
    )


def training(network=None, **options):
    options = {
        "loss": vs.losses.cross_entropy,
        "metrics": [vs.metrics.accuracy],
        "seed": 3,
        **options,
    }
    return vs.Training(network if network is not None else net(), **options)


class AlwaysDropping(vs.Layer):
    def compute(self, x):
        return x * (np.random.default_rng().random(np.shape(vs.held(x))) > 0.5)


class OverTheBatch(vs.Layer):
    def compute(self, x):
        return x - np.mean(x, axis=0)


class Forgetful(vs.Layer):
    """Ignores what it is given."""

    def declare(self, shape):
        self.parameter("weight", (shape[-1], 3), vs.initialisers.glorot_uniform)

    def compute(self, x):
        return x * 0 @ self.weight


@vs.differentiable(adjoint=lambda g, y, x: (g * 2,))
def wrongly_differentiated(x):
    return np.sin(x) + x


def shuffled_labels():
    x, y = points()
    return training(), *split(x, np.random.default_rng(5).permutation(y))


def forgotten_activation():
    return training(net(vs.Dense(24), vs.Dense(24), vs.Dense(3))), *split(*points())


def softmax_twice():
    return training(net(vs.Dense(24, vs.relu), vs.Dense(3), vs.softmax)), *split(*points())


def relu_at_the_end():
    return training(net(vs.Dense(24, vs.relu), vs.Dense(3, vs.relu))), *split(*points())


def frozen_at_random():
    network = net().initialise(points()[0][:1], seed=3)
    network.freeze("0/*")
    return training(network), *split(*points())


def transposed_pictures():
    leaves = vs.demo.leaves(400)
    stripes = leaves.pictures + np.linspace(0, 1, 32, dtype="f4")[:, None, None]
    train, validation = split(stripes, leaves.labels % 3)
    turned = vs.data.Dataset(validation.inputs.swapaxes(1, 2), validation.targets)
    return training(net(vs.Flatten(), vs.Dense(16, vs.relu), vs.Dense(3))), train, turned


def channels_first():
    x = np.random.default_rng(0).random((200, 3, 16, 16)).astype("f4")
    return training(net(vs.Flatten(), vs.Dense(16, vs.relu), vs.Dense(3))), *split(
        x, points(200)[1]
    )


def scaled_twice():
    x, y = points()
    x = x * 6 + 20
    middle, spread = x[:450].mean(0), x[:450].std(0)
    scale = lambda values: (values - middle) / spread  # noqa: E731
    return (
        training(),
        vs.data.Dataset(scale(x[:450]), y[:450]),
        vs.data.Dataset(scale(scale(x[450:])), y[450:]),
    )


def not_scaled():
    x, y = points()
    return training(), *split(x * 400 + 2000, y)


def validation_is_training():
    train, _ = split(*points())
    return training(), train, vs.data.Dataset(train.inputs[:100], train.targets[:100])


def dropout_in_inference():
    return training(net(vs.Dense(24, vs.relu), AlwaysDropping(), vs.Dense(3))), *split(*points())


def rate_a_thousand_times_too_large():
    return training(optimiser=vs.optimisers.Adam(3.0)), *split(*points())


def rate_a_million_times_too_small():
    return training(optimiser=vs.optimisers.SGD(1e-9)), *split(*points())


def leak_between_examples():
    return training(net(vs.Dense(24, vs.relu), OverTheBatch(), vs.Dense(3))), *split(*points())


def inputs_ignored():
    return training(net(Forgetful())), *split(*points())


def dead_units():
    network = net().initialise(points()[0][:1], seed=3)
    network.weights()["0/bias"][...] = -50
    return training(network), *split(*points())


def weights_far_too_large():
    layers = (
        vs.Dense(24, vs.relu, initialiser=lambda rng, shape: rng.normal(size=shape) * 30),
        vs.Dense(3),
    )
    return training(net(*layers)), *split(*points())


def vanishing_by_depth():
    return training(net(*(vs.Dense(16, vs.sigmoid) for _ in range(12)), vs.Dense(3))), *split(
        *points()
    )


def classes_out_of_balance():
    x, y = points(900)
    keep = (y == 1) | (np.arange(900) % 60 == 0)
    return training(), *split(x[keep], y[keep])


def wrong_derivative():
    return training(net(vs.Dense(24), wrongly_differentiated, vs.Dense(3))), *split(*points())


def holes_in_the_inputs():
    x, y = points()
    x[7, 2] = np.nan
    return training(), *split(x, y)


def targets_of_another_unit():
    x, _ = points()
    return training(
        vs.Stack(vs.Dense(16, vs.relu), vs.Dense(1)), loss=vs.losses.squared_error, metrics=[]
    ), *split(x, 5e4 + 900 * x[:, :1])


def the_target_is_a_column():
    x, y = points()
    return training(), *split(np.column_stack([x, y.astype("f4")]), y)


def decay_too_strong():
    return training(optimiser=vs.optimisers.Adam(0.01, weight_decay=30.0)), *split(*points())


def one_class_is_missing():
    x, y = points()
    train, _ = split(x[y < 2], y[y < 2])
    other = vs.data.Dataset(points(100, 4)[0], points(100, 4)[1], class_values=("a", "b", "c"))
    return training(), train, other


def wrong_shape():
    return training(net(vs.Dense(24, vs.relu), vs.Dense(5))), *split(
        points()[0], points()[1].astype("f4")[:, None] + np.zeros((1, 3), "f4")
    )


MISTAKES = {
    shuffled_labels: "inputs and targets",
    forgotten_activation: "the layers",
    softmax_twice: "the outputs",
    relu_at_the_end: "the outputs",
    frozen_at_random: "frozen parameters",
    transposed_pictures: "validation part",
    channels_first: "the pictures",
    scaled_twice: "the inputs of the validation part",
    not_scaled: "the inputs",
    validation_is_training: "training and validation",
    dropout_in_inference: "the inference pass",
    rate_a_thousand_times_too_large: "the rate",
    rate_a_million_times_too_small: "the rate",
    leak_between_examples: "the batch axis",
    inputs_ignored: "the outputs",
    dead_units: "layer 0",
    weights_far_too_large: "the weights",
    vanishing_by_depth: "the gradients",
    classes_out_of_balance: "the classes",
    wrong_derivative: "the derivatives",
    holes_in_the_inputs: "the inputs",
    targets_of_another_unit: "the targets",
    the_target_is_a_column: "column 6",
    decay_too_strong: "the weight decay",
    one_class_is_missing: "the validation part",
    wrong_shape: "the first loss",
}


@pytest.mark.parametrize("plant", MISTAKES, ids=lambda plant: plant.__name__)
def test_a_planted_mistake_is_found(plant):
    one, train, validation = plant()
    found = one.rehearse(train.batches(32), validation.batches(64))
    told = [finding for finding in found.troubles if MISTAKES[plant] in finding.subject]
    assert told, str(found)
    assert all(finding.cure for finding in found.troubles)
    assert found.verdict != "sound"


def sound_ones():
    yield "points", training(), *split(*points())
    x, _ = points()
    network = vs.Stack(vs.Dense(16, np.tanh), vs.Dropout(0.2), vs.Dense(1))
    yield (
        "numbers",
        training(network, loss=vs.losses.squared_error, metrics=[]),
        *split(x, (x[:, :1] * x[:, 1:2])),
    )
    normed = net(vs.Dense(24), vs.BatchNorm(), vs.relu, vs.Dense(3))
    yield (
        "normed",
        training(normed, optimiser=vs.optimisers.SGD(0.1, momentum=0.9), clip=1.0),
        *split(*points()),
    )
    schedule = vs.schedules.warmup(20).then(vs.schedules.cosine(100))
    yield (
        "scheduled",
        training(optimiser=vs.optimisers.AdamW(3e-3), schedule=schedule),
        *split(*points()),
    )
    leaves = vs.demo.leaves(500)
    convolutional = net(
        vs.Convolution(8, 3, activation=vs.relu),
        vs.MaxPool(2),
        vs.Convolution(8, 3, activation=vs.relu),
        vs.GlobalMean(),
        vs.Dense(6),
    )
    data = vs.data.Dataset(leaves.pictures, leaves.labels, class_values=leaves.names)
    yield "leaves", training(convolutional), *data.split(0.75, 0.25, seed=1, stratified=True)
    tanks = vs.demo.ferments(300, hours=24)
    series = vs.data.Dataset(
        (tanks.series / [100, 20]).astype("f4"), (tanks.hours_until_dry[:, None] / 48).astype("f4")
    )
    reader = vs.Stack(vs.GRU(12, output="last"), vs.Dense(1))
    yield (
        "ferments",
        training(reader, loss=vs.losses.squared_error, metrics=[]),
        *series.split(0.75, 0.25, seed=1),
    )


@pytest.mark.parametrize("case", list(sound_ones()), ids=lambda case: case[0])
def test_sound_trainings_raise_no_alarm_and_are_left_as_they_were(case):
    _, one, train, validation = case
    one.network.initialise(train.inputs[:1], seed=3)
    before, optimiser = one.network.arena.values.copy(), copy.deepcopy(one.optimiser.state)
    found = one.rehearse(train.batches(32), validation.batches(64), steps=1000)
    assert [str(finding) for finding in found.troubles] == []
    assert {"the first loss", "the batch axis", "the rate", "the whole way", "time and memory"} <= {
        f.subject for f in found.findings
    } | {"the first loss"}
    assert one.step_number == 0
    np.testing.assert_array_equal(one.network.arena.values, before)
    assert optimiser.keys() == one.optimiser.state.keys()
    assert list(found.table()) == ["subject", "verdict", "evidence", "cure"]


@pytest.mark.parametrize("name", ["barrels", "harvest", "parcels"])
def test_the_demo_sets_raise_no_alarm(tmp_path, name):
    target = {"barrels": "state", "harvest": "yield", "parcels": "parcel"}[name]
    frame = getattr(vs.demo, name)()
    target = target if target in frame else frame.columns[-1]
    width = "classes"
    layers = (
        f'layers = [{{kind = "dense", width = 32, activation = "relu"}}, {{kind = "dense", '
        f'width = "{width}"}}]'
    )
    (tmp_path / "plan.toml").write_text(
        f'epochs = 20\n{layers}\n[data]\nsource = "demo:{name}"\ntarget = "{target}"\n'
    )
    run = PlannedRun(read_plan(tmp_path / "plan.toml"), tmp_path)
    found = run.training.rehearse(run.train_batches(), run.scored_batches(run.validation))
    assert [str(finding) for finding in found.troubles] == []


def test_the_quick_part_takes_under_a_second():
    one, train, validation = training(), *split(*points())
    one.rehearse(train.batches(32), validation.batches(64), quick=True)
    begun = time.perf_counter()
    found = one.rehearse(train.batches(32), validation.batches(64), quick=True)
    assert found.seconds <= time.perf_counter() - begun
    assert found.verdict == "sound"
    assert {"by_heart", "whole_way"}.isdisjoint(found.times)


def test_a_stream_and_several_inputs_are_rehearsed():
    class Two(vs.Layer):
        def __init__(self):
            self.a, self.b = vs.Dense(3), vs.Dense(3)

        def compute(self, sugar, acid):
            return self.a(sugar) + self.b(acid)

    x, y = points()
    data = vs.data.Dataset({"sugar": x[:, :3], "acid": x[:, 3:]}, y)
    found = training(Two()).rehearse(data.batches(32))
    assert not [f for f in found.troubles if f.verdict == "wrong"], str(found)
    stream = vs.data.Stream(lambda: iter(zip(x, y, strict=True)))
    found = training().rehearse(stream.batches(64, epoch_steps=5))
    assert not [f for f in found.troubles if f.verdict == "wrong"], str(found)


@pytest.mark.parametrize(
    ("rate", "told"), [(3.0, "with a warm-up over 20 steps"), (1e-9, "10 times")]
)
def test_another_rate_is_tried_before_it_is_advised(rate, told):
    train, validation = split(*points())
    own = training(optimiser=vs.optimisers.SGD(rate * 10))
    found = own.rehearse(train.batches(32), validation.batches(64), quick=True)
    (advice,) = [one for one in found.findings if one.subject == "the rate"]
    assert advice.is_trouble
    assert "Tried: in " in advice.cure
    assert told in advice.cure


@pytest.mark.parametrize("by", ["alone", "name", "place"])
def test_scaled_inputs_are_tried_before_they_are_advised(by):
    x, y = points()
    large, small = x[:, :3] * 900 + 4000, x[:, 3:]
    inputs, network = {
        "alone": (np.concatenate([large, small], axis=1), net(vs.Dense(3))),
        "name": ({"large": large, "small": small}, OfTwo()),
        "place": ((large, small), OfTwo()),
    }[by]
    data = vs.data.Dataset(inputs, y)
    found = training(network).rehearse(data.batches(32), quick=True).findings
    (advice,) = [one for one in found if "learned best" in one.evidence]
    plain, scaled = map(float, re.findall(r" to ([\d.e+]+)[;.]", advice.cure))
    assert scaled < plain / 2, advice.cure


def test_scaled_targets_are_tried_before_they_are_advised():
    x, _ = points()
    targets = (x[:, :1] * 4e4 + 2e5).astype(np.float32)
    own = training(net(vs.Dense(1)), loss=vs.losses.squared_error, metrics=[])
    found = own.rehearse(vs.data.Dataset(x, targets).batches(32), quick=True).findings
    (advice,) = [one for one in found if one.subject == "the targets"]
    plain, scaled = map(float, re.findall(r"(\d+)%", advice.cure))
    assert scaled < plain / 2, advice.cure


class OfTwo(vs.Layer):
    def __init__(self):
        self.a, self.b = vs.Dense(3), vs.Dense(3)

    def compute(self, large, small):
        return self.a(large) + self.b(small)


def in_another_order(rng, x):
    return x[:, ::-1].copy()


def each_column_by_itself(rng, x):
    return np.stack([rng.permutation(column) for column in x.T], axis=1)


@pytest.mark.parametrize("moved", [in_another_order, each_column_by_itself])
def test_parts_that_differ_only_in_how_columns_go_together_are_told_apart(moved):
    rng = np.random.default_rng(0)
    x = rng.normal(size=(600, 4)).astype(np.float32)
    x[:, 1] += 2 * x[:, 0]
    x = (x / x.std(axis=0)).astype(np.float32)
    y = (x[:, 2] > 0).astype(int)
    train = vs.data.Dataset(x[:400], y[:400])
    for inputs, verdict in ((x[400:], "sound"), (moved(rng, x[400:]), "suspicious")):
        validation = vs.data.Dataset(inputs, y[400:])
        found = training(net(vs.Dense(2))).rehearse(
            train.batches(32), validation.batches(64), quick=True
        )
        (told,) = [one for one in found.findings if one.subject == "the inputs of both parts"]
        assert told.verdict == verdict, told


def test_equal_parts_are_told_apart_as_often_as_the_level_says():
    rng = np.random.default_rng(3)
    apart = 0
    for _ in range(60):
        x = rng.normal(size=(160, 3)).astype(np.float32)
        parts = [vs.data.Dataset(rows, np.zeros((len(rows), 1))) for rows in (x[:80], x[80:])]
        own = training(net(vs.Dense(1)), loss=vs.losses.squared_error, metrics=[])
        stage = stage_of(own, *(part.batches(80) for part in parts))
        apart += next(covariate_shift(stage)).verdict != "sound"
    assert apart <= 2


def test_examples_that_follow_one_another_in_time_are_no_random_draws():
    rng = np.random.default_rng(0)
    walk = np.cumsum(rng.normal(size=(600, 2)), axis=0).astype(np.float32)
    walk = (walk - walk.mean(axis=0)) / walk.std(axis=0)
    data = vs.data.Dataset(walk, (walk[:, 0] > 0).astype(int))
    parts = data.rows(np.arange(450)), data.rows(np.arange(450, 600))
    found = training(net(vs.Dense(2))).rehearse(
        parts[0].batches(32), parts[1].batches(150), quick=True
    )
    (told,) = [one for one in found.findings if one.subject == "the inputs of both parts"]
    assert told.verdict == "unclear", told
    assert "follow one another" in told.evidence


def stage_of(own, train, validation):
    own.initialise(train.sample())
    return Stage(own, train, validation, train.sample(), validation.sample())


def test_targets_that_follow_without_error_are_told_of():
    rng = np.random.default_rng(0)
    x = rng.normal(size=(300, 4)).astype("f4")
    sums = vs.data.Dataset(x, x[:, :2].sum(axis=1, keepdims=True))
    own = training(net(vs.Dense(1)), loss=vs.losses.squared_error, metrics=[])
    found = own.rehearse(sums.batches(32)).findings
    (told,) = [one for one in found if one.subject == "inputs and targets"]
    assert told.verdict == "unclear"
    assert "several together" in told.cure


G = vs.generation


@pytest.mark.parametrize(
    "network",
    [
        lambda: G.Diffusion(vs.layers.ConditionedDense(2, width=16), embedding="fourier"),
        lambda: G.Diffusion(
            vs.layers.ConditionedDense(2, width=16), noise=G.Straight(), predicts="flow", classes=2
        ),
        lambda: G.VariationalAutoencoder(vs.Dense(16, vs.relu), vs.Dense(2), latent=2),
        lambda: G.Autoencoder(vs.Dense(16, vs.relu), vs.Dense(2)),
        lambda: G.QuantisedAutoencoder(vs.Dense(4), vs.Dense(2), codes=8, width=4),
    ],
)
def test_nothing_bad_is_said_of_networks_that_make_examples(network):
    rng = np.random.default_rng(0)
    data = vs.data.Dataset(rng.normal(size=(300, 2)).astype(np.float32), rng.integers(0, 2, 300))
    train, validation = data.split(0.8, 0.2, seed=0)
    one = vs.Training(network(), task=vs.tasks.Generative())
    found = one.rehearse(train.batches(32), validation.batches(60))
    assert not found.troubles, str(found)
    assert "by_heart" not in found.times


def test_labels_that_contradict_all_around_them_are_told():
    rng = np.random.default_rng(0)
    labels = rng.integers(0, 3, 600)
    x = (np.eye(3)[labels] * 5 + rng.normal(size=(600, 3))).astype(np.float32)
    mixed = labels.copy()
    bad = rng.choice(600, 70, replace=False)
    mixed[bad] = (labels[bad] + 1) % 3
    for targets, told in ((labels, False), (mixed, True)):
        data = vs.data.Dataset(x, targets)
        found = training(vs.Stack(vs.Dense(8, vs.relu), vs.Dense(3))).rehearse(data.batches(32))
        said = [one for one in found.findings if "carry another" in one.evidence]
        assert bool(said) is told
        (amount,) = [one for one in found.findings if one.subject == "the amount of data"]
        assert "Twice the examples" in amount.cure or "little" in amount.cure
    shown = []
    training(vs.Dense(3)).rehearse(data.batches(32), quick=True, progress=shown.append)
    assert "the labels" in shown
