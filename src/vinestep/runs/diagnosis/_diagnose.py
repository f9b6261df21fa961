"""All answers that the record of a run supports."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any

from . import (
    _generated as generated,
    _layers as layers,
    _learning as learning,
    _mistakes_and_machine as rest,
)
from ._answers import QUESTIONS, Answer
from ._series import Record, RecordedRun

__all__ = ["diagnose", "without_contradictions"]


def diagnose(run: RecordedRun) -> list[Any]:
    """What the record says of how a run went, in the order of the questions; what it does not
    support is not answered.

    Parameters
    ----------
    run : RunRecord
        As ``vinestep.runs.open(folder)["barrels-7"]`` gives it.

    Returns
    -------
    answers : list of Answer
        Findings with the question they answer, the trouble in a word or two, since which epoch, and
        which layer.

    Examples
    --------
    >>> import tempfile
    >>> root = tempfile.mkdtemp()
    >>> data = vs.data.Dataset(
    ...     np.arange(64.0).reshape(32, 2) / 64, np.arange(32.0)[:, None] / 32
    ... )
    >>> training = vs.Training(
    ...     vs.Dense(1), loss=vs.losses.squared_error, optimiser=vs.optimisers.Adam(0.01)
    ... )
    >>> outcome = training.run(data.batches(8), epochs=20, record=root)
    >>> vs.runs.open(root)["run-1"].diagnose()[0].verdict
    'sound'
    """
    record = Record(run)
    result: list[Answer] = [
        *learning.answers(record),
        *layers.answers(record),
        *generated.answers(record),
        *rest.answers(record),
    ]
    order = list(QUESTIONS)
    return sorted(without_contradictions(result), key=lambda answer: order.index(answer.question))


NO_ADVICE_BESIDE = {"overfitting": "learning", "gap": "learning", "chance": "learning"}
"""Of a trouble, to which question no sound answer may add advice: what goes on as it is would not
help.
"""
NOT_BESIDE = {"chance": ("leak", "not calibrated", "class never decided")}
"""Of a trouble, which others follow from it, and are not told of besides."""


def without_contradictions(answers: Iterable[Answer]) -> list[Answer]:
    """Answers of which none gainsays another.

    Examples
    --------
    >>> more = Answer("a", "sound", "It falls.", "More epochs.", question="learning")
    >>> over = Answer(
    ...     "b", "suspicious", "It rises.", question="overfitting", trouble="overfitting"
    ... )
    >>> [answer.cure for answer in without_contradictions([more, over])]
    ['', '']
    """
    every = list(answers)
    troubles = {answer.trouble for answer in every if answer.is_trouble}
    silenced = {NO_ADVICE_BESIDE[one] for one in troubles if one in NO_ADVICE_BESIDE}
    implied = {other for one in troubles for other in NOT_BESIDE.get(one, ())}
    return [
        replace(answer, cure="")
        if answer.question in silenced and not answer.is_trouble
        else answer
        for answer in every
        if answer.trouble not in implied
    ]
