"""Requests and answers put together as one text, by a template of named fields."""

from __future__ import annotations

import string
from collections.abc import Mapping
from typing import Any

import numpy as np

from ...errors import DataError
from ...parts._registry import part
from ._tokens import Tokeniser

__all__ = ["Template"]


@part("template", "template")
class Template:
    """A text with named fields, of which the last one is the answer.

    Parameters
    ----------
    text : str
        Fields stand in braces: ``"Entry: {entry}\\nSentence: {sentence}"``; braces of the text
        itself are doubled, ``{{``.

    Raises
    ------
    DataError
        If there are not at least two fields, one is named twice, or a brace does not fit.

    Examples
    --------
    >>> template = Template("Entry: {entry}. Sentence: {sentence}")
    >>> template.request({"entry": "rk 12"}), template.answer
    ('Entry: rk 12. Sentence: ', 'sentence')
    >>> numbers, learned = template.example(
    ...     vs.data.ByteTokeniser(), {"entry": "rk 12", "sentence": "Racked tank 12."}
    ... )
    >>> vs.data.ByteTokeniser().decode(numbers[learned])
    'Racked tank 12.'
    """

    def __init__(self, text: str) -> None:
        try:
            pieces = list(string.Formatter().parse(text))
        except ValueError as error:
            raise DataError(
                f"Template: {error} in {text!r}. Fields stand in braces; braces of the text "
                "itself are doubled."
            ) from error
        self.text = text
        named = [
            (name, spec, conversion) for _, name, spec, conversion in pieces if name is not None
        ]
        odd = next(
            (
                name
                for name, spec, conversion in named
                if not name.isidentifier() or spec or conversion
            ),
            None,
        )
        if odd is not None:
            raise DataError(
                f"Template: {{{odd}}} is no field: a field is a word in braces, such as {{entry}}."
            )
        self.fields = tuple(name for name, _, _ in named)
        if len(self.fields) < 2 or len(set(self.fields)) < len(self.fields):
            raise DataError(
                "Template: it needs two different fields at least, the last one for the answer; "
                f"{text!r} has {self.fields}."
            )
        at = max(i for i, piece in enumerate(pieces) if piece[1] is not None)
        self._before = [(literal, name) for literal, name, _, _ in pieces[: at + 1]]
        self._after = "".join(literal for literal, _, _, _ in pieces[at + 1 :])

    def __repr__(self) -> str:
        return f"Template({self.text!r})"

    @property
    def answer(self) -> str:
        """Name of the field that is learned."""
        return self.fields[-1]

    def request(self, fields: Mapping[str, Any] | str) -> str:
        """The text up to the answer.

        Parameters
        ----------
        fields : mapping of name to value, or str
            A text where there is one field beside the answer.

        Raises
        ------
        DataError
            If a field is missing: which.
        """
        given = self._given(fields)
        asked = {name: self._value(given, name) for name in self.fields[:-1]}
        return "".join(literal + asked.get(name or "", "") for literal, name in self._before)

    def answered(self, fields: Mapping[str, Any]) -> str:
        """The answer, and what the template has after it."""
        return self._value(fields, self.answer) + self._after

    def answer_of(self, text: str) -> str:
        """The answer in a text that was written after a request."""
        return text.removesuffix(self._after) if self._after else text

    def example(
        self, tokeniser: Tokeniser, fields: Mapping[str, Any]
    ) -> tuple[np.ndarray, np.ndarray]:
        """Tokens of request and answer, and which of them are learned: those of the answer, and its
        end.
        """
        asked = tokeniser.encode(self.request(fields), begin=True)
        answered = tokeniser.encode(self.answered(fields), end=True)
        return np.concatenate([asked, answered]), np.arange(len(asked) + len(answered)) >= len(
            asked
        )

    def _given(self, fields: Mapping[str, Any] | str) -> Mapping[str, Any]:
        if isinstance(fields, Mapping):
            return fields
        if len(self.fields) != 2:
            wanted = ", ".join(self.fields[:-1])
            raise DataError(
                f"Template: a text alone does not say which of the fields {wanted} it is. Give "
                "them by name: a dict."
            )
        return {self.fields[0]: str(fields)}

    def _value(self, given: Mapping[str, Any], name: str) -> str:
        if name not in given:
            there = ", ".join(map(str, given)) or "none"
            raise DataError(
                f"Template: the field {name!r} is missing; the template has "
                f"{', '.join(self.fields)}, given were {there}."
            )
        value = given[name]
        if not isinstance(value, str | int | float | np.integer | np.floating) or value != value:
            raise DataError(
                f"Template: the field {name!r} is {value!r}, and has to be a text or a number."
            )
        return str(value)
