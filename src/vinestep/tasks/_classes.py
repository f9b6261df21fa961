"""Tasks whose targets are classes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np
import scipy

from .. import losses
from .._activations import softplus
from ..autodiff.tensor import held
from ..errors import DataError, SettingError, ShapeError
from ..parts._registry import part
from ._base import PREDICTED, Back, Task, log_mean_exp

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Binary", "Classes", "Labels", "Ordered", "decided"]

FLAT = 2  # axes of outputs of which each row is one decision

RAREST = 1e-4  # share of a class, where answers are guessed
TINY = 1e-12


@part("classes", "task")
class Classes(Task):
    """One class of many: outputs are logits, ``(n, n_classes)``, or of each time of sequences or
    each pixel of pictures, ``(n, ..., n_classes)``; targets are class numbers ``(n, ...)``.

    Parameters
    ----------
    class_weights : sequence of float, optional
        What examples of each class weigh.
    smoothing : float
        Share of probability that is spread over all classes alike; see `losses.cross_entropy`.
    gaps : bool
        Whether labels may be -1, which do not count.

    Examples
    --------
    >>> task = vs.tasks.Classes(gaps=True)
    >>> task(np.zeros((2, 4)), np.array([3, -1])).round(4)
    np.float64(1.3863)
    >>> task.answers(np.array([[2.0, 0.0]]), ("sound", "stuck"))["predicted"].tolist()
    ['sound']
    """

    usual_metrics: ClassVar[tuple[str, ...]] = ("accuracy",)

    def __init__(
        self,
        class_weights: Sequence[float] | None = None,
        smoothing: float = 0.0,
        *,
        gaps: bool = False,
    ) -> None:
        super().__init__(gaps=gaps)
        if not 0 <= smoothing < 1:
            raise SettingError(
                f"Classes: smoothing must be from 0 up to but not including 1, got {smoothing!r}."
            )
        self.class_weights = None if class_weights is None else list(map(float, class_weights))
        self.smoothing = float(smoothing)

    @property
    def plain(self) -> Callable[..., Any] | None:
        options: dict[str, Any] = {}
        if self.class_weights is not None:
            options["class_weights"] = self.class_weights
        if self.smoothing:
            options["smoothing"] = self.smoothing
        return partial(losses.cross_entropy, **options) if options else losses.cross_entropy

    def losses(self, outputs: Any, targets: Any) -> Any:
        shape = np.shape(targets)
        if np.shape(outputs)[:-1] != shape:
            raise ShapeError(
                f"Classes: outputs have shape {np.shape(outputs)}, labels {shape}. Expected "
                "(n, n_classes) and (n,), or sequences or pictures of them."
            )
        flat = np.reshape(outputs, (-1, np.shape(outputs)[-1]))
        each = losses.cross_entropy(
            flat, np.reshape(targets, -1), reduction="none", smoothing=self.smoothing
        )
        return np.reshape(each, shape)

    def known(self, targets: Any) -> np.ndarray:
        return np.asarray(np.asarray(held(targets)) != -1)

    def place_weights(self, targets: Any, weights: Any) -> np.ndarray:
        weigh = super().place_weights(targets, weights)
        if self.class_weights is None:
            return weigh
        labels = np.asarray(held(targets))
        by_class = np.asarray(self.class_weights)
        inside = (labels >= 0) & (labels < len(by_class))
        return np.asarray(weigh * by_class[np.where(inside, labels, 0)])

    def hard_targets(self, outputs: np.ndarray, targets: np.ndarray) -> np.ndarray:
        soft = targets.dtype.kind == "f" and targets.shape == outputs.shape
        return targets.argmax(axis=-1) if soft else targets

    def as_classes(self, outputs: np.ndarray, targets: np.ndarray) -> tuple[Any, Any]:
        return outputs, self.hard_targets(outputs, targets)

    def answers(
        self, outputs: np.ndarray, classes: Sequence[Any] = (), back: Back | None = None
    ) -> pd.DataFrame:
        chances = scipy.special.softmax(outputs.astype(np.float64), axis=-1)
        known = classes if len(classes) == outputs.shape[-1] else range(outputs.shape[-1])
        return decided(chances, known)

    def width(self, classes: int) -> int:
        return classes

    def baseline(self, targets: np.ndarray, width: int) -> np.ndarray | None:
        if targets.dtype.kind == "f":
            shares = targets.reshape(-1, targets.shape[-1]).mean(axis=0)
        else:
            known = targets[self.known(targets)].ravel()
            shares = np.bincount(known, minlength=width)[:width] / max(known.size, 1)
        if len(shares) != width:
            return None
        if self.class_weights is not None:
            shares = shares * np.asarray(self.class_weights)
        return np.asarray(np.log(np.maximum(shares / max(shares.sum(), TINY), RAREST)))

    def averaged(self, outputs: np.ndarray) -> np.ndarray:
        return log_mean_exp(scipy.special.log_softmax(outputs.astype(np.float64), axis=-1))

    def uncertainty(self, outputs: np.ndarray) -> dict[str, np.ndarray]:
        return _disagreement(scipy.special.softmax(outputs.astype(np.float64), axis=-1))


@part("binary", "task")
class Binary(Task):
    """Yes or no by one logit: outputs ``(n, 1)`` or of the shape of the targets, which are 0 and
    1.

    Parameters
    ----------
    positive_weight : float
        What yes weighs against no.
    gaps : bool
        Whether targets may be -1 or NaN, which do not count.

    Examples
    --------
    >>> vs.tasks.Binary().answers(np.array([[2.0]]), ("sound", "stuck"))["predicted"].tolist()
    ['stuck']
    """

    usual_metrics: ClassVar[tuple[str, ...]] = ("accuracy",)

    def __init__(self, positive_weight: float = 1.0, *, gaps: bool = False) -> None:
        super().__init__(gaps=gaps)
        if not 0 < positive_weight < np.inf:
            raise SettingError(
                f"{type(self).__name__}: positive_weight must be positive, got {positive_weight!r}."
            )
        self.positive_weight = float(positive_weight)

    @property
    def plain(self) -> Callable[..., Any] | None:
        if self.positive_weight == 1:
            return losses.binary_cross_entropy
        return partial(losses.binary_cross_entropy, positive_weight=self.positive_weight)

    def losses(self, outputs: Any, targets: Any) -> Any:
        beside = np.reshape(outputs, np.shape(targets)) if _is_column(outputs, targets) else outputs
        return losses.binary_cross_entropy(
            beside, targets, positive_weight=self.positive_weight, reduction="none"
        )

    def known(self, targets: Any) -> np.ndarray:
        array = np.asarray(held(targets))
        return np.asarray((array != -1) & ~np.isnan(array.astype(np.float64)))

    def hard_targets(self, outputs: np.ndarray, targets: np.ndarray) -> np.ndarray:
        between = (targets > 0) & (targets < 1)
        return np.where(between, targets >= 0.5, targets) if between.any() else targets

    def as_classes(self, outputs: np.ndarray, targets: np.ndarray) -> tuple[Any, Any]:
        return losses.as_two_classes(outputs, self.completed(self.hard_targets(outputs, targets)))

    def answers(
        self, outputs: np.ndarray, classes: Sequence[Any] = (), back: Back | None = None
    ) -> pd.DataFrame:
        chances = scipy.special.expit(outputs.reshape(len(outputs), -1).astype(np.float64))
        if chances.shape[1] > 1:
            return several_decided(chances, classes)
        known = classes if len(classes) == FLAT else (0, 1)
        return decided(np.concatenate([1 - chances, chances], axis=1), known)

    def baseline(self, targets: np.ndarray, width: int) -> np.ndarray | None:
        known = np.where(self.known(targets), targets, np.nan).astype(np.float64)
        flat = known.reshape(-1, width) if known.size % width == 0 else known.reshape(-1, 1)
        shares = np.clip(np.nanmean(flat, axis=0), RAREST, 1 - RAREST)
        return np.asarray(scipy.special.logit(shares) + np.log(self.positive_weight))

    def averaged(self, outputs: np.ndarray) -> np.ndarray:
        yes, no = (
            log_mean_exp(scipy.special.log_expit(s * outputs.astype(np.float64))) for s in (1, -1)
        )
        return np.asarray(yes - no)

    def uncertainty(self, outputs: np.ndarray) -> dict[str, np.ndarray]:
        yes = scipy.special.expit(outputs.astype(np.float64).reshape(*outputs.shape[:2], -1))
        return _disagreement(np.stack([yes, 1 - yes], axis=-1))


@part("labels", "task")
class Labels(Binary):
    """Several labels at once, each true or not by itself: outputs and targets ``(n, n_labels)``.

    Parameters
    ----------
    names : sequence of str
        Of the labels; by default their numbers.
    positive_weight, gaps
        As for `Binary`.

    Examples
    --------
    >>> labels = vs.tasks.Labels(["mould", "rot"])
    >>> list(labels.answers(np.array([[2.0, -1.0]])))
    ['predicted mould', 'predicted rot', 'probability mould', 'probability rot']
    """

    def __init__(
        self, names: Sequence[str] = (), positive_weight: float = 1.0, *, gaps: bool = False
    ) -> None:
        super().__init__(positive_weight, gaps=gaps)
        self.names = list(map(str, names))

    def answers(
        self, outputs: np.ndarray, classes: Sequence[Any] = (), back: Back | None = None
    ) -> pd.DataFrame:
        chances = scipy.special.expit(outputs.reshape(len(outputs), -1).astype(np.float64))
        return several_decided(chances, self.names or classes)

    def width(self, classes: int) -> int:
        return len(self.names) or classes


@part("ordered", "task")
class Ordered(Task):
    """Classes with an order, such as grades: of k classes the network puts out k - 1 logits, each
    of going on to the next class.

    The probability of class c is that of going on c times and no further (continuation ratios; S.
    E. Fienberg, The Analysis of Cross-Classified Categorical Data, 1980, chapter 6). Targets are
    class numbers in order, shape (n,).

    Parameters
    ----------
    gaps : bool
        Whether labels may be -1, which do not count.

    Examples
    --------
    >>> grades = vs.tasks.Ordered()
    >>> grades.probabilities(np.zeros((1, 2))).tolist()
    [[0.5, 0.25, 0.25]]
    """

    usual_metrics: ClassVar[tuple[str, ...]] = ("accuracy", "rank_error")

    def __init__(self, *, gaps: bool = False) -> None:
        super().__init__(gaps=gaps)

    def losses(self, outputs: Any, targets: Any) -> Any:
        labels = np.asarray(held(targets))
        shape = np.shape(outputs)
        if len(shape) != labels.ndim + 1 or shape[:-1] != labels.shape:
            raise ShapeError(
                f"Ordered: outputs have shape {shape}, labels {labels.shape}. Expected "
                "(n, n_classes - 1) and (n,)."
            )
        if labels.dtype.kind not in "iu":
            raise DataError(f"Ordered: labels have to be whole numbers, got {labels.dtype}.")
        if labels.size and (labels.min() < 0 or labels.max() > shape[-1]):
            bad = labels[(labels < 0) | (labels > shape[-1])][0]
            raise DataError(
                f"Ordered: label {bad} is out of range: {shape[-1]} outputs are of the classes 0 "
                f"to {shape[-1]}."
            )
        step = np.arange(shape[-1])
        passed, stopped = step < labels[..., None], step == labels[..., None]
        return np.sum(
            np.where(passed, softplus(-outputs), 0.0) + np.where(stopped, softplus(outputs), 0.0),
            axis=-1,
        )

    def known(self, targets: Any) -> np.ndarray:
        return np.asarray(np.asarray(held(targets)) != -1)

    @staticmethod
    def _log_probabilities(outputs: np.ndarray) -> np.ndarray:
        logits = outputs.astype(np.float64)
        none = np.zeros((*logits.shape[:-1], 1))
        going = np.concatenate([none, np.cumsum(scipy.special.log_expit(logits), axis=-1)], axis=-1)
        return np.asarray(going + np.concatenate([scipy.special.log_expit(-logits), none], axis=-1))

    def probabilities(self, outputs: np.ndarray) -> np.ndarray:
        """Of each class, shape (n, n_classes)."""
        return np.asarray(np.exp(self._log_probabilities(np.asarray(held(outputs)))))

    def as_classes(self, outputs: np.ndarray, targets: np.ndarray) -> tuple[Any, Any]:
        return self._log_probabilities(outputs), targets

    def answers(
        self, outputs: np.ndarray, classes: Sequence[Any] = (), back: Back | None = None
    ) -> pd.DataFrame:
        chances = self.probabilities(outputs)
        known = classes if len(classes) == chances.shape[-1] else range(chances.shape[-1])
        return decided(chances, known)

    def width(self, classes: int) -> int:
        return classes - 1

    def baseline(self, targets: np.ndarray, width: int) -> np.ndarray | None:
        known = targets[self.known(targets)]
        there = np.array([np.count_nonzero(known >= k) for k in range(width + 1)], np.float64)
        shares = there[1:] / np.maximum(there[:-1], 1)
        return np.asarray(scipy.special.logit(np.clip(shares, RAREST, 1 - RAREST)))

    def averaged(self, outputs: np.ndarray) -> np.ndarray:
        chances = np.exp(self._log_probabilities(outputs)).mean(axis=0)
        above = np.cumsum(chances[..., ::-1], axis=-1)[..., ::-1]
        tiny = np.finfo(np.float64).tiny
        return np.asarray(
            np.log(np.maximum(above[..., 1:], tiny)) - np.log(np.maximum(chances[..., :-1], tiny))
        )

    def uncertainty(self, outputs: np.ndarray) -> dict[str, np.ndarray]:
        return _disagreement(np.exp(self._log_probabilities(outputs)))


def _disagreement(chances: np.ndarray) -> dict[str, np.ndarray]:
    """By how much the entropy of the mean exceeds the mean entropy, in nats, mean over what each
    example decides: N. Houlsby et al., arXiv 1112.5745, 2011, equation 2.
    """
    mean = chances.mean(axis=0)
    gain = scipy.special.entr(mean).sum(axis=-1) - scipy.special.entr(chances).sum(axis=-1).mean(
        axis=0
    )
    return {"disagreement": np.maximum(gain.reshape(len(gain), -1).mean(axis=1), 0)}


def _is_column(outputs: Any, targets: Any) -> bool:
    return bool(np.shape(outputs) == (*np.shape(targets), 1))


def decided(chances: np.ndarray, known: Sequence[Any]) -> pd.DataFrame:
    """The likeliest of the classes, with the probability of each. Of sequences and pictures, which
    have many decisions each, all of them in one cell, and the share that each class has of them.
    """
    import pandas as pd

    best = chances.argmax(axis=-1)
    if chances.ndim == FLAT:
        first = pd.Series([known[i] for i in best], name=PREDICTED)
        columns = [f"probability {value}" for value in known]
        return pd.concat([first, pd.DataFrame(chances, columns=columns)], axis=1)
    values = np.empty(len(known), object)
    values[:] = list(known)
    cells = pd.Series([values[row].tolist() for row in best], name=PREDICTED)
    flat = best.reshape(len(best), -1)
    shares = {f"share {value}": (flat == i).mean(axis=1) for i, value in enumerate(known)}
    return pd.concat([cells, pd.DataFrame(shares)], axis=1)


def several_decided(chances: np.ndarray, names: Sequence[Any]) -> pd.DataFrame:
    """Of each label whether it is true, and its probability."""
    import pandas as pd

    known = names if len(names) == chances.shape[1] else range(chances.shape[1])
    decisions = {f"{PREDICTED} {name}": chances[:, i] > 1 / 2 for i, name in enumerate(known)}
    shares = {f"probability {name}": chances[:, i] for i, name in enumerate(known)}
    return pd.DataFrame(decisions | shares)
