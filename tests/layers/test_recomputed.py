"""Bodies that are computed again on the way back: the same to the last bit, in less memory."""

import subprocess
import sys
from functools import partial

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import DifferentiationError, LayerError

RNG = np.random.default_rng(0)
X = RNG.normal(size=(24, 6)).astype(np.float32)
PICTURES = RNG.normal(size=(8, 8, 8, 2)).astype(np.float32)
TOKENS = RNG.integers(1, 9, size=(10, 7))

BODIES = {
    "dense": (lambda: vs.Stack(vs.Dense(8), vs.relu, vs.Dropout(0.4), vs.Dense(5)), X),
    "noise twice": (lambda: vs.Stack(vs.Noise(0.1), vs.Dense(5), vs.Noise(0.1)), X),
    "batch statistics": (lambda: vs.Stack(vs.Dense(8), vs.BatchNorm(), vs.relu), X),
    "convolution": (
        lambda: vs.Stack(vs.Convolution(4, 3), vs.BatchNorm(), vs.relu, vs.GlobalMean()),
        PICTURES,
    ),
    "block": (
        lambda: vs.Stack(
            vs.Embedding(9, 8), vs.TransformerBlock(2, dropout=0.2), vs.LSTM(5, output="last")
        ),
        TOKENS,
    ),
    "within one another": (
        lambda: vs.Stack(
            vs.Dense(7, np.tanh), vs.Recomputed(vs.Stack(vs.Dense(5), vs.Dropout(0.3)))
        ),
        X,
    ),
    "own functions": (lambda: vs.Stack(vs.Dense(5), lambda x: np.sin(x) * x), X),
}  # fmt: skip


def trained(name, wrap, dtype, *, frozen=False):
    """Weights, statistics and losses of some steps."""
    make, x = BODIES[name]
    body = make()
    network = vs.Stack(wrap(body), vs.Dropout(0.2), vs.Dense(3)).initialise(
        x[:2], seed=3, dtype=dtype
    )
    # the same weights, whatever the paths are called
    rng = np.random.default_rng(5)
    drawn = {path: rng.normal(size=a.shape) * 0.3 for path, a in network.weights().items()}
    network.load(drawn, partial=True)
    if frozen:
        network.freeze("0/*")
    training = vs.Training(network, task=vs.tasks.Classes(), seed=4)
    losses = [training.step((x, np.arange(len(x)) % 3)).loss for _ in range(4)]
    return (
        losses,
        [array.tobytes() for array in network.weights().values()],
        [array.tobytes() for array in network.statistics().values()],
    )


class Plain(vs.Layer):
    """The body as it is, at the same path, so that dropout draws the same."""

    def __init__(self, body):
        self.body = body

    def compute(self, x):
        return self.body(x)


@pytest.mark.parametrize("dtype", [np.float32, np.float64])
@pytest.mark.parametrize("name", BODIES)
def test_training_is_the_same_to_the_last_bit(name, dtype):
    assert trained(name, vs.Recomputed, dtype) == trained(name, Plain, dtype)


def test_a_frozen_body_is_passed_through():
    assert trained("dense", vs.Recomputed, np.float64, frozen=True) == trained(
        "dense", Plain, np.float64, frozen=True
    )


def test_derivatives_of_second_order_and_by_the_input():
    def build(wrap):
        body = vs.Stack(vs.Dense(4, np.tanh), vs.Dense(3, np.tanh))
        network = vs.Stack(wrap(body), vs.Dense(1)).initialise(X[:1], seed=1, dtype=np.float64)
        return network

    def penalty(network):
        x = vs.Tensor(X.astype(np.float64))
        (slopes,) = vs.differentiate(np.sum(network(x)), [x], differentiable=True)
        return vs.differentiate(np.sum(slopes**2), network, unused="zeros")

    mine, plain = build(vs.Recomputed), build(Plain)
    plain.load(mine.weights())
    found, expected = penalty(mine), penalty(plain)
    np.testing.assert_allclose(found.flat, expected.flat, rtol=1e-12, atol=1e-14)


def test_an_input_that_is_changed_meanwhile_is_refused():
    network = vs.Recomputed(vs.Stack(vs.Dense(4), vs.relu)).initialise(X[:1])
    x = X.copy()
    loss = np.sum(network(x))
    x += 1
    with pytest.raises(DifferentiationError, match="changed in place"):
        vs.differentiate(loss, network)


def test_masks_models_and_plans(tmp_path):
    pairs = [(one[: 3 + i % 4], int(one[0] % 2)) for i, one in enumerate(TOKENS)]

    def run(wrap):
        block = vs.Stack(vs.TransformerBlock(2), vs.TransformerBlock(2))
        network = vs.Stack(vs.Embedding(9, 8), wrap(block), vs.LSTM(4, output="last"), vs.Dense(2))
        training = vs.Training(network, task=vs.tasks.Classes(), seed=2)
        batches = vs.data.Examples(pairs).batches(4, join=vs.data.Padded())
        return training, training.run(batches, epochs=2)

    training, outcome = run(vs.Recomputed)
    assert len(outcome.rows) == 2
    file = training.model().save(tmp_path / "notes.vine")
    opened = vs.open_model(file)
    inputs = TOKENS[:4]
    np.testing.assert_array_equal(opened.outputs(inputs), training.outputs(inputs))
    described = vs.parts.describe(training.network)
    again = vs.parts.build(described)
    assert isinstance(again.layers[1], vs.Recomputed)
    with pytest.raises(LayerError, match="the body is a function"):
        vs.Recomputed(lambda x: x)


MEMORY = """
import sys, tracemalloc
import numpy as np
import vinestep as vs

def body():
    return vs.Stack(*(layer for _ in range(8) for layer in (vs.Dense(256), np.tanh)))

wrap = vs.Recomputed if sys.argv[1] == "again" else (lambda one: one)
network = vs.Stack(*(wrap(body()) for _ in range(8)), vs.Dense(1))
x = np.zeros((2048, 256), np.float32)
training = vs.Training(network, loss=vs.losses.squared_error, optimiser=vs.optimisers.SGD(0.1))
batch = x, np.zeros((2048, 1), np.float32)
training.step(batch)
tracemalloc.start()
training.step(batch)
print(tracemalloc.get_traced_memory()[1])
"""


def test_it_takes_less_memory():
    def peak(kind):
        done = subprocess.run(
            [sys.executable, "-c", MEMORY, kind], capture_output=True, text=True, check=True
        )
        return int(done.stdout)

    kept, again = map(peak, ("kept", "again"))
    assert again < 0.5 * kept


def test_several_ranks_compute_it_again():
    def act(wrap):
        losses, *_ = trained("dense", wrap, np.float64)
        return losses

    one = act(vs.Recomputed)
    for losses in vs.distributed.run_in_threads(3, partial(act, vs.Recomputed)):
        np.testing.assert_allclose(losses, one, rtol=1e-9)
