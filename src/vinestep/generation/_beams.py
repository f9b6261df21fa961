"""Beam search."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from ._sampling import Choice, log_softmax
from ._session import Session

__all__ = ["Beam", "search"]


class Beam(NamedTuple):
    """A sequence that was found."""

    tokens: list[int]
    log_probability: float
    ended: bool
    stopped: bool = False
    """Whether a stop text came, rather than the token that ends."""

    def score(self, length_power: float) -> float:
        """Logarithm of its probability, divided by a power of its length: Y. Wu et al. 2016, arXiv
        1609.08144, equation 14.
        """
        return float(self.log_probability / ((5 + len(self.tokens)) / 6) ** length_power)


def search(
    session: Session,
    choice: Choice,
    *,
    beams: int,
    most: int,
    end: int | None,
    length_power: float,
    stops: Callable[[list[int]], bool] = lambda tokens: False,
) -> list[Beam]:
    """The best sequences after one prompt, best first.

    Parameters
    ----------
    session : Session
        Of one prompt.
    choice : Choice
        Its penalties and constraints; nothing is drawn.
    beams : int
        How many sequences are followed.
    most : int
        Longest in tokens.
    end : int, optional
        The token that ends a sequence.
    length_power : float
        0 for plain probability; above, longer sequences are favoured.
    stops : callable
        Whether a sequence is at its end for what its tokens say.
    """
    prompt = session.ids[0].tolist()
    alive, done = [Beam([], 0.0, False)], list[Beam]()
    for step in range(most):
        logits = session.logits()
        candidates: list[tuple[float, int, int]] = []
        for row, beam in enumerate(alive):
            p = log_softmax(choice.admitted(logits[row], prompt + beam.tokens))
            best = np.argsort(-p, kind="stable")[: 2 * beams]
            candidates += [
                (beam.log_probability + float(p[token]), row, int(token))
                for token in best
                if np.isfinite(p[token])
            ]
        candidates.sort(key=lambda item: -item[0])
        rows: list[int] = []
        following: list[Beam] = []
        for total, row, token in candidates:
            tokens = [*alive[row].tokens, token]
            stopped = token != end and stops(tokens)
            grown = Beam(tokens, total, token == end or stopped, stopped)
            if grown.ended:
                done.append(grown)
            elif len(following) < beams:
                rows.append(row)
                following.append(grown)
            if len(following) == beams:
                break
        alive = following
        if not alive or _is_settled(done, alive, beams, most, length_power):
            break
        if step + 1 < most:
            session.keep(np.array(rows))
            session.add(np.array([beam.tokens[-1] for beam in alive]))
    return sorted([*done, *alive], key=lambda beam: -beam.score(length_power))[:beams]


def _is_settled(
    done: list[Beam], alive: list[Beam], beams: int, most: int, length_power: float
) -> bool:
    """Whether no sequence under way can become better than those that ended."""
    if len(done) < beams:
        return False
    worst = sorted((beam.score(length_power) for beam in done), reverse=True)[beams - 1]
    longest = ((5 + most) / 6) ** length_power
    return all(beam.log_probability / longest <= worst for beam in alive)
