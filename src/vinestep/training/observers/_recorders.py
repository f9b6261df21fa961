"""Observers that look every so many steps, and record into the run's store."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from ...autodiff.gradients import Gradients, euclidean_norm
from ...errors import SettingError
from ...parts._registry import part
from ...storage.json_values import integer
from ..run._run import Observer

if TYPE_CHECKING:
    from ..run._results import Outcome
    from ..run._run import Run
    from ..step._descent import Descent
    from ..step._step import Step

__all__ = [
    "Distributions",
    "Machine",
    "Norms",
    "PeriodicObserver",
    "Scheduled",
    "Steps",
    "descent_of",
]

MOST_ROWS = 4000  # of a series: beyond it every second is dropped, and the spacing doubled
MOST_SNAPSHOTS = 120
QUANTILES = (0, 5, 25, 50, 75, 95, 100)
BINS = 40
KINDS = ("weights", "gradients", "updates", "activations")


def whole_steps(observer: Observer, every: Any) -> int:
    if isinstance(every, bool) or not isinstance(every, int | np.integer) or every < 1:
        raise SettingError(
            f"{type(observer).__name__}: every must be a whole number of steps of at least 1, got "
            f"{every!r}."
        )
    return int(every)


class PeriodicObserver(Observer):
    """Looks every so many steps, and half as often whenever a series gets long, so that memory and
    record stay bounded.

    Parameters
    ----------
    every : int
        Steps.
    """

    on_every_rank = False
    calls_network = True

    series = ""
    most = MOST_ROWS

    def __init__(self, every: int) -> None:
        self.every = whole_steps(self, every)
        self.begin()

    def begin(self) -> None:
        self._rows: list[dict[str, float]] = []
        self._spacing, self._count = self.every, 0

    def is_due(self, number: int) -> bool:
        return number % self._spacing == 0

    def before_run(self, run: Run) -> None:
        if run.store is not None and self.series and run.position.step:
            self._rows = [
                row
                for row in run.store.read_series(self.series)
                if row["step"] <= run.position.step
            ]
            while len(self._rows) > self.most:
                del self._rows[1::2]

    def keep(self, run: Run, row: Mapping[str, float]) -> None:
        """Add a row to the series."""
        where = {"step": float(run.position.step), "epoch": float(run.position.epoch)}
        whole = {**where, **{name: float(value) for name, value in row.items()}}
        self._rows.append(whole)
        run.add_row(self.series, whole)
        self._count += 1
        if len(self._rows) > self.most:
            del self._rows[1::2]
        if self._count > self.most:
            self._spacing, self._count = self._spacing * 2, self.most // 2

    def rows(self) -> list[dict[str, float]]:
        """What was recorded so far; of a long series not all. The record has it whole."""
        return list(self._rows)

    def state(self) -> dict[str, Any]:
        return {"spacing": self._spacing, "count": self._count}

    def restore(self, state: dict[str, Any]) -> None:
        self._spacing = (
            max(self.every, integer(state, "spacing")) if "spacing" in state else self.every
        )
        self._count = integer(state, "count") if "count" in state else 0


def descent_of(run: Run) -> Descent:
    """The one network of a training, with what moves it."""
    result = run.parts.get("")
    from ..step._descent import Descent

    if not isinstance(result, Descent):
        raise SettingError(
            "This observer looks at the one network of a Training; in a loop of your own record "
            "by run.numbers(...)."
        )
    return result


def norm(array: np.ndarray) -> float:
    return euclidean_norm(array.reshape(-1))


@part("steps", "observer")
class Steps(Observer):
    """Records loss, rate, norm of the gradients and metrics of single steps, with examples and
    seconds since the run began.

    Parameters
    ----------
    every : int
        Steps.

    Examples
    --------
    >>> data, store = (
    ...     vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1))),
    ...     vs.training.MemoryStore(),
    ... )
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> outcome = training.run(
    ...     data.batches(2), epochs=1, observers=[vs.observers.Steps(2)], record=store
    ... )
    >>> [(row["step"], row["examples"]) for row in store.read_series("steps")]
    [(2, 4.0), (4, 8.0)]
    """

    on_every_rank = False
    calls_network = True

    def __init__(self, every: int = 1) -> None:
        self.every = whole_steps(self, every)

    def after_step(self, run: Run, step: Step | None) -> None:
        if step is not None and step.number % self.every == 0:
            run.numbers(
                epoch=run.position.epoch,
                examples=run.position.seen,
                seconds=run.position.seconds,
                loss=step.loss,
                rate=step.rate,
                norm=step.norm,
                **step.metrics,
            )


@part("norms", "observer")
class Norms(PeriodicObserver):
    """Records, by parameter: its rate, norms of weight, gradient and update, the ratio of update to
    weight, norms of the optimiser's state.

    Parameters
    ----------
    every : int
        Steps.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> norms = vs.observers.Norms(2)
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    >>> outcome = training.run(data.batches(2), epochs=1, observers=[norms])
    >>> (
    ...     [(row["step"], row["weight ratio"] > 0) for row in norms.rows()],
    ...     "weight m" in norms.rows()[0],
    ... )
    ([(2.0, True), (4.0, True)], True)
    """

    series = "norms"

    def __init__(self, every: int = 50) -> None:
        super().__init__(every)

    def begin(self) -> None:
        super().begin()
        self._before: np.ndarray | None = None

    def before_update(self, run: Run, loss: float, gradients: Gradients) -> None:
        descent = descent_of(run)
        arena = descent.network.arena
        self._before = (
            arena.values.copy()
            if self.is_due(descent.step_number + 1) and arena is not None
            else None
        )

    def after_step(self, run: Run, step: Step | None) -> None:
        if self._before is None or step is None:
            return
        descent = descent_of(run)
        arena = descent.network.arena
        assert arena is not None
        row: dict[str, float] = {"rate": step.rate}
        for slot in arena.layout:
            before, now = (
                arena.layout.view(self._before, slot),
                arena.layout.view(arena.values, slot),
            )
            size, move = norm(before), norm(now - before)
            row[f"{slot.path} rate"] = (
                step.rate * descent.optimiser.factors_of(slot.path, slot.shape)[0]
            )
            row[f"{slot.path} norm"] = size
            row[f"{slot.path} gradient"] = norm(step.gradients[slot.path])
            row[f"{slot.path} update"] = move
            row[f"{slot.path} ratio"] = move / size if size else np.nan
            for name, array in descent.optimiser.state.items():
                if array.shape == arena.values.shape:
                    row[f"{slot.path} {name}"] = norm(arena.layout.view(array, slot))
        self.keep(run, row)
        self._before = None


@part("distributions", "observer")
class Distributions(PeriodicObserver):
    """Records quantiles and histograms of weights, gradients, updates and activations, by parameter
    and layer.

    Quantiles go into the series "distributions", histograms into one table a look.

    Parameters
    ----------
    every : int
        Steps.
    of : sequence of {"weights", "gradients", "updates", "activations"}
        Activations are those of the step's batch; layers are computed one by one for them, in that
        step only.

    Examples
    --------
    >>> looks = vs.observers.Distributions(2, of=["weights"])
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(
    ...     data.batches(4), epochs=1, observers=[looks]
    ... )
    >>> sorted(looks.rows()[0])[:3]
    ['epoch', 'step', 'weights bias 0%']
    """

    series = "distributions"
    most = MOST_SNAPSHOTS

    def __init__(self, every: int = 200, *, of: list[str] | tuple[str, ...] = KINDS) -> None:
        unknown = [kind for kind in of if kind not in KINDS]
        if unknown or not of:
            raise SettingError(
                f"Distributions: of is some of {', '.join(KINDS)}; got "
                f"{', '.join(map(repr, of)) or 'nothing'}."
            )
        self.of = list(of)
        super().__init__(every)

    def begin(self) -> None:
        super().begin()
        self._before: np.ndarray | None = None
        self._found: dict[str, np.ndarray] = {}

    def wants_activations(self, number: int) -> bool:
        return "activations" in self.of and self.is_due(number)

    def activation(self, run: Run, path: str, output: np.ndarray) -> None:
        array = np.asarray(output[0] if isinstance(output, tuple) else output)
        if array.dtype.kind == "f":
            self._found[f"activations {path or 'outputs'}"] = array.copy()

    def before_update(self, run: Run, loss: float, gradients: Gradients) -> None:
        descent = descent_of(run)
        if not self.is_due(descent.step_number + 1):
            return
        arena = descent.network.arena
        assert arena is not None
        if "updates" in self.of:
            self._before = arena.values.copy()
        if "gradients" in self.of:
            self._found |= {f"gradients {path}": array.copy() for path, array in gradients.items()}

    def after_step(self, run: Run, step: Step | None) -> None:
        if step is None or not self.is_due(step.number):
            return
        arena = descent_of(run).network.arena
        assert arena is not None
        for slot in arena.layout:
            now = arena.layout.view(arena.values, slot)
            if "weights" in self.of:
                self._found[f"weights {slot.path}"] = now
            if self._before is not None:
                self._found[f"updates {slot.path}"] = now - arena.layout.view(self._before, slot)
        row: dict[str, float] = {}
        histograms = []
        for name, array in self._found.items():
            values = array.astype(np.float64).reshape(-1)
            finite = values[np.isfinite(values)]
            row[f"{name} not finite"] = float(values.size - finite.size)
            if not finite.size:
                continue
            row |= {
                f"{name} {q}%": float(v)
                for q, v in zip(QUANTILES, np.percentile(finite, QUANTILES), strict=True)
            }
            counts, edges = np.histogram(finite, BINS)
            histograms += [
                {"of": name, "from": float(a), "to": float(b), "count": int(n)}
                for a, b, n in zip(edges[:-1], edges[1:], counts, strict=True)
            ]
        self.keep(run, row)
        if run.store is not None:
            run.store.table("distributions", step.number, histograms)
        self._before, self._found = None, {}


@part("machine", "observer")
class Machine(PeriodicObserver):
    """Records what the machine does: processor, memory of the process and free memory, threads,
    temperature where there is one.

    Parameters
    ----------
    seconds : float
        From one look to the next.

    Examples
    --------
    >>> machine = vs.observers.Machine(seconds=0.001)
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(
    ...     data.batches(4), epochs=1, observers=[machine]
    ... )
    >>> machine.rows()[0]["memory megabytes"] > 1
    True
    """

    series = "machine"

    def __init__(self, seconds: float = 5.0) -> None:
        if not seconds > 0:
            raise SettingError(f"Machine: seconds must be above 0, got {seconds!r}.")
        self.seconds = float(seconds)
        super().__init__(1)

    def before_run(self, run: Run) -> None:
        import psutil

        super().before_run(run)
        self._process = psutil.Process()
        self._looked, self._busy = time.monotonic(), self._processor_seconds()

    def _processor_seconds(self) -> float:
        times = self._process.cpu_times()
        return float(times.user + times.system)

    def after_step(self, run: Run, step: Step | None) -> None:
        if time.monotonic() - self._looked >= self.seconds:
            self._look(run)

    def after_run(self, run: Run, outcome: Outcome) -> None:
        if not self._rows:
            self._look(run)

    def _look(self, run: Run) -> None:
        import psutil

        now, busy = time.monotonic(), self._processor_seconds()
        percent = 100 * (busy - self._busy) / max(now - self._looked, 1e-3)
        self._looked, self._busy = now, busy
        temperatures = [
            t.current
            for group in getattr(psutil, "sensors_temperatures", dict)().values()
            for t in group
        ]
        row = {
            "seconds": run.position.seconds,
            "processor percent": percent,
            "memory megabytes": self._process.memory_info().rss / 2**20,
            "free megabytes": psutil.virtual_memory().available / 2**20,
            "threads": self._process.num_threads(),
        }
        self.keep(run, row | ({"temperature": max(temperatures)} if temperatures else {}))


class Scheduled(Observer):
    """Calls a function every so many steps or seconds.

    Parameters
    ----------
    call : callable
        Takes the run.
    steps : int, optional
    seconds : float, optional
        One of the two.

    Examples
    --------
    >>> seen = []
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> look = vs.observers.Scheduled(lambda run: seen.append(run.position.step), steps=3)
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(
    ...     data.batches(2), epochs=2, observers=[look]
    ... )
    >>> seen
    [3, 6]
    """

    def __init__(
        self, call: Callable[[Run], Any], *, steps: int | None = None, seconds: float | None = None
    ) -> None:
        if (steps is None) == (seconds is None) or not (steps or seconds or 0) > 0:
            raise SettingError(
                f"Scheduled: one of steps and seconds is needed, above 0; got steps={steps!r}, "
                f"seconds={seconds!r}."
            )
        self.call, self.steps, self.seconds = call, steps, seconds
        self.begin()

    def begin(self) -> None:
        self._called = time.monotonic()

    def after_step(self, run: Run, step: Step | None) -> None:
        if self.steps is not None:
            if run.position.step % self.steps == 0:
                self.call(run)
        elif time.monotonic() - self._called >= float(self.seconds or 0):
            self._called = time.monotonic()
            self.call(run)
