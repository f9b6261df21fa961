"""Sources larger than memory: examples in many files, of which a few are held at a time."""

from __future__ import annotations

import glob
import os
import threading
from abc import ABC, abstractmethod
from collections import OrderedDict
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from ..._arguments import checked_seed
from ...errors import DataError
from ...parts._registry import maker
from .._file_stamps import check_unchanged, stamp_of
from .._hashing import digest
from ..batches._batch import Batch
from ..batches._joins import Example
from ..batches._orders import Order, ShardOrder, rows_of_files
from ._files import unzipped
from ._source import Source
from ._splits import fold_indices, split_indices

__all__ = ["Shard", "Shards", "files_of", "number_classes", "shards"]

ENDS = 1 << 16  # bytes at each end of a file that tell it from others


class Shard(ABC):
    """A file of examples, of which the targets are known and the inputs are read when wanted."""

    def __init__(self, path: Path, targets: np.ndarray | None, size: int) -> None:
        self.path, self.targets, self.size = path, targets, size
        self.stamp = stamp_of(path)

    @abstractmethod
    def _read(self) -> np.ndarray: ...

    def read(self) -> np.ndarray:
        """The inputs of all its examples.

        Raises
        ------
        DataError
            If the file is not what it was, or other examples are in it.
        """
        check_unchanged(self.path, self.stamp)
        inputs = self._read()
        if len(inputs) != self.size:
            raise DataError(
                f"{self.path}: it has {len(inputs)} inputs and {self.size} targets. One of each is "
                "needed."
            )
        return inputs

    def fingerprint(self) -> bytes:
        """Of its size, and of the bytes at both ends: all of it would take as long as an epoch."""
        with self.path.open("rb") as file:
            begin = file.read(ENDS)
            file.seek(max(0, self.path.stat().st_size - ENDS))
            return digest(
                np.frombuffer(begin, np.uint8),
                np.frombuffer(file.read(), np.uint8),
                np.array([self.size, self.path.stat().st_size]),
            ).encode()


class Shards(Source):
    """Examples in many files, of which some are in memory at a time.

    Targets are read at once, inputs when they are wanted. An epoch takes the files in a new order,
    some at a time, and shuffles the examples of these, so that each file is read once; see
    `ShardOrder`. Any batch of any epoch is found at once, so that a run goes on in the middle of an
    epoch. Parts are of whole files.

    Parameters
    ----------
    files : sequence of Shard
    buffer_files : int
        Files whose examples are in memory, and shuffled, at a time.
    class_values : sequence, optional
        What class numbers stand for.

    Examples
    --------
    >>> import tempfile, pathlib
    >>> root = pathlib.Path(tempfile.mkdtemp())
    >>> for k in range(4):
    ...     np.savez(root / f"{k}.npz", inputs=np.full((5, 2), k), targets=np.full(5, k))
    >>> train, validation = vs.data.shards(root / "*.npz").split(0.75, 0.25)
    >>> len(train), len(validation)
    (15, 5)
    """

    holds_lock = False
    knows_labels = True
    splits_by_file = True

    def __init__(
        self, files: Sequence[Shard], *, buffer_files: int = 4, class_values: Sequence[Any] = ()
    ) -> None:
        if isinstance(buffer_files, bool) or not isinstance(buffer_files, int) or buffer_files < 1:
            raise DataError(
                f"shards: buffer_files must be a whole number of files, got {buffer_files!r}."
            )
        if not files:
            raise DataError("shards: there are no files in this part. Make more of them.")
        self.files, self.buffer_files = list(files), buffer_files
        self.class_values = tuple(class_values)
        self.lengths = np.array([file.size for file in files])
        self.starts = np.concatenate([[0], np.cumsum(self.lengths)])
        known = [file.targets for file in files if file.targets is not None]
        self.targets = np.concatenate(known) if len(known) == len(files) else None
        self._held: OrderedDict[int, np.ndarray] = OrderedDict()
        self._lock = threading.Lock()

    def __getstate__(self) -> dict[str, Any]:
        return {name: value for name, value in vars(self).items() if name != "_lock"} | {
            "_held": OrderedDict()
        }

    def __setstate__(self, state: dict[str, Any]) -> None:
        vars(self).update(state)
        self._lock = threading.Lock()

    def __len__(self) -> int:
        return int(self.starts[-1])

    def _inputs(self, file: int) -> np.ndarray:
        """Of one file; the ones that were wanted least recently are let go."""
        with self._lock:
            if file in self._held:
                self._held.move_to_end(file)
                return self._held[file]
            while len(self._held) >= self.buffer_files:
                self._held.popitem(last=False)
            found = self._held[file] = self.files[file].read()
            return found

    def take(self, index: np.ndarray) -> Batch:
        index = np.asarray(index)
        which = np.searchsorted(self.starts, index, side="right") - 1
        inputs: np.ndarray | None = None
        # what is held comes first, before it is let go for what is not
        for file in sorted(np.unique(which).tolist(), key=lambda file: file not in self._held):
            held = self._inputs(file)
            if inputs is None:
                inputs = np.empty((len(index), *held.shape[1:]), held.dtype)
            here = which == file
            if held.shape[1:] != inputs.shape[1:]:
                raise DataError(
                    f"{self.files[file].path}: its inputs have shape {held.shape[1:]}, those of "
                    f"other files {inputs.shape[1:]}."
                )
            inputs[here] = held[index[here] - self.starts[file]]
        return Batch(inputs, None if self.targets is None else self.targets[index])

    def example(self, index: int) -> Example:
        batch = self.take(np.array([index]))
        return batch.inputs[0], None if batch.targets is None else batch.targets[0], None

    def sample_index(self, most: int) -> np.ndarray:
        """Of a few files only."""
        few = np.unique(np.linspace(0, len(self.files) - 1, self.buffer_files).astype(int))
        rows = rows_of_files(self.starts, few)
        return np.asarray(rows[np.unique(np.linspace(0, len(rows) - 1, most).astype(int))])

    def default_order(self) -> Order:
        return ShardOrder(self.lengths, self.buffer_files)

    def split(  # type: ignore[override]
        self, *shares: float, seed: int = 0, **options: Any
    ) -> list[Shards]:
        """Divide into parts of whole files; see `Source.split`."""
        _refuse_rows("split", options)
        parts = split_indices(len(self.files), shares, checked_seed(seed, "split"))
        return [self._of_files(part) for part in parts]

    def fold_rows(
        self, k: int, *, seed: int = 0, repeats: int = 1, **options: Any
    ) -> Iterator[tuple[np.ndarray, np.ndarray]]:
        _refuse_rows("folds", options)
        for repeat in range(repeats):
            own = checked_seed(seed, "folds") + repeat
            for parts in fold_indices(len(self.files), k, own):
                yield rows_of_files(self.starts, parts[0]), rows_of_files(self.starts, parts[1])

    def _of_files(self, chosen: Sequence[int] | np.ndarray) -> Shards:
        return Shards(
            [self.files[i] for i in chosen],
            buffer_files=self.buffer_files,
            class_values=self.class_values,
        )

    def rows(self, index: np.ndarray) -> Any:
        """Some of the examples; where they are those of whole files, as shards."""
        which = np.unique(np.searchsorted(self.starts, np.asarray(index), side="right") - 1)
        whole = rows_of_files(self.starts, which) if len(which) else np.zeros(0, int)
        if len(whole) == len(index) and np.array_equal(whole, np.sort(index)):
            return self._of_files(which)
        return super().rows(index)

    def labels(self, target: str = "") -> np.ndarray | None:
        return (
            self.targets if self.targets is not None and self.targets.dtype.kind in "iu" else None
        )

    def settings(self) -> dict[str, Any]:
        return {
            "kind": "shards",
            "files": len(self.files),
            "examples": len(self),
            "buffer_files": self.buffer_files,
            "classes": list(self.class_names),
        }

    def fingerprint(self) -> str:
        return digest(*(np.frombuffer(file.fingerprint(), np.uint8) for file in self.files))

    def example_hashes(self) -> np.ndarray | None:
        return None  # to read all is what one comes here to avoid


def _refuse_rows(what: str, options: dict[str, Any]) -> None:
    asked = [name for name, value in options.items() if value is not None and value is not False]
    if asked:
        raise DataError(
            f"{what}: {asked[0]} asks for single examples, and shards are divided by file. Write "
            "the files of each part accordingly."
        )


class _Arrays(Shard):
    def __init__(self, path: Path, inputs: str, targets: str | None) -> None:
        self.name = inputs
        if targets is None:
            super().__init__(path, None, len(unzipped(path, [inputs])[0]))
            return
        (found,) = unzipped(path, [targets])
        super().__init__(path, found, len(found))

    def _read(self) -> np.ndarray:
        return unzipped(self.path, [self.name])[0]


class _Columns(Shard):
    """Rows of a Parquet file, all columns numbers but the target."""

    def __init__(self, path: Path, target: str | None, columns: Sequence[str] | None) -> None:
        from pyarrow import ArrowException, parquet

        try:
            opened = parquet.ParquetFile(path)
            names = [str(name) for name in opened.schema_arrow.names]
            if target is not None and target not in names:
                raise DataError(
                    f"{path}: there is no column {target!r}. There are {', '.join(names[:12])}."
                )
            self.columns = [name for name in names if name != target]
            if columns is not None and self.columns != list(columns):
                raise DataError(
                    f"{path}: its columns are {', '.join(self.columns[:12])}, those of the first "
                    f"file {', '.join(columns[:12])}."
                )
            read = opened.read([target]).column(0) if target is not None else None
            size = opened.metadata.num_rows
        except (OSError, ArrowException) as error:
            raise DataError(f"{path}: no Parquet file that can be read: {error}.") from error
        targets = None if read is None else read.to_pandas().to_numpy()
        super().__init__(path, targets, size)

    def _read(self) -> np.ndarray:
        import pandas as pd

        frame = pd.read_parquet(self.path, columns=self.columns)
        for name in self.columns:
            if frame[name].dtype.kind not in "iufb":
                raise DataError(
                    f"{self.path}: column {name!r} holds {frame[name].dtype}, and shards take "
                    "numbers. Encode it when the files are written, or leave it out."
                )
            if frame[name].isna().any():
                row = int(np.flatnonzero(frame[name].isna())[0])
                raise DataError(
                    f"{self.path}: column {name!r} has a gap in row {row}. Fill gaps when the "
                    "files are written."
                )
        return frame.to_numpy(np.float32)


@maker("shards", "source")
def shards(
    files: str | os.PathLike[str] | Sequence[str | os.PathLike[str]],
    *,
    inputs: str = "inputs",
    target: str | None = "targets",
    buffer_files: int = 4,
    class_values: Sequence[Any] = (),
) -> Shards:
    """Examples in many files: ``.npz`` files with arrays, or Parquet files with columns of numbers.

    Parameters
    ----------
    files : path or sequence of path
        A pattern, such as ``"rows/*.npz"``, or the files.
    inputs : str
        Name of the array of inputs in ``.npz`` files; of Parquet files all columns but the target.
    target : str
        Name of the array, or column, of targets; None, in a plan ``""``, if there are none. Texts
        and truth values are classes, whole numbers class numbers, others numbers.
    buffer_files : int
        Files whose examples are in memory, and shuffled, at a time.
    class_values : sequence, optional
        What class numbers stand for.

    Raises
    ------
    DataError
        If there are no files, or one cannot be read, or they do not fit together.

    Examples
    --------
    >>> import tempfile, pathlib
    >>> root = pathlib.Path(tempfile.mkdtemp())
    >>> for k in range(6):
    ...     np.savez(root / f"{k}.npz", inputs=np.full((10, 2), k), targets=np.full(10, k))
    >>> found = shards(root / "*.npz", buffer_files=2)
    >>> found
    <Shards of 60 examples>
    >>> [len(np.unique(batch.targets)) for batch in found.batches(20).epoch(0)]
    [2, 2, 2]
    """
    paths = files_of(files)
    name = target or None
    found: list[Shard] = []
    for path in paths:
        if path.suffix == ".npz":
            found.append(_Arrays(path, inputs, name))
        elif path.suffix in (".parquet", ".pq"):
            first = found[0] if found else None
            found.append(
                _Columns(path, name, first.columns if isinstance(first, _Columns) else None)
            )
        else:
            raise DataError(
                f"{path}: shards are .npz or .parquet files; pictures in .tar files are read by "
                "vinestep.data.picture_shards."
            )
    values = tuple(class_values)
    if name is not None and any(_is_text(shard.targets) for shard in found):
        values = number_classes(found, values)
    elif name is not None:
        for shard in found:
            if shard.targets is not None and shard.targets.dtype.kind == "f":
                shard.targets = shard.targets.reshape(len(shard.targets), -1).astype(np.float32)
    return Shards(found, buffer_files=buffer_files, class_values=values)


def files_of(files: str | os.PathLike[str] | Sequence[str | os.PathLike[str]]) -> list[Path]:
    """The files of a pattern, in the order of their names, or those that were given.

    Raises
    ------
    DataError
        If there are none.
    """
    if isinstance(files, str | os.PathLike):
        found = sorted(map(Path, glob.glob(os.fspath(files))))
        if not found:
            raise DataError(f"{os.fspath(files)}: there is no such file. Check the pattern.")
        return found
    given = [Path(file) for file in files]
    missing = [str(file) for file in given if not file.is_file()]
    if missing or not given:
        raise DataError(
            f"shards: {missing[0] if missing else 'no files were given'}: no such file."
        )
    return given


def _is_text(targets: np.ndarray | None) -> bool:
    return targets is not None and targets.dtype.kind in "OUSb"


def _values_of(found: Sequence[Shard]) -> tuple[Any, ...]:
    values: set[Any] = set()
    for shard in found:
        assert shard.targets is not None
        values |= set(shard.targets.tolist())
    if None in values:
        raise DataError("shards: some targets are missing. Leave such rows out of the files.")
    return tuple(sorted(values))


def number_classes(found: Sequence[Shard], values: tuple[Any, ...]) -> tuple[Any, ...]:
    """Put class numbers in place of targets; the classes, by default those that there are, sorted.

    Raises
    ------
    DataError
        If a target is missing, or none of the classes.
    """
    values = values or _values_of(found)
    numbers = {value: number for number, value in enumerate(values)}
    for shard in found:
        assert shard.targets is not None
        unknown = set(shard.targets.tolist()) - set(numbers)
        if unknown:
            raise DataError(
                f"{shard.path}: {sorted(map(str, unknown))[0]!r} is a target, which is no class of "
                f"{', '.join(map(repr, values[:12]))}."
            )
        shard.targets = np.array([numbers[value] for value in shard.targets.tolist()])
    return values
