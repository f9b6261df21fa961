"""The demo's sets as sources of examples, for plans."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ..data.encoding._text_form import TextForm
from ..data.encoding._tokens import ByteTokeniser
from ..data.sources._dataset import Dataset
from ..data.sources._source import Examples, Source
from ..parts._registry import maker
from ._barrels import barrels
from ._casks import casks
from ._chalk import CHARACTERS, chalk
from ._ferments import WARNING, ferments
from ._harvest import harvest
from ._leaves import leaf_spots, leaves
from ._notes import notes
from ._parcels import parcels

__all__ = [
    "TABLES",
    "demo_chalk",
    "demo_ferments",
    "demo_leaf_spots",
    "demo_leaves",
    "demo_notes",
]

TABLES = {"barrels": barrels, "casks": casks, "harvest": harvest, "parcels": parcels}


@maker("demo_leaves", "source")
def demo_leaves(
    n: int = 1200, told: Literal["condition", "cultivar"] = "condition", seed: int = 17
) -> Dataset:
    """Pictures of `vinestep.demo.leaves`, and what is to be told: condition or cultivar.

    Examples
    --------
    >>> demo_leaves(3)
    <Dataset of 3 examples, inputs (32, 32, 3) float32>
    """
    result = leaves(n, kind=told, seed=seed)
    return Dataset(result.pictures, result.labels, class_values=result.names)


@maker("demo_leaf_spots", "source")
def demo_leaf_spots(n: int = 400, seed: int = 19) -> Dataset:
    """Pictures of `vinestep.demo.leaf_spots`, and what each pixel shows.

    Examples
    --------
    >>> demo_leaf_spots(3).targets.shape
    (3, 32, 32)
    """
    result = leaf_spots(n, seed=seed)
    return Dataset(result.pictures, result.masks, class_values=result.names)


@maker("demo_chalk", "source")
def demo_chalk(n: int = 250, seed: int = 31) -> Dataset:
    """Pictures of `vinestep.demo.chalk`, column by column, and their characters, which are not
    aligned with the columns; filled up with -1.

    Examples
    --------
    >>> demo_chalk(3)
    <Dataset of 3 examples, inputs (124, 32) float32>
    """
    result = chalk(n, seed=seed)
    longest = max(map(len, result.codes))
    labels = np.full((n, longest), -1)
    for row, code in zip(labels, result.codes, strict=True):
        row[: len(code)] = [CHARACTERS.index(character) for character in code]
    columns = np.ascontiguousarray(np.swapaxes(result.pictures[..., 0], 1, 2))
    return Dataset(columns, labels, class_values=tuple(CHARACTERS))


@maker("demo_ferments", "source")
def demo_ferments(
    n: int = 600, hours: int = 72, told: Literal["hours", "warning"] = "hours", seed: int = 23
) -> Dataset:
    """Series of `vinestep.demo.ferments`, in units of 100 g/l and 20 degrees, and days until dry,
    or whether the yeast will falter.

    Examples
    --------
    >>> demo_ferments(3, hours=24)
    <Dataset of 3 examples, inputs (24, 2) float32>
    """
    result = ferments(n, hours=hours, seed=seed)
    series = (result.series / np.array([100.0, 20.0])).astype(np.float32)
    if told == "warning":
        return Dataset(series, result.warning, class_values=WARNING)
    return Dataset(series, (result.hours_until_dry / 24).astype(np.float32)[:, None])


@maker("demo_notes", "source")
def demo_notes(n: int = 3000, seed: int = 29) -> Source:
    """Notes of `vinestep.demo.notes` as bytes, and what is to be done; of unequal lengths: join
    them by ``padded``.

    Examples
    --------
    >>> demo_notes(3)[0][0].dtype.name
    'int64'
    """
    found, tokeniser = notes(n, seed=seed), ByteTokeniser()
    pairs = [
        (tokeniser.encode(text), label)
        for text, label in zip(found.texts, found.labels, strict=True)
    ]
    source = Examples(pairs, name="demo notes")
    source.class_values = found.names
    source.text_form = TextForm(tokeniser)
    return source
