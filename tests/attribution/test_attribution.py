"""What mattered, held against closed forms, finite differences and brute force."""

import numpy as np
import pandas as pd
import pytest
from scipy.special import softmax

import vinestep as vs
from vinestep.errors import DataError, ModelError, SettingError

a = vs.attribution


def network(width=1, d=4, seed=0):
    made = vs.Stack(vs.Dense(6, np.tanh), vs.Dense(width))
    return made.initialise(np.ones((1, d)), seed=seed, dtype="float64")


X = np.random.default_rng(0).normal(size=(5, 4))


def test_slopes_are_those_of_finite_differences():
    net = network(3)
    found = a.input_gradients(net, X)
    before = vs.held(net(X))
    best = before.argmax(axis=1)
    for i in range(4):
        up, down = X.copy(), X.copy()
        up[:, i] += 1e-6
        down[:, i] -= 1e-6
        rows = np.arange(5)
        slope = (vs.held(net(up))[rows, best] - vs.held(net(down))[rows, best]) / 2e-6
        np.testing.assert_allclose(found[:, i], slope, atol=1e-7)
    one = a.input_gradients(net, X, output=int(best[0] + 1) % 3)
    assert not np.allclose(one, found)


def test_integrated_gradients_add_up_to_the_difference():
    net = network(2)
    base = np.full(4, 0.3)
    found = a.integrated_gradients(net, X, baseline=base, steps=400, output=1)
    apart = vs.held(net(X))[:, 1] - vs.held(net(np.broadcast_to(base, X.shape)))[:, 1]
    np.testing.assert_allclose(found.sum(axis=1), apart, atol=1e-5)
    linear = vs.Dense(1).initialise(X, dtype="float64")
    w = linear.weights()["weight"][:, 0]
    np.testing.assert_allclose(a.integrated_gradients(linear, X, steps=1), X * w)
    np.testing.assert_allclose(a.occlusion(linear, X), X * w)


def test_occlusion_finds_where_a_picture_tells():
    class Corner(vs.Layer):
        def declare(self, shape):
            self.parameter("scale", (1,), vs.initialisers.ones)

        def compute(self, x):
            return np.sum(x[:, :2, :2, 0], axis=(1, 2))[:, None] * self.scale

    net = Corner().initialise(np.ones((1, 6, 5, 1)))
    found = a.occlusion(net, np.ones((2, 6, 5, 1)), window=2)
    assert found.shape == (2, 6, 5)
    assert found[:, :2, :2].min() > found[:, 3:, :].max() == 0
    assert a.integrated_gradients(net, np.ones((2, 6, 5, 1)))[0, :2, :2, 0].tolist() == [[1, 1]] * 2


def test_several_targets_are_named():
    net = vs.Heads(vs.Dense(4, np.tanh), {"state": vs.Dense(3), "sugar": vs.Dense(1)})
    net.initialise(X, dtype="float64")
    with pytest.raises(SettingError, match="state, sugar"):
        a.input_gradients(net, X)
    found = a.input_gradients(net, X, target="sugar")
    assert found.shape == X.shape
    with pytest.raises(SettingError, match="no number 7"):
        a.input_gradients(net, X, target="state", output=7)
    with pytest.raises(DataError, match="batch of numbers"):
        a.input_gradients(net, np.array([["a"]]))


def cellar(n=240):
    rng = np.random.default_rng(1)
    frame = pd.DataFrame(rng.normal(size=(n, 2)), columns=["pH", "noise"])
    frame["cooper"] = rng.choice(["Alder", "Brun"], n)
    score = frame["pH"] + (frame["cooper"] == "Brun") + 0.2 * rng.normal(size=n)
    frame["state"] = np.where(score > 0.5, "sound", "stuck")
    return frame


@pytest.fixture(scope="module")
def model():
    train, validation = vs.data.Table(cellar(), target="state").split(0.7, 0.3)
    train, validation = vs.data.scaled(train, validation)
    training = vs.Training(
        vs.Stack(vs.Dense(8, vs.relu), vs.Dense(2)),
        task=vs.tasks.Classes(),
        optimiser=vs.optimisers.Adam(0.02),
    )
    training.run(train.batches(32), epochs=30)
    return training.model()


def test_columns_that_matter_are_told_from_one_that_does_not(model):
    found = a.permutation_importance(model, cellar(), seed=1).set_index("column")
    assert found.loc["pH", "low"] > 0.1
    assert found.loc["cooper", "low"] > 0.05
    assert abs(found.loc["noise", "importance"]) < 0.05
    right = a.permutation_importance(model, cellar(), score="accuracy").set_index("column")
    assert right.loc["pH", "importance"] > 0.1
    with pytest.raises(ModelError, match="no score 'f1'"):
        a.permutation_importance(model, cellar(), score="f1")


def test_importance_is_that_of_its_definition():
    rng = np.random.default_rng(0)
    x = rng.normal(size=(4000, 2))
    net = vs.Dense(1).initialise(x, dtype="float64")
    net.load({"weight": np.array([[2.0], [0.5]]), "bias": np.zeros(1)})
    made = vs.Model(net, loss=vs.losses.squared_error)
    found = a.permutation_importance(made, x, vs.held(net(x)), repeats=20).set_index("column")
    # dealt anew, w * (x' - x) has the variance 2 w**2
    assert found.loc["0", "importance"] == pytest.approx(8, rel=0.1)
    assert found.loc["1", "importance"] == pytest.approx(0.5, rel=0.1)


def test_dependence_is_the_mean_answer(model):
    frame = cellar()
    found = a.partial_dependence(model, frame, "pH", values=[-1.0, 1.0])
    for value, mean in zip(found["pH"], found["probability sound"], strict=True):
        changed = model.predict(frame.assign(pH=value), beside=False)
        assert mean == pytest.approx(changed["probability sound"].mean())
    words = a.partial_dependence(model, frame, "cooper")
    assert words["cooper"].tolist() == ["Alder", "Brun"]
    assert words["probability sound"].iloc[1] > words["probability sound"].iloc[0]
    assert len(a.partial_dependence(model, frame, "pH", points=7)) == 7
    with pytest.raises(DataError, match="no column 'ph'"):
        a.partial_dependence(model, frame, "ph")


@pytest.mark.parametrize("causal", [False, True])
def test_the_weights_of_attention_give_its_output(causal):
    layer = vs.Attention(2, causal=causal).initialise(np.ones((1, 5, 8)), dtype="float64")
    x = np.random.default_rng(0).normal(size=(3, 5, 8))
    weights = a.attention_weights(layer, x)[""]
    np.testing.assert_allclose(weights.sum(axis=-1), 1)
    q, k, v = (
        vs.held(part(x)).reshape(3, 5, 2, 4) for part in (layer.query, layer.key, layer.value)
    )
    scores = np.einsum("nthc,nshc->nhts", q, k) / 2
    if causal:
        scores = np.where(np.triu(np.ones((5, 5), bool), 1), -np.inf, scores)
    np.testing.assert_allclose(weights, softmax(scores, axis=-1), atol=1e-12)
    out = np.einsum("nhts,nshc->nthc", weights, v).reshape(3, 5, 8)
    np.testing.assert_allclose(vs.held(layer.out(out)), vs.held(layer(x)), atol=1e-12)
    large = vs.Stack(vs.TransformerBlock(2, causal=causal)).initialise(np.ones((1, 16, 32)))
    found = a.attention_weights(large, np.ones((2, 16, 32), np.float32))
    assert [w.shape for w in found.values()] == [(2, 2, 16, 16)]
    with pytest.raises(SettingError, match="no attention"):
        a.attention_weights(network(), X)


def test_principal_components_are_those_of_the_covariance():
    x = np.random.default_rng(0).normal(size=(40, 5)) @ np.diag([5, 3, 1, 1, 1])
    points, shares = a.principal_components(x, 3)
    values, vectors = np.linalg.eigh(np.cov(x.T))
    np.testing.assert_allclose(shares, values[::-1][:3] / values.sum())
    ours = np.abs(points)
    np.testing.assert_allclose(ours, np.abs((x - x.mean(0)) @ vectors[:, ::-1][:, :3]))


def test_a_map_of_neighbours_keeps_groups_apart():
    rng = np.random.default_rng(0)
    groups = np.repeat(np.arange(4), 30)
    x = 6 * np.eye(4)[groups] @ rng.normal(size=(4, 10)) + rng.normal(size=(120, 10))
    points = a.stochastic_neighbours(x, perplexity=10, steps=400)
    apart = np.linalg.norm(points[:, None] - points[None], axis=2)
    np.fill_diagonal(apart, np.inf)
    nearest = np.argsort(apart, axis=1)[:, :5]
    assert (groups[nearest] == groups[:, None]).mean() > 0.95
    again = a.stochastic_neighbours(x, perplexity=10, steps=400)
    np.testing.assert_array_equal(points, again)
    with pytest.raises(SettingError, match="perplexity"):
        a.stochastic_neighbours(x, perplexity=60)


def test_the_gradient_of_the_map_is_that_of_the_paper():
    from vinestep.attribution._representations import _divergence, _neighbourhoods

    rng = np.random.default_rng(0)
    x, y = rng.normal(size=(12, 3)), rng.normal(size=(12, 2))
    p = _neighbourhoods(x, 3.0)
    entropy = -np.sum(np.where(p > 0, p * np.log(np.where(p > 0, p, 1)), 0), axis=1)
    np.testing.assert_allclose(np.exp(entropy), 3.0, rtol=1e-6)
    p = (p + p.T) / 24
    others = ~np.eye(12, dtype=bool)
    ours = vs.gradient_of(lambda z: _divergence(z, p, others))(y)
    apart = y[:, None] - y[None]
    close = 1 / (1 + np.sum(apart**2, axis=2))
    np.fill_diagonal(close, 0)
    q = close / close.sum()
    theirs = 4 * np.sum(((p - q) * close)[:, :, None] * apart, axis=1)
    np.testing.assert_allclose(ours, theirs, atol=1e-10)


def test_nearest_examples_are_those_of_brute_force(model):
    rng = np.random.default_rng(0)
    known, new = rng.normal(size=(30, 4)).astype("f"), rng.normal(size=(6, 4)).astype("f")
    found = a.nearest_examples(model, known, new, path="0", count=3)
    inside = [model.network.outputs_of("0", x) for x in (known, new)]
    apart = np.linalg.norm(inside[1][:, None] - inside[0][None], axis=2)
    np.testing.assert_allclose(found.distance, np.sort(apart, axis=1)[:, :3], rtol=1e-5)
    with pytest.raises(SettingError, match="count"):
        a.nearest_examples(model, known, new, count=31)
