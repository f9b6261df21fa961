"""Trails: the chain of operations that produced a value, as a tree and as a table."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from ..errors import DifferentiationError
from .tensor import Origin, Tensor

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Trail", "TrailEntry", "trail"]


@dataclass(frozen=True, slots=True, kw_only=True)
class TrailEntry:
    """One operation, parameter or input of a trail."""

    number: int
    operation: str
    name: str
    """Path of a parameter, name of an input; empty for operations."""
    layer: str
    """Path of the layer at work when it was recorded."""
    shape: tuple[int, ...]
    dtype: np.dtype[Any]
    parents: tuple[int, ...]
    bytes_held: int
    """Bytes that live only because this entry keeps them for the sweep."""
    is_parameter: bool = field(default=False)

    def __str__(self) -> str:
        label = f"{self.operation} {self.name}" if self.name else self.operation
        return f"{label} {_shape(self.shape)} {self.dtype}"


def _shape(shape: tuple[int, ...]) -> str:
    return "scalar" if shape == () else "x".join(str(n) for n in shape)


class Trail:
    """The operations that led to a value, the latest first.

    Examples
    --------
    >>> w = Tensor([[1.0], [2.0]], name="weight")
    >>> print(trail(np.sum(np.tanh(np.ones((3, 2)) @ w))))
    sum scalar float64
    tanh 3x1 float64
    matmul 3x1 float64  <- input 3x2 float64, parameter weight 2x1 float64
    """

    def __init__(self, entries: list[TrailEntry]) -> None:
        self.entries = entries
        self._by_number = {entry.number: entry for entry in entries}

    def __len__(self) -> int:
        return len(self.entries)

    def __iter__(self) -> Iterator[TrailEntry]:
        return iter(self.entries)

    @property
    def bytes_held(self) -> int:
        """Bytes the record keeps alive for the sweep."""
        return sum(entry.bytes_held for entry in self.entries)

    def table(self) -> pd.DataFrame:
        """One row an entry: number, operation, name, layer, shape, dtype, parents, bytes held."""
        import pandas as pd

        fields = ("number", "operation", "name", "layer", "shape", "dtype", "parents", "bytes_held")
        return pd.DataFrame(
            [{name: getattr(entry, name) for name in fields} for entry in self.entries],
            columns=list(fields),
        )

    def __str__(self) -> str:
        return "\n".join(self._lines())

    def __repr__(self) -> str:
        return f"<Trail of {len(self)} entries, {self.bytes_held} bytes held>"

    def _lines(self) -> Iterator[str]:
        """A chain stays in its column; where operations meet, all branches but the last are set
        in.
        """
        shown: set[int] = set()
        stack = [(self.entries[0].number, "", "")] if self.entries else []
        while stack:
            number, indent, bullet = stack.pop()
            entry = self._by_number[number]
            if number in shown:
                yield f"{indent}{bullet}{entry.operation} #{number} as above"
                continue
            shown.add(number)
            parents = [self._by_number[p] for p in entry.parents]
            leaves = [p for p in parents if not p.parents and p.operation in LEAVES]
            branches = [p for p in parents if p not in leaves]
            taken = f"  <- {', '.join(map(str, leaves))}" if leaves else ""
            mark = f"  #{number}" if self._uses(number) > 1 else ""
            yield f"{indent}{bullet}{entry}{mark}{taken}"
            inner = indent + ("   " if bullet.startswith("└") else "│  " if bullet else "")
            for i, branch in reversed(list(enumerate(branches))):
                last = i == len(branches) - 1
                alone = len(branches) == 1
                stack.append((branch.number, inner, "" if alone else "└─ " if last else "├─ "))

    def _uses(self, number: int) -> int:
        return sum(entry.parents.count(number) for entry in self.entries)


LEAVES = ("input", "parameter", "leaf", "constant")


def trail(value: Any) -> Trail:
    """The chain of operations that produced a value.

    Parameters
    ----------
    value : Tensor

    Returns
    -------
    trail : Trail
        Prints as a compact tree, parameters marked; ``.table()`` gives a DataFrame with the bytes
        each entry holds.

    Raises
    ------
    DifferentiationError
        If the value is not a Tensor: nothing was recorded.

    Examples
    --------
    >>> x = Tensor([1.0, 2.0], name="x")
    >>> trail(np.sum(x * x)).table()["operation"].tolist()
    ['sum', 'multiply', 'parameter']
    """
    if not isinstance(value, Tensor):
        raise DifferentiationError(
            f"trail needs a Tensor, got {type(value).__name__}: nothing was recorded. Was it "
            "computed under untracked()?"
        )
    origins = _reachable(value.origin)
    held: set[int] = set()
    entries: list[TrailEntry] = []
    for origin in sorted(origins, key=lambda o: o.number):
        entries += _entries(origin, held)
    entries.sort(key=lambda entry: entry.number, reverse=True)
    return Trail(entries)


def _reachable(top: Origin) -> set[Origin]:
    seen = {top}
    stack = [top]
    while stack:
        for parent in stack.pop().parents:
            if parent is not None and parent not in seen:
                seen.add(parent)
                stack.append(parent)
    return seen


def _entries(origin: Origin, held: set[int]) -> Iterator[TrailEntry]:
    parents = [p.number for p in origin.parents if p is not None]
    for position, (kept, parent) in enumerate(
        zip(origin.inputs or (), origin.parents, strict=False)
    ):
        if parent is None and type(kept) is np.ndarray:
            plain = -(origin.number * 16 + position)
            parents.insert(position, plain)
            yield TrailEntry(
                number=plain,
                operation="input",
                name="",
                layer=origin.place,
                shape=kept.shape,
                dtype=kept.dtype,
                parents=(),
                bytes_held=0,
            )
    leaf = origin.rule is None
    yield TrailEntry(
        number=origin.number,
        operation=("parameter" if origin.name else "leaf")
        if origin.rule is None
        else origin.rule.name,
        name=origin.name,
        layer=origin.place,
        shape=origin.shape,
        dtype=origin.dtype,
        parents=tuple(parents),
        bytes_held=0 if leaf else _bytes(origin, held),
        is_parameter=leaf and bool(origin.name),
    )


def _bytes(origin: Origin, held: set[int]) -> int:
    """Bytes of the arrays kept here and by no earlier entry; leaves and plain inputs live
    anyway.
    """
    total = 0
    kept = [
        x
        for x, parent in zip(origin.inputs or (), origin.parents, strict=False)
        if parent is not None and parent.rule is not None
    ]
    saved = origin.output if isinstance(origin.output, tuple) else (origin.output,)
    for array in (*kept, *saved):
        if isinstance(array, np.ndarray):
            owner = array.base if isinstance(array.base, np.ndarray) else array
            if id(owner) not in held:
                held.add(id(owner))
                total += array.nbytes
    return total
