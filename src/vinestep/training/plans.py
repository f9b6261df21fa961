"""Plans: what a run is asked to do, as a TOML file, checked before anything is done."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, PositiveInt, ValidationError, model_validator

from .. import losses
from ..data.table import Table, scaled
from ..errors import PlanError, SettingError, did_you_mean
from ..parts.building import LAYERS, Builder
from .loop import Outcome, Training
from .observers import Checkpoints, Curves, Observer

__all__ = ["Plan", "PlannedRun", "own_parts", "read_plan"]

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


class _Parts:
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
        self.table = self._read(plan.data.source)
        self.train, self.validation, self.test = self._divided()
        parts = _Parts(plan, self.table.classes, bool(self.table.class_names), own)
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
        options |= plan.model_dump(include={"unseen_categories", "missing_columns"})
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
        return scaled(*(parts[name] for name in ("training", "validation", "test")))

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
    known = values.get("set", [])
    values["set"] = [*(known if isinstance(known, list) else []), *settings]
    for setting in values["set"]:
        _set(values, str(setting))
    return _checked(values, source, own)


def _checked(values: dict[str, Any], source: Path, own: Iterable[Any]) -> Plan:
    try:
        plan = Plan.model_validate(values)
    except ValidationError as error:
        faults = [_fault(dict(fault)) for fault in error.errors()]
    else:
        faults = [str(fault) for fault in _Parts(plan, MANY_CLASSES, True, own).faults]
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


def _set(values: dict[str, Any], setting: str) -> None:
    """Put ``path=value`` into a tree of tables and lists; the value is TOML, or else a text."""
    path, sign, text = setting.partition("=")
    keys = path.strip().split(".")
    if not sign or not all(keys):
        raise SettingError(f"--set {setting}: write NAME=VALUE, such as optimiser.rate=0.01.")
    try:
        value = tomllib.loads(f"value = {text}")["value"]
    except tomllib.TOMLDecodeError:
        value = text.strip()
    at: Any = values
    for number, key in enumerate(keys):
        last = number == len(keys) - 1
        if isinstance(at, list):
            if not key.isdigit() or int(key) >= len(at):
                raise SettingError(
                    f"--set {setting}: {'.'.join(keys[:number])} has {len(at)} entries, counted from 0; there is no {key!r}."
                )
            index: Any = int(key)
        elif isinstance(at, dict):
            index = key
            if not last and isinstance(at.get(key, {}), str):
                at[key] = {"kind": at[key]}
            at.setdefault(key, {})
        else:
            raise SettingError(f"--set {setting}: {'.'.join(keys[:number])} is {at!r}, which has nothing in it to set.")
        if last:
            at[index] = value
        elif isinstance(at[index], str):
            at[index] = {"kind": at[index]}
        at = at[index]


def own_parts(file: str | os.PathLike[str]) -> list[Any]:
    """The parts that a Python file defines, by `vinestep.parts.part`. The file is run.

    Raises
    ------
    PlanError
        If it cannot be read or run, or defines none.
    """
    import runpy

    path = Path(file)
    if not path.is_file():
        raise PlanError(f"{path}: there is no such file.")
    try:
        names = runpy.run_path(str(path))
    except Exception as error:  # whatever a user's own code raises
        raise PlanError(f"{path}: {type(error).__name__}: {error}") from error
    found = [value for value in names.values() if hasattr(value, "__dict__") and "__vinestep_kind__" in vars(value)]
    found = [value for value in found if value.__module__ == "<run_path>"]
    if not found:
        raise PlanError(f'{path}: it defines no part. Put @vinestep.parts.part("kind") above a class or function of yours.')
    return found
