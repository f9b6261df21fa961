"""The run that a plan describes."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import numpy as np

from ..._public_names import did_you_mean
from ...autodiff.tracking import untracked
from ...data._table_files import read_frame
from ...data.sources._as_source import as_source
from ...data.sources._source import Source
from ...data.sources._splits import fold_indices
from ...data.tabular._table import Table, scaled
from ...demo._sources import TABLES
from ...errors import PlanError
from ...generation._adversarial_networks import LatentGenerator
from ...layers._adapters import adapted
from ...layers._base import Layer
from ...layers._quantised import quantised
from ...parts._build import Builder, with_full_paths
from ...parts._registry import kinds
from ...tasks._base import Task
from ...tasks._classes import Classes, Ordered
from ...tasks._task_of import task_for
from .._adversarial import AdversarialTraining, SampleAssessment
from .._training import Training
from ..observers._checkpoints import Checkpoints
from ..observers._curves import Curves
from ..observers._generated_samples import GeneratedSamples
from ..observers._recorders import (
    Distributions,
    Machine,
    Norms,
    Steps,
)
from ..observers._samples import Samples
from ..run._ending import ending_of
from ..run._results import Outcome
from ..run._run import Observer
from ..step._forward_pass import outputs_of_batch
from ..step._scoring import assessment
from ._plan import (
    DEMO,
    Plan,
    PlannedParts,
    Target,
)

if TYPE_CHECKING:
    import pandas as pd

    from ..._model import Model
    from ...data.batches._batches import Batches
    from ...data.batches._transforms import Transform
    from ...evaluation._scores import Assessment
    from ...layers._weight_matching import Loaded
    from ..rehearsal._rehearsal import Rehearsal

__all__ = ["PlannedRun"]

LEAST_SCORED = 256  # examples at once, where nothing but memory counts


class PlannedRun:
    """The parts of a run that a plan describes, ready to go.

    Parameters
    ----------
    plan : Plan
    base : path
        Folder that the data's path is relative to.
    own : sequence of classes and functions
        Parts of one's own that the plan names.
    resuming : bool
        Whether a recorded run is to go on, which has its weights.
    """

    def __init__(
        self, plan: Plan, base: Path, *, own: Iterable[Any] = (), resuming: bool = False
    ) -> None:
        self.loaded: Loaded | None = None
        """What was taken over from `start_from`."""
        self.plan = plan
        self.base = base
        own = list(own)
        self._held_out: Source | None = None
        self._together: dict[str, Any] = {}
        """Groups or times of the rows that are divided into parts."""
        self.source = self._read(own)
        form = self.source.text_form
        counts = {"classes": self.source.classes} | (
            {"tokens": len(form.tokeniser)} if form is not None else {}
        )
        usual = task_for(self.source) if self._needs_task() else None
        parts = PlannedParts(plan, counts, self._target(), own, usual)
        if parts.faults:
            raise PlanError("\n".join(map(str, parts.faults)))
        self._batching = {
            "drop_partial": plan.data.drop_partial,
            "order": parts.order,
            "augment": parts.augment,
        }
        self._reading = {"join": parts.join, "readers": plan.data.readers}
        self.train, self.validation, self.test = self._divided(parts.prepare)
        said = isinstance(parts.loss, Task)
        begun: Callable[..., Training] = partial(
            Training,
            loss=None if said else parts.loss,
            task=parts.loss if said else None,
            seed=plan.seed,
        )
        made: Callable[..., Training] = partial(
            begun,
            optimiser=parts.optimiser,
            schedule=parts.schedule,
            metrics=parts.metrics,
            clip=plan.clip,
            clip_values=plan.clip_values,
            accumulate=plan.accumulate,
            average=plan.weight_average(),
            ranks=plan.rank_settings(),
            half=plan.half_precision(),
        )
        if plan.adversarial is not None:
            begun = made = partial(_adversarial, plan, parts)
        changed = plan.codes is not None or plan.adapters is not None
        self.training = (begun if changed else made)(parts.network)
        self._observers: list[Observer] = parts.observers
        self._listening: list[Observer] = []
        self._own = own
        self.training.initialise(self.train_batches().sample(), dtype=plan.precision)
        self._check_width()
        if plan.start_from is not None and not resuming:
            self.loaded = self.training.start_from(
                self.base / plan.start_from, pattern=plan.start_pattern
            )
        if changed:
            parent = self.training.parent
            self.training = made(self._changed_network())
            self.training.parent = parent
        for pattern in plan.freeze:
            self.training.network.freeze(pattern)

    def _changed_network(self) -> Layer:
        """The loaded network with weights in codes and adapters beside them."""
        network, plan = self.training.network, self.plan
        if plan.codes is not None:
            network = quantised(network, **plan.codes.model_dump())
        if plan.adapters is not None:
            settings = plan.adapters.model_dump()
            also = settings.pop("train")
            network = adapted(network, **settings, seed=plan.seed)
            for pattern in also:
                network.thaw(pattern)
        return network

    def _needs_task(self) -> bool:
        return isinstance(self.source.class_values, dict) or self.source.target_gaps

    def _target(self) -> Target:
        if self.source.class_names:
            return "classes"
        return "tokens" if self.source.text_form is not None else "numbers"

    def _check_width(self) -> None:
        """Refuse a network whose outputs do not fit the classes."""
        known = self.source.class_values
        named = known if isinstance(known, dict) else {"": known}
        task = self.training.task
        if not task.needs_targets:
            return
        sample = self.train_batches().sample()
        with untracked():
            found = outputs_of_batch(self.training.network, sample)
        for name, own, outputs, _ in task.by_target(found):
            values = named.get(name, ())
            if not values or not isinstance(own, Classes | Ordered):
                continue
            width, wanted = np.shape(outputs)[-1], own.width(len(values))
            if width != wanted:
                target = name or self.plan.data.target
                count = "classes" if isinstance(own, Classes) else "outputs"
                what = "the target" if target is None else f"the target {target!r}"
                raise PlanError(
                    f"layers: the network gives {width} values, and {what} has {len(values)} "
                    "classes. Make the "
                    f'last layer as wide: {{kind = "dense", width = "{count}"}}.'
                )

    def train_batches(self) -> Batches:
        """The training part as the run takes it."""
        return self.train.batches(self.plan.data.batch, **self._batching, **self._reading)

    def scored_batches(self, part: Source) -> Batches:
        """A part as it is scored: every example once, in its own order."""
        return part.batches(
            max(self.plan.data.batch, LEAST_SCORED), shuffled=False, **self._reading
        )

    def _read(self, own: Iterable[Any]) -> Source:
        described = self.plan.data.described_source
        if described is None:
            return self._table(self.plan.data.source)
        builder = Builder(own, base=self.base)
        result = builder.part(described, "data.source", ("source",))
        if builder.faults:
            raise PlanError("\n".join(map(str, builder.faults)))
        source, fold = as_source(result), self.plan.data.fold
        if fold is None:
            return source
        stratified = _stratified_by(self.plan.data.stratified, source)
        parts = list(source.fold_rows(fold.of, seed=fold.seed, stratified=stratified))
        rows, held_out = parts[fold.number - 1]
        self._held_out = source.rows(held_out)
        return cast(Source, source.rows(rows))

    def _table(self, source: str) -> Table:
        plan = self.plan.data
        options: dict[str, Any] = plan.model_dump(
            include={"targets", "classes", "leave_out", "drop_missing_target"}
        )
        options["target"] = plan.target or ""
        options |= plan.model_dump(
            include={
                "unseen_categories",
                "missing_columns",
                "ordered",
                "dates",
                "rare",
                "feature_hashing",
                "literal",
                "log_target",
                "target_gaps",
                "weight",
                "inputs",
            }
        )
        if not source.startswith(DEMO):
            return self._table_of(self.base / source, options)
        name = source.removeprefix(DEMO)
        if name not in TABLES:
            known = [
                *TABLES,
                *(
                    kind.name.removeprefix("demo_")
                    for kind in kinds("source")
                    if kind.name.startswith("demo_")
                ),
            ]
            raise PlanError(
                f"data.source: there is no demo set {name!r} for plans. {did_you_mean(name, known)}"
            )
        return self._table_of(TABLES[name](), options)

    def _table_of(self, given: Any, options: dict[str, Any]) -> Table:
        """The table, or the rows that a fold leaves, with an encoding of their own."""
        plan = self.plan.data
        if not plan.groups and not plan.by and plan.fold is None:
            return Table(given, **options)
        frame, name = read_frame(given, literal=plan.literal)
        targets = plan.targets or [str(plan.target)]
        for column in (*targets, *filter(None, (plan.groups, plan.by))):
            if column not in frame.columns:
                raise PlanError(
                    f"data: {name} has no column {column!r}. {did_you_mean(column, frame.columns)}"
                )
        if plan.drop_missing_target:
            frame = frame[frame[targets].notna().all(axis=1)].reset_index(drop=True)
        if plan.groups and plan.groups not in options["leave_out"]:
            options["leave_out"] = [*options["leave_out"], plan.groups]
        rows = held_out = np.arange(len(frame))
        if plan.fold is not None:
            rows, held_out = self._fold_of(frame, targets)
            if options["unseen_categories"] == "refuse":
                options["unseen_categories"] = "zeros"
        way = "groups" if plan.groups else "by"
        if column := plan.groups or plan.by:
            self._together = {way: frame[column].to_numpy()[rows]}
        if plan.fold is None:
            return Table(frame, **options)
        table = Table(frame.iloc[rows].reset_index(drop=True), **options)
        self._held_out = table.like(frame.iloc[held_out].reset_index(drop=True))
        return table

    def _fold_of(self, frame: pd.DataFrame, targets: Sequence[str]) -> tuple[Any, Any]:
        """The rows that are trained on, and those that are held out."""
        plan, fold = self.plan.data, self.plan.data.fold
        assert fold is not None
        labels = None
        classes = [column for column in targets if self._is_of_classes(frame[column])]
        asked = plan.stratified if isinstance(plan.stratified, str) else next(iter(classes), "")
        if plan.stratified and asked and not plan.by:
            labels = frame[asked].astype(str).to_numpy()
        parts = fold_indices(
            len(frame),
            fold.of,
            fold.seed,
            labels=labels,
            groups=frame[plan.groups].to_numpy() if plan.groups else None,
            by=frame[plan.by].to_numpy() if plan.by else None,
        )
        return parts[fold.number - 1]

    def _is_of_classes(self, column: pd.Series) -> bool:
        said = self.plan.data.classes
        if isinstance(said, list):
            return str(column.name) in said
        return said if said is not None else column.dtype.kind not in "iuf"

    def _divided(self, prepare: Sequence[Transform]) -> list[Source]:
        plan = self.plan.data
        stratified = _stratified_by(plan.stratified, self.source)
        parts = dict(
            zip(
                plan.names,
                self.source.split(
                    *plan.fractions,
                    seed=self.plan.seed if plan.seed is None else plan.seed,
                    stratified=False if plan.by else stratified,
                    **self._together,
                ),
                strict=True,
            )
        )
        if self._held_out is not None:
            parts["test"] = self._held_out
        for name, file in (("validation", plan.validation), ("test", plan.test)):
            if file is not None:
                parts[name] = self._of_its_own(name, file)
        divided = [parts[name] for name in ("training", "validation", "test")]
        if isinstance(self.source, Table):
            return [*scaled(*divided, how=plan.scale, fill=plan.fill)]  # type: ignore[arg-type]  # parts of a table are tables
        return [part.prepared(*prepare) for part in divided] if prepare else divided

    def _of_its_own(self, name: str, file: str) -> Source:
        like = getattr(self.source, "like", None)
        if like is None:
            raise PlanError(
                f"data.{name}: a {type(self.source).__name__} has no parts in other files. Leave "
                "it out and give split."
            )
        result: Source = like(self.base / file)
        return result

    def best_model(self, outcome: Outcome) -> Model | None:
        """The model of the best state of a run, if one was kept."""
        from ..._model import open_model

        for observer in self._listening:
            if (
                isinstance(observer, Checkpoints)
                and (file := observer.best_file(outcome)) is not None
            ):
                return open_model(file, own=self._own)
        return None

    def assess(self, model: Model) -> dict[str, Assessment]:
        """A model scored on the three parts of the data; what a generator makes, held against
        them.
        """
        if isinstance(model.network, LatentGenerator):
            return {
                name: SampleAssessment(model.network, self.scored_batches(part))
                for name, part in self.parts.items()
            }
        assert model.loss is not None
        return {
            name: assessment(model.network, self.scored_batches(part), model.loss, model.metrics)
            for name, part in self.parts.items()
        }

    def observers(self) -> list[Observer]:
        """Those planned, and what records a run well enough to be asked about later, if the plan
        does not say otherwise.
        """
        can_sample = getattr(self.training.network, "can_sample", False)
        usual: list[Observer] = [
            Curves(),
            Checkpoints("best"),
            Steps(),
            Norms(),
            Distributions(),
            GeneratedSamples() if can_sample else Samples(),
            Machine(),
        ]
        planned = self._observers
        return [*(o for o in usual if not any(isinstance(p, type(o)) for p in planned)), *planned]

    def rehearse(
        self, *, quick: bool = False, progress: Callable[[str], object] | None = None
    ) -> Rehearsal:
        """Look for what would go wrong; see `vinestep.training.rehearse`."""
        batches = self.train_batches()
        ending = ending_of(self.plan.epochs, self.plan.steps, self.plan.until)
        steps = ending.amount("step") or ending.amount("epoch") * (
            self.training.updates_an_epoch(batches) or 0
        )
        return self.training.rehearse(
            batches,
            self.scored_batches(self.validation),
            quick=quick,
            steps=steps or None,
            progress=progress,
        )

    def run(
        self,
        *,
        record: str | os.PathLike[str] | None = None,
        resume: str | os.PathLike[str] | None = None,
        changed: Sequence[str] = (),
        observers: Sequence[Observer] = (),
    ) -> Outcome:
        """Train as planned; see `Training.run`."""
        recorded = record is not None or resume is not None
        self._listening = [*(self.observers() if recorded else self._observers), *observers]
        return self.training.run(
            self.train_batches(),
            validation=self.scored_batches(self.validation),
            test=self.scored_batches(self.test),
            epochs=self.plan.epochs,
            steps=self.plan.steps,
            until=self.plan.until,
            validate_every=self.plan.validate_every,
            observers=self._listening,
            record=record,
            resume=resume,
            changed=changed,
            name=self.plan.name,
            plan=self.recorded_plan(),
        )

    def recorded_plan(self) -> dict[str, Any]:
        """The plan with full paths of its data, so that the run can be continued from anywhere."""
        plan = self.plan.as_toml()
        for key in ("source", "validation", "test"):
            file = plan["data"].get(key)
            if isinstance(file, str) and not file.startswith(DEMO):
                plan["data"][key] = str((self.base / file).resolve())
        if self.plan.start_from is not None:
            plan["start_from"] = str((self.base / self.plan.start_from).resolve())
        plan["data"]["source"] = with_full_paths(plan["data"]["source"], self.base, self._own)
        return plan

    @property
    def parts(self) -> dict[str, Source]:
        """The three parts of the data by name."""
        return {"training": self.train, "validation": self.validation, "test": self.test}


def _adversarial(plan: Plan, parts: PlannedParts, network: Layer) -> AdversarialTraining:
    """A generator with the critic of a plan."""
    pair = plan.adversarial
    assert pair is not None
    if not isinstance(network, LatentGenerator):
        raise PlanError(
            "layers: an adversarial pair has one layer of the kind latent_generator here, whose "
            "body makes the examples."
        )
    return AdversarialTraining(
        network,
        parts.critic,
        loss=pair.loss,
        penalty=pair.penalty,
        limit=pair.limit,
        critic_steps=pair.critic_steps,
        optimiser=parts.optimiser,
        critic_optimiser=parts.critic_optimiser,
        schedule=parts.schedule,
        critic_schedule=parts.critic_schedule,
        clip=plan.clip,
        critic_clip=pair.critic_clip,
        average=plan.weight_average(),
        ranks=plan.rank_settings(),
        seed=plan.seed,
    )


def _stratified_by(asked: bool | str, source: Source) -> bool | str:
    """By the classes of which target the parts are to be alike, if by any: not by those of places
    of sequences and pictures, unless that was asked for.
    """
    classes = source.class_values
    if source.splits_by_file and asked is True:
        return False
    if isinstance(classes, dict) and asked is True:
        return next((name for name, values in classes.items() if values), False)
    if isinstance(asked, str) or not asked or not classes:
        return asked if isinstance(asked, str) else False
    return not source.knows_labels or source.labels() is not None
