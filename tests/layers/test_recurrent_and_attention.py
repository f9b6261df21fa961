"""Recurrences, attention and embeddings against loops written out, against differences, and against
their own relations.
"""

import numpy as np
import pytest
from scipy.special import expit, softmax

import vinestep as vs
from vinestep import kernels
from vinestep.errors import DataError, LayerError, ShapeError
from vinestep.layers._embedding import rotated
from vinestep.layers._recurrent import lstm


def ready(layer, *samples):
    return layer.initialise(samples if len(samples) > 1 else samples[0], dtype=float, seed=2)


def gates(z, n):
    return np.split(z, n, axis=-1)


def lstm_by_hand(x, w):
    h = c = np.zeros((x.shape[0], w["recurrent"].shape[0]))
    ys = []
    for t in range(x.shape[1]):
        i, o, f, g = gates(x[:, t] @ w["weight"] + h @ w["recurrent"] + w["bias"], 4)
        c = expit(f) * c + expit(i) * np.tanh(g)
        h = expit(o) * np.tanh(c)
        ys.append(h)
    return np.stack(ys, axis=1)


def gru_by_hand(x, w):
    h = np.zeros((x.shape[0], w["recurrent"].shape[0]))
    ys = []
    for t in range(x.shape[1]):
        zu, zr, zn = gates(x[:, t] @ w["weight"] + w["bias"], 3)
        ru, rr, rn = gates(w["recurrent"], 3)
        update, reset = expit(zu + h @ ru), expit(zr + h @ rr)
        h = (1 - update) * np.tanh(zn + (reset * h) @ rn) + update * h
        ys.append(h)
    return np.stack(ys, axis=1)


def plain_by_hand(x, w):
    h = np.zeros((x.shape[0], w["recurrent"].shape[0]))
    ys = []
    for t in range(x.shape[1]):
        h = np.tanh(x[:, t] @ w["weight"] + h @ w["recurrent"] + w["bias"])
        ys.append(h)
    return np.stack(ys, axis=1)


KINDS = {vs.LSTM: lstm_by_hand, vs.GRU: gru_by_hand, vs.Recurrent: plain_by_hand}


@pytest.mark.parametrize("kind", list(KINDS))
def test_a_recurrence_is_its_loop(kind, rng):
    x = rng.normal(size=(3, 6, 2))
    layer = ready(kind(4), x)
    weights = {path.rpartition("/")[2]: a for path, a in layer.weights().items()}
    np.testing.assert_allclose(vs.held(layer(x)), KINDS[kind](x, weights), rtol=1e-10)


def test_parameters_need_not_lie_together(rng):
    x, h, c = rng.normal(size=(16, 3, 8)), rng.normal(size=(16, 12)), rng.normal(size=(16, 12))
    weight, recurrent, bias = (
        rng.normal(size=(48, 8)).T,
        rng.normal(size=(48, 12)).T,
        rng.normal(size=96)[::2],
    )
    inputs = x, weight, recurrent, bias, h, c
    found, expected = (way(*inputs, mask=None, backwards=False) for way in (lstm, lstm.definition))
    np.testing.assert_allclose(found, expected, rtol=1e-12, atol=1e-12)


@pytest.mark.parametrize("kind", list(KINDS))
def test_both_ways_levels_and_last(kind, rng):
    x = rng.normal(size=(3, 6, 2))
    layer = ready(kind(4, depth=2, bidirectional=True), x)
    w = layer.weights()

    def part(level, direction):
        return {
            name: w[f"levels/{level}/{direction}/{name}"]
            for name in ("weight", "recurrent", "bias")
        }

    y = x
    for level in range(2):
        forward, backward = (
            KINDS[kind](y, part(level, 0)),
            KINDS[kind](y[:, ::-1], part(level, 1))[:, ::-1],
        )
        y = np.concatenate([forward, backward], axis=-1)
    np.testing.assert_allclose(vs.held(layer(x)), y, rtol=1e-10)
    layer.output = "last"
    np.testing.assert_allclose(
        vs.held(layer(x)), np.concatenate([y[:, -1, :4], y[:, 0, 4:]], axis=-1), rtol=1e-10
    )


@pytest.mark.parametrize("kind", list(KINDS))
def test_masked_sequences_are_as_if_alone(kind, rng):
    x = rng.normal(size=(2, 6, 3))
    mask = np.array([[True] * 6, [True] * 4 + [False] * 2])
    layer = ready(kind(4, bidirectional=True, output="last"), x)
    whole = vs.held(layer(x, mask))
    np.testing.assert_allclose(whole[1], vs.held(layer(x[1:, :4]))[0], rtol=1e-10)
    np.testing.assert_allclose(whole[0], vs.held(layer(x[:1]))[0], rtol=1e-10)


@pytest.mark.parametrize("kind", list(KINDS))
def test_states_handed_on_continue_a_sequence(kind, rng):
    x = rng.normal(size=(2, 7, 3))
    layer = ready(kind(4, depth=2), x)
    first, states = layer(x[:, :3], with_states=True)
    second = layer(x[:, 3:], None, states)
    np.testing.assert_allclose(
        np.concatenate([vs.held(first), vs.held(second)], axis=1), vs.held(layer(x)), rtol=1e-10
    )


SEQUENCES = {
    "recurrent": lambda: vs.Recurrent(3, activation=np.sin),
    "gru": lambda: vs.GRU(3, output="last"),
    "lstm": lambda: vs.LSTM(3, depth=2, bidirectional=True, dropout=0.3),
    "attention": lambda: vs.Attention(2, dropout=0.2),
    "causal attention": lambda: vs.Attention(2, causal=True, rotary=True),
    "block": lambda: vs.TransformerBlock(2, expansion=2, dropout=0.1),
    "block, normalised after": lambda: vs.TransformerBlock(
        2, expansion=2, causal=True, norm_first=False, activation=np.tanh
    ),
    "sine positions": lambda: vs.Positions(),
    "learned positions": lambda: vs.Positions("learned", longest=9),
}


@pytest.mark.parametrize("name", list(SEQUENCES))
def test_derivatives_of_first_and_second_order(name, rng):
    x = rng.normal(size=(2, 4, 4))
    network = ready(vs.Stack(SEQUENCES[name]()), x)
    weights = rng.normal(size=np.shape(vs.held(network(x))))

    def value(net, x):
        with vs.learning(seed=2, step=3):
            return np.sum(net(x) * weights)

    arguments = (network, x) if network.parameters() else (x,)
    check = value if network.parameters() else lambda x: value(network, x)
    vs.check_gradients(check, *arguments, tolerance=1e-7, elements=25).raise_if_wrong()
    slope = vs.gradient_of(lambda x: value(network, x) ** 2)
    vs.check_gradients(
        lambda x: np.sum(slope(x) * x), x, tolerance=1e-4, elements=10
    ).raise_if_wrong()


def attention_by_loops(layer, x, source, heads, causal=False, mask=None):
    w = layer.weights()
    q, k, v = (
        s @ w[f"{n}/weight"] + w[f"{n}/bias"]
        for n, s in (("query", x), ("key", source), ("value", source))
    )
    size = x.shape[-1] // heads
    out = np.zeros_like(x)
    for b in range(x.shape[0]):
        for head in range(heads):
            part = slice(head * size, (head + 1) * size)
            for t in range(x.shape[1]):
                seen = [
                    u
                    for u in range(source.shape[1])
                    if (not causal or u <= t) and (mask is None or mask[b, u])
                ]
                scores = np.array([q[b, t, part] @ k[b, u, part] for u in seen]) / np.sqrt(size)
                out[b, t, part] = sum(
                    p * v[b, u, part] for p, u in zip(softmax(scores), seen, strict=True)
                )
    return out @ w["out/weight"] + w["out/bias"]


@pytest.mark.parametrize("causal", [True, False])
def test_attention_is_its_loops(causal, rng):
    x = rng.normal(size=(2, 5, 6))
    layer = ready(vs.Attention(3, causal=causal), x)
    mask = np.array([[True] * 5, [True, True, False, True, False]])
    expected = attention_by_loops(layer, x, x, 3, causal, mask)
    np.testing.assert_allclose(vs.held(layer(x, None, mask)), expected, rtol=1e-9)


@pytest.mark.parametrize("frozen", [None, "key/*", "value/weight"])
def test_a_training_step_has_the_gradients_of_the_layers_one_by_one(frozen, rng):
    x, target = rng.normal(size=(2, 2, 9, 16))
    layer = ready(vs.Attention(2, causal=True), x)
    if frozen is not None:
        layer.freeze(frozen)
    expected = vs.differentiate(np.mean(np.square(layer(x) - target)), layer)
    found = vs.Training(layer, loss=vs.losses.squared_error).step((x, target)).gradients
    assert set(found) == set(expected)
    for path, gradient in expected.items():
        np.testing.assert_allclose(found[path], gradient, rtol=1e-9, atol=1e-15)


def test_cross_attention_looks_at_the_other_sequence(rng):
    x, source = rng.normal(size=(2, 3, 4)), rng.normal(size=(2, 5, 4))
    layer = ready(vs.Attention(2), x)
    np.testing.assert_allclose(
        vs.held(layer(x, source)), attention_by_loops(layer, x, source, 2), rtol=1e-9
    )


@pytest.mark.parametrize("rotary", [True, False])
def test_step_by_step_with_cached_keys_is_the_whole_at_once(rotary, rng):
    x = rng.normal(size=(2, 6, 8))
    block = ready(vs.TransformerBlock(2, causal=True, rotary=rotary), x)
    cache = {}
    steps = [vs.held(block(x[:, t : t + 1], None, cache)) for t in range(6)]
    np.testing.assert_allclose(np.concatenate(steps, axis=1), vs.held(block(x)), rtol=1e-9)


def test_rotation_makes_products_depend_on_distance_only(rng):
    q, k = rng.normal(size=8), rng.normal(size=8)
    turned_q, turned_k = (rotated(np.tile(v, (10, 1))) for v in (q, k))
    products = turned_q @ turned_k.T
    for distance in range(5):
        np.testing.assert_allclose(
            np.diag(products, distance), np.diag(products, distance)[0], rtol=1e-9
        )


def test_decoder_uses_both_sequences(rng):
    x, source = rng.normal(size=(2, 3, 4)), rng.normal(size=(2, 5, 4))
    block = ready(vs.DecoderBlock(2, expansion=2), x, source)
    vs.check_gradients(
        lambda net, x, s: np.sum(net(x, s) ** 2), block, x, source, tolerance=1e-6, elements=15
    ).raise_if_wrong()
    changed = x.copy()
    changed[:, 2] += 1
    np.testing.assert_allclose(
        vs.held(block(changed, source))[:, :2], vs.held(block(x, source))[:, :2]
    )


def test_embedding_looks_up_and_padding_stays_zero(rng):
    layer = ready(vs.Embedding(5, 3, padding=0), np.array([[1, 2]]))
    ids = np.array([[1, 4, 1], [0, 0, 2]])
    table = layer.weights()["weight"]
    np.testing.assert_array_equal(
        vs.held(layer(ids)), np.where((ids == 0)[..., None], 0, table[ids])
    )
    gradient = vs.differentiate(np.sum(layer(ids) * 2.0), layer)["weight"]
    np.testing.assert_array_equal(gradient, np.array([0, 4, 2, 0, 2])[:, None] * np.ones(3))
    vs.check_gradients(lambda net: np.sum(np.sin(net(ids))), layer).raise_if_wrong()


@pytest.mark.parametrize(
    ("attempt", "error", "text"),
    [
        (
            lambda: ready(vs.Stack(vs.Embedding(5, 3)), np.array([[1, 7]])),
            DataError,
            r"0 .Embedding.: token 7 at \(0, 1\) is out of range",
        ),
        (
            lambda: ready(vs.Stack(vs.Embedding(5, 3)), np.ones((1, 2))),
            DataError,
            "tokens have to be whole numbers",
        ),
        (
            lambda: ready(vs.Stack(vs.LSTM(3)), np.ones((2, 3))),
            ShapeError,
            r"0 .LSTM.: expected input of shape \(batch, time, features\)",
        ),
        (
            lambda: ready(vs.GRU(3), np.ones((2, 3, 4)))(np.ones((2, 3, 4)), np.zeros((2, 3))),
            ShapeError,
            "hides all of sequence 0",
        ),
        (
            lambda: ready(vs.GRU(3), np.ones((2, 3, 4)))(np.ones((2, 3, 4)), np.ones((2, 5))),
            ShapeError,
            "the mask has shape",
        ),
        (
            lambda: ready(vs.Stack(vs.Attention(3)), np.ones((2, 3, 4))),
            LayerError,
            "0 .Attention.: 3 heads do not divide a width of 4",
        ),
        (
            lambda: ready(vs.Attention(2), np.ones((2, 3, 4)))(
                np.ones((2, 3, 4)), None, np.eye(2, 3) > 2
            ),
            ShapeError,
            "hides all of sequence 0",
        ),
        (
            lambda: ready(vs.Positions("learned", longest=2), np.ones((1, 3, 4))),
            ShapeError,
            "place 3 is beyond the longest learned, 2",
        ),
        (lambda: vs.LSTM(0), LayerError, "width and depth must be at least 1"),
        (lambda: vs.LSTM(3, output="all"), LayerError, 'output must be "sequence" or "last"'),
    ],
)
def test_mistakes_are_explained(attempt, error, text):
    with pytest.raises(error, match=text):
        attempt()


@pytest.mark.parametrize("kernels_on", [True, False])
@pytest.mark.parametrize("make", [vs.LSTM, vs.GRU, vs.Recurrent])
@pytest.mark.parametrize("dtype", [np.float32, np.float64])
def test_cotangents_that_vanish_in_a_long_sequence_become_0(make, kernels_on, dtype, monkeypatch):
    if not kernels_on:
        monkeypatch.setattr(kernels.SWITCH, "on", False)
    time = 150 if dtype == np.float32 else 700
    x = np.random.default_rng(0).normal(size=(9, time, 3)).astype(dtype)
    network = make(20).initialise(x)
    network.load({path: array * 0.1 for path, array in network.weights().items()})

    def gradient(x):
        return vs.held(vs.gradient_of(lambda x: np.sum(network(x)[:, -1] ** 2))(x))

    found, limits = gradient(x), np.finfo(dtype)
    assert not found[:, 0].any()
    assert found[:, -1].all()
    assert np.mean(np.abs(found[found != 0]) < limits.tiny) < 0.01
    np.testing.assert_allclose(
        found[:, -5:], gradient(x[:, -20:])[:, -5:], rtol=1e-3, atol=1e-5 * np.abs(found).max()
    )
