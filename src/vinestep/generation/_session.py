"""A network that is asked for one token after another, with what it has read kept."""

from __future__ import annotations

import sys
from typing import Any

import numpy as np

from ..autodiff.tensor import held
from ..autodiff.tracking import untracked
from ..errors import LayerError, SettingError
from ..layers._attention_cache import ROOMS

__all__ = ["Session"]


class Session:
    """Several sequences under way. Shorter prompts are filled up before their first token, and that
    is never looked at.

    Parameters
    ----------
    network : Layer
        Called as ``network(ids, caches, mask)`` if it has `new_caches`, else as ``network(ids)``
        with whole sequences of one length.
    prompts : list of list of int
        Tokens, at least one each.
    cached : bool
        Whether keys and values of earlier tokens are kept; otherwise every token costs the whole
        text again.
    given : array, optional
        What is read before anything is written, one for each prompt; the network is called as
        ``network.read(given)`` once and then as ``network.write(ids, *read, caches, mask)``.
    """

    def __init__(
        self,
        network: Any,
        prompts: list[list[int]],
        *,
        cached: bool = True,
        given: np.ndarray | None = None,
    ) -> None:
        self.network = network
        self.read: tuple[Any, ...] | None = None
        if given is not None:
            source = given if given.dtype.kind in "iu" else given.astype(network.dtype)
            with untracked():
                self.read = tuple(
                    None if part is None else np.asarray(held(part))
                    for part in network.read(source)
                )
        new_caches = getattr(network, "new_caches", None)
        self.has_caches = new_caches is not None
        lengths = {len(prompt) for prompt in prompts}
        if not self.has_caches and len(lengths) > 1:
            raise LayerError(
                f"generate: {type(network).__name__} takes prompts of one length at a time: it "
                "has no new_caches() and mask. Give them one "
                "by one."
            )
        longest = max(lengths)
        self.ids = np.array(
            [[0] * (longest - len(prompt)) + prompt for prompt in prompts], np.int64
        )
        self.mask = np.array(
            [[False] * (longest - len(prompt)) + [True] * len(prompt) for prompt in prompts]
        )
        self.caches: Any = new_caches() if cached and new_caches is not None else None
        self._read = 0

    @property
    def room(self) -> int:
        """How many more tokens there are positions for, in the longest sequence."""
        most = getattr(self.network, "most_tokens", None)
        return sys.maxsize if most is None else most - int(self.mask.sum(axis=1).max())

    def is_full(self, tokens: int) -> bool:
        """Whether there is no position for so many tokens."""
        most = getattr(self.network, "most_tokens", None)
        return most is not None and tokens > most

    def logits(self) -> np.ndarray:
        """Of the next token of each sequence, shape (sequences, tokens)."""
        with untracked():
            if not self.has_caches:
                out = self.network(self.ids)
            else:
                out = self._called(self.ids[:, self._read :])
                if self.caches is not None:
                    self._read = self.ids.shape[1]
        array = np.asarray(held(out))
        if array.ndim != 3:
            raise LayerError(
                f"generate: the network gives shape {array.shape}, expected (sequences, time, "
                "tokens)."
            )
        return array[:, -1]

    def _called(self, ids: np.ndarray) -> Any:
        if self.read is None:
            return self.network(ids, self.caches, self._mask())
        return self.network.write(ids, *self.read, self.caches, self._mask())

    def _mask(self) -> np.ndarray | None:
        return None if self.mask.all() else self.mask

    def add(self, tokens: np.ndarray) -> None:
        """One more token to each sequence."""
        self.ids = np.concatenate([self.ids, np.asarray(tokens, np.int64)[:, None]], axis=1)
        self.mask = np.concatenate([self.mask, np.ones((len(self.mask), 1), bool)], axis=1)

    def keep(self, rows: np.ndarray) -> None:
        """Go on with these sequences only, in this order; one may go on as several."""
        if len(rows) == len(self.ids) and (np.asarray(rows) == np.arange(len(rows))).all():
            return
        self.ids, self.mask = self.ids[rows], self.mask[rows]
        if self.read is not None:
            self.read = tuple(None if part is None else part[rows] for part in self.read)
        for cache in self.caches or ():
            _keep_rows(cache, rows)


def _keep_rows(cache: dict[str, Any], rows: np.ndarray) -> None:
    cache.pop(ROOMS, None)
    for name, value in cache.items():
        if isinstance(value, dict):
            _keep_rows(value, rows)
        else:
            cache[name] = np.asarray(held(value))[rows]


def check_tokens(prompts: list[list[int]], tokens: int | None) -> None:
    """
    Raises
    ------
    SettingError
        If a prompt is empty, or holds a token that the network does not know.
    """
    for i, prompt in enumerate(prompts):
        if not prompt:
            raise SettingError(
                f"generate: prompt {i} is empty. Begin with a token, such as the tokeniser's begin."
            )
        wrong = [token for token in prompt if token < 0 or (tokens is not None and token >= tokens)]
        if wrong:
            raise SettingError(
                f"generate: prompt {i} holds the token {wrong[0]}; the network knows 0 to "
                f"{(tokens or 0) - 1}."
            )
