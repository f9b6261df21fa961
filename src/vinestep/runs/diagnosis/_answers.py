"""Questions of practitioners, and answers to them."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from ..._findings import Finding

__all__ = ["QUESTIONS", "Answer"]

QUESTIONS = {
    "learning": "Is it learning?",
    "overfitting": "Is it overfitting, and since when?",
    "layers": "Which layer is in trouble?",
    "optimiser": "What does the optimiser do?",
    "generated": "What does it make?",
    "mistakes": "What does it get wrong?",
    "machine": "How is the machine?",
}


@dataclass(frozen=True, slots=True)
class Answer(Finding):
    """A finding that answers a question.

    Examples
    --------
    >>> str(Answer("Is it learning?", "sound", "The loss falls.", question="learning"))
    'sound: Is it learning?: The loss falls.'
    """

    question: str = ""
    """A key of `QUESTIONS`."""
    trouble: str = ""
    """What kind of trouble it is, in a word or two; empty if there is none."""
    epoch: float | None = None
    """Since when, in epochs done."""
    layer: str = ""
    figures: dict[str, Any] = field(default_factory=dict)
    """What it was worked out from."""
