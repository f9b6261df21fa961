"""What turns raw rows into a network's inputs, and its outputs into answers."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from ..._findings import Finding, tell
from ..._lazy_imports import pandas as pd
from ..._public_names import did_you_mean
from ...errors import DataError, ModelError
from ...parts._build import Builder
from ...parts._describe import describe
from .._table_files import Source, read_frame
from ..batches._transforms import Transform, prepared
from ._columns import Encoding, Scaling, targets_of
from ._drift import range_findings, row_findings
from ._text_form import TextForm, joined_sources

__all__ = ["Codec", "classes_in_words"]


class Answering(Protocol):
    """What knows how outputs become answers; see `vinestep.tasks.Task`."""

    def answers(self, outputs: Any, classes: Any, back: Any) -> pd.DataFrame: ...


@dataclass(frozen=True)
class Codec:
    """How raw inputs become a network's inputs, and outputs answers; it is learned with the data
    and handed on with the model.

    Examples
    --------
    >>> table = vs.data.Table(vs.demo.barrels(50), target="state")
    >>> codec = Codec.of(table)
    >>> codec.class_values
    ('sound', 'spoiling', 'stuck')
    >>> codec.answers(np.eye(3)[:1], vs.tasks.Classes())["predicted"].tolist()
    ['sound']
    """

    encoding: Encoding | None = None
    """How columns of a table become numbers; without one inputs are arrays or texts."""
    scaling: Scaling | None = None
    class_values: Any = ()
    """The classes as they stand in the data; empty if outputs are numbers. Of several targets by
    name.
    """
    preparation: tuple[Transform, ...] = ()
    """What is done to arrays of raw inputs, such as pictures, before the network sees them."""
    input_range: tuple[float, float] | None = None
    """Lowest and highest value of the pictures trained on, as the network saw them."""
    text_form: TextForm | None = None
    """How texts become tokens and tokens texts: tokenisers, and a template of requests and answers.
    """

    @classmethod
    def of(cls, source: Any, input_range: tuple[float, float] | None = None) -> Codec:
        """What a source of examples knows."""
        encoding = getattr(source, "encoding", None)  # of text files it is that of their bytes
        return cls(
            encoding if isinstance(encoding, Encoding) else None,
            getattr(source, "scaling", None),
            _classes(getattr(source, "class_values", ())),
            tuple(getattr(source, "preparation", ())),
            input_range,
            getattr(source, "text_form", None),
        )

    def updated(self, newer: Codec) -> Codec:
        """With what a newer one knows in the place of what this one did."""
        return Codec(
            *(getattr(newer, name) or getattr(self, name) for name in self.__dataclass_fields__)
        )

    # raw inputs to those of the network

    def inputs(self, rows: Any) -> tuple[pd.DataFrame | None, Any]:
        """Rows of a table as a frame, None of other inputs; and what the network takes.

        Raises
        ------
        DataError
            If a column is missing, or a category was never seen, unless settled otherwise at
            training.
        ModelError
            If a table is given where arrays were trained on.
        """
        if self.encoding is None:
            if self.text_form is not None:
                return None, self._tokens(rows, self.text_form)
            if isinstance(rows, pd.DataFrame | str | os.PathLike):
                raise ModelError(
                    "This model knows nothing of columns: it was trained on arrays. Give it an "
                    "array of inputs."
                )
            if isinstance(rows, tuple):
                return None, tuple(self._prepared(np.asarray(x)) for x in rows)
            return None, self.pictures(rows)
        if isinstance(rows, np.ndarray):
            return None, self.encoding.split(rows, self.scaling)
        if self.encoding.inputs and isinstance(rows, Mapping):
            return None, rows
        frame, name = read_frame(
            rows, texts=self.encoding.texts_of_files, literal=self.encoding.literal
        )
        encoded = self.encoding.encode(frame, name)
        if self.scaling is not None:
            return frame, self.encoding.split(self.scaling.scale(encoded), self.scaling)
        if np.isnan(encoded).any():
            column = self.encoding.numeric[int(np.argmax(np.isnan(encoded).any(axis=0)))]
            raise DataError(
                f"{name}: column {column!r} has empty cells, and at training nothing was said of "
                "how to fill them."
            )
        return frame, self.encoding.split(encoded, None)

    def pictures(self, pictures: Any) -> np.ndarray:
        """Pictures, or other arrays, as the network takes them; it is said if their values are of
        another range.
        """
        result = self._prepared(pictures)
        tell(range_findings(self.input_range, result, "the pictures"))
        return result

    @staticmethod
    def _tokens(texts: Any, form: TextForm) -> np.ndarray:
        """Texts as the network takes them, padded to the longest; tokens stay as they are."""
        if isinstance(texts, np.ndarray) and texts.dtype.kind in "iu":
            return texts
        listed = [texts] if isinstance(texts, str) else list(texts)
        wrong = next((i for i, text in enumerate(listed) if not isinstance(text, str)), None)
        if wrong is not None or not listed:
            raise DataError(
                "This model takes texts: a str, or several; got "
                f"{type(listed[wrong or 0]).__name__ if listed else 'none'}."
            )
        return joined_sources([form.tokeniser.encode(text) for text in listed])

    def _prepared(self, inputs: Any) -> np.ndarray:
        """Raw inputs as the network takes them; pictures may be of different sizes."""
        if isinstance(inputs, list) and inputs and len({np.shape(x) for x in inputs}) > 1:
            each = [self._prepared(np.asarray(x)[None]) for x in inputs]
            if len(shapes := {x.shape[1:] for x in each}) > 1:
                raise DataError(
                    f"The inputs have different shapes, {', '.join(map(str, sorted(shapes)))}. "
                    "Train on pictures that were prepared by Resize or Fit, or give them one size."
                )
            return np.concatenate(each)
        return np.asarray(prepared(np.asarray(inputs), self.preparation))

    def targets(self, frame: pd.DataFrame) -> Any:
        """The targets of rows as the loss takes them; several by name.

        Raises
        ------
        DataError
            If the target is missing.
        """
        encoding = self.encoding
        assert encoding is not None
        for target in () if encoding.target_gaps else encoding.targets:
            absent = int(frame[target].isna().sum()) if target in frame.columns else 0
            if absent:
                raise DataError(
                    f"The target {target!r} is missing in {absent} of {len(frame)} rows, which "
                    "cannot be scored."
                )
        return targets_of(frame, encoding, "The rows")

    def findings(self, rows: Source) -> list[Finding]:
        """How rows differ from those trained on: out of range, unseen categories, other gaps,
        columns that are missing.
        """
        if self.encoding is None:
            return []
        frame, _ = read_frame(
            rows, texts=self.encoding.texts_of_files, literal=self.encoding.literal
        )
        return row_findings(self.encoding, self.scaling, frame)

    # outputs to answers

    def answers(self, outputs: Any, task: Answering) -> pd.DataFrame:
        """Outputs of a network as a table: classes and probabilities, or numbers.

        Parameters
        ----------
        outputs : ndarray, shape (n, ...), or several by name
        task : Task
            What they mean.
        """
        return task.answers(outputs, self.class_values, self.back)

    # examples that a network makes

    def class_numbers(self, label: Any) -> np.ndarray:
        """Numbers of classes as they stand in the data; numbers themselves where there are no
        names.

        Raises
        ------
        DataError
            If there is no such class.
        """
        known = list(self.class_values) if not isinstance(self.class_values, Mapping) else []
        listed = np.atleast_1d(np.asarray(label, object))
        if not known:
            return np.squeeze(listed.astype(np.int64)) if listed.size == 1 else listed.astype(int)
        places = {value: place for place, value in enumerate(known)}
        places |= {str(value): place for place, value in enumerate(known)}
        for one in listed:
            if one not in places:
                raise DataError(f"There is no class {one!r}. {did_you_mean(str(one), places)}")
        numbers = np.array([places[one] for one in listed])
        return numbers[0] if np.ndim(label) == 0 else numbers

    def decode(self, made: np.ndarray) -> Any:
        """What a network made, as the examples of the data are: a table, or arrays as they were
        before they were prepared.
        """
        if self.encoding is not None:
            return self.encoding.decode(made, self.scaling)
        for transform in reversed(self.preparation):
            made = transform.inverse(made)
        return made

    @property
    def back(self) -> Callable[[np.ndarray], np.ndarray] | None:
        """From a target as it was learned to the unit of the data; None if that is the same."""
        return _exponential if self.encoding is not None and self.encoding.log_target else None

    # files

    def described(self, *, opaque: bool = False) -> dict[str, Any]:
        """As JSON can hold it."""
        return {
            "encoding": None if self.encoding is None else self.encoding.as_dict(),
            "scaling": None if self.scaling is None else self.scaling.as_dict(),
            "class_values": {name: list(v) for name, v in self.class_values.items()}
            if isinstance(self.class_values, Mapping)
            else list(self.class_values),
            "input_range": None if self.input_range is None else list(self.input_range),
            "preparation": [describe(transform, opaque=opaque) for transform in self.preparation],
            **({"text_form": self.text_form.as_dict()} if self.text_form is not None else {}),
        }

    @classmethod
    def built(cls, known: Mapping[str, Any], builder: Builder) -> Codec:
        """From what `described` gave; faults of transforms are kept by the builder."""
        listed = enumerate(known.get("preparation") or [])
        preparation = [builder.part(item, f"preparation.{i}", ("transform",)) for i, item in listed]
        builder.refuse_faults()
        encoding = None if known.get("encoding") is None else Encoding.from_dict(known["encoding"])
        scaling = None
        if known.get("scaling") is not None and encoding is not None:
            scaling = Scaling.from_dict(known["scaling"], len(encoding.numeric))
        return cls(
            encoding,
            scaling,
            _classes(known.get("class_values") or ()),
            tuple(preparation),
            _range_of(known.get("input_range")),
            None if known.get("text_form") is None else TextForm.from_dict(known["text_form"]),
        )


def _exponential(values: np.ndarray) -> np.ndarray:
    return np.asarray(np.exp(values.astype(np.float64)))


def classes_in_words(known: Any) -> str:
    """What class numbers stand for, listed; of several targets one after another."""
    if isinstance(known, Mapping):
        each = [
            f"{name}: {classes_in_words(values) or 'numbers'}" for name, values in known.items()
        ]
        return "; ".join(each)
    return ", ".join(map(str, known))


def _classes(known: Any) -> Any:
    """As they stand in a file: listed, or by target."""
    return (
        {name: tuple(v) for name, v in known.items()}
        if isinstance(known, Mapping)
        else tuple(known)
    )


def _range_of(known: Any) -> tuple[float, float] | None:
    if known is None:
        return None
    low, high = map(float, known)
    return low, high
