import numpy as np
import pytest
from scipy import special

import vinestep as vs
from vinestep.errors import DataError, ShapeError


def test_cross_entropy_is_its_definition_and_stable(rng):
    logits, labels = rng.normal(size=(7, 5)), rng.integers(0, 5, 7)
    expected = -special.log_softmax(logits, axis=1)[np.arange(7), labels]
    np.testing.assert_allclose(
        vs.losses.cross_entropy(logits, labels, reduction="none"), expected, rtol=1e-14
    )
    assert vs.losses.cross_entropy(logits, labels) == pytest.approx(expected.mean())
    assert vs.losses.cross_entropy(np.array([[1e4, -1e4]]), [1]) == pytest.approx(2e4)
    wide = rng.normal(size=(7, 100))
    np.testing.assert_allclose(
        vs.losses.cross_entropy(wide, labels, reduction="sum"),
        -special.log_softmax(wide, axis=1)[np.arange(7), labels].sum(),
    )


@pytest.mark.parametrize("reduction", ["mean", "sum", "none"])
@pytest.mark.parametrize("classes", [3, 70])
def test_loss_gradients_agree_with_differences(reduction, classes, rng):
    logits, labels = rng.normal(size=(4, classes)), rng.integers(0, classes, 4)
    vs.check_gradients(
        lambda z: vs.losses.cross_entropy(z, labels, reduction=reduction), logits
    ).raise_if_wrong()
    target = rng.normal(size=(4, classes))
    vs.check_gradients(
        lambda p, t: vs.losses.squared_error(p, t, reduction=reduction), logits, target
    ).raise_if_wrong()
    slope = vs.gradient_of(
        lambda z: np.sum(vs.losses.cross_entropy(z, labels, reduction=reduction))
    )
    vs.check_gradients(
        lambda z: np.sum(slope(z) ** 2), logits, tolerance=1e-6, elements=10
    ).raise_if_wrong()


def test_squared_error(rng):
    a, b = rng.normal(size=(3, 2)), rng.normal(size=(3, 2))
    assert vs.losses.squared_error(a, b) == pytest.approx(np.mean((a - b) ** 2))


def test_metrics_weigh_unequal_batches_right(rng):
    data = vs.data.Dataset(rng.normal(size=(7, 2)).astype(np.float32), rng.integers(0, 2, 7))
    training = vs.Training(vs.Dense(2), loss=vs.losses.cross_entropy, metrics=[vs.metrics.accuracy])
    training.network.initialise(data.inputs)
    whole, parts = training.assess(data.batches(7)), training.assess(data.batches(3))
    assert whole["accuracy"] == parts["accuracy"]
    assert whole["loss"] == pytest.approx(parts["loss"], rel=1e-6)


@pytest.mark.parametrize(
    ("attempt", "error", "text"),
    [
        (
            lambda z: vs.losses.cross_entropy(z, [0, 3]),
            DataError,
            "label 3 at row 1 is out of range: 3 logits",
        ),
        (lambda z: vs.losses.cross_entropy(z, [0, -1]), DataError, "label -1 at row 1"),
        (
            lambda z: vs.losses.cross_entropy(np.zeros((2, 99)), [0, 99]),
            DataError,
            "label 99 at row 1",
        ),
        (lambda z: vs.losses.cross_entropy(z, [0.0, 1.0]), DataError, "whole numbers, got float64"),
        (lambda z: vs.losses.cross_entropy(z, np.eye(3, dtype=int)[:2]), ShapeError, "one-hot"),
        (lambda z: vs.losses.cross_entropy(z, [0, 1, 2]), ShapeError, r"expected 2 labels"),
        (lambda z: vs.losses.squared_error(z, np.zeros(2)), ShapeError, "They have to agree"),
        (
            lambda z: vs.losses.squared_error(np.zeros((2, 1)), np.zeros(2)),
            ShapeError,
            r"targets\[:, None\]",
        ),
        (lambda z: vs.losses.squared_error(z, z, reduction="avg"), ValueError, "mean, sum, none"),
    ],
)
def test_bad_targets_are_explained(attempt, error, text):
    with pytest.raises(error, match=text):
        attempt(np.zeros((2, 3)))


def test_activations_agree_with_scipy(rng):
    x = rng.normal(size=(3, 4)) * 20
    np.testing.assert_allclose(vs.softmax(x), special.softmax(x, axis=-1), rtol=1e-12)
    np.testing.assert_allclose(vs.log_softmax(x), special.log_softmax(x, axis=-1), rtol=1e-12)
    np.testing.assert_allclose(vs.logsumexp(x, axis=0), special.logsumexp(x, axis=0), rtol=1e-12)
    np.testing.assert_allclose(vs.sigmoid(x), special.expit(x), rtol=1e-12)
    x = rng.normal(size=(3, 4))
    for f in (
        vs.softmax,
        vs.log_softmax,
        vs.sigmoid,
        vs.relu,
        vs.leaky_relu,
        lambda x: vs.logsumexp(x, axis=1),
    ):
        vs.check_gradients(f, x).raise_if_wrong()
        vs.check_gradients(
            vs.gradient_of(lambda x, f=f: np.sum(np.square(f(x)))), x, tolerance=1e-6
        ).raise_if_wrong()


def shares(rng, n=6, k=4):
    return special.softmax(rng.normal(size=(n, k)), axis=1)


def test_cross_entropy_with_everything_by_its_definition(rng):
    logits, labels = rng.normal(size=(6, 4)), np.array([0, 3, -1, 2, 2, 1])
    weights, by_class = rng.uniform(0.5, 2, 6), np.array([1.0, 2.0, 0.5, 3.0])
    log_p = special.log_softmax(logits, axis=1)
    total = weight = 0.0
    for i, label in enumerate(labels):
        if label == -1:
            continue
        share = np.full(4, 0.1 / 4)
        share[label] += 0.9
        total += weights[i] * by_class[label] * -(share @ log_p[i])
        weight += weights[i] * by_class[label]
    found = vs.losses.cross_entropy(
        logits, labels, weights=weights, class_weights=by_class, ignored=-1, smoothing=0.1
    )
    assert found == pytest.approx(total / weight)
    soft = shares(rng)
    assert vs.losses.cross_entropy(logits, soft) == pytest.approx(
        -np.mean(np.sum(soft * log_p, axis=1))
    )
    series, times = logits.reshape(2, 3, 4), np.array([[0, 1, 2], [3, 0, 0]])
    mask = np.array([[1, 1, 0], [1, 0, 0]])
    picked = [-series_p[label] for series_p, label in zip(log_p[[0, 1, 3]], [0, 1, 3], strict=True)]
    assert vs.losses.cross_entropy(series, times, weights=mask) == pytest.approx(np.mean(picked))
    assert vs.losses.cross_entropy(series, times, reduction="none").shape == (2, 3)


LOSSES = {
    "absolute_error": (
        lambda p, t, **o: vs.losses.absolute_error(p, t, **o),
        lambda p, t: np.abs(p - t),
    ),
    "squared_error": (
        lambda p, t, **o: vs.losses.squared_error(p, t, **o),
        lambda p, t: (p - t) ** 2,
    ),
    "huber": (
        lambda p, t, **o: vs.losses.huber(p, t, delta=0.5, **o),
        lambda p, t: special.huber(0.5, p - t),
    ),
    "log_cosh": (
        lambda p, t, **o: vs.losses.log_cosh(p, t, **o),
        lambda p, t: np.log(np.cosh(p - t)),
    ),
    "cosine": (
        lambda p, t, **o: vs.losses.cosine(p, t, **o),
        lambda p, t: (
            1 - np.sum(p * t, axis=1) / np.linalg.norm(p, axis=1) / np.linalg.norm(t, axis=1)
        ),
    ),
}


@pytest.mark.parametrize("name", list(LOSSES))
def test_losses_of_pairs_by_their_definitions(name, rng):
    loss, definition = LOSSES[name]
    p, t, w = rng.normal(size=(6, 4)), rng.normal(size=(6, 4)), rng.uniform(0.5, 2, 6)
    expected = definition(p, t)
    np.testing.assert_allclose(loss(p, t, reduction="none"), expected, rtol=1e-10)
    assert loss(p, t, reduction="sum") == pytest.approx(expected.sum())
    assert loss(p, t) == pytest.approx(expected.mean())
    assert loss(p, t, weights=w) == pytest.approx(
        np.average(expected.reshape(6, -1).mean(axis=1), weights=w)
    )
    vs.check_gradients(loss, p, t).raise_if_wrong()


def test_other_losses_by_their_definitions(rng):
    logits, labels, soft = rng.normal(size=(6, 4)), rng.integers(0, 4, 6), shares(rng)
    log_p = special.log_softmax(logits, axis=1)
    assert vs.losses.negative_log_likelihood(log_p, labels) == pytest.approx(
        vs.losses.cross_entropy(logits, labels)
    )
    expected = np.mean(np.sum(special.rel_entr(soft, np.exp(log_p)), axis=1))
    assert vs.losses.kullback_leibler(log_p, soft) == pytest.approx(expected)
    p = special.expit(logits)
    expected = -(3 * soft * np.log(p) + (1 - soft) * np.log(1 - p))
    np.testing.assert_allclose(
        vs.losses.binary_cross_entropy(logits, soft, positive_weight=3, reduction="none"), expected
    )
    gaps = [
        sum(max(0, 1 + row[j] - row[k]) for j in range(4) if j != k)
        for row, k in zip(logits, labels, strict=True)
    ]
    assert vs.losses.hinge(logits, labels) == pytest.approx(np.mean(gaps))
    a, b, c = rng.normal(size=(3, 6, 4))
    d = np.sum((a - b) ** 2, axis=1), np.sum((a - c) ** 2, axis=1)
    assert vs.losses.triplet(a, b, c) == pytest.approx(np.mean(np.maximum(0, d[0] - d[1] + 1)))
    same = labels > 1
    pairs = np.where(same, d[0] / 2, np.maximum(0, 3 - np.sqrt(d[0])) ** 2 / 2)
    assert vs.losses.contrastive(a, b, same, margin=3) == pytest.approx(np.mean(pairs))


def test_gradients_of_the_other_losses(rng):
    logits, labels, soft = rng.normal(size=(5, 4)), rng.integers(0, 4, 5), shares(rng, 5)
    a, b = rng.normal(size=(2, 5, 4))
    losses = [
        lambda z: vs.losses.cross_entropy(z, labels, smoothing=0.2, class_weights=[1, 2, 3, 4]),
        lambda z: vs.losses.cross_entropy(z, soft),
        lambda z: vs.losses.negative_log_likelihood(vs.log_softmax(z), labels),
        lambda z: vs.losses.kullback_leibler(vs.log_softmax(z), soft),
        lambda z: vs.losses.binary_cross_entropy(z, soft, positive_weight=2),
        lambda z: vs.losses.hinge(z, labels),
        lambda z: vs.losses.triplet(z, a, b, margin=2),
        lambda z: vs.losses.contrastive(z, a, labels > 1, margin=4),
    ]
    for loss in losses:
        vs.check_gradients(loss, logits).raise_if_wrong()


def test_wasserstein_critic_is_trained_through_its_penalty(rng):
    real, made = rng.normal(size=(2, 6, 3))
    critic = vs.Stack(vs.Dense(5, np.tanh), vs.Dense(1)).initialise(real, dtype=float)
    vs.check_gradients(
        lambda net: vs.losses.wasserstein_critic(net, real, made), critic, tolerance=1e-6
    ).raise_if_wrong()


def test_probabilities_where_logits_are_expected_are_noticed(rng):
    with pytest.warns(UserWarning, match="as probabilities do; logits are expected"):
        vs.losses.cross_entropy(shares(rng), np.zeros(6, int))
    network = vs.Stack(vs.Dense(4), vs.softmax)
    with pytest.warns(UserWarning, match="Leave the softmax out of the network"):
        vs.Training(network, loss=vs.losses.cross_entropy).step(
            (rng.normal(size=(6, 3)).astype(np.float32), np.zeros(6, int))
        )


@pytest.mark.parametrize(
    ("attempt", "error", "text"),
    [
        (
            lambda z: vs.losses.negative_log_likelihood(z + 1, [0, 1]),
            DataError,
            "cannot be 1, above 0. For logits",
        ),
        (
            lambda z: vs.losses.binary_cross_entropy(z, z + 2),
            DataError,
            "targets have to be from 0 to 1, got 2 to 2",
        ),
        (
            lambda z: vs.losses.cross_entropy(z, z + 0.5),
            DataError,
            "probabilities of row 0 add up to 1.5",
        ),
        (
            lambda z: vs.losses.cross_entropy(z, [-1, -1], ignored=-1),
            DataError,
            "nothing to average",
        ),
        (
            lambda z: vs.losses.cross_entropy(z, [0, 1], weights=[1.0]),
            ShapeError,
            r"weights have shape \(1,\)",
        ),
        (lambda z: vs.losses.huber(z, z, delta=0), ValueError, "delta must be positive"),
    ],
)
def test_bad_settings_of_losses_are_explained(attempt, error, text):
    with pytest.raises(error, match=text):
        attempt(np.zeros((2, 3)))


ACTIVATIONS = {
    vs.elu: lambda x: np.where(x > 0, x, np.exp(x) - 1),
    vs.selu: lambda x: (
        1.0507009873554805 * np.where(x > 0, x, 1.6732632423543772 * (np.exp(x) - 1))
    ),
    vs.celu: lambda x: np.where(x > 0, x, np.exp(x) - 1),
    vs.gelu: lambda x: x * special.ndtr(x),
    vs.gelu_tanh: lambda x: 0.5 * x * (1 + np.tanh(np.sqrt(2 / np.pi) * (x + 0.044715 * x**3))),
    vs.silu: lambda x: x * special.expit(x),
    vs.mish: lambda x: x * np.tanh(np.log1p(np.exp(x))),
    vs.softplus: lambda x: np.log1p(np.exp(x)),
    vs.softsign: lambda x: x / (1 + np.abs(x)),
    vs.hard_sigmoid: lambda x: np.clip(x / 6 + 0.5, 0, 1),
    vs.hard_swish: lambda x: x * np.clip(x / 6 + 0.5, 0, 1),
}


@pytest.mark.parametrize("activation", list(ACTIVATIONS), ids=lambda f: f.__name__)
def test_activations_by_their_definitions(activation, rng):
    x = np.concatenate([rng.normal(size=20) * 2, [-8.0, 8.0]])
    np.testing.assert_allclose(activation(x), ACTIVATIONS[activation](x), rtol=1e-10, atol=1e-14)
    vs.check_gradients(activation, x).raise_if_wrong()
    vs.check_gradients(
        vs.gradient_of(lambda x: np.sum(np.sin(activation(x)))), x, tolerance=1e-5
    ).raise_if_wrong()
    assert activation(np.ones(2, np.float32)).dtype == np.float32
    assert np.isfinite(activation(np.array([-1e4, 1e4]))).all()


def test_initialisers_have_the_spread_of_their_papers():
    rng, shape = np.random.default_rng(0), (300, 200)
    i = vs.initialisers
    glorot, he, lecun = 2 / 500, 2 / 300, 1 / 300
    for draw, variance in [
        *((f, glorot) for f in (i.glorot_normal, i.glorot_uniform, i.glorot_truncated)),
        *((f, he) for f in (i.he_normal, i.he_uniform, i.he_truncated)),
        *((f, lecun) for f in (i.lecun_normal, i.lecun_uniform, i.lecun_truncated)),
    ]:
        assert draw(rng, shape).var() == pytest.approx(variance, rel=0.03)
    assert np.abs(i.he_truncated(rng, shape)).max() <= 2 * np.sqrt(he) / 0.87
    for shape in [(5, 3), (3, 5), (2, 2, 6)]:
        q = i.orthogonal(rng, shape).reshape(-1, shape[-1])
        small = q.T @ q if q.shape[0] >= q.shape[1] else q @ q.T
        np.testing.assert_allclose(small, np.eye(min(q.shape)), atol=1e-12)


def test_metrics_by_counting(rng):
    m = vs.metrics
    outputs, labels = rng.normal(size=(200, 3)), rng.integers(0, 3, 200)
    outputs[np.arange(200), labels] += 1.0
    decided = outputs.argmax(axis=1)
    for c in range(3):
        right = np.sum((decided == c) & (labels == c))
        p, r = right / np.sum(decided == c), right / np.sum(labels == c)
        assert m.precision(c)(outputs, labels) == pytest.approx(p)
        assert m.recall(c)(outputs, labels) == pytest.approx(r)
        assert m.f1(c)(outputs, labels) == pytest.approx(2 * p * r / (p + r))
    assert m.precision("micro")(outputs, labels) == pytest.approx(m.accuracy(outputs, labels))
    assert m.f1("macro")(outputs, labels) == pytest.approx(
        np.mean([m.f1(c)(outputs, labels) for c in range(3)])
    )
    order = np.argsort(-outputs, axis=1)[:, :2]
    assert m.top(2)(outputs, labels) == pytest.approx(
        np.mean((order == labels[:, None]).any(axis=1))
    )
    assert m.perplexity(outputs, labels) == pytest.approx(
        np.exp(vs.losses.cross_entropy(outputs, labels))
    )
    truth, guess = rng.normal(size=50), rng.normal(size=50)
    assert m.r_squared(guess, truth) == pytest.approx(
        1 - np.sum((truth - guess) ** 2) / np.sum((truth - truth.mean()) ** 2)
    )
    assert m.squared_error(guess, truth) == pytest.approx(np.mean((truth - guess) ** 2))


def test_kappa_of_cohens_worked_example():
    matrix = np.array([[88, 14, 18], [10, 40, 10], [2, 6, 12]])  # Cohen 1960, table 1, in 200ths
    labels = np.repeat(np.repeat([0, 1, 2], 3), matrix.ravel())
    decided = np.repeat(np.tile([0, 1, 2], 3), matrix.ravel())
    assert vs.metrics.kappa(np.eye(3)[decided], labels) == pytest.approx(0.492, abs=5e-4)


@pytest.mark.parametrize("name", ["precision", "recall", "f1", "kappa", "r_squared", "perplexity"])
def test_metrics_add_up_over_unequal_batches(name, rng):
    made = getattr(vs.metrics, name)
    metric = made if isinstance(made, vs.metrics.Metric) else made()
    outputs, labels = rng.normal(size=(50, 3)), rng.integers(0, 3, 50)
    if name == "r_squared":
        outputs, labels = outputs[:, 0], rng.normal(size=50)
    parts = sum(metric.count(outputs[a:b], labels[a:b]) for a, b in [(0, 7), (7, 40), (40, 50)])
    assert metric.conclude(parts) == pytest.approx(metric(outputs, labels))


def test_roc_area_by_all_pairs(rng):
    scores, marks = rng.integers(0, 9, 60), rng.integers(0, 2, 60)
    pairs = [(a > b) + (a == b) / 2 for a in scores[marks == 1] for b in scores[marks == 0]]
    assert vs.metrics.roc_area(scores, marks) == pytest.approx(np.mean(pairs))
    assert np.isnan(vs.metrics.roc_area([1.0], [1]))


def test_edit_distances():
    assert [
        vs.metrics.edit_distance(a, b)
        for a, b in [("", "abc"), ("kitten", "sitting"), ("same", "same")]
    ] == [3, 3, 0]
    assert vs.metrics.word_error_rate(["a b c"], ["a x c d"]) == 0.5
