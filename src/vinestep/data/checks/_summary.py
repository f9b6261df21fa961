"""A look at data before anything is trained on it: what it holds, and what is suspicious about
it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from types import SimpleNamespace
from typing import TYPE_CHECKING, Any

import numpy as np

from ..._findings import Finding
from ..._lazy_imports import pandas as pd
from ..batches._batch import Batch
from ..batches._batches import Batches
from ..batches._joins import Example
from ..batches._streams import Stream, StreamBatches
from ..sources._as_source import as_source
from ..tabular._table import Table
from ._checks import source_findings

if TYPE_CHECKING:
    from rich.console import Console, ConsoleOptions, RenderResult

__all__ = ["Peek", "peek"]

LOOKED_AT = 1000
SHOWN = 60  # characters of an example
MOST_CLASSES = 30


@dataclass(frozen=True, slots=True)
class Peek:
    """What data hold.

    Attributes
    ----------
    what : str
        Kind and number of examples.
    fields : DataFrame
        A row each input or column and the target: shape, dtype, lowest, mean, highest, missing,
        distinct values.
    classes : DataFrame
        How many examples each class has; empty where targets are numbers.
    examples : DataFrame
        A few examples.
    findings : list of Finding
        What is suspicious.

    Examples
    --------
    >>> look = vs.data.peek((np.ones((30, 2)), np.arange(30) % 2))
    >>> [finding.subject for finding in look.findings]
    ['column 0', 'column 1']
    """

    what: str
    fields: pd.DataFrame
    classes: pd.DataFrame
    examples: pd.DataFrame
    findings: list[Finding]

    def __str__(self) -> str:
        with pd.option_context(
            "display.width", 140, "display.max_columns", 20, "display.max_colwidth", SHOWN
        ):
            parts = [self.what, self.fields.to_string(index=False)]
            parts += [self.classes.to_string(index=False)] if len(self.classes) else []
            parts += [self.examples.to_string(index=False), *map(str, self.findings)]
        return "\n\n".join(parts)

    def _repr_html_(self) -> str:
        from html import escape

        tables = [
            frame.to_html(index=False)
            for frame in (self.fields, self.classes, self.examples)
            if len(frame)
        ]
        listed = "".join(f"<li>{escape(str(finding))}</li>" for finding in self.findings)
        return f"<p>{escape(self.what)}</p>{''.join(tables)}<ul>{listed}</ul>"

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        from rich import box
        from rich.table import Table as RichTable
        from rich.text import Text

        yield Text(self.what, style="bold")
        across = self.examples.T.reset_index()
        across.columns = pd.Index(["example", *(str(i + 1) for i in range(len(self.examples)))])
        for frame in (self.fields, self.classes, across if len(self.examples) else self.examples):
            if not len(frame):
                continue
            table = RichTable(
                box=box.SIMPLE_HEAD, show_edge=False, pad_edge=False, header_style="bold"
            )
            for name in frame.columns:
                right = frame[name].dtype.kind in "iuf"
                table.add_column(
                    str(name),
                    justify="right" if right else "left",
                    overflow="fold",
                    no_wrap=name == frame.columns[0],
                )
            for row in frame.itertuples(index=False):
                table.add_row(*(_shown(value) for value in row))
            yield Text()
            yield table
        if self.findings:
            yield Text()
        for finding in self.findings:
            yield Text(str(finding), style="yellow" if finding.verdict == "suspicious" else "red")


def _shown(value: Any) -> str:
    if isinstance(value, float):
        return "" if np.isnan(value) else f"{value:.4g}"
    return str(value)


def peek(data: Any, n: int = 5) -> Peek:
    """Look at a source, a stream, arrays, or batches as a network gets them.

    Parameters
    ----------
    data : Source, Stream, Batches, pair of arrays, or anything with a length and items
        Of what is read one by one, the first thousand examples are looked at.
    n : int
        Examples to be shown.

    Examples
    --------
    >>> look = peek((np.array([[1.0], [2.0], [3.0]]), np.array([0, 1, 1])))
    >>> look.what, look.fields["field"].tolist()
    ('Dataset of 3 examples', ['inputs', 'target'])
    >>> look.classes["examples"].tolist()
    [1, 2]
    """
    if isinstance(data, Batches | StreamBatches):
        batch = next(iter(data.epoch(0)))
        return _peeked(
            f"A batch of {len(batch)} examples, as a network gets it", batch, data.dataset, n
        )
    if isinstance(data, Stream):
        examples = [example for example, _ in zip(data, range(LOOKED_AT), strict=False)]
        return _of_examples(
            f"The stream {data.name}, its first {len(examples)} examples", examples, data, n
        )
    source = as_source(data)
    what = f"{type(source).__name__} of {len(source)} examples"
    whole = (
        source.take(np.arange(len(source)))
        if len(source) <= LOOKED_AT or isinstance(source, Table)
        else None
    )
    if whole is None:
        places = np.unique(np.linspace(0, len(source) - 1, min(LOOKED_AT, len(source))).astype(int))
        whole = source.take(places)
        what += (
            ""
            if len(places) == len(source)
            else f", of which {len(places)} from begin to end are looked at"
        )
        if whole is None:
            return _of_examples(what, [source.read(int(i)) for i in places], source, n)
    return _peeked(what, whole, source, n)


def _of_examples(what: str, examples: list[Example], source: Any, n: int) -> Peek:
    """Of examples that may have different shapes."""
    inputs, targets, _ = zip(*examples, strict=True)
    columns: dict[str, list[Any]] = {}
    for value in inputs:
        for name, array in _named(value):
            columns.setdefault(name, []).append(array)
    for target in targets if targets[0] is not None else ():
        for name, value in (target if isinstance(target, dict) else {"target": target}).items():
            columns.setdefault(name, []).append(value)
    fields = pd.DataFrame([_uneven(name, values) for name, values in columns.items()])
    shown = pd.DataFrame(
        [
            {name: _short(values[i]) for name, values in columns.items()}
            for i in range(min(n, len(examples)))
        ]
    )
    classes = _classes(
        np.asarray(targets) if targets[0] is not None and np.ndim(targets[0]) == 0 else None, source
    )
    return Peek(what, fields, classes, _with_names(shown, source), source_findings(source, None))


def _peeked(what: str, batch: Batch, source: Any, n: int) -> Peek:
    named = list(_columns(batch.inputs, source))
    if batch.targets is not None:
        several = batch.targets if isinstance(batch.targets, dict) else {"target": batch.targets}
        named += [(name, np.asarray(target)) for name, target in several.items()]
    named += [
        (name, np.asarray(value))
        for name, value in (("weights", batch.weights), ("mask", batch.masks))
        if value is not None
    ]
    fields = pd.DataFrame([_field(name, array) for name, array in named])
    shown = pd.DataFrame(
        [{name: _short(array[i]) for name, array in named} for i in range(min(n, len(batch)))]
    )
    return Peek(
        what,
        fields,
        _classes(batch.targets, source),
        _with_names(shown, source),
        source_findings(source, batch),
    )


def _with_names(shown: pd.DataFrame, source: Any) -> pd.DataFrame:
    """Class numbers with what they stand for."""
    known = getattr(source, "class_names", ())
    for target, names in (known if isinstance(known, dict) else {"target": known}).items():
        if names and target in shown:
            shown[target] = [
                f"{k} ({names[int(k)]})" if k.isdigit() and int(k) < len(names) else k
                for k in shown[target]
            ]
    return shown


def _named(values: Any) -> Iterator[tuple[str, Any]]:
    if isinstance(values, dict):
        yield from values.items()
    elif isinstance(values, tuple):
        yield from ((f"inputs {i}", value) for i, value in enumerate(values))
    else:
        yield "inputs", values


def _columns(values: Any, source: Any) -> Iterator[tuple[str, np.ndarray]]:
    names = getattr(source, "feature_names", None)
    if (
        names is not None
        and isinstance(values, np.ndarray)
        and values.ndim == 2
        and values.shape[1] == len(names)
    ):
        yield from ((name, values[:, i]) for i, name in enumerate(names))
        return
    yield from ((name, np.asarray(value)) for name, value in _named(values))


def _field(name: str, array: np.ndarray) -> dict[str, Any]:
    shape = str(array.shape[1:]) if array.ndim > 1 else ""
    if array.dtype.kind not in "fiub":
        return _row(name, shape, str(array.dtype), None, 0, len(set(map(str, array.tolist()))))
    numbers = array.astype(np.float64)
    gaps = np.isnan(numbers)
    return _row(
        name,
        shape,
        str(array.dtype),
        numbers[~gaps],
        int(gaps.sum()),
        len(np.unique(numbers[~gaps])),
    )


def _row(
    name: str, shape: str, dtype: str, numbers: np.ndarray | None, missing: int, distinct: int
) -> dict[str, Any]:
    some = numbers is not None and numbers.size > 0
    return {
        "field": name,
        "shape": shape,
        "dtype": dtype,
        "lowest": float(numbers.min()) if some else np.nan,  # type: ignore[union-attr]
        "mean": float(numbers.mean()) if some else np.nan,  # type: ignore[union-attr]
        "highest": float(numbers.max()) if some else np.nan,  # type: ignore[union-attr]
        "missing": missing,
        "distinct": distinct,
    }


def _uneven(name: str, values: list[Any]) -> dict[str, Any]:
    if isinstance(values[0], str):
        lengths = [len(value) for value in values]
        return _row(
            name, f"{min(lengths)} to {max(lengths)} characters", "text", None, 0, len(set(values))
        )
    arrays = [np.asarray(value) for value in values]
    shapes = sorted({array.shape for array in arrays})
    numbers = [array.astype(np.float64).ravel() for array in arrays if array.dtype.kind in "fiub"]
    together = np.concatenate(numbers) if numbers else None
    gaps = 0 if together is None else int(np.isnan(together).sum())
    present = None if together is None else together[~np.isnan(together)]
    shape = (
        ""
        if shapes == [()]
        else str(shapes[0])
        if len(shapes) == 1
        else f"{shapes[0]} to {shapes[-1]}"
    )
    distinct = (
        len(set(map(str, values))) if shapes == [()] or present is None else len(np.unique(present))
    )
    return _row(name, shape, str(arrays[0].dtype), present, gaps, distinct)


def _short(value: Any) -> str:
    if isinstance(value, str):
        text = repr(value)
    elif np.ndim(value) == 0:
        text = _shown(value.item() if isinstance(value, np.generic) else value)
    else:
        array = np.asarray(value)
        if array.size > 12:
            return (
                f"{array.shape} {array.dtype}, {_shown(float(array.min()))} to "
                f"{_shown(float(array.max()))}"
            )
        text = " ".join(_shown(float(x)) for x in array.ravel())
    return text if len(text) <= SHOWN else text[: SHOWN - 1] + "…"


def _classes(targets: Any, source: Any) -> pd.DataFrame:
    if isinstance(targets, dict):
        known = getattr(source, "class_names", {})
        each = [
            _classes(own, SimpleNamespace(class_names=known.get(name, ()))).assign(target=name)
            for name, own in targets.items()
        ]
        return pd.concat([one for one in each if len(one)] or [pd.DataFrame()], ignore_index=True)
    array = None if targets is None else np.asarray(targets)
    if array is None or array.ndim != 1 or array.dtype.kind not in "iu":
        return pd.DataFrame()
    names = getattr(source, "class_names", ())
    labels, counts = np.unique(array[array >= 0] if names else array, return_counts=True)
    if len(labels) > MOST_CLASSES and not names:
        return pd.DataFrame()
    rows = {int(label): int(count) for label, count in zip(labels, counts, strict=True)}
    listed = range(len(names)) if names else sorted(rows)
    return pd.DataFrame(
        [
            {
                "class": i,
                "name": names[i] if i < len(names) else "",
                "examples": rows.get(i, 0),
                "share": rows.get(i, 0) / len(array),
            }
            for i in listed
        ]
    )
