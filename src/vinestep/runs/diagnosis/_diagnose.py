"""All answers that the record of a run supports."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from . import _layers as layers, _learning as learning, _mistakes_and_machine as rest
from ._answers import QUESTIONS, Answer
from ._series import Record, RecordedRun

__all__ = ["diagnose"]


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
        *rest.answers(record),
    ]
    if any(
        answer.trouble == "overfitting" for answer in result
    ):  # then more of the same would not help
        result = [
            replace(answer, cure="")
            if answer.question == "learning" and answer.verdict == "sound"
            else answer
            for answer in result
        ]
    order = list(QUESTIONS)
    return sorted(result, key=lambda answer: order.index(answer.question))
