"""Layers divided among ranks: each computes one stage, for one part of the batch after another."""

from __future__ import annotations

import copy
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np

from .._rows import Rows, rows_of_part
from ..autodiff.nested import nested
from ..autodiff.sweep import sweep
from ..autodiff.tensor import Tensor, held
from ..autodiff.tracking import STATE
from ..distributed._communicator import Communicator
from ..distributed._current import communicator
from ..errors import DifferentiationError, LayerError, SettingError
from ..parts._registry import part
from ._base import Layer
from ._learning_pass import PASS

__all__ = ["Pipeline"]


@part("pipeline", "layer")
class Pipeline(Layer):
    """Stages one after another, each on a rank of its own, for networks that are too large for one
    machine; in one process they are as a `Stack` of them [1]_.

    The batch is cut into parts that follow one another through the stages, so that all ranks have
    something to do. What comes out is on every rank; of weights, gradients and the optimiser's
    state each rank has those of its stage. With p stages and m parts a rank is idle for a share of
    ``(p - 1) / (m + p - 1)`` at best.

    It has to be the whole network, its input data, and each stage has to have something to train.
    Layers that take statistics of a batch would take them of its parts, and are refused.

    Parameters
    ----------
    *stages : layers, or one list of them
        As many as there are ranks.
    micro_batches : int
        Into how many parts a batch is cut.

    References
    ----------
    .. [1] Y. Huang et al., "GPipe: Efficient Training of Giant Neural Networks using Pipeline
       Parallelism", NeurIPS 2019, section 2.2.

    Examples
    --------
    >>> def trained():
    ...     stages = vs.Stack(vs.Dense(8), vs.relu), vs.Stack(vs.Dense(1))
    ...     training = vs.Training(
    ...         vs.Pipeline(*stages, micro_batches=4), loss=vs.losses.squared_error
    ...     )
    ...     x = np.ones((8, 3), np.float32)
    ...     training.step((x, np.zeros((8, 1), np.float32)))
    ...     return sorted(training.network.weights())
    >>> trained()
    ['0/0/bias', '0/0/weight', '1/0/bias', '1/0/weight']
    >>> vs.distributed.run_in_threads(2, trained)
    [['0/0/bias', '0/0/weight'], ['1/0/bias', '1/0/weight']]
    """

    def __init__(self, *stages: Layer | Sequence[Layer], micro_batches: int = 8) -> None:
        listed: Any = stages
        if len(stages) == 1 and isinstance(stages[0], list | tuple):
            listed = stages[0]
        for position, stage in enumerate(listed):
            if not isinstance(stage, Layer):
                raise LayerError(
                    f"Pipeline: stage {position} is a {type(stage).__name__}. Each stage is a "
                    "layer, such as a Stack."
                )
        if (
            isinstance(micro_batches, bool)
            or not isinstance(micro_batches, int)
            or micro_batches < 1
        ):
            raise SettingError(
                "Pipeline: micro_batches must be a whole number of at least 1, got "
                f"{micro_batches!r}."
            )
        self.stages = tuple(listed)
        self.micro_batches = micro_batches
        self._is_whole: bool | None = None

    @property
    def divides_layers(self) -> bool:
        """Whether other ranks have the other stages."""
        if self._is_whole is None:
            size = communicator().size
            if size not in (1, len(self.stages)):
                raise SettingError(
                    f"Pipeline: {len(self.stages)} stages are for as many ranks, and there are "
                    f"{size}."
                )
            self._is_whole = size == 1
        return not self._is_whole

    def keep_whole(self) -> None:
        self._is_whole = True

    def children(self) -> Iterator[tuple[str, Layer]]:
        own = communicator().rank if self.divides_layers else None
        return ((str(i), stage) for i, stage in enumerate(self.stages) if own is None or i == own)

    def all_paths(self) -> list[str]:
        own = super().all_paths()
        if not self.divides_layers:
            return own
        return [path for found in communicator().all_gather(own) for path in found]

    def compute(self, x: Any) -> Any:
        if not self.divides_layers:
            for stage in self.stages:
                x = stage(x)
            return x
        comm = communicator()
        with comm.guarded():
            return _Pass(self, comm).forward(x)

    def whole(self) -> Pipeline:
        """A copy that has all stages, on each rank; all have to ask for it."""
        if not self.divides_layers:
            return copy.deepcopy(self)
        arena = self._ready_arena()
        every = communicator().all_gather(
            (self.weights() | self.statistics(), sorted(arena.frozen_paths))
        )
        result = copy.deepcopy(self)
        result.keep_whole()
        shape, dtype = self.sample_like[0]
        result.initialise(np.zeros((1, *shape), dtype), dtype=self.dtype, keep_weights=False)
        for arrays, frozen in every:
            result.load(arrays, partial=True)
            for path in frozen:
                result.freeze(path)
        return result


class _Pass:
    """One batch on its way through the stages, and its cotangents back."""

    def __init__(self, pipeline: Pipeline, comm: Communicator) -> None:
        self.comm = comm
        self.stage = pipeline.stages[comm.rank]
        self.is_first, self.is_last = comm.rank == 0, comm.rank == comm.size - 1
        looked_at = PASS.observer is not None or PASS.dry is not None
        self.count = 1 if looked_at else pipeline.micro_batches
        self.kept: list[tuple[Rows, Any, Any]] = []
        """Of each part its rows, what came in, and what came out."""

    def forward(self, x: Any) -> Any:
        if not isinstance(x, np.ndarray):
            raise LayerError(
                f"Pipeline: its input has to be one array of data, and is a {type(x).__name__}."
            )
        recording = STATE.now.recording
        size = len(x)
        count = max(1, min(self.count, size))
        if recording and count > 1 and self.stage.statistics(changing=True):
            raise LayerError(
                f"Pipeline: stage {self.comm.rank} takes statistics of a batch, and would take "
                "them of its parts. Use LayerNorm or GroupNorm, or micro_batches=1."
            )
        drawn, rows = PASS.drawn, PASS.rows
        try:
            for i in range(count):
                own = rows_of_part(size, i, count)
                PASS.drawn, PASS.rows = dict(drawn), own
                self._forward_part(x, own, recording)
        finally:
            PASS.rows = rows
        found = [np.asarray(held(out)) for _, _, out in self.kept] if self.is_last else None
        whole = self.comm.broadcast(
            None if found is None else np.concatenate(found), root=self.comm.size - 1
        )
        return self._recorded(whole) if recording else whole

    def _forward_part(self, x: Any, own: Rows, recording: bool) -> None:
        given: Any = (
            x[own.start : own.stop] if self.is_first else self.comm.receive(self.comm.rank - 1)
        )
        if recording and not self.is_first:
            given = Tensor(given)
        out = self.stage(given)
        if not self.is_last:
            self.comm.send(np.asarray(held(out)), self.comm.rank + 1)
        self.kept.append((own, given, out))

    def _recorded(self, whole: np.ndarray) -> Tensor:
        inputs = self.stage._trainable_tensors()
        if not inputs:
            raise LayerError(
                f"Pipeline: stage {self.comm.rank} has nothing to train. Put its layers into "
                "another stage, or thaw some."
            )

        def pullback(
            g: Any, outlines: Sequence[Any], wanted: Sequence[bool], places: Sequence[Any]
        ) -> list[Any]:
            if STATE.now.recording:
                raise DifferentiationError(
                    "Pipeline: its derivative cannot be differentiated again."
                )
            with self.comm.guarded():
                return self._backward(g, inputs, wanted, places)

        return nested("pipeline", whole, inputs, pullback)

    def _backward(
        self, g: Any, inputs: Sequence[Tensor], wanted: Sequence[bool], places: Sequence[Any]
    ) -> list[Any]:
        origins = [one.origin for one, want in zip(inputs, wanted, strict=True) if want]
        into = {
            one.origin: place
            for one, place in zip(inputs, places, strict=True)
            if place is not None
        }
        total: dict[Any, Any] = {}
        for own, given, out in self.kept:
            part_of_g = (
                g[own.start : own.stop] if self.is_last else self.comm.receive(self.comm.rank + 1)
            )
            targets = [*origins, *([] if self.is_first else [given.origin])]
            found = sweep(
                out, part_of_g, targets, release=True, destinations=None if total else into
            )
            if not self.is_first:
                back = found.pop(given.origin, None)
                if back is None:
                    back = np.zeros(given.shape, given.dtype)
                self.comm.send(np.asarray(back), self.comm.rank - 1)
            for origin, cotangent in found.items():
                if origin not in total:
                    total[origin] = cotangent
                elif total[origin] is into.get(origin):
                    total[origin] += cotangent
                else:
                    total[origin] = total[origin] + cotangent
        self.kept = []
        return [
            total.get(one.origin) if want else None
            for one, want in zip(inputs, wanted, strict=True)
        ]
