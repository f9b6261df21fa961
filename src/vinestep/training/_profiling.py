"""Where the time of a step goes."""

from __future__ import annotations

import copy
import time
from collections import defaultdict
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from ..autodiff.tensor import Origin, held
from ..errors import SettingError
from ..evaluation._scores import metric_counts
from ..layers._learning_pass import observed
from .step._batch_checks import AnyBatches, as_batches, checked_batch
from .step._descent import learning_pass
from .step._forward_pass import loss_of, outputs_of_batch
from .step._planned_step import planned_in_words, unplanned_because

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from .step._base import TrainingBase

__all__ = ["Profile", "profile"]

WARM = 3  # steps that are not counted: loops are compiled, memory is taken


@dataclass(frozen=True)
class Profile:
    """The median time of the parts of a step.

    Examples
    --------
    >>> print(Profile([{"part": "forward", "milliseconds": 2.0}], [], [], 10))
    forward   2 ms
    planned: yes
    """

    rows: list[dict[str, Any]]
    """Data, forward, backward, optimiser, metrics: ``part`` and ``milliseconds``."""
    layers: list[dict[str, Any]]
    """Forward, by layer; computed one by one, which takes longer than together."""
    operations: list[dict[str, Any]]
    """Backward, by operation."""
    steps: int
    unplanned: str = ""
    """Why steps like these are not planned; nothing if they are. A planned step makes forward and
    backward in one call, which takes less time than the parts.
    """

    def table(self) -> pd.DataFrame:
        """A row for each part, layer and operation: kind, part, milliseconds."""
        import pandas as pd

        kinds = (
            ("step", self.rows),
            ("layer, forward", self.layers),
            ("operation, backward", self.operations),
        )
        return pd.DataFrame(
            [{"kind": kind, **row} for kind, rows in kinds for row in rows],
            columns=["kind", "part", "milliseconds"],
        )

    def figure(self) -> Figure:
        """The parts of a step as bars."""
        from ..figures._tuning import profile as drawn

        return drawn(self.rows)

    def __str__(self) -> str:
        width = max((len(str(row["part"])) for row in self.rows), default=0)
        lines = [f"{row['part']:<{width}}   {row['milliseconds']:.3g} ms" for row in self.rows]
        return "\n".join([*lines, f"planned: {planned_in_words(self.unplanned)}"])


def profile(training: TrainingBase, batches: AnyBatches, *, steps: int = 20) -> Profile:
    """Where the time of a training step goes: data, forward, backward, optimiser, metrics; and by
    layer and operation.

    It works on a copy.

    Parameters
    ----------
    training : Training
    batches : Batches
    steps : int
        How many are timed.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((64, 3)), np.ones((64, 1)))
    >>> training = vs.Training(
    ...     vs.Stack(vs.Dense(8, vs.relu), vs.Dense(1)), loss=vs.losses.squared_error
    ... )
    >>> [row["part"] for row in vs.training.profile(training, data.batches(16), steps=5).rows]
    ['data', 'forward', 'backward', 'optimiser', 'metrics']
    """
    if steps < 1:
        raise SettingError(f"profile: at least one step is needed, got {steps}.")
    batches = as_batches(batches, "profile: the data")
    one = copy.deepcopy(training)
    times: dict[str, list[float]] = defaultdict(list)
    layers: dict[str, list[float]] = defaultdict(list)
    operations: dict[str, list[float]] = defaultdict(list)
    epoch = 0
    left: Iterator[Any] = iter(())
    for number in range(steps + WARM):
        begun = time.perf_counter()
        batch: Any = next(left, None)
        if batch is None:
            left = batches.epoch(epoch, seed=one.seed)
            epoch, batch = epoch + 1, next(left)
        got = time.perf_counter()
        batch = checked_batch(batch, one.task)
        if one.network.arena is None:
            one.initialise(batch)
        one.descent.begin()
        found = _one_step(one, batch)
        if number < WARM:
            continue
        times["data"].append(got - begun)
        for part, seconds in found.items():
            times[part].append(seconds)
        if number % 4 == 0:
            _by_layer(one, batch, layers)
            _by_operation(one, batch, operations)
    order = ("data", "forward", "backward", "optimiser", "metrics")
    rows = [{"part": part, "milliseconds": 1000 * float(np.median(times[part]))} for part in order]
    return Profile(
        rows, _medians(layers), _medians(operations), steps, _unplanned_because(one, batch)
    )


def _unplanned_because(one: TrainingBase, batch: Any) -> str:
    reason = unplanned_because(one.network, one.loss)
    if reason:
        return reason
    if one.accumulate > 1:
        return f"{one.accumulate} batches make a step"
    one.make_step(batch, 0, 0)
    found = one._derivation.plans.find(batch, one.loss)
    return "" if found else "the batches have weights or masks, or are not as the network computes"


def _medians(times: dict[str, list[float]]) -> list[dict[str, Any]]:
    rows = [
        {"part": part, "milliseconds": 1000 * float(np.median(values))}
        for part, values in times.items()
    ]
    return sorted(rows, key=lambda row: -row["milliseconds"])  # type: ignore[operator]


def _one_step(one: TrainingBase, batch: Any) -> dict[str, float]:
    descent = one.descent
    begun = time.perf_counter()
    with learning_pass(descent.seed, descent.step_number, guarded=False):
        outputs = outputs_of_batch(one.network, batch)
        loss = loss_of(one.loss, outputs, batch)
    forward = time.perf_counter()
    gradients = descent.gradients(loss)
    backward = time.perf_counter()
    value = float(np.asarray(held(loss)))
    descent.descend(value, gradients, lambda: one.derived([batch])[1:])
    updated = time.perf_counter()
    for metric in one.metrics:
        metric.conclude(metric_counts(metric, one.loss, held(outputs), np.asarray(batch.targets)))
    done = time.perf_counter()
    return {
        "forward": forward - begun,
        "backward": backward - forward,
        "optimiser": updated - backward,
        "metrics": done - updated,
    }


def _by_layer(one: TrainingBase, batch: Any, layers: dict[str, list[float]]) -> None:
    """How long each layer takes, told by when its output is there."""
    marks: list[tuple[str, float]] = []

    def told(layer: Any, path: str, inputs: Any, output: Any) -> None:
        marks.append((f"{path} ({type(layer).__name__})", time.perf_counter()))

    before = time.perf_counter()
    with learning_pass(one.seed, one.step_number, guarded=False), observed(told):
        outputs_of_batch(one.network, batch)
    for path, at in marks:
        layers[path].append(at - before)
        before = at


def _by_operation(one: TrainingBase, batch: Any, operations: dict[str, list[float]]) -> None:
    with learning_pass(one.seed, one.step_number, guarded=False):
        loss = loss_of(one.loss, outputs_of_batch(one.network, batch), batch)
    found: dict[str, float] = defaultdict(float)
    for origin in _origins(loss.origin):
        name = origin.rule.name if origin.rule is not None else ""
        origin.rule = _Timed(
            origin.rule, found, f"{name} in {origin.place}" if origin.place else name
        )  # type: ignore[assignment]
    one.descent.gradients(loss)
    for name, seconds in found.items():
        operations[name].append(seconds)


def _origins(top: Origin) -> list[Origin]:
    """Every computed value that one came from, itself included."""
    seen, stack = {top}, [top]
    while stack:
        for parent in stack.pop().parents:
            if parent is not None and parent.rule is not None and parent not in seen:
                seen.add(parent)
                stack.append(parent)
    return list(seen)


class _Timed:
    """A rule whose way back is timed."""

    def __init__(self, rule: Any, found: dict[str, float], name: str) -> None:
        self._rule, self._found, self._own = rule, found, name
        self.adjoints = tuple(
            None if adjoint is None else self._timed(adjoint) for adjoint in rule.adjoints
        )
        self.pull, self.pull_into = (
            self._timed(rule.pull),
            self._timed(getattr(rule, "pull_into", None)),
        )

    def __getattr__(self, name: str) -> Any:
        return getattr(self._rule, name)

    def _timed(self, function: Callable[..., Any] | None) -> Callable[..., Any]:
        def timed(*arguments: Any, **options: Any) -> Any:
            begun = time.perf_counter()
            try:
                return function(*arguments, **options)  # type: ignore[misc]  # only called if there is one
            finally:
                self._found[self._own] += time.perf_counter() - begun

        return timed
