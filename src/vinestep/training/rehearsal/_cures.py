"""Cures that take a second are tried on some steps, and what came of them is told in words."""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from itertools import chain
from typing import TYPE_CHECKING

import numpy as np

from ...data.batches._batch import Batch
from ...errors import NotFiniteError, VineStepError
from ...schedules import constant, warmup
from ..step._baseline import constant_loss
from ._stage import Stage

if TYPE_CHECKING:
    from ..step._base import TrainingBase

__all__ = ["top_rate", "try_rate", "try_scaled_inputs", "try_scaled_targets", "try_warmup"]

STEPS, SECONDS = 40, 0.6
DECADES = 4  # of rates that are tried
LOWER = 0.8  # of the first loss
AHEAD = 10_000  # steps of a schedule that are looked at
Prepare = Callable[[Batch], Batch]


def top_rate(training: TrainingBase) -> float:
    """The highest that the schedule reaches."""
    begun = training.step_number
    looked = {
        *range(begun, begun + 200),
        *np.linspace(begun, begun + AHEAD, 400).astype(int).tolist(),
    }
    return training.optimiser.rate * max(training.schedule(int(step)) for step in looked)


def try_rate(stage: Stage, factor: float) -> str:
    """Some steps at the highest rate, and at so many times it, so many times that again, until
    the loss falls.
    """
    plain = _losses(stage)
    tried: list[tuple[str, Losses]] = []
    for power in range(1, 1 + DECADES):
        found = _losses(stage, factor=factor**power)
        tried.append((f"at {factor**power:g} times the rate", found))
        if found is not None and found[2] < LOWER * found[1]:
            break
    return _told(plain, *tried)


def try_warmup(stage: Stage) -> str:
    """Some steps at the highest rate, at a tenth of it, and with a warm-up."""
    return _told(
        _losses(stage),
        ("at a tenth of the rate", _losses(stage, factor=0.1)),
        (f"with a warm-up over {STEPS // 2} steps", _losses(stage, warmed_up=True)),
    )


def try_scaled_inputs(stage: Stage, name: str | int | None) -> str:
    """Some steps with an input as it is, and with mean 0 and deviation 1.

    Parameters
    ----------
    name : str, int or None
        Which of several inputs; None of one alone.
    """
    one = stage.batch.inputs if name is None else stage.batch.inputs[name]
    middle, spread = _mean_and_deviation(np.asarray(one))

    def prepare(batch: Batch) -> Batch:
        inputs = batch.inputs
        scaled = (inputs if name is None else inputs[name]) - middle
        scaled = (scaled / spread).astype(middle.dtype)
        if isinstance(inputs, dict):
            scaled = {**inputs, name: scaled}
        elif isinstance(inputs, tuple):
            scaled = tuple(scaled if i == name else x for i, x in enumerate(inputs))
        return batch.with_values(inputs=scaled)

    return _told(_losses(stage), ("with mean 0 and deviation 1", _losses(stage, prepare=prepare)))


def try_scaled_targets(stage: Stage) -> str:
    """Some steps with targets as they are, and with mean 0 and deviation 1. Losses of the two have
    other units, so they are told as shares of what the best constant answer gets.
    """
    targets = stage.batch.targets
    if not isinstance(targets, np.ndarray) or not np.isfinite(targets).all():
        return ""
    middle, spread = _mean_and_deviation(targets)

    def prepare(batch: Batch) -> Batch:
        return batch.with_values(targets=((batch.targets - middle) / spread).astype(middle.dtype))

    shares = []
    for own in (None, prepare):
        sample = stage.batch if own is None else own(stage.batch)
        known, losses = constant_loss(stage.training, sample), _losses(stage, prepare=own)
        if not known or losses is None:
            return ""
        shares.append((losses[0], losses[2] / known))
    (steps, plain), (_, scaled) = shares
    return (
        f"Tried: after {steps} steps the loss is {plain:.0%} of what the best constant answer "
        f"gets, with targets of mean 0 and deviation 1 {scaled:.0%}."
    )


def _mean_and_deviation(array: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Of each column; of pictures and sequences of each channel."""
    axes = tuple(range(max(1, array.ndim - 1)))
    middle, spread = array.mean(axis=axes), array.std(axis=axes)
    return np.asarray(middle), np.asarray(np.where(spread > 0, spread, 1.0))


Losses = tuple[int, float, float] | None
"""How many steps were made, the first loss, and the mean of the last ones."""


def _losses(
    stage: Stage, *, factor: float = 1.0, warmed_up: bool = False, prepare: Prepare | None = None
) -> Losses:
    """None if no step could be made."""
    training = stage.copy_of_training()
    training.optimiser.rate = top_rate(training) * factor
    training.descent.schedule = warmup(STEPS // 2) if warmed_up else constant()
    training.descent.schedule.begin(training.updates_an_epoch(stage.train))
    losses: list[float] = []
    begun = time.perf_counter()
    epochs = (training.grouped(stage.train.epoch(n, seed=training.seed)) for n in range(STEPS))
    try:
        for i, group in chain.from_iterable(epochs):
            if prepare is not None:
                group = prepare(group) if isinstance(group, Batch) else [*map(prepare, group)]
            losses.append(training.make_step(group, 0, i)[0].loss)
            if len(losses) >= STEPS or time.perf_counter() - begun > SECONDS:
                break
    except NotFiniteError:
        return len(losses), losses[0] if losses else math.nan, math.inf
    except VineStepError:
        return None  # what the network refuses, another check words
    if not losses:
        return None
    return len(losses), losses[0], float(np.mean(losses[-max(1, len(losses) // 5) :]))


def _told(plain: Losses, *others: tuple[str, Losses]) -> str:
    if plain is None or any(losses is None for _, losses in others):
        return ""
    steps, first, last = plain
    came = ", ".join(f"{how} {_to(losses[2])}" for how, losses in others if losses is not None)
    return f"Tried: in {steps} steps the loss went from {first:.3g} {_to(last)}; {came}."


def _to(loss: float) -> str:
    return f"to {loss:.3g}" if math.isfinite(loss) else "beyond all numbers"
