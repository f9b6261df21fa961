"""Epoch after epoch of a training, with its observers."""

from __future__ import annotations

from contextlib import closing
from typing import TYPE_CHECKING, Any

import numpy as np

from ..errors import DataError
from .looking import average
from .running import Run
from .waiting import Waiting

if TYPE_CHECKING:
    from .checks import AnyBatches
    from .derivation import Watch
    from .training import Training

__all__ = ["train_epochs"]


def train_epochs(run: Run, training: Training, batches: AnyBatches, validation: AnyBatches | None) -> None:
    """Make the steps that are left, until the last epoch or step is done or somebody asks to stop."""
    position, waiting = run.position, Waiting()
    while _is_left(run) and not run.stop_reason:
        whole, before = True, position.step
        with closing(batches.epoch(position.epoch, seed=training.seed, start=position.batch)) as epoch:
            for batch in waiting.through(epoch):
                _step(run, training, batch)
                if run.stop_reason or not _is_left(run):
                    whole = batches.steps_an_epoch is not None and position.batch >= batches.steps_an_epoch
                    break
        if whole and position.step == before and position.batch == 0:
            raise DataError(f"Epoch {position.epoch + 1} holds no batch.")
        if not whole:
            break
        row = _row(run, training, validation)
        run.rows.append(row)
        position.next_epoch()
        run.tell("after_epoch", row)
        run.look_around()


def _is_left(run: Run) -> bool:
    return run.position.step < run.total_steps if run.total_steps else run.position.epoch < run.epochs


def _step(run: Run, training: Training, batch: Any) -> None:
    position = run.position
    number = training.step_number + 1
    run.tell("before_step", number)
    before_update: Any = None
    if run.listeners("before_update"):
        before_update = lambda loss, gradients: run.tell("before_update", loss, gradients)  # noqa: E731
    step, counts = training.make_step(batch, position.epoch, position.batch, before_update=before_update, watch=_watch(run, number))
    position.add(step.loss, step.examples, counts)
    position.batch += 1
    position.step = training.step_number
    run.tell("after_step", step)
    run.look_around()


def _watch(run: Run, number: int) -> Watch | None:
    """Who wants to see the activations of a step."""
    asking = [observer for observer in run.listeners("activation") if observer.wants_activations(number)]
    if not asking:
        return None

    def told(path: str, output: np.ndarray) -> None:
        for observer in asking:
            observer.activation(run, path, output)

    return told


def _row(run: Run, training: Training, validation: AnyBatches | None) -> dict[str, float]:
    position = run.position
    row: dict[str, float] = {
        "epoch": position.epoch + 1,
        "step": position.step,
        "rate": training.optimiser.rate * training.schedule(training.step_number - 1),
        "loss": position.loss,
    }
    for metric in training.metrics:
        row[metric.name] = metric.conclude(np.asarray(position.counts[metric.name]))
    if validation is not None:
        found = average(training.network, validation, training.loss, training.metrics)
        row |= {f"validation_{key}": value for key, value in found.items()}
    return row
