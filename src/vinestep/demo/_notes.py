"""Made-up cellar notes, built by a grammar of which the entropy is known."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from .._arguments import checked_seed

__all__ = ["DECISIONS", "Notes", "notes"]

DECISIONS = ("lay down", "drink now", "blend", "pour away")
GRAPES = {"Fosca": "she", "Grisette": "it", "Lindell": "he", "Marquin": "they"}
"""And the pronoun that stands for each at the end of a note."""
CASKS = (3, 7, 12, 14, 21, 27, 31, 40)
QUALITIES = {
    "body": (("thin", "light", "meagre"), ("full", "dense", "round")),
    "acid": (("flat", "dull", "soft"), ("bright", "firm", "taut")),
    "fruit": (("closed", "mute", "faint"), ("ripe", "open", "generous")),
}
FAULTS = ("cork", "vinegar", "mould", "sulphur")
MANNERS = ("plain", "not", "not at all", "hardly")
TROUBLE = 0.3  # how often a fault is spoken of


class Notes(NamedTuple):
    """Notes and what is to be done with the wine.

    Examples
    --------
    >>> found = notes(2000)
    >>> bool(abs(found.nats.mean() - found.entropy) < 0.1)
    True
    """

    texts: list[str]
    labels: np.ndarray
    """Shape (n,), whole numbers."""
    names: tuple[str, ...]
    """What the labels mean."""
    nats: np.ndarray
    """Of each note the negative natural logarithm of its probability: no language model can do
    better on average.
    """
    entropy: float
    """The mean of that over all notes that the grammar can make."""


def notes(n: int = 3000, *, seed: int = 29) -> Notes:
    """Short notes on wines, with negations and contrasts, and what is to be done: lay down, drink
    now, blend, pour away. All made up.

    A note names grape and cask, speaks of body, acid and fruit in some order, sometimes of a fault
    or that there is none, and ends with a pronoun that belongs to the grape named at its begin. A
    quality is said outright or by denying its opposite ("not at all thin"), and the last one is set
    against the others by "though" where it differs from the one before it. A wine with a fault is
    poured away; with body and acid it is laid down; with fruit but not both of these it is drunk
    now; the rest is blended. Which words occur says little: what counts is whether they are denied.

    Parameters
    ----------
    n : int
    seed : int

    Notes
    -----
    Every choice of the grammar is independent and drawn with a known probability, and no two ways
    lead to the same note. So the probability of a note is the product of its choices', and the
    entropy of the grammar their sum: ``Notes.entropy`` nats a note.

    Examples
    --------
    >>> found = notes(3)
    >>> found.texts[0], found.names[found.labels[0]]
    ('Marquin 3: not dense and taut, and open. They say they can travel.', 'drink now')
    """
    rng = np.random.default_rng(checked_seed(seed, "notes"))
    texts, labels, nats = [], np.empty(n, np.int64), np.empty(n)
    for i in range(n):
        text, labels[i], nats[i] = _note(rng)
        texts.append(text)
    return Notes(texts, labels, DECISIONS, nats, _entropy())


def _entropy() -> float:
    """Grape, cask, order, three times (good or bad, manner, word), fault (spoken of, which, there
    or not), ending.
    """
    spoken = -TROUBLE * math.log(TROUBLE) - (1 - TROUBLE) * math.log(1 - TROUBLE)
    qualities = 3 * (math.log(2) + math.log(len(MANNERS)) + math.log(3))
    return (
        math.log(len(GRAPES))
        + math.log(len(CASKS))
        + math.log(6)
        + qualities
        + spoken
        + TROUBLE * math.log(2 * len(FAULTS))
        + math.log(2)
    )


def _note(rng: np.random.Generator) -> tuple[str, int, float]:
    grape, cask = list(GRAPES)[rng.integers(len(GRAPES))], CASKS[rng.integers(len(CASKS))]
    order = rng.permutation(list(QUALITIES))
    good = {quality: bool(rng.integers(2)) for quality in order}
    said = [_said(rng, QUALITIES[quality], good[quality]) for quality in order]
    contrast = good[order[2]] != good[order[1]]
    text = (
        f"{grape} {cask}: {said[0]} and {said[1]}{', though' if contrast else ', and'} {said[2]}."
    )
    nats = (
        math.log(len(GRAPES))
        + math.log(len(CASKS))
        + math.log(6)
        + 3 * (math.log(2) + math.log(len(MANNERS)) + math.log(3))
    )
    fault = False
    if rng.random() < TROUBLE:
        fault, which = bool(rng.integers(2)), FAULTS[rng.integers(len(FAULTS))]
        text += f" {'A touch' if fault else 'No trace'} of {which}."
        nats += -math.log(TROUBLE) + math.log(2 * len(FAULTS))
    else:
        nats += -math.log(1 - TROUBLE)
    text += f" They say {GRAPES[grape]} can {'wait' if rng.integers(2) else 'travel'}."
    return text, _decision(good, fault), nats + math.log(2)


def _said(
    rng: np.random.Generator, words: tuple[tuple[str, ...], tuple[str, ...]], good: bool
) -> str:
    manner = MANNERS[rng.integers(len(MANNERS))]
    word = words[good if manner == "plain" else not good][rng.integers(3)]
    return word if manner == "plain" else f"{manner} {word}"


def _decision(good: dict[str, bool], fault: bool) -> int:
    if fault:
        return 3
    if good["body"] and good["acid"]:
        return 0
    return 1 if good["fruit"] else 2
