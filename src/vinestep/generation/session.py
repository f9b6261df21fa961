"""A network that is asked for one token after another, with what it has read kept."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..autodiff.state import untracked
from ..autodiff.tensor import held
from ..errors import LayerError, SettingError
from ..layers.base import Layer

__all__ = ["Session"]


class Session:
    """Several sequences under way. Shorter prompts are filled up before their first token, and that is never looked at.

    Parameters
    ----------
    network : Layer
        Called as ``network(ids, caches, mask)`` if it has `new_caches`, else as ``network(ids)`` with whole sequences of one length.
    prompts : list of list of int
        Tokens, at least one each.
    cached : bool
        Whether keys and values of earlier tokens are kept; otherwise every token costs the whole text again.
    """

    def __init__(self, network: Layer, prompts: list[list[int]], *, cached: bool = True) -> None:
        self.network = network
        new_caches = getattr(network, "new_caches", None)
        self.has_caches = new_caches is not None
        lengths = {len(prompt) for prompt in prompts}
        if not self.has_caches and len(lengths) > 1:
            raise LayerError(
                f"generate: {type(network).__name__} takes prompts of one length at a time: it has no new_caches() and mask. Give them one "
                "by one."
            )
        longest = max(lengths)
        self.ids = np.array([[0] * (longest - len(prompt)) + prompt for prompt in prompts], np.int64)
        self.mask = np.array([[False] * (longest - len(prompt)) + [True] * len(prompt) for prompt in prompts])
        self.caches: Any = new_caches() if cached and new_caches is not None else None
        self._read = 0

    def logits(self) -> np.ndarray:
        """Of the next token of each sequence, shape (sequences, tokens)."""
        with untracked():
            if not self.has_caches:
                out = self.network(self.ids)
            elif self.caches is None:
                out = self.network(self.ids, None, self._mask())
            else:
                out = self.network(self.ids[:, self._read :], self.caches, self._mask())
                self._read = self.ids.shape[1]
        found = np.asarray(held(out))
        if found.ndim != 3:
            raise LayerError(f"generate: the network gives shape {found.shape}, expected (sequences, time, tokens).")
        return found[:, -1]

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
        for cache in self.caches or ():
            for name in cache:
                cache[name] = np.asarray(held(cache[name]))[rows]


def check_tokens(prompts: list[list[int]], tokens: int | None) -> None:
    """
    Raises
    ------
    SettingError
        If a prompt is empty, or holds a token that the network does not know.
    """
    for i, prompt in enumerate(prompts):
        if not prompt:
            raise SettingError(f"generate: prompt {i} is empty. Begin with a token, such as the tokeniser's begin.")
        wrong = [token for token in prompt if token < 0 or (tokens is not None and token >= tokens)]
        if wrong:
            raise SettingError(f"generate: prompt {i} holds the token {wrong[0]}; the network knows 0 to {(tokens or 0) - 1}.")
