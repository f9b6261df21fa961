"""Formats of numbers and dates that columns of texts may hold."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

__all__ = ["TextFormat", "text_format"]


class TextFormat(NamedTuple):
    """A way to write numbers or dates that is not read by itself."""

    name: str
    pattern: re.Pattern[str]
    advice: str
    """How to have it read, for a ``{column}``."""
    with_plain_numbers: bool = False
    """Whether numbers without a mark of the format may stand among them."""


FORMATS = (
    TextFormat(
        "numbers with thousands separators",
        re.compile(r"[+-]?\d{1,3}(,\d{3})+(\.\d+)?"),
        'Take the separators out: frame["{column}"].str.replace(",", "").astype(float), or '
        'read_csv(..., thousands=",").',
        True,
    ),
    TextFormat(
        "numbers with decimal commas",
        re.compile(r"[+-]?(\d{1,3}(\.\d{3})+|\d+),\d+"),
        'Write points: frame["{column}"].str.replace(",", ".").astype(float), or '
        'read_csv(..., decimal=",").',
        True,
    ),
    TextFormat(
        "percentages",
        re.compile(r"[+-]?\d+([.,]\d+)?\s?%"),
        'Take the sign off: frame["{column}"].str.rstrip("%").astype(float).',
    ),
    TextFormat(
        "dates",
        re.compile(r"\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}(:\d{2}(\.\d+)?)?)?"),
        "Say so: dates=['{column}'].",
    ),
    TextFormat(
        "dates with the day first",
        re.compile(r"\d{1,2}[./]\d{1,2}[./]\d{4}"),
        'Read them: pd.to_datetime(frame["{column}"], dayfirst=True).',
    ),
)
PLAIN_NUMBER = re.compile(r"[+-]?\d+(\.\d+)?")
MOST = 0.9  # of the texts
LOOKED_AT = 200
LONGEST = 40


def text_format(texts: Sequence[str]) -> TextFormat | None:
    """The format of nearly all of the texts, if it is one of these.

    Examples
    --------
    >>> text_format(["1,200", "950", "13,000"]).name
    'numbers with thousands separators'
    >>> text_format(["Alder", "Brun"]) is None
    True
    """
    some = [text.strip()[:LONGEST] for text in texts[:LOOKED_AT]]
    plain = sum(bool(PLAIN_NUMBER.fullmatch(text)) for text in some)
    for known in FORMATS:
        own = sum(bool(known.pattern.fullmatch(text)) for text in some)
        if own >= 2 and own + plain * known.with_plain_numbers >= MOST * len(some):
            return known
    return None
