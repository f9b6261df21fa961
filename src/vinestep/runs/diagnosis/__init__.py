"""What the record of a run says of how it went: answers to the questions that practitioners ask."""

from .answers import QUESTIONS, Answer
from .diagnosing import diagnose

__all__ = ["QUESTIONS", "Answer", "diagnose"]
