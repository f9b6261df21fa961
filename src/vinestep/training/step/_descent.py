"""A network with what moves it: optimiser, schedule and clipping."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import lru_cache
from typing import Any, NamedTuple

import numpy as np

from ..._arguments import checked_seed
from ..._rows import Rows
from ...autodiff.gradients import Gradients, Layout, euclidean_norm, scaled
from ...autodiff.sweep import sweep
from ...autodiff.tensor import Tensor
from ...autodiff.tracking import STATE
from ...data.batches._batch import Batch
from ...distributed._communicator import Communicator
from ...distributed._current import communicator
from ...distributed._settings import Ranks
from ...errors import (
    CheckpointError,
    DifferentiationError,
    NotFiniteError,
    PeerError,
    SettingError,
    ShapeError,
)
from ...layers._arena import Arena
from ...layers._base import Layer
from ...layers._learning_pass import PASS
from ...optimisers._adam import Adam
from ...optimisers._base import Optimiser
from ...optimisers._quasi_newton import LBFGS
from ...schedules import Schedule, as_schedule
from ...storage.archive import in_half
from ._averaging import WeightAverage
from ._buffers import GradientBuffer, GradientBuffers
from ._exchange import GradientExchange, put
from ._half_precision import HalfPrecision
from ._optimiser_partition import OptimiserPartition
from ._rank_sums import average_statistics, fail_within_layers
from ._stages import StageGroup, of_all_stages, ranks_of_batch
from ._tensor_group import as_network

__all__ = ["Descent", "DescentStep", "learning_pass"]

Evaluate = Callable[[], tuple[float, Gradients]]
# of the root of the largest number: gradients and updates below it leave everything finite
HEADROOM = 1e-4


class DescentStep(NamedTuple):
    """One update of a network, as it was made.

    Examples
    --------
    >>> descent = vs.Descent(vs.Dense(1).initialise(np.ones((1, 2))))
    >>> step = descent.step(lambda: np.sum(descent.network(np.ones((1, 2), np.float32)) ** 2))
    >>> step.number, step.rate
    (1, 0.001)
    """

    number: int
    """Counted from 1."""
    loss: float
    gradients: Gradients
    """After clipping."""
    norm: float
    """Before clipping."""
    rate: float


class Descent:
    """A network that goes down the gradient of a loss: with its optimiser, schedule and clipping.

    Several can train in turn, such as a generator and a critic: each differentiates by its own
    parameters only.

    Parameters
    ----------
    network : Layer, or Tensor, or list or dict of Tensors
        Tensors are moved in place: use them in the loss as they are.
    optimiser : Optimiser, optional
        Adam by default.
    schedule : Schedule or function of the step, optional
        Scales the optimiser's rate; constant by default.
    clip : float, optional
        Largest Euclidean norm of all gradients together; longer ones are shortened to it.
    clip_values : float, optional
        Largest size of each element of the gradients; larger ones are cut to it, before their norm
        is taken.
    average : WeightAverage, optional
        Follows the weights, for evaluation.
    half : HalfPrecision, optional
        Keeps weights and gradients as float16.
    ranks : Ranks, optional
        What ranks that train together share besides examples.
    seed : int
        Of dropout, and of the weights if the network is not initialised yet.

    Examples
    --------
    >>> x, y = (
    ...     np.array([[0.0], [1.0], [2.0]], np.float32),
    ...     np.array([[1.0], [3.0], [5.0]], np.float32),
    ... )
    >>> line = vs.Descent(vs.Dense(1).initialise(x), optimiser=vs.optimisers.Adam(0.1))
    >>> for _ in range(300):
    ...     step = line.step(lambda: vs.losses.squared_error(line.network(x), y))
    >>> line.network.weights()["weight"].round(1), step.number
    (array([[2.]], dtype=float32), 300)
    """

    def __init__(
        self,
        network: Layer | Tensor | Sequence[Tensor] | Mapping[str, Tensor],
        *,
        optimiser: Optimiser | None = None,
        schedule: Schedule | Callable[[int], float] | None = None,
        clip: float | None = None,
        clip_values: float | None = None,
        average: WeightAverage | None = None,
        half: HalfPrecision | None = None,
        ranks: Ranks | None = None,
        seed: int = 0,
    ) -> None:
        for name, limit in (("clip", clip), ("clip_values", clip_values)):
            if limit is not None and not (
                isinstance(limit, int | float | np.floating) and math.isfinite(limit) and limit > 0
            ):
                raise SettingError(f"{name} must be a positive number, got {limit!r}.")
        if average is not None and not isinstance(average, WeightAverage):
            raise SettingError(
                f"average is {average!r}. Give a vinestep.WeightAverage, such as "
                "WeightAverage(0.999)."
            )
        if half is not None and not isinstance(half, HalfPrecision):
            raise SettingError(f"half is {half!r}. Give a vinestep.HalfPrecision().")
        if ranks is not None and not isinstance(ranks, Ranks):
            raise SettingError(f"ranks is {ranks!r}. Give a vinestep.distributed.Ranks(...).")
        self.network = as_network(network)
        self.optimiser = _optimiser(optimiser)
        self.schedule = as_schedule(schedule)
        self.clip = None if clip is None else float(clip)
        self.clip_values = None if clip_values is None else float(clip_values)
        self.average = average
        self.half = half
        self.ranks = ranks or Ranks()
        self.seed = checked_seed(seed, "Training")
        self.step_number = 0
        self._belongings()
        self._arena: Arena | None = None
        self._layout: Layout | None = None
        self._buffers: GradientBuffers | None = None
        self._partition: OptimiserPartition | None = None
        self._stages: StageGroup | None = None
        self._feedback: np.ndarray | None = None
        self._exchanged: GradientExchange | None = None
        self._statistic_arrays: list[np.ndarray] = []
        self._statistics_for: int | None = None

    @property
    def comm(self) -> Communicator:
        """The ranks among which batches are divided."""
        return ranks_of_batch(self.network)

    @property
    def rate(self) -> float:
        """Of the next step."""
        return self.optimiser.rate * self.schedule(self.step_number)

    def step(
        self,
        loss_function: Callable[[], Any],
        *,
        part: Batch | None = None,
        before_update: Callable[[float, Gradients], object] | None = None,
    ) -> DescentStep:
        """One update: a learning pass, its derivative by the network's trainable parameters,
        clipping, the optimiser.

        Parameters
        ----------
        loss_function : callable
            Takes nothing and returns one number. Networks in it draw their dropout from this
            descent's seed and step.
        part : Batch, optional
            Of several ranks, this one's part of a batch, as `vinestep.distributed.part_of` gives
            it: the loss is the mean of all by how many examples each has, and dropout is drawn as
            for the whole. Without it each rank counts as much.
        before_update : callable, optional
            Called with the loss and the gradients before they are clipped.

        Raises
        ------
        NotFiniteError
            If the loss, a gradient or the update is NaN or infinite; nothing has been changed then.
        DifferentiationError
            If a parameter took no part in the loss.
        """
        self.ready()
        with self.statistics_kept():
            value, gradients = self._derived(loss_function, part, release=False)
            if before_update is not None:
                before_update(value, gradients)
            norm, rate = self.descend(
                value, gradients, lambda: self._derived(loss_function, part, release=True)
            )
        return DescentStep(self.step_number, value, gradients, norm, rate)

    def _derived(
        self, loss_function: Callable[[], Any], part: Batch | None, *, release: bool
    ) -> tuple[float, Gradients]:
        """Loss and gradients where the parameters are now, in the learning pass of this step; of
        several ranks, of all.
        """
        comm = self.comm
        if comm.size == 1:
            return self._own_derived(loss_function, part, release=release)
        weight = 1.0 if part is None else float(len(part))
        exchange = self.exchange()
        error: Exception | None = None
        value = 0.0
        try:
            if weight:
                value, _ = self._own_derived(
                    loss_function, part, release=release, times=weight, exchange=exchange
                )
        except PeerError:
            raise
        except Exception as raised:
            fail_within_layers(comm, self.network, raised)
            error = raised
        value, gradients = self._mean_of_ranks(value, weight, exchange, error)
        average_statistics(comm, self.statistics(), weight)
        return value, gradients

    def _mean_of_ranks(
        self,
        value: float,
        weight: float,
        exchange: GradientExchange,
        error: Exception | None,
    ) -> tuple[float, Gradients]:
        """The mean of all ranks by their weights, of the loss and of gradients, which are those of
        the loss times its weight.

        Raises
        ------
        The error on all ranks, if one has it.
        """
        gradients = self.exchanged(exchange, error)
        every = exchange.gather((value, weight), error=error)
        whole = sum(one for _, one in every)
        gradients.flat /= gradients.flat.dtype.type(whole)  # type: ignore[misc]
        return float(sum(value * one for value, one in every) / whole), gradients

    def exchange(self) -> GradientExchange:
        """The sum of this step's gradients over ranks, to be begun with the sweep."""
        self.ready()
        exchange = GradientExchange(self.comm, self.buffers().pieces, self._feedback)
        self._exchanged = exchange
        return exchange

    def exchanged(self, exchange: GradientExchange, error: Exception | None) -> Gradients:
        """All pieces of this rank's gradients are on their way, which are 0 if there are none."""
        if exchange.gradients is None:
            gradients, buffer = self.buffer()
            gradients.flat[...] = 0
            exchange.begin(gradients, buffer.places)
        exchange.finish(failed=error is not None)
        assert exchange.gradients is not None
        return exchange.gradients

    def _own_derived(
        self,
        loss_function: Callable[[], Any],
        part: Batch | None,
        *,
        release: bool,
        times: float = 1.0,
        exchange: GradientExchange | None = None,
    ) -> tuple[float, Gradients]:
        rows = None if part is None else part.rows
        with learning_pass(self.seed, self.step_number, guarded=True, rows=rows):
            loss = loss_function()
        value = checked_loss(loss)
        if not math.isfinite(value):
            raise NotFiniteError(
                f"Step {self.step_number + 1}: the loss is {value}. Nothing has been changed."
            )
        return value, self.gradients(loss, release=release, times=times, exchange=exchange)

    def ready(self) -> Arena:
        """The network's arena, with everything made for it that a step needs.

        Raises
        ------
        SettingError
            If the network has no parameters, or others than this descent has trained so far.
        """
        arena = self.network._ready_arena()
        if self._layout is not arena.layout:
            self._begin_with(arena)
        return arena

    def _begin_with(self, arena: Arena) -> None:
        if self.step_number and self._arena is not arena:
            raise SettingError(
                f"The network was initialised anew after {self.step_number} steps of this "
                "training, whose optimiser knows the former weights. Make a new Training or "
                "Descent for it."
            )
        if self.schedule.watches is not None and not self.schedule.has_begun:
            raise SettingError(
                "The schedule plateau watches a loss, and nothing tells it in a loop of one's own. "
                "Call schedule.begin(None) before the first step and schedule.watch(step, loss, "
                '"loss") after each epoch, or use training.run(...) or training.steps(...).'
            )
        self._begin_optimiser(arena)
        if self.average is not None:
            self.average.begin(arena)
        if self.half is not None:
            self.half.begin(arena)
        self._arena, self._layout = arena, arena.layout

    def _begin_optimiser(self, arena: Arena) -> None:
        comm, layout = self.comm, arena.layout
        if self.network.divides_layers:
            self._stages = StageGroup(layout.size)
            StageGroup.check(
                {
                    "LBFGS": isinstance(self.optimiser, LBFGS),
                    "HalfPrecision": self.half is not None,
                }
            )
        elif any(layer.divides_layers for layer in self.network.walk()):
            raise SettingError("A Pipeline has to be the whole network, and is a part of one.")
        if comm.size > 1 and self.ranks.partition_optimiser:
            self._partition = self._partition or OptimiserPartition(comm, self.optimiser)
            self._partition.begin(layout, arena.dtype)
        else:
            paths = of_all_stages(self.network, dict.fromkeys(layout.paths))
            self.optimiser.begin(layout, arena.dtype, paths=list(paths))
        if comm.size > 1 and self.ranks.gradient_dtype is not None:
            self._begin_feedback(layout, arena.dtype)

    def _begin_feedback(self, layout: Layout, dtype: np.dtype[Any]) -> None:
        if isinstance(self.optimiser, LBFGS):
            raise SettingError(
                "LBFGS searches along a line by small differences of the loss, which gradients "
                "rounded to float16 do not show. Leave gradient_dtype out."
            )
        known, before = self._feedback, self._layout
        self._feedback = np.zeros(layout.size, dtype)
        if known is not None and before is not None:
            for slot, former in layout.common(before):
                layout.view(self._feedback, slot)[...] = before.view(known, former)

    # derivation

    def gradients(
        self,
        loss: Tensor,
        *,
        release: bool = True,
        times: float = 1.0,
        exchange: GradientExchange | None = None,
    ) -> Gradients:
        """Of a recorded loss, or so many times it, by the trainable parameters, in memory of this
        descent's that is kept while somebody holds it. With an exchange, they are sent to other
        ranks as they are made.
        """
        gradients, buffer = self.buffer()
        places, callback = buffer.places, None
        if exchange is not None:
            exchange.begin(gradients, places)
            places, callback = exchange.open_places, exchange.send_finished
        seed = np.full(loss.shape, times, loss.dtype) if loss.shape else loss.dtype.type(times)
        found = sweep(
            loss,
            seed,
            buffer.places,
            release=release,
            destinations=buffer.places,
            callback=callback,
        )
        if len(found) != len(buffer.places):
            unused = [origin.name for origin in buffer.places if origin not in found]
            raise DifferentiationError(
                f"The loss never used {', '.join(unused[:5])}. Leave out what is not used, or "
                f"freeze it: network.freeze({unused[0]!r})."
            )
        for origin, place in places.items():
            put(found[origin], place)
        return gradients

    def buffer(self) -> tuple[Gradients, GradientBuffer]:
        """A gradient array that nobody outside holds."""
        return self.buffers().lend()

    def buffers(self) -> GradientBuffers:
        arena = self.ready()
        if self._buffers is None or self._buffers.layout is not arena.layout:
            self._buffers = GradientBuffers(arena.layout, arena.dtype, arena.trainable)
        return self._buffers

    @contextmanager
    def statistics_kept(self) -> Iterator[None]:
        """Running statistics, which a learning pass changes, put back if the step is not made."""
        before = [(array, array.copy()) for array in self.statistics()]
        try:
            yield
        except BaseException:
            for array, kept in before:
                array[...] = kept
            raise

    def statistics(self) -> list[np.ndarray]:
        """The arrays that a learning pass changes by itself."""
        if self._statistics_for != Arena.generation:
            self._statistic_arrays, self._statistics_for = (
                list(self.network.statistics(changing=True).values()),
                Arena.generation,
            )
        return self._statistic_arrays

    # update

    def descend(
        self, value: float, gradients: Gradients, evaluate: Evaluate | None = None
    ) -> tuple[float, float]:
        """Clip the gradients and update the parameters: the norm before clipping, and the rate.

        Parameters
        ----------
        value : float
            The loss.
        gradients : Gradients
        evaluate : callable, optional
            Gives loss and gradients where the parameters are when it is called; for optimisers that
            search along a line.
        """
        if self.half is not None:
            self.half.round_gradients(gradients.flat, self.step_number + 1)
        if self.clip_values is not None:
            np.clip(gradients.flat, -self.clip_values, self.clip_values, out=gradients.flat)
        norm = euclidean_norm(gradients.flat)
        if self._stages is not None:
            norm = self._stages.norm(norm)
        if not math.isfinite(norm):
            raise self._bad_gradients(value, gradients)
        if self.clip is not None and norm > self.clip:
            scaled(gradients.flat, self.clip / norm, out=gradients.flat)
        optimiser, arena = self.optimiser, self.network.arena
        rate = optimiser.rate * self.schedule(self.step_number)
        if self.schedule.forgets(self.step_number):
            optimiser.forget()
        if self.half is not None:
            self._update_half(gradients, norm, rate)
        elif (
            norm * max(1.0, rate) < _safe_norm(arena.dtype)  # type: ignore[union-attr]
            and rate * optimiser.weight_decay <= 1
            and optimiser.keeps_finite
        ):
            arena.memory.written()  # type: ignore[union-attr]
            self._move(arena.values, gradients.flat, rate)  # type: ignore[union-attr]
        elif isinstance(optimiser, LBFGS):
            self._search(value, gradients, rate, evaluate)
        else:
            self._update_with_care(gradients, norm, rate)
        self.step_number += 1
        if self._exchanged is not None:
            self._exchanged.commit()
            self._exchanged = None
        if self.average is not None:
            self.average.add(arena.values, self.step_number)  # type: ignore[union-attr]
        return norm, rate

    def _move(self, weights: np.ndarray, flat: np.ndarray, rate: float) -> None:
        """The optimiser's update; where ranks divide its state, of each the part it has."""
        if self._partition is None:
            self.optimiser.update(weights, flat, rate)
        else:
            self._partition.update(weights, flat, rate)

    def _search(
        self, value: float, gradients: Gradients, rate: float, evaluate: Evaluate | None
    ) -> None:
        """A step of an optimiser that looks at the loss in several places."""
        arena, optimiser = self.ready(), self.optimiser
        assert isinstance(optimiser, LBFGS)
        if evaluate is None:
            raise SettingError(
                "LBFGS looks at the loss several times a step, and is given gradients only. Use "
                "step(loss_function)."
            )
        if self.clip is not None or self.clip_values is not None:
            raise SettingError(
                "LBFGS: clipped gradients are not those of the loss that is searched. Leave clip "
                "out."
            )
        statistics = [(array, array.copy()) for array in self.statistics()]

        def looked(theta: np.ndarray) -> tuple[float, np.ndarray]:
            arena.memory.written()
            try:
                loss, result = evaluate()
            except NotFiniteError:
                return math.inf, np.zeros_like(theta)
            return loss, result.flat

        arena.memory.written()
        optimiser.minimise(arena.values, looked, rate, known=(value, gradients.flat))
        for array, before in statistics:
            array[...] = before

    def _update_half(self, gradients: Gradients, norm: float, rate: float) -> None:
        """The optimiser moves the float32 copy of the weights, of which the network gets the
        rounded values.
        """
        half, arena = self.half, self.ready()
        assert half is not None
        if isinstance(self.optimiser, LBFGS):
            raise SettingError(
                "LBFGS searches along a line by small differences of the loss, which float16 "
                "weights do not show."
            )
        assert half.master is not None
        half.follow(arena)
        self._update_with_care(gradients, norm, rate, half.master, half.fits)
        half.round_weights(arena)

    def _update_with_care(
        self,
        gradients: Gradients,
        norm: float,
        rate: float,
        weights: np.ndarray | None = None,
        fits: Callable[[], bool] = lambda: True,
    ) -> None:
        """One step of the optimiser that may make something infinite: the state before is kept
        until it has not.
        """
        arena, optimiser = self.ready(), self.optimiser
        if weights is None:
            weights = (
                arena.values if optimiser.keeps_finite else arena.flat
            )  # one of a user's own may keep what it is given
        kept, count = (
            [(array, array.copy()) for array in (weights, *optimiser.state.values())],
            optimiser.count,
        )
        arena.memory.written()
        with np.errstate(over="ignore", invalid="ignore"):
            self._move(weights, gradients.flat, rate)
        sound = all(np.isfinite(array).all() for array, _ in kept) and fits()
        if self._partition is not None:
            sound = all(self._partition.comm.all_gather(sound))
        if self._stages is not None:
            sound = self._stages.agreed(sound)
        if sound:
            return
        for array, before in kept:
            array[...] = before
        optimiser.count = count
        raise NotFiniteError(
            f"Step {self.step_number + 1}: the update by {type(optimiser).__name__} at rate "
            f"{rate:.3g}, with gradients of norm "
            f"{norm:.3g}, would make weights or its state NaN or infinite. Nothing has been "
            "changed. Use a smaller rate, clip=, or float64."
        )

    def _bad_gradients(self, value: float, gradients: Gradients) -> NotFiniteError:
        bad = [path for path, g in gradients.items() if not np.isfinite(g).all()]
        return NotFiniteError(
            f"Step {self.step_number + 1}: the loss is {value:.6g}, but the gradients of "
            f"{', '.join(bad[:3]) or 'another rank'}"
            f"{f' and {len(bad) - 3} more' if len(bad) > 3 else ''} are NaN or infinite. Nothing "
            "has been changed. A root, logarithm or "
            "division has no derivative where it stands: vinestep.differentiate(loss, network, "
            "must_be_finite=True) names it."
        )

    # state

    def begin(self) -> None:
        """Make the state of optimiser and average for the network as it is now."""
        self.ready()

    @contextmanager
    def averaged(self) -> Iterator[None]:
        """The network computes with the average of its weights, if one is kept."""
        if self.average is None:
            yield
            return
        with self.average.in_place(self.ready()):
            yield

    def state(self) -> dict[str, Any]:
        """Weights, running statistics, the optimiser's state and the counters.

        Where ranks divide the state or keep what rounding left away, all have to ask for it, and
        the first one gets what the others have.
        """
        self.begin()
        own = self._own_state()
        if self._stages is None:
            return own
        for group in ("weights", "statistics", "average"):
            own[group] = self._stages.by_path(own[group])
        own["optimiser"] = self._stages.flat(own["optimiser"])
        own["trainable"] = [
            path for paths in self._stages.comm.all_gather(own["trainable"]) for path in paths
        ]
        return own

    def _own_state(self) -> dict[str, Any]:
        """The state without what other stages have."""
        arena, average, half = self.ready(), self.average, self.half
        return {
            "weights": {
                path: _read_only(array if half is None else in_half(array))
                for path, array in arena.arrays().items()
            },
            "half": {} if half is None else {"master": half.master},
            "scaling": {} if half is None else half.state(),
            "statistics": self.network.statistics(),
            "optimiser": dict(self.optimiser.state)
            if self._partition is None
            else self._partition.state(),
            "feedback": self._feedback_of_ranks(),
            "schedule": self.schedule.state(),
            "average": {}
            if average is None
            else {path: _read_only(array) for path, array in average.arrays(arena).items()},
            "averaged": 0 if average is None else average.count,
            "step": self.step_number,
            "updates": self.optimiser.count,
            "trainable": arena.layout.paths,
            "seed": self.seed,
        }

    def _arrays(self) -> dict[str, dict[str, np.ndarray]]:
        """The arrays that a state has to have, by group; of some only the shape is told."""
        arena, average, half = self.ready(), self.average, self.half
        optimiser = self.optimiser.state
        if self._partition is not None or self._stages is not None:
            whole = arena.layout.size if self._stages is None else self._stages.size
            optimiser = {name: np.broadcast_to(np.zeros(()), (whole,)) for name in optimiser}
        return {
            "weights": arena.arrays(),
            "half": {} if half is None or half.master is None else {"master": half.master},
            "statistics": self.network.statistics(),
            "optimiser": optimiser,
            "average": {} if average is None else average.arrays(arena),
        }

    @property
    def divides_state(self) -> bool:
        """Whether other ranks have what a saved state needs."""
        return self.network.divides_layers or (communicator().size > 1 and self.ranks != Ranks())

    def _feedback_of_ranks(self) -> dict[str, np.ndarray]:
        """What rounding left away on each rank; only the first one has it of all."""
        own, comm = self._feedback, self.comm
        if own is None:
            return {}
        spans = [(rank * own.size, (rank + 1) * own.size) for rank in range(comm.size)]
        whole = comm.gather_into_first(own, spans)
        if whole is None:
            return {}
        return {f"rank {rank}": whole[slice(*span)] for rank, span in enumerate(spans)}

    def _restore_feedback(self, known: Mapping[str, np.ndarray]) -> None:
        """Of as many ranks each takes its own; of others the first takes the sum."""
        own, comm = self._feedback, self.comm
        if own is None:
            return
        own[...] = 0
        if len(known) == comm.size:
            own[...] = known[f"rank {comm.rank}"]
        elif comm.rank == 0:
            for array in known.values():
                own += array

    def restore(self, state: Mapping[str, Any]) -> None:
        """Take back what `state` gave. Everything is checked before anything is changed.

        Raises
        ------
        CheckpointError
            If it was made by another network, optimiser or seed: in what it differs.
        """
        arena, mine = self.ready(), self._arrays()
        own = {*arena.tensors, *self.network.statistics()}
        known = of_all_stages(self.network, dict.fromkeys(own))
        problems = []
        for group, ours in mine.items():
            theirs = state.get(group, {})
            problems += [
                f"{group}/{name}: {theirs[name].shape if name in theirs else 'missing'} against "
                f"{a.shape}"
                for name, a in ours.items()
                if name not in theirs or theirs[name].shape != a.shape
            ]
            problems += [
                f"{group}/{name}: not part of this training"
                for name in theirs
                if name not in ours and name not in known
            ]
        trainable = [path for path in state["trainable"] if path in arena.tensors]
        problems += [] if trainable == arena.layout.paths else ["other parameters are frozen"]

        problems += (
            [] if state["seed"] == self.seed else [f"seed {state['seed']} against {self.seed}"]
        )
        if problems:
            raise CheckpointError(
                "It was made by another network, optimiser or seed than this training: "
                f"{'; '.join(problems[:3])}. "
                "Set the training up as it was; the run's plan.toml says how."
            )
        saved = {**state["weights"], **state.get("statistics", {})}
        self.network.load({path: array for path, array in saved.items() if path in own})
        for name, array in state.get("optimiser", {}).items():
            if self._stages is not None:
                self.optimiser.state[name][...] = self._stages.own_part(array)
            elif self._partition is None:
                self.optimiser.state[name][...] = array
            else:
                self._partition.restore(name, array)
        self._restore_feedback(state.get("feedback", {}))
        self.optimiser.count = state["updates"]
        self.schedule.restore(state.get("schedule", {}))
        if self.average is not None:
            for path, array in self.average.arrays(arena).items():
                array[...] = state["average"][path]
            self.average.count = state["averaged"]
        if self.half is not None:
            self.half.restore(state["scaling"], state["half"]["master"])
        self.step_number = state["step"]

    def __getstate__(self) -> dict[str, Any]:
        return vars(self) | {
            "_buffers": None,
            "_exchanged": None,
            "_layout": None,
            "_statistic_arrays": [],
            "_statistics_for": None,
        }

    def __setstate__(self, state: dict[str, Any]) -> None:
        vars(self).update(state)
        self._belongings()

    def _belongings(self) -> None:
        """What keeps numbers of this descent serves no other; in a copy, copies of it."""
        for part in (self.optimiser, self.average, self.half):
            if part is not None:
                part.belong_to(self)


def _read_only(array: np.ndarray) -> np.ndarray:
    view = array.view()
    view.flags.writeable = False
    return view


@contextmanager
def learning_pass(
    seed: int, step: int, *, guarded: bool, rows: Rows | None = None, merged: bool = True
) -> Iterator[None]:
    """Record what is computed, as a learning pass of this step; arrays are guarded against changes
    unless only library code runs. Of several ranks, `rows` are those of the batch that are here.
    Layers that compute as one give their gradients all at the end; `merged` says whether they may.
    """
    now, here = STATE.now, PASS
    before = (
        now.recording,
        now.sealing,
        now.tracing,
        here.learning,
        here.seed,
        here.step,
        here.merged,
        here.drawn,
        here.rows,
    )
    now.recording, now.sealing, now.tracing = True, guarded, now.tracing + 1
    here.learning, here.seed, here.step, here.merged, here.drawn = True, seed, step, merged, {}
    here.rows = rows
    try:
        yield
    finally:
        (
            now.recording,
            now.sealing,
            now.tracing,
            here.learning,
            here.seed,
            here.step,
            here.merged,
            here.drawn,
            here.rows,
        ) = before


def checked_loss(loss: Any) -> float:
    """The value of a recorded loss of one number."""
    if not isinstance(loss, Tensor):
        raise DifferentiationError(
            f"The loss is a {type(loss).__name__}, not a Tensor: nothing trainable went into it. "
            "Is every "
            "parameter frozen, or did the loss lose the record?"
        )
    if loss.size != 1:
        raise ShapeError(
            f'The loss has shape {loss.shape}, and has to be one number. Use reduction="mean".'
        )
    return loss.item()


def _optimiser(optimiser: Any) -> Optimiser:
    if optimiser is None:
        return Adam()
    if not isinstance(optimiser, Optimiser):
        given = (
            optimiser.__name__ if isinstance(optimiser, type) else f"a {type(optimiser).__name__}"
        )
        raise SettingError(
            f"Training: optimiser is {given}. Give one, such as "
            "vinestep.optimisers.Adam(rate=1e-3)."
        )
    return optimiser


@lru_cache
def _safe_norm(dtype: np.dtype[Any]) -> float:
    return math.sqrt(float(np.finfo(dtype).max)) * HEADROOM
