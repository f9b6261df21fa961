"""The two networks of an adversarial pair, and layers that keep the critic in bounds."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..autodiff.tensor import held
from ..errors import DataError, LayerError, SettingError
from ..layers._base import Layer
from ..layers._dense import Dense
from ..layers._embedding import Embedding
from ..layers._learning_pass import PASS
from ..parts._registry import part
from ._generative_network import GenerativeNetwork, class_labels

__all__ = ["Critic", "LatentGenerator", "MinibatchDeviation", "SpectralNorm"]

SMALL = 1e-12


@part("latent_generator", "layer")
class LatentGenerator(GenerativeNetwork):
    """A network that makes examples of normal numbers, the generator of an adversarial pair.

    Parameters
    ----------
    body : Layer
        From ``(batch, latent)``, or with classes ``(batch, 2 * latent)``, to examples.
    latent : int
    classes : int
        If above 0, a learned vector of the class, of `latent` numbers, follows the random ones.

    Examples
    --------
    >>> network = vs.generation.LatentGenerator(vs.Dense(3), latent=2).initialise((2,))
    >>> network.sample(4, seed=1).shape
    (4, 3)
    """

    outputs_losses = False

    def __init__(self, body: Layer, *, latent: int = 64, classes: int = 0) -> None:
        if latent < 1 or classes < 0:
            raise SettingError(
                f"LatentGenerator: latent is at least 1, classes not negative; got {latent}, "
                f"{classes}."
            )
        self.body, self.latent, self.classes = body, latent, classes
        self.label = Embedding(classes, latent) if classes else None

    def compute(self, z: Any, *, targets: Any = None) -> Any:
        if z.shape[1:] != (self.latent,):
            raise DataError(
                f"{self._label}: takes {self.latent} normal numbers for each example, got "
                f"{z.shape[1:]}."
            )
        if self.label is None:
            return self.body(z)
        labels = np.zeros(len(z), int) if targets is None else targets
        told = self.label(class_labels(labels, self.classes, self._label))
        return self.body(np.concatenate([z, told], axis=1))

    def draw(  # type: ignore[override]
        self, rng: np.random.Generator, count: int, labels: Any, *, temperature: float = 1.0
    ) -> np.ndarray:
        """New examples.

        Parameters
        ----------
        temperature : float
            Deviation of the numbers that are drawn; below 1 likelier examples, and fewer kinds.
        """
        z = (rng.normal(size=(count, self.latent)) * temperature).astype(self.dtype)
        if self.classes and labels is None:
            labels = rng.integers(0, self.classes, count)
        return np.asarray(held(self(z, targets=labels)))


@part("critic", "layer")
class Critic(Layer):
    """Scores examples: high for real ones, low for those that are made.

    Parameters
    ----------
    body : Layer
        From examples to features ``(batch, width)``.
    classes : int
        If above 0, the score depends on the class by a product with a vector of each (T. Miyato and
        M. Koyama, ICLR 2018, equation 3).

    Examples
    --------
    >>> vs.generation.Critic(vs.Dense(4, vs.relu)).initialise((3,))(np.ones((2, 3))).shape
    (2,)
    """

    outputs_losses = False

    def __init__(self, body: Layer, *, classes: int = 0) -> None:
        self.body, self.classes = body, classes
        self.head = Dense(1)
        self.label: Any = None

    def compute(self, x: Any, *, targets: Any = None) -> Any:
        features = self.body(x)
        if len(features.shape) != 2:
            raise LayerError(
                f"{self._label}: the body gives {features.shape[1:]} for an example. End it in one "
                "axis: Flatten or GlobalMean."
            )
        score = self.head(features)[:, 0]
        if not self.classes:
            return score
        if self.label is None:
            self.label = Embedding(self.classes, features.shape[1])
            self._set_paths(self.path)
        labels = np.zeros(len(features), int) if targets is None else targets
        vectors = self.label(class_labels(labels, self.classes, self._label))
        return score + np.sum(vectors * features, axis=1)


@part("minibatch_deviation", "layer")
class MinibatchDeviation(Layer):
    """One more channel: how far the examples of the batch are apart on average, by which a critic
    sees that all are alike.

    T. Karras et al., ICLR 2018, section 3.

    Examples
    --------
    >>> layer = vs.generation.MinibatchDeviation().initialise((2,))
    >>> layer(np.array([[0.0, 0.0], [2.0, 2.0]]))[:, 2]
    array([1., 1.], dtype=float32)
    """

    def compute(self, x: Any) -> Any:
        spread = np.mean(np.sqrt(np.var(x, axis=0) + x.dtype.type(1e-8)))
        beside = np.ones((*x.shape[:-1], 1), x.dtype) * spread
        return np.concatenate([x, beside], axis=-1)


@part("spectral_norm", "layer")
class SpectralNorm(Layer):
    """A layer whose weight is divided by its largest singular value, so that no input is stretched.

    T. Miyato, T. Kataoka, M. Koyama and Y. Yoshida, ICLR 2018, algorithm 1: one step of the power
    iteration each learning pass, and the value's derivative by the weight.

    Parameters
    ----------
    layer : Layer
        Dense, convolution, or another with a ``weight``, whose last axis are the outputs.

    Examples
    --------
    >>> layer = vs.generation.SpectralNorm(vs.Dense(3)).initialise((4,))
    >>> for step in range(50):
    ...     with vs.learning(step=step):
    ...         y = layer(np.ones((1, 4)))
    >>> weight = np.asarray(vs.held(layer.layer.weight))
    >>> bool(abs(layer.largest() - np.linalg.norm(weight, 2)) < 1e-5)
    True
    """

    left: np.ndarray

    def __init__(self, layer: Layer) -> None:
        self.layer = layer

    def compute(self, x: Any) -> Any:
        if PASS.dry is not None:
            y = self.layer(x)
            weight = getattr(self.layer, "weight", None)
            if weight is None:
                raise LayerError(
                    f"{self._label}: {type(self.layer).__name__} has no weight to be divided."
                )
            self.statistic("left", (held(weight).shape[-1],), 0.0)
            rng = np.random.default_rng([PASS.dry.seed, *self.path.encode()])
            self.left[...] = rng.normal(size=self.left.shape)
            self.left /= np.linalg.norm(self.left)
            return y
        weight = self.layer.weight  # type: ignore[attr-defined]
        rows = np.reshape(weight, (-1, weight.shape[-1]))
        right, left = self._directions(np.asarray(held(rows)))
        if PASS.learning:
            self.left[...] = left
        largest = np.sum(np.matmul(rows, left) * right)
        self.layer.weight = weight / largest  # type: ignore[attr-defined]
        try:
            return self.layer(x)
        finally:
            self.layer.weight = weight  # type: ignore[attr-defined]

    def _directions(self, rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """After a step of the power iteration."""
        left = self.left
        right = rows @ left
        right = right / (np.linalg.norm(right) + SMALL)
        if PASS.learning:
            left = rows.T @ right
            left = left / (np.linalg.norm(left) + SMALL)
        return right.astype(rows.dtype), left.astype(rows.dtype)

    def largest(self) -> float:
        """The largest singular value, as it is known so far."""
        rows = np.asarray(held(self.layer.weight))  # type: ignore[attr-defined]
        rows = rows.reshape(-1, rows.shape[-1])
        return float(np.linalg.norm(rows @ self.left))
