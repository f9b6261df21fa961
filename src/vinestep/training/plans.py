"""Plans: what a run is asked to do, as a TOML file, checked before anything is done."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, PositiveInt, ValidationError, model_validator

from .. import activations, losses, metrics, optimisers, schedules
from ..data.table import Table, scaled
from ..errors import PlanError, did_you_mean
from ..layers import Dense, Dropout, Stack
from ..layers.base import LayerLike
from .loop import Outcome, Training
from .observers import Checkpoints, Curves, Observer, Patience

__all__ = ["Plan", "PlannedRun", "read_plan"]

DEMO = "demo:"
Share = Annotated[float, Field(ge=0, lt=1)]
Positive = Annotated[float, Field(gt=0)]
ActivationName = Literal["relu", "leaky_relu", "sigmoid", "tanh"]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


class DataPlan(_Part):
    source: str
    """A CSV file, relative to the plan, or ``demo:`` and the name of a demo table."""
    target: str
    classes: bool | None = None
    leave_out: list[str] = []
    split: Annotated[list[Annotated[float, Field(gt=0, le=1)]], Field(min_length=3, max_length=3)] = [0.7, 0.15, 0.15]
    """Training, validation and test."""
    stratified: bool = True
    batch: PositiveInt = 32


class DensePlan(_Part):
    kind: Literal["dense"]
    width: PositiveInt
    activation: ActivationName | None = None


class DropoutPlan(_Part):
    kind: Literal["dropout"]
    probability: Share


LayerPlan = Annotated[DensePlan | DropoutPlan, Field(discriminator="kind")]


class AdamPlan(_Part):
    kind: Literal["adam"]
    rate: Positive = 1e-3
    weight_decay: Annotated[float, Field(ge=0)] = 0.0
    beta1: Share = 0.9
    beta2: Share = 0.999


class SGDPlan(_Part):
    kind: Literal["sgd"]
    rate: Positive
    momentum: Share = 0.0
    nesterov: bool = False
    weight_decay: Annotated[float, Field(ge=0)] = 0.0


OptimiserPlan = Annotated[AdamPlan | SGDPlan, Field(discriminator="kind")]


class ConstantPlan(_Part):
    kind: Literal["constant"]
    steps: PositiveInt | None = None


class WarmupPlan(_Part):
    kind: Literal["warmup"]
    steps: PositiveInt


class CosinePlan(_Part):
    kind: Literal["cosine"]
    steps: PositiveInt
    floor: Share = 0.0


class StepDecayPlan(_Part):
    kind: Literal["step_decay"]
    every: PositiveInt
    factor: Share = 0.5


SchedulePlan = Annotated[ConstantPlan | WarmupPlan | CosinePlan | StepDecayPlan, Field(discriminator="kind")]


class CheckpointPlan(_Part):
    every: PositiveInt | None = None
    """Steps between two; after each epoch in any case."""
    keep: PositiveInt = 2
    best_by: str | None = None


class Plan(_Part):
    """Everything a run needs to know.

    Examples
    --------
    >>> plan = Plan.model_validate({"epochs": 2, "data": {"source": "demo:parcels", "target": "parcel"}, "layers": []})
    >>> plan.optimiser.kind, plan.data.split
    ('adam', [0.7, 0.15, 0.15])
    """

    name: Annotated[str, Field(min_length=1)] = "run"
    seed: Annotated[int, Field(ge=0)] = 0
    epochs: PositiveInt
    data: DataPlan
    layers: list[LayerPlan]
    """Hidden layers; the last one, as wide as the target asks for, is added."""
    clip: Positive | None = None
    patience: PositiveInt | None = None
    optimiser: OptimiserPlan = AdamPlan(kind="adam")
    schedule: list[SchedulePlan] = []
    checkpoints: CheckpointPlan = CheckpointPlan()

    @model_validator(mode="after")
    def _schedule_goes_on(self) -> Plan:
        for part in self.schedule[:-1]:
            if isinstance(part, StepDecayPlan) or (isinstance(part, ConstantPlan) and part.steps is None):
                raise ValueError(f"schedule: {part.kind} has no end, so nothing can follow it")
        return self

    def as_toml(self) -> dict[str, Any]:
        """As a dict that TOML can hold: keys that are not set are left out."""
        return self.model_dump(exclude_none=True)


class PlannedRun:
    """The parts of a run that a plan describes, ready to go.

    Parameters
    ----------
    plan : Plan
    base : path
        Folder that the data's path is relative to.
    """

    def __init__(self, plan: Plan, base: Path) -> None:
        self.plan = plan
        self.base = base
        self.table = _table(plan.data, base)
        parts = self.table.split(*plan.data.split, seed=plan.seed, stratified=plan.data.stratified and bool(self.table.class_names))
        self.train, self.validation, self.test = scaled(*parts)
        self.training = Training(
            _network(plan, self.table.classes),
            loss=losses.cross_entropy if self.table.class_names else losses.squared_error,
            optimiser=_optimiser(plan),
            schedule=_schedule(plan),
            metrics=[metrics.accuracy if self.table.class_names else metrics.absolute_error],
            clip=plan.clip,
            seed=plan.seed,
        )

    def observers(self) -> list[Observer]:
        every, keep = self.plan.checkpoints.every, self.plan.checkpoints.keep
        found: list[Observer] = [Curves(), Checkpoints("best", by=self.plan.checkpoints.best_by, every=every, keep=keep)]
        return [*found, Patience(self.plan.patience)] if self.plan.patience else found

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
        return self.training.run(
            self.train.batches(size),
            validation=self.validation.batches(max(size, 256)),
            epochs=self.plan.epochs,
            observers=[*self.observers(), *observers],
            record=record,
            resume=resume,
            changed=changed,
            name=self.plan.name,
            plan=self.recorded_plan(),
        )

    def recorded_plan(self) -> dict[str, Any]:
        """The plan with the data's full path, so that the run can be continued from anywhere."""
        plan = self.plan.as_toml()
        if not self.plan.data.source.startswith(DEMO):
            plan["data"]["source"] = str((self.base / self.plan.data.source).resolve())
        return plan

    def scores(self) -> dict[str, dict[str, float]]:
        """Loss and metric of the three parts."""
        parts = {"training": self.train, "validation": self.validation, "test": self.test}
        return {name: self.training.assess(part.batches(256)) for name, part in parts.items()}


def read_plan(path: str | os.PathLike[str]) -> Plan:
    """Read and check a plan.

    Raises
    ------
    PlanError
        If the file is missing or no TOML, or a key is unknown, missing or of the wrong kind; each is named.
    """
    source = Path(path)
    try:
        text = source.read_text()
    except OSError as error:
        raise PlanError(f"{source}: the plan cannot be read: {error.strerror}.") from error
    try:
        values = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise PlanError(f"{source}: not valid TOML: {error}.") from error
    if values.get("written_by"):
        raise PlanError(
            f"{source}: this plan records a run started in Python, whose network is Python code. Set the Training up as there "
            f"and continue with training.run(..., resume={str(source.parent)!r})."
        )
    try:
        return Plan.model_validate(values)
    except ValidationError as error:
        faults = "\n".join(f"  {_fault(dict(fault), values)}" for fault in error.errors())
        raise PlanError(f"{source}: the plan cannot be followed:\n{faults}") from error


def _fault(fault: dict[str, Any], values: dict[str, Any]) -> str:
    """One fault in words: the key, what came, what is allowed."""
    kinds = {"dense", "dropout", "adam", "sgd", "constant", "warmup", "cosine", "step_decay"}
    place = [part for part in fault["loc"] if part not in kinds]
    key = ".".join(str(part) for part in place) or "the plan"
    if fault["type"] == "extra_forbidden":
        return f"{key}: unknown key. {did_you_mean(str(place[-1]), _keys_beside(fault['loc']))}"
    if fault["type"] == "missing":
        return f"{key}: missing. Add it."
    if fault["type"] == "union_tag_invalid":
        return f"{key}.kind: {fault['ctx']['tag']!r} is not known. Allowed: {fault['ctx']['expected_tags']}."
    if fault["type"] == "union_tag_not_found":
        return f"{key}.kind: missing. It says which kind is meant."
    if fault["type"] == "literal_error":
        return f"{key}: {fault['input']!r} is not known. Allowed: {fault['ctx']['expected']}."
    return f"{key}: {fault['msg'][0].lower()}{fault['msg'][1:]}, got {fault['input']!r}."


_BY_KIND = {
    "dense": DensePlan,
    "dropout": DropoutPlan,
    "adam": AdamPlan,
    "sgd": SGDPlan,
    "constant": ConstantPlan,
    "warmup": WarmupPlan,
    "cosine": CosinePlan,
    "step_decay": StepDecayPlan,
    "data": DataPlan,
    "checkpoints": CheckpointPlan,
}


def _keys_beside(location: tuple[Any, ...]) -> list[str]:
    """Keys that are known where an unknown one was found."""
    model: type[BaseModel] = Plan
    for part in location[:-1]:
        model = _BY_KIND.get(str(part), model)  # type: ignore[assignment]
    return list(model.model_fields)


def _table(plan: DataPlan, base: Path) -> Table:
    if not plan.source.startswith(DEMO):
        return Table(base / plan.source, target=plan.target, classes=plan.classes, leave_out=plan.leave_out)
    from .. import demo

    name = plan.source.removeprefix(DEMO)
    if name not in demo.TABLES:
        raise PlanError(f"data.source: there is no demo table {name!r}. {did_you_mean(name, demo.TABLES)}")
    return Table(getattr(demo, name)(), target=plan.target, classes=plan.classes, leave_out=plan.leave_out)


_ACTIVATIONS: dict[str, LayerLike] = {
    "relu": activations.relu,
    "leaky_relu": activations.leaky_relu,
    "sigmoid": activations.sigmoid,
    "tanh": np.tanh,
}


def _network(plan: Plan, outputs: int) -> Stack:
    layers: list[LayerLike] = []
    for part in plan.layers:
        if isinstance(part, DropoutPlan):
            layers.append(Dropout(part.probability))
            continue
        layers.append(Dense(part.width))
        layers += [_ACTIVATIONS[part.activation]] if part.activation else []
    return Stack(*layers, Dense(outputs))


def _optimiser(plan: Plan) -> optimisers.Optimiser:
    settings = plan.optimiser.model_dump(exclude={"kind"})
    return optimisers.Adam(**settings) if isinstance(plan.optimiser, AdamPlan) else optimisers.SGD(**settings)


def _schedule(plan: Plan) -> schedules.Schedule | None:
    if not plan.schedule:
        return None
    makers: dict[str, Any] = {
        "constant": schedules.constant,
        "warmup": schedules.warmup,
        "cosine": schedules.cosine,
        "step_decay": schedules.step_decay,
    }
    made: list[schedules.Schedule] = [makers[part.kind](**part.model_dump(exclude={"kind"})) for part in plan.schedule]
    whole = made[0]
    for part in made[1:]:
        whole = whole.then(part)
    return whole
