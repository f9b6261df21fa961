"""What the record of a run says of how it went: answers to the questions that practitioners ask."""

from ._answers import QUESTIONS, Answer
from ._diagnose import diagnose

__all__ = ["QUESTIONS", "Answer", "diagnose"]
