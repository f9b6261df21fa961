"""What `describe` returns: the layers of a network as a table."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from ..autodiff.tensor import held

if TYPE_CHECKING:
    import pandas as pd
    from rich.table import Table

__all__ = ["Description", "Survey", "layer_name"]


def layer_name(layer: Any) -> str:
    """Class of a layer, name of a plain callable."""
    if hasattr(layer, "compute"):
        return type(layer).__name__
    return getattr(layer, "__name__", None) or repr(layer)


class Survey:
    """An observer of a dry pass that writes down each layer once."""

    def __init__(self, itemsize: int) -> None:
        self.itemsize = itemsize
        self.rows: list[dict[str, Any]] = []
        self._seen: set[int] = set()

    def __call__(self, layer: Any, path: str, inputs: tuple[Any, ...], output: Any) -> None:
        is_layer = hasattr(layer, "compute")
        shape = np.shape(held(inputs[0])) if inputs else ()
        result = np.shape(held(output[0] if isinstance(output, tuple) else output))
        own = layer._own_parameters() if is_layer else {}
        if is_layer and not own and any(True for _ in layer.children()):
            return
        first_time = id(layer) not in self._seen
        self._seen.add(id(layer))
        self.rows.append(
            {
                "path": path,
                "layer": layer_name(layer),
                "output": result,
                "parameters": sum(t.size for t in own.values()) if first_time else 0,
                "multiply_adds": layer.multiply_adds(shape, result) if is_layer else 0,
                "activation_bytes": math.prod(result) * self.itemsize,
            }
        )


class Description:
    """The layers of a network for one shape of input: prints as a table, ``.table()`` gives a
    DataFrame.
    """

    COLUMNS = ("path", "layer", "output", "parameters", "multiply_adds", "activation_bytes")

    def __init__(
        self, rows: list[dict[str, Any]], *, trainable: int, frozen: int, itemsize: int
    ) -> None:
        self.rows = rows
        self.trainable = trainable
        self.frozen = frozen
        self.itemsize = itemsize

    def _repr_html_(self) -> str:
        from .._notebook_html import html_table

        rows = [
            [
                " x ".join(map(str, row[name])) if name == "output" else row[name]
                for name in self.COLUMNS
            ]
            for row in self.rows
        ]
        return html_table(self.summary(), [name.replace("_", " ") for name in self.COLUMNS], rows)

    @property
    def multiply_adds(self) -> int:
        """Of one pass over the whole batch."""
        return sum(row["multiply_adds"] for row in self.rows)

    @property
    def activation_bytes(self) -> int:
        """Of all layers' outputs, which a learning pass keeps until the sweep."""
        return sum(row["activation_bytes"] for row in self.rows)

    @property
    def gradient_bytes(self) -> int:
        """Of the gradients of all trainable parameters."""
        return self.trainable * self.itemsize

    def table(self) -> pd.DataFrame:
        """One row a layer: path, layer, output, parameters, multiply_adds, activation_bytes."""
        import pandas as pd

        return pd.DataFrame(self.rows, columns=list(self.COLUMNS))

    def __str__(self) -> str:
        return f"{self.table().to_string(index=False)}\n{self.summary()}"

    def summary(self) -> str:
        """The figures of the whole network in one line."""
        frozen = f" and {self.frozen:,} frozen" if self.frozen else ""
        return (
            f"{self.trainable:,} trainable{frozen} parameters, {self.multiply_adds:,} "
            "multiply-adds, "
            f"{readable_bytes(self.activation_bytes)} of activations, "
            f"{readable_bytes(self.gradient_bytes)} of gradients"
        )

    def __rich__(self) -> Table:
        from rich.table import Table

        table = Table(caption=self.summary())
        for name in ("path", "layer", "output"):
            table.add_column(name)
        for name in ("parameters", "multiply-adds", "activations"):
            table.add_column(name, justify="right")
        for row in self.rows:
            table.add_row(
                row["path"],
                row["layer"],
                " x ".join(map(str, row["output"])),
                f"{row['parameters']:,}",
                f"{row['multiply_adds']:,}",
                readable_bytes(row["activation_bytes"]),
            )
        return table


def readable_bytes(n: int) -> str:
    size = float(n)
    for unit in ("B", "KiB", "MiB", "GiB"):
        if size < 1024 or unit == "GiB":
            break
        size /= 1024
    return f"{size:.0f} {unit}" if unit == "B" else f"{size:.1f} {unit}"
