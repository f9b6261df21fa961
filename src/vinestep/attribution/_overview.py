"""What mattered to a model, looked at in every way that fits its inputs."""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from .._arguments import checked_path
from .._atomic_files import atomic_write
from .._model import Model
from ..autodiff.tensor import held
from ..autodiff.tracking import untracked
from ..data.batches._batch import Batch, arrays_of, count_of, mapped, taken
from ..data.batches._batching import Batching
from ..data.sources._dataset import Dataset
from ..data.sources._source import Source
from ..errors import ModelError, SettingError
from ..figures._attribution import (
    attention,
    dependence,
    example_map,
    feature_maps,
    importances,
    overlay,
    sequence_overlay,
)
from ..figures._style import as_png
from ..layers._learning_pass import attention_seen, observed
from ..tasks._prediction_rows import prediction_rows
from ..training.step._batch_checks import are_batches, as_batches
from ..training.step._forward_pass import outputs_of_batch
from ._representations import nearest_rows, principal_components, stochastic_neighbours
from ._saliency import input_gradients, integrated_gradients, occlusion
from ._tables import partial_dependence, permutation_importance

if TYPE_CHECKING:
    from matplotlib.figure import Figure

__all__ = ["Overview", "overview"]

MOST_EXAMPLES = 300  # of a map
LEAST_ON_A_MAP = 20
MOST_TRAINED = 2000  # among which the nearest are looked for
MOST_ROWS = 2000  # of a table that are scored
REPEATS = 5
MOST_DEPENDENCES = 3
MOST_COLUMNS = 60  # of a table
MOST_PLACES = 48  # of attention whose labels can be read
MOST_FEATURES = 4096  # of an example on a map
NEAREST = 3
PICTURE_AXES, SEQUENCE_AXES = 4, 3
WINDOWS = 6  # of a picture along its shorter side that are hidden in turn
CHANNELS = (1, 3, 4)
MOST_LETTERS, MOST_IN_TITLE = 60, 18


@dataclass
class Overview:
    """What mattered, in tables and figures by name; see `overview`.

    Examples
    --------
    >>> Overview().tables
    {}
    """

    tables: dict[str, pd.DataFrame] = field(default_factory=dict)
    figures: dict[str, Figure] = field(default_factory=dict)

    def record(self, run: Any) -> None:
        """Put them into the record of a run, where the page shows them; a run that is under way, or
        anything else with its calls ``table(name, rows)`` and ``picture(name, picture)``.
        """
        for name, table in self.tables.items():
            run.table(f"attribution {name}", table.to_dict("records"))
        for name, made in self.figures.items():
            run.picture(f"attribution {name}", made)

    def save(self, folder: str | os.PathLike[str]) -> list[Path]:
        """Write them into a folder, as CSV and PNG.

        Raises
        ------
        OSError
            If the folder cannot be written to.
        """
        place = checked_path(folder, "save")
        place.mkdir(parents=True, exist_ok=True)
        files = {f"{name}.csv": t.to_csv(index=False).encode() for name, t in self.tables.items()}
        files |= {f"{name}.png": as_png(made) for name, made in self.figures.items()}
        for name, content in files.items():
            with atomic_write(place / name.replace(" ", "-")) as file:
                file.write(content)
        return [place / name.replace(" ", "-") for name in files]


def overview(
    model: Model, rows: Any, targets: Any = None, *, train: Any = None, count: int = 6
) -> Overview:
    """What mattered to a model, looked at in every way that fits its inputs.

    Of tables: the importance of columns, and how answers depend on those that matter most. Of
    pictures and sequences of numbers: gradients, integrated gradients and occlusion, with the mean
    of the examples as the baseline. Of attention: its weights. Of convolutions: their feature maps.
    Of all: a map of the examples by the outputs of the last layer but one. If training examples are
    given, those that are nearest to the worst predictions.

    Parameters
    ----------
    model : Model
    rows : DataFrame, file, array, Source or batches
        Whatever `Model.assess` or `Training.run` takes.
    targets : array_like, optional
        Of arrays.
    train : Source or batches, optional
        The training examples.
    count : int
        How many single examples are shown.

    Returns
    -------
    found : Overview

    Raises
    ------
    DataError
        If the rows are nothing of the kind that was trained on.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(40, 3)).astype(np.float32)
    >>> data = vs.data.Dataset(x, x[:, :1])
    >>> training = vs.Training(vs.Stack(vs.Dense(4), vs.Dense(1)), task=vs.tasks.Numbers())
    >>> outcome = training.run(data.batches(8), epochs=3)
    >>> found = vs.attribution.overview(training.model(), data)
    >>> sorted(found.tables), sorted(found.figures)
    (['importances'], ['dependence', 'importances', 'map'])
    """
    if isinstance(count, bool) or not isinstance(count, int) or count < 1:
        raise SettingError(f"overview: count is a number of examples of at least 1, got {count!r}.")
    if model.can_sample and not getattr(model.network, "outputs_losses", True):
        raise ModelError(
            "overview: this model makes examples of random numbers, and no column or pixel matters "
            "to it. See model.sample(...), and what it makes: vinestep show RUN."
        )
    return _Builder(model, rows, targets, train, count).build()


class _Builder:
    """Makes the tables and figures of one model and some examples."""

    def __init__(self, model: Model, rows: Any, targets: Any, train: Any, count: int) -> None:
        self.model, self.rows, self.count = model, rows, count
        self.batch = _some(model, rows, targets, MOST_EXAMPLES)
        self.given_targets = targets
        self.train = None if train is None else _some(model, train, None, MOST_TRAINED)
        self.found = Overview()
        with attention_seen() as seen:
            self.outputs, self.layers = _forward(model, self.batch)
        self.attention = {path: np.asarray(weights) for path, weights in seen.items()}

    def build(self) -> Overview:
        self._columns()
        self._parts_of_inputs()
        self._attention()
        self._feature_maps()
        self._map()
        self._nearest()
        return self.found

    # tables

    def _columns(self) -> None:
        rows = self._rows_of_a_table()
        if rows is None or self.batch.targets is None:
            return
        try:
            found = permutation_importance(
                self.model, rows, self._targets_of(rows), repeats=REPEATS
            )
        except ModelError:  # it was handed on without its loss
            return
        self.found.tables["importances"] = found
        self.found.figures["importances"] = importances(
            found, title="By how much the loss rises without each column"
        )
        most = found["column"][found["low"] > 0].head(MOST_DEPENDENCES)
        frames = [partial_dependence(self.model, rows, str(column)) for column in most]
        frames = [one for one in frames if one.shape[1] > 1 and len(one) > 1]
        if frames:
            self.found.figures["dependence"] = dependence(
                frames, title="The mean answer, if a column had one value throughout"
            )

    def _rows_of_a_table(self) -> Any:
        """The rows, if they are of columns and not too many of these."""
        rows = self.rows.dataset if isinstance(self.rows, Batching) else self.rows
        if self.model.codec.encoding is not None:
            encoding = self.model.codec.encoding
            columns = len(encoding.numeric) + len(encoding.categories)
            if columns > MOST_COLUMNS:
                return None
            if isinstance(rows, Source):
                return _first_rows(rows) if isinstance(rows, Dataset) else None
            return rows.head(MOST_ROWS) if isinstance(rows, pd.DataFrame) else rows
        inputs = self.batch.inputs
        if not isinstance(inputs, np.ndarray) or inputs.ndim != 2 or inputs.dtype.kind != "f":
            return None
        if inputs.shape[1] > MOST_COLUMNS or self.batch.masks is not None:
            return None
        if isinstance(rows, Dataset) and isinstance(rows.inputs, np.ndarray):
            return _first_rows(rows)
        return inputs

    def _targets_of(self, rows: Any) -> Any:
        return self.batch.targets if rows is self.batch.inputs else self.given_targets

    # single examples

    def _names(self) -> list[str]:
        """What is true and what is decided of the examples shown."""
        n = min(self.count, count_of(self.batch.inputs))
        return [
            f"example {row['example']}"
            + _after("\n", row["output"], MOST_IN_TITLE)
            + _after("\ntruth ", row.get("truth"), MOST_IN_TITLE)
            for row in self._predictions[:n]
        ]

    @cached_property
    def _predictions(self) -> list[dict[str, Any]]:
        return prediction_rows(
            self.model.task, self.outputs, self.batch.targets, self.model.codec.class_values
        )

    def _parts_of_inputs(self) -> None:
        inputs = taken(self.batch.inputs, slice(0, self.count))
        if isinstance(inputs, tuple) or self.batch.masks is not None:
            return
        arrays = inputs if isinstance(inputs, Mapping) else {"": inputs}
        shown = {
            name: array
            for name, array in arrays.items()
            if array.ndim in (SEQUENCE_AXES, PICTURE_AXES) and array.dtype.kind == "f"
        }
        whole = all(array.dtype.kind == "f" for array in arrays.values())
        if not shown or not whole:
            return
        target = self._first_target()
        side = min(min(array.shape[1:3]) for array in shown.values())
        pictures = any(array.ndim == PICTURE_AXES for array in shown.values())
        window = max(1, side // WINDOWS) if pictures else 1
        usual = mapped(lambda array: array.mean(axis=0), self.batch.inputs)
        ways = {
            "slope": input_gradients(self.model, inputs, target=target),
            "share": integrated_gradients(self.model, inputs, baseline=usual, target=target),
            "hidden": occlusion(
                self.model,
                inputs,
                window=window,
                stride=max(1, window // 2),
                value=usual,
                target=target,
            ),
        }
        names = self._names()
        for name, array in shown.items():
            own = {way: found[name] if name else found for way, found in ways.items()}
            words = f" of {name}" if name else ""
            if array.ndim == PICTURE_AXES and array.shape[-1] in CHANNELS:
                self.found.figures[f"parts{words}"] = overlay(
                    array,
                    {"slope": own["slope"], "integrated": own["share"], "occlusion": own["hidden"]},
                    names=names,
                    title=f"What raises (warm) and lowers (cold) the highest output{words}",
                )
            elif array.ndim == SEQUENCE_AXES:
                self.found.figures[f"times{words}"] = sequence_overlay(
                    array,
                    own["share"],
                    names=[one.replace("example ", "", 1).replace("\n", ", ") for one in names],
                    title=f"What each time adds (warm) or takes away (cold){words}",
                )

    def _first_target(self) -> str:
        if isinstance(self.outputs, Mapping):
            return str(next(iter(self.outputs)))
        return ""

    def _attention(self) -> None:
        weights = {
            path: one[0]
            for path, one in self.attention.items()
            if one.ndim == PICTURE_AXES and min(one.shape[2:]) > 1
        }
        if not weights:
            return
        labels = self._places(next(iter(weights.values())).shape[1:])
        self.found.figures["attention"] = attention(
            weights, labels=labels, title="Which places look at which, example 0"
        )

    def _places(self, shape: tuple[int, ...]) -> tuple[list[str], list[str]] | None:
        """The tokens of the first example, if these are what looks at one another."""
        form, inputs = self.model.codec.text_form, self.batch.inputs
        if form is None or not isinstance(inputs, np.ndarray) or inputs.ndim != 2:
            return None
        n = inputs.shape[1]
        if shape != (n, n) or n > MOST_PLACES:
            return None
        tokens = [repr(form.tokeniser.decode([int(i)]))[1:-1] for i in inputs[0]]
        return tokens, tokens

    def _feature_maps(self) -> None:
        inputs = self.batch.inputs
        if not isinstance(inputs, np.ndarray) or inputs.ndim != PICTURE_AXES:
            return
        maps = {
            path: array[0]
            for path, array in self.layers.items()
            if path and array.ndim == PICTURE_AXES and min(array.shape[1:3]) > 1
        }
        if maps:
            every = list(maps)
            chosen = [every[i] for i in np.unique(np.linspace(0, len(every) - 1, 4).astype(int))]
            self.found.figures["feature maps"] = feature_maps(
                {path: maps[path] for path in chosen},
                picture=inputs[0],
                title="What layers put out for example 0",
            )

    # all examples

    @cached_property
    def _representation(self) -> tuple[str, np.ndarray] | None:
        """Path and outputs of the last layer but one, or what comes nearest to it."""
        n = count_of(self.batch.inputs)
        final = [np.asarray(held(one)) for one in arrays_of(self.outputs)]
        inner = [
            (path, array)
            for path, array in self.layers.items()
            if path and len(array) == n and not any(_same(array, one) for one in final)
        ]
        return inner[-1] if inner else None

    def _map(self) -> None:
        seen = self._representation
        if seen is None or len(seen[1]) < LEAST_ON_A_MAP:
            return
        path, values = seen[0], _flat(seen[1])
        if not np.isfinite(values).all() or values.shape[1] < 2 or np.ptp(values) == 0:
            return
        points, shares = principal_components(values, 2)
        labels, names = self._labels(len(values))
        near = stochastic_neighbours(values, perplexity=min(30.0, len(values) / 4), steps=400)
        self.found.figures["map"] = example_map(
            {
                f"directions of most difference ({shares.sum():.0%} of it)": points,
                "near examples near": near,
            },
            labels,
            names=names,
            title=f"{len(values)} examples as the layer {path} sees them",
        )

    def _labels(self, n: int) -> tuple[np.ndarray | None, list[str]]:
        """Classes of the examples, or thirds of their numbers, of the first target that has any."""
        if self.batch.targets is None:
            return None, []
        classes = self.model.codec.class_values
        for name, task, outputs, targets in self.model.task.by_target(
            self.outputs, self.batch.targets
        ):
            known = classes.get(name, ()) if isinstance(classes, Mapping) else classes
            found = np.asarray(task.hard_targets(np.asarray(held(outputs)), np.asarray(targets)))
            if found.shape not in ((n,), (n, 1)):
                continue
            found = found.reshape(n)
            if found.dtype.kind in "iub" or np.isin(found, (0, 1)).all():
                labels = found.astype(int)
                names = list(map(str, known)) or [str(i) for i in range(labels.max() + 1)]
                return labels, names
            if np.isfinite(found).all():
                thirds = np.quantile(found, [1 / 3, 2 / 3])
                words = name or "target"
                return np.digitize(found, thirds), [
                    f"{words} below {thirds[0]:.3g}",
                    "between",
                    f"above {thirds[1]:.3g}",
                ]
        return None, []

    def _nearest(self) -> None:
        seen = self._representation
        if self.train is None or seen is None or self.batch.targets is None:
            return
        path, values = seen
        outputs, layers = _forward(self.model, self.train)
        others = layers[path]
        if others.shape[1:] != values.shape[1:]:
            return
        classes = self.model.codec.class_values
        truths = [
            row.get("truth")
            for row in prediction_rows(self.model.task, outputs, self.train.targets, classes)
        ]
        rows = [row for row in self._predictions if row.get("error") is not None]
        worst = sorted(rows, key=lambda row: -row["error"])[: self.count]
        if not worst:
            return
        near = nearest_rows(
            _flat(others), _flat(values[[row["example"] for row in worst]]), NEAREST
        )
        self.found.tables["nearest"] = pd.DataFrame(
            [
                {
                    "example": row["example"],
                    "truth": _after("", row["truth"]),
                    "output": _after("", row["output"]),
                    "error": row["error"],
                    **{
                        f"nearest {k}": f"{_after('', truths[i])} (row {i})".strip()
                        for k, i in enumerate(index, 1)
                    },
                }
                for row, index in zip(worst, near.rows.tolist(), strict=True)
            ]
        )


def _after(words: str, text: Any, most: int = 0) -> str:
    """Words and a text, if that is there and short enough to be read; cut to so many letters."""
    told = "" if text is None else str(text)
    if not told or len(told) > MOST_LETTERS:
        return ""
    return f"{words}{told if not most or len(told) <= most else told[: most - 1] + '…'}"


def _some(model: Model, rows: Any, targets: Any, most: int) -> Batch:
    """At most so many of the examples, as the network takes them."""
    if isinstance(rows, Source) or not are_batches(rows):
        given = model._inputs(rows)
        wanted = given.targets if targets is None else np.asarray(targets)
        if model.codec.encoding is not None and given.beside is not None:
            wanted = _targets_in(model, given.beside)
        batch = Batch(given.inputs, wanted)
    elif isinstance(rows, Batching) and isinstance(rows.dataset, Source):
        first = np.arange(min(most, len(rows.dataset)))
        batch = rows.dataset.gathered(first, rows.join)
    else:
        batch = next(iter(as_batches(rows, "overview: the rows").in_order()))
    n = min(most, count_of(batch.inputs))
    part = slice(0, n)
    return Batch(
        taken(batch.inputs, part),
        None if batch.targets is None else taken(batch.targets, part),
        masks=None if batch.masks is None else batch.masks[part],
    )


def _targets_in(model: Model, frame: pd.DataFrame) -> Any:
    """Of a table, if it has them."""
    encoding = model.codec.encoding
    assert encoding is not None
    if all(column in frame.columns for column in encoding.targets):
        return model.codec.targets(frame)
    return None


def _first_rows(rows: Dataset) -> Any:
    return rows if len(rows) <= MOST_ROWS else rows.rows(np.arange(MOST_ROWS))


def _forward(model: Model, batch: Batch) -> tuple[Any, dict[str, np.ndarray]]:
    """Outputs of the network, and of each layer by its path."""
    layers: dict[str, np.ndarray] = {}

    def note(layer: Any, path: str, inputs: tuple[Any, ...], output: Any) -> None:
        array = held(output[0] if isinstance(output, tuple) else output)
        if isinstance(array, np.ndarray) and array.dtype.kind == "f" and array.ndim > 1:
            layers[path] = array

    with untracked(), observed(note):
        outputs = outputs_of_batch(model.network, batch)
    return outputs, layers


def _same(one: np.ndarray, other: np.ndarray) -> bool:
    return one.shape == other.shape and np.array_equal(one, other, equal_nan=True)


def _flat(values: np.ndarray) -> np.ndarray:
    """A row of features an example; of many places the mean of each channel."""
    if values.ndim > 2 and values[0].size > MOST_FEATURES:
        values = values.mean(axis=tuple(range(1, values.ndim - 1)))
    return np.asarray(values.reshape(len(values), -1), np.float64)
