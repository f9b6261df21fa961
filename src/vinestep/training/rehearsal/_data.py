"""What a rehearsal asks of the data."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from ..._findings import Finding
from ...data.batches._batch import Batch
from ...data.encoding._drift import PICTURES
from ...tasks._base import Task
from ._stage import Stage, by_name, subject_of, tasks_of

__all__ = ["classes", "likeness", "told_by_inputs", "values"]

RARE = 0.1  # of an even share: a class with fewer examples is hardly learned
DOMINANT = 0.9
UNSCALED = 30.0  # a column whose spread, or middle, is this far from 1
APART = 5.0  # times: spreads of two parts
SIGNIFICANT = 4.0  # standard errors
LEAST = 30  # examples
MOST_FEATURES = 2048
MOST_VALUES = 50_000_000
CHANNELS = (1, 3, 4)


def values(stage: Stage) -> Iterator[Finding]:
    """Inputs that are no finite numbers, not scaled, or pictures with channels first."""
    source = stage.train.dataset
    whole = dict(_arrays(source.inputs)) if _is_cheap(stage) and source.inputs is not None else {}
    for name, array in _arrays(stage.batch.inputs):
        if array.dtype.kind != "f":
            continue
        everything = whole.get(name, array)
        bad = ~np.isfinite(
            everything if everything.size <= MOST_VALUES and everything.dtype.kind == "f" else array
        )
        if bad.any():
            first = tuple(int(i) for i in np.argwhere(bad)[0])
            yield Finding(
                name,
                "wrong",
                f"{int(bad.sum())} values are NaN or infinite, the first at {first}.",
                "Fill or leave them out.",
            )
            continue
        if (
            array.ndim == PICTURES
            and array.shape[1] in CHANNELS
            and array.shape[-1] not in CHANNELS
        ):
            evidence = (
                f"they have shape {array.shape[1:]}: it seems the channels come first, or "
                "height and width are mixed up with them."
            )
            yield Finding(
                "the pictures",
                "suspicious",
                evidence,
                "Channels come last: np.moveaxis(pictures, 1, -1).",
            )
        if array.ndim == 2 and len(array) >= LEAST:
            yield from _scales(name, array)
        elif array.ndim > 2 and array.std() > UNSCALED:
            evidence = (
                f"their standard deviation is {array.std():.3g}; networks learn best from "
                "values of about 1."
            )
            yield Finding(
                name,
                "suspicious",
                evidence,
                "Divide by a typical value, or subtract the mean and divide by the deviation.",
            )
    tasks = tasks_of(stage)
    for name, targets in by_name(stage.batch.targets).items():
        yield from _target_values(subject_of("the targets", name), targets, tasks.get(name))


def _target_values(subject: str, targets: np.ndarray, task: Task | None) -> Iterator[Finding]:
    if targets.dtype.kind == "f":
        if task is not None and task.gaps:
            targets = targets[~np.isnan(targets)]
        if not np.isfinite(targets).all():
            cure = "Leave such examples out, or say that targets may be missing: gaps=True."
            yield Finding(subject, "wrong", "some are NaN or infinite.", cure)
        elif not targets.size:
            yield Finding(subject, "wrong", "all are missing.", "See how targets are read.")
        elif targets.std() > UNSCALED or abs(targets.mean()) > UNSCALED * max(targets.std(), 1.0):
            evidence = (
                f"mean {targets.mean():.3g}, standard deviation {targets.std():.3g}; a "
                "network begins with outputs of about 1."
            )
            yield Finding(
                subject,
                "suspicious",
                evidence,
                "Learn (target - mean) / deviation, or the logarithm.",
            )


def _scales(name: str, array: np.ndarray) -> Iterator[Finding]:
    spread, middle = array.std(axis=0), np.abs(array.mean(axis=0))
    wide = np.flatnonzero((spread > UNSCALED) | (middle > UNSCALED * np.maximum(spread, 1)))
    if wide.size:
        i = int(wide[0])
        more = f" and {wide.size - 1} more" if wide.size > 1 else ""
        evidence = (
            f"column {i}{more}: mean {array[:, i].mean():.3g}, standard deviation "
            f"{spread[i]:.3g}; about 0 and 1 are learned best."
        )
        yield Finding(
            name,
            "suspicious",
            evidence,
            "Scale tables by vinestep.data.scaled(train, validation); arrays likewise.",
        )


def classes(stage: Stage) -> Iterator[Finding]:
    """Classes out of balance."""
    for name, targets in by_name(stage.batch.targets).items():
        labels = stage.train.dataset.labels(name) if _is_cheap(stage) else targets
        yield from _balance(subject_of("the classes", name), labels)


def _balance(subject: str, labels: np.ndarray | None) -> Iterator[Finding]:
    if labels is None or labels.dtype.kind not in "iu" or labels.ndim != 1:
        return
    counts = np.bincount(labels[labels >= 0])
    known = counts[counts > 0]
    if known.size < 2:
        evidence = f"all {len(labels)} examples are of class {int(np.argmax(counts))}."
        yield Finding(
            subject,
            "wrong",
            evidence,
            "There is nothing to tell apart: look at how targets are read.",
        )
        return
    shares = known / known.sum()
    if shares.max() > DOMINANT or shares.min() * known.size < RARE:
        evidence = (
            f"the largest has {shares.max():.1%} of the examples, the smallest {shares.min():.2%}."
        )
        cure = (
            "Draw them evenly, order=vinestep.data.Balanced(labels), or weigh them: "
            "class_weights= of cross_entropy."
        )
        yield Finding(subject, "suspicious", evidence, cure)
    else:
        yield Finding(
            subject,
            "sound",
            f"{known.size} of them, with {shares.min():.1%} to {shares.max():.1%} of the examples.",
        )


def _is_cheap(stage: Stage) -> bool:
    from ...data.sources._dataset import Dataset

    return isinstance(stage.train.dataset, Dataset) and not stage.train.dataset.mapped_files


def likeness(stage: Stage) -> Iterator[Finding]:
    """Validation inputs whose columns lie or spread otherwise than those of training: scaled twice,
    not at all, or transposed.
    """
    if stage.other is None:
        return
    for (name, ours), (_, theirs) in zip(
        _arrays(stage.batch.inputs), _arrays(stage.other.inputs), strict=False
    ):
        if (
            ours.dtype.kind != "f"
            or ours.ndim < 2
            or len(ours) < LEAST
            or len(theirs) < LEAST
            or ours.shape[1:] != theirs.shape[1:]
        ):
            continue
        a, b = ours.reshape(len(ours), -1), theirs.reshape(len(theirs), -1)
        if a.shape[1] > MOST_FEATURES:
            keep = np.linspace(0, a.shape[1] - 1, MOST_FEATURES).astype(int)
            a, b = a[:, keep], b[:, keep]
        spread = a.std(axis=0)
        used = spread > 1e-6 * max(float(spread.max(initial=0)), 1e-30)
        if not used.any():
            continue
        a, b, spread = a[:, used], b[:, used], spread[used]
        ratio = b.std(axis=0) / spread
        error = spread * np.sqrt(1 / len(a) + 1 / len(b))
        shift = np.abs(b.mean(axis=0) - a.mean(axis=0))
        off = (shift > SIGNIFICANT * error) & (shift > spread / 2)
        odd = (ratio > APART) | (ratio < 1 / APART) | off
        if odd.mean() > 0.1:
            i = int(np.argmax(odd))
            evidence = (
                f"{odd.mean():.0%} of the columns lie or spread otherwise than in training; "
                f"column {i}: mean {b[:, i].mean():.3g} and "
                f"deviation {b[:, i].std():.3g}, in training {a[:, i].mean():.3g} and "
                f"{a[:, i].std():.3g}."
            )
            yield Finding(
                f"{name} of the validation part",
                "wrong",
                evidence,
                "Prepare both parts by what was learned on the first, once.",
            )
        elif a.shape[1] > 8 and ours.ndim == PICTURES and ours.shape[1] == ours.shape[2]:
            yield from _turned(ours, theirs)


def _turned(ours: np.ndarray, theirs: np.ndarray) -> Iterator[Finding]:
    """Pictures of the validation part that look like those of training only after rows and columns
    change places.
    """
    mean, other = ours.mean(axis=0), theirs.mean(axis=0)
    noise = ours.std(axis=0) * np.sqrt(1 / len(ours) + 1 / len(theirs)) + 1e-9
    straight = float(np.mean(((other - mean) / noise) ** 2))
    for how, turned in (
        ("transposed", other.swapaxes(0, 1)),
        ("upside down", other[::-1]),
        ("mirrored", other[:, ::-1]),
    ):
        if float(np.mean(((turned - mean) / noise) ** 2)) * 2 < straight and straight > 3:
            evidence = (
                f"on average they look like those of training when they are {how}, and "
                "otherwise not."
            )
            yield Finding(
                "the pictures of the validation part",
                "wrong",
                evidence,
                "Read both parts in the same way.",
            )
            return


def told_by_inputs(stage: Stage) -> Iterator[Finding]:
    """Whether inputs tell anything of the targets: by nearest neighbours, by a linear model, or by
    a short training.
    """
    tried: tuple[bool, str] | None = None
    for name, targets in by_name(stage.batch.targets).items():
        found = _features(stage.batch, targets)
        if found is None or len(found[0]) < 2 * LEAST:
            continue
        subject = subject_of("inputs and targets", name)
        x, y = found
        score, chance, error = _neighbours(x, y)
        linear = _linear(x, y)
        if score - chance > 2.5 * error or linear > 2.5:
            words = f"nearest neighbours score {score:.3g}, guessing {chance:.3g}"
            told = f"the inputs tell something of the targets: {words}."
            yield Finding(subject, "sound", told)
            continue
        tried = tried or _by_training(stage)
        gained, words = tried
        if gained:
            told = f"a short training learned something that holds on other examples: {words}."
            yield Finding(subject, "sound", told)
            continue
        evidence = (
            "nothing in the inputs seems to tell the targets: nearest neighbours score "
            f"{score:.3g} where guessing gets {chance:.3g}, a linear "
            "model finds nothing, and a short training gained nothing that holds on other "
            f"examples ({words})."
        )
        cure = "See whether targets were shuffled, or joined to the wrong rows."
        yield Finding(subject, "suspicious", evidence, cure)


def _features(batch: Batch, targets: np.ndarray) -> tuple[np.ndarray, np.ndarray] | None:
    inputs = [array for _, array in _arrays(batch.inputs)]
    if (
        not inputs
        or any(array.dtype.kind not in "fu" for array in inputs)
        or batch.masks is not None
    ):
        return None
    y = targets.reshape(len(targets), -1)
    if y.shape[1] != 1 or targets.dtype.kind not in "iuf":
        return None
    known = y[:, 0] >= 0 if targets.dtype.kind in "iu" else ~np.isnan(y[:, 0])
    x = np.concatenate([array.reshape(len(array), -1) for array in inputs], axis=1)
    x = x[known].astype(np.float64)
    if not np.isfinite(x).all() or not len(x):
        return None
    spread = x.std(axis=0)
    x = (x - x.mean(axis=0)) / np.where(spread > 0, spread, 1)
    return x, y[known, 0]


def _neighbours(x: np.ndarray, y: np.ndarray) -> tuple[float, float, float]:
    """Leave-one-out score of the nearest neighbours, that of guessing, and the standard error of
    the difference.
    """
    squares = np.sum(x * x, axis=1)
    distances = squares[:, None] + squares[None] - 2 * x @ x.T
    np.fill_diagonal(distances, np.inf)
    nearest = np.argpartition(distances, 5, axis=1)[:, :5]
    n = len(y)
    if y.dtype.kind in "iu":
        votes = np.array(
            [np.bincount(row, minlength=int(y.max()) + 1).argmax() for row in y[nearest]]
        )
        right = votes == y
        shares = np.bincount(y) / n
        own = np.bincount(votes, minlength=len(shares)) / n
        chance = float(own @ shares)  # of votes as they are, on targets dealt anew
        return float(right.mean()), chance, float(np.sqrt(max(chance * (1 - chance), 1e-6) / n))
    with np.errstate(invalid="ignore"):
        correlation = float(np.nan_to_num(np.corrcoef(y[nearest].mean(axis=1), y)[0, 1]))
    return correlation, 0.0, 1 / np.sqrt(n)


def _linear(x: np.ndarray, y: np.ndarray) -> float:
    """How many standard errors a ridge regression on one half gets the other half right beyond
    chance.
    """
    half = len(x) // 2
    y = (
        (y[:, None] == np.unique(y)).astype(float)
        if y.dtype.kind in "iu"
        else y[:, None].astype(float)
    )
    order = np.random.default_rng(0).permutation(len(x))
    a, b = order[:half], order[half:]
    gram = x[a] @ x[a].T + 0.1 * x.shape[1] * np.eye(half)
    guess = x[b] @ (x[a].T @ np.linalg.solve(gram, y[a] - y[a].mean(axis=0)))
    rest = y[b] - y[b].mean(axis=0)
    with np.errstate(invalid="ignore", divide="ignore"):
        correlations = np.sum(guess * rest, axis=0) / np.sqrt(
            np.sum(guess**2, axis=0) * np.sum(rest**2, axis=0)
        )
    best = float(np.nanmax(np.nan_to_num(correlations)))
    return float(
        best * np.sqrt(len(b)) - 1.0 * (y.shape[1] > 1)
    )  # the best of several is higher by chance


def _by_training(stage: Stage) -> tuple[bool, str]:
    """Whether a few seconds of training lower the loss on examples that were not trained on."""
    import time

    from ..step._scoring import average_scores

    validation = stage.validation
    if validation is None:
        return False, "no validation part to try"
    one = stage.copy_of_training()
    before = average_scores(one.network, validation, one.loss, [])["loss"]
    best, begun = before, time.perf_counter()
    for epoch in range(40):
        for i, group in one.grouped(stage.train.epoch(epoch, seed=one.seed)):
            one.make_step(group, epoch, i)
            if time.perf_counter() - begun > 3:
                break
        best = min(best, average_scores(one.network, validation, one.loss, [])["loss"])
        if best < 0.9 * before or time.perf_counter() - begun > 3:
            break
    return best < 0.9 * before, f"its validation loss went from {before:.4g} to {best:.4g} at best"


def _arrays(inputs: Any) -> Iterator[tuple[str, np.ndarray]]:
    if isinstance(inputs, dict):
        yield from ((f"input {name}", np.asarray(array)) for name, array in inputs.items())
    elif isinstance(inputs, tuple):
        yield from ((f"input {i}", np.asarray(array)) for i, array in enumerate(inputs))
    else:
        yield "the inputs", np.asarray(inputs)
