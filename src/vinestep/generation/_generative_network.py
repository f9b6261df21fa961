"""What networks that make examples have in common."""

from __future__ import annotations

from typing import Any

import numpy as np

from .._arguments import checked_seed
from ..autodiff.tensor import held
from ..autodiff.tracking import untracked
from ..errors import DataError, SettingError
from ..layers._base import Layer
from ..layers._learning_pass import (
    PASS,
    normal_of_uniform,
    random_normal,
    random_of_examples,
    random_uniform,
)

__all__ = ["GenerativeNetwork", "class_labels"]

AT_ONCE = 128  # examples


class GenerativeNetwork(Layer):
    """A network that makes examples like those it was trained on.

    One of your own derives from this and gives ``compute(x, targets=None)``, the loss of each
    example, and `draw`.

    Examples
    --------
    >>> class Normal(vs.generation.GenerativeNetwork):
    ...     def declare(self, shape):
    ...         self.parameter("middle", shape[1:], vs.initialisers.zeros)
    ...
    ...     def compute(self, x, *, targets=None):
    ...         return np.mean((x - self.middle) ** 2, axis=1)
    ...
    ...     def draw(self, rng, count, labels):
    ...         return vs.held(self.middle) + rng.normal(size=(count, *self.example_shape()))
    >>> Normal().initialise((3,)).sample(2, seed=1).shape
    (2, 3)
    """

    can_sample = True
    outputs_losses = True
    """Whether what it puts out is the loss of each example."""
    classes: int = 0
    """How many classes an example may be asked of; 0 where none can be."""

    def draw(self, rng: np.random.Generator, count: int, labels: Any, **settings: Any) -> Any:
        """So many new examples, drawn by `rng`."""
        raise NotImplementedError

    def example_shape(self) -> tuple[int, ...]:
        """The shape of one example."""
        return self.sample_like[0][0]

    def sample(self, count: int, *, seed: int = 0, labels: Any = None, **settings: Any) -> Any:
        """New examples, the same for the same seed.

        Parameters
        ----------
        count : int
        seed : int
        labels : int or array of int, optional
            Of which class; each of `count`, or one for all.
        **settings
            Of the network's kind.

        Returns
        -------
        made : ndarray, shape (count, ...)
        """
        if isinstance(count, bool) or not isinstance(count, int | np.integer) or count < 1:
            raise SettingError(f"sample: count is a whole number of at least 1, got {count!r}.")
        self._ready_arena()
        chosen = self._labels_for(int(count), labels)
        parts = []
        for place, start in enumerate(range(0, int(count), AT_ONCE)):
            n = min(AT_ONCE, int(count) - start)
            rng = np.random.default_rng([checked_seed(seed, "sample"), place])
            own = None if chosen is None else chosen[start : start + n]
            with untracked():
                parts.append(np.asarray(held(self.draw(rng, n, own, **settings))))
        return np.concatenate(parts)

    def _labels_for(self, count: int, labels: Any) -> np.ndarray | None:
        if labels is None:
            return None
        if not self.classes:
            raise SettingError(
                "sample: this network was trained without classes, so that none can be asked for. "
                "Leave out labels."
            )
        return np.broadcast_to(class_labels(labels, self.classes, "sample"), (count,))

    def labels_in_turn(self, count: int) -> np.ndarray | None:
        """Each class in turn, for so many examples; None where none can be asked for."""
        return np.resize(np.arange(self.classes), count) if self.classes else None

    # random numbers of a pass

    def uniforms(self, x: Any, count: int = 1) -> np.ndarray:
        """Numbers in [0, 1), shape (n, count): in a learning pass by seed and step, otherwise by
        the examples themselves, so that scores can be compared.
        """
        if PASS.learning or PASS.dropping:
            return np.asarray(random_uniform((len(x), count), self.random_key))
        return np.asarray(random_of_examples(held(x), count, self.random_key))

    def normals(self, x: Any, shape: tuple[int, ...], draw: int = 0) -> np.ndarray:
        """Normal numbers, of `shape` for each example, drawn like `uniforms`."""
        if PASS.learning or PASS.dropping:
            return np.asarray(random_normal((len(x), *shape), self.random_key))
        size = int(np.prod(shape))
        flat = random_of_examples(held(x), 2 * size, self.random_key + 1 + draw)
        normal = normal_of_uniform(flat[:, :size], flat[:, size:])
        return np.asarray(normal.reshape(len(x), *shape))


def class_labels(labels: Any, classes: int, what: str) -> np.ndarray:
    """Labels of classes from 0 on.

    Raises
    ------
    DataError
        If one is none.
    """
    found = np.asarray(held(labels))
    if found.dtype.kind not in "iu" or found.ndim > 1:
        raise DataError(
            f"{what}: classes are whole numbers, one for each example; got {found.dtype} of shape "
            f"{found.shape}."
        )
    if found.size and not (found.min() >= 0 and found.max() < classes):
        wrong = found[(found < 0) | (found >= classes)] if found.ndim else found
        raise DataError(
            f"{what}: there is no class {int(np.ravel(wrong)[0])}; there are {classes}, counted "
            "from 0."
        )
    return found
