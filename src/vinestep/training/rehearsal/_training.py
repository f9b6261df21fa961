"""What a rehearsal asks of the training: its rate, whether a batch can be learned by heart, the
whole way of a run, and its cost.
"""

from __future__ import annotations

import math
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import scipy

from ..._findings import Finding
from ...autodiff.gradients import euclidean_norm
from ...data.batches._batch import Batch
from ...errors import NotFiniteError, PartError
from ...evaluation._scores import metric_counts
from ...optimisers._quasi_newton import LBFGS
from ...schedules import constant
from ...tasks._classes import Binary, Classes, Ordered

if TYPE_CHECKING:
    from ..step._base import TrainingBase
from ._cures import top_rate, try_rate, try_warmup
from ._stage import Stage, first_examples, raw_outputs

__all__ = ["augmentation", "batch_order", "by_heart", "cost", "first_steps", "rate", "whole_way"]

LARGE_UPDATE, SMALL_UPDATE = 0.3, 1e-7  # of a parameter's size, in one step
DECAY = 0.1  # in one step
ORDERED_BATCHES, FEW_BATCHES = 16, 4
SORTED = 1e-6
CUT_OFF = 0.08  # of the values
FEW_STEPS = 5
FEWEST_STEPS = 30  # that tell whether a batch is learned
LEARNED = 16  # examples to be learned by heart
MOST_STEPS = 300
SECONDS = 4.0


def rate(stage: Stage) -> Iterator[Finding]:
    """How far one step at the highest rate goes, by parameter."""
    training = stage.copy_of_training()
    optimiser = training.optimiser
    if isinstance(optimiser, LBFGS):
        return
    top = top_rate(training)
    if top * optimiser.weight_decay > DECAY:
        evidence = f"each step takes {top * optimiser.weight_decay:.1%} of the weights away."
        yield Finding(
            "the weight decay",
            "suspicious",
            evidence,
            "A smaller weight_decay; it is multiplied by the rate.",
        )
    arena = training.network.arena
    assert arena is not None
    before = arena.values.copy()
    _, _, gradients = training.derived([stage.batch], None)
    if not np.isfinite(gradients.flat).all() or not gradients.flat.any():
        return
    with np.errstate(over="ignore", invalid="ignore"):
        optimiser.update(arena.values, gradients.flat, top)
    moves = {}
    for slot in arena.layout:
        array, now = arena.layout.view(before, slot), arena.layout.view(arena.values, slot)
        size = euclidean_norm(array.reshape(-1))
        if array.ndim > 1 and size > 0 and optimiser.factors_of(slot.path, slot.shape)[0] > 0:
            moves[slot.path] = euclidean_norm((now - array).reshape(-1)) / size
    if not moves:
        return
    path = max(moves, key=lambda name: moves[name] if math.isfinite(moves[name]) else math.inf)
    if not moves[path] <= LARGE_UPDATE:
        evidence = (
            f"one step at the highest rate, {top:.3g}, moves {path} by {moves[path]:.2g} "
            "of its size; 0.001 is usual."
        )
        cure = (
            "A smaller rate: vinestep.training.rate_range(training, batches) suggests one. Or "
            f"a warm-up. {try_warmup(stage)}"
        ).strip()
        yield Finding("the rate", "wrong" if not moves[path] <= 3 else "suspicious", evidence, cure)
    elif max(moves.values()) < SMALL_UPDATE:
        evidence = (
            f"one step at the highest rate, {top:.3g}, moves no parameter by more than "
            f"{max(moves.values()):.2g} of its size."
        )
        yield Finding(
            "the rate",
            "suspicious",
            evidence,
            "A larger rate; vinestep.training.rate_range(training, batches) suggests one. "
            f"{try_rate(stage, 10.0)}".strip(),
        )
    else:
        yield Finding(
            "the rate",
            "sound",
            f"one step at the highest rate, {top:.3g}, moves {path} by {moves[path]:.2g} of its "
            "size.",
        )


def batch_order(stage: Stage) -> Iterator[Finding]:
    """Batches that come sorted, so that each shows the network a part of what there is."""
    labels: list[np.ndarray] = []
    for batch in stage.train.epoch(0, seed=stage.training.seed):
        targets = batch.targets
        if not isinstance(targets, np.ndarray) or targets.dtype.kind not in "iuf":
            return
        flat = targets.reshape(len(targets), -1)
        if flat.shape[1] != 1:
            return
        labels.append(flat[:, 0].astype(np.float64))
        if len(labels) >= ORDERED_BATCHES:
            break
    sizes = np.array([len(one) for one in labels])
    if len(labels) < FEW_BATCHES or sizes.min() < 2:
        return
    whole = np.concatenate(labels)
    # of ranks, between batches against within: W. H. Kruskal and W. A. Wallis, JASA 47, 1952
    ranks = np.split(scipy.stats.rankdata(whole), np.cumsum(sizes)[:-1])
    n = len(whole)
    spread = float(np.var(np.concatenate(ranks), ddof=1))
    if not spread:
        return
    between = sum(m * (r.mean() - (n + 1) / 2) ** 2 for m, r in zip(sizes, ranks, strict=True))
    p = float(scipy.special.chdtrc(len(labels) - 1, between / spread))
    if p < SORTED:
        yield Finding(
            "the order of batches",
            "suspicious",
            f"the targets of the first {len(labels)} batches differ from batch to batch beyond "
            f"chance (p = {p:.1g}), as in data that are sorted.",
            "Shuffle: batches(..., shuffled=True), which is usual.",
        )


def augmentation(stage: Stage) -> Iterator[Finding]:
    """Augmentation that cuts values at a border."""
    if not stage.train.augment:
        return
    batch = next(iter(stage.train.epoch(0, seed=stage.training.seed)))
    plain, changed = np.asarray(stage.batch.inputs), np.asarray(batch.inputs)
    if plain.dtype.kind != "f" or plain.dtype != changed.dtype:
        return
    before, after = _at_borders(plain), _at_borders(changed)
    words = (
        f"{after:.0%} of the augmented values lie at their lowest or highest, {before:.0%} of "
        "the plain ones do"
    )
    if after > before + CUT_OFF:
        yield Finding(
            "the augmentation",
            "suspicious",
            f"it cuts values off: {words}.",
            "See for which range it was made; augment before Range or Normalise, or tell it the "
            "range.",
        )
    else:
        yield Finding("the augmentation", "sound", f"{words}.")


def _at_borders(values: np.ndarray) -> float:
    return float(np.mean((values == values.min()) | (values == values.max())))


def by_heart(stage: Stage) -> Iterator[Finding]:
    """A few examples can be learned by heart."""
    training = stage.copy_of_training()
    batch = first_examples(stage.batch, LEARNED)
    classes = _are_classes(training, batch)
    training.descent.schedule = constant()
    first = best = math.nan
    losses: list[float] = []
    begun = time.perf_counter()
    try:
        for step in range(MOST_STEPS):
            value = training.make_step([batch], 0, 0)[0].loss
            losses.append(value)
            first = value if not step else first
            best = value if not step else min(best, value)
            if _is_learned(best, first, classes) or time.perf_counter() - begun > SECONDS:
                break
    except NotFiniteError as error:
        evidence = (
            f"at the full rate the loss went from {first:.4g} to nowhere within "
            f"{len(losses)} steps: {error}"
        )
        cure = f"A smaller rate, or clip=. {try_rate(stage, 0.1)}".strip()
        yield Finding("learning a batch by heart", "wrong", evidence, cure)
        return
    tail = float(np.median(losses[-10:]))
    words = (
        f"the loss on {len(batch)} examples went from {first:.4g} to {best:.4g} in "
        f"{len(losses)} steps"
    )
    if _is_learned(best, first, classes) or tail < 0.5 * first:
        yield Finding("learning a batch by heart", "sound", f"{words}.")
    elif tail > 1.5 * first:
        yield Finding(
            "learning a batch by heart",
            "wrong",
            f"{words}, and then up to {tail:.4g}.",
            f"A much smaller rate. {try_rate(stage, 0.1)}".strip(),
        )
    elif len(losses) < FEWEST_STEPS:
        cure = "The run tells: see whether its loss falls."
        yield Finding(
            "learning a batch by heart", "unclear", f"{words}, all there was time for.", cure
        )
    elif tail > 0.98 * first:
        cure = (
            "See that gradients reach all layers, the rate is not far too small, and inputs "
            f"differ; try a wider network. {try_rate(stage, 10.0)}"
        ).strip()
        yield Finding("learning a batch by heart", "wrong", f"{words}: nothing is learned.", cure)
    elif len(losses) >= MOST_STEPS and tail > 0.8 * first:
        cure = (
            "A larger rate or a wider network; equal inputs with different targets cannot be "
            f"learned by heart. {try_rate(stage, 10.0)}"
        ).strip()
        yield Finding("learning a batch by heart", "suspicious", f"{words} only.", cure)
    else:
        yield Finding("learning a batch by heart", "sound", f"{words}, and it goes on.")


def _are_classes(training: TrainingBase, batch: Batch) -> bool:
    """Whether the targets are labels of logits."""
    task = training.task
    return isinstance(task, Classes | Binary | Ordered) and (
        np.asarray(batch.targets).dtype.kind in "iu"
    )


def _is_learned(best: float, first: float, classes: bool) -> bool:
    return best < (0.1 if classes else 0.1 * first)


def whole_way(stage: Stage) -> Iterator[Finding]:
    """Training, validation, saving, continuing, handing on and predicting, on two batches."""
    from ..._model import open_model
    from ...storage.archive import read

    training = stage.copy_of_training()
    batch, size = stage.batch, max(1, len(stage.batch) // 2)
    parts = [first_examples(batch, size), first_examples(batch, size)]
    for part in parts:
        training.make_step([part], 0, 0)
    state = training.descent.state()
    other = stage.copy_of_training()
    other.descent.restore(state)
    for one in (training, other):
        one.make_step([parts[0]], 0, 0)
    arena, again = training.network.arena, other.network.arena
    assert arena is not None
    assert again is not None
    if not np.array_equal(arena.values, again.values, equal_nan=True):
        evidence = "after a state was saved and taken back, the next step led elsewhere."
        cure = (
            "Something that changes is not part of the state: a counter or generator of your "
            "own, numbers drawn by np.random."
        )
        yield Finding("continuing", "wrong", evidence, cure)
    scored = stage.other if stage.other is not None else batch
    found = raw_outputs(stage, scored)
    for metric in training.metrics:
        counts = metric_counts(metric, training.loss, found, scored.targets, scored.weights)
        value = metric.conclude(counts)
        if not math.isfinite(value):
            yield Finding(
                f"the metric {metric.name}",
                "suspicious",
                f"it is {value} on {len(scored)} examples.",
                "See what it divides by.",
            )
    model = training.model()
    try:
        with tempfile.TemporaryDirectory() as folder:
            file = model.save(Path(folder) / "rehearsed.vine")
            read(file)
            open_model(file)
    except PartError as error:
        yield Finding(
            "handing on",
            "suspicious",
            str(error).splitlines()[0],
            "Without a kind, states can be continued, and not opened as models.",
        )
    yield Finding(
        "the whole way",
        "sound",
        f"training, saving, continuing and scoring ran on {len(batch)} examples.",
    )


def first_steps(stage: Stage) -> Iterator[Finding]:
    """A few steps, of which the figures are told."""
    training = stage.copy_of_training()
    found: dict[str, list[float]] = {}
    try:
        for i, group in training.grouped(stage.train.epoch(0, seed=training.seed)):
            step = training.make_step(group, 0, i)[0]
            for name, value in {"loss": step.loss, **step.metrics}.items():
                found.setdefault(name, []).append(value)
            if step.number >= FEW_STEPS:
                break
    except NotFiniteError as error:
        yield Finding("the first steps", "wrong", str(error), "A smaller rate, or clip=.")
        return
    words = ", ".join(
        f"{name} from {values[0]:.3g} to {values[-1]:.3g}" for name, values in found.items()
    )
    n = len(next(iter(found.values()), []))
    yield Finding("the first steps", "sound", f"in {n} steps {words}.")


def cost(stage: Stage) -> Iterator[Finding]:
    """How long the run will take, and how much memory a step."""
    import psutil

    training = stage.copy_of_training()
    process = psutil.Process()
    times, memory, begun = [], process.memory_info().rss, time.perf_counter()
    for _, group in training.grouped(stage.train.epoch(0, seed=training.seed)):
        at = time.perf_counter()
        training.make_step(group, 0, 0)
        times.append(time.perf_counter() - at)
        if len(times) >= 20 or time.perf_counter() - begun > 1.0:
            break
    step = float(np.median(times[1:] or times))
    grown = max(0, process.memory_info().rss - memory) / 2**20
    available = psutil.virtual_memory().available / 2**20
    words = f"a step takes {1000 * step:.3g} ms"
    if stage.steps:
        words += (
            f", the run of {stage.steps:,} steps about {_duration(step * stage.steps)} "
            "without validation"
        )
    verdict, cure = (
        ("suspicious", "Use smaller batches with accumulate=.")
        if grown > 0.5 * available
        else ("sound", "")
    )
    yield Finding(
        "time and memory",
        verdict,  # type: ignore[arg-type]
        f"{words}; memory grew by {grown:.0f} MB, {available:,.0f} MB are free.",
        cure,
    )


def _duration(seconds: float) -> str:
    for unit, length in (("hours", 3600.0), ("minutes", 60.0)):
        if seconds >= 2 * length:
            return f"{seconds / length:.3g} {unit}"
    return f"{seconds:.2g} seconds"
