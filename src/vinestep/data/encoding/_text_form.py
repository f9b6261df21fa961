"""How texts become what a network reads and writes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Self

import numpy as np

from ...errors import DataError
from ._templates import Template
from ._tokens import KINDS, PAD, Tokeniser

__all__ = ["TextForm", "joined_sources"]


@dataclass(frozen=True)
class TextForm:
    """How texts become what a network reads and writes, for the model that is handed on.

    Examples
    --------
    >>> form = TextForm(vs.data.ByteTokeniser(), vs.data.Template("{entry}: {sentence}"))
    >>> TextForm.from_dict(form.as_dict()).template
    Template('{entry}: {sentence}')
    """

    tokeniser: Tokeniser
    template: Template | None = None
    source_tokeniser: Tokeniser | None = None
    """Of what an encoder reads, if that is another text."""

    def as_dict(self) -> dict[str, Any]:
        """As JSON can hold it."""
        return {
            "tokeniser": self.tokeniser.as_dict(),
            "template": None if self.template is None else self.template.text,
            "source_tokeniser": None
            if self.source_tokeniser is None
            else self.source_tokeniser.as_dict(),
        }

    @classmethod
    def from_dict(cls, known: Mapping[str, Any]) -> Self:
        source = known.get("source_tokeniser")
        return cls(
            KINDS[known["tokeniser"]["kind"]].from_dict(known["tokeniser"]),
            None if known.get("template") is None else Template(str(known["template"])),
            None if source is None else KINDS[source["kind"]].from_dict(source),
        )


def joined_sources(sources: Sequence[Any]) -> np.ndarray:
    """Sequences of tokens padded to the longest, or arrays of one shape one upon another."""
    arrays = [np.asarray(source) for source in sources]
    if arrays[0].dtype.kind in "iu" and arrays[0].ndim == 1:
        result = np.full((len(arrays), max(map(len, arrays))), PAD, np.int64)
        for row, array in zip(result, arrays, strict=True):
            row[: len(array)] = array
        return result
    odd = next((i for i, array in enumerate(arrays) if array.shape != arrays[0].shape), None)
    if odd is not None:
        raise DataError(
            f"what is read has the shapes {arrays[0].shape} and, in place {odd}, "
            f"{arrays[odd].shape}: bring it to one."
        )
    return np.stack(arrays)
