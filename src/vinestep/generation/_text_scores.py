"""How right texts are that a network writes, for validation."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from ..data.encoding._text_form import joined_sources
from ..data.sources._source import Source
from ..errors import SettingError
from ..evaluation.metrics._texts import character_error_rate, word_error_rate
from ..layers._base import Layer
from ._generate import generate

__all__ = ["TextScores"]

AT_ONCE = 64


class TextScores:
    """Error rates of what a network writes for held-out examples, as a validation part of a run.

    Parameters
    ----------
    source : Pairs or Requests, or a part of one
    n : int, optional
        How many examples, from the first on; all by default.
    most : int
        Longest text that is written, in tokens.
    beams : int
    right : callable, optional
        Takes the text written and the true one and says whether it is right; equal by default.

    Raises
    ------
    SettingError
        If the source says nothing of a tokeniser.

    Examples
    --------
    >>> found = vs.demo.chalk(8)
    >>> tokeniser = vs.data.CharacterTokeniser.learned(found.codes)
    >>> reader = vs.networks.picture_reader(16, channels=(4, 8, 8))
    >>> network = vs.networks.EncoderDecoder(
    ...     None, len(tokeniser), width=16, depth=1, heads=2, reader=reader
    ... )
    >>> source = vs.data.Pairs(found.pictures, found.codes, tokeniser)
    >>> network = network.initialise(source.batches(1).sample().inputs)
    >>> list(vs.generation.TextScores(source, most=8)(network))
    ['character_error_rate', 'word_error_rate', 'right']
    """

    def __init__(
        self,
        source: Source,
        *,
        n: int | None = None,
        most: int = 100,
        beams: int = 1,
        right: Callable[[str, str], bool] | None = None,
    ) -> None:
        if source.text_form is None:
            raise SettingError(
                f"TextScores: {source!r} says nothing of a tokeniser. Give Pairs or Requests of "
                "vinestep.data."
            )
        self.source, self.most, self.beams = source, most, beams
        self.n = len(source) if n is None else min(n, len(source))
        self.right = right or (lambda found, true: found == true)

    def __call__(self, network: Layer | Any) -> dict[str, float]:
        """Edits a character and a word of the true texts, and the share of texts that are right."""
        result, true = self.texts(network)
        return {
            "character_error_rate": character_error_rate(result, true),
            "word_error_rate": word_error_rate(result, true),
            "right": float(np.mean([self.right(a, b) for a, b in zip(result, true, strict=True)])),
        }

    def texts(self, network: Layer | Any) -> tuple[list[str], list[str]]:
        """What the network writes for each example, and what would be right."""
        form = self.source.text_form
        assert form is not None
        result, true = [], []
        for start in range(0, self.n, AT_ONCE):
            pairs = [self.source.read(i) for i in range(start, min(start + AT_ONCE, self.n))]
            settings: dict[str, Any] = {
                "tokeniser": form.tokeniser,
                "most": self.most,
                "beams": self.beams,
            }
            if hasattr(network, "read"):
                written = generate(
                    network, given=joined_sources([source for source, _, _ in pairs]), **settings
                )
                wanted = [form.tokeniser.decode(tokens) for _, tokens, _ in pairs]
            else:
                written = generate(
                    network, [tokens[~learned].tolist() for tokens, learned, _ in pairs], **settings
                )
                wanted = [form.tokeniser.decode(tokens[learned]) for tokens, learned, _ in pairs]
            result += [one.text for one in written]
            true += wanted
        return result, true
