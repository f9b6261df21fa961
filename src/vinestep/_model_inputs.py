"""What a model is given to predict or to score: tables, arrays, sources, files and folders of
pictures and texts.
"""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from ._arguments import checked_path
from .data.batches._batching import Batching
from .data.encoding._codec import Codec, classes_in_words
from .data.sources._source import Source
from .errors import DataError

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["ModelInputs", "model_inputs", "read_pictures"]

PICTURE_AXES = 3
CHANNELS = {1: "L", 3: "RGB", 4: "RGBA"}
FILE = "file"


class ModelInputs(NamedTuple):
    """Inputs as a network takes them."""

    inputs: Any
    targets: Any = None
    beside: pd.DataFrame | None = None
    """What stands beside the predictions: the rows of a table, or the names of files."""
    weights: Any = None


def model_inputs(codec: Codec, shape: tuple[int, ...], rows: Any) -> ModelInputs:
    """
    Parameters
    ----------
    codec : Codec
    shape : tuple of int
        Of an example, as the network was initialised for.
    rows
        Whatever `Model.predict` takes.

    Raises
    ------
    DataError, ModelError
        If it is nothing of the kind that was trained on.
    """
    if isinstance(rows, Batching):
        rows = rows.dataset
    if isinstance(rows, Source):
        return _of_source(codec, rows)
    if codec.encoding is None:
        if codec.text_form is not None and (files := _files_in(rows, texts=False)):
            return _of_texts(codec, files)
        if codec.text_form is None and len(shape) == PICTURE_AXES:
            if files := _files_in(rows, texts=True):
                return _of_pictures(codec, shape, rows, files)
            rows = _as_arrays(rows, CHANNELS.get(shape[-1], "RGB"))
    frame, inputs = codec.inputs(rows)
    return ModelInputs(inputs, None, frame)


def _of_source(codec: Codec, source: Source) -> ModelInputs:
    """Examples of a source, encoded and prepared as the training part was, or not at all yet."""
    encoding = getattr(source, "encoding", None)
    if codec.encoding is not None and encoding != codec.encoding:
        told = "; ".join(codec.encoding.differences(encoding)) if encoding is not None else ""
        raise DataError(
            f"The source is encoded otherwise than the training part{f': {told}' if told else ''}. "
            "Give the rows as a DataFrame or file, or make the part by table.like(rows)."
        )
    known, theirs = codec.class_values, getattr(source, "class_values", ())
    if known and theirs and _in_texts(known) != _in_texts(theirs):
        raise DataError(
            f"The source has the classes {classes_in_words(theirs)}, and the model knows "
            f"{classes_in_words(known)}, in this order. Give it class_values of the training "
            "part."
        )
    ours, done = codec.preparation, source.preparation
    if [(type(step), vars(step)) for step in ours] == [(type(step), vars(step)) for step in done]:
        batch = source.gathered(np.arange(len(source)))
        return ModelInputs(batch.inputs, batch.targets, weights=batch.weights)
    if done:
        raise DataError(
            f"The source is prepared by {', '.join(map(repr, done))}, and the training part was "
            f"by {', '.join(map(repr, ours)) or 'nothing'}. Leave prepared() out: the model "
            "prepares by itself."
        )
    examples = [source.read(i) for i in range(len(source))]
    targets = [target for _, target, _ in examples]
    inputs = codec.pictures([x for x, _, _ in examples])
    if any(target is None for target in targets):
        return ModelInputs(inputs)
    if isinstance(targets[0], dict):
        named = {name: np.asarray([target[name] for target in targets]) for name in targets[0]}
        return ModelInputs(inputs, named)
    return ModelInputs(inputs, np.asarray(targets))


def _in_texts(classes: Any) -> Any:
    if isinstance(classes, Mapping):
        return {name: _in_texts(values) for name, values in classes.items()}
    return tuple(map(str, classes))


def _is_path(value: Any, texts: bool) -> bool:
    return isinstance(value, os.PathLike) or (texts and isinstance(value, str) and bool(value))


def _files_in(rows: Any, *, texts: bool) -> list[Path]:
    """The files that paths name, those of folders in order; texts may be paths, too."""
    listed = [rows] if _is_path(rows, texts) else rows
    if not isinstance(listed, Sequence) or isinstance(listed, str) or not listed:
        return []
    if not all(_is_path(one, texts) for one in listed):
        return []
    found: list[Path] = []
    for one in (checked_path(path, "predict") for path in listed):
        if not one.exists():
            raise DataError(f"{one}: there is no such file or folder.")
        if not one.is_dir():
            found.append(one)
            continue
        inside = sorted(p for p in one.rglob("*") if p.is_file() and not p.name.startswith("."))
        if not inside:
            raise DataError(f"{one}: the folder holds no files.")
        found += inside
    return found


def _beside(files: Sequence[Path]) -> pd.DataFrame:
    import pandas as pd

    return pd.DataFrame({FILE: [str(file) for file in files]})


def _of_texts(codec: Codec, files: Sequence[Path]) -> ModelInputs:
    from .data.sources._files import read_text

    _, inputs = codec.inputs([read_text(file) for file in files])
    return ModelInputs(inputs, None, _beside(files))


def _of_pictures(
    codec: Codec, shape: tuple[int, ...], rows: Any, files: Sequence[Path]
) -> ModelInputs:
    from .data.pictures._pictures import PICTURES, PictureFolder

    channels: Any = CHANNELS.get(shape[-1], "RGB")
    if _is_path(rows, texts=True) and Path(rows).is_dir():
        within = [sub for sub in Path(rows).iterdir() if sub.is_dir()]
        names = tuple(map(str, codec.class_values)) or None
        if within and (names is None or {sub.name for sub in within} <= set(names)):
            folder = PictureFolder(rows, class_values=names, channels=channels)
            return _of_source(codec, folder)._replace(beside=_beside(folder.paths))
        files = [file for file in files if file.suffix.lower() in PICTURES]
        if not files:
            raise DataError(f"{rows}: the folder holds no pictures ({', '.join(PICTURES)}).")
    return ModelInputs(codec.pictures(read_pictures(files, shape)), None, _beside(files))


def read_pictures(files: Sequence[str | os.PathLike[str]], shape: tuple[int, ...]) -> list[Any]:
    """Picture files with as many channels as inputs of this shape have."""
    from .data.pictures._pictures import Pictures

    channels: Any = CHANNELS.get(shape[-1], "RGB")
    source = Pictures(files, channels=channels)
    return [source.read(i)[0] for i in range(len(source))]


def _as_arrays(rows: Any, channels: str) -> Any:
    """Opened pictures of Pillow as arrays; others as they are."""
    several = rows if isinstance(rows, list | tuple) else [rows]
    if not several or not all(hasattr(one, "getbands") for one in several):
        return rows
    arrays = [np.asarray(one.convert(channels)) for one in several]
    return [array if array.ndim == PICTURE_AXES else array[..., None] for array in arrays]
