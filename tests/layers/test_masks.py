"""What is hidden or weighs nothing never reaches what is seen, NaN included; what layers draw."""

from functools import partial

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import NotFiniteError, ShapeError

LONG = 32  # from here on compiled loops compute attention


@pytest.fixture(params=[5, LONG])
def time(request):
    return request.param


def sequences(time, width=64):
    rng = np.random.default_rng(0)
    x = rng.normal(size=(3, time, width)).astype(np.float32)
    mask = np.ones((3, time), bool)
    mask[0, time // 2 :] = False
    mask[1, -1] = False
    return x, mask


LAYERS = {
    "attention": lambda: vs.Attention(2),
    "causal attention": lambda: vs.Attention(2, causal=True),
    "rotary attention": lambda: vs.Attention(2, rotary=True),
    "block": lambda: vs.TransformerBlock(2),
    "lstm": lambda: vs.LSTM(8, bidirectional=True),
    "gru": lambda: vs.GRU(8, depth=2),
    "stack": lambda: vs.Stack(vs.Dense(64), vs.Attention(2), vs.LayerNorm()),
}


@pytest.mark.parametrize("bad", [np.nan, np.inf, 1e30])
@pytest.mark.parametrize("name", LAYERS)
def test_masked_places_reach_no_others(name, bad, time):
    x, mask = sequences(time)
    layer = LAYERS[name]().initialise(x)
    spoilt = np.where(mask[..., None], x, np.float32(bad))
    weights = mask.astype(np.float32)

    def derived(inputs):
        descent = vs.Descent(layer)
        with vs.learning():
            outputs = layer(inputs, mask=mask)
            target = np.zeros(outputs.shape, np.float32)
            loss = vs.losses.squared_error(
                np.reshape(outputs, (-1, outputs.shape[-1])),
                target.reshape(-1, target.shape[-1]),
                weights=weights.reshape(-1),
            )
        return vs.held(outputs), vs.held(loss), descent.gradients(loss)

    with np.errstate(all="ignore"):
        outputs, loss, gradients = derived(x)
        others, spoilt_loss, spoilt_gradients = derived(spoilt)
    if bad == 1e30 and name in ("block", "stack"):
        return  # finite inputs are computed as they are
    np.testing.assert_allclose(others[mask], outputs[mask], rtol=1e-5, atol=1e-6)
    np.testing.assert_allclose(spoilt_loss, loss, rtol=1e-5)
    if bad != 1e30:
        np.testing.assert_allclose(spoilt_gradients.flat, gradients.flat, rtol=1e-4, atol=1e-6)


@pytest.mark.parametrize("bad", [np.nan, np.inf])
def test_a_later_place_reaches_no_earlier_one(bad, time):
    x, _ = sequences(time)
    layer = vs.Attention(2, causal=True).initialise(x)
    spoilt = x.copy()
    spoilt[:, -2:] = bad
    with np.errstate(all="ignore"):
        before = vs.held(layer(x))[:, :-2]
        after = vs.held(layer(spoilt))
    np.testing.assert_allclose(after[:, :-2], before, rtol=1e-5, atol=1e-6)
    assert np.isnan(after[:, -2:]).all()


LOSSES = ["squared_error", "absolute_error", "huber", "log_cosh", "binary_cross_entropy"]
LOSSES += ["cosine", "kullback_leibler"]


@pytest.mark.parametrize("name", LOSSES)
def test_what_weighs_nothing_reaches_neither_loss_nor_gradient(name):
    rng = np.random.default_rng(0)
    outputs, targets = np.log(rng.dirichlet(np.ones(3), 4)), rng.dirichlet(np.ones(3), 4)
    weights = np.array([1.0, 0.0, 2.0, 0.0])
    loss = getattr(vs.losses, name)

    def derived(o, t):
        tensor = vs.Tensor(o)
        value = loss(tensor, t, weights=weights)
        return value.item(), vs.differentiate(value, wrt={"x": tensor})["x"]

    wanted, slope = derived(outputs, targets)
    spoilt, spoilt_targets = outputs.copy(), targets.copy()
    spoilt[1], spoilt_targets[3] = np.nan, np.nan
    found, spoilt_slope = derived(spoilt, spoilt_targets)
    assert found == pytest.approx(wanted)
    np.testing.assert_allclose(spoilt_slope, slope)


def test_logits_of_ignored_labels_reach_nothing():
    logits = np.array([[1.0, 2.0], [np.nan, np.inf], [0.0, 1.0]])
    labels = np.array([0, -1, 1])
    loss = partial(vs.losses.cross_entropy, ignored=-1)
    tensor = vs.Tensor(logits)
    value = loss(tensor, labels)
    assert value.item() == pytest.approx(float(vs.losses.cross_entropy(logits[::2], labels[::2])))
    slope = vs.differentiate(value, wrt={"x": tensor})["x"]
    assert np.isfinite(slope).all()
    assert not slope[1].any()


def test_one_dropout_used_twice_draws_twice():
    class Twice(vs.Layer):
        def __init__(self):
            self.drop = vs.Dropout(0.5)
            self.noise = vs.Noise(1.0)

        def compute(self, x):
            return np.stack([self.drop(x), self.drop(x), self.noise(x), self.noise(x)])

    x = np.ones((4, 50), np.float32)
    network = Twice().initialise(x)
    with vs.learning(seed=1, step=2):
        first = vs.held(network(x))
    assert not np.array_equal(first[0], first[1])
    assert not np.array_equal(first[2], first[3])
    with vs.learning(seed=1, step=2):
        np.testing.assert_array_equal(vs.held(network(x)), first)
    with vs.learning(seed=1, step=3):
        assert not np.array_equal(vs.held(network(x)), first)


@pytest.mark.parametrize("beams", [1, 3])
def test_logits_that_are_no_numbers_end_generation_in_words(beams):
    model = vs.networks.LanguageModel(9, width=8, depth=1, heads=2).initialise(
        np.array([[1, 2, 3]])
    )
    bias = np.zeros(9, np.float32)
    model.load({"head/bias": bias}, partial=True)
    model.weights()["head/bias"][4] = np.nan
    with pytest.raises(NotFiniteError, match="the network puts out nan for the next"):
        vs.generate(model, [1, 2], most=4, beams=beams)


def test_attention_looks_at_a_source_and_values_of_other_widths():
    rng = np.random.default_rng(0)
    x, source, values = (rng.normal(size=(2, t, w)) for t, w in ((5, 8), (7, 6), (7, 3)))

    class Looks(vs.Layer):
        def __init__(self):
            self.attention = vs.Attention(2)

        def compute(self, x, source, values):
            return self.attention(x, source, values=values)

    network = Looks().initialise((x, source, values), dtype=float)
    assert network.weights()["attention/key/weight"].shape == (6, 8)
    assert network.weights()["attention/value/weight"].shape == (3, 8)
    w = network.weights()
    q, k, v = (
        (a @ w[f"attention/{n}/weight"] + w[f"attention/{n}/bias"]).reshape(2, -1, 2, 4)
        for a, n in ((x, "query"), (source, "key"), (values, "value"))
    )
    scores = np.einsum("bqhd,bkhd->bhqk", q, k) / 2
    shares = np.exp(scores) / np.exp(scores).sum(-1, keepdims=True)
    mixed = np.einsum("bhqk,bkhd->bqhd", shares, v).reshape(2, 5, 8)
    wanted = mixed @ w["attention/out/weight"] + w["attention/out/bias"]
    np.testing.assert_allclose(vs.held(network(x, source, values)), wanted, rtol=1e-6)
    vs.check_gradients(
        lambda net, a: np.sum(net(a, source, values) ** 2), network, x
    ).raise_if_wrong()
    with pytest.raises(ShapeError, match="4 values for 7 places"):
        network(x, source, values[:, :4])
    with pytest.raises(ShapeError, match="values belong to a source"):
        network.attention(x, values=values)


def test_loading_statistics_leaves_what_was_recorded_valid():
    x = np.ones((4, 3), np.float32)
    network = vs.Stack(vs.Dense(3), vs.BatchNorm()).initialise(x)
    loss = np.sum(network(x) ** 2)
    network.load(network.statistics(), partial=True)
    assert vs.differentiate(loss, wrt=network.parameters())["0/weight"].shape == (3, 3)
