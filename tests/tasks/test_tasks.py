"""Losses of tasks held against distributions of SciPy and plain NumPy, missing targets, and that
any division into batches gives the same.
"""

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy import stats
from scipy.special import expit, softmax

import vinestep as vs
from vinestep._loss_reduction import LossAccumulator
from vinestep.errors import DataError, SettingError, ShapeError

t = vs.tasks
RNG = np.random.default_rng


def case(name, n=7, seed=0):
    """A task with outputs and complete targets."""
    rng = RNG(seed)
    labels = rng.integers(0, 3, n)
    numbers = rng.normal(size=(n, 2))
    return {
        "classes": lambda: (t.Classes, rng.normal(size=(n, 3)), labels),
        "weighted": lambda: (
            lambda gaps: t.Classes([1.0, 2.0, 0.5], 0.1, gaps=gaps),
            rng.normal(size=(n, 3)),
            labels,
        ),
        "tags": lambda: (t.Classes, rng.normal(size=(n, 4, 3)), rng.integers(0, 3, (n, 4))),
        "binary": lambda: (t.Binary, rng.normal(size=(n, 1)), labels % 2),
        "labels": lambda: (
            lambda gaps: t.Labels(positive_weight=2.0, gaps=gaps),
            rng.normal(size=(n, 4)),
            rng.integers(0, 2, (n, 4)).astype(float),
        ),
        "ordered": lambda: (t.Ordered, rng.normal(size=(n, 2)), labels),
        "numbers": lambda: (t.Numbers, rng.normal(size=(n, 2)), numbers),
        "absolute": lambda: (
            lambda gaps: t.Numbers("absolute", gaps=gaps),
            rng.normal(size=(n, 2)),
            numbers,
        ),
        "counts": lambda: (
            t.Counts,
            rng.normal(size=(n, 2)),
            rng.poisson(3, (n, 2)).astype(float),
        ),
        "quantiles": lambda: (t.Quantiles, rng.normal(size=(n, 3)), numbers[:, :1]),
        "gaussian": lambda: (t.Gaussian, rng.normal(size=(n, 4)), numbers),
    }[name]()


NAMES = [
    "classes",
    "weighted",
    "tags",
    "binary",
    "labels",
    "ordered",
    "numbers",
    "absolute",
    "counts",
    "quantiles",
    "gaussian",
]


def by_definition(name, outputs, targets):
    """The loss of every place, written anew."""
    z, y = outputs, targets
    if name in ("classes", "tags"):
        return -np.log(np.take_along_axis(softmax(z, axis=-1), y[..., None], -1)[..., 0])
    if name == "weighted":
        log_p = np.log(softmax(z, axis=-1))
        return -(0.9 * log_p[np.arange(len(y)), y] + 0.1 * log_p.mean(axis=1))
    if name == "binary":
        return -stats.bernoulli.logpmf(y, expit(z[:, 0]))
    if name == "labels":
        return -np.log(expit(z)) * y * 2 - np.log(expit(-z)) * (1 - y)
    if name == "ordered":
        on = expit(z)
        chances = np.stack([1 - on[:, 0], on[:, 0] * (1 - on[:, 1]), on[:, 0] * on[:, 1]], axis=1)
        np.testing.assert_allclose(chances.sum(axis=1), 1)
        return -np.log(chances[np.arange(len(y)), y])
    if name == "numbers":
        return (z - y) ** 2
    if name == "absolute":
        return np.abs(z - y)
    if name == "counts":
        return -stats.poisson.logpmf(y, np.exp(z))
    if name == "quantiles":
        return np.mean(
            [
                np.where(y[:, 0] >= q, a * (y[:, 0] - q), (1 - a) * (q - y[:, 0]))
                for a, q in zip((0.05, 0.5, 0.95), z.T, strict=True)
            ],
            axis=0,
        )
    return -stats.norm.logpdf(y, z[:, :2], np.exp(z[:, 2:] / 2))


def weights_of(name, targets):
    return np.array([1.0, 2.0, 0.5])[targets] if name == "weighted" else np.ones(np.shape(targets))


@pytest.mark.parametrize("name", NAMES)
def test_the_loss_is_its_definition(name):
    make, outputs, targets = case(name)
    each = by_definition(name, outputs, targets)
    weigh = weights_of(name, targets).reshape(each.shape)
    for gaps in (False, True):
        found = float(make(gaps=gaps)(outputs, targets))
        assert found == pytest.approx(np.sum(each * weigh) / weigh.sum(), rel=1e-12)


def with_gaps(targets, missing):
    result = np.array(targets)
    result[missing] = -1 if result.dtype.kind == "i" else np.nan
    return result


@pytest.mark.parametrize("name", NAMES)
def test_what_is_missing_counts_neither_in_loss_nor_gradient(name):
    make, outputs, targets = case(name)
    task, missing = make(gaps=True), np.arange(np.size(targets)).reshape(np.shape(targets)) % 3 == 0
    gappy = with_gaps(targets, missing)
    each = by_definition(name, outputs, targets)
    weigh = np.where(missing, 0, weights_of(name, targets)).reshape(each.shape)
    expected = np.sum(each * weigh) / weigh.sum()
    assert float(task(outputs, gappy)) == pytest.approx(expected, rel=1e-12)
    wild = np.array(outputs)
    rows = missing if missing.ndim == 1 else missing.all(axis=tuple(range(1, missing.ndim)))
    wild[rows] = np.nan
    slope = vs.gradient_of(lambda z: task(z, gappy))(wild)
    assert np.isfinite(slope).all()
    assert not slope[rows].any()
    assert vs.check_gradients(lambda z: task(z, gappy), outputs).ok


def test_a_gap_that_was_not_declared_is_refused():
    with pytest.raises(DataError, match="label -1"):
        t.Classes()(np.zeros((2, 3)), np.array([0, -1]))
    with pytest.raises(DataError, match="label -1"):
        t.Ordered()(np.zeros((2, 2)), np.array([0, -1]))
    with pytest.raises(DataError, match="every target is missing"):
        t.Numbers(gaps=True)(np.zeros((2, 1)), np.full((2, 1), np.nan))


@settings(max_examples=25, deadline=None)
@given(st.sampled_from(NAMES), st.integers(1, 6), st.integers(0, 99), st.booleans())
def test_any_division_gives_the_same_loss_and_gradient(name, cut, seed, weighed):
    make, outputs, targets = case(name, seed=seed)
    rng = RNG(seed)
    task, n = make(gaps=True), len(outputs)
    gappy = with_gaps(targets, rng.random(np.shape(targets)) < 0.3)
    weights = rng.random(n) + 0.1 if weighed else None
    if not task.place_weights(gappy, weights).sum():
        return
    whole = float(task(outputs, gappy, weights=weights))
    total = LossAccumulator(task)
    for part in (slice(0, cut), slice(cut, n)):
        own = None if weights is None else weights[part]
        if not total.is_empty(gappy[part], own):
            value = task(outputs[part], gappy[part], weights=own)
            total.add(value, outputs[part], gappy[part], own)
    assert total.value == pytest.approx(whole, rel=1e-9)


def several():
    return t.Several({"state": t.Classes(gaps=True), "sugar": t.Numbers(gaps=True)}, {"sugar": 0.5})


@pytest.mark.parametrize("weighed", [False, True])
def test_several_are_a_weighted_sum_in_which_every_reading_weighs_the_same(weighed):
    rng = RNG(3)
    outputs = {"state": rng.normal(size=(8, 3)), "sugar": rng.normal(size=(8, 1))}
    targets = {"state": rng.integers(-1, 3, 8), "sugar": rng.normal(size=(8, 1))}
    targets["sugar"][::3] = np.nan
    w = rng.random(8) if weighed else np.ones(8)
    logs = -np.log(softmax(outputs["state"], axis=1))
    own = np.where(targets["state"] >= 0, logs[np.arange(8), targets["state"]], 0) @ w
    other = np.nansum((outputs["sugar"] - targets["sugar"])[:, 0] ** 2 * w)
    found = several()(outputs, targets, weights=w if weighed else None)
    assert float(found) == pytest.approx((own + 0.5 * other) / w.sum())
    in_order = several()(tuple(outputs.values()), targets, weights=w if weighed else None)
    assert float(in_order) == float(found)
    total = LossAccumulator(several())
    for part in (slice(0, 3), slice(3, 8)):
        cut = [{k: v[part] for k, v in values.items()} for values in (outputs, targets)]
        own_weights = w[part] if weighed else None
        total.add(several()(*cut, weights=own_weights), *cut, own_weights)
    assert total.value == pytest.approx(float(found))


def test_what_does_not_belong_together_is_refused_in_words():
    outputs = {"state": np.zeros((2, 3)), "sugar": np.zeros((2, 1))}
    targets = {"state": np.zeros(2, int), "sugar": np.zeros((2, 1))}
    with pytest.raises(DataError, match="there is no output 'sugar'"):
        several()({"state": outputs["state"]}, targets)
    with pytest.raises(DataError, match="2 targets are expected"):
        several()(outputs, targets["state"])
    with pytest.raises(ShapeError, match="sugar: .*shape"):
        several()(outputs, targets | {"sugar": np.zeros(2)})
    with pytest.raises(SettingError, match="no such task"):
        t.Several({"state": t.Classes()}, {"sugar": 1.0})
    with pytest.raises(SettingError, match="rising order"):
        t.Quantiles([0.5, 0.1])
    with pytest.raises(DataError, match="not negative"):
        t.Counts()(np.zeros((1, 1)), np.array([[-1.0]]))
    with pytest.raises(ShapeError, match="n_classes - 1"):
        t.Ordered()(np.zeros((2, 2, 2)), np.zeros(2, int))


def test_answers_are_in_the_unit_of_the_data():
    z = np.array([[0.0, 1.0, 0.5]])
    frame = t.Quantiles([0.1, 0.5, 0.9]).answers(z, (), np.exp)
    assert frame["quantile 0.9"][0] == pytest.approx(np.e)
    assert frame["predicted"][0] == pytest.approx(np.exp(0.5))
    frame = t.Gaussian().answers(np.array([[1.0, np.log(4.0)]]))
    assert frame["deviation"][0] == pytest.approx(2)
    assert frame["quantile 0.975"][0] == pytest.approx(1 + 2 * 1.959964, abs=1e-5)
    assert t.Counts().answers(np.log([[3.0]]))["predicted"][0] == pytest.approx(3)
    frame = t.Classes().answers(np.eye(2)[None] * 9, ("leaf", "spot"))
    assert frame["predicted"][0] == ["leaf", "spot"]
    assert frame["share spot"][0] == 0.5
