"""What columns of texts look like that were meant as something else."""

from __future__ import annotations

import re
from collections.abc import Sequence

__all__ = ["looks_like"]

KINDS = {
    "numbers with thousands separators": re.compile(r"[+-]?\d{1,3}(,\d{3})+(\.\d+)?"),
    "numbers with decimal commas": re.compile(r"[+-]?(\d{1,3}(\.\d{3})+|\d+),\d+"),
    "percentages": re.compile(r"[+-]?\d+([.,]\d+)?\s?%"),
    "dates": re.compile(r"\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}(:\d{2}(\.\d+)?)?)?"),
    "dates with the day first": re.compile(r"\d{1,2}[./]\d{1,2}[./]\d{4}"),
}
PLAIN = re.compile(r"[+-]?\d+(\.\d+)?")
MOST = 0.9  # of the texts
LOOKED_AT = 200
LONGEST = 40


def looks_like(texts: Sequence[str]) -> str:
    """What nearly all of the texts look like; empty if like nothing in particular.

    Examples
    --------
    >>> looks_like(["1,200", "950", "13,000"]), looks_like(["Alder", "Brun"])
    ('numbers with thousands separators', '')
    """
    some = [text.strip()[:LONGEST] for text in texts[:LOOKED_AT]]
    for kind, pattern in KINDS.items():
        own = sum(bool(pattern.fullmatch(text)) for text in some)
        plain = sum(bool(PLAIN.fullmatch(text)) for text in some) if "number" in kind else 0
        if own >= 2 and own + plain >= MOST * len(some):
            return kind
    return ""
