"""Epoch after epoch of a training, with its observers."""

from __future__ import annotations

import time
from contextlib import closing
from typing import TYPE_CHECKING, Any

import numpy as np

from ...distributed._current import communicator
from ...errors import DataError
from ._criteria import judged_quantity, score_of
from ._data_wait import Waiting
from ._ending import Ending
from ._ranks import check_equal_weights, record_times
from ._run import Run
from ._validation import ValidationParts

if TYPE_CHECKING:
    from ..step._base import TrainingBase
    from ..step._batch_checks import AnyBatches
    from ..step._derivation import Watch

__all__ = ["train_epochs"]


def train_epochs(
    run: Run, training: TrainingBase, batches: AnyBatches, scored: ValidationParts, ending: Ending
) -> None:
    """Make the steps that are left, until the run's ending is reached or somebody asks to stop."""
    position, waiting = run.position, Waiting()
    if _owes_look(run, batches, scored):
        _look(run, training, scored)
    clock = time.perf_counter()
    spent = record_times(run, {})
    while ending.is_left(position) and not run.stop_reason:
        whole, before = True, position.step
        with closing(training.epoch_of(batches, position.epoch, start=position.batch)) as epoch:
            for done, group in training.grouped(waiting.through(epoch)):
                _step(run, training, group, done)
                if scored.is_due_within(position.step) and not _ends_epoch(run, batches):
                    _look(run, training, scored)
                now = time.perf_counter()
                position.seconds += now - clock
                clock = now
                run.agree()
                if run.stop_reason or not ending.is_left(position):
                    whole = _ends_epoch(run, batches)
                    break
        if whole and position.step == before and position.batch == 0:
            raise DataError(f"Epoch {position.epoch + 1} holds no batch.")
        if not whole:
            break
        row = _row(run, training, scored)
        run.rows.append(row)
        position.next_epoch()
        _follow(run, training, row)
        spent = record_times(run, spent)
        check_equal_weights(training.network)
        run.tell("after_epoch", row)
        run.look_around()
        run.agree()
    if not run.stop_reason and (reason := ending.reason_at(position)) and not ending.is_plain:
        run.stop(reason)


def _ends_epoch(run: Run, batches: AnyBatches) -> bool:
    return batches.steps_an_epoch is not None and run.position.batch >= batches.steps_an_epoch


def _owes_look(run: Run, batches: AnyBatches, scored: ValidationParts) -> bool:
    """Whether the state that a run goes on from was saved before its scores were taken."""
    return (
        run.position.batch > 0
        and scored.is_due_within(run.position.step)
        and not _ends_epoch(run, batches)
        and all(look["step"] != run.position.step for look in run.looks)
    )


def _look(run: Run, training: TrainingBase, scored: ValidationParts) -> None:
    """Score within an epoch."""
    row = {
        "epoch": float(run.position.epoch + 1),
        "step": float(run.position.step),
        "loss": run.position.loss,
    }
    row = communicator().broadcast(row | scored.scores(training))
    run.looks.append(row)
    if run.store is not None:
        run.store.write_series("validation", run.looks)
    run.tell("after_validation", row)


def _step(run: Run, training: TrainingBase, group: Any, done: int) -> None:
    position = run.position
    number = training.step_number + 1
    run.tell("before_step", number)
    before_update: Any = None
    if run.listeners("before_update"):
        before_update = lambda loss, gradients: run.tell("before_update", loss, gradients)  # noqa: E731
    step, counts = training.make_step(
        group,
        position.epoch,
        position.batch,
        before_update=before_update,
        watch=_watch(run, number),
    )
    position.add(
        step.loss,
        step.examples,
        counts,
        weight=step.weight,
        summed=training.sums_losses,
        merges={metric.name: metric.merge for metric in training.step_metrics},
    )
    position.batch += len(group) if type(group) is list else 1
    position.step = training.step_number
    run.tell("after_step", step)
    run.end_step()
    run.look_around()


def _watch(run: Run, number: int) -> Watch | None:
    """Who wants to see the activations of a step."""
    asking = [
        observer for observer in run.listeners("activation") if observer.wants_activations(number)
    ]
    if not asking:
        return None

    def told(path: str, output: np.ndarray) -> None:
        run.tell_some(asking, "activation", path, output)

    return told


def _row(run: Run, training: TrainingBase, scored: ValidationParts) -> dict[str, float]:
    position = run.position
    row: dict[str, float] = {
        "epoch": position.epoch + 1,
        "step": position.step,
        "rate": training.optimiser.rate * training.schedule(training.step_number - 1),
        "loss": position.loss,
    }
    for metric in training.step_metrics:
        row[metric.name] = metric.conclude(np.asarray(position.counts[metric.name]))
    if scored.parts:
        last = run.epochs == position.epoch + 1
        run.validated = scored.is_due(position.epoch + 1, last=last) or not run.rows
        columns = {
            name: value
            for name, value in (run.rows[0] if run.rows else {}).items()
            if name not in row
        }
        row |= scored.scores(training) if run.validated else scored.unknown(columns)
    found: dict[str, float] = communicator().broadcast(row)
    return found


def _follow(run: Run, training: TrainingBase, row: dict[str, float]) -> None:
    """Let the schedule see what it watches."""
    watched = training.schedule.watches
    if watched is None or not run.validated:
        return
    name, value = judged_quantity(row, watched or None)
    if told := training.schedule.watch(training.step_number - 1, score_of(run, name, value), name):
        run.say(told)
