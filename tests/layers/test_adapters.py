"""Low-rank adapters: beside the weights, merged into them, as files, and never beside another
base.
"""

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import ArchiveError, LayerError, ModelError
from vinestep.layers import (
    Adapters,
    adapted,
    merged,
    taken_out,
)
from vinestep.layers._adapters import adapters_of


def base(seed=0):
    network = vs.networks.LanguageModel(15, width=16, depth=2, heads=2)
    return network.initialise(np.array([[1, 2, 3]]), seed=seed)


IDS = np.random.default_rng(0).integers(0, 15, (6, 9))


def train(network, steps=30, rate=0.02):
    training = vs.Training(
        network, loss=vs.losses.cross_entropy, optimiser=vs.optimisers.Adam(rate), seed=1
    )
    losses = [training.step((IDS[:, :-1], IDS[:, 1:])).loss for _ in range(steps)]
    return losses


def test_only_the_adapters_train_and_the_base_does_not_change_by_a_bit():
    network = base()
    before = {path: w.copy() for path, w in network.weights().items()}
    small = adapted(network, "blocks/*", rank=4)
    np.testing.assert_array_equal(small(IDS).array, network(IDS).array)
    assert all(path.endswith(("/down", "/up")) for path in small.parameters())
    losses = train(small)
    assert losses[-1] < 0.8 * losses[0]
    for path, w in before.items():
        np.testing.assert_array_equal(small.weights()[path], w)
        np.testing.assert_array_equal(network.weights()[path], w)


@pytest.mark.parametrize(("rank", "share"), [(1, 0.10), (4, 0.40)])
def test_they_are_as_many_as_the_arithmetic_says(rank, share):
    network = base()
    small = adapted(network, "blocks/*/attention/*", rank=rank)
    trainable = sum(p.size for p in small.parameters().values())
    assert trainable == 2 * 4 * rank * (16 + 16)
    assert trainable < share * sum(w.size for w in network.weights().values())


def test_gradients_through_them_are_those_of_the_definition():
    network = vs.Stack(vs.Dense(5, np.tanh), vs.Dense(3)).initialise(
        np.ones((1, 4)), seed=2, dtype="float64"
    )
    small = adapted(network, "*", rank=2, scale=3.0)
    rng = np.random.default_rng(3)
    small.load(
        {
            path: rng.normal(size=w.shape)
            for path, w in small.weights().items()
            if path.endswith(("up", "down"))
        },
        partial=True,
    )
    x = rng.normal(size=(7, 4))
    w = small.weights()

    def plain(down0, up0, down1, up1):
        hidden = np.tanh(x @ (w["0/weight"] + 1.5 * down0 @ up0) + w["0/bias"])
        return np.sum((hidden @ (w["1/weight"] + 1.5 * down1 @ up1) + w["1/bias"]) ** 2)

    names = ["0/down", "0/up", "1/down", "1/up"]
    values = [np.array(w[name]) for name in names]
    np.testing.assert_allclose(np.sum(small(x).array ** 2), plain(*values), rtol=1e-12)
    found = vs.differentiate(np.sum(small(x) ** 2), small)
    for i, name in enumerate(names):
        np.testing.assert_allclose(found[name], vs.gradient_of(plain, i)(*values), rtol=1e-9)


@pytest.mark.parametrize("pattern", ["*", "blocks/0/*", "embedding", "head"])
def test_merged_they_compute_the_same_and_can_be_taken_out_again(pattern):
    network = base()
    small = adapted(network, pattern, rank=3)
    train(small, 10)
    whole = merged(small)
    np.testing.assert_allclose(whole(IDS).array, small(IDS).array, atol=2e-5)
    assert list(whole.weights()) == list(network.weights())
    assert list(whole.parameters()) == list(network.parameters())
    for layer in small.walk():
        if hasattr(layer, "change"):
            back = whole.weights()[f"{layer.path}/weight"] - layer.change()
            np.testing.assert_allclose(back, network.weights()[f"{layer.path}/weight"], atol=1e-6)
    assert vs.generate(whole, [1, 2], most=5).tokens == vs.generate(small, [1, 2], most=5).tokens


def test_several_are_switched_by_name_and_saved_in_kilobytes(tmp_path):
    network = base()
    small = adapted(network, "blocks/*", rank=2)
    shelf = Adapters(small)
    train(small, 5)
    shelf.keep("five")
    five = small(IDS).array.copy()
    train(small, 20)
    shelf.keep("twenty")
    twenty = small(IDS).array.copy()
    shelf.use("five")
    np.testing.assert_array_equal(small(IDS).array, five)
    shelf.use(None)
    np.testing.assert_array_equal(small(IDS).array, network(IDS).array)
    file = shelf.save(tmp_path / "twenty.vine", name="twenty")
    assert file.stat().st_size < 20_000
    other = Adapters(adapted(base(), "blocks/*", rank=2))
    other.open(file, "came")
    np.testing.assert_array_equal(other.network(IDS).array, twenty)
    assert other.names == ["came"]
    with pytest.raises(LayerError, match="Did you mean 'twenty'"):
        shelf.use("twent")


def test_adapters_of_another_base_are_refused_with_both_named(tmp_path):
    file = Adapters(adapted(base(), "head", rank=2)).save(tmp_path / "a.vine")
    with pytest.raises(
        ModelError,
        match=r"belong to the base [0-9a-f]{12}, and this network is the base [0-9a-f]{12}",
    ):
        Adapters(adapted(base(seed=5), "head", rank=2)).open(file, "x")
    with pytest.raises(ModelError, match="ranks and scales differ"):
        Adapters(adapted(base(), "head", rank=3)).open(file, "x")
    content = bytearray(file.read_bytes())
    content[200] ^= 1
    file.write_bytes(content)
    with pytest.raises(ArchiveError, match="check sum"):
        Adapters(adapted(base(), "head", rank=2)).open(file, "x")


def test_bad_input_is_refused_in_words():
    with pytest.raises(
        LayerError, match="no layer of kind Convolution or Dense .* matches 'bloks/"
    ):
        adapted(base(), "bloks/*")
    with pytest.raises(LayerError, match="rank must be"):
        adapted(base(), rank=0)
    with pytest.raises(LayerError, match="a rank of 99 is more"):
        adapted(base(), rank=99)
    with pytest.raises(LayerError, match="the network has none"):
        Adapters(base())


def test_a_run_with_adapters_resumes_to_equal_bits(tmp_path):
    class Halt(vs.observers.Observer):
        def after_step(self, run, step):
            if step.number == 5:
                run.stop("told to", resumable=True)

    def run(halting=False, **more):
        network = adapted(base(), "blocks/*", rank=2, dropout=0.2)
        training = vs.Training(network, loss=vs.losses.cross_entropy, seed=1)
        data = vs.data.Dataset(IDS[:, :-1], IDS[:, 1:])
        outcome = training.run(
            data.batches(2), epochs=4, observers=[Halt()] if halting else [], **more
        )
        return outcome, network.weights()

    _, whole = run(record=tmp_path)
    stopped, _ = run(True, record=tmp_path)
    _, rest = run(resume=stopped.folder)
    for path, w in whole.items():
        np.testing.assert_array_equal(rest[path], w)


@pytest.mark.parametrize(("groups", "stride", "dilation"), [(1, 1, 1), (2, 2, 1), (4, 1, 2)])
def test_beside_a_convolution_they_are_what_is_added_to_its_weight(groups, stride, dilation):
    layer = vs.Convolution(
        8, 3, groups=groups, stride=stride, dilation=dilation, activation=np.tanh
    )
    x = np.random.default_rng(0).normal(size=(2, 9, 7, 4))
    network = vs.Stack(layer, vs.relu, vs.Convolution(4, (1, 2))).initialise(
        x, seed=1, dtype="float64"
    )
    small = adapted(network, ["0", "2"], rank=2)
    np.testing.assert_allclose(small(x).array, network(x).array, atol=1e-12)
    rng = np.random.default_rng(1)
    small.load(
        {path: rng.normal(size=p.shape) for path, p in small.parameters().items()}, partial=True
    )
    whole = merged(small)
    np.testing.assert_allclose(small(x).array, whole(x).array, atol=1e-12)
    assert np.abs(whole.weights()["0/weight"] - network.weights()["0/weight"]).max() > 0.1
    back = taken_out(whole, small)
    for path, w in network.weights().items():
        np.testing.assert_allclose(back.weights()[path], w, atol=1e-12)

    def total(down, up):
        w = network.weights()
        change = np.einsum(
            "kgr,rgo->kgo", np.reshape(down, (-1, groups, 2)), np.reshape(up, (2, groups, -1))
        )
        plain = vs.Stack(
            vs.Convolution(8, 3, groups=groups, stride=stride, dilation=dilation)
        ).initialise(x, dtype="float64")
        plain[0].weight = w["0/weight"] + 2 * np.reshape(change, w["0/weight"].shape)
        plain[0].bias = w["0/bias"]
        return np.sum(np.tanh(plain[0](x)) ** 2)

    found = vs.differentiate(np.sum(small[0](x) ** 2), small, unused="zeros")
    for name, other in (("0/down", "0/up"), ("0/up", "0/down")):
        given = np.array(small.weights()[name])
        fixed = np.array(small.weights()[other])
        of = (
            (lambda a, b=fixed: total(a, b))
            if name == "0/down"
            else (lambda a, b=fixed: total(b, a))
        )
        np.testing.assert_allclose(found[name], vs.gradient_of(of)(given), rtol=1e-9)


def test_a_stack_with_an_activation_behind_adapted_layers_computes_it():
    network = vs.Stack(vs.Dense(6), vs.relu, vs.Dense(5), np.tanh, vs.Dense(3)).initialise(
        np.ones((1, 4)), seed=1
    )
    small, x = (
        adapted(network, rank=2),
        np.random.default_rng(0).normal(size=(9, 4)).astype(np.float32),
    )
    np.testing.assert_allclose(small(x).array, network(x).array, atol=1e-6)
    train_on = vs.Training(small, loss=vs.losses.squared_error, optimiser=vs.optimisers.Adam(0.05))
    losses = [train_on.step((x, x[:, :3])).loss for _ in range(40)]
    assert losses[-1] < 0.7 * losses[0]
    np.testing.assert_allclose(merged(small)(x).array, small(x).array, atol=1e-5)


def test_a_model_with_adapters_is_opened_as_it_was(tmp_path):
    small = adapted(base(), ["blocks/*", "embedding"], rank=2, scale=3.0, dropout=0.1)
    train(small, 5)
    again = vs.open_model(vs.Model(small).save(tmp_path / "small.vine")).network
    np.testing.assert_array_equal(again(IDS).array, small(IDS).array)
    assert set(again.parameters()) == set(small.parameters())
    assert adapters_of(again) == adapters_of(small)
    train(small, 3)
    train(again, 3)
