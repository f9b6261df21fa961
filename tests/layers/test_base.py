"""Layers take what they were initialised for, in their own precision, or say which of them does not
fit; copies are whole.
"""

import copy
import pickle
from functools import partial

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import (
    DTypeError,
    LayerError,
    NotFiniteError,
    ShapeError,
)
from vinestep.storage import archive
from vinestep.training.step._state import split_state

SEQUENCE = np.ones((2, 9, 16), "f4")


def test_a_source_of_another_batch_is_refused():
    network = vs.Attention(2).initialise(SEQUENCE)
    source = vs.Tensor(SEQUENCE)
    with pytest.raises(ShapeError, match=r"as many sequences, at least one place"):
        network(np.ones((3, 9, 16), "f4"), source)
    block = vs.DecoderBlock(2).initialise((SEQUENCE, SEQUENCE))
    with pytest.raises(ShapeError, match="across"):
        block(np.ones((50, 9, 16), "f4"), np.ones((1, 9, 16), "f4"))


@pytest.mark.parametrize("layer", [vs.LSTM, vs.GRU, vs.Recurrent])
@pytest.mark.parametrize("features", [5, 7, 20_000])
def test_recurrent_layers_check_their_features(layer, features):
    network = vs.Stack(layer(4)).initialise(np.ones((1, 3, 6)))
    with pytest.raises(
        ShapeError, match=r"0 \((LSTM|GRU|Recurrent)\): expected input of shape \(batch, time, 6\)"
    ):
        network(np.ones((2, 3, features), "f4"))


WRONG = {
    "Dense": (vs.Dense(3), (2, 4)),
    "Convolution": (vs.Convolution(3, 3), (2, 6, 6, 2)),
    "TransposedConvolution": (vs.TransposedConvolution(3, 3), (2, 6, 6, 2)),
    "BatchNorm": (vs.BatchNorm(), (2, 4)),
    "LayerNorm": (vs.LayerNorm(), (2, 4)),
    "GroupNorm": (vs.GroupNorm(2), (2, 4)),
    "RMSNorm": (vs.RMSNorm(), (2, 4)),
    "ParametricRelu": (vs.ParametricRelu(), (2, 4)),
    "LSTM": (vs.LSTM(3), (2, 5, 4)),
    "GRU": (vs.GRU(3, bidirectional=True), (2, 5, 4)),
    "Recurrent": (vs.Recurrent(3, depth=2), (2, 5, 4)),
    "Attention": (vs.Attention(2), (2, 5, 4)),
    "TransformerBlock": (vs.TransformerBlock(2), (2, 5, 4)),
    "DecoderBlock": (vs.DecoderBlock(2), (2, 5, 4)),
    "Positions": (vs.Positions("learned"), (2, 5, 4)),
    "Residual": (vs.Residual(vs.Dense(4)), (2, 4)),
    "Columns": (vs.Columns(), (2, 3, 5, 4)),
}


@pytest.mark.parametrize("name", list(WRONG))
@pytest.mark.parametrize("change", ["wider", "narrower", "another rank"])
def test_every_layer_checks_its_input_and_gives_its_path(name, change):
    layer, shape = WRONG[name]
    layer = copy.deepcopy(layer)
    other = {
        "wider": (*shape[:-1], shape[-1] + 2),
        "narrower": (*shape[:-1], shape[-1] - 1),
        "another rank": shape[1:],
    }[change]
    if name == "DecoderBlock":
        layer.initialise((np.ones(shape), np.ones(shape)))
        with pytest.raises((ShapeError, LayerError)):
            layer(np.ones(other), np.ones(shape))
        return
    network = vs.Stack(layer).initialise(np.ones(shape))
    with pytest.raises((ShapeError, LayerError), match=r"^0"):
        network(np.ones(other))


def test_largest_of_a_window_with_nan_is_nan():
    layer = vs.MaxPool(2).initialise(np.ones((1, 2, 2, 1)))
    for place in range(4):
        x = np.arange(4.0, dtype=np.float32)
        x[place] = np.nan
        assert np.isnan(layer(x.reshape(1, 2, 2, 1))).all()


@pytest.mark.parametrize("n", [1, 8, 500, 5000])
@pytest.mark.parametrize(
    ("layer", "shape"),
    [
        (vs.Dense(16), (8,)),
        (vs.Convolution(16, 3), (6, 6, 3)),
        (vs.TransformerBlock(2), (9, 16)),
        (vs.LSTM(8), (3, 8)),
    ],
)
def test_a_mean_over_an_axis_of_length_one_follows(layer, shape, n):
    n = min(n, 40_000 // int(np.prod(shape)))
    x = np.random.default_rng(0).normal(size=(n, *shape)).astype(np.float32)
    network = copy.deepcopy(layer).initialise(x)
    loss = np.sum(np.mean(np.expand_dims(network(x), 1), axis=1))
    g = vs.differentiate(loss, network)
    fused_off = [np.sum(np.square(v)) for v in g.values()]
    assert np.isfinite(fused_off).all()


INTEGERS = {
    "LayerNorm": vs.Stack(vs.LayerNorm()),
    "Residual": vs.Residual(np.square),
    "Residual dense": vs.Residual(vs.Dense(4)),
    "Dense": vs.Stack(vs.Dense(3), vs.relu),
    "square": vs.Stack(np.square, vs.Dense(2)),
    "RMSNorm": vs.RMSNorm(),
    "BatchNorm": vs.BatchNorm(),
    "Dropout": vs.Dropout(0.5),
    "Concat": vs.Concat(np.negative, vs.Dense(3)),
    "Sum": vs.Sum(np.square, np.negative),
    "Noise": vs.Noise(0.1),
}


@pytest.mark.parametrize("dtype", [np.uint8, np.int64, np.bool_])
@pytest.mark.parametrize("name", list(INTEGERS))
def test_a_network_computes_in_its_own_precision(name, dtype):
    x = np.array([[200, 3, 90, 255], [1, 250, 7, 0]]).astype(dtype)
    network = copy.deepcopy(INTEGERS[name]).initialise(x)
    for context in (vs.learning(0, 0), vs.untracked()):
        with context:
            ours = vs.held(network(x))
            network.initialise(x)
        assert ours.dtype == np.float32
    with vs.untracked():
        np.testing.assert_array_equal(vs.held(network(x)), vs.held(network(x.astype(np.float32))))


@pytest.mark.parametrize(
    "layer",
    [
        vs.MaxPool(2),
        vs.MeanPool(2),
        vs.GlobalMean(),
        vs.GlobalMax(),
        vs.Convolution(2, 3),
        vs.Upsample(2, how="linear"),
    ],
)
def test_pictures_of_bytes(layer):
    x = np.random.default_rng(0).integers(0, 256, (2, 6, 6, 3)).astype(np.uint8)
    network = vs.Stack(layer).initialise(x)
    with vs.untracked():
        ours = vs.held(network(x))
        np.testing.assert_array_equal(ours, vs.held(network(x.astype(np.float32))))
    assert ours.dtype == np.float32


def test_tokens_stay_whole_numbers():
    network = vs.Stack(vs.Embedding(5, 4), vs.LSTM(3, output="last"), vs.Dense(2)).initialise(
        np.array([[1, 2]])
    )
    assert network(np.array([[1, 4, 0]])).shape == (1, 2)


NETWORKS = {
    "dense": (lambda: vs.Stack(vs.Dense(4), vs.relu, vs.Dropout(0.1), vs.Dense(2)), (6, 3)),
    "normalised": (
        lambda: vs.Stack(
            vs.Dense(4), vs.BatchNorm(), np.tanh, partial(vs.leaky_relu, slope=0.2), vs.Dense(2)
        ),
        (6, 3),
    ),
    "convolutional": (
        lambda: vs.networks.convolutional_classifier(2, channels=(4, 4)),
        (6, 8, 8, 1),
    ),
    "attention": (
        lambda: vs.Stack(vs.TransformerBlock(2), vs.GlobalMean(), vs.Dense(2)),
        (6, 9, 8),
    ),
    "recurrent": (lambda: vs.Stack(vs.GRU(4, output="last"), vs.Dense(2)), (6, 5, 3)),
}


@pytest.mark.parametrize("how", ["deepcopy", "pickle"])
@pytest.mark.parametrize("trained", [False, True])
@pytest.mark.parametrize("name", list(NETWORKS))
def test_copies_of_networks_and_trainings_are_whole(name, trained, how):
    build, shape = NETWORKS[name]
    x, labels = (
        np.random.default_rng(0).normal(size=shape).astype(np.float32),
        np.array([0, 1, 1, 0, 1, 0]),
    )

    def duplicate(thing):
        return copy.deepcopy(thing) if how == "deepcopy" else pickle.loads(pickle.dumps(thing))

    network = build().initialise(x)
    schedule = vs.schedules.warmup(3).then(vs.schedules.cosine(10))
    training = vs.Training(
        network,
        loss=vs.losses.cross_entropy,
        schedule=schedule,
        metrics=[vs.metrics.f1(), vs.metrics.top(2)],
        clip=1.0,
    )
    if trained:
        for _ in range(2):
            training.step((x, labels))
    other, again = duplicate(network), duplicate(training)
    before = {path: array.copy() for path, array in network.weights().items()}
    for path, array in other.weights().items():
        np.testing.assert_array_equal(array, before[path])
        assert np.shares_memory(array, other.arena.flat)
        assert not np.shares_memory(array, network.arena.flat)
    again.step((x, labels))
    vs.Training(other, loss=vs.losses.cross_entropy).step((x, labels))
    assert any(not np.array_equal(array, before[path]) for path, array in other.weights().items())
    assert all(np.array_equal(array, before[path]) for path, array in network.weights().items())
    training.step((x, labels))
    for path, array in training.network.weights().items():
        np.testing.assert_array_equal(array, again.network.weights()[path])


def test_a_copy_of_a_frozen_network_is_frozen():
    network = vs.Stack(vs.Dense(4), vs.Dense(2)).initialise(np.ones((1, 3)))
    network.freeze("0/*")
    other = copy.deepcopy(network)
    assert list(other.parameters()) == ["1/weight", "1/bias"]
    other.weights()["0/weight"][...] = 0
    assert (other(np.ones((1, 3))).array == other.weights()["1/bias"]).all()


def test_a_function_that_does_not_fit_is_named():
    with pytest.raises(LayerError, match=r"^2 \(<lambda>\): ValueError: .*input \(2, 3\) float32"):
        vs.Stack(vs.Dense(4), vs.Dense(3), lambda x: x.reshape(7, 7)).initialise(np.ones((2, 5)))

    class Own(vs.Layer):
        def compute(self, x):
            return x["a"]

    with pytest.raises(LayerError, match=r"^1 \(Own\)"):
        vs.Stack(vs.Dense(4), Own()).initialise(np.ones((2, 5)))


def test_one_call_loads_all_and_says_what_is_missing(tmp_path):
    x, labels = (
        np.random.default_rng(0).normal(size=(40, 3)).astype(np.float32) * 3 + 1,
        np.arange(40) % 2,
    )
    network = vs.Stack(vs.Dense(4), vs.BatchNorm(), vs.Dense(2))
    training = vs.Training(network, loss=vs.losses.cross_entropy)
    for _ in range(5):
        training.step((x, labels))
    file = archive.write(tmp_path / "best.npz", *split_state(training.state()))
    fresh = vs.Stack(vs.Dense(4), vs.BatchNorm(), vs.Dense(2)).initialise(x, seed=5)
    checkpoint = archive.read(file)
    with pytest.raises(
        LayerError, match=r"3 of 9 arrays of the network are missing: 1/mean, 1/variance, 1/seen"
    ):
        fresh.load(checkpoint.group("weights"))
    fresh.load(checkpoint)
    with vs.untracked():
        np.testing.assert_array_equal(fresh(x), network(x))


def test_loaded_statistics_outlive_the_next_batch():
    layer = vs.BatchNorm(momentum=0.9).initialise(np.ones((2, 2)))
    layer.load({"mean": np.array([5.0, 5.0]), "variance": np.array([2.0, 2.0])}, partial=True)
    with vs.learning():
        layer(np.array([[0.0, 1.0], [2.0, 3.0]], np.float32))
    np.testing.assert_allclose(layer.mean, [0.9 * 5 + 0.1 * 1, 0.9 * 5 + 0.1 * 2], rtol=1e-4)


def test_statistics_of_a_frozen_layer_stay():
    network = vs.Stack(vs.Dense(4), vs.BatchNorm(), vs.Dense(2)).initialise(np.ones((2, 3)))
    network.freeze("1/*")
    before = {path: array.copy() for path, array in network.statistics().items()}
    training = vs.Training(network, loss=vs.losses.cross_entropy)
    training.step((np.random.default_rng(0).normal(size=(6, 3)), np.arange(6) % 2))
    for path, array in network.statistics().items():
        np.testing.assert_array_equal(array, before[path])


@pytest.mark.parametrize(
    ("bad", "error"),
    [
        (np.nan, NotFiniteError),
        (1j, DTypeError),
        (True, DTypeError),
        (np.datetime64(1, "s"), DTypeError),
    ],
)
def test_weights_are_finite_numbers(bad, error):
    network = vs.Dense(2).initialise(np.ones((1, 3)))
    before = network.arena.flat.copy()
    with pytest.raises(error, match="weight"):
        network.load({"weight": np.full((3, 2), bad), "bias": np.zeros(2)})
    np.testing.assert_array_equal(network.arena.flat, before)
