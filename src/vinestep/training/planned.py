"""The run that a plan describes."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from .. import losses
from ..data.table import Table, scaled
from ..errors import PlanError, did_you_mean
from .observers import Checkpoints, Curves, Observer
from .plans import DEMO, Plan, PlannedParts
from .records import Outcome
from .training import Training

if TYPE_CHECKING:
    from ..model import Model
    from ..scores import Assessment

__all__ = ["PlannedRun"]


class PlannedRun:
    """The parts of a run that a plan describes, ready to go.

    Parameters
    ----------
    plan : Plan
    base : path
        Folder that the data's path is relative to.
    own : sequence of classes and functions
        Parts of one's own that the plan names.
    """

    def __init__(self, plan: Plan, base: Path, *, own: Iterable[Any] = ()) -> None:
        self.plan = plan
        self.base = base
        own = list(own)
        self.table = self._read(plan.data.source)
        self.train, self.validation, self.test = self._divided()
        parts = PlannedParts(plan, self.table.classes, bool(self.table.class_names), own)
        if parts.faults:
            raise PlanError("\n".join(map(str, parts.faults)))
        self.training = Training(
            parts.network,
            loss=parts.loss,
            optimiser=parts.optimiser,
            schedule=parts.schedule,
            metrics=parts.metrics,
            clip=plan.clip,
            seed=plan.seed,
        )
        self._observers: list[Observer] = parts.observers
        self._listening: list[Observer] = []
        self._own = own
        width = self.training.network.initialise(self.train.inputs[:1], seed=plan.seed, dtype=plan.precision)(self.train.inputs[:1]).shape[
            -1
        ]
        if self.table.class_names and parts.loss is losses.cross_entropy and width != self.table.classes:
            raise PlanError(
                f"layers: the network gives {width} values, and the target {plan.data.target!r} has {self.table.classes} classes. Make the "
                'last layer as wide: {kind = "dense", width = "classes"}.'
            )

    def _read(self, source: str) -> Table:
        plan = self.plan.data
        options: dict[str, Any] = plan.model_dump(include={"target", "classes", "leave_out", "drop_missing_target"})
        options |= plan.model_dump(include={"unseen_categories", "missing_columns", "ordered", "dates", "rare", "log_target"})
        if not source.startswith(DEMO):
            return Table(self.base / source, **options)
        from .. import demo

        name = source.removeprefix(DEMO)
        if name not in demo.TABLES:
            raise PlanError(f"data.source: there is no demo table {name!r}. {did_you_mean(name, demo.TABLES)}")
        return Table(getattr(demo, name)(), **options)

    def _divided(self) -> list[Table]:
        plan = self.plan.data
        stratified = plan.stratified and bool(self.table.class_names)
        parts = dict(zip(plan.names, self.table.split(*plan.fractions, seed=self.plan.seed, stratified=stratified), strict=True))
        for name, file in (("validation", plan.validation), ("test", plan.test)):
            if file is not None:
                parts[name] = self.table.like(self.base / file)
        return scaled(*(parts[name] for name in ("training", "validation", "test")), how=plan.scale, fill=plan.fill)

    def best_model(self, outcome: Outcome) -> Model | None:
        """The model of the best state of a run, if one was kept."""
        from ..model import open_model

        for observer in self._listening:
            if isinstance(observer, Checkpoints) and (file := observer.best_file(outcome)) is not None:
                return open_model(file, own=self._own)
        return None

    def assess(self, model: Model) -> dict[str, Assessment]:
        """A model scored on the three parts of the data."""
        from ..scores import assess

        found = {}
        for name, part in self.parts.items():
            assert model.loss is not None
            found[name] = assess(model.outputs(part.inputs), part.targets, model.loss, model.metrics)
        return found

    def observers(self) -> list[Observer]:
        """Those planned, and what writes curves and the best states if the plan does not say otherwise."""
        usual: list[Observer] = [Curves(), Checkpoints("best")]
        planned = self._observers
        return [*(o for o in usual if not any(isinstance(p, type(o)) for p in planned)), *planned]

    def run(
        self,
        *,
        record: str | os.PathLike[str] | None = None,
        resume: str | os.PathLike[str] | None = None,
        changed: Sequence[str] = (),
        observers: Sequence[Observer] = (),
    ) -> Outcome:
        """Train as planned; see `Training.run`."""
        size = self.plan.data.batch
        recorded = record is not None or resume is not None
        self._listening = [*(self.observers() if recorded else self._observers), *observers]
        return self.training.run(
            self.train.batches(size),
            validation=self.validation.batches(max(size, 256)),
            test=self.test.batches(max(size, 256)),
            epochs=self.plan.epochs,
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
            if file is not None and not file.startswith(DEMO):
                plan["data"][key] = str((self.base / file).resolve())
        return plan

    @property
    def parts(self) -> dict[str, Table]:
        """The three parts of the data by name."""
        return {"training": self.train, "validation": self.validation, "test": self.test}
