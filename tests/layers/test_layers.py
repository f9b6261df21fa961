import copy
from functools import partial

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import LayerError, ShapeError


def network(*, dtype=np.float64, seed=0):
    return vs.Stack(
        vs.Dense(5), vs.relu, vs.Dropout(0.3), vs.Dense(4, np.tanh), vs.Dense(3)
    ).initialise(np.ones((1, 4)), seed=seed, dtype=dtype)


def test_whole_network_and_loss_agree_with_differences(rng):
    x, labels = rng.normal(size=(6, 4)), rng.integers(0, 3, 6)

    def loss(net):
        with vs.learning(seed=3, step=5):
            return vs.losses.cross_entropy(net(x), labels)

    report = vs.check_gradients(loss, network(), tolerance=1e-7)
    report.raise_if_wrong()
    assert len(report.arguments) == 6


@pytest.mark.parametrize(
    "activation",
    [vs.relu, vs.leaky_relu, vs.sigmoid, np.tanh, partial(vs.leaky_relu, slope=0.3), np.sin],
)
def test_fused_activation_is_the_activation(activation, rng):
    x = rng.normal(size=(7, 4))
    fused = vs.Stack(vs.Dense(5), activation).initialise(x, dtype=float)
    weight, bias = fused.weights().values()
    np.testing.assert_allclose(vs.held(fused(x)), activation(x @ weight + bias), rtol=1e-13)
    vs.check_gradients(lambda net: np.sum(np.square(net(x))), fused).raise_if_wrong()


def test_same_seed_same_weights_whatever_else_is_made():
    a, b = network(seed=4).weights(), network(seed=4).weights()
    assert all(np.array_equal(a[path], b[path]) for path in a)
    shorter = vs.Stack(vs.Dense(5)).initialise(np.ones((1, 4)), seed=4, dtype=float)
    bigger = vs.Stack(vs.Dense(5), vs.Dense(9)).initialise(np.ones((1, 4)), seed=4, dtype=float)
    np.testing.assert_array_equal(shorter.weights()["0/weight"], bigger.weights()["0/weight"])


def test_parameters_are_views_of_one_arena():
    net = network()
    assert all(np.shares_memory(a, net.arena.flat) for a in net.weights().values())
    assert net.arena.flat.size == 4 * 5 + 5 + 5 * 4 + 4 + 4 * 3 + 3
    assert list(net.parameters()) == [
        "0/weight",
        "0/bias",
        "3/weight",
        "3/bias",
        "4/weight",
        "4/bias",
    ]


def test_freeze_and_thaw_by_pattern(rng):
    net = network()
    before = {k: v.copy() for k, v in net.weights().items()}
    assert net.freeze("0/*") == ["0/bias", "0/weight"]
    assert net.arena.flat.size == 39
    training = vs.Training(net, loss=vs.losses.cross_entropy, optimiser=vs.optimisers.SGD(0.1))
    training.step((rng.normal(size=(8, 4)), rng.integers(0, 3, 8)))
    after = net.weights()
    assert np.array_equal(after["0/weight"], before["0/weight"])
    assert not np.array_equal(after["4/weight"], before["4/weight"])
    net.thaw("0/*")
    training.step((rng.normal(size=(8, 4)), rng.integers(0, 3, 8)))
    assert not np.array_equal(net.weights()["0/weight"], before["0/weight"])
    with pytest.raises(LayerError, match="No parameter matches 'heads"):
        net.freeze("heads/*")


def test_optimiser_state_stays_with_its_parameters_when_others_thaw(rng):
    net = network()
    net.freeze("0/*")
    training = vs.Training(net, loss=vs.losses.cross_entropy)
    batch = rng.normal(size=(8, 4)), rng.integers(0, 3, 8)
    training.step(batch)
    kept = training.optimiser.state["m"][
        net.arena.layout["4/bias"].start : net.arena.layout["4/bias"].stop
    ].copy()
    net.thaw()
    training.optimiser.begin(net.arena.layout, net.arena.dtype)
    slot = net.arena.layout["4/bias"]
    np.testing.assert_array_equal(training.optimiser.state["m"][slot.start : slot.stop], kept)


def test_dropout_is_a_function_of_seed_step_and_path():
    net = vs.Stack(vs.Dropout(0.5), vs.Dropout(0.5)).initialise(np.ones((1, 1000)))
    x = np.ones((1, 1000), np.float32)
    with vs.learning(seed=1, step=2):
        first, second = net(x), net(x)
    with vs.learning(seed=1, step=2):
        again = net(x)
    assert not np.array_equal(first, second)
    with vs.learning(seed=1, step=3):
        later = net(x)
    np.testing.assert_array_equal(first, again)
    assert not np.array_equal(first, later)
    assert set(np.unique(first)) == {0.0, 4.0}
    assert 0.2 < np.mean(first > 0) < 0.3


def test_describe_counts():
    description = network().describe(np.ones((10, 4)))
    table = description.table()
    assert table["parameters"].sum() == 64
    assert table["multiply_adds"].sum() == 10 * (20 + 20 + 12)
    assert table["output"].iloc[-1] == (10, 3)
    assert "64 trainable parameters" in str(description)


def test_residual_concat_and_sum(rng):
    x = rng.normal(size=(5, 4))
    net = vs.Stack(
        vs.Residual(vs.Dense(4, vs.relu)),
        vs.Concat(vs.Dense(2), np.sin),
        vs.Sum(vs.Dense(3), vs.Dense(3)),
    ).initialise(x, dtype=float)
    assert list(net.parameters())[:4] == ["0/body/weight", "0/body/bias", "1/0/weight", "1/0/bias"]
    vs.check_gradients(lambda n: np.sum(np.square(n(x))), net).raise_if_wrong()


def test_a_layer_used_in_two_places_has_one_set_of_parameters(rng):
    shared = vs.Dense(4, np.tanh)
    net = vs.Stack(shared, shared, vs.Dense(1)).initialise(np.ones((1, 4)), dtype=float)
    assert list(net.parameters()) == ["0/weight", "0/bias", "2/weight", "2/bias"]
    x = rng.normal(size=(5, 4))
    vs.check_gradients(lambda n: np.sum(n(x)), net).raise_if_wrong()


def test_merged_layers_compute_what_single_ones_do(rng):
    for widths, n in [((4, 8, 3), 5), ((30, 200, 10), 400)]:
        x, labels = (
            rng.normal(size=(n, widths[0])).astype(np.float32),
            rng.integers(0, widths[2], n),
        )
        nets = [
            vs.Stack(vs.Dense(widths[1]), vs.relu, vs.Dense(widths[2])).initialise(x, seed=1)
            for _ in range(2)
        ]
        training = vs.Training(
            nets[0], loss=vs.losses.cross_entropy, optimiser=vs.optimisers.SGD(0.1)
        )
        step = training.step((x, labels))
        loss = vs.losses.cross_entropy(nets[1](x), labels)
        by_hand = vs.differentiate(loss, nets[1])
        assert step.loss == pytest.approx(loss.item(), rel=1e-6)
        np.testing.assert_allclose(step.gradients.flat, by_hand.flat, rtol=1e-4, atol=1e-6)


@pytest.mark.parametrize(
    ("attempt", "error", "text"),
    [
        (
            lambda: vs.Stack(vs.Dense(3))(np.ones((1, 2))),
            LayerError,
            r"Call network.initialise\(sample\)",
        ),
        (
            lambda: network()(np.ones((2, 7))),
            ShapeError,
            r"0 \(Dense\): expected input of shape \(batch, 4\), got \(2, 7\)",
        ),
        (
            lambda: vs.Stack(vs.Dense(3)).initialise(np.ones(4)),
            ShapeError,
            r"0 \(Dense\): .* got \(4,\)",
        ),
        (
            lambda: vs.Stack(vs.Residual(vs.Dense(3))).initialise(np.ones((1, 4))),
            ShapeError,
            "0 .Residual.: the body gives",
        ),
        (lambda: vs.Stack(vs.Dense), LayerError, "is the class Dense; call it"),
        (lambda: vs.Stack(3), LayerError, "is a int, neither a layer nor a function"),
        (lambda: vs.Dense(0), LayerError, "width must be a whole number"),
        (lambda: vs.Dropout(1.0), LayerError, "probability must be from 0"),
        (
            lambda: network().load({"0/weight": np.ones((2, 2))}),
            ShapeError,
            r"expected weights of shape \(4, 5\)",
        ),
        (
            lambda: network().load({"weight": np.ones((2, 2))}),
            ShapeError,
            "There is no parameter 'weight'",
        ),
    ],
)
def test_misuse_is_explained(attempt, error, text):
    with pytest.raises(error, match=text):
        attempt()


def test_the_network_figure_is_drawn_and_the_table_is_printed(tmp_path):
    from rich.console import Console

    network = vs.networks.residual_network(6, depth=2, width=8).initialise(np.ones((1, 16, 16, 3)))
    described = network.describe(np.ones((4, 16, 16, 3)))
    assert (
        vs.figures.save(vs.figures.network(described), tmp_path / "network.png").stat().st_size
        > 10_000
    )
    console = Console(record=True, width=120)
    console.print(described)
    assert "trainable parameters" in console.export_text()
    assert described.table()["parameters"].sum() == network.arena.flat.size


def test_a_new_head_on_a_trained_body():
    x = np.random.default_rng(0).normal(size=(8, 16, 16, 3)).astype(np.float32)
    network = vs.networks.residual_network(6, depth=1, width=8).initialise(x)
    training = vs.Training(network, loss=vs.losses.cross_entropy)
    training.step((x, np.arange(8) % 6))
    fresh = vs.networks.with_head(network, vs.Dense(3), x[:1])
    np.testing.assert_array_equal(vs.held(fresh[0](x)), vs.held(network[0](x)))
    fresh.freeze("0/*")
    before = {k: v.copy() for k, v in fresh.weights().items()}
    vs.Training(fresh, loss=vs.losses.cross_entropy).step((x, np.arange(8) % 3))
    changed = [k for k, v in fresh.weights().items() if not np.array_equal(v, before[k])]
    assert changed == ["1/weight", "1/bias"]
    assert np.shares_memory(network.weights()["1/weight"], network.arena.flat)


def test_a_stack_is_made_of_layers_or_of_a_list_of_them():
    layers = [vs.Dense(3), vs.relu, vs.Dense(2)]
    one, other = vs.Stack(layers), vs.Stack(*copy.deepcopy(layers))
    assert vs.parts.describe(one) == vs.parts.describe(other)
    x = np.ones((2, 4), np.float32)
    for network in (one, other, copy.deepcopy(one)):
        network.initialise(x, seed=1)
    np.testing.assert_array_equal(vs.held(one(x)), vs.held(other(x)))
    assert vs.Stack([]).layers == ()


@pytest.mark.parametrize(
    ("network", "shape", "dtype"),
    [
        (lambda: vs.Stack(vs.Dense(3), vs.Dense(2)), (4,), np.float32),
        (lambda: vs.Stack(vs.Convolution(2, 3), vs.Flatten(), vs.Dense(2)), (6, 5, 1), np.float32),
        (lambda: vs.Stack(vs.Embedding(7, 3), vs.Dense(2)), (4,), np.int64),
    ],
)
def test_a_shape_alone_initialises_as_a_sample_does(network, shape, dtype):
    by_shape = network().initialise(shape, seed=3)
    by_sample = network().initialise(np.zeros((2, *shape), dtype), seed=3)
    for path, weight in by_sample.weights().items():
        np.testing.assert_array_equal(by_shape.weights()[path], weight)
    assert by_shape.sample_like[0][0] == shape


def test_a_shape_that_no_example_has_is_refused():
    with pytest.raises(ShapeError, match=r"cannot have the shape \(0, 3\)"):
        vs.Dense(2).initialise((0, 3))
