"""Made-up entries of a cellar master, and the sentences that they stand for."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from .._arguments import checked_seed

__all__ = ["Shorthand", "compressed", "shorthand"]

TANKS = range(1, 41)
ADDITIONS = {"s": "sulphur", "bt": "bentonite", "yn": "yeast nutrient", "ta": "tartaric acid"}
SHORT = {long: short for short, long in ADDITIONS.items()}
MONTHS = (
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
)


class Shorthand(NamedTuple):
    """Entries and sentences.

    Examples
    --------
    >>> found = shorthand(50)
    >>> all(
    ...     compressed(sentence) == entry
    ...     for entry, sentence in zip(found.entries, found.sentences)
    ... )
    True
    """

    entries: list[str]
    sentences: list[str]


def shorthand(n: int = 2000, *, seed: int = 37) -> Shorthand:
    """Terse entries such as ``rk 12 > 14, +20 s, tp``, and for each a plain sentence that it stands
    for. All made up.

    An entry is one to four things that were done. Each can be said in several ways, so that many
    sentences are right; `compressed` turns any of them back into its entry, by which an expansion
    is scored.

    Parameters
    ----------
    n : int
    seed : int

    Examples
    --------
    >>> found = shorthand(1)
    >>> compressed(found.sentences[0]) == found.entries[0]
    True
    """
    rng = np.random.default_rng(checked_seed(seed, "shorthand"))
    entries, sentences = [], []
    for _ in range(n):
        parts = [KINDS[k](rng) for k in rng.permutation(len(KINDS))[: rng.integers(1, 5)]]
        entries.append(", ".join(short for short, _ in parts))
        said = [long for _, long in parts]
        joined = said[0] if len(said) == 1 else f"{', '.join(said[:-1])} and {said[-1]}"
        sentences.append(joined[0].upper() + joined[1:] + ".")
    return Shorthand(entries, sentences)


def _one_of(rng: np.random.Generator, *ways: str) -> str:
    return ways[rng.integers(len(ways))]


def _racked(rng: np.random.Generator) -> tuple[str, str]:
    a, b = rng.choice(list(TANKS), 2, replace=False)
    return f"rk {a} > {b}", _one_of(
        rng,
        f"racked tank {a} to tank {b}",
        f"moved the wine of tank {a} into tank {b}",
        f"emptied tank {a} into tank {b}",
    )


def _added(rng: np.random.Generator) -> tuple[str, str]:
    grams, short = 5 * int(rng.integers(1, 13)), list(ADDITIONS)[rng.integers(len(ADDITIONS))]
    long = ADDITIONS[short]
    return f"+{grams} {short}", _one_of(
        rng,
        f"added {grams} grams of {long}",
        f"gave it {grams} grams of {long}",
        f"put in {grams} grams of {long}",
    )


def _topped_up(rng: np.random.Generator) -> tuple[str, str]:
    return "tp", _one_of(rng, "topped up", "topped it up", "filled it to the brim")


def _tasted(rng: np.random.Generator) -> tuple[str, str]:
    marks = int(rng.integers(1, 6))
    return f"ts {marks}/5", _one_of(
        rng,
        f"tasted it, {marks} of 5",
        f"gave it {marks} of 5 on tasting",
        f"judged it {marks} of 5",
    )


def _measured(rng: np.random.Generator) -> tuple[str, str]:
    degrees = int(rng.integers(8, 31))
    return f"t {degrees}", _one_of(
        rng,
        f"measured {degrees} degrees",
        f"found it at {degrees} degrees",
        f"read {degrees} degrees",
    )


def _again(rng: np.random.Generator) -> tuple[str, str]:
    day, month = int(rng.integers(1, 29)), int(rng.integers(12))
    return f"! {day}.{month + 1}", _one_of(
        rng, f"look again on {day} {MONTHS[month]}", f"due again on {day} {MONTHS[month]}"
    )


KINDS = (_racked, _added, _topped_up, _tasted, _measured, _again)
RULES: tuple[tuple[str, Callable[[re.Match[str]], str]], ...] = (
    (r"tank (\d+) (?:to|into) tank (\d+)", lambda m: f"rk {m[1]} > {m[2]}"),
    (r"(\d+) grams of ([a-z ]+?)(?=,| and |\.|$)", lambda m: f"+{m[1]} {SHORT.get(m[2], m[2])}"),
    (r"[Tt]opped|brim", lambda m: "tp"),
    (r"(\d) of 5", lambda m: f"ts {m[1]}/5"),
    (r"(\d+) degrees", lambda m: f"t {m[1]}"),
    (
        r"again on (\d+) ([A-Z][a-z]+)",
        lambda m: f"! {m[1]}.{MONTHS.index(m[2]) + 1 if m[2] in MONTHS else m[2]}",
    ),
)


def compressed(sentence: str) -> str:
    """The entry that a sentence stands for: what is said, in its order.

    Examples
    --------
    >>> compressed("Racked tank 12 to tank 14, added 20 grams of sulphur and topped up.")
    'rk 12 > 14, +20 s, tp'
    """
    result = [
        (match.start(), say(match))
        for pattern, say in RULES
        for match in re.finditer(pattern, sentence)
    ]
    return ", ".join(text for _, text in sorted(result))
