"""Plans: what a run is asked to do, as a TOML file, checked before anything is done."""

from __future__ import annotations

import inspect
import os
import tomllib
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, PositiveInt, ValidationError, model_validator

from ..._public_names import did_you_mean
from ...distributed._settings import Ranks
from ...errors import PlanError, SettingError
from ...layers._base import Layer
from ...layers._containers import Stack
from ...layers._pipeline import Pipeline
from ...parts._build import LAYERS, Builder
from ...parts._registry import library
from ...tasks._base import Task
from ...tasks._generative import Generative
from ...tasks._several import Several
from ...tasks._task_of import task_of
from ..run._ending import ending_of
from ..run._validation import validation_spacing
from ..step._averaging import WeightAverage
from ..step._half_precision import HalfPrecision
from ._overrides import apply_override

__all__ = ["DEMO", "Plan", "PlannedParts", "read_plan"]

DEMO = "demo:"
MANY = {"classes": 3, "tokens": 16}  # for checking a plan before its data is read
Target = Literal["classes", "tokens", "numbers"]
USUAL: dict[Target, tuple[Any, str]] = {
    "classes": ("cross_entropy", "accuracy"),
    "tokens": ({"kind": "cross_entropy", "ignored": -1}, "perplexity"),
    "numbers": ("squared_error", "absolute_error"),
}
"""Loss and metric of a plan that says nothing of them."""
OF_TABLES = (
    *(
        "target",
        "targets",
        "classes",
        "target_gaps",
        "weight",
        "inputs",
        "groups",
        "by",
        "leave_out",
        "drop_missing_target",
        "unseen_categories",
        "missing_columns",
        "ordered",
        "dates",
    ),
    *("rare", "feature_hashing", "literal", "log_target"),
)
Fraction = Annotated[float, Field(gt=0, le=1)]
Described = Any


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, strict=True)


class FoldPlan(_Part):
    """Which fold of a cross-validation is the test part."""

    number: PositiveInt
    """From 1."""
    of: Annotated[int, Field(ge=2)]
    seed: Annotated[int, Field(ge=0)] = 0
    """Of the division."""

    @model_validator(mode="after")
    def _is_there(self) -> FoldPlan:
        if self.number > self.of:
            raise SettingError(f"number: there is no fold {self.number} of {self.of}")
        return self


class DataPlan(_Part):
    source: Described
    """A CSV or Parquet file, relative to the plan, ``demo:`` and the name of a demo set, or a
    source described by kind and settings.
    """
    validation: str | None = None
    """A file or folder of its own for validation, read as the source is."""
    test: str | None = None
    target: str | None = None
    """This and what follows, up to `fill`, is of tables."""
    targets: list[str] = []
    """Several columns to learn, in place of `target`."""
    classes: bool | list[str] | None = None
    target_gaps: bool = False
    """Whether targets may be missing, which do not count."""
    weight: str = ""
    """Column that says what each row weighs."""
    inputs: dict[str, list[str]] = {}
    """Several inputs by name, each of some columns; others are left out."""
    leave_out: list[str] = []
    drop_missing_target: bool = False
    unseen_categories: Literal["refuse", "zeros"] = "refuse"
    missing_columns: Literal["refuse", "gaps"] = "refuse"
    ordered: dict[str, list[str]] = {}
    """Columns of categories with an order, from first to last."""
    dates: list[str] = []
    rare: Annotated[int, Field(ge=0)] = 0
    """Categories with fewer rows than this are one together."""
    feature_hashing: dict[str, Annotated[int, Field(ge=2)]] = {}
    """Columns of many categories, and how many features each becomes by a hash."""
    literal: list[str] = []
    """Columns of a CSV file in which only empty cells are missing."""
    log_target: bool = False
    scale: Literal["standard", "range", "robust"] = "standard"
    fill: Literal["mean", "median", "most_frequent"] = "mean"
    split: list[Fraction] | None = None
    """Training, validation and test, but for those that have files of their own."""
    stratified: bool | str = True
    """Of several targets the one by whose classes the parts are to be alike; by default the first
    that has classes.
    """
    groups: str = ""
    """Column of a table; rows of one group stay in one part. It is no feature."""
    by: str = ""
    """Column of times; the last part is of the latest rows."""
    seed: Annotated[int, Field(ge=0)] | None = None
    """Of the division into parts; by default that of the plan."""
    fold: FoldPlan | None = None
    """In place of a test part by fraction, a fold of the whole. Where `split` has a fraction for
    the test part, the others share it in their proportion.
    """
    batch: PositiveInt = 32
    drop_partial: bool = False
    prepare: list[Described] = []
    """Transforms of every example, kept with the model."""
    augment: list[Described] = []
    """Transforms at random, of the training part."""
    order: Described = None
    join: Described = None
    """How examples become a batch, such as ``padded``."""
    readers: Annotated[int, Field(ge=0)] = 0

    @model_validator(mode="after")
    def _divided_in_one_way(self) -> DataPlan:
        if self.fold is not None and self.test is not None:
            raise SettingError("fold: it is the test part, and a file of its own is given, too")
        if self.groups and self.by:
            raise SettingError("by: times decide alone what goes where. Leave out groups")
        return self

    @model_validator(mode="after")
    def _split_fits(self) -> DataPlan:
        if self.split is not None and len(self.split) not in (self.parts, self._parts_written):
            raise SettingError(
                f"split: {self.parts} fractions are wanted, for {', '.join(self.names)}; got "
                f"{len(self.split)}"
            )
        return self

    @model_validator(mode="after")
    def _settings_fit_the_source(self) -> DataPlan:
        if self.is_table and (self.target is None) is (not self.targets):
            raise SettingError(
                "target: missing, or given beside targets. Name the column to be learned, or "
                "several: targets = [...]"
            )
        if not self.is_table:
            given = [
                name
                for name in OF_TABLES
                if getattr(self, name) != type(self).model_fields[name].default
            ]
            if given:
                raise SettingError(
                    f"{given[0]}: it is a setting of tables in files, and the source is described "
                    "by its kind"
                )
        elif self.prepare:
            raise SettingError(
                "prepare: it is for pictures and series; columns of tables are brought to one "
                "scale by scale and fill"
            )
        return self

    @property
    def is_table(self) -> bool:
        """Whether the source is a table by the name of its file, or of the demo."""
        return isinstance(self.source, str) and self.demo_source is None

    @property
    def demo_source(self) -> str | None:
        """The kind of a demo set that is no table."""
        kind = (
            f"demo_{self.source.removeprefix(DEMO)}"
            if isinstance(self.source, str) and self.source.startswith(DEMO)
            else ""
        )
        return kind if kind in library() else None

    @property
    def described_source(self) -> Any:
        """The source in the notation of parts; None of a table by the name of its file."""
        return None if self.is_table else self.demo_source or self.source

    @property
    def names(self) -> list[str]:
        """Of the parts that the source is divided into."""
        return [
            "training",
            *(["validation"] if self.validation is None else []),
            *(["test"] if self.test is None and self.fold is None else []),
        ]

    @property
    def parts(self) -> int:
        return len(self.names)

    @property
    def _parts_written(self) -> int:
        """How many fractions a plan has that is divided into folds, though it was not written for
        that.
        """
        return self.parts + (self.fold is not None)

    @property
    def fractions(self) -> list[float]:
        if self.split is not None and len(self.split) > self.parts:
            kept = self.split[: self.parts]
            return [fraction / sum(kept) for fraction in kept]
        return self.split or {1: [1.0], 2: [0.85, 0.15], 3: [0.7, 0.15, 0.15]}[self.parts]


class CodesPlan(_Part):
    """Weights of the loaded network that are held in few bits; see `vinestep.layers.quantised`."""

    patterns: list[str] = ["*"]
    bits: Literal[4, 8] = 4
    codes: Literal["normal", "symmetric"] = "normal"
    block: PositiveInt = 64
    double: bool = True


class AdaptersPlan(_Part):
    """Low-rank adapters beside weights of the loaded network; see `vinestep.layers.adapted`."""

    patterns: list[str] = ["*"]
    rank: PositiveInt = 8
    scale: float | None = None
    dropout: Annotated[float, Field(ge=0, lt=1)] = 0.0
    train: list[str] = []
    """Patterns of other parameters that train, too, such as a new head."""


class AdversarialPlan(_Part):
    """A critic that the network, a latent generator, is trained against; see
    `vinestep.AdversarialTraining`.
    """

    critic: list[Described]
    """The critic's layers."""
    loss: Literal["wasserstein", "clipped", "non_saturating", "hinge"] = "wasserstein"
    penalty: Annotated[float, Field(ge=0)] | None = None
    limit: Annotated[float, Field(gt=0)] = 0.01
    critic_steps: PositiveInt = 5
    critic_optimiser: Described = "adam"
    critic_schedule: list[Described] = []
    critic_clip: Annotated[float, Field(gt=0)] | None = None


class Plan(_Part):
    """Everything a run needs to know. Parts are described as `vinestep.parts.describe` does it, or
    named by their kind.

    Examples
    --------
    >>> plan = Plan.model_validate(
    ...     {"epochs": 2, "data": {"source": "demo:parcels", "target": "parcel"}, "layers": []}
    ... )
    >>> plan.optimiser, plan.data.fractions
    ('adam', [0.7, 0.15, 0.15])
    """

    name: Annotated[str, Field(min_length=1)] = "run"
    seed: Annotated[int, Field(ge=0)] = 0
    epochs: PositiveInt | None = None
    steps: PositiveInt | None = None
    until: str | None = None
    """When the run ends, in words: ``"60 epochs or 30 minutes or no gain for 8 epochs"``; in place
    of `epochs` or `steps`.
    """
    precision: Literal["float32", "float64"] = "float32"
    clip: Annotated[float, Field(gt=0)] | None = None
    clip_values: Annotated[float, Field(gt=0)] | None = None
    accumulate: PositiveInt = 1
    average: dict[str, Any] | None = None
    """Settings of `WeightAverage`: ``{decay = 0.999}``."""
    half: dict[str, Any] | None = None
    """Settings of `HalfPrecision`, ``{}`` for the usual ones."""
    ranks: dict[str, Any] | None = None
    """Settings of `vinestep.distributed.Ranks`: ``{partition_optimiser = true}``."""
    validate_every: PositiveInt | str = 1
    """Epochs, or in words: ``"500 steps"``."""
    loss: Described = None
    """By default cross-entropy for classes, squared error for numbers."""
    task: Described = None
    """What the outputs mean, in place of a loss: ``"binary"``, or ``{kind = "several", ...}``."""
    metrics: list[Described] | dict[str, list[Described]] | None = None
    """By default accuracy for classes, perplexity for tokens, absolute error for numbers; of
    several targets those of each by its name.
    """
    set: list[str] = []
    """What was set on the command line, ``"optimiser.rate=0.01"``; it overrides what stands
    elsewhere in the plan.
    """
    start_from: str | None = None
    """A run, a state or a model file, relative to the plan, whose weights training begins with; see
    `start_pattern`.
    """
    start_pattern: str = "*"
    codes: CodesPlan | None = None
    """Of what was loaded, what is held in few bits; it does not train."""
    adapters: AdaptersPlan | None = None
    """Beside what was loaded; only they train."""
    adversarial: AdversarialPlan | None = None
    freeze: list[str] = []
    """Patterns of parameters that do not train, such as ``"0/*"``."""
    data: DataPlan
    layers: list[Described]
    """The whole network, one layer after another; ``width = "classes"`` makes one as wide as the
    target asks for.
    """
    optimiser: Described = "adam"
    schedule: list[Described] = []
    """One after another."""
    observers: list[Described] = []

    @model_validator(mode="after")
    def _has_an_end(self) -> Plan:
        try:
            ending_of(self.epochs, self.steps, self.until)
        except SettingError as error:
            raise SettingError(
                f"{'until' if self.until else 'epochs'}: {error}".rstrip(".")
            ) from error
        try:
            validation_spacing(self.validate_every)
        except SettingError as error:
            raise SettingError(f"validate_every: {error}".rstrip(".")) from error
        if self.task is not None and self.loss is not None:
            raise SettingError(
                "task: given beside a loss. A task has its own; leave one of them out"
            )
        if self.adversarial is not None:
            self._check_adversarial()
        for name in ("codes", "adapters"):
            if getattr(self, name) is not None and self.start_from is None:
                raise SettingError(
                    f"{name}: it is for weights that are trained already. Say which: start_from"
                )
        for name, made in (
            ("average", self.weight_average),
            ("half", self.half_precision),
            ("ranks", self.rank_settings),
        ):
            try:
                made()
            except (SettingError, TypeError) as error:
                raise SettingError(f"{name}: {error}".rstrip(".")) from error
        return self

    def _check_adversarial(self) -> None:
        known = type(self).model_fields
        for name in ("loss", "task", "metrics", "accumulate", "half", "clip_values", "codes"):
            if getattr(self, name) != known[name].default:
                raise SettingError(
                    f"{name}: it is not for adversarial pairs, which have a loss of their own. "
                    "Leave it out"
                )

    def weight_average(self) -> WeightAverage | None:
        return None if self.average is None else WeightAverage(**self.average)

    def half_precision(self) -> HalfPrecision | None:
        return None if self.half is None else HalfPrecision(**self.half)

    def rank_settings(self) -> Ranks | None:
        return None if self.ranks is None else Ranks(**self.ranks)

    def as_toml(self) -> dict[str, Any]:
        """As a dict that TOML can hold: keys that are not set are left out."""
        return self.model_dump(exclude_none=True)


class PlannedParts:
    """The parts that a plan describes.

    Parameters
    ----------
    counts : mapping
        How many ``"classes"`` and ``"tokens"`` there are, which layers may name; of several
        targets the classes of each by its name.
    target : {"classes", "tokens", "numbers"}
        What the network is to tell.
    usual : Task, optional
        Of a plan that says nothing of loss or task, where the target asks for a task.
    """

    def __init__(
        self,
        plan: Plan,
        counts: Mapping[str, Any],
        target: Target,
        own: Iterable[Any],
        usual: Task | None = None,
    ) -> None:
        builder = Builder(own)
        usual_loss, usual_metric = USUAL[target]
        if plan.task is not None:
            self.loss = builder.part(plan.task, "task", ("task",))
        elif plan.loss is None and usual is not None:
            self.loss = usual
        else:
            self.loss = builder.part(
                plan.loss if plan.loss is not None else usual_loss, "loss", ("loss",)
            )
        described = _with_counts(plan.layers, _with_widths(counts, self.loss))
        self.network = _network_of(builder.part({"kind": "stack", "layers": described}, "", LAYERS))
        outputs_losses = getattr(self.network, "outputs_losses", False)
        if plan.adversarial is not None or (plan.loss is None and plan.task is None):
            self.loss = Generative() if outputs_losses or plan.adversarial else self.loss
        self.critic: Any = None
        self.critic_optimiser: Any = None
        self.critic_schedule: Any = None
        if (pair := plan.adversarial) is not None:
            layers = {"kind": "stack", "layers": _with_counts(pair.critic, counts)}
            self.critic = _network_of(builder.part(layers, "adversarial.critic", LAYERS))
            self.critic_optimiser = builder.part(
                pair.critic_optimiser, "adversarial.critic_optimiser", ("optimiser",)
            )
            if pair.critic_schedule:
                self.critic_schedule = builder.part(
                    {"kind": "in_turn", "schedules": pair.critic_schedule},
                    "adversarial.critic_schedule",
                    ("schedule",),
                )
        self.metrics: Any = None
        if isinstance(plan.metrics, dict):
            self.metrics = {
                name: _built(builder, listed, f"metrics.{name}")
                for name, listed in plan.metrics.items()
            }
        elif plan.metrics is not None or not isinstance(self.loss, Task):
            listed = plan.metrics if plan.metrics is not None else [usual_metric]
            self.metrics = _built(builder, listed, "metrics")
        self.optimiser = builder.part(plan.optimiser, "optimiser", ("optimiser",))
        self.schedule = (
            builder.part({"kind": "in_turn", "schedules": plan.schedule}, "schedule", ("schedule",))
            if plan.schedule
            else None
        )
        self.observers = [
            builder.part(item, f"observers.{i}", ("observer",))
            for i, item in enumerate(plan.observers)
        ]
        data = plan.data
        self.prepare = [
            builder.part(item, f"data.prepare.{i}", ("transform",))
            for i, item in enumerate(data.prepare)
        ]
        self.augment = [
            builder.part(item, f"data.augment.{i}", ("transform",))
            for i, item in enumerate(data.augment)
        ]
        self.order = (
            None if data.order is None else builder.part(data.order, "data.order", ("order",))
        )
        self.join = None if data.join is None else builder.part(data.join, "data.join", ("join",))
        if data.described_source is not None:
            only_check = Builder(own, only_check=True)
            only_check.part(data.described_source, "data.source", ("source",))
            builder.faults += only_check.faults
        self.faults = [
            fault._replace(place=fault.place.replace("schedule.schedules.", "schedule."))
            for fault in builder.faults
        ]


def _built(builder: Builder, listed: Sequence[Any], place: str) -> list[Any]:
    return [builder.part(item, f"{place}.{i}", ("metric",)) for i, item in enumerate(listed)]


def _with_widths(counts: Mapping[str, Any], loss: Any) -> dict[str, Any]:
    """Counts, and how many "outputs" the task takes: of each target by name, where there are
    several.
    """
    task, classes = task_of(loss), counts.get("classes", 1)
    if not isinstance(task, Several):
        many = max(classes.values()) if isinstance(classes, Mapping) else classes
        return {**counts, "classes": many, "outputs": task.width(many)}
    by_target = classes if isinstance(classes, Mapping) else dict.fromkeys(task.tasks, classes)
    heads = {
        name: {"classes": by_target.get(name, 1), "outputs": own.width(by_target.get(name, 1))}
        for name, own in task.tasks.items()
    }
    rest = {name: count for name, count in counts.items() if name != "classes"}
    return {**rest, "heads": heads}


def _with_counts(tree: Any, counts: Mapping[str, Any]) -> Any:
    if isinstance(tree, Mapping):
        heads = counts.get("heads", {})
        return {
            key: value
            if key == "kind"
            else {
                name: _with_counts(head, {**counts, **heads.get(name, {})})
                for name, head in value.items()
            }
            if key == "heads" and isinstance(value, Mapping)
            else _with_counts(value, counts)
            for key, value in tree.items()
        }
    if isinstance(tree, list):
        return [_with_counts(item, counts) for item in tree]
    found = counts.get(tree, tree) if isinstance(tree, str) else tree
    return tree if isinstance(found, Mapping) else found


def _network_of(stack: Any) -> Any:
    """A single layer that takes masks or several inputs, which a stack does not hand on, or whose
    parts lie on other ranks, is the network itself.
    """
    if not isinstance(stack, Stack) or len(stack) != 1 or not isinstance(stack[0], Layer):
        return stack
    if isinstance(stack[0], Pipeline) or hasattr(stack[0], "input_names"):
        return stack[0]
    if hasattr(stack[0], "outputs_losses"):
        return stack[0]
    parameters = inspect.signature(type(stack[0]).compute).parameters.values()
    return stack[0] if sum(p.kind is p.POSITIONAL_OR_KEYWORD for p in parameters) > 2 else stack


def read_plan(
    path: str | os.PathLike[str], *, settings: Sequence[str] = (), own: Iterable[Any] = ()
) -> Plan:
    """Read and check a plan.

    Parameters
    ----------
    path : path
    settings : sequence of str
        What is to be different from the file, such as ``"optimiser.rate=0.01"`` or
        ``"layers.0.width=64"``.
    own : sequence of classes and functions
        Parts of one's own that the plan names.

    Raises
    ------
    PlanError
        If the file is missing or no TOML, or a key is unknown, missing or of the wrong kind; each
        is named.
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
            f"{source}: this plan records a run started in Python, whose data is not in a file "
            "that the plan names. Set the Training up "
            f"as there and continue with training.run(..., resume={str(source.parent)!r})."
        )
    values.setdefault("optimiser", Plan.model_fields["optimiser"].default)
    known = values.get("set", [])
    values["set"] = [*(known if isinstance(known, list) else []), *settings]
    for setting in values["set"]:
        apply_override(values, str(setting))
    return _checked(values, source, own)


def _checked(values: dict[str, Any], source: Path, own: Iterable[Any]) -> Plan:
    try:
        plan = Plan.model_validate(values)
    except ValidationError as error:
        faults = [_fault(dict(fault)) for fault in error.errors()]
    else:
        faults = [str(fault) for fault in PlannedParts(plan, MANY, "classes", own).faults]
        if not faults:
            return plan
    listed = "\n".join(f"  {line}" for fault in faults for line in fault.splitlines())
    raise PlanError(f"{source}: the plan cannot be followed:\n{listed}")


def _fault(fault: dict[str, Any]) -> str:
    """One fault in words: the key, what came, what is allowed."""
    place = fault["loc"]
    key = ".".join(map(str, place)) or "the plan"
    if fault["type"] == "extra_forbidden":
        known = (DataPlan if place[0] == "data" else Plan).model_fields
        return f"{key}: unknown key. {did_you_mean(str(place[-1]), known)}"
    if fault["type"] == "missing":
        return f"{key}: missing. Add it."
    if fault["type"] == "value_error":
        return f"{key}.{fault['ctx']['error']!s}." if place else f"{fault['ctx']['error']!s}."
    return f"{key}: {fault['msg'][0].lower()}{fault['msg'][1:]}, got {fault['input']!r}."
