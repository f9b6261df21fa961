"""Dividing examples into parts: by shares or counts, by class, by group, by time, in folds."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import Any

import numpy as np

from ..._arguments import checked_seed
from ...errors import DataError

__all__ = ["fold_indices", "split_indices"]

MOST_PAIRS = 4_000_000


def split_indices(
    n: int,
    shares: Sequence[float],
    seed: int,
    *,
    labels: np.ndarray | None = None,
    groups: Any = None,
    by: Any = None,
) -> list[np.ndarray]:
    """The examples of each part, in rising order.

    Parameters
    ----------
    n : int
    shares : sequence of float or of int
        Fractions of the whole, or numbers of examples.
    seed : int
    labels : array of int, shape (n,), optional
        Every part gets the same mix of these; with groups, as nearly as whole groups allow.
    groups : array_like, shape (n,), optional
        Examples of one group stay together.
    by : array_like, shape (n,), optional
        Times, or anything with an order: the first part gets the earliest.

    Raises
    ------
    DataError
        If shares are impossible, a part would be empty, or would miss a class.
    """
    seed = checked_seed(seed, "split")
    fractions = _fractions(n, shares)
    if by is not None and (labels is not None or groups is not None):
        raise DataError(
            "split: by= decides alone what goes where. Leave out stratified= and groups=."
        )
    if by is not None:
        parts = _in_time(_one_each(by, n, "by"), fractions, n)
    elif groups is not None and labels is not None:
        parts = _by_group_and_class(_one_each(groups, n, "groups"), labels, fractions, seed)
    elif groups is not None:
        parts = _by_group(_one_each(groups, n, "groups"), fractions, seed)
    else:
        parts = _at_random(n, fractions, seed, labels)
    for share, index in zip(shares, parts, strict=True):
        if not index.size:
            raise DataError(
                f"split: a share of {share} of {n} examples is an empty part. Give it more, or "
                "leave it out."
            )
    return [np.sort(index) for index in parts]


def fold_indices(
    n: int,
    k: int,
    seed: int,
    *,
    labels: np.ndarray | None = None,
    groups: Any = None,
    by: Any = None,
) -> list[tuple[np.ndarray, np.ndarray]]:
    """For each of k folds the examples to train on and those to validate on."""
    if isinstance(k, bool) or not isinstance(k, int | np.integer) or not 2 <= k <= n:
        raise DataError(
            f"folds: k must be a whole number from 2 to {n}, the number of examples; got {k!r}."
        )
    if by is not None:
        spans = split_indices(n, [1 / (k + 1)] * (k + 1), seed, labels=labels, groups=groups, by=by)
        return [(np.sort(np.concatenate(spans[:i])), spans[i]) for i in range(1, k + 1)]
    parts = split_indices(n, [1 / k] * k, seed, labels=labels, groups=groups)
    return [(np.sort(np.concatenate([*parts[:i], *parts[i + 1 :]])), parts[i]) for i in range(k)]


def _fractions(n: int, shares: Sequence[float]) -> list[float]:
    counts = bool(shares) and all(
        isinstance(share, int | np.integer) and not isinstance(share, bool) for share in shares
    )
    if counts and (len(shares) > 1 or shares[0] > 1):
        if min(shares) < 1 or sum(shares) > n:
            raise DataError(
                f"split: {', '.join(map(str, shares))} examples were asked for, of {n}. Each part "
                "needs one, and no more than there are."
            )
        return [share / n for share in shares]
    if not shares or any(not 0 < share <= 1 for share in shares) or sum(shares) > 1 + 1e-9:
        raise DataError(
            "split: shares have to be positive and add up to at most 1, got "
            f"{', '.join(map(str, shares)) or 'none'}. "
            "For instance split(0.7, 0.15, 0.15)."
        )
    return [float(share) for share in shares]


def _one_each(values: Any, n: int, name: str) -> np.ndarray:
    array = np.asarray(values)
    if array.shape != (n,):
        raise DataError(
            f"split: {name} has shape {array.shape}, and has to have one value for each of {n} "
            "examples."
        )
    missing = np.flatnonzero(_is_missing(array))
    if missing.size:
        more = f" and {missing.size - 1} more" if missing.size > 1 else ""
        raise DataError(
            f"split: row {missing[0]}{more} has no value in {name}=, so nobody knows where it "
            f"belongs. Leave such rows out, or give them {name} of their own."
        )
    try:
        np.sort(array)
    except TypeError as error:
        raise DataError(
            f"split: {name} mixes values that can not be compared, of types "
            f"{', '.join(sorted({type(x).__name__ for x in array.tolist()}))}. Make them all texts "
            "or all numbers."
        ) from error
    return array


def _is_missing(array: np.ndarray) -> np.ndarray:
    if array.dtype.kind in "iubSU":
        return np.zeros(array.shape, bool)
    import pandas as pd

    return np.asarray(pd.isna(array))


def _at_random(
    n: int, shares: Sequence[float], seed: int, labels: np.ndarray | None
) -> list[np.ndarray]:
    rng = np.random.default_rng([seed, 0x5EED])
    groups = (
        [np.flatnonzero(labels == label) for label in np.unique(labels)]
        if labels is not None
        else [np.arange(n)]
    )
    parts: list[list[np.ndarray]] = [[] for _ in shares]
    for group, sizes in zip(
        groups, _apportioned([len(group) for group in groups], shares), strict=True
    ):
        shuffled = rng.permutation(group)
        bounds = np.cumsum([0, *sizes])
        for part, start, stop in zip(parts, bounds, bounds[1:], strict=False):
            part.append(shuffled[start:stop])
    for share, part in zip(shares, parts, strict=True):
        if labels is not None and any(not piece.size for piece in part):
            raise DataError(
                f"split: the part with a share of {share} would miss a class: the rarest has "
                f"{min(len(g) for g in groups)} examples. Give it a larger share, or split "
                "without stratified=True."
            )
    return [np.concatenate(part) for part in parts]


def _by_group(groups: np.ndarray, shares: Sequence[float], seed: int) -> list[np.ndarray]:
    """Whole groups, drawn at random, and then moved and exchanged as long as that brings the parts
    nearer to the sizes that were asked for.
    """
    names, numbers, sizes = np.unique(groups, return_inverse=True, return_counts=True)
    if len(names) < len(shares):
        raise DataError(
            f"split: there are {len(names)} groups for {len(shares)} parts. Each part needs one "
            "at least."
        )
    wanted = np.array([*shares, max(1 - sum(shares), 0.0)]) * len(groups)
    part_of = _drawn_parts(sizes, wanted, len(shares), np.random.default_rng([seed, 0x6A0]))
    lacking = wanted - np.bincount(part_of, sizes, len(wanted))
    while _moved(part_of, sizes, lacking, len(shares)) or _exchanged(part_of, sizes, lacking):
        pass
    return [np.flatnonzero(part_of[numbers] == k) for k in range(len(shares))]


def _by_group_and_class(
    groups: np.ndarray, labels: np.ndarray, shares: Sequence[float], seed: int
) -> list[np.ndarray]:
    """Whole groups, those with the most uneven classes first, each to the part that then has what
    it should of every class most nearly.
    """
    names, numbers = np.unique(groups, return_inverse=True)
    if len(names) < len(shares):
        raise DataError(
            f"split: there are {len(names)} groups for {len(shares)} parts. Each part needs one "
            "at least."
        )
    classes, codes = np.unique(labels, return_inverse=True)
    counts = np.zeros((len(names), len(classes)))
    np.add.at(counts, (numbers, codes), 1)
    wanted = np.outer([*shares, max(1 - sum(shares), 0.0)], counts.sum(axis=0))
    scale = np.maximum(counts.sum(axis=0), 1)
    order = np.random.default_rng([seed, 0x6A1]).permutation(len(names))
    order = order[np.argsort(-counts[order].std(axis=1), kind="stable")]
    part_of, held = np.empty(len(names), int), np.zeros_like(wanted)
    for position, group in enumerate(order):
        gain = np.sum(((held + counts[group] - wanted) ** 2 - (held - wanted) ** 2) / scale, axis=1)
        empty = [k for k in range(len(shares)) if not held[k].any()]
        if len(order) - position <= len(empty):
            part = empty[0]
        else:
            part = int(np.argmin(gain if wanted[-1].any() else gain[: len(shares)]))
        part_of[group] = part
        held[part] += counts[group]
    return [np.flatnonzero(part_of[numbers] == k) for k in range(len(shares))]


def _drawn_parts(
    sizes: np.ndarray, wanted: np.ndarray, n_parts: int, rng: np.random.Generator
) -> np.ndarray:
    """A part for each group, by what each part lacks; the first of all go to a part each."""
    part_of, lacking = np.empty(len(sizes), int), wanted.copy()
    for position, group in enumerate(rng.permutation(len(sizes))):
        chances = np.maximum(lacking, 0)
        if position < n_parts:
            part = position
        elif chances.sum() > 0:
            part = int(rng.choice(len(wanted), p=chances / chances.sum()))
        else:
            part = int(np.argmax(lacking))
        part_of[group] = part
        lacking[part] -= sizes[group]
    return part_of


def _moved(part_of: np.ndarray, sizes: np.ndarray, lacking: np.ndarray, n_parts: int) -> bool:
    """Move the group that does most good to another part, if any does; no part is emptied."""
    counts = np.bincount(part_of, minlength=len(lacking))
    movable = (counts[part_of] > 1) | (part_of >= n_parts)
    gain = sizes[:, None] * (lacking[part_of][:, None] - lacking + sizes[:, None])
    gain[~movable] = np.inf
    group, part = np.unravel_index(int(np.argmin(gain)), gain.shape)
    if gain[group, part] >= -1e-9:
        return False
    lacking[part_of[group]] += sizes[group]
    lacking[part] -= sizes[group]
    part_of[group] = part
    return True


def _exchanged(part_of: np.ndarray, sizes: np.ndarray, lacking: np.ndarray) -> bool:
    """Exchange two groups of different parts, if that does good."""
    if len(sizes) ** 2 > MOST_PAIRS:
        return False
    more = sizes[:, None] - sizes
    apart = lacking[part_of][:, None] - lacking[part_of]
    gain = np.where(part_of[:, None] == part_of, 0.0, more * (apart + more))
    a, b = np.unravel_index(int(np.argmin(gain)), gain.shape)
    if gain[a, b] >= -1e-9:
        return False
    lacking[part_of[a]] += more[a, b]
    lacking[part_of[b]] -= more[a, b]
    part_of[a], part_of[b] = part_of[b], part_of[a]
    return True


def _in_time(times: np.ndarray, shares: Sequence[float], n: int) -> list[np.ndarray]:
    """Consecutive parts; examples of one time stay together, in the earlier part."""
    order = np.argsort(times, kind="stable")
    ordered = times[order]
    bounds = [0]
    for stop in np.round(np.cumsum(shares) * n).astype(int):
        bounds.append(
            n
            if stop >= n
            else max(
                bounds[-1],
                int(np.searchsorted(ordered, ordered[stop - 1], side="right")) if stop else 0,
            )
        )
    return [order[a:b] for a, b in pairwise(bounds)]


def _apportioned(sizes: Sequence[int], shares: Sequence[float]) -> np.ndarray:
    """How many of each group each part gets, shape (groups, parts): within one of its due, and each
    part its due of the whole.

    Dues are rounded group by group, what rounding took from a part in earlier groups being made up
    for in later ones.
    """
    bounds = np.round(np.cumsum([0.0, *shares, max(1.0 - sum(shares), 0.0)]) * sum(sizes), 6)
    whole = np.diff(np.round(bounds).astype(int))
    dues = np.outer(sizes, whole / max(sum(sizes), 1))
    given = np.floor(dues + 1e-9).astype(int)
    owed = np.zeros(len(whole))
    for due, own, size in zip(dues, given, sizes, strict=True):
        owed += due - own
        for _ in range(size - int(own.sum())):
            part = int(np.argmax(np.where(due - own > 1e-9, owed, owed - 2)))
            own[part] += 1
            owed[part] -= 1
    return given[:, : len(shares)]
