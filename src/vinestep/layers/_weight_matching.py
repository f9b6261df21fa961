"""Weights of another network taken over by pattern, with a report of what matched, what did not and
why.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from fnmatch import fnmatchcase
from typing import TYPE_CHECKING, Any

import numpy as np

from .._public_names import did_you_mean
from ..errors import LayerError

if TYPE_CHECKING:
    import pandas as pd

    from ._base import Layer

__all__ = ["Loaded", "load_matching"]

Names = Mapping[str, str] | Callable[[str], str | None]


@dataclass(frozen=True)
class Loaded:
    """What became of each array.

    Examples
    --------
    >>> print(
    ...     Loaded(
    ...         [
    ...             {
    ...                 "path": "0/weight",
    ...                 "source": "body/weight",
    ...                 "outcome": "loaded",
    ...                 "reason": "",
    ...             }
    ...         ]
    ...     )
    ... )
    1 loaded, 0 left as they were, 0 not used
    """

    rows: list[dict[str, str]]
    """``path`` in the network, name in the ``source``, ``outcome`` (loaded, left, unused) and
    ``reason``.
    """

    def _paths(self, outcome: str, key: str) -> list[str]:
        return [row[key] for row in self.rows if row["outcome"] == outcome]

    @property
    def loaded(self) -> list[str]:
        """Paths that were overwritten."""
        return self._paths("loaded", "path")

    @property
    def left(self) -> list[str]:
        """Paths of the network that stay as they were."""
        return self._paths("left", "path")

    @property
    def unused(self) -> list[str]:
        """Arrays of the source that have no place."""
        return self._paths("unused", "source")

    def table(self) -> pd.DataFrame:
        """A row for each array of the network, and for each of the source that has no place in
        it.
        """
        import pandas as pd

        return pd.DataFrame(self.rows, columns=["path", "source", "outcome", "reason"])

    def __str__(self) -> str:
        counts = (
            f"{len(self.loaded)} loaded, {len(self.left)} left as they were, "
            f"{len(self.unused)} not used"
        )
        odd = [
            f"  {row['path'] or row['source']}: {row['reason']}"
            for row in self.rows
            if row["outcome"] != "loaded"
        ]
        return "\n".join([counts, *odd])


def load_matching(
    network: Layer, source: Any, *, pattern: str = "*", names: Names | None = None
) -> Loaded:
    """Overwrite parameters and running statistics by those of another network that have the same
    path and shape.

    Numbers are cast to the network's precision. Nothing is changed if anything is refused.

    Parameters
    ----------
    network : Layer
        Initialised.
    source : Layer, Archive, or mapping of name to array
    pattern : str
        Which paths of the network may be overwritten, such as ``"body/*"``.
    names : mapping or callable, optional
        From names of the source to paths of the network: ``{"encoder.*": "body/*"}``, where the
        star stands for the same text in both; or a function that returns a path, or None for what
        is not wanted.

    Returns
    -------
    report : Loaded

    Raises
    ------
    LayerError
        If nothing matches at all, or two arrays of the source have one path.
    NotFiniteError, DTypeError
        If an array holds other things than finite numbers.

    Examples
    --------
    >>> old = vs.Stack(vs.Dense(4), vs.Dense(2)).initialise(np.ones((1, 3)), seed=1)
    >>> new = vs.Stack(vs.Dense(4), vs.Dense(5)).initialise(np.ones((1, 3)), seed=2)
    >>> print(vs.layers.load_matching(new, old))
    2 loaded, 2 left as they were, 0 not used
      1/weight: the source has shape (4, 2), the network (4, 5)
      1/bias: the source has shape (2,), the network (5,)
    """
    ours = {**network._ready_arena().arrays(), **network.statistics()}
    given = _arrays_of(source)
    renamed: dict[str, str] = {}
    for name in given:
        path = _renamed(name, names)
        if path is None:
            continue
        if path in renamed:
            raise LayerError(
                f"load_matching: {renamed[path]!r} and {name!r} of the source both become {path!r}."
            )
        renamed[path] = name
    rows, chosen = [], {}
    for path, array in ours.items():
        name = renamed.get(path, "")
        row = {"path": path, "source": name, "outcome": "left", "reason": ""}
        if not fnmatchcase(path, pattern):
            row["reason"] = f"the pattern {pattern!r} leaves it out"
        elif not name:
            row["reason"] = "the source has no array of this path"
        elif np.shape(given[name]) != array.shape:
            row["reason"] = (
                f"the source has shape {np.shape(given[name])}, the network {array.shape}"
            )
        else:
            row["outcome"] = "loaded"
            chosen[path] = np.asarray(given[name])
        rows.append(row)
    for path, name in renamed.items():
        if path not in ours:
            rows.append(
                {
                    "path": "",
                    "source": name,
                    "outcome": "unused",
                    "reason": f"the network has no {path!r}",
                }
            )
    if not chosen:
        near = next(iter(given), "")
        raise LayerError(
            f"load_matching: nothing matches. The source has {near!r} and others. "
            f"{did_you_mean(near, ours)}"
        )
    network.load(chosen, partial=True)
    return Loaded(rows)


def _arrays_of(source: Any) -> dict[str, np.ndarray]:
    from ._base import Layer

    if isinstance(source, Layer):
        return {**source._ready_arena().arrays(), **source.statistics()}
    if hasattr(source, "group"):
        return {**source.group("weights"), **source.group("statistics")}
    return dict(source)


def _renamed(name: str, names: Names | None) -> str | None:
    if names is None:
        return name
    if callable(names):
        return names(name)
    for pattern, path in names.items():
        head, star, tail = pattern.partition("*")
        if not star and name == pattern:
            return path
        if (
            star
            and name.startswith(head)
            and name.endswith(tail)
            and len(name) >= len(head) + len(tail)
        ):
            return path.replace("*", name[len(head) : len(name) - len(tail)])
    return name
