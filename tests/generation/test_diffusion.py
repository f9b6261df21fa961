"""Diffusion: for normal data the best predictor is known in closed form, and so is what every
sampler has to make.
"""

import itertools

import numpy as np
import pytest

import vinestep as vs
from vinestep.autodiff.tracking import untracked
from vinestep.generation._diffusion import clean_and_noise

MIDDLE, VARIANCE = np.array([0.5, -1.0]), np.array([0.25, 2.0])
SCHEDULES = {
    "linear": vs.generation.Linear(),
    "cosine": vs.generation.Cosine(),
    "sigmas": vs.generation.PowerLaw(),
    "straight": vs.generation.Straight(),
}


def best_example(mixture, angles):
    """The mean of the example, known the mixture, of normal data."""
    c, s = np.cos(angles)[:, None], np.sin(angles)[:, None]
    gain = c * VARIANCE / (c**2 * VARIANCE + s**2)
    return MIDDLE + gain * (mixture - c * MIDDLE)


class Best(vs.generation.Diffusion):
    """Knows the distribution in place of learning it."""

    def _predicted(self, mixture, angles, condition):
        x = best_example(mixture, angles)
        c, s = np.cos(angles)[:, None], np.sin(angles)[:, None]
        e = (mixture - c * x) / s
        told = {"noise": e, "clean": x, "velocity": c * e - s * x, "flow": e - x}
        return told[self.predicts]


def best(noise="cosine", predicts="velocity"):
    network = Best(vs.layers.ConditionedDense(2), noise=SCHEDULES[noise], predicts=predicts)
    return network.initialise((2,), dtype=np.float64)


def exact(network, start):
    """Where the deterministic way leads from noise: standard deviations are kept."""
    top = network.angles(10)[0]
    c, s = np.cos(top), np.sin(top)
    z = (s * start - c * MIDDLE) / np.sqrt(c**2 * VARIANCE + s**2)
    return MIDDLE + np.sqrt(VARIANCE) * z


@pytest.mark.parametrize("predicts", ["noise", "clean", "velocity", "flow"])
def test_example_and_noise_follow_from_what_is_told(predicts):
    rng = np.random.default_rng(0)
    x, e, angle = rng.normal(size=(5, 3)), rng.normal(size=(5, 3)), 0.7
    c, s = np.cos(angle), np.sin(angle)
    told = {"noise": e, "clean": x, "velocity": c * e - s * x, "flow": e - x}[predicts]
    found = clean_and_noise(predicts, c * x + s * e, told, angle)
    assert np.allclose(found[0], x, atol=1e-12)
    assert np.allclose(found[1], e, atol=1e-12)


@pytest.mark.parametrize("name", list(SCHEDULES))
@pytest.mark.parametrize(("how", "order"), [("deterministic", 1), ("second_order", 2)])
def test_samplers_have_their_order_of_convergence(name, how, order):
    network = best(name)
    start = np.random.default_rng([3, 0]).normal(size=(40, 2))
    wanted = exact(network, start)
    errors = [
        np.abs(network.sample(40, seed=3, how=how, steps=steps) - wanted).max()
        for steps in (40, 80, 160)
    ]
    floor = 3e-3 if name == "sigmas" or order == 2 else 1e-9
    for coarse, fine in itertools.pairwise(errors):
        assert fine < floor or coarse / fine > 0.8 * 2**order


@pytest.mark.parametrize("how", ["ancestral", "deterministic", "second_order"])
@pytest.mark.parametrize("name", list(SCHEDULES))
def test_mean_and_covariance_are_right_within_sampling_error(name, how):
    n = 4000
    made = best(name).sample(n, seed=1, how=how, steps=200)
    error = np.sqrt(VARIANCE / n)
    assert (np.abs(made.mean(axis=0) - MIDDLE) < 4 * error + 0.02).all()
    assert np.allclose(made.var(axis=0), VARIANCE, rtol=4 * np.sqrt(2 / n) + 0.03)
    assert abs(np.corrcoef(made.T)[0, 1]) < 4 / np.sqrt(n)


def test_the_deterministic_sampler_inverts_itself():
    network = best("cosine")
    made = network.sample(20, seed=5, steps=400)
    start = np.random.default_rng([5, 0]).normal(size=(20, 2))
    errors = [np.abs(network.invert(made, steps=n) - start).max() for n in (100, 400)]
    assert errors[1] < 0.02
    assert errors[1] < errors[0]


def test_the_bound_is_what_it_is_made_of_and_lies_above_the_density():
    """Its terms against divergences of the two posteriors, and all of it against the density."""
    network, levels = best("sigmas"), 1000
    rng = np.random.default_rng(0)
    x = MIDDLE + np.sqrt(VARIANCE) * rng.normal(size=(64, 2))
    density = 0.5 * np.sum((x - MIDDLE) ** 2 / VARIANCE + np.log(2 * np.pi * VARIANCE), axis=1)
    found = network.bound(x, levels=levels, seed=2)
    assert found.mean() > density.mean() - 0.05
    assert found.mean() == pytest.approx(density.mean(), abs=0.3)

    network, few = best("linear"), 20
    total = np.zeros(3)
    y, draws = x[:3], np.random.default_rng(7)
    angles = network.angles(few)[:-1][::-1]
    for place, angle in enumerate(angles):
        e = draws.normal(size=y.shape)
        mixture = np.cos(angle) * y + np.sin(angle) * e
        guess = best_example(mixture, np.full(3, angle))
        if not place:
            ratio = np.tan(angle)
            total += np.sum((y - guess) ** 2, 1) / (2 * ratio**2) + np.log(2 * np.pi * ratio**2)
            continue
        low = angles[place - 1]
        ours, variance = vs.generation._noise_schedules.posterior(mixture, y, low, angle)
        theirs, _ = vs.generation._noise_schedules.posterior(mixture, guess, low, angle)
        total += np.sum((ours - theirs) ** 2, axis=1) / (2 * variance)
    c, s = np.cos(angles[-1]), np.sin(angles[-1])
    total += 0.5 * np.sum(c**2 * y**2 + s**2 - 1 - np.log(s**2), axis=1)
    assert np.allclose(network.bound(y, levels=few, seed=7), total, rtol=1e-12)


def small(predicts="velocity", weight="plain", **settings):
    network = vs.generation.Diffusion(
        vs.layers.ConditionedDense(2, width=12, depth=1),
        predicts=predicts,
        weight=weight,
        width=8,
        noise=SCHEDULES["straight"] if predicts == "flow" else SCHEDULES["linear"],
        **settings,
    )
    return network.initialise((2,), seed=1, dtype=np.float64)


@pytest.mark.parametrize("predicts", ["noise", "clean", "velocity", "flow"])
@pytest.mark.parametrize("weight", ["plain", "clean", 5.0])
def test_the_loss_against_its_definition(predicts, weight):
    network = small(predicts, weight, draws=1)
    x = np.random.default_rng(0).normal(size=(6, 2))
    uniform = network.uniforms(x)[:, 0]
    angles = network.noise.angle(network.noise.training_times(uniform))
    e = network.normals(x, (2,), 0).astype(float)
    wanted = []
    for row, noise, angle in zip(x, e, angles, strict=True):
        c, s = np.cos(angle), np.sin(angle)
        found, told = network.denoise((c * row + s * noise)[None], angle)
        of = {
            "noise": (told[0], noise),
            "clean": (found[0], row),
            "velocity": (c * told[0] - s * found[0], c * noise - s * row),
            "flow": (told[0] - found[0], noise - row),
        }
        if weight == "plain":
            value = np.mean((of[predicts][0] - of[predicts][1]) ** 2)
        else:
            share = 1.0 if weight == "clean" else min(1 / np.tan(angle) ** 2, weight)
            value = share * np.mean((found[0] - row) ** 2)
        wanted.append(value)
    with untracked():
        assert np.allclose(network(x), wanted, rtol=1e-6)


def test_scores_do_not_depend_on_how_examples_are_divided():
    network = small()
    x = np.random.default_rng(0).normal(size=(24, 2))
    data = vs.data.Dataset(x)
    training = vs.Training(network, task=vs.tasks.Generative())
    whole = training.assess(data.batches(24))["loss"]
    for size in (1, 5, 7):
        assert training.assess(data.batches(size))["loss"] == pytest.approx(whole, rel=1e-12)
    assert training.assess(data.batches(24))["loss"] == whole


@pytest.mark.parametrize("predicts", ["noise", "velocity"])
def test_gradients_of_a_learning_pass(predicts):
    network = small(predicts, classes=3)
    x, labels = np.random.default_rng(0).normal(size=(8, 2)), np.arange(8) % 3

    def loss(weight):
        before = network.body.head.weight
        network.body.head.weight = weight
        with vs.learning(seed=4, step=2):
            value = np.mean(network(x, targets=labels))
        network.body.head.weight = before
        return value

    vs.check_gradients(loss, np.array(vs.held(network.body.head.weight)))


def test_classes_are_told_kept_back_and_guided():
    rng = np.random.default_rng(0)
    labels = rng.integers(0, 2, 600)
    x = np.where(labels[:, None] == 1, 1.0, -1.0) + 0.1 * rng.normal(size=(600, 1))
    data = vs.data.Dataset(x.astype(np.float32), labels, class_values=("dry", "sweet"))
    network = vs.generation.Diffusion(
        vs.layers.ConditionedDense(1, width=32, depth=1), classes=2, width=16
    )
    training = vs.Training(
        network, task=vs.tasks.Generative(), optimiser=vs.optimisers.Adam(5e-3), seed=1
    )
    training.run(data.batches(100), epochs=80)
    model = training.model()
    assert (model.sample(40, label="sweet", steps=20) > 0).mean() > 0.9
    assert (model.sample(40, label="dry", steps=20, guidance=2.0) < 0).mean() > 0.9
    without = model.sample(200, steps=20)
    assert 0.2 < (without > 0).mean() < 0.8
    both = model.sample(4, label=["dry", "sweet", "dry", "sweet"], steps=20)[:, 0]
    assert (np.sign(both) == [-1, 1, -1, 1]).all()
    with pytest.raises(vs.errors.DataError, match="There is no class 'sour'"):
        model.sample(3, label="sour")


def test_known_values_are_kept_and_the_rest_made_to_fit():
    rng = np.random.default_rng(0)
    first = rng.choice([-1.0, 1.0], 800)
    x = np.stack([first, first], 1) + 0.05 * rng.normal(size=(800, 2))
    network = vs.generation.Diffusion(
        vs.layers.ConditionedDense(2, width=64, depth=2, fourier_features=3), width=16
    )
    training = vs.Training(
        network, task=vs.tasks.Generative(), optimiser=vs.optimisers.Adam(3e-3), seed=0
    )
    training.run(vs.data.Dataset(x.astype(np.float32)).batches(100), epochs=120)
    made = network.sample(
        60, seed=2, how="ancestral", steps=100, known=[1.0, 0.0], where=[True, False]
    )
    assert np.allclose(made[:, 0], 1.0)
    assert (made[:, 1] > 0).mean() > 0.85


def test_a_second_input_is_read():
    rng = np.random.default_rng(0)
    word = rng.integers(0, 2, 400)
    texts = np.stack([word, word], axis=1)
    x = np.where(word[:, None] == 1, 1.0, -1.0) + 0.1 * rng.normal(size=(400, 1))
    reader = vs.Stack(vs.Embedding(2, 16), vs.GlobalMean())
    network = vs.generation.Diffusion(
        vs.layers.ConditionedDense(1, width=32, depth=1), reader=reader, width=16
    )
    training = vs.Training(
        network, task=vs.tasks.Generative(), optimiser=vs.optimisers.Adam(5e-3), seed=0
    )
    data = vs.data.Dataset((x.astype(np.float32), texts))
    training.run(data.batches(100), epochs=80)
    made = network.sample(40, given=np.array([1, 1]), steps=20)
    assert (made > 0).mean() > 0.9
    with pytest.raises(vs.errors.DataError, match="made with a reader"):
        network.sample(2)


def test_pictures_by_a_network_with_attention():
    x = np.random.default_rng(0).normal(size=(32, 8, 8, 1)).astype(np.float32)
    body = vs.networks.UShaped(1, channels=(8, 16), attention=2, conditioned=True)
    training = vs.Training(vs.generation.Diffusion(body), task=vs.tasks.Generative())
    outcome = training.run(vs.data.Dataset(x).batches(16), epochs=2)
    assert np.isfinite(outcome.curves["loss"]).all()
    assert training.model().sample(3, steps=4).shape == (3, 8, 8, 1)


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        ({"predicts": "nothing"}, "predicts is one of"),
        ({"weight": -1.0}, "weight is"),
        ({"label_dropout": 1.0}, "label_dropout"),
        ({"predicts": "noise", "noise": vs.generation.Straight()}, "nothing of the example"),
    ],
)
def test_settings_that_are_none_are_refused(settings, words):
    with pytest.raises(vs.errors.SettingError, match=words):
        vs.generation.Diffusion(vs.layers.ConditionedDense(2), **settings)


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        ({"count": 0}, "count is a whole number"),
        ({"count": 2, "how": "quickly"}, "how is one of"),
        ({"count": 2, "steps": 0}, "steps is a whole number"),
        ({"count": 2, "labels": 1}, "trained without classes"),
        ({"count": 2, "guidance": 2.0}, "told a class"),
        ({"count": 2, "known": [0.0, 0.0]}, "come together"),
    ],
)
def test_what_cannot_be_made_is_refused(settings, words):
    with pytest.raises(vs.errors.SettingError, match=words):
        small().sample(**settings)


def test_the_same_seed_makes_the_same_and_a_model_file_too(tmp_path):
    x = np.random.default_rng(0).normal(size=(64, 2)).astype(np.float32)
    network = vs.generation.Diffusion(
        vs.layers.ConditionedDense(2, width=8, depth=1), noise=vs.generation.PowerLaw()
    )
    training = vs.Training(network, task=vs.tasks.Generative(), average=vs.WeightAverage(0.9))
    training.run(vs.data.Dataset(x).batches(16), epochs=2)
    model = training.model()
    made = model.sample(150, seed=4, steps=5)
    again = vs.open_model(model.save(tmp_path / "points.vine"))
    assert np.array_equal(again.sample(150, seed=4, steps=5), made)
    assert not np.array_equal(model.sample(150, seed=5, steps=5), made)
    assert again.predict(x[:3]).columns.tolist() == ["anomaly"]
    assert again.assess(x)["loss"] == pytest.approx(model.assess(x)["loss"])


@pytest.mark.parametrize("steps", [{"epochs": 2}, {"steps": 6}])
def test_streams_and_batches_of_ones_own_train_without_targets(steps):
    def batches():
        rng = np.random.default_rng(0)
        for _ in range(4):
            yield vs.data.Batch(rng.normal(size=(16, 2)).astype(np.float32))

    examples = np.random.default_rng(1).normal(size=(64, 2)).astype(np.float32)
    stream = vs.data.Stream(lambda: ((x, None) for x in examples)).batches(16, epoch_steps=4)
    for given in (vs.data.IterableBatches(batches), stream):
        training = vs.Training(small(), task=vs.tasks.Generative())
        training.run(given, **steps)
        assert np.isfinite(training.step((examples, None)).loss)
        pair = vs.AdversarialTraining(
            vs.generation.LatentGenerator(vs.Dense(2), latent=2),
            vs.generation.Critic(vs.Dense(4, vs.relu)),
            critic_steps=2,
        )
        pair.run(given, **steps)
        assert pair.critic_descent.step_number > pair.step_number > 0
