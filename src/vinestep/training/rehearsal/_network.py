"""What a rehearsal asks of the network: its first loss, outputs, units, weights and gradients, and
whether examples stay apart.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from fnmatch import fnmatchcase
from typing import TYPE_CHECKING, Any

import numpy as np

from ..._findings import Finding
from ...autodiff.checking import ArgumentCheck, check_gradients
from ...autodiff.tensor import held
from ...autodiff.tracking import untracked
from ...errors import DataError
from ...layers._base import Layer
from ...layers._containers import Stack
from ...layers._learning_pass import learning, observed
from ...layers._named_inputs import inputs_in_order
from ...losses import unwrapped
from ...tasks._base import Task
from ...tasks._classes import Binary, Classes
from ...tasks._numbers import Numbers
from ...tasks._several import Several
from ..step._forward_pass import loss_of, outputs_of, outputs_of_batch

if TYPE_CHECKING:
    pass
from ._stage import (
    Stage,
    by_name,
    first_examples,
    outputs_in_inference,
    subject_of,
    tasks_of,
)

__all__ = [
    "activations_between",
    "derivatives",
    "dropout",
    "examples_apart",
    "first_loss",
    "gradients",
    "negative_targets",
    "outputs",
    "units",
    "weights",
]

FEW = 64  # examples for what is computed several times
DEAD = 0.5  # of the units of a layer
SATURATED = 0.7
FLAT = 1e-6
MORE, MUCH_MORE = 5.0, 25.0  # times the loss of guessing: of classes, and of squares of numbers
CUT = 0.05  # of values: exactly 0, or targets below 0
MOST_DROPPED = 0.85
NEAR = 1e-6  # steps that hardly ever cross a kink
FAR = 1e3  # times: gradients of the first and the last layer
LEAST_FAN, MOST_FAN = 0.05, 8.0  # of the deviation that keeps the size of what passes through
WORDS = {"Dropout", "Noise", "Flatten", "Reshape"}
LINEAR = {"Dense", "Convolution", "TransposedConvolution"}


def first_loss(stage: Stage) -> Iterator[Finding]:
    """The loss before any training is about what guessing gets."""
    training, batch = stage.training, stage.batch
    with untracked():
        value = float(
            np.asarray(
                held(
                    loss_of(
                        training.loss,
                        outputs_of_batch(training.network, batch),
                        batch,
                    )
                )
            )
        )
    if not math.isfinite(value):
        yield Finding(
            "the first loss",
            "wrong",
            f"it is {value}.",
            "See whether inputs or targets hold NaN, or weights are far too large.",
        )
        return
    chance, how = _chance(stage)
    if chance is None or training.step_number:
        return
    numbers = not isinstance(training.task, Classes | Binary)
    if value > (MUCH_MORE if numbers else MORE) * chance + 0.5 or (
        value < 0.2 * chance and isinstance(training.task, Classes | Binary)
    ):
        cure = (
            "Smaller weights in the last layer, scaled inputs and targets; see that the loss "
            "gets what it expects."
        )
        yield Finding(
            "the first loss", "suspicious", f"it is {value:.4g}, and {how} gets {chance:.4g}.", cure
        )
    else:
        yield Finding("the first loss", "sound", f"it is {value:.4g}, and {how} gets {chance:.4g}.")


def _chance(stage: Stage) -> tuple[float | None, str]:
    """What the loss is of an output of 0, and in which words."""
    batch, loss, task = stage.batch, stage.training.loss, stage.training.task
    settings = unwrapped(loss)[1]
    targets = by_name(batch.targets)
    if isinstance(task, Binary):
        weighed = settings.get("positive_weight", task.positive_weight) != 1.0
        return (None, "") if weighed else (math.log(2), "an even guess of yes or no")
    width = outputs_in_inference(stage, first_examples(batch, 1))
    if type(task) is Classes and targets.get("", np.empty(0)).dtype.kind in "iu":
        classes = width[""].shape[-1]
        return math.log(classes), f"an even guess among {classes} classes"
    known = isinstance(loss, Task) or getattr(loss, "__name__", "") == "squared_error"
    if not known or batch.masks is not None:
        return None, ""
    n = len(batch)
    zeros = {name: np.zeros((n, *array.shape[1:])) for name, array in width.items()}
    try:
        value = loss_of(loss, zeros if isinstance(task, Several) else zeros[""], batch)
    except DataError:
        return None, ""  # nothing of the batch counts
    return float(np.asarray(held(value))), "an output of 0"


def outputs(stage: Stage) -> Iterator[Finding]:
    """Outputs that ignore the inputs, are random in inference, are no logits, or come of a network
    that is linear.
    """
    training, batch = stage.training, first_examples(stage.batch, FEW)
    every = outputs_in_inference(stage, batch)
    again = outputs_in_inference(stage, batch)
    if not all(np.array_equal(every[name], again[name], equal_nan=True) for name in every):
        evidence = "two passes in inference on the same inputs give different outputs."
        cure = (
            "Something is drawn at random, such as dropout, outside of learning: use the "
            "library's Dropout, or vinestep's learning()."
        )
        yield Finding("the inference pass", "wrong", evidence, cure)
    elif not _changes_in_learning(training.network):
        with untracked(), learning(training.seed, 0):
            other = by_name(outputs_of_batch(training.network, batch))
        if not all(_are_near(other[name], array) for name, array in every.items()):
            yield Finding(
                "the learning pass",
                "suspicious",
                "it differs from inference, and no layer is known that should.",
                "See what differs.",
            )
    tasks = tasks_of(stage)
    for name, array in every.items():
        yield from _of_one_output(name, array, tasks.get(name, Task()))


def _are_near(other: np.ndarray, array: np.ndarray) -> bool:
    scale = np.abs(array).max() + 1e-30
    return other.shape != array.shape or np.allclose(other, array, rtol=1e-3, atol=1e-4 * scale)


def _of_one_output(name: str, findings: np.ndarray, task: Task) -> Iterator[Finding]:
    subject = subject_of("the outputs", name)
    spread = float(
        np.max(np.ptp(findings.reshape(len(findings), -1).astype(np.float64), axis=0), initial=0.0)
    )
    if len(findings) > 1 and spread <= FLAT * (float(np.abs(findings).max()) + 1e-30):
        evidence = f"they are the same for {len(findings)} different inputs."
        yield Finding(
            subject,
            "wrong",
            evidence,
            "Look for units that are dead, weights of 0, or inputs that are all alike.",
        )
    classes = type(task) is Classes
    if isinstance(task, Binary) or (classes and findings.ndim > 1 and findings.shape[-1] > 1):
        sums = findings.sum(axis=-1)
        if classes and np.all(findings >= 0) and np.allclose(sums, 1, atol=1e-3):
            evidence = (
                "they are positive and add up to 1, as probabilities do; the loss takes "
                "logits and makes probabilities itself."
            )
            yield Finding(
                subject,
                "wrong",
                evidence,
                "Leave the softmax at the end out.",
            )
        elif np.all(findings >= 0) and np.all(findings <= 1):
            evidence = (
                "they all lie from 0 to 1; the loss takes logits, which go as far as they "
                "like either way."
            )
            yield Finding(
                subject,
                "wrong",
                evidence,
                "Leave the activation at the end out.",
            )
        elif np.all(findings >= 0) and _is_cut(findings):
            evidence = (
                "none is negative, as after a relu; the loss takes logits, which go as far "
                "as they like either way."
            )
            yield Finding(
                subject,
                "suspicious",
                evidence,
                "Leave the activation at the end out.",
            )


def _is_cut(outputs: np.ndarray) -> bool:
    """Whether values are exactly 0 as often as a relu makes them."""
    return bool(np.mean(outputs == 0) > CUT)


def negative_targets(stage: Stage) -> Iterator[Finding]:
    """Outputs that cannot be negative, of targets that are."""
    targets = by_name(stage.batch.targets)
    tasks = tasks_of(stage)
    for name, outputs in outputs_in_inference(stage, stage.batch).items():
        if not isinstance(tasks.get(name), Numbers) or name not in targets:
            continue
        below = float(np.mean(targets[name] < 0)) if targets[name].dtype.kind == "f" else 0.0
        if np.all(outputs >= 0) and _is_cut(outputs) and below > CUT:
            yield Finding(
                subject_of("the outputs", name),
                "wrong",
                f"none is negative, as after a relu, and {below:.0%} of the targets are.",
                "Leave the activation at the end out.",
            )


def dropout(stage: Stage) -> Iterator[Finding]:
    """Dropout that leaves hardly anything."""
    for layer in stage.training.network.walk():
        share = getattr(layer, "probability", None)
        if type(layer).__name__ == "Dropout" and isinstance(share, float) and share > MOST_DROPPED:
            yield Finding(
                f"layer {layer.path}",
                "suspicious",
                f"dropout sets {share:.0%} of its values to 0, which hides most of what it learns.",
                "0.1 to 0.5 are usual.",
            )


def _changes_in_learning(network: Layer) -> bool:
    """Whether some layer is meant to compute otherwise in learning."""
    return any(
        type(layer).__name__ in ("Dropout", "Noise", "BatchNorm") or _has_dropout(layer)
        for layer in network.walk()
    )


def _has_dropout(layer: Layer) -> bool:
    return any(
        "dropout" in name and value
        for name, value in vars(layer).items()
        if isinstance(value, float)
    )


def examples_apart(stage: Stage) -> Iterator[Finding]:
    """An example's output does not depend on the others of its batch."""
    batch = first_examples(stage.batch, 8)
    n = len(batch)
    if n < 2 or batch.masks is not None:
        return
    every, ones = (outputs_in_inference(stage, part) for part in (batch, first_examples(batch, 1)))
    shared = [name for name, array in every.items() if array.shape[0] != n]
    if shared:
        evidence = f"{n} inputs give {every[shared[0]].shape[0]} outputs."
        yield Finding(
            "the batch axis",
            "wrong",
            evidence,
            "Keep the first axis: reshape to (batch, ...), flatten the others only.",
        )
        return
    together, alone = (
        np.concatenate([a.reshape(len(a), -1) for a in part.values()], axis=1).astype(np.float64)
        for part in (every, ones)
    )
    scale = float(np.abs(together).max()) + 1e-30
    if not np.allclose(together[:1], alone, rtol=1e-3, atol=1e-4 * scale):
        evidence = (
            "an example's output changes by "
            f"{float(np.abs(together[:1] - alone).max()):.3g} when others are in its batch."
        )
        cure = (
            "Some operation goes over the first axis, as a mean over axis 0 or a reshape that "
            "mixes examples does."
        )
        yield Finding("the batch axis", "wrong", evidence, cure)
    else:
        yield Finding(
            "the batch axis",
            "sound",
            "an example's output does not depend on the others of its batch.",
        )


def activations_between(stage: Stage) -> Iterator[Finding]:
    """Layers with weights one after another without an activation between them are one layer."""
    for stack in (layer for layer in stage.training.network.walk() if isinstance(layer, Stack)):
        before: str | None = None
        for i in range(len(stack)):
            layer = stack[i]
            name = type(layer).__name__
            if name in LINEAR:
                if before is not None:
                    evidence = (
                        f"there is no activation between {before} and "
                        f"{stack._join(str(i))}: together they are one linear layer."
                    )
                    yield Finding(
                        "the layers",
                        "suspicious",
                        evidence,
                        'Give the first an activation: Dense(64, "relu") or vinestep.relu.',
                    )
                before = stack._join(str(i)) if getattr(layer, "activation", None) is None else None
            elif name not in WORDS:
                before = None


def units(stage: Stage) -> Iterator[Finding]:
    """Units that are dead or saturated for all examples looked at."""
    seen: dict[str, np.ndarray] = {}

    def told(layer: Any, path: str, inputs: tuple[Any, ...], output: Any) -> None:
        array = np.asarray(held(output[0] if isinstance(output, tuple) else output))
        if array.ndim > 1 and array.dtype.kind == "f":
            seen[path] = array.reshape(-1, array.shape[-1])

    batch = first_examples(stage.batch, FEW * 2)
    with observed(told):
        outputs_in_inference(stage, batch)
    last = list(seen)[-1:] + [""]
    for path, array in seen.items():
        if path in last or len(array) < FEW or array.shape[-1] < 2:
            continue
        dead = float(np.mean(np.all(array == 0, axis=0)))
        if dead > DEAD:
            evidence = (
                f"{dead:.0%} of its {array.shape[-1]} units are 0 for all {len(batch)} examples."
            )
            yield Finding(
                f"layer {path}",
                "wrong",
                evidence,
                "Smaller weights, biases of 0, scaled inputs; or leaky_relu.",
            )
        size = np.abs(array)
        if (
            size.max() <= 1
            and float(np.mean((size > 0.98) | (_all_positive(array) & (array < 0.02)))) > SATURATED
        ):
            evidence = (
                "most of its values lie at the ends of their range, where nothing is learned."
            )
            yield Finding(
                f"layer {path}",
                "suspicious",
                evidence,
                "Smaller weights, scaled inputs, or a normalisation before it.",
            )


def _all_positive(array: np.ndarray) -> bool:
    return bool(array.min() > 0)


def gradients(stage: Stage) -> Iterator[Finding]:
    """Every trainable parameter gets a gradient, and those of first and last layers are of like
    size.
    """
    training = stage.copy_of_training()
    _, _, findings = training.derived([first_examples(stage.batch, FEW)], None)
    sizes = {
        path: float(np.sqrt(np.mean(np.square(g, dtype=np.float64))))
        for path, g in findings.items()
    }
    without = [path for path, size in sizes.items() if size == 0]
    if without:
        more = f" and {len(without) - 4} more" if len(without) > 4 else ""
        evidence = f"{', '.join(without[:4])}{more} get a gradient of 0."
        yield Finding(
            "the gradients",
            "wrong",
            evidence,
            "They are cut off: by dead units, a constant in between, or held().",
        )
    arrays = training.network.arena.trainable  # type: ignore[union-attr]
    along = [
        (path, sizes[path]) for path in sizes if len(arrays[path].shape) > 1 and sizes[path] > 0
    ]
    if len(along) > 1 and not without:
        (first, low), (last, high) = along[0], along[-1]
        ratio = low / high
        if ratio < 1 / FAR or ratio > FAR:
            what = "vanish" if ratio < 1 else "explode"
            evidence = (
                f"they {what} on the way back: {low:.2g} at {first}, {high:.2g} at {last} "
                "(root of the mean square)."
            )
            yield Finding(
                "the gradients",
                "suspicious",
                evidence,
                "Relu-like activations, normalisation or residual connections; clip=.",
            )
        else:
            yield Finding(
                "the gradients",
                "sound",
                f"all {len(sizes)} parameters get one; {low:.2g} at {first}, {high:.2g} at {last}.",
            )
    yield from _frozen(stage)


def _frozen(stage: Stage) -> Iterator[Finding]:
    """Frozen parameters that are still as they were drawn."""
    import copy

    network = stage.training.network
    arena = network.arena
    assert arena is not None
    if not arena.frozen_paths:
        return
    fresh = copy.deepcopy(network)
    inputs = inputs_in_order(fresh, stage.batch.inputs)
    fresh.initialise(
        inputs if isinstance(inputs, tuple) else inputs[:1],
        seed=stage.training.seed,
        dtype=network.dtype,
    )
    drawn, ours = fresh._ready_arena().arrays(), arena.arrays()
    still = [
        path
        for path in sorted(arena.frozen_paths)
        if ours[path].size > 1 and np.ptp(ours[path]) and np.array_equal(ours[path], drawn[path])
    ]
    if still:
        evidence = (
            f"{still[0]}{f' and {len(still) - 1} more' if len(still) > 1 else ''} are "
            "frozen as they were drawn, never trained."
        )
        yield Finding(
            "frozen parameters",
            "suspicious",
            evidence,
            f"Thaw them, network.thaw({still[0]!r}), or load trained weights.",
        )


def weights(stage: Stage) -> Iterator[Finding]:
    """Weights of a size that keeps the size of what passes through."""
    arena = stage.training.network.arena
    assert arena is not None
    if stage.training.step_number:
        return
    odd = []
    for path, array in arena.arrays().items():
        if array.ndim < 2 or not fnmatchcase(path, "*weight*") or array.size < FEW:
            continue
        fan_in = int(np.prod(array.shape[:-1]))
        gain = float(array.std()) * math.sqrt(fan_in)
        if not LEAST_FAN < gain < MOST_FAN:
            odd.append((path, gain))
    if odd:
        path, gain = odd[0]
        how = "large" if gain > 1 else "small"
        evidence = (
            f"{path}{f' and {len(odd) - 1} more' if len(odd) > 1 else ''} are too {how} "
            f"for their fan-in: a layer scales by {gain:.2g}."
        )
        yield Finding(
            "the weights",
            "suspicious",
            evidence,
            "Use the library's initialisers, which divide by the root of the fan-in.",
        )


def derivatives(stage: Stage) -> Iterator[Finding]:
    """Gradients agree with finite differences, in float64, on some elements of each parameter."""
    import copy

    training, batch = stage.training, first_examples(stage.batch, 6)
    estimating = [layer for layer in training.network.walk() if layer.estimates_gradients]
    if estimating:
        said = (
            f"gradients through {type(estimating[0]).__name__} are on purpose others than the "
            "derivative, which finite differences would give."
        )
        yield Finding("the derivatives", "not tested", said)
        return
    network = copy.deepcopy(training.network)
    inputs = inputs_in_order(network, batch.inputs)
    kept = {**network._ready_arena().arrays(), **network.statistics()}
    network.initialise(
        inputs if isinstance(inputs, tuple) else inputs[:1], seed=training.seed, dtype=np.float64
    )
    network.load(kept)

    def loss(net: Layer) -> Any:
        with learning(training.seed, 0):
            return loss_of(
                training.loss,
                outputs_of(net, _as_float64(batch.inputs), batch.masks, batch.targets),
                batch,
            )

    report = check_gradients(loss, network, elements=6)
    wrong = [
        check for check in report.arguments if not check.ok and not _is_kink(loss, network, check)
    ]
    if not wrong:
        yield Finding("the derivatives", "sound", "gradients agree with finite differences.")
    else:
        bad = wrong[0]
        evidence = (
            f"at {bad.path} {bad.worst} the gradient is {bad.ours:.5g}, finite differences "
            f"give {bad.reference:.5g}."
        )
        cure = (
            "Look at operations of your own: their adjoints, and values that were held. "
            "vinestep.check_gradients shows all."
        )
        yield Finding("the derivatives", "wrong", evidence, cure)


def _is_kink(loss: Any, network: Layer, check: ArgumentCheck) -> bool:
    """Whether a gradient lies between the slopes on either side, so close that a kink of a relu was
    stepped over before.
    """
    array = network.weights()[check.path]
    before = float(array[check.worst])

    def at(shift: float) -> float:
        array[check.worst] = before + shift
        with untracked():
            result = float(np.asarray(held(loss(network))))
        array[check.worst] = before
        return result

    here = at(0.0)
    sides = (here - at(-NEAR)) / NEAR, (at(NEAR) - here) / NEAR
    slack = 1e-4 * max(map(abs, (*sides, 1e-3)))
    return min(sides) - slack <= check.ours <= max(sides) + slack


def _as_float64(inputs: Any) -> Any:
    from ...data.batches._batch import mapped

    return mapped(lambda x: x.astype(np.float64) if np.asarray(x).dtype.kind == "f" else x, inputs)
