"""Training: a network that descends a loss, step by step or as a whole recorded run."""

from __future__ import annotations

import logging
import tempfile
import time
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from functools import partial
from os import PathLike
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from .._findings import tell
from ..autodiff.tracking import untracked
from ..data.batches._batch import Batch, joined_parts
from ..data.batches._streams import Stream
from ..data.checks._checks import input_range_of, split_findings
from ..data.sources._source import Source
from ..distributed._current import communicator
from ..errors import ModelError, PartError
from ..layers._arena import Arena
from ..layers._named_inputs import inputs_in_order
from ..layers._weight_matching import Loaded, load_matching
from ..storage.open_store import weights_of
from ..storage.run_store import RunStore, safe_name
from .observers._best_state import BestState
from .observers._defaults import checked_observers, with_default_observers
from .run._ending import Ending, ending_of
from .run._epochs import train_epochs
from .run._held_out import write_held_out
from .run._ranks import check_equal_ranks, observers_of_rank, store_of_rank
from .run._results import Outcome
from .run._resume import continue_run
from .run._run import Run, observers_attached
from .run._run_metadata import (
    count_test_scoring,
    lineage,
    run_settings,
    write_about,
)
from .run._status import Status
from .run._validation import Validation, ValidationParts
from .step._base import BestWeights, TrainingBase, digest_of
from .step._baseline import baseline_scores
from .step._batch_checks import AnyBatches, are_batches, as_batches, check_parts
from .step._scoring import assessment, batch_outputs, check_encoding

if TYPE_CHECKING:
    import pandas as pd

    from .._model import Model
    from ..evaluation._scores import Assessment
    from .rehearsal._rehearsal import Rehearsal
    from .run._run import Observer

__all__ = ["Training"]

log = logging.getLogger("vinestep")


class Training(TrainingBase):
    """A network, what it is to minimise, and how.

    Parameters
    ----------
    network : Layer
        Initialised on the first batch, with `seed`, if it is not yet.
    loss : callable
        ``loss(outputs, targets)`` to one number; or, in its place,
    task : Task
        What the outputs mean, of `vinestep.tasks`: it is the loss, and says which metrics are
        usual and what answers follow.
    optimiser : Optimiser, optional
        Adam by default.
    schedule : Schedule, optional
        Scales the optimiser's rate by step; constant by default.
    metrics : sequence of Metric, or mapping of target to such
        By default those usual for the task; none for a loss.
    clip : float, optional
        Largest Euclidean norm of all gradients together; longer ones are shortened to it.
    clip_values : float, optional
        Largest size of each element of the gradients; larger ones are cut to it.
    accumulate : int
        Batches of which the gradients make one update, as if they were one large batch.
    half : HalfPrecision, optional
        Keeps weights and gradients as float16, in float32 arithmetic.
    average : WeightAverage, optional
        A running average of the weights, by which validation is scored and which models are made
        of.
    ranks : Ranks, optional
        What ranks that train together share besides examples.
    seed : int
        Of weights, order of examples, and dropout.

    Examples
    --------
    >>> data = vs.data.Dataset(
    ...     np.array([[0.0], [1.0], [2.0], [3.0]]), np.array([[1.0], [3.0], [5.0], [7.0]])
    ... )
    >>> training = vs.Training(
    ...     vs.Dense(1), loss=vs.losses.squared_error, optimiser=vs.optimisers.Adam(rate=0.1)
    ... )
    >>> outcome = training.run(data.batches(4), epochs=300)
    >>> (
    ...     training.network.weights()["weight"].round(2),
    ...     training.network.weights()["bias"].round(2),
    ... )
    (array([[2.]], dtype=float32), array([1.], dtype=float32))
    """

    # a whole run

    def run(
        self,
        batches: AnyBatches,
        *,
        epochs: int | None = None,
        steps: int | None = None,
        until: str | None = None,
        validation: Validation = None,
        validate_every: int | str = 1,
        observers: Sequence[Observer] = (),
        test: AnyBatches | None = None,
        record: RunStore | str | PathLike[str] | None = None,
        name: str = "run",
        resume: RunStore | str | PathLike[str] | None = None,
        changed: Sequence[str] = (),
        plan: dict[str, Any] | None = None,
    ) -> Outcome:
        """Train until something is reached, observed and recorded.

        Parameters
        ----------
        batches : Batches
            Of any source or stream; or any iterable of batches that begins anew, such as a list of
            pairs of arrays, see `vinestep.data.IterableBatches`.
        validation : Batches, or mapping of name to Batches or function, optional
            What is scored after each epoch, sharing no examples with `batches`. Of several, the
            first judges; a function takes the network and returns a number or several by name, such
            as what generated texts score. To score a part only, give a part.
        validate_every : int or str
            Epochs from one validation to the next; the last epoch is always validated. With ``"500
            steps"``, also after every 500 steps within an epoch: such scores are kept in
            ``outcome.looks`` and the record's "validation", and the best state may be one.
        until : str, optional
            When the run ends, in words: ``"60 epochs or 30 minutes or no gain for 8 epochs, not
            before 5 epochs"``; see `vinestep.Ending`.
        epochs : int, optional
            In all, those before a resumption included.
        steps : int, optional
            In all, in place of `epochs`; for streams. Curves still have a row for each epoch that
            ends.
        observers : sequence of Observer
        test : Batches, optional
            Kept for the end: it may share no examples with the others, and how often it is scored
            is recorded.
        record : path or store, optional
            Folder for runs; a numbered folder is made in it with plan, curves, console and states.
        name : str
            First part of that folder's name.
        resume : path or store, optional
            Folder of a run to continue from its newest sound state, or the file of one of its
            states.
        changed : sequence of str
            What is meant to differ from what the run began with, by the names that the refusal
            lists, such as ``optimiser.rate``; a name stands for all below it. It is recorded.
        plan : dict, optional
            What was asked for, to be recorded; by default the settings of everything that takes
            part.

        Returns
        -------
        outcome : Outcome

        Raises
        ------
        DataError
            If training, validation and test parts share examples, or encode them differently.
        NotFiniteError
            If the loss becomes NaN or infinite.
        RunError
            If the run to resume does not exist, is finished or running, or was set up differently:
            how.
        """
        with communicator().guarded():
            return self._run(
                batches,
                ending_of(epochs, steps, until),
                ValidationParts(validation, every=validate_every),
                observers,
                test,
                record,
                name,
                resume,
                changed,
                plan,
            )

    def _run(
        self,
        batches: AnyBatches,
        ending: Ending,
        scored: ValidationParts,
        observers: Sequence[Observer],
        test: AnyBatches | None,
        record: RunStore | str | PathLike[str] | None,
        name: str,
        resume: RunStore | str | PathLike[str] | None,
        changed: Sequence[str],
        plan: dict[str, Any] | None,
    ) -> Outcome:
        batches = as_batches(batches, "run: the training data")
        test = as_batches(test, "run: the test data")
        check_parts({"training": batches, **scored.batches, "test": test})
        self.prepare(batches)
        tell(split_findings(batches, scored.first, test, self.codec.input_range))
        recorded = resume is not None or record is not None
        comm = communicator()
        asked = recorded or comm.size > 1
        settings = run_settings(self, batches, ending, scored) if asked else {}
        check_equal_ranks(self.network, settings)
        given = [ending, *checked_observers(observers)]
        watchers = with_default_observers(given, recorded, validation=bool(scored.parts))
        best = BestState.for_observers(self, watchers) if scored.parts else None
        if best is not None:
            watchers = sorted([*watchers, best], key=lambda observer: observer.order)
        watchers = observers_of_rank(watchers, self.parts)
        self._best = None
        with ExitStack() as stack:
            stack.enter_context(observers_attached(watchers))
            store = stack.enter_context(store_of_rank(record, resume, name))
            run = Run(
                self.parts,
                watchers,
                store,
                name,
                plan if plan is not None else settings,
                settings,
                epochs=ending.amount("epoch"),
                total_steps=ending.amount("step"),
                ends_itself=True,
                batches_per_epoch=batches.steps_an_epoch or 0,
                steps_per_epoch=self.updates_an_epoch(batches) or 0,
                better=self.directions(scored.names),
                extra=self._described_model,
                examples=scored.first or batches,
                training_examples=batches,
                task=self.task,
                model=partial(self._best_model, best),
            )
            self._rows, self._store = run.rows, run.store
            self.lineage = lineage(run, test) | ({"parent": self.parent} if self.parent else {})
            if resume is not None:
                before = continue_run(run, resume, changed, ending).get("model") or {}
                if not self.parent and (parent := before.get("lineage", {}).get("parent")):
                    self.parent = self.lineage["parent"] = parent
            elif store is not None:
                run.save("step-00000000-epoch-0")
                run.finish_saving()
                run.record_status("")
                more = {
                    "better": run.better,
                    "steps": run.total_steps or run.epochs * run.steps_per_epoch,
                    "baseline": baseline_scores(self, batches, scored.first),
                }
                write_about(store, settings, self.lineage | more, self._graph(batches))
                store.begin(name, run.plan)
            self.lineage["run"] = store.label if store is not None else ""
            begun = time.perf_counter()
            with run.under_way():
                train_epochs(run, self, batches, scored, ending)
            outcome = run.conclude(begun)
            self.ended = outcome.status
            self._note_best(best)
            hands_on = comm.rank == 0 or self.network.divides_layers
            if store is not None and hands_on and outcome.status is Status.FINISHED:
                model = self.model()
                self._write_model(store, run.name, model)
                if scored.first is not None and model.loss is not None:
                    write_held_out(store, model, scored.first)
            return outcome

    def _note_best(self, best: BestState | None) -> None:
        """Hold the best state of a run, which is what comes out of it."""
        if best is not None and best.row:
            self._best = BestWeights(best.arrays, best.row, best.step, digest_of(self.network))

    def _best_model(self, best: BestState | None) -> Model:
        self._note_best(best)
        return self.model()

    def _write_model(self, store: RunStore, name: str, model: Model) -> None:
        """Put the model into the run's record."""
        try:
            with tempfile.TemporaryDirectory() as folder:
                content = model.save(Path(folder, "model.vine")).read_bytes()
        except (ModelError, PartError) as error:
            told = f"No model file was written beside the states: {error}"
            log.warning("%s", told)
            store.write_console(told)
            return
        store.write_file(f"{safe_name(name, 'run')[:100]}.vine", content)

    def input_range(self, batches: AnyBatches) -> tuple[float, float] | None:
        return input_range_of(batches)

    def _graph(self, batches: AnyBatches) -> list[dict[str, Any]]:
        """The layers of the network with their shapes, for the record; a row each."""
        sample = inputs_in_order(self.network, self._sample_inputs(batches))
        one = tuple(array[:1] for array in sample) if isinstance(sample, tuple) else sample[:1]
        return self.network.describe(one).rows

    def _sample_inputs(self, batches: AnyBatches) -> Any:
        """Of the kind that the network takes."""
        return batches.sample().inputs

    def _described_model(self) -> dict[str, Any]:
        """What a saved state says of the model in it; the network is described anew only after it
        was changed.
        """
        model = self.model("last", copied=False)
        known = self._described
        if known is None or known[0] != Arena.generation:
            self._described = known = Arena.generation, model.described(opaque=True)
        average = (
            {}
            if self.average is None or not self.average.count
            else {"average_share": self.average.share}
        )
        return {"model": known[1] | {"lineage": model.lineage} | average}

    # looking

    def start_from(self, source: Any, *, pattern: str = "*", names: Any = None) -> Loaded:
        """Begin with weights of another network; where they come from is recorded with the run, and
        with its model.

        Parameters
        ----------
        source : path, Model, Layer, or mapping of name to array
            A model file, a state of a run, or the folder of a run, of which the best state counts,
            or the newest.
        pattern, names
            Which weights, and what they are called there; see `vinestep.layers.load_matching`.

        Returns
        -------
        report : Loaded
            What was loaded, what was left and why.

        Raises
        ------
        LayerError
            If the network is not initialised yet, or nothing matches.
        """
        found, parent = weights_of(source)
        report = load_matching(self.network, found, pattern=pattern, names=names)
        self.parent = {**parent, "loaded": len(report.loaded), "left": len(report.left)}
        return report

    def rehearse(
        self,
        train: AnyBatches,
        validation: AnyBatches | None = None,
        *,
        quick: bool = False,
        steps: int | None = None,
        progress: Callable[[str], object] | None = None,
    ) -> Rehearsal:
        """Look for what goes wrong in runs, in seconds and on a copy; see
        `vinestep.training.rehearse`.
        """
        from .rehearsal._rehearsal import rehearse

        return rehearse(self, train, validation, quick=quick, steps=steps, progress=progress)

    def assess(
        self, batches: AnyBatches, *, state: Literal["best", "last"] | None = None
    ) -> Assessment:
        """Loss and metrics over all examples, in inference; each example counts once.

        Parameters
        ----------
        batches : Batches
        state : {"best", "last"}, optional
            Which weights are scored; see `model`.

        Returns
        -------
        assessment : Assessment
            A mapping of score to value; ``assessment.intervals`` says how sure they are.

        Examples
        --------
        >>> data = vs.data.Dataset(np.ones((5, 2)), np.zeros((5, 1)))
        >>> training = vs.Training(
        ...     vs.Dense(1, initialiser=vs.initialisers.ones), loss=vs.losses.squared_error
        ... )
        >>> training.network.initialise(data.inputs) is training.network
        True
        >>> training.assess(data.batches(2))
        {'loss': 4.0}
        """
        batches = as_batches(batches, "assess: the data")
        self.network._ready_arena()
        check_encoding(self.codec.encoding, batches.dataset, "the part to assess")
        self._count_test(batches)
        network = self._chosen_model(state).network
        return assessment(network, batches, self.loss, self.metrics)

    def _chosen_model(self, state: Literal["best", "last"] | None) -> Model:
        """To be looked through; an average of the weights needs a network of its own."""
        return self.model(state, copied=self.average is not None)

    def _count_test(self, batches: AnyBatches) -> None:
        """How often the test part of a recorded run was scored is a matter of record: each look
        makes it less of a test.
        """
        store = self._store
        if (
            store is None
            or not self.lineage.get("test")
            or batches.fingerprint() != self.lineage["test"]
        ):
            return
        count_test_scoring(store)

    def outputs(
        self, data: Any, *, size: int = 1024, state: Literal["best", "last"] | None = None
    ) -> Any:
        """What the network puts out in inference, for a source, a stream, batches of either, or an
        array of inputs; of which state, `model` says. Of several outputs all, by name or place.
        """
        model = self._chosen_model(state)
        check_encoding(
            self.codec.encoding, data.dataset if are_batches(data) else data, "the data to predict"
        )
        if isinstance(data, Source | Stream):
            data = data.batches(size)
        elif isinstance(data, list) and data and isinstance(data[0], Batch | tuple):
            data = as_batches(data, "outputs: the data")
        if are_batches(data):
            with untracked():
                return joined_parts([result for _, result in batch_outputs(model.network, data)])
        return model.outputs(
            data if isinstance(data, tuple | dict) else np.asarray(data), size=size
        )

    def predict(self, data: Any, *, state: Literal["best", "last"] | None = None) -> pd.DataFrame:
        """Predictions for a dataset, batches or an array of inputs as the network takes them;
        `model` takes raw rows, and says of which state.

        Returns
        -------
        predictions : DataFrame, one row per example
            With classes the class ``predicted``, as it stands in the data, and a probability for
            each; otherwise ``predicted`` numbers.
        """
        outputs = self.outputs(data, state=state)
        return self.model("last", copied=False).answers(outputs)
