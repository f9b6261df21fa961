"""The derivative of a training's loss on a batch: by a record, or for a network of dense layers
alone by two compiled calls.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from contextlib import nullcontext
from typing import Any, NoReturn

import numpy as np

from ...autodiff.gradients import Gradients
from ...autodiff.tensor import held
from ...data.batches._batch import Batch, mapped
from ...errors import NotFiniteError
from ...kernels import Unsound, give_up
from ...layers._arena import Arena
from ...layers._containers import DenseRun, single_run
from ...layers._dense_chain import dense_chain, loss_and_gradients, words_of
from ...layers._learning_pass import Stream, learning, observed
from ...layers._named_inputs import inputs_in_order
from ...losses import StraightForm, check_range, straight_form
from ._descent import Descent, checked_loss, learning_pass
from ._exchange import GradientExchange
from ._forward_pass import loss_of, outputs_of, outputs_of_batch
from ._planned_step import PlannedSteps
from ._trust import is_library_code

__all__ = ["Derivation", "Loss", "Watch", "outputs_to"]

Loss = Callable[[Any, Any], Any]
Watch = Callable[[str, np.ndarray], None]
Weigh = Callable[[Any, float], float]


class Derivation:
    """Outputs, loss and gradients of one descent's learning passes."""

    def __init__(self, descent: Descent, loss: Loss) -> None:
        self.descent = descent
        self.loss = loss
        self._straight: tuple[DenseRun, StraightForm] | None = None
        self._guarded = True
        self._known: tuple[Any, ...] = ()
        self.plans = PlannedSteps(descent)

    def __getstate__(self) -> dict[str, Any]:
        return vars(self) | {"_straight": None, "_known": ()}

    def __call__(
        self,
        batch: Batch,
        watch: Watch | None = None,
        number: int | None = None,
        weigh: Weigh | None = None,
        exchange: GradientExchange | None = None,
    ) -> tuple[Any, float, Gradients]:
        """Outputs, loss and gradients of a learning pass.

        Parameters
        ----------
        batch : Batch
        watch : callable, optional
            Sees the output of every layer, computed one by one.
        number : int, optional
            Of the pass, by which dropout is drawn; by default that of the step.
        weigh : callable, optional
            From outputs and loss makes a factor of the gradients.
        exchange : GradientExchange, optional
            Sends them to other ranks as they are made.
        """
        descent = self.descent
        number = descent.step_number if number is None else number
        in_pieces = exchange is not None and exchange.is_in_pieces
        inputs = batch.inputs
        if (
            watch is None
            and not in_pieces
            and batch.weights is None
            and batch.masks is None
            and (straight := self._straight_path(inputs, batch.targets))
        ):
            try:
                return self._derive_straight(*straight, batch, number, weigh, exchange)
            except Unsound as error:
                give_up(error)
        looking = nullcontext() if watch is None else observed(outputs_to(watch))
        with (
            learning_pass(
                descent.seed,
                number,
                guarded=self._guarded or watch is not None,
                rows=batch.rows,
                merged=not in_pieces,
            ),
            looking,
        ):
            outputs = outputs_of(descent.network, inputs, batch.masks, batch.targets)
            recorded = loss_of(self.loss, outputs, batch)
        value = checked_loss(recorded)
        if not math.isfinite(value):
            self._refuse(value, inputs)
        times = 1.0 if weigh is None else weigh(outputs, value)
        return outputs, value, descent.gradients(recorded, times=times, exchange=exchange)

    def outputs(self, batch: Batch, number: int) -> Any:
        """Of a learning pass of which nothing is derived."""
        descent = self.descent
        with learning_pass(descent.seed, number, guarded=self._guarded, rows=batch.rows):
            return outputs_of_batch(descent.network, batch)

    def _straight_path(self, inputs: Any, targets: Any) -> tuple[DenseRun, StraightForm] | None:
        """What is needed to do without a record, where network and loss are one fused operation
        each.
        """
        known, network = self._known, self.descent.network
        if (
            not known
            or known[0] != Arena.generation
            or known[1] is not network
            or known[2] is not self.loss
        ):
            self._known = (Arena.generation, self.descent.network, self.loss)
            run, loss = single_run(self.descent.network), straight_form(self.loss)
            self._straight = (run, loss) if run is not None and loss is not None else None
            self._guarded = not is_library_code(self.descent.network, self.loss)
        if self._straight is None or type(inputs) is not np.ndarray or inputs.ndim != 2:
            return None
        return self._straight if self._straight[1].takes(targets) else None

    def _derive_straight(
        self,
        run: DenseRun,
        form: StraightForm,
        batch: Batch,
        number: int,
        weigh: Weigh | None,
        exchange: GradientExchange | None,
    ) -> tuple[Any, float, Gradients]:
        x = run.admitted(batch.inputs)
        shape = (len(x), run.plan.widths[-1])
        targets = form.checked(batch.targets, shape, x.dtype)
        streams = self._streams(run, x, batch, number)
        gradients, buffer = self.descent.buffer()
        if exchange is not None:
            exchange.begin(gradients, buffer.places)
        into = buffer.places_of(run, run.weights)
        flat = run.plan.gradients_in_one(into)
        if weigh is None and flat is not None and run.plan.span is not None and form.suits(shape):
            outputs, total, bad = loss_and_gradients(
                form.loop, run.plan, x, targets, words_of(streams), flat
            )
            if bad >= 0:
                check_range(targets, shape[1])
            value = float(x.dtype.type(total / form.count(shape)))
            if not math.isfinite(value):
                self._refuse(value, batch.inputs)
            self.plans.add(batch, self.loss, run, form)
            return outputs, value, gradients
        outputs, saved = dense_chain.kernel_forward(x, *run.arrays, plan=run.plan, streams=streams)
        found, slopes = form.operation.kernel_forward(outputs, targets)
        value = float(found)
        if not math.isfinite(value):
            self._refuse(value, batch.inputs)
        times = 1.0 if weigh is None else weigh(outputs, value)
        (g, _) = form.operation.kernel_adjoint(
            times, slopes, (outputs, targets), {}, (True, False), (None, None)
        )
        dense_chain.kernel_adjoint(g, saved, (x, *run.arrays), {"plan": run.plan}, run.wanted, into)
        return outputs, value, gradients

    def _streams(
        self, run: DenseRun, x: np.ndarray, batch: Batch, number: int
    ) -> tuple[Stream | None, ...]:
        """By which the dropout of this pass is drawn."""
        if not run.has_dropout:
            return (None,) * len(run.plan.dropouts)
        with learning_pass(self.descent.seed, number, guarded=False, rows=batch.rows):
            return run.plan.streams(x.shape)

    def _refuse(self, value: float, inputs: Any) -> NoReturn:
        placed = inputs_in_order(self.descent.network, inputs)
        values = placed if isinstance(placed, tuple) else (placed,)
        if not all(np.all(np.isfinite(x)) for x in values if np.asarray(x).dtype.kind == "f"):
            where = "the inputs of the batch: clean the data"
        else:
            with learning(self.descent.seed, self.descent.step_number):
                where = (
                    self.descent.network.first_bad_layer(*values)
                    or "the loss itself: look at its targets"
                )
        raise NotFiniteError(
            f"Step {self.descent.step_number + 1}: the loss is {value}. The first values that are "
            f"not finite are in {where}. "
            "A smaller rate, a warm-up or clip= are the usual cures; the last checkpoint is "
            "untouched."
        )


def outputs_to(watch: Watch) -> Callable[..., None]:
    """An observer of layers that tells of their outputs alone."""

    def told(layer: Any, path: str, inputs: tuple[Any, ...], output: Any) -> None:
        watch(path, mapped(held, output))

    return told
