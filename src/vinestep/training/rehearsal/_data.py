"""What a rehearsal asks of the data."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import scipy

from ..._findings import Finding
from ...data.encoding._drift import PICTURES
from ...tasks._base import Task
from ._cures import try_scaled_inputs, try_scaled_targets
from ._permutation_test import (
    correlations_across,
    features_of,
    permutation_test,
    subsample,
    targets_in_columns,
)
from ._stage import Stage, by_name, subject_of, tasks_of

__all__ = ["classes", "concept_shift", "finite_validation", "likeness", "told_by_inputs", "values"]

FEW = 10  # examples: a class with fewer is hardly learned, a column with fewer values not tested
UNEVEN = 0.8  # share of the largest class
UNSCALED = 30.0  # a column whose spread, or middle, is this far from 1
APART = 5.0  # times: spreads of two parts
FAR = 3.0  # deviations: between the means of two parts
WIDELY = 0.1  # of the columns
LEVEL = 1e-4  # of a test, for all columns together
SIGNIFICANT = 3.0  # standard errors
LOST = 0.15  # of a correlation
TOLD = 0.01
EXACT = 0.9995  # correlation of left-out answers, which nothing that is measured allows
ENOUGH = 150  # examples, to say that nothing is seen
SHORT = 3.0  # seconds of training
LEAST = 30  # examples
MOST_FEATURES = 2048
MOST_VALUES = 50_000_000
CHANNELS = (1, 3, 4)


def values(stage: Stage) -> Iterator[Finding]:
    """Inputs that are no finite numbers, not scaled, or pictures with channels first."""
    source = stage.train.dataset
    whole = dict(_arrays(source.inputs)) if _is_cheap(stage) and source.inputs is not None else {}
    for key, array in _arrays(stage.batch.inputs):
        if array.dtype.kind != "f":
            continue
        name, everything = _input(key), whole.get(key, array)
        looked_at = everything if _is_small(everything) else array
        if (told := _nonfinite_values(looked_at)) is not None:
            yield Finding(name, "wrong", f"{told}.", "Fill or leave them out.")
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
            yield from _scales(stage, key, array)
        elif array.ndim > 2 and array.std() > UNSCALED:
            evidence = (
                f"their standard deviation is {array.std():.3g}; networks learn best from "
                "values of about 1."
            )
            cure = (
                "Divide by a typical value, or subtract the mean and divide by the deviation. "
                f"{try_scaled_inputs(stage, key)}"
            ).strip()
            yield Finding(name, "suspicious", evidence, cure)
    tasks = tasks_of(stage)
    for name, targets in by_name(stage.batch.targets).items():
        subject = subject_of("the targets", name)
        yield from _target_values(stage, subject, targets, tasks.get(name))


def finite_validation(stage: Stage) -> Iterator[Finding]:
    """Inputs of the validation part that are no finite numbers."""
    if stage.other is None:
        return
    for key, array in _arrays(stage.validation_sample.inputs):
        if array.dtype.kind == "f" and (told := _nonfinite_values(array)) is not None:
            yield Finding(
                f"{_input(key)} of the validation part",
                "wrong",
                f"{told}: no score of it is a number.",
                "Fill or leave them out.",
            )


def _is_small(array: np.ndarray) -> bool:
    return array.size <= MOST_VALUES and array.dtype.kind == "f"


def _nonfinite_values(array: np.ndarray) -> str | None:
    """How many values are not finite and where, in words; None if all are."""
    bad = ~np.isfinite(array)
    if not bad.any():
        return None
    first = tuple(int(i) for i in np.argwhere(bad)[0])
    return f"{int(bad.sum())} values are NaN or infinite, the first at {first}"


def _target_values(
    stage: Stage, subject: str, targets: np.ndarray, task: Task | None
) -> Iterator[Finding]:
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
            cure = (
                f"Learn (target - mean) / deviation, or the logarithm. {try_scaled_targets(stage)}"
            ).strip()
            yield Finding(subject, "suspicious", evidence, cure)


def _scales(stage: Stage, key: str | int | None, array: np.ndarray) -> Iterator[Finding]:
    spread, middle = array.std(axis=0), np.abs(array.mean(axis=0))
    wide = np.flatnonzero((spread > UNSCALED) | (middle > UNSCALED * np.maximum(spread, 1)))
    if wide.size:
        i = int(wide[0])
        more = f" and {wide.size - 1} more" if wide.size > 1 else ""
        evidence = (
            f"column {i}{more}: mean {array[:, i].mean():.3g}, standard deviation "
            f"{spread[i]:.3g}; about 0 and 1 are learned best."
        )
        cure = (
            "Scale tables by vinestep.data.scaled(train, validation); arrays likewise. "
            f"{try_scaled_inputs(stage, key)}"
        ).strip()
        yield Finding(_input(key), "suspicious", evidence, cure)


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
    words = f"{known.size} of them, with {shares.min():.1%} to {shares.max():.1%} of the examples"
    if known.min() < FEW:
        evidence = f"{words}; the rarest has {known.min()}, too few to be learned or judged."
        cure = "Gather more of it, pool it with another, or leave it out."
        yield Finding(subject, "suspicious", evidence, cure)
    elif shares.max() > UNEVEN:
        cure = (
            f"Read accuracies beside {shares.max():.1%}, which always deciding for the largest "
            "gets; vinestep.data.Balanced(labels) or class_weights= weigh them evenly."
        )
        yield Finding(subject, "sound", f"{words}.", cure)
    else:
        yield Finding(subject, "sound", f"{words}.")


def _is_cheap(stage: Stage) -> bool:
    from ...data.sources._dataset import Dataset

    return isinstance(stage.train.dataset, Dataset) and not stage.train.dataset.mapped_files


def likeness(stage: Stage) -> Iterator[Finding]:
    """Validation inputs whose columns lie or spread otherwise than those of training: scaled twice,
    not at all, or transposed.
    """
    if stage.other is None:
        return
    for (key, ours), (_, theirs) in zip(
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
        odd = _away(a, b)
        if odd:
            i, shift, ratio = odd[0]
            share = len(odd) / a.shape[1]
            far = abs(shift) > FAR or not 1 / APART < ratio < APART
            evidence = (
                f"{len(odd)} of {a.shape[1]} columns lie or spread otherwise than in training, "
                f"beyond chance; column {i}: mean {b[:, i].mean():.3g} and deviation "
                f"{b[:, i].std():.3g}, in training {a[:, i].mean():.3g} and {a[:, i].std():.3g}."
            )
            yield Finding(
                f"{_input(key)} of the validation part",
                "wrong" if far and share > WIDELY else "suspicious",
                evidence,
                "Prepare both parts by what was learned on the first, once; see that they were "
                "drawn alike.",
            )
        elif a.shape[1] > 8 and ours.ndim == PICTURES and ours.shape[1] == ours.shape[2]:
            yield from _turned(ours, theirs)


def _away(a: np.ndarray, b: np.ndarray) -> list[tuple[int, float, float]]:
    """Columns that lie or spread otherwise, by tests that allow for how many columns there are, the
    surest first: place, shift in deviations, ratio of deviations.
    """
    n, m, d = len(a), len(b), a.shape[1]
    spread = a.std(axis=0)
    values = (a != a[0]).sum(axis=0) + (b != a[0]).sum(axis=0)
    usable = (spread > 1e-6 * max(float(spread.max(initial=0)), 1e-30)) & (values >= 2 * FEW)
    middle = np.median(a, axis=0)
    result = []
    with np.errstate(divide="ignore", invalid="ignore"):
        shift = b.mean(axis=0) - a.mean(axis=0)
        z = shift / np.sqrt(a.var(axis=0) / n + b.var(axis=0) / m)
        # deviations compared by their means: M. B. Brown and A. B. Forsythe, JASA 69, 1974
        ours, theirs = np.abs(a - middle), np.abs(b - np.median(b, axis=0))
        w = (theirs.mean(axis=0) - ours.mean(axis=0)) / np.sqrt(
            ours.var(axis=0) / n + theirs.var(axis=0) / m
        )
    least = float(-scipy.special.ndtri(LEVEL / (4 * d)))
    ratio = b.std(axis=0) / np.where(spread > 0, spread, 1)
    for i in np.flatnonzero(usable):
        moved = abs(z[i]) > least and abs(shift[i]) > spread[i] / 2
        wider = abs(w[i]) > least and not 1 / 1.6 < ratio[i] < 1.6
        if moved or wider:
            result.append((int(i), float(shift[i] / spread[i]), float(ratio[i])))
    return sorted(result, key=lambda row: -max(abs(z[row[0]]), abs(w[row[0]])))


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
    """Whether inputs tell anything of the targets: by a quick model against permuted targets, or by
    a short training against the best constant answer.
    """
    batch, features = stage.sample, stage.features
    tried: tuple[float, str] | None = None
    for name, targets in by_name(batch.targets).items():
        subject = subject_of("inputs and targets", name)
        columns = targets_in_columns(targets) if features is not None else None
        if features is None or columns is None:
            why = "inputs" if features is None else "targets"
            said = f"the quick model takes no {why} of this kind."
            yield Finding(subject, "not tested", said, "The run tells: see the validation loss.")
            continue
        x, (y, known) = features, columns
        rows = np.flatnonzero(known)
        rows = rows[subsample(len(rows))]
        x, y = x[rows], y[rows]
        if len(x) < LEAST or not y.std(axis=0).any():
            said = f"{len(x)} examples with targets are too few to tell."
            yield Finding(subject, "unclear", said, f"At least {LEAST} are needed.")
            continue
        relation = permutation_test(x, y)
        words = (
            f"left-out answers of a quick model correlate {relation.correlation:.2f} with the "
            f"targets of {relation.examples} examples, and {relation.by_chance:.2f} at most (99 %) "
            "where targets are dealt out at random"
        )
        if relation.correlation > EXACT and targets.dtype.kind == "f":
            said = f"the targets follow from the inputs almost without error: {words}."
            cure = (
                "So it is with what was computed. Of what was measured, a column, or several "
                "together, may hold the answer: see what is known before the target is."
            )
            yield Finding(subject, "unclear", said, cure)
            continue
        if relation.p <= TOLD:
            yield Finding(subject, "sound", f"the inputs tell something of the targets: {words}.")
            continue
        tried = tried or _by_training(stage)
        gained, more = tried
        if gained > SIGNIFICANT:
            told = f"a short training learned something that holds on other examples: {more}."
            yield Finding(subject, "sound", told)
        elif relation.examples < ENOUGH:
            said = f"nothing is seen in so few examples: {words}."
            cure = f"{ENOUGH} examples show correlations of {2.6 / np.sqrt(ENOUGH):.2f} and more."
            yield Finding(subject, "unclear", said, cure)
        else:
            evidence = (
                f"nothing in the inputs seems to tell the targets: {words}; and a short training "
                f"gained nothing that holds on other examples ({more})."
            )
            cure = "See whether targets were shuffled, or joined to the wrong rows."
            yield Finding(subject, "suspicious", evidence, cure)


def _by_training(stage: Stage) -> tuple[float, str]:
    """By how many standard errors a few seconds of training beat the best constant answer on
    examples that were not trained on.
    """
    import time

    from ..step._baseline import baseline_scores
    from ..step._scoring import average_scores

    validation = stage.validation
    if validation is None:
        return 0.0, "there is no validation part to try it on"
    known = baseline_scores(stage.training, stage.train, validation)
    if "validation_loss" not in known or "validation_error" not in known:
        return 0.0, "the best constant answer to such a loss is not known"
    one = stage.copy_of_training()
    best, begun = np.inf, time.perf_counter()
    reference, error = known["validation_loss"], known["validation_error"]
    for epoch in range(40):
        for i, group in one.grouped(stage.train.epoch(epoch, seed=one.seed)):
            one.make_step(group, epoch, i)
            if time.perf_counter() - begun > SHORT:
                break
        best = min(best, average_scores(one.network, validation, one.loss, [])["loss"])
        if reference - best > 2 * SIGNIFICANT * error or time.perf_counter() - begun > SHORT:
            break
    words = (
        f"its validation loss came to {best:.4g} at best, the best constant answer gets "
        f"{reference:.4g}, give or take {error:.2g}"
    )
    return float((reference - best) / max(error, 1e-12, 0.002 * abs(reference))), words


def concept_shift(stage: Stage) -> Iterator[Finding]:
    """Whether what the training part tells of its targets holds in the validation part."""
    if stage.other is None:
        return
    found = features_of(stage.sample, stage.validation_sample)
    if found is None:
        return
    theirs = by_name(stage.validation_sample.targets)
    for name, targets in by_name(stage.sample.targets).items():
        ours, others = targets_in_columns(targets), targets_in_columns(theirs.get(name))
        if ours is None or others is None or ours[0].shape[1] != others[0].shape[1]:
            continue
        rows = np.flatnonzero(ours[1])[subsample(int(ours[1].sum()))]
        there = np.flatnonzero(others[1])[subsample(int(others[1].sum()))]
        if min(len(rows), len(there)) < LEAST:
            continue
        here, beyond = correlations_across(
            found[0][rows], ours[0][rows], found[1][there], others[0][there]
        )
        spread = np.sqrt(1 / (len(rows) - 3) + 1 / (len(there) - 3))
        lost = (np.arctanh(min(here, 0.999)) - np.arctanh(np.clip(beyond, -0.999, 0.999))) / spread
        words = (
            f"answers of a quick model correlate {here:.2f} with targets that it left out of the "
            f"training part, and {beyond:.2f} with those of the validation part"
        )
        subject = subject_of("the validation part", name)
        if lost > SIGNIFICANT + 0.3 and here - beyond > LOST:
            cure = "See that both parts have the same columns in the same order, unit and sense."
            yield Finding(subject, "suspicious", f"its targets follow otherwise: {words}.", cure)
        elif here > 3 / np.sqrt(len(rows)):
            yield Finding(subject, "sound", f"its targets follow as in training: {words}.")


def _arrays(inputs: Any) -> Iterator[tuple[str | int | None, np.ndarray]]:
    if isinstance(inputs, dict):
        yield from ((name, np.asarray(array)) for name, array in inputs.items())
    elif isinstance(inputs, tuple):
        yield from ((i, np.asarray(array)) for i, array in enumerate(inputs))
    else:
        yield None, np.asarray(inputs)


def _input(key: str | int | None) -> str:
    return "the inputs" if key is None else f"input {key}"
