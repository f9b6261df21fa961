"""Autoencoders against closed forms."""

import numpy as np
import pytest
from scipy import stats

import vinestep as vs
from vinestep.autodiff.tracking import untracked

G = vs.generation


def linear_variational(weights, deviation):
    """A variational autoencoder of a linear model whose posterior is exact: x = W z + e."""
    n, latent = weights.shape
    network = G.VariationalAutoencoder(
        vs.Flatten(), vs.Dense(n), latent=latent, deviation=deviation
    ).initialise((n,), dtype=np.float64)
    precision = np.eye(latent) + weights.T @ weights / deviation**2
    covariance = np.linalg.inv(precision)
    network.load(
        {
            "decoder/weight": weights.T,
            "decoder/bias": np.zeros(n),
            "mean/weight": (covariance @ weights.T / deviation**2).T,
            "mean/bias": np.zeros(latent),
            "spread/weight": np.zeros((n, latent)),
            "spread/bias": np.log(np.diag(covariance)),
        }
    )
    return network


def test_of_an_exact_posterior_the_bound_is_the_density():
    rng = np.random.default_rng(0)
    weights, deviation = np.array([[1.0], [0.5], [-0.3]]), 0.7
    network = linear_variational(weights, deviation)
    x = rng.normal(size=(8, 3))
    covariance = weights @ weights.T + deviation**2 * np.eye(3)
    exact = -stats.multivariate_normal(np.zeros(3), covariance).logpdf(x)
    one = network.bits_per_dimension(x, seed=1) * 3 * np.log(2)
    assert np.allclose(one, exact, rtol=1e-10)  # whatever code is drawn
    several = network.bits_per_dimension(x, seed=1, draws=20) * 3 * np.log(2)
    assert np.allclose(several, exact, rtol=1e-10)


def test_of_another_posterior_several_draws_are_tighter():
    network = linear_variational(np.array([[1.0], [0.5]]), 0.7)
    network.load({"mean/bias": np.array([0.8])}, partial=True)
    x = np.random.default_rng(0).normal(size=(200, 2))
    covariance = np.array([[1.0], [0.5]]) @ np.array([[1.0, 0.5]]) + 0.49 * np.eye(2)
    exact = -stats.multivariate_normal(np.zeros(2), covariance).logpdf(x).mean()
    one, many = (network.bits_per_dimension(x, draws=n).mean() * 2 * np.log(2) for n in (1, 50))
    assert one > many > exact - 0.05


def test_terms_of_the_loss_against_quadrature():
    network = G.VariationalAutoencoder(vs.Dense(4, np.tanh), vs.Dense(3), latent=2)
    network.initialise((3,), seed=2, dtype=np.float64)
    x = np.random.default_rng(0).normal(size=(2000, 3))
    with untracked():
        terms = network(x)
        mean, log_variance = (np.asarray(vs.held(a)) for a in network._distribution(x[:1]))
    spread = np.exp(log_variance / 2)
    z = np.linspace(-12, 12, 20001)
    total = 0.0
    for m, s in zip(mean[0], spread[0], strict=True):
        q, p = stats.norm(m, s), stats.norm(0, 1)
        total += np.trapezoid(q.pdf(z) * (q.logpdf(z) - p.logpdf(z)), z)
    assert vs.held(terms)[0, 1] == pytest.approx(total, rel=1e-6)


def test_the_divergence_weighs_by_a_schedule_in_learning_passes_only():
    network = G.VariationalAutoencoder(
        vs.Dense(4), vs.Dense(3), latent=2, weight=vs.schedules.warmup(10)
    ).initialise((3,))
    x = np.ones((5, 3), np.float32)

    def divergence(step):
        with vs.learning(step=step):
            return float(np.mean(vs.held(network(x))[:, 1]))

    whole = float(np.mean(np.asarray(vs.held(network(x)))[:, 1]))
    assert divergence(4) == pytest.approx(whole * vs.schedules.warmup(10)(4), rel=1e-5)
    assert divergence(50) == pytest.approx(whole, rel=1e-5)


def test_bernoulli_and_normal_costs():
    x = np.random.default_rng(0).integers(0, 2, (50, 4)).astype(np.float64)
    network = G.VariationalAutoencoder(
        vs.Dense(3), vs.Dense(4), latent=1, likelihood="bernoulli"
    ).initialise((4,), dtype=np.float64)
    codes = np.random.default_rng(1).normal(size=(50, 1))
    with untracked():
        found = np.asarray(vs.held(network._cost(x, codes)))
    chances = network.decode(codes)
    assert np.allclose(found, -stats.bernoulli(chances).logpmf(x).sum(axis=1))
    drawn = network.sample(200, noisy=True)
    assert set(np.unique(drawn)) <= {0.0, 1.0}
    with pytest.raises(vs.errors.DataError, match="values from 0 to 1"):
        network(x * 2)
    learned = G.VariationalAutoencoder(vs.Dense(3), vs.Dense(4), latent=1)
    learned.initialise((4,), dtype=np.float64)
    deviation = np.logaddexp(0, vs.held(learned.deviation_parameter)[0]) + 1e-3
    with untracked():
        found = np.asarray(vs.held(learned._cost(x, codes)))
    wanted = -stats.norm(learned.decode(codes), deviation).logpdf(x).sum(axis=1)
    assert np.allclose(found, wanted)


def test_gradients_reach_encoder_and_decoder():
    network = G.VariationalAutoencoder(vs.Dense(4, np.tanh), vs.Dense(3), latent=2)
    network.initialise((3,), seed=2, dtype=np.float64)
    x = np.random.default_rng(0).normal(size=(6, 3))
    for layer in (network.mean, network.spread, network.encoder, network.decoder):

        def loss(weight, layer=layer):
            before = layer.weight
            layer.weight = weight
            with vs.learning(seed=1, step=3):
                value = np.mean(np.sum(network(x), axis=1))
            layer.weight = before
            return value

        vs.check_gradients(loss, np.array(vs.held(layer.weight)))


def test_codes_are_the_nearest_vectors_and_pass_the_gradient_on():
    network = G.QuantisedAutoencoder(vs.Dense(2), vs.Dense(3), codes=5, width=2)
    network.initialise((3,), seed=1, dtype=np.float64)
    x = np.random.default_rng(0).normal(size=(7, 3))
    vectors = np.asarray(vs.held(network.vectors))
    with untracked():
        outputs = np.asarray(vs.held(network.encoder(x)))
    places = np.linalg.norm(outputs[:, None] - vectors[None], axis=2).argmin(axis=1)
    assert np.array_equal(network.codes_of(x), places)
    assert np.allclose(network.decode_codes(places), network.reconstruct(x))
    made = np.asarray(vs.held(network.decoder(vectors[places])))
    with untracked():
        terms = np.asarray(vs.held(network(x)))
    distance = np.mean((vectors[places] - outputs) ** 2, axis=1)
    wanted = np.stack([np.mean((made - x) ** 2, axis=1), distance, 0.25 * distance], axis=1)
    assert np.allclose(terms, wanted)
    gradients = vs.differentiate(np.mean(network(x)[:, 0]), network)
    straight = 2 * (made - x) / made.size @ np.asarray(vs.held(network.decoder.weight)).T
    assert np.allclose(gradients["encoder/weight"], x.T @ straight)
    assert not gradients["vectors"].any()
    with pytest.raises(vs.errors.DataError, match="whole numbers from 0 to 4"):
        network.decode_codes(np.array([5]))


def test_of_pictures_codes_are_rows_and_lead_back():
    x = np.random.default_rng(0).normal(size=(8, 8, 8, 1)).astype(np.float32)
    encoder = vs.Stack(vs.Convolution(8, 4, stride=4), vs.Convolution(4, 1))
    decoder = vs.Stack(vs.Upsample(4), vs.Convolution(1, 3))
    network = G.QuantisedAutoencoder(encoder, decoder, codes=6, width=4)
    training = vs.Training(network, task=vs.tasks.Generative())
    training.run(vs.data.Dataset(x).batches(4), epochs=2)
    codes = network.codes_of(x)
    assert codes.shape == (8, 2, 2)
    assert np.allclose(network.decode_codes(codes), network.reconstruct(x))


def test_denoising_sees_noise_in_learning_passes_only():
    x = np.random.default_rng(0).normal(size=(6, 4)).astype(np.float32)
    network = G.Autoencoder(vs.Dense(4), vs.Dense(4), noise=0.5, masked=0.3).initialise(x)
    plain = np.asarray(vs.held(network(x)))
    assert np.array_equal(plain, np.asarray(vs.held(network(x))))
    assert np.allclose(plain, np.mean((network.reconstruct(x) - x) ** 2, axis=1), rtol=1e-5)
    with vs.learning(seed=1, step=1):
        noisy = np.asarray(vs.held(network(x)))
    with vs.learning(seed=1, step=1):
        again = np.asarray(vs.held(network(x)))
    assert not np.allclose(plain, noisy)
    assert np.array_equal(noisy, again)


@pytest.mark.parametrize("kind", ["plain", "variational", "quantised"])
def test_what_is_unlike_the_training_stands_out(kind):
    rng = np.random.default_rng(0)
    z = rng.normal(size=(500, 2))
    x = (z @ rng.normal(size=(2, 8))).astype(np.float32)
    coder = {
        "plain": lambda: G.Autoencoder(vs.Dense(2), vs.Dense(8)),
        "variational": lambda: G.VariationalAutoencoder(
            vs.Dense(16, vs.relu), vs.Dense(8), latent=2
        ),
        "quantised": lambda: G.QuantisedAutoencoder(vs.Dense(4), vs.Dense(8), codes=32, width=4),
    }[kind]()
    training = vs.Training(
        coder, task=vs.tasks.Generative(), optimiser=vs.optimisers.Adam(1e-2), seed=0
    )
    training.run(vs.data.Dataset(x[:400]).batches(50), epochs=40)
    strange = rng.normal(size=(100, 8)) * x.std()
    model = training.model()
    usual = model.predict(x[400:])["anomaly"].to_numpy()
    others = model.predict(strange.astype(np.float32))["anomaly"].to_numpy()
    assert (others[:, None] > usual[None]).mean() > 0.9


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: G.Autoencoder(vs.Dense(2), vs.Dense(3), noise=-1), "noise"),
        (lambda: G.VariationalAutoencoder(vs.Dense(2), vs.Dense(3), latent=0), "latent"),
        (
            lambda: G.VariationalAutoencoder(vs.Dense(2), vs.Dense(3), latent=1, deviation=0.0),
            "deviation",
        ),
        (lambda: G.QuantisedAutoencoder(vs.Dense(2), vs.Dense(3), codes=1), "codes"),
    ],
)
def test_settings_that_are_none_are_refused(make, words):
    with pytest.raises(vs.errors.SettingError, match=words):
        make()


def test_a_decoder_of_another_shape_is_refused_in_words():
    with pytest.raises(vs.errors.ShapeError, match="the decoder makes"):
        G.Autoencoder(vs.Dense(2), vs.Dense(3)).initialise((4,))
