"""Autoencoders: what is put together again from a few numbers, a distribution of them, or codes."""

from __future__ import annotations

import math
from typing import Any, Literal

import numpy as np

from .._activations import softplus
from ..autodiff.tensor import held
from ..autodiff.tracking import untracked
from ..errors import DataError, LayerError, SettingError, ShapeError
from ..layers._base import Layer
from ..layers._dense import Dense
from ..layers._learning_pass import PASS
from ..parts._registry import part
from ..schedules import Schedule, as_schedule
from ._generative_network import GenerativeNetwork

__all__ = ["Autoencoder", "QuantisedAutoencoder", "VariationalAutoencoder"]

Likelihood = Literal["normal", "bernoulli"]
LEAST = 1e-3  # deviation of a normal distribution that is learned


class _Coder(GenerativeNetwork):
    """What autoencoders have in common."""

    encoder: Layer
    decoder: Layer

    def encode(self, x: Any) -> np.ndarray:
        """What examples are put together from again, in inference."""
        with untracked():
            return np.asarray(held(self._code(np.asarray(x, self.dtype))))

    def decode(self, codes: Any) -> np.ndarray:
        """Examples that codes stand for."""
        with untracked():
            return np.asarray(held(self.decoder(np.asarray(codes, self.dtype))))

    def reconstruct(self, x: Any) -> np.ndarray:
        """Examples put together again from their codes."""
        return self.decode(self.encode(x))

    def _code(self, x: Any) -> Any:
        return self.encoder(x)

    def _check_shape(self, made: Any, x: Any) -> None:
        if np.shape(made) != np.shape(x):
            raise ShapeError(
                f"{self._label}: the decoder makes {np.shape(made)[1:]} of examples of "
                f"{np.shape(x)[1:]}. End it in what gives that shape: a dense layer and a Reshape, "
                "or a convolution."
            )


def _means(values: Any) -> Any:
    return np.mean(np.reshape(values, (values.shape[0], -1)), axis=1)


def _sums(values: Any) -> Any:
    return np.sum(np.reshape(values, (values.shape[0], -1)), axis=1)


@part("autoencoder", "layer")
class Autoencoder(_Coder):
    """Puts examples together again from few numbers; the loss of an example, its mean squared
    error, says how unlike those of the training it is.

    Parameters
    ----------
    encoder, decoder : Layer
    noise : float
        Deviation of normal noise on what is encoded, in learning passes: a denoising autoencoder
        (P. Vincent et al., JMLR 11, 3371-3408, 2010).
    masked : float
        Share of the values that are set to 0 in learning passes, likewise.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(64, 6)).astype(np.float32)
    >>> network = vs.generation.Autoencoder(vs.Dense(2), vs.Dense(6))
    >>> training = vs.Training(network, task=vs.tasks.Generative())
    >>> outcome = training.run(vs.data.Dataset(x).batches(16), epochs=1)
    >>> training.model().predict(x[:2]).columns.tolist(), network.encode(x[:2]).shape
    (['anomaly'], (2, 2))
    """

    can_sample = False

    def __init__(
        self, encoder: Layer, decoder: Layer, *, noise: float = 0.0, masked: float = 0.0
    ) -> None:
        if not noise >= 0 or not 0 <= masked < 1:
            raise SettingError(
                "Autoencoder: noise is not negative, masked from 0 up to but not including 1; got "
                f"{noise}, {masked}."
            )
        self.encoder, self.decoder = encoder, decoder
        self.noise, self.masked = float(noise), float(masked)

    def compute(self, x: Any, *, targets: Any = None) -> Any:
        seen = x
        if PASS.learning and self.noise:
            seen = seen + self.normals(x, x.shape[1:]) * x.dtype.type(self.noise)
        if PASS.learning and self.masked:
            kept = self.uniforms(x, int(np.prod(x.shape[1:]))) >= self.masked
            seen = seen * kept.reshape(x.shape).astype(x.dtype)
        made = self.decoder(self.encoder(seen))
        self._check_shape(made, x)
        return _means((made - x) ** 2)


@part("variational_autoencoder", "layer")
class VariationalAutoencoder(_Coder):
    """An autoencoder whose codes are distributions near the normal one, so that new codes can be
    drawn. Its loss has two terms, in nats: what putting together again costs, and the divergence of
    the codes; their sum bounds the negative logarithmic density of an example.

    D. P. Kingma and M. Welling, ICLR 2014, equations 7 and 10; the divergence may weigh otherwise
    in learning passes: I. Higgins et al., ICLR 2017, equation 4.

    Parameters
    ----------
    encoder, decoder : Layer
        Of what the encoder puts out, a dense layer makes mean and deviation of `latent` numbers.
    latent : int
    likelihood : {"normal", "bernoulli"}
        Of values around what the decoder makes; "bernoulli" of values from 0 to 1, of which it
        makes logits.
    deviation : float, optional
        Of the normal distribution; learned if it is not given.
    weight : float, or Schedule
        Of the divergence in learning passes; a schedule by the step, such as
        ``vinestep.schedules.warmup(500)``.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(64, 6)).astype(np.float32)
    >>> network = vs.generation.VariationalAutoencoder(
    ...     vs.Dense(8, vs.relu), vs.Dense(6), latent=2
    ... )
    >>> training = vs.Training(network, task=vs.tasks.Generative())
    >>> outcome = training.run(vs.data.Dataset(x).batches(16), epochs=1)
    >>> training.model().sample(3).shape, network.bits_per_dimension(x[:2]).shape
    ((3, 6), (2,))
    """

    def __init__(
        self,
        encoder: Layer,
        decoder: Layer,
        *,
        latent: int,
        likelihood: Likelihood = "normal",
        deviation: float | None = None,
        weight: float | Schedule = 1.0,
    ) -> None:
        if latent < 1 or likelihood not in ("normal", "bernoulli"):
            raise SettingError(
                'VariationalAutoencoder: latent is at least 1, likelihood "normal" or '
                f'"bernoulli"; got {latent}, {likelihood!r}.'
            )
        if deviation is not None and not deviation > 0:
            raise SettingError(
                f"VariationalAutoencoder: deviation must be above 0, got {deviation!r}."
            )
        if isinstance(weight, int | float) and not weight >= 0:
            raise SettingError(
                f"VariationalAutoencoder: weight must not be negative, got {weight!r}."
            )
        self.encoder, self.decoder, self.latent = encoder, decoder, latent
        self.likelihood, self.deviation, self.weight = likelihood, deviation, weight
        self.mean, self.spread = Dense(latent), Dense(latent)

    deviation_parameter: Any

    def declare(self, shape: tuple[int, ...]) -> None:
        if self.likelihood == "normal" and self.deviation is None:
            self.parameter(
                "deviation_parameter", (1,), lambda rng, shape: np.full(shape, math.log(math.e - 1))
            )

    def _distribution(self, x: Any) -> tuple[Any, Any]:
        """Mean and logarithmic variance of the codes."""
        code = self.encoder(x)
        if len(code.shape) != 2:
            raise ShapeError(
                f"{self._label}: the encoder gives {code.shape[1:]} for an example. End it in one "
                "axis: Flatten or GlobalMean."
            )
        return self.mean(code), np.clip(self.spread(code), -20, 20)

    def _code(self, x: Any) -> Any:
        return self._distribution(x)[0]

    def decode(self, codes: Any) -> np.ndarray:
        found = super().decode(codes)
        if self.likelihood == "normal":
            return found
        return np.asarray(1 / (1 + np.exp(-found)))

    def compute(self, x: Any, *, targets: Any = None) -> Any:
        mean, log_variance = self._distribution(x)
        e = self.normals(x, (self.latent,)).astype(held(mean).dtype)
        cost = self._cost(x, mean + np.exp(log_variance / 2) * e)
        divergence = 0.5 * np.sum(mean**2 + np.exp(log_variance) - 1 - log_variance, axis=1)
        if PASS.learning:
            divergence = divergence * self._weight_now()
        return np.stack([cost, divergence], axis=1)

    def _weight_now(self) -> float:
        if isinstance(self.weight, int | float):
            return float(self.weight)
        return float(as_schedule(self.weight)(PASS.step))

    def _cost(self, x: Any, codes: Any) -> Any:
        """Nats of examples around what codes are decoded to, shape (n,)."""
        made = self.decoder(codes)
        self._check_shape(made, x)
        if self.likelihood == "bernoulli":
            if np.min(held(x)) < 0 or np.max(held(x)) > 1:
                raise DataError(
                    f"{self._label}: of values from 0 to 1, got {float(np.min(held(x))):.3g} to "
                    f'{float(np.max(held(x))):.3g}. Scale them, or say likelihood="normal".'
                )
            return _sums(softplus(made) - made * x)
        deviation: Any = self.deviation
        if deviation is None:
            deviation = softplus(self.deviation_parameter) + LEAST
        nats = ((made - x) / deviation) ** 2 / 2 + np.log(deviation) + 0.5 * math.log(2 * math.pi)
        return _sums(nats)

    def draw(  # type: ignore[override]
        self,
        rng: np.random.Generator,
        count: int,
        labels: Any,
        *,
        temperature: float = 1.0,
        noisy: bool = False,
    ) -> np.ndarray:
        """New examples.

        Parameters
        ----------
        temperature : float
            Deviation of the codes that are drawn.
        noisy : bool
            Whether values are drawn around what the decoder makes, too, rather than their mean.
        """
        codes = rng.normal(size=(count, self.latent)) * temperature
        found = self.decode(codes)
        if not noisy:
            return found
        if self.likelihood == "bernoulli":
            return (rng.random(found.shape) < found).astype(found.dtype)
        deviation = self.deviation
        if deviation is None:
            deviation = float(np.logaddexp(0, held(self.deviation_parameter)[0])) + LEAST
        return np.asarray(found + (deviation * rng.normal(size=found.shape)).astype(found.dtype))

    def bits_per_dimension(self, x: Any, *, draws: int = 1, seed: int = 0) -> np.ndarray:
        """Bits that each value of an example costs at most, shape (n,), float64.

        Parameters
        ----------
        x : array, shape (n, ...)
        draws : int
            Codes of each example; of several the bound is the tighter one of Y. Burda, R. Grosse
            and R. Salakhutdinov, ICLR 2016, equation 8.
        """
        if draws < 1:
            raise SettingError(f"bits_per_dimension: draws must be at least 1, got {draws}.")
        x = np.asarray(x, self.dtype)
        rng = np.random.default_rng(seed)
        with untracked():
            mean, log_variance = (np.asarray(held(a), np.float64) for a in self._distribution(x))
            logarithms = []
            for _ in range(draws):
                e = rng.normal(size=mean.shape)
                codes = mean + np.exp(log_variance / 2) * e
                cost = np.asarray(held(self._cost(x, codes.astype(self.dtype))), np.float64)
                prior = -0.5 * np.sum(codes**2, axis=1)
                own = -0.5 * np.sum(e**2 + log_variance, axis=1)
                logarithms.append(-cost + prior - own)
        top = np.max(logarithms, axis=0)
        bound = top + np.log(np.mean(np.exp(np.array(logarithms) - top), axis=0))
        return np.asarray(-bound / (x[0].size * math.log(2)))


@part("quantised_autoencoder", "layer")
class QuantisedAutoencoder(_Coder):
    """An autoencoder whose codes are whole numbers: places in a list of vectors that is learned.

    A. van den Oord, O. Vinyals and K. Kavukcuoglu, NeurIPS 2017, equations 1 to 3; the loss has
    three terms: putting together again, vectors to outputs of the encoder, and outputs to vectors.

    Codes of pictures are rows of whole numbers, of which a `vinestep.networks.LanguageModel` learns
    which follow one another; `decode_codes` makes pictures of those that it writes.

    Parameters
    ----------
    encoder, decoder : Layer
        The encoder's last axis is as wide as a vector.
    codes : int
        How many vectors.
    width : int
        Of a vector.
    commitment : float
        What the third term weighs.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(64, 6)).astype(np.float32)
    >>> network = vs.generation.QuantisedAutoencoder(vs.Dense(4), vs.Dense(6), codes=8, width=4)
    >>> training = vs.Training(network, task=vs.tasks.Generative())
    >>> outcome = training.run(vs.data.Dataset(x).batches(16), epochs=1)
    >>> network.codes_of(x[:3]).shape, network.reconstruct(x[:3]).shape
    ((3,), (3, 6))
    """

    can_sample = False

    def __init__(
        self,
        encoder: Layer,
        decoder: Layer,
        *,
        codes: int = 64,
        width: int = 16,
        commitment: float = 0.25,
    ) -> None:
        if codes < 2 or width < 1 or not commitment >= 0:
            raise SettingError(
                "QuantisedAutoencoder: codes are at least 2, width at least 1, commitment not "
                f"negative; got {codes}, {width}, {commitment}."
            )
        self.encoder, self.decoder = encoder, decoder
        self.codes, self.width, self.commitment = codes, width, commitment

    vectors: Any
    estimates_gradients = True

    def declare(self, shape: tuple[int, ...]) -> None:
        self.parameter(
            "vectors",
            (self.codes, self.width),
            lambda rng, shape: rng.normal(0, 1, shape),
        )

    def _nearest(self, outputs: np.ndarray) -> np.ndarray:
        if outputs.shape[-1] != self.width:
            raise LayerError(
                f"{self._label}: the encoder's outputs are {outputs.shape[-1]} wide, and vectors "
                f"{self.width}. Make its last layer as wide."
            )
        flat, vectors = outputs.reshape(-1, self.width), held(self.vectors)
        distances = np.sum(vectors**2, axis=1) - 2 * flat @ vectors.T
        return np.asarray(distances.argmin(axis=1).reshape(outputs.shape[:-1]))

    def compute(self, x: Any, *, targets: Any = None) -> Any:
        outputs = self.encoder(x)
        plain = np.asarray(held(outputs))
        places = self._nearest(plain)
        chosen = self.vectors[places]
        # the gradient of what is decoded goes to the encoder as if nothing had been rounded
        passed = outputs + (held(chosen) - plain)
        made = self.decoder(passed)
        self._check_shape(made, x)
        terms = [
            _means((made - x) ** 2),
            _means((chosen - plain) ** 2),
            _means((outputs - held(chosen)) ** 2) * self.commitment,
        ]
        return np.stack(terms, axis=1)

    def _code(self, x: Any) -> Any:
        return held(self.vectors)[self._nearest(np.asarray(held(self.encoder(x))))]

    def codes_of(self, x: Any) -> np.ndarray:
        """Whole numbers that examples are put together from again."""
        with untracked():
            return self._nearest(np.asarray(held(self.encoder(np.asarray(x, self.dtype)))))

    def decode_codes(self, codes: Any) -> np.ndarray:
        """Examples that whole numbers stand for.

        Raises
        ------
        DataError
            If a number is none of a vector.
        """
        places = np.asarray(codes)
        if places.dtype.kind not in "iu" or (
            places.size and not (places.min() >= 0 and places.max() < self.codes)
        ):
            raise DataError(f"decode_codes: codes are whole numbers from 0 to {self.codes - 1}.")
        return self.decode(held(self.vectors)[places])
