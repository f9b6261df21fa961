"""Plans: what a run is asked to do, as a TOML file, checked before anything is done."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, PositiveInt, ValidationError, model_validator

from ..errors import PlanError, did_you_mean
from ..parts.building import LAYERS, Builder
from .overrides import put

__all__ = ["DEMO", "Plan", "PlannedParts", "read_plan"]

DEMO = "demo:"
CLASSES = "classes"
"""Stands for the number of classes of the target, or 1 if it is a number."""
MANY_CLASSES = 2  # for checking a plan before its data is read
Fraction = Annotated[float, Field(gt=0, le=1)]
Described = Any


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


class DataPlan(_Part):
    source: str
    """A CSV file, relative to the plan, or ``demo:`` and the name of a demo table."""
    validation: str | None = None
    """A file of its own for validation."""
    test: str | None = None
    target: str
    classes: bool | None = None
    leave_out: list[str] = []
    drop_missing_target: bool = False
    unseen_categories: Literal["refuse", "zeros"] = "refuse"
    missing_columns: Literal["refuse", "gaps"] = "refuse"
    ordered: dict[str, list[str]] = {}
    """Columns of categories with an order, from first to last."""
    dates: list[str] = []
    rare: Annotated[int, Field(ge=0)] = 0
    """Categories with fewer rows than this are one together."""
    log_target: bool = False
    scale: Literal["standard", "range", "robust"] = "standard"
    fill: Literal["mean", "median", "most_frequent"] = "mean"
    split: list[Fraction] | None = None
    """Training, validation and test, but for those that have files of their own."""
    stratified: bool = True
    batch: PositiveInt = 32

    @model_validator(mode="after")
    def _split_fits(self) -> DataPlan:
        if self.split is not None and len(self.split) != self.parts:
            raise ValueError(f"split: {self.parts} fractions are wanted, for {', '.join(self.names)}; got {len(self.split)}")
        return self

    @property
    def names(self) -> list[str]:
        """Of the parts that the source is divided into."""
        return ["training", *(["validation"] if self.validation is None else []), *(["test"] if self.test is None else [])]

    @property
    def parts(self) -> int:
        return len(self.names)

    @property
    def fractions(self) -> list[float]:
        return self.split or {1: [1.0], 2: [0.85, 0.15], 3: [0.7, 0.15, 0.15]}[self.parts]


class Plan(_Part):
    """Everything a run needs to know. Parts are described as `vinestep.parts.describe` does it, or named by their kind.

    Examples
    --------
    >>> plan = Plan.model_validate({"epochs": 2, "data": {"source": "demo:parcels", "target": "parcel"}, "layers": []})
    >>> plan.optimiser, plan.data.fractions
    ('adam', [0.7, 0.15, 0.15])
    """

    name: Annotated[str, Field(min_length=1)] = "run"
    seed: Annotated[int, Field(ge=0)] = 0
    epochs: PositiveInt
    precision: Literal["float32", "float64"] = "float32"
    clip: Annotated[float, Field(gt=0)] | None = None
    loss: Described = None
    """By default cross-entropy for classes, squared error for numbers."""
    metrics: list[Described] | None = None
    """By default accuracy for classes, absolute error for numbers."""
    set: list[str] = []
    """What was set on the command line, ``"optimiser.rate=0.01"``; it overrides what stands elsewhere in the plan."""
    data: DataPlan
    layers: list[Described]
    """The whole network, one layer after another; ``width = "classes"`` makes one as wide as the target asks for."""
    optimiser: Described = "adam"
    schedule: list[Described] = []
    """One after another."""
    observers: list[Described] = []

    def as_toml(self) -> dict[str, Any]:
        """As a dict that TOML can hold: keys that are not set are left out."""
        return self.model_dump(exclude_none=True)


class PlannedParts:
    """The parts that a plan describes, for a target of so many classes."""

    def __init__(self, plan: Plan, classes: int, is_classes: bool, own: Iterable[Any]) -> None:
        builder = Builder(own)
        usual_loss, usual_metric = ("cross_entropy", "accuracy") if is_classes else ("squared_error", "absolute_error")
        described = _with_classes(plan.layers, classes)
        self.network = builder.part({"kind": "stack", "layers": described}, "", LAYERS)
        self.loss = builder.part(plan.loss if plan.loss is not None else usual_loss, "loss", ("loss",))
        listed = plan.metrics if plan.metrics is not None else [usual_metric]
        self.metrics = [builder.part(item, f"metrics.{i}", ("metric",)) for i, item in enumerate(listed)]
        self.optimiser = builder.part(plan.optimiser, "optimiser", ("optimiser",))
        self.schedule = builder.part({"kind": "in_turn", "schedules": plan.schedule}, "schedule", ("schedule",)) if plan.schedule else None
        self.observers = [builder.part(item, f"observers.{i}", ("observer",)) for i, item in enumerate(plan.observers)]
        self.faults = [fault._replace(place=fault.place.replace("schedule.schedules.", "schedule.")) for fault in builder.faults]


def _with_classes(tree: Any, classes: int) -> Any:
    if isinstance(tree, Mapping):
        return {key: _with_classes(value, classes) for key, value in tree.items()}
    if isinstance(tree, list):
        return [_with_classes(item, classes) for item in tree]
    return classes if tree == CLASSES else tree


def read_plan(path: str | os.PathLike[str], *, settings: Sequence[str] = (), own: Iterable[Any] = ()) -> Plan:
    """Read and check a plan.

    Parameters
    ----------
    path : path
    settings : sequence of str
        What is to be different from the file, such as ``"optimiser.rate=0.01"`` or ``"layers.0.width=64"``.
    own : sequence of classes and functions
        Parts of one's own that the plan names.

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
            f"{source}: this plan records a run started in Python, whose data is not in a file that the plan names. Set the Training up "
            f"as there and continue with training.run(..., resume={str(source.parent)!r})."
        )
    values.setdefault("optimiser", Plan.model_fields["optimiser"].default)
    known = values.get("set", [])
    values["set"] = [*(known if isinstance(known, list) else []), *settings]
    for setting in values["set"]:
        put(values, str(setting))
    return _checked(values, source, own)


def _checked(values: dict[str, Any], source: Path, own: Iterable[Any]) -> Plan:
    try:
        plan = Plan.model_validate(values)
    except ValidationError as error:
        faults = [_fault(dict(fault)) for fault in error.errors()]
    else:
        faults = [str(fault) for fault in PlannedParts(plan, MANY_CLASSES, True, own).faults]
        if not faults:
            return plan
    listed = "\n".join(f"  {line}" for fault in faults for line in fault.splitlines())
    raise PlanError(f"{source}: the plan cannot be followed:\n{listed}")


def _fault(fault: dict[str, Any]) -> str:
    """One fault in words: the key, what came, what is allowed."""
    place = fault["loc"]
    key = ".".join(map(str, place)) or "the plan"
    if fault["type"] == "extra_forbidden":
        return f"{key}: unknown key. {did_you_mean(str(place[-1]), (DataPlan if place[0] == 'data' else Plan).model_fields)}"
    if fault["type"] == "missing":
        return f"{key}: missing. Add it."
    if fault["type"] == "value_error":
        return f"{key}.{fault['ctx']['error']!s}."
    return f"{key}: {fault['msg'][0].lower()}{fault['msg'][1:]}, got {fault['input']!r}."
