"""Steps planned once and made again: what does not change from step to step was looked at when the
plan was made.

A plan holds for batches of one kind: a pair of arrays of the same shapes and dtypes, contiguous.
It is gone when one of these changes: an arena or what layers are planned by (`Arena.generation`),
the network or the loss (`PlannedSteps`), the kernels are turned off, or ranks share the batches.
Everything else takes the usual path: weights, masks, several batches, somebody who watches layers.
So does a batch that is not sound, or a loss that is not finite, which that path words.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from ...autodiff.gradients import Gradients
from ...data.batches._batch import Batch
from ...distributed._current import communicator
from ...kernels import Unsound, give_up, usable
from ...layers._arena import Arena
from ...layers._base import Layer
from ...layers._containers import DenseRun, single_run
from ...layers._dense_chain import loss_and_gradients
from ...layers._learning_pass import stream_start
from ...losses import StraightForm, straight_form
from ._descent import Descent

__all__ = ["PlannedStep", "PlannedSteps", "planned_in_words", "unplanned_because"]

MOST_PLANS = 4  # of one training: whole batches, and the last one of an epoch


class PlannedStep(NamedTuple):
    """The derivative of a loss of dense layers, for batches of one kind."""

    run: DenseRun
    form: StraightForm
    shape: tuple[int, int]
    """Of the outputs."""
    weight: float
    """What such a batch weighs among others."""
    keys: tuple[tuple[int, int, int], ...]
    """By which the dropout is drawn: of which layer's input, the key, and how often it has drawn
    before.
    """
    words: np.ndarray | None
    """Room for what they come to in a step."""

    @property
    def examples(self) -> int:
        return self.shape[0]

    def __call__(
        self, descent: Descent, x: np.ndarray, targets: np.ndarray, number: int
    ) -> tuple[np.ndarray, float, Gradients] | None:
        """Outputs, loss and gradients; None if something is not sound, and nothing has been done
        then.
        """
        run, plan = self.run, self.run.plan
        gradients, buffer = descent.buffer()
        flat = plan.gradients_in_one(buffer.places_of(run, run.weights))
        if flat is None:
            return None
        words = self.words
        if words is not None:
            for layer, key, times in self.keys:
                words[2 * layer] = stream_start(key, times, descent.seed, number)
        try:
            outputs, total, bad = loss_and_gradients(self.form.loop, plan, x, targets, words, flat)
        except Unsound as error:
            give_up(error)
            return None
        value = float(x.dtype.type(total / self.weight))
        return (outputs, value, gradients) if bad < 0 and math.isfinite(value) else None


class PlannedSteps:
    """The plans of one training's batches."""

    def __init__(self, descent: Descent) -> None:
        self.descent = descent
        self._plans: dict[Any, PlannedStep] = {}
        self._known: tuple[Any, ...] = ()

    def __getstate__(self) -> dict[str, Any]:
        return vars(self) | {"_plans": {}, "_known": ()}

    def add(self, batch: Batch, loss: Any, run: DenseRun, form: StraightForm) -> None:
        """Plan for batches of the kind of this one, if it can be done."""
        key = _kind(batch)
        if key is None or run.plan.span is None or communicator().size > 1:
            return
        x, targets = batch.inputs, batch.targets
        shape = (len(x), run.plan.widths[-1])
        fits = (
            x.dtype == run.plan.theta.dtype
            and x.shape[1:] == run.plan.widths[:1]
            and form.checked(targets, shape, x.dtype) is targets
            and form.suits(shape)
        )
        if not fits:
            return
        self._forget_others(loss)
        if len(self._plans) >= MOST_PLANS:
            self._plans.clear()
        keys = run.plan.keys()
        self._plans[key] = PlannedStep(
            run,
            form,
            shape,
            float(form.count(shape)),
            keys,
            np.ones(2 * len(run.plan.dropouts), np.uint64) if keys else None,
        )

    def find(self, batch: Any, loss: Any) -> tuple[PlannedStep, Batch] | None:
        """The plan of a batch, which may be given as a pair."""
        if not self._plans or not usable() or communicator().size > 1:
            return None
        if type(batch) is tuple and len(batch) == 2:
            batch = Batch(*batch)
        elif type(batch) is not Batch:
            return None
        key = _kind(batch)
        plan = self._plans.get(key) if key is not None else None
        if plan is None or self._forget_others(loss):
            return None
        return plan, batch

    def _forget_others(self, loss: Any) -> bool:
        """Whether there were plans for another network, loss or arena."""
        known, network = self._known, self.descent.network
        if known and known[0] == Arena.generation and known[1] is network and known[2] is loss:
            return False
        self._plans.clear()
        self._known = (Arena.generation, network, loss)
        return True


def unplanned_because(network: Layer, loss: Any) -> str:
    """Why no step of a network is planned, in a few words; nothing if it is."""
    if not usable():
        return "the compiled loops are off"
    if communicator().size > 1:
        return "ranks share the batches"
    if straight_form(loss) is None:
        return "the loss is neither cross_entropy nor squared_error as it stands"
    frozen = network.arena is not None and len(network.arena.tensors) > len(network.parameters())
    if frozen:
        return "parameters are frozen"
    run = single_run(network)
    if run is None:
        return "the network is not a Stack of Dense, their activations and Dropout alone"
    return "" if run.plan.span is not None else "the parameters do not lie one after another"


def planned_in_words(reason: str) -> str:
    """Whether steps are planned, or why not."""
    return f"no: {reason}" if reason else "yes"


def _kind(batch: Batch) -> Any:
    """What all batches of one plan have in common; None if there can be no plan."""
    x, targets = batch.inputs, batch.targets
    if (
        type(x) is not np.ndarray
        or type(targets) is not np.ndarray
        or batch.weights is not None
        or batch.masks is not None
        or batch.rows is not None
        or not x.flags.carray
        or not targets.flags.carray
    ):
        return None
    return x.shape, x.dtype, targets.shape, targets.dtype
