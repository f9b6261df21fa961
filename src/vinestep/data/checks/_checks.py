"""What is suspicious about data, before a run: each with its cure."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from types import SimpleNamespace
from typing import Any

import numpy as np

from ..._findings import Finding
from ..batches._batch import Batch, first_of
from ..encoding._drift import PICTURES, range_findings
from ..sources._source import Source
from ._autocorrelation import autocorrelation_findings
from ._near_duplicates import near_duplicate_findings, near_row_findings
from ._units import mixed_units

__all__ = ["input_range_of", "source_findings", "split_findings"]

MOST_LOOKED_AT = 2000  # examples
PERFECT = 0.999  # of the variance of the target, or of examples whose class one column tells
UNSCALED = 50.0  # a float input as large as this was not scaled
RANGE_BY = 64  # examples that tell the range of the inputs
LEAST = 20  # examples from which a column can be judged
FEW, SMALL_SHARE = 30, 0.08  # examples to judge by, and of those trained on


def source_findings(source: Any, batch: Batch | None) -> list[Finding]:
    """Of one part of the data; a batch of it, if there is one."""
    if batch is None:
        return []
    if isinstance(batch.targets, dict):
        return _of_each_target(source, batch)
    each = list(_each_input(source, batch.inputs))
    if not each:
        return []
    findings = [*_labels(source, batch.targets)]
    for inputs, names in each:
        if inputs.ndim == PICTURES:
            findings += _pictures(inputs)
        if inputs.ndim == 2 and inputs.dtype.kind == "f":
            findings += _columns(source, inputs, batch.targets, names)
    return list(dict.fromkeys(findings))


def _each_input(source: Any, inputs: Any) -> Iterator[tuple[np.ndarray, list[str]]]:
    """The arrays among inputs that may be several, with what their columns are called."""
    names = getattr(source, "feature_names", None)
    if isinstance(inputs, np.ndarray):
        width = inputs.shape[-1] if inputs.ndim else 0
        known = list(names) if names is not None and len(names) == width else None
        yield inputs, known or [f"{i}" for i in range(width)]
        return
    several = inputs.items() if isinstance(inputs, Mapping) else enumerate(inputs)
    encoding = getattr(source, "encoding", None)
    names_by_input = (
        encoding.split(np.array(names), getattr(source, "scaling", None))
        if names is not None and encoding is not None and encoding.inputs
        else {}
    )
    for name, array in several if isinstance(inputs, Mapping | tuple) else ():
        if isinstance(array, np.ndarray):
            width = array.shape[-1] if array.ndim else 0
            known = names_by_input.get(name, np.array([f"{name} {i}" for i in range(width)]))
            yield array, known.tolist()


def _of_each_target(source: Any, batch: Batch) -> list[Finding]:
    known = getattr(source, "class_values", {})
    names = getattr(source, "feature_names", None)
    result: list[Finding] = []
    for target, values in batch.targets.items():
        own = SimpleNamespace(
            class_values=known.get(target, ()),
            feature_names=names,
            encoding=getattr(source, "encoding", None),
            scaling=getattr(source, "scaling", None),
        )
        result += source_findings(own, batch.with_values(targets=values))
    return list(dict.fromkeys(result))


def _labels(source: Any, targets: Any) -> list[Finding]:
    array = None if targets is None else np.asarray(targets)
    if array is None or array.ndim != 1 or array.dtype.kind not in "iu" or not array.size:
        return []
    distinct = np.unique(array)
    classes = len(getattr(source, "class_values", ()))
    if (
        not classes
        and distinct[0] > 0
        and len(distinct) < array.size / 2
        and distinct[-1] - distinct[0] + 1 == len(distinct)
    ):
        evidence = f"they go from {distinct[0]} to {distinct[-1]}; classes are counted from 0."
        return [
            Finding(
                "the targets",
                "suspicious",
                evidence,
                f"Take {distinct[0]} away: targets - {distinct[0]}.",
            )
        ]
    return []


def _pictures(inputs: np.ndarray) -> list[Finding]:
    low, high = float(inputs.min()), float(inputs.max())
    if inputs.dtype.kind == "u" or (inputs.dtype.kind == "f" and high > UNSCALED):
        evidence = (
            f"they are {inputs.dtype} from {low:g} to {high:g}, which no network learns well from."
        )
        return [
            Finding(
                "the pictures",
                "suspicious",
                evidence,
                "Prepare them: source.prepared(vinestep.data.pictures.Range()).",
            )
        ]
    if inputs.dtype.kind == "f" and low >= 0 and 0 < high < 2 / 255:
        evidence = f"they go from {low:.3g} to {high:.3g}, as if divided by 255 twice."
        return [Finding("the pictures", "wrong", evidence, "Scale them once.")]
    return []


def _columns(source: Any, inputs: np.ndarray, targets: Any, names: list[str]) -> list[Finding]:
    x = _in_their_units(source, inputs[:MOST_LOOKED_AT].astype(np.float64), names)
    if len(x) < LEAST:
        return []
    y = None if targets is None else np.asarray(targets)[:MOST_LOOKED_AT]
    if y is not None and y.ndim > 1 and y[0].size == 1:
        y = y.reshape(len(y))
    rows = len(source) if hasattr(source, "__len__") else len(x)
    findings = []
    for i, name in enumerate(names):
        column = x[:, i]
        present = ~np.isnan(column)
        values = column[present]
        if not values.size or np.all(values == values[0]):
            if not name.endswith(" missing") and present.all():
                findings.append(
                    Finding(
                        f"column {name}",
                        "suspicious",
                        "it is constant, so it says nothing.",
                        "Leave it out.",
                    )
                )
            continue
        if _is_identifier(values, rows):
            evidence = (
                "it is another whole number in every row, as an identifier is: a network "
                "learns it by heart."
            )
            findings.append(
                Finding(
                    f"column {name}", "suspicious", evidence, f"Leave it out: leave_out=[{name!r}]."
                )
            )
        elif units := mixed_units(values):
            evidence = (
                f"its values fall into two groups, and one is the other in another unit: {units}."
            )
            findings.append(
                Finding(f"column {name}", "suspicious", evidence, "Bring all rows to one unit.")
            )
        elif y is not None and y.ndim == 1 and _tells(values, y[present]):
            evidence = (
                "it alone predicts the target perfectly, so it may be the target in another form."
            )
            findings.append(
                Finding(
                    f"column {name}",
                    "suspicious",
                    evidence,
                    "See whether it is known before the target is; else leave it out: "
                    f"leave_out=[{name!r}].",
                )
            )
    return findings


def _in_their_units(source: Any, x: np.ndarray, names: list[str]) -> np.ndarray:
    """Columns of a table that was scaled as they were read, gaps as gaps."""
    scaling, encoding = getattr(source, "scaling", None), getattr(source, "encoding", None)
    if scaling is None or encoding is None:
        return x
    numbers = {name: i for i, name in enumerate(encoding.numeric)}
    x = x.copy()
    for i, name in enumerate(names):
        if name in numbers:
            k = numbers[name]
            values = x[:, i] * scaling.spreads[k] + scaling.centres[k]
            whole = np.rint(values)
            near = np.abs(values - whole) < 1e-3 * np.maximum(np.abs(whole) * 1e-3, 1)
            x[:, i] = np.where(near, whole, values)
            if k in scaling.missing and f"{name} missing" in names:
                x[x[:, names.index(f"{name} missing")] > 0, i] = np.nan
    return x


def _is_identifier(values: np.ndarray, rows: int) -> bool:
    """Whole numbers, all different, and dense enough to have been counted in so many rows."""
    if len(np.unique(values)) < len(values) or not np.all(values == np.rint(values)):
        return False
    ordered = np.sort(values)
    return bool(ordered[-1] - ordered[0] < 3 * max(rows, len(values)))


def _tells(values: np.ndarray, targets: np.ndarray) -> bool:
    if targets.dtype.kind in "iu" and len(np.unique(targets)) <= 50:
        order = np.argsort(values, kind="stable")
        labels, ordered = targets[order], values[order]
        changes = int(np.sum(labels[1:] != labels[:-1]))
        split_ties = np.any((labels[1:] != labels[:-1]) & (ordered[1:] == ordered[:-1]))
        classes = len(np.unique(labels))
        return classes > 1 and changes == classes - 1 and not split_ties
    if targets.dtype.kind == "f" and np.std(targets) > 0:
        return bool(abs(np.corrcoef(values, targets)[0, 1]) ** 2 > PERFECT)
    return False


def input_range_of(batches: Any) -> tuple[float, float] | None:
    """Lowest and highest value of pictures that a network is trained on, by some examples without
    augmentation; None of other inputs,
    whose values may go further in an example that was not looked at."""
    source = batches.dataset
    if not isinstance(source, Source):
        return None
    sample = first_of(batches.sample().inputs)
    if not isinstance(sample, np.ndarray) or sample.ndim != PICTURES:
        return None
    places = np.unique(np.linspace(0, len(source) - 1, min(len(source), RANGE_BY)).astype(int))
    inputs = np.asarray(first_of(source.gathered(places, batches.join).inputs))
    return float(inputs.min()), float(inputs.max())


def split_findings(
    batches: Any, validation: Any, test: Any = None, known: tuple[float, float] | None = None
) -> list[Finding]:
    """Of the parts of a run together: how validation and test are made into batches, which classes
    they lack, and whether their inputs
    are of the range that is trained on."""
    findings = []
    for role, part in (("validation", validation), ("test", test)):
        if part is None:
            continue
        if part.augment:
            evidence = (
                f"it is augmented by {', '.join(map(repr, part.augment))}; for scores it "
                "is taken as it is."
            )
            findings.append(
                Finding(
                    f"the {role} part",
                    "suspicious",
                    evidence,
                    "Leave augment= out there, so that nobody relies on it.",
                )
            )
        if getattr(part, "order", None) is not None and type(part.order).__name__ in (
            "Weighted",
            "Balanced",
        ):
            evidence = (
                f"its order is {type(part.order).__name__}; for scores every example counts once."
            )
            findings.append(
                Finding(f"the {role} part", "suspicious", evidence, "Leave order= out there.")
            )
        findings += _missing_classes(role, batches.dataset, part.dataset)
        findings += _untrained_columns(role, batches.dataset, part.dataset)
        findings += _few(role, batches.dataset, part.dataset)
        findings += near_row_findings(batches.dataset, part.dataset, role)
        findings += autocorrelation_findings(batches.dataset, part.dataset, role)
        if known is not None:
            findings += near_duplicate_findings(batches, part, role)
        if known is not None:
            looked_at = next(iter(part.in_order())).inputs
            findings += range_findings(known, looked_at, f"the inputs of the {role} part")
    return findings


def _few(role: str, train: Any, part: Any) -> list[Finding]:
    """A part that is too small to judge by, though there would be enough examples."""
    if not isinstance(train, Source) or not isinstance(part, Source):
        return []
    n, m = len(train), len(part)
    if m >= FEW or m > SMALL_SHARE * n:
        return []
    return [
        Finding(
            f"the {role} part",
            "suspicious",
            f"it has {m} examples, {n} are trained on: an accuracy by it is known to "
            f"{100 * 0.98 / m**0.5:.0f} points either way (95 %), so that it tells no state from "
            "another.",
            "Give it a tenth of all examples, or cross-validate.",
        )
    ]


def _untrained_columns(role: str, train: Any, part: Any) -> list[Finding]:
    """Features that are 0 in all rows that are trained on, and not in this part."""
    ours, theirs = getattr(train, "inputs", None), getattr(part, "inputs", None)
    if (
        not isinstance(ours, np.ndarray)
        or not isinstance(theirs, np.ndarray)
        or not ours.ndim == theirs.ndim == 2
        or ours.shape[1] != theirs.shape[1]
        or ours.dtype.kind != "f"
        or len(ours) < LEAST
    ):
        return []
    idle = np.flatnonzero(~ours.any(axis=0))
    acts = {int(i): int(np.count_nonzero(theirs[:, i])) for i in idle if theirs[:, i].any()}
    if not acts:
        return []
    names = getattr(train, "feature_names", None) or []
    listed = [names[i] if i < len(names) else f"{i}" for i in acts]
    return [
        Finding(
            f"the {role} part",
            "suspicious",
            f"in {max(acts.values())} of its {len(theirs)} rows {', '.join(listed[:3])} is set, "
            "which never is in training: weights act there that nothing has trained.",
            "Pool rare categories, rare=, or scale the parts together: "
            "vinestep.data.scaled(train, other) leaves such columns at 0.",
        )
    ]


def _missing_classes(role: str, train: Any, part: Any) -> list[Finding]:
    ours, theirs = _cheap_labels(train), _cheap_labels(part)
    if ours is None or theirs is None:
        return []
    known, present = np.unique(ours), np.unique(theirs)
    if len(known) > len(ours) / 2:
        return []
    names = getattr(train, "class_names", ())
    absent = [_called(int(label), names) for label in np.setdiff1d(known, present)]
    new = [_called(int(label), names) for label in np.setdiff1d(present, known)]
    findings = []
    if absent:
        evidence = (
            f"it has no example of {', '.join(absent[:5])}, so its scores say nothing of them."
        )
        findings.append(
            Finding(
                f"the {role} part",
                "suspicious",
                evidence,
                "Split with stratified=True, or gather more.",
            )
        )
    if new:
        evidence = f"it has examples of {', '.join(new[:5])}, which training never sees."
        findings.append(
            Finding(
                f"the {role} part",
                "wrong",
                evidence,
                "Split with stratified=True, or leave them out.",
            )
        )
    return findings


def _called(label: int, names: Sequence[str]) -> str:
    return names[label] if label < len(names) else str(label)


def _cheap_labels(source: Any) -> np.ndarray | None:
    """Class numbers of a source that knows them without reading its examples."""
    return source.labels() if getattr(source, "knows_labels", False) else None
