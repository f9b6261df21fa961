"""What was asked of a training is what happens; fast ways give what differentiate gives."""

import functools
import math
import threading
from functools import partial

import numpy as np
import pandas as pd
import pytest

import vinestep as vs
from vinestep.errors import (
    DataError,
    DifferentiationError,
    LayerError,
    NotFiniteError,
    RunError,
    SettingError,
    ShapeError,
)
from vinestep.storage import archive
from vinestep.training.step._trust import is_library_code

RNG = np.random.default_rng(0)
LABELS = np.arange(12) % 3


class OwnDense(vs.Layer):
    def __init__(self, width):
        self.width = width

    def declare(self, shape):
        self.parameter("weight", (shape[-1], self.width), vs.initialisers.he_normal)
        self.parameter("bias", (self.width,), vs.initialisers.zeros)

    def compute(self, x):
        return np.maximum(x @ self.weight + self.bias, 0)


def twice():
    shared = vs.Dense(5)
    return vs.Stack(shared, vs.relu, shared, vs.relu, vs.Dense(3))


def tied():
    shared = vs.Dense(8, np.tanh)
    return vs.Stack(shared, shared, shared, vs.Dense(3))


def frozen(network, pattern, x):
    network.initialise(x)
    network.freeze(pattern)
    return network


TABLE, PICTURES, SERIES = (
    RNG.normal(size=shape).astype(np.float32) for shape in ((12, 5), (12, 8, 8, 2), (12, 9, 8))
)
WIDE = RNG.normal(size=(300, 70)).astype(np.float32)
NETWORKS = {
    "one dense": (lambda: vs.Dense(3), TABLE),
    "dense": (lambda: vs.Stack(vs.Dense(6), vs.relu, vs.Dense(4), np.tanh, vs.Dense(3)), TABLE),
    "dense, wide": (
        lambda: vs.Stack(vs.Dense(90), vs.relu, vs.Dense(80), vs.sigmoid, vs.Dense(3)),
        WIDE,
    ),
    "one layer twice": (twice, TABLE),
    "one layer three times": (tied, SERIES[:, 0]),
    "leaky": (
        lambda: vs.Stack(
            vs.Dense(6), partial(vs.leaky_relu, slope=0.3), vs.Dense(3, vs.leaky_relu), vs.Dense(3)
        ),
        TABLE,
    ),
    "frozen first": (
        lambda: frozen(vs.Stack(vs.Dense(6), vs.relu, vs.Dense(3)), "0/*", TABLE),
        TABLE,
    ),
    "frozen bias": (
        lambda: frozen(
            vs.Stack(vs.Dense(6), vs.relu, vs.Dense(4), vs.relu, vs.Dense(3)), "2/bias", TABLE
        ),
        TABLE,
    ),
    "mixed": (lambda: vs.Stack(vs.Dense(6), vs.relu, OwnDense(5), vs.Dense(4), vs.Dense(3)), TABLE),
    "own": (lambda: vs.Stack(OwnDense(6), lambda x: x * 2, vs.Dense(3)), TABLE),
    "batch norm": (lambda: vs.Stack(vs.Dense(6), vs.BatchNorm(), vs.relu, vs.Dense(3)), TABLE),
    "layer norm": (lambda: vs.Stack(vs.Dense(6), vs.LayerNorm(), vs.gelu_tanh, vs.Dense(3)), TABLE),
    "residual": (
        lambda: vs.Stack(vs.Residual(vs.Stack(vs.Dense(5), vs.relu, vs.Dense(5))), vs.Dense(3)),
        TABLE,
    ),
    "branches": (
        lambda: vs.Stack(
            vs.Concat(vs.Dense(2), vs.Dense(3, np.tanh)), vs.Sum(vs.Dense(3), vs.Dense(3))
        ),
        TABLE,
    ),
    "parametric": (
        lambda: vs.Stack(vs.Dense(6), vs.ParametricRelu(), vs.Dropout(0.2), vs.Dense(3)),
        TABLE,
    ),
    "convolutional": (lambda: vs.networks.convolutional_classifier(3, channels=(4, 6)), PICTURES),
    "residual network": (lambda: vs.networks.residual_network(3, depth=1, width=4), PICTURES),
    "pooled": (
        lambda: vs.Stack(
            vs.Convolution(4, 3), vs.relu, vs.MaxPool(2), vs.Flatten(), vs.Dense(4), vs.Dense(3)
        ),
        PICTURES,
    ),
    "depthwise": (
        lambda: vs.Stack(
            vs.Convolution(4, 3, groups=2), vs.MeanPool(2), vs.GlobalMean(), vs.Dense(3)
        ),
        PICTURES,
    ),
    "LSTM": (lambda: vs.Stack(vs.LSTM(8, bidirectional=True, output="last"), vs.Dense(3)), SERIES),
    "GRU": (lambda: vs.Stack(vs.GRU(5, depth=2, output="last"), vs.Dense(3)), SERIES),
    "transformer": (
        lambda: vs.Stack(vs.Positions(), vs.TransformerBlock(1), vs.GlobalMean(), vs.Dense(3)),
        SERIES,
    ),
    "rotary": (
        lambda: vs.Stack(
            vs.TransformerBlock(2, rotary=True, causal=True), vs.GlobalMean(), vs.Dense(3)
        ),
        SERIES,
    ),
    "tokens": (
        lambda: vs.Stack(vs.Embedding(9, 8), vs.TransformerBlock(1), vs.GlobalMean(), vs.Dense(3)),
        RNG.integers(0, 9, (12, 9)),
    ),
}
LOSSES = {
    "cross-entropy": vs.losses.cross_entropy,
    "smoothed": functools.partial(vs.losses.cross_entropy, smoothing=0.1),
    "with weights in it": None,
}


@pytest.mark.parametrize("loss", list(LOSSES))
@pytest.mark.parametrize("name", list(NETWORKS))
def test_training_and_differentiate_agree(name, loss):
    build, x = NETWORKS[name]
    labels = np.arange(len(x)) % 3
    network = build()
    if network.arena is None:
        network.initialise(x)

    def penalised(outputs, targets):
        return (
            vs.losses.cross_entropy(outputs, targets)
            + sum(np.sum(np.square(w)) for w in network.parameters().values()) * 1e-2
        )

    function = LOSSES[loss] or penalised
    training = vs.Training(network, loss=function, seed=4)
    _, value, ours = training._derivation(vs.data.Batch(x, labels))
    statistics = {path: array.copy() for path, array in network.statistics().items()}
    with vs.learning(4, 0):
        theirs_value = function(network(x), labels)
    theirs = vs.differentiate(theirs_value, network)
    assert value == pytest.approx(theirs_value.item(), rel=1e-5)
    assert list(ours) == list(theirs)
    for path in ours:
        largest = np.abs(theirs[path]).max()
        np.testing.assert_allclose(
            ours[path], theirs[path], rtol=1e-3, atol=1e-5 + 1e-4 * largest, err_msg=path
        )
    assert statistics.keys() == network.statistics().keys()


class Scratch(vs.Layer):
    """Uses one array again and again, as hurried code does."""

    def __init__(self):
        self.room = np.ones(5, np.float32)

    def compute(self, x):
        y = x * self.room
        self.room *= 10
        return y


def test_a_layer_that_changes_its_scratch_array_is_caught():
    network = vs.Stack(vs.Dense(5), Scratch(), vs.Dense(3)).initialise(TABLE)
    training = vs.Training(network, loss=vs.losses.cross_entropy)
    with pytest.raises(
        DifferentiationError, match=r"changed in place after it was used: input 1 of multiply in 1"
    ):
        training.step((TABLE, LABELS))


def test_a_loss_that_changes_the_batch_is_caught():
    def spoiling(outputs, targets):
        TARGETS[...] = 0
        return (
            np.mean(np.square(outputs - targets) * WEIGHTS)
            + np.mean(_changed(WEIGHTS) * outputs) * 0
        )

    def _changed(array):
        array *= 2
        return array

    WEIGHTS, TARGETS = np.ones((12, 1), np.float32), np.ones((12, 1), np.float32)
    training = vs.Training(vs.Dense(1), loss=spoiling)
    with pytest.raises(DifferentiationError, match="changed in place"):
        training.step((TABLE, np.ones((12, 1), np.float32)))


def test_only_code_of_the_library_goes_unguarded():
    for name in ("convolutional", "dense", "pooled", "transformer", "LSTM", "batch norm", "tokens"):
        build, x = NETWORKS[name]
        training = vs.Training(build(), loss=vs.losses.cross_entropy)
        training.step((x, LABELS))
        training.step((x, LABELS))
        assert is_library_code(training.network, training.loss), name
    assert is_library_code(
        NETWORKS["dense"][0](), functools.partial(vs.losses.cross_entropy, smoothing=0.1)
    )
    assert not is_library_code(NETWORKS["own"][0](), vs.losses.cross_entropy)
    assert not is_library_code(vs.Stack(lambda x: x), vs.losses.cross_entropy)
    assert not is_library_code(vs.Stack(vs.Dense(3)), lambda outputs, targets: np.mean(outputs))


def bad_slope(outputs, targets):
    """Finite, with an infinite derivative at 0."""
    return np.mean(np.sqrt(np.square(outputs) * 0.0)) + np.mean(outputs)


def test_a_finite_loss_with_a_gradient_that_is_not_changes_nothing(tmp_path):
    network = vs.Stack(vs.Dense(4), vs.Dense(2)).initialise(TABLE)
    training = vs.Training(network, loss=bad_slope)
    before = network.arena.flat.copy()
    with (
        np.errstate(all="ignore"),
        pytest.raises(
            NotFiniteError, match=r"Step 1: the loss is .*, but the gradients of 0/weight"
        ),
    ):
        training.step((TABLE, LABELS))
    np.testing.assert_array_equal(network.arena.flat, before)
    assert training.step_number == 0
    assert training.optimiser.count == 0


@pytest.mark.parametrize("spoilt", ["inputs", "slope"])
def test_a_refused_step_leaves_running_statistics_as_they_were(spoilt):
    network = vs.Stack(vs.Dense(4), vs.BatchNorm(), vs.Dense(2)).initialise(TABLE)
    training = vs.Training(network, loss=vs.losses.cross_entropy)
    training.step((TABLE, LABELS % 2))
    before = {path: array.copy() for path, array in network.statistics().items()}
    inputs = np.where(np.arange(5) == 2, np.nan, TABLE) if spoilt == "inputs" else TABLE * 3
    training.loss = vs.losses.cross_entropy if spoilt == "inputs" else bad_slope
    with np.errstate(all="ignore"), pytest.raises(NotFiniteError):
        training.step((inputs, LABELS % 2))
    for path, array in network.statistics().items():
        np.testing.assert_array_equal(array, before[path])


@pytest.mark.parametrize(
    "optimiser",
    [vs.optimisers.SGD(1e30), vs.optimisers.SGD(3e37, momentum=0.9), vs.optimisers.Adam(3e38)],
)
def test_an_update_that_would_become_infinite_is_taken_back(optimiser):
    network = vs.Dense(1).initialise(TABLE)
    training = vs.Training(
        network, loss=lambda outputs, targets: np.mean(outputs) * 1e10, optimiser=optimiser
    )

    def until_refused():
        for _ in range(5):
            kept.append(
                (
                    network.arena.flat.copy(),
                    {name: a.copy() for name, a in optimiser.state.items()},
                    optimiser.count,
                )
            )
            training.step((TABLE, np.zeros((12, 1))))

    kept = []
    with pytest.raises(NotFiniteError, match="Nothing has been changed"):
        until_refused()
    before, state, count = kept[-1]
    np.testing.assert_array_equal(network.arena.flat, before)
    assert all(np.array_equal(state[name], optimiser.state[name]) for name in state)
    assert optimiser.count == count


@pytest.mark.parametrize("scale", [1e15, 1e25, 1e30])
def test_clip_shortens_gradients_of_any_length(scale):
    network = vs.Dense(1).initialise(TABLE)
    training = vs.Training(
        network, loss=lambda outputs, targets: np.mean(outputs) * np.float32(scale), clip=2.0
    )
    step = training.step((TABLE, np.zeros((12, 1))))
    assert step.norm > 0.1 * scale
    assert step.gradients.norm() == pytest.approx(2.0, rel=1e-3)


def test_a_checkpoint_that_is_not_finite_is_not_the_newest_sound_one(tmp_path):
    folder = vs.runs.RunFolder(tmp_path)
    (tmp_path / "states").mkdir()
    folder.save_state("step-00000001", {"weights/w": np.ones(3)}, {"step": 1})
    with pytest.raises(vs.errors.ArchiveError, match="weights/w holds NaN or infinity"):
        folder.save_state("step-00000002", {"weights/w": np.array([1.0, np.nan])}, {"step": 2})
    assert folder.newest_state()[0].meta["step"] == 1


def data(n=24, seed=0):
    x = np.random.default_rng(seed).normal(size=(n, 3)).astype(np.float32)
    return vs.data.Dataset(x, np.arange(n) % 2)


def classifier(**options):
    return vs.Training(
        vs.Stack(vs.Dense(4), vs.relu, vs.Dense(2)), loss=vs.losses.cross_entropy, **options
    )


def test_an_optimiser_belongs_to_one_training():
    optimiser = vs.optimisers.Adam(0.01)
    first = classifier(optimiser=optimiser)
    with pytest.raises(SettingError, match=r"belongs to another training already.*Adam\(rate=0.01"):
        classifier(optimiser=optimiser)
    first.step((data().inputs, data().targets))


def test_observers_begin_anew_for_each_run_and_serve_one_at_a_time():
    patience = vs.observers.Patience(2, least_gain=1e9)
    outcomes = [
        classifier().run(data().batches(8), epochs=9, observers=[patience]) for _ in range(2)
    ]
    assert [outcome.rows[-1]["epoch"] for outcome in outcomes] == [3, 3]

    class Nested(vs.observers.Observer):
        ends_run = True

        def after_epoch(self, run, row):
            classifier().run(data().batches(8), epochs=1, observers=[patience])

    with pytest.raises(RunError, match="listens to another run"):
        classifier().run(data().batches(8), epochs=1, observers=[patience, Nested()])
    classifier().run(data().batches(8), epochs=1, observers=[patience])


def test_a_first_score_of_nan_is_not_the_best_for_ever(tmp_path):
    patience = vs.observers.Patience(5)
    keeper = vs.observers.Checkpoints("best", keep=1)

    class FakeRun:
        validated = True

        stopped = ""

        def direction(self, name):
            return "lower"

        def stop(self, reason):
            self.stopped = reason

    run = FakeRun()
    for value in (math.nan, 3.0, 2.0):
        patience.after_epoch(run, {"loss": value})
    assert patience.best == 2.0
    assert keeper.scores == []
    outcome = vs.Outcome(
        [{"loss": math.nan, "epoch": 1}, {"loss": 1.0, "epoch": 2}], None, "", None, 0.0
    )
    assert outcome.best("loss")["epoch"] == 2


def test_a_summed_loss_is_a_sum():
    inputs, targets = np.ones((5, 1), np.float32), np.zeros((5, 1), np.float32)
    summed = functools.partial(vs.losses.squared_error, reduction="sum")
    training = vs.Training(
        vs.Dense(1, initialiser=vs.initialisers.constant(math.sqrt(2.0))),
        loss=summed,
        optimiser=vs.optimisers.SGD(1e-30),
    )
    outcome = training.run(vs.data.Dataset(inputs, targets).batches(2), epochs=1)
    assert outcome.rows[0]["loss"] == pytest.approx(10.0, rel=1e-5)
    assert training.assess(vs.data.Dataset(inputs, targets).batches(2))["loss"] == pytest.approx(
        10.0, rel=1e-5
    )
    with pytest.raises(ShapeError, match='Use reduction="mean"'):
        vs.Training(
            vs.Dense(1), loss=functools.partial(vs.losses.squared_error, reduction="none")
        ).step((inputs, targets))


def test_the_metric_says_which_way_is_better(tmp_path):
    odd = vs.metrics.Metric(
        "gain_error",
        lambda o, t: np.array([o.sum(), len(t)]),
        lambda c: float(c[0] / c[1]),
        better="higher",
    )
    keeper = vs.observers.Checkpoints("best", by="perplexity", keep=1)
    training = classifier(metrics=[vs.metrics.perplexity, odd])
    outcome = training.run(data().batches(8), epochs=4, observers=[keeper], record=tmp_path)
    by = {name: [row[name] for row in outcome.rows] for name in ("perplexity", "gain_error")}
    assert outcome.best("perplexity")["perplexity"] == min(by["perplexity"])
    assert outcome.best("gain_error")["gain_error"] == max(by["gain_error"])
    best = archive.read(keeper.best_file(outcome))
    assert best.meta["curves"][-1]["perplexity"] == min(by["perplexity"])
    with pytest.raises(RunError, match="Whether more or less of 'rate' is better is not known"):
        classifier().run(
            data().batches(8), epochs=2, observers=[vs.observers.Patience(3, by="rate")]
        )


def table(classes, n=30, extra=()):
    frame = pd.DataFrame(
        {
            "a": np.arange(n) * 1.0,
            "b": [("u", "v")[i % 2] for i in range(n)],
            "state": [classes[i % len(classes)] for i in range(n)],
        }
    )
    for name in extra:
        frame[name] = 1.5
    return vs.data.Table(frame, target="state")


@pytest.mark.parametrize(
    ("other", "text"),
    [
        (lambda: table(("q", "r")), "classes p, q against q, r"),
        (lambda: table(("p", "q"), extra=["c"]), "numeric columns a against a, c"),
    ],
)
def test_parts_of_a_run_share_one_encoding(other, text):
    training = vs.Training(vs.Dense(2), loss=vs.losses.cross_entropy)
    with pytest.raises(DataError, match=text):
        training.run(table(("p", "q")).batches(8), validation=other().batches(8), epochs=1)
    training.run(table(("p", "q")).batches(8), epochs=1)
    with pytest.raises(DataError, match=text):
        training.assess(other().batches(8))
    with pytest.raises(DataError, match=text):
        training.predict(other())


def test_predictions_are_what_stands_in_the_table():
    frame = pd.DataFrame({"a": np.arange(20.0), "grade": [3, 7] * 10})
    part = vs.data.Table(frame, target="grade", classes=True)
    training = vs.Training(vs.Dense(2), loss=vs.losses.cross_entropy)
    training.run(part.batches(5), epochs=1)
    predicted = training.predict(part)
    assert list(predicted) == ["predicted", "probability 3", "probability 7"]
    assert predicted["predicted"].dtype.kind == "i"
    assert set(predicted["predicted"]) <= {3, 7}


def test_a_generator_gives_one_epoch_and_says_so():
    batches = [(data().inputs, data().targets)]
    with pytest.raises(DataError, match="can be gone through once only, and 3 epochs"):
        next(classifier().steps(iter(batches), epochs=3))
    assert len(list(classifier().steps(batches, epochs=3))) == 3


@pytest.mark.parametrize(
    ("options", "text"),
    [
        ({"optimiser": {"rate": 0.1}}, "optimiser is a dict"),
        ({"optimiser": vs.optimisers.Adam}, "optimiser is Adam"),
        ({"schedule": 0.5}, "schedule is 0.5"),
        ({"metrics": vs.metrics.accuracy}, "metrics is a sequence"),
        ({"metrics": ["accuracy"]}, "'accuracy' is no metric"),
        (
            {"metrics": [vs.metrics.intersection_over_union]},
            r"Write vinestep\.metrics\.intersection_over_union\(\)",
        ),
        ({"metrics": [np.mean]}, "mean is a function, and no metric"),
        ({"metrics": [vs.metrics.accuracy] * 2}, "different names"),
        ({"clip": "x"}, "clip must be a positive number"),
        ({"clip": math.nan}, "clip must be a positive number"),
        ({"seed": -1}, "seed must be a whole number"),
        ({"loss": "mean"}, "loss is a str"),
    ],
)
def test_settings_of_the_wrong_kind_are_named(options, text):
    settings = {"loss": vs.losses.cross_entropy} | options
    with pytest.raises(SettingError, match=text):
        vs.Training(vs.Dense(2), **settings)


def test_a_plain_function_is_a_schedule():
    training = classifier(schedule=lambda step: 1 / (1 + step), optimiser=vs.optimisers.SGD(0.1))
    assert [step.rate for step in training.steps(data().batches(12), epochs=1)] == pytest.approx(
        [0.1, 0.05]
    )


@pytest.mark.parametrize(
    "batch",
    [
        None,
        (np.ones((0, 3)), np.zeros(0, int)),
        (np.ones((3, 3)), np.zeros(2, int)),
        np.ones((3, 3)),
    ],
)
def test_a_batch_that_is_none_is_refused(batch):
    with pytest.raises(DataError, match="batch"):
        classifier().step(batch)


def test_an_outcome_prints_short():
    outcome = classifier().run(data().batches(4), epochs=50)
    assert len(str(outcome)) < 300
    assert "All 50 epochs done" in str(outcome)


@pytest.mark.parametrize("name", ["accuracy", "top", "perplexity", "confusion", "f1", "kappa"])
def test_metrics_explain_bad_labels(name):
    metric = {
        "top": vs.metrics.top(1),
        "f1": vs.metrics.f1(),
        "confusion": vs.metrics.confusion,
    }.get(name) or getattr(vs.metrics, name)
    outputs = np.random.default_rng(0).normal(size=(4, 3))
    for labels in ([0, 1, 2, 3], [0, -1, 1, 1]):
        with pytest.raises(DataError, match=r"label (3|-1) is out of range"):
            metric(outputs, np.array(labels))
    with pytest.raises(DataError, match="whole numbers"):
        metric(outputs, np.array([0.0, 1.0, 1.0, 1.0]))
    with pytest.raises(ShapeError):
        metric(outputs, np.array([[0], [1], [1], [2]]))
    metric(np.empty((0, 3)), np.empty(0, int))
    flat = metric(outputs.astype(np.float16), np.array([0, 1, 2, 0]))
    sequences = metric(outputs.astype(np.float16).reshape(2, 2, 3), np.array([[0, 1], [2, 0]]))
    np.testing.assert_array_equal(flat, sequences)


def test_half_precision_trains():
    network = vs.Stack(vs.Dense(4), vs.relu, vs.BatchNorm(), vs.Dense(2)).initialise(
        data().inputs, dtype=np.float16
    )
    training = vs.Training(
        network,
        loss=vs.losses.cross_entropy,
        optimiser=vs.optimisers.SGD(0.1),
        metrics=[vs.metrics.accuracy],
    )
    losses = [training.step((data().inputs, data().targets)).loss for _ in range(10)]
    assert losses[-1] < losses[0]
    assert network.arena.flat.dtype == np.float16


def test_two_trainings_in_two_threads_do_not_mix_what_they_record():
    results = {}

    def train(name):
        training = classifier(seed=1)
        results[name] = [step.loss for step in training.steps(data().batches(8), epochs=20)]

    threads = [threading.Thread(target=train, args=(name,)) for name in "ab"]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert results["a"] == results["b"]


def test_a_network_whose_layers_are_replaced_computes_with_the_new_ones():
    network = vs.Stack(vs.Dense(3, initialiser=vs.initialisers.ones), vs.relu).initialise(
        np.ones((1, 2))
    )
    assert network(-np.ones((1, 2))).array.max() == 0
    network.layers = (network.layers[0], np.negative)
    assert network(-np.ones((1, 2))).array.max() == 2
    with pytest.raises(TypeError):
        network.layers[1] = np.tanh


def test_a_training_follows_layers_and_activations_that_are_replaced():
    network = vs.Stack(vs.Dense(4, np.tanh), vs.Dense(3)).initialise(TABLE)
    training = vs.Training(
        network, loss=vs.losses.cross_entropy, optimiser=vs.optimisers.SGD(1e-30)
    )
    first = training.step((TABLE, LABELS)).loss
    network[0].activation = vs.sigmoid
    assert training.step((TABLE, LABELS)).loss != first
    network.layers = (*network.layers, lambda x: x * 0)
    assert training.step((TABLE, LABELS)).loss == pytest.approx(math.log(3))
    training.loss = lambda outputs, targets: np.mean(outputs) + 5
    assert training.step((TABLE, LABELS)).loss == 5


def test_errors_of_layers_keep_their_kind():
    with pytest.raises(LayerError):
        vs.Training(vs.Stack(vs.Dense(2), lambda x: x.nothing), loss=vs.losses.cross_entropy).step(
            (TABLE, LABELS % 2)
        )
