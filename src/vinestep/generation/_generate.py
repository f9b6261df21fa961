"""Texts, or tokens, that a network writes after a prompt."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

import numpy as np

from .._arguments import checked_seed
from ..data.encoding._text_form import joined_sources
from ..data.encoding._tokens import PAD, Tokeniser
from ..errors import SettingError
from ..kernels.machinery.blas_threads import one_blas_thread
from ..layers._base import Layer
from ._beams import search
from ._sampling import Allowed, Choice
from ._session import Session, check_tokens

__all__ = ["Generated", "Piece", "generate", "stream"]

Prompt = str | Sequence[int]


@dataclass(frozen=True)
class Generated:
    """What was written after a prompt.

    Examples
    --------
    >>> network = vs.networks.LanguageModel(260, width=8, depth=1, heads=2)
    >>> network = network.initialise(np.zeros((1, 4), int))
    >>> found = vs.generate(network, "a", tokeniser=vs.data.ByteTokeniser(), most=3)
    >>> type(found).__name__, len(found.tokens) <= 3
    ('Generated', True)
    """

    tokens: list[int]
    """Without the prompt, and without the token that ended it."""
    text: str
    """Empty without a tokeniser."""
    log_probability: float
    """Of all tokens, that of the end included, after penalties and constraints."""
    reason: str
    """"end": the network ended it; "stop": a stop text came; "most": it became as long as was asked
    for; "full": there are no more
    positions."""

    def __str__(self) -> str:
        return self.text or str(self.tokens)


@dataclass(frozen=True)
class _Asked:
    """What was asked for, checked."""

    choice: Choice
    tokeniser: Tokeniser | None
    words: tuple[str, ...]
    end: int | None
    most: int
    cached: bool

    def text(self, tokens: list[int]) -> str:
        return self.tokeniser.decode(tokens) if self.tokeniser is not None else ""

    def stops(self, tokens: list[int]) -> bool:
        """Whether a stop text came."""
        return bool(self.words) and _found(self.text(tokens), self.words) is not None

    def result(self, tokens: list[int], total: float, reason: str) -> Generated:
        return Generated(list(tokens), self.text(tokens), total, reason)


class Piece(NamedTuple):
    """What came at once while a text is written.

    Examples
    --------
    >>> network = vs.networks.LanguageModel(260, width=8, depth=1, heads=2)
    >>> network = network.initialise(np.zeros((1, 4), int))
    >>> pieces = vs.generation.stream(network, "a", tokeniser=vs.data.ByteTokeniser(), most=3)
    >>> {type(piece).__name__ for piece in pieces}
    {'Piece'}
    """

    token: int
    text: str
    log_probability: float


def generate(
    network: Layer | Any,
    prompts: Prompt | Sequence[Prompt] | None = None,
    *,
    given: Any = None,
    tokeniser: Tokeniser | None = None,
    source_tokeniser: Tokeniser | None = None,
    most: int = 100,
    temperature: float = 0.0,
    top_k: int | None = None,
    nucleus: float | None = None,
    repetition: float = 1.0,
    beams: int = 1,
    length_power: float = 0.0,
    stop: str | Sequence[str] = (),
    end: int | None = None,
    allowed: Allowed | None = None,
    seed: int = 0,
    cached: bool = True,
) -> Any:
    """Write on after one prompt, or several; or what is said in pictures or texts that are read
    before.

    Parameters
    ----------
    network : Layer
        Tokens ``(batch, time)`` to logits of the next ones ``(batch, time, tokens)``, such as
        `vinestep.networks.LanguageModel`.
    prompts : str, list of tokens, or list of either
        Several may be of unequal lengths; each gets what it would get alone. With `given` they may
        be left out: all begin with the tokeniser's begin.
    given : picture, str, or several of them, optional
        What a network that reads before it writes, such as `vinestep.networks.EncoderDecoder`,
        reads.
    tokeniser : Tokeniser, optional
        For prompts and results as texts.
    source_tokeniser : Tokeniser, optional
        For texts that are given; the same by default.
    most : int
        Longest continuation, in tokens.
    temperature : float
        0 takes the likeliest token; above, tokens are drawn, from logits divided by it.
    top_k : int, optional
        Only the k likeliest are drawn.
    nucleus : float, optional
        Only the fewest likeliest that have this share together are drawn.
    repetition : float
        Logits of tokens that came before are divided by it if positive, else multiplied: N. S.
        Keskar et al. 2019, arXiv 1909.05858, section 4.1.
    beams : int
        More than 1 for beam search.
    length_power : float
        Of beam search: 0 for plain probability, about 0.6 to 1 to favour longer texts.
    stop : str or sequence of str
        Texts that end it; they are not part of the result.
    end : int, optional
        Token that ends it; by default the tokeniser's end.
    allowed : callable, optional
        Takes all tokens so far and returns those that may follow, or None for all.
    seed : int
        What is drawn is a function of it and the prompt.
    cached : bool
        Whether keys and values of earlier tokens are kept.

    Returns
    -------
    found : Generated, or list of Generated for several prompts

    Raises
    ------
    SettingError
        If a setting is out of its range, a prompt empty or longer than there are positions for, or
        the tokeniser that of another model.
    DataError
        If there is no token for a character.

    Examples
    --------
    >>> model = vs.networks.LanguageModel(20, width=8, depth=1, heads=2).initialise(
    ...     np.array([[1, 2, 3]])
    ... )
    >>> vs.generate(model, [1, 2], most=4).tokens
    [4, 1, 4, 1]
    """
    asked = _asked(
        network,
        tokeniser,
        Choice(temperature, top_k, nucleus, repetition, allowed),
        stop,
        end,
        most,
        cached,
    )
    sources, several = _sources(network, given, source_tokeniser or tokeniser)
    if prompts is None:
        listed = [[_begin_of(tokeniser)]] * (1 if sources is None else len(sources))
    else:
        listed, many = _listed(prompts)
        several = several or many
    if sources is not None and len(sources) != len(listed):
        raise SettingError(
            f"generate: {len(sources)} were given to be read, and {len(listed)} prompts. As many "
            "are wanted."
        )
    encoded = _encoded(network, listed, tokeniser)
    if isinstance(beams, bool) or not isinstance(beams, int) or beams < 1 or not length_power >= 0:
        raise SettingError(
            f"generate: beams must be at least 1 and length_power not negative, got {beams!r} and "
            f"{length_power!r}."
        )
    with (
        one_blas_thread()
    ):  # products of a few rows are many, and its threads would compete with ours between them
        result = _found_for(network, encoded, sources, asked, seed, beams, length_power)
    return result if several else result[0]


def _found_for(
    network: Any,
    encoded: list[list[int]],
    sources: np.ndarray | None,
    asked: _Asked,
    seed: int,
    beams: int,
    length_power: float,
) -> list[Generated]:
    if beams > 1 or length_power:
        if asked.choice.temperature:
            raise SettingError(
                "generate: beam search takes the likeliest sequences; leave temperature at 0."
            )
        each = [None] * len(encoded) if sources is None else np.split(sources, len(encoded))
        sessions = [
            Session(network, [prompt], cached=asked.cached, given=one)
            for prompt, one in zip(encoded, each, strict=True)
        ]
        return [_by_beams(session, asked, beams, length_power) for session in sessions]
    session = Session(network, encoded, cached=asked.cached, given=sources)
    return _together(session, encoded, asked, _generators(encoded, seed, sources))


def stream(
    network: Layer | Any,
    prompt: Prompt,
    *,
    tokeniser: Tokeniser | None = None,
    most: int = 100,
    temperature: float = 0.0,
    top_k: int | None = None,
    nucleus: float | None = None,
    repetition: float = 1.0,
    stop: str | Sequence[str] = (),
    end: int | None = None,
    allowed: Allowed | None = None,
    seed: int = 0,
    cached: bool = True,
) -> Iterator[Piece]:
    """The same as `generate` for one prompt without beams, piece by piece as it is written.

    With a tokeniser a piece has a text when its bytes make whole characters. What may be the begin
    of a stop text is held back until it is known to be none.

    Examples
    --------
    >>> model = vs.networks.LanguageModel(20, width=8, depth=1, heads=2).initialise(
    ...     np.array([[1, 2, 3]])
    ... )
    >>> [piece.token for piece in vs.generation.stream(model, [1, 2], most=3)]
    [4, 1, 4]
    """
    asked = _asked(
        network,
        tokeniser,
        Choice(temperature, top_k, nucleus, repetition, allowed),
        stop,
        end,
        most,
        cached,
    )
    encoded = _encoded(network, [prompt], tokeniser)
    session, rng = Session(network, encoded, cached=cached), _generators(encoded, seed)[0]
    tokens: list[int] = []
    told = 0
    waiting: Piece | None = None  # the text that was held back belongs to the last token
    for number in range(most):
        token, p = asked.choice.drawn(session.logits()[0], encoded[0] + tokens, rng)
        if token == asked.end:
            break
        tokens.append(token)
        text = asked.text(tokens)
        at = _found(text, asked.words)
        sure = len(text) if number + 1 == most else _surely(text, asked.words)
        ready = text[:at] if at is not None else text[:sure]
        if waiting is not None:
            yield waiting
        waiting = Piece(token, ready[told:], p)
        told = max(told, len(ready))
        if at is not None:
            yield waiting
            return
        if session.is_full(len(encoded[0]) + len(tokens)):
            break
        session.add(np.array([token]))
    if waiting is not None:
        yield waiting._replace(text=waiting.text + asked.text(tokens)[told:])


def _begin_of(tokeniser: Tokeniser | None) -> int:
    if tokeniser is None:
        raise SettingError(
            "generate: there is no prompt. Give a text, or tokens that it begins with."
        )
    return tokeniser.begin


def _sources(
    network: Any, given: Any, tokeniser: Tokeniser | None
) -> tuple[np.ndarray | None, bool]:
    """What is read, as the network takes it, and whether it is several."""
    reads = hasattr(network, "read")
    if given is None:
        if reads:
            raise SettingError(
                f"generate: {type(network).__name__} reads before it writes. Say what: given=."
            )
        return None, False
    if not reads:
        raise SettingError(
            f"generate: {type(network).__name__} reads nothing before it writes: leave given= "
            "out, and give prompts."
        )
    one = isinstance(given, str) or (
        isinstance(given, np.ndarray) and given.ndim == len(network.sample_like[0][0])
    )
    listed = [given] if one else list(given)
    if listed and isinstance(listed[0], int | np.integer):
        listed, one = [listed], True
    if not listed:
        raise SettingError("generate: there is nothing to be read.")
    if isinstance(listed[0], str):
        if tokeniser is None:
            raise SettingError(
                "generate: what is given is a text; give the tokeniser of the model, or tokens."
            )
        listed = [tokeniser.encode(text, end=True, unknown="refuse") for text in listed]
    return joined_sources(listed), not one


def _listed(prompts: Any) -> tuple[list[Any], bool]:
    if isinstance(prompts, str):
        return [prompts], False
    listed = list(prompts)
    if listed and all(
        isinstance(one, int | np.integer) and not isinstance(one, bool) for one in listed
    ):
        return [listed], False
    if not listed:
        raise SettingError(
            "generate: there is no prompt. Give a text, or tokens that it begins with."
        )
    return listed, True


def _asked(
    network: Any,
    tokeniser: Any,
    choice: Choice,
    stop: Any,
    end: int | None,
    most: int,
    cached: bool,
) -> _Asked:
    if not isinstance(network, Layer):
        raise SettingError(
            f"generate: the network is a {type(network).__name__}, not a layer. Of a Model give "
            "model.network."
        )
    if isinstance(most, bool) or not isinstance(most, int | np.integer) or most < 1:
        raise SettingError(
            f"generate: most must be a whole number of tokens of at least 1, got {most!r}."
        )
    words = (stop,) if isinstance(stop, str) else tuple(stop)
    if words and tokeniser is None:
        raise SettingError("generate: stop texts need a tokeniser, which says what tokens mean.")
    if not all(words):
        raise SettingError("generate: a stop text is empty, and would end everything at once.")
    tokens = getattr(network, "tokens", None)
    if tokeniser is not None and tokens is not None and len(tokeniser) != tokens:
        raise SettingError(
            f"generate: the tokeniser has {len(tokeniser)} tokens, and the network {tokens}: it "
            "is the tokeniser of another model."
        )
    if tokeniser is not None:
        end = tokeniser.end if end is None else end
        choice = replace(choice, banned=(tokeniser.pad, tokeniser.begin))
    return _Asked(choice, tokeniser, words, end, int(most), cached)


def _encoded(network: Any, prompts: list[Any], tokeniser: Tokeniser | None) -> list[list[int]]:
    result = []
    for prompt in prompts:
        if isinstance(prompt, str):
            if tokeniser is None:
                raise SettingError(
                    "generate: a prompt is a text; give the tokeniser of the model, or tokens."
                )
            result.append(tokeniser.encode(prompt, begin=True, unknown="refuse").tolist())
        else:
            result.append([int(token) for token in prompt])
    check_tokens(result, getattr(network, "tokens", None))
    room = getattr(network, "most_tokens", None)
    long = next(
        (i for i, tokens in enumerate(result) if room is not None and len(tokens) > room), None
    )
    if long is not None:
        raise SettingError(
            f"generate: prompt {long} has {len(result[long])} tokens, and the network has "
            f"positions for {room}. Shorten it."
        )
    return result


def _generators(
    prompts: list[list[int]], seed: int, sources: np.ndarray | None = None
) -> list[np.random.Generator]:
    """By seed, prompt and what was read, so that each gets the same alone and among others; equal
    ones get each their own.
    """
    seen: Counter[tuple[int, ...]] = Counter()
    made = []
    for i, prompt in enumerate(prompts):
        key = (*prompt, *(() if sources is None else _key_of(sources[i])))
        made.append(np.random.default_rng([checked_seed(seed, "generate"), seen[key], *key]))
        seen[key] += 1
    return made


def _key_of(source: np.ndarray) -> list[int]:
    """Numbers for the content of what is read, whatever it was padded to."""
    content = source[source != PAD] if source.dtype.kind in "iu" else source
    digest = hashlib.sha256(np.ascontiguousarray(content).tobytes()).digest()
    return [int(number) for number in np.frombuffer(digest, np.uint32)]


def _together(
    session: Session, prompts: list[list[int]], asked: _Asked, rngs: list[np.random.Generator]
) -> list[Generated]:
    result: list[Generated | None] = [None] * len(prompts)
    tokens: list[list[int]] = [[] for _ in prompts]
    totals, alive = [0.0] * len(prompts), list(range(len(prompts)))
    for number in range(asked.most):
        logits = session.logits()
        left, following = [], []
        for row, i in enumerate(alive):
            token, p = asked.choice.drawn(logits[row], prompts[i] + tokens[i], rngs[i])
            totals[i] += p
            if token == asked.end:
                result[i] = asked.result(tokens[i], totals[i], "end")
                continue
            tokens[i].append(token)
            at = _found(asked.text(tokens[i]), asked.words) if asked.words else None
            if at is not None:
                result[i] = Generated(tokens[i], asked.text(tokens[i])[:at], totals[i], "stop")
            elif number + 1 == asked.most:
                result[i] = asked.result(tokens[i], totals[i], "most")
            elif session.is_full(len(prompts[i]) + len(tokens[i])):
                result[i] = asked.result(tokens[i], totals[i], "full")
            else:
                left.append(row)
                following.append(token)
        if not left:
            break
        alive = [alive[row] for row in left]
        session.keep(np.array(left))
        session.add(np.array(following))
    return [one for one in result if one is not None]


def _by_beams(session: Session, asked: _Asked, beams: int, length_power: float) -> Generated:
    most = min(asked.most, session.room + 1)
    best = search(
        session,
        asked.choice,
        beams=beams,
        most=most,
        end=asked.end,
        length_power=length_power,
        stops=asked.stops,
    )[0]
    tokens = best.tokens[:-1] if best.ended and not best.stopped else best.tokens
    made = asked.result(
        tokens,
        best.log_probability,
        "end" if best.ended else "most" if most == asked.most else "full",
    )
    at = _found(made.text, asked.words)
    return made if at is None else Generated(tokens, made.text[:at], best.log_probability, "stop")


def _found(text: str, words: tuple[str, ...]) -> int | None:
    """Where the first stop text begins."""
    places = [place for word in words if (place := text.find(word)) >= 0]
    return min(places) if places else None


def _surely(text: str, words: tuple[str, ...]) -> int:
    """How much of a text is no begin of a stop text, nor of a character whose bytes are not all
    there.
    """
    sure = len(text.rstrip("\ufffd"))
    for word in words:
        for n in range(min(len(word), len(text)), 0, -1):
            if text.endswith(word[:n]):
                sure = min(sure, len(text) - n)
                break
    return sure
