"""From logits to probabilities of the next token: temperature, the likeliest few, penalties,
constraints.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..errors import NotFiniteError, SettingError

__all__ = ["Allowed", "Choice", "log_softmax", "shaped"]

Allowed = Callable[[list[int]], Sequence[int] | None]
"""Takes the tokens so far and returns those that may follow; None for all."""


def log_softmax(logits: np.ndarray) -> np.ndarray:
    """Logarithms of probabilities, over the last axis; tokens at minus infinity stay there."""
    shifted = logits - logits.max(axis=-1, keepdims=True)
    return np.asarray(shifted - np.log(np.exp(shifted).sum(axis=-1, keepdims=True)))


@dataclass(frozen=True)
class Choice:
    """How the next token is chosen."""

    temperature: float = 0.0
    top_k: int | None = None
    nucleus: float | None = None
    repetition: float = 1.0
    allowed: Allowed | None = None
    banned: tuple[int, ...] = ()

    def __post_init__(self) -> None:
        if not np.isfinite(self.temperature) or self.temperature < 0:
            raise SettingError(
                "generate: temperature must be 0, for the likeliest token, or above, got "
                f"{self.temperature!r}."
            )
        if self.top_k is not None and (
            isinstance(self.top_k, bool) or not isinstance(self.top_k, int) or self.top_k < 1
        ):
            raise SettingError(
                f"generate: top_k must be a whole number of at least 1, got {self.top_k!r}."
            )
        if self.nucleus is not None and not 0 < self.nucleus <= 1:
            raise SettingError(
                f"generate: nucleus must be above 0 and at most 1, got {self.nucleus!r}."
            )
        if not self.repetition > 0:
            raise SettingError(
                f"generate: repetition must be above 0, 1 for no penalty, got {self.repetition!r}."
            )

    def admitted(self, logits: np.ndarray, before: list[int]) -> np.ndarray:
        """Logits of the next token after penalties and constraints, in float64: what may not follow
        is at minus infinity.
        """
        result = np.array(logits, np.float64)
        if np.isnan(result).any() or np.isposinf(result).any():
            raise NotFiniteError(
                f"generate: after {len(before)} tokens the network puts out {result.max()} for "
                "the next. Its weights or what it has read are out of range: "
                "network.first_bad_layer(tokens) names the layer."
            )
        if self.repetition != 1:
            seen = np.unique(before)
            result[seen] = np.where(
                result[seen] > 0, result[seen] / self.repetition, result[seen] * self.repetition
            )
        result[list(self.banned)] = -np.inf
        if self.allowed is not None and (may := self.allowed(list(before))) is not None:
            kept = np.full_like(result, -np.inf)
            places = np.asarray(list(may), np.intp)
            if not places.size or places.min() < 0 or places.max() >= len(result):
                told = (
                    f"allowed returned {places.tolist()[:8]}; it has to be at least one token "
                    f"from 0 to {len(result) - 1}"
                )
                raise SettingError(f"generate: {told}.")
            kept[places] = result[places]
            result = kept
        if not np.isfinite(result).any():
            raise SettingError(
                "generate: no token may follow: what allowed returned is banned, as padding is."
            )
        return result

    def drawn(
        self, logits: np.ndarray, before: list[int], rng: np.random.Generator
    ) -> tuple[int, float]:
        """The next token, and the logarithm of its probability before temperature and cutting."""
        admitted = self.admitted(logits, before)
        if self.temperature == 0:
            token = int(admitted.argmax())
        else:
            p = shaped(
                admitted, temperature=self.temperature, top_k=self.top_k, nucleus=self.nucleus
            )
            token = int(np.searchsorted(np.cumsum(p), rng.random() * p.sum(), side="right"))
            token = min(token, int(np.flatnonzero(p)[-1]))
        return token, float(log_softmax(admitted)[token])


def shaped(
    logits: Any, *, temperature: float = 1.0, top_k: int | None = None, nucleus: float | None = None
) -> np.ndarray:
    """Probabilities of the next token: sharpened or flattened, and cut to the likeliest ones.

    Parameters
    ----------
    logits : array, shape (tokens,)
    temperature : float
        Above 0: logits are divided by it.
    top_k : int, optional
        All but the k likeliest get 0; of equal ones the first count.
    nucleus : float, optional
        All but the fewest likeliest that have this share together get 0 [1]_.

    References
    ----------
    .. [1] A. Holtzman et al., "The Curious Case of Neural Text Degeneration", ICLR 2020, section
       3.1.

    Examples
    --------
    >>> shaped(np.log([0.5, 0.3, 0.2]), nucleus=0.7).round(3)
    array([0.625, 0.375, 0.   ])
    """
    p = np.exp(log_softmax(np.asarray(logits, np.float64) / temperature))
    order = np.argsort(-p, kind="stable")
    if top_k is not None:
        p[order[top_k:]] = 0
        p /= p.sum()
    if nucleus is not None:
        before = np.cumsum(p[order]) - p[order]
        p[order[before >= nucleus]] = 0
        p /= p.sum()
    return np.asarray(p)
