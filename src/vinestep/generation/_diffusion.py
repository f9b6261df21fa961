"""Diffusion: a network learns to tell example and noise apart in mixtures of both, and makes
examples from noise step by step.
"""

from __future__ import annotations

import itertools
import math
from typing import Any, Literal

import numpy as np

from .._activations import silu
from ..autodiff.tensor import held
from ..autodiff.tracking import untracked
from ..errors import DataError, LayerError, SettingError
from ..layers._base import Layer
from ..layers._conditioned import TimeEmbedding
from ..layers._containers import Stack
from ..layers._dense import Dense
from ..layers._embedding import Embedding
from ..layers._learning_pass import PASS
from ..parts._registry import part
from ._generative_network import GenerativeNetwork, class_labels
from ._noise_schedules import Cosine, NoiseSchedule, posterior

__all__ = ["Diffusion"]

Predicts = Literal["noise", "clean", "velocity", "flow"]
PREDICTED = ("noise", "clean", "velocity", "flow")
SAMPLERS = ("deterministic", "ancestral", "second_order")
FARTHEST = 10.0  # logarithm of noise over example, beyond which levels look the same


@part("diffusion", "layer")
class Diffusion(GenerativeNetwork):
    """A network that makes examples from noise.

    In training, examples are mixed with noise at random levels, and `body` learns to predict the
    noise, or what `predicts` says, from the mixture [1]_ [2]_ [3]_ [4]_. `sample` goes from noise
    to an example in few steps. Examples should have a mean of about 0 and a deviation of about
    `deviation`.

    Parameters
    ----------
    body : Layer
        Takes a mixture and a condition, ``(batch, width)``, and puts out something of the mixture's
        shape: `vinestep.networks.UShaped` with ``conditioned=True`` for pictures and sequences,
        `vinestep.layers.ConditionedDense` for tables and points.
    noise : NoiseSchedule, optional
        The levels; `Cosine` by default.
    predicts : {"velocity", "noise", "clean", "flow"}
        What `body` predicts: the noise [1]_, the example, ``cos(angle) noise - sin(angle) example``
        [5]_, or ``noise - example``, the direction of the straight line between the two [6]_.
    weight : str or float
        By which error the loss counts: "plain", of what is predicted; one of the names of
        `predicts`; or a number, at which the ratio of signal to noise is cut, by which errors of
        the example are weighed [7]_.
    width : int
        Of the condition.
    classes : int
        If above 0, the targets are classes, and are told to the network.
    label_dropout : float
        How often the class of an example is left out in a learning pass, for guidance [8]_.
    reader : Layer, optional
        Of a second input of the network, such as a text: makes ``(batch, width)`` of it.
    embedding : {"sine", "fourier"}
        By which the level is told; see `vinestep.layers.TimeEmbedding`.
    deviation : float
        Of the examples.
    draws : int
        Levels of each example in inference, over which its loss is averaged.

    References
    ----------
    .. [1] J. Ho, A. Jain and P. Abbeel, "Denoising Diffusion Probabilistic Models", NeurIPS 2020.
    .. [2] A. Nichol and P. Dhariwal, "Improved Denoising Diffusion Probabilistic Models", ICML
       2021.
    .. [3] J. Song, C. Meng and S. Ermon, "Denoising Diffusion Implicit Models", ICLR 2021.
    .. [4] T. Karras, M. Aittala, T. Aila and S. Laine, "Elucidating the Design Space of
       Diffusion-Based Generative Models", NeurIPS 2022.
    .. [5] T. Salimans and J. Ho, "Progressive Distillation for Fast Sampling of Diffusion Models",
       ICLR 2022, appendix D.
    .. [6] Y. Lipman et al., "Flow Matching for Generative Modeling", ICLR 2023.
    .. [7] T. Hang et al., "Efficient Diffusion Training via Min-SNR Weighting Strategy", ICCV 2023,
       section 3.4.
    .. [8] J. Ho and T. Salimans, "Classifier-Free Diffusion Guidance", 2022, algorithms 1 and 2.

    Examples
    --------
    >>> points = np.random.default_rng(0).normal(size=(256, 2)).astype(np.float32)
    >>> network = vs.generation.Diffusion(vs.layers.ConditionedDense(2, width=16, depth=1))
    >>> training = vs.Training(network, task=vs.tasks.Generative())
    >>> outcome = training.run(vs.data.Dataset(points).batches(64), epochs=1)
    >>> training.model().sample(5, seed=1).shape
    (5, 2)
    """

    def __init__(
        self,
        body: Layer,
        *,
        noise: NoiseSchedule | None = None,
        predicts: Predicts = "velocity",
        weight: str | float = "plain",
        width: int = 64,
        classes: int = 0,
        label_dropout: float = 0.1,
        reader: Layer | None = None,
        embedding: Literal["sine", "fourier"] = "sine",
        deviation: float = 1.0,
        draws: int = 4,
    ) -> None:
        if predicts not in PREDICTED:
            raise SettingError(
                f"Diffusion: predicts is one of {', '.join(PREDICTED)}; got {predicts!r}."
            )
        if not (weight in ("plain", *PREDICTED) if isinstance(weight, str) else weight > 0):
            raise SettingError(
                f'Diffusion: weight is "plain", one of {", ".join(PREDICTED)}, or a number above '
                f"0; got {weight!r}."
            )
        if not 0 <= label_dropout < 1 or not deviation > 0 or draws < 1 or classes < 0:
            raise SettingError(
                "Diffusion: label_dropout is from 0 up to but not including 1, deviation above 0, "
                f"draws at least 1; got {label_dropout}, {deviation}, {draws}."
            )
        self.body, self.noise = body, noise or Cosine()
        if predicts == "noise" and np.cos(self.noise.angle(np.array(1.0))) < 1e-5:
            raise SettingError(
                "Diffusion: at the last level of this schedule there is nothing of the example, "
                'and the noise alone does not tell it. Say predicts="flow" or "velocity".'
            )
        self.predicts, self.weight, self.width = predicts, weight, width
        self.classes, self.label_dropout, self.reader = classes, label_dropout, reader
        self.deviation, self.draws, self.embedding = float(deviation), draws, embedding
        highest = 100.0 if embedding == "sine" else 10.0
        self.time = Stack(
            TimeEmbedding(width, form=embedding, highest=highest), Dense(width, silu), Dense(width)
        )
        self.label = Embedding(classes + 1, width) if classes else None

    # the loss

    def compute(self, x: Any, given: Any = None, *, targets: Any = None) -> Any:
        """The loss of each example, shape (n,).

        Parameters
        ----------
        x : shape (n, ...)
        given : array, optional
            What `reader` reads.
        targets : shape (n,), optional
            Classes.
        """
        x = np.asarray(held(x))
        labels = self._labels_of(targets, len(x))
        if PASS.learning or PASS.dry is not None:
            return self._loss(x, given, labels, self.uniforms(x)[:, 0], 0)
        first = self.uniforms(x)[:, 0]
        total: Any = 0.0
        for draw in range(self.draws):  # levels in even layers, which spread less
            total = total + self._loss(x, given, labels, (first + draw) / self.draws, draw)
        return total / self.draws

    def _loss(self, x: np.ndarray, given: Any, labels: Any, uniform: Any, draw: int) -> Any:
        angles = self.noise.angle(self.noise.training_times(uniform))
        e = self.normals(x, x.shape[1:], draw).astype(x.dtype)
        clean = x / x.dtype.type(self.deviation)
        c, s = (_beside(function(angles), x) for function in (np.cos, np.sin))
        found = self._predicted(c * clean + s * e, angles, self._condition(given, labels))
        wanted = {
            "noise": e,
            "clean": clean,
            "velocity": c * e - s * clean,
            "flow": e - clean,
        }[self.predicts]
        errors = np.mean(np.reshape((found - wanted) ** 2, (len(x), -1)), axis=1)
        return errors * self._weights(angles).astype(x.dtype)

    def _weights(self, angles: np.ndarray) -> np.ndarray:
        if self.weight == "plain" or self.weight == self.predicts:
            return np.ones(angles.shape)
        own = _share(self.predicts, angles) ** 2  # of the example's error in that of what is told
        if isinstance(self.weight, str):
            return np.asarray(own / _share(self.weight, angles) ** 2)
        return np.asarray(own * np.minimum(1 / np.tan(angles) ** 2, self.weight))

    def _labels_of(self, targets: Any, n: int) -> np.ndarray | None:
        if not self.classes:
            return None
        if targets is None:
            return np.full(n, self.classes)
        labels = class_labels(targets, self.classes, self._label)
        if labels.shape != (n,):
            raise DataError(f"{self._label}: {n} examples, and labels of shape {labels.shape}.")
        if PASS.learning and self.label_dropout:
            kept_back = self.uniforms(labels)[:, 0] < self.label_dropout
            labels = np.where(kept_back, self.classes, labels)
        return labels

    def _condition(self, given: Any, labels: Any) -> list[Any]:
        told = []
        if self.label is not None:
            told.append(self.label(labels))
        if self.reader is not None:
            if given is None:
                raise DataError(
                    f"{self._label}: it was made with a reader, and got one input. Give what is "
                    "read as a second input."
                )
            told.append(self.reader(given))
        elif given is not None:
            raise LayerError(
                f"{self._label}: it got a second input, and nothing reads it. Say reader=."
            )
        return told

    def _predicted(self, mixture: Any, angles: np.ndarray, condition: list[Any]) -> Any:
        """What the body makes of mixtures at these levels."""
        with np.errstate(divide="ignore"):
            levels = np.clip(np.log(np.tan(angles)), -FARTHEST, FARTHEST)
        level = (levels / (2 * FARTHEST) + 0.5).astype(held(mixture).dtype)
        whole = self.time(level)
        for told in condition:
            whole = whole + told
        return self.body(mixture, whole)

    # what is made

    def denoise(
        self,
        mixture: Any,
        angle: float,
        *,
        labels: Any = None,
        given: Any = None,
        guidance: float = 1.0,
    ) -> tuple[np.ndarray, np.ndarray]:
        """Example and noise in mixtures of one level, as the network sees them; in units of
        `deviation`.

        Parameters
        ----------
        mixture : array, shape (n, ...)
        angle : float
            Of the level, above 0.
        labels : array of int, optional
        given : array, optional
        guidance : float
            How far to go beyond what is told without the class; 1 for not at all.

        Returns
        -------
        example, noise : ndarray
        """
        mixture = np.asarray(mixture)
        angles = np.full(len(mixture), angle)
        own = self._labels_of(labels, len(mixture))
        with untracked():
            told = np.asarray(held(self._predicted(mixture, angles, self._condition(given, own))))
            if guidance != 1 and self.label is not None and labels is not None:
                none = np.full(len(mixture), self.classes)
                without = self._predicted(mixture, angles, self._condition(given, none))
                told = held(without) + told.dtype.type(guidance) * (told - held(without))
        return clean_and_noise(self.predicts, mixture, told, angle)

    def draw(  # type: ignore[override]
        self,
        rng: np.random.Generator,
        count: int,
        labels: Any,
        *,
        steps: int = 50,
        how: str = "deterministic",
        guidance: float = 1.0,
        given: Any = None,
        known: Any = None,
        where: Any = None,
    ) -> np.ndarray:
        """New examples.

        Parameters
        ----------
        steps : int
            Of the network, twice as many with "second_order".
        how : {"deterministic", "ancestral", "second_order"}
            J. Song et al., 2021, equation 12 without noise; J. Ho et al., 2020, algorithm 2; and a
            step of Heun's method, as T. Karras et al., 2022, algorithm 1, by the angle.
        guidance : float
            See `denoise`.
        given : array, optional
            What `reader` reads, one for each example or for all.
        known : array, optional
            An example of which a part is kept: what is left out is made to fit (A. Lugmayr et al.,
            CVPR 2022, equation 8, without repetitions).
        where : array of bool, optional
            Which values of `known` are kept.
        """
        if how not in SAMPLERS:
            raise SettingError(f"sample: how is one of {', '.join(SAMPLERS)}; got {how!r}.")
        if isinstance(steps, bool) or not isinstance(steps, int | np.integer) or steps < 1:
            raise SettingError(f"sample: steps is a whole number of at least 1, got {steps!r}.")
        if (known is None) is not (where is None):
            raise SettingError("sample: known and where come together: what is kept, and which.")
        if guidance != 1 and not self.classes:
            raise SettingError("sample: guidance is for networks that are told a class.")
        shape = (count, *self.example_shape())
        dtype = self.dtype
        given = self._given_for(given, count)
        told = {"labels": labels, "given": given, "guidance": guidance}
        angles = self.angles(int(steps))
        start = rng.normal(size=shape).astype(dtype)
        mixture = dtype.type(math.sin(angles[0])) * start
        kept = None
        if known is not None:
            kept = np.broadcast_to(np.asarray(known, dtype) / dtype.type(self.deviation), shape)
            where = np.broadcast_to(np.asarray(where, bool), shape)
        for high, low in itertools.pairwise(angles):
            mixture = self._step(rng, mixture, float(high), float(low), how, told)
            if kept is not None:
                e = rng.normal(size=shape).astype(dtype)
                at = dtype.type(math.cos(low)) * kept + dtype.type(math.sin(low)) * e
                mixture = np.where(where, at, mixture)
        return np.asarray(mixture * dtype.type(self.deviation))

    def _given_for(self, given: Any, count: int) -> Any:
        if given is None:
            return None
        array = np.asarray(held(given))
        like = self.sample_like[1][0] if len(self.sample_like) > 1 else array.shape
        if array.shape == tuple(like):
            array = array[None]
        return np.broadcast_to(array, (count, *array.shape[1:])) if len(array) == 1 else array

    def angles(self, steps: int) -> np.ndarray:
        """The levels that so many steps lead through, the last of them 0."""
        result = self.noise.angle(self.noise.sampling_times(steps))
        return result if result[-1] == 0 else np.append(result, 0.0)

    def _step(
        self, rng: Any, mixture: Any, high: float, low: float, how: str, told: dict[str, Any]
    ) -> Any:
        clean, e = self.denoise(mixture, high, **told)
        kind = mixture.dtype.type
        if how == "ancestral":
            mean, variance = posterior(mixture, clean, low, high)
            noise = rng.normal(size=mixture.shape)
            return (mean + math.sqrt(variance) * noise).astype(mixture.dtype)
        ahead = kind(math.cos(low)) * clean + kind(math.sin(low)) * e
        if how == "deterministic" or low == 0:
            return ahead
        clean_there, e_there = self.denoise(ahead, low, **told)
        slope = kind(math.cos(high)) * e - kind(math.sin(high)) * clean
        slope_there = kind(math.cos(low)) * e_there - kind(math.sin(low)) * clean_there
        return mixture + kind((low - high) / 2) * (slope + slope_there)

    def invert(self, x: Any, *, steps: int = 200, labels: Any = None, given: Any = None) -> Any:
        """The noise that the deterministic sampler makes these examples from: the same steps the
        other way (J. Song et al., 2021, section 4.3).

        Parameters
        ----------
        x : array, shape (n, ...)

        Returns
        -------
        noise : ndarray
            Of deviation 1, if the network has learned well.
        """
        angles = self.angles(steps)[::-1]
        mixture = np.asarray(x, self.dtype) / self.dtype.type(self.deviation)
        kind = self.dtype.type
        first = float(angles[1])
        told = {"labels": labels, "given": given}
        clean, e = self.denoise(mixture, first, **told)
        for high in angles[1:]:
            mixture = kind(math.cos(high)) * clean + kind(math.sin(high)) * e
            clean, e = self.denoise(mixture, float(high), **told)
        return mixture / kind(math.sin(float(angles[-1])))

    # the bound

    def bound(
        self, x: Any, *, levels: int = 200, seed: int = 0, labels: Any = None, given: Any = None
    ) -> np.ndarray:
        """Nats that each example costs at most: the variational bound of its negative logarithmic
        density, by one draw of each level.

        J. Ho, A. Jain and P. Abbeel, NeurIPS 2020, equation 5, with a normal distribution around
        what the first level is cleaned to; the terms between as D. P. Kingma et al., NeurIPS 2021,
        equation 14.

        Parameters
        ----------
        x : array, shape (n, ...)
        levels : int

        Returns
        -------
        nats : ndarray, shape (n,), float64
            Divided by ``log(2)`` and by how many values an example has: bits per dimension.
        """
        x = np.asarray(x, self.dtype)
        rng = np.random.default_rng(seed)
        size = x[0].size
        clean = (x / self.dtype.type(self.deviation)).astype(np.float64)
        angles = self.angles(levels)[:-1][::-1]  # from the lowest to noise
        top = float(angles[-1])
        squares = np.sum(clean.reshape(len(x), -1) ** 2, axis=1)
        c2, s2 = math.cos(top) ** 2, math.sin(top) ** 2
        total = 0.5 * (c2 * squares + size * (s2 - 1 - math.log(s2)))
        ratios = 1 / np.tan(angles) ** 2
        for place, angle in enumerate(angles):
            e = rng.normal(size=x.shape)
            mixture = (math.cos(angle) * clean + math.sin(angle) * e).astype(self.dtype)
            found, _ = self.denoise(mixture, float(angle), labels=labels, given=given)
            errors = np.sum((clean - found).reshape(len(x), -1) ** 2, axis=1)
            if place:
                total += 0.5 * (ratios[place - 1] - ratios[place]) * errors
            else:
                total += 0.5 * (ratios[0] * errors + size * math.log(2 * math.pi / ratios[0]))
        return np.asarray(total + size * math.log(self.deviation))


def _beside(values: np.ndarray, x: np.ndarray) -> np.ndarray:
    """A number for each example, to be multiplied by what has the shape of `x`."""
    return values.reshape(len(values), *(1,) * (x.ndim - 1)).astype(x.dtype)


def _share(quantity: str, angles: np.ndarray) -> np.ndarray:
    """What an error of a quantity amounts to in the example."""
    c, s = np.cos(angles), np.sin(angles)
    return np.asarray(
        {
            "noise": np.tan(angles),
            "clean": np.ones_like(angles),
            "velocity": s,
            "flow": s / (c + s),
        }[quantity]
    )


def clean_and_noise(
    predicts: str, mixture: np.ndarray, told: np.ndarray, angle: float
) -> tuple[np.ndarray, np.ndarray]:
    """Example and noise, from a mixture and what was told of it."""
    kind = mixture.dtype.type
    c, s = kind(math.cos(angle)), kind(math.sin(angle))
    if predicts == "noise":
        return (mixture - s * told) / c, told
    if predicts == "clean":
        return told, (mixture - c * told) / s
    if predicts == "velocity":
        return c * mixture - s * told, s * mixture + c * told
    return np.asarray((mixture - s * told) / (c + s)), np.asarray((mixture + c * told) / (c + s))
