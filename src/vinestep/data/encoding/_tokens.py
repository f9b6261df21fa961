"""Tokenisers: text to whole numbers and back, exactly."""

from __future__ import annotations

import hashlib
import heapq
import json
import os
import re
from array import array
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import pairwise
from pathlib import Path
from typing import Any, ClassVar, Literal, Self

import numpy as np

from ..._atomic_files import atomic_write
from ..._public_names import did_you_mean
from ...errors import DataError
from ...parts._registry import maker, part
from ..batches._batch import Batch
from ..batches._joins import Example

__all__ = [
    "BytePairTokeniser",
    "ByteTokeniser",
    "CharacterTokeniser",
    "TokenBatch",
    "Tokeniser",
    "WordTokeniser",
    "open_tokeniser",
]

SPECIAL = ("<pad>", "<begin>", "<end>", "<unknown>")
PAD, BEGIN, END, UNKNOWN = range(4)
BYTES = 256
SEAL = "sha256"
SLICE = 1 << 20  # characters that are taken apart at once
LONG = 64  # bytes of a piece from which on merges are found by a heap
GONE = -2  # where a token was merged into the one before it
PIECES = re.compile(r" ?[^\W\d_]+| ?\d+| ?(?:[^\s\w]|_)+|\s+(?!\S)|\s", re.UNICODE)
"""What pairs of bytes are merged within: a word, a number, signs, each with a space before it; and
white space.
"""


class Tokeniser:
    """Text to numbers and back.

    The first numbers are special tokens: padding, begin, end, unknown, and those of one's own.

    Parameters
    ----------
    special : sequence of str
        Further special tokens; they are found in no text, only put there by number.

    Examples
    --------
    >>> tokeniser = vs.data.CharacterTokeniser.learned(["rack"])
    >>> tokeniser.encode("car", end=True, length=6).tolist()
    [5, 4, 7, 2, 0, 0]
    """

    kind: ClassVar[str]

    def __init__(self, special: Sequence[str] = ()) -> None:
        self.special = (*SPECIAL, *special)
        if len(set(self.special)) < len(self.special):
            raise DataError(
                f"Tokeniser: special tokens have to be different: {', '.join(self.special)}."
            )

    pad, begin, end, unknown = PAD, BEGIN, END, UNKNOWN

    def __len__(self) -> int:
        """Number of tokens, for the width of an embedding."""
        raise NotImplementedError

    def __repr__(self) -> str:
        return f"<{type(self).__name__} of {len(self)} tokens>"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Tokeniser) and self.as_dict() == other.as_dict()

    __hash__ = object.__hash__

    def fingerprint(self) -> str:
        """Of what it knows: equal for equal tokenisers, in any process."""
        return hashlib.sha256(json.dumps(self.as_dict(), sort_keys=True).encode()).hexdigest()

    def number(self, special: str) -> int:
        """Of a special token."""
        if special not in self.special:
            raise DataError(
                f"There is no special token {special!r}. {did_you_mean(special, self.special)}"
            )
        return self.special.index(special)

    def encode(
        self,
        text: str,
        *,
        begin: bool = False,
        end: bool = False,
        length: int | None = None,
        keep: Literal["first", "last"] = "first",
        unknown: Literal["token", "refuse"] = "token",
    ) -> np.ndarray:
        """The numbers of a text, int64.

        Parameters
        ----------
        text : str
        begin, end : bool
            Whether a special token stands before and after it.
        length : int, optional
            Longer texts are cut to this, shorter ones filled up with padding.
        keep : {"first", "last"}
            Which end of a text that is cut stays.
        unknown : {"token", "refuse"}
            What becomes of a character, or a word, that there is no token for: the special one, or
            an error that names it.

        Raises
        ------
        DataError
            If something is unknown and that is refused, or the length leaves no room.
        """
        found = self._numbers(text)
        if unknown == "refuse" and UNKNOWN in found:
            piece, at = self._piece(text, found.index(UNKNOWN))
            raise DataError(
                f"encode: {type(self).__name__} knows no {piece!r}, at {at} of {text[:60]!r}: "
                "what it was learned from has none. "
                "Leave it out, or train with a tokeniser that falls back on bytes: ByteTokeniser, "
                "BytePairTokeniser."
            )
        if length is not None:
            room = length - begin - end
            if room < 0:
                raise DataError(
                    f"encode: a length of {length} leaves no room beside the special tokens."
                )
            found = found[:room] if keep == "first" else found[len(found) - min(room, len(found)) :]
        numbers = [*([BEGIN] if begin else []), *found, *([END] if end else [])]
        if length is not None:
            numbers += [PAD] * (length - len(numbers))
        return np.array(numbers, np.int64)

    def decode(self, numbers: Any) -> str:
        """The text of numbers; special tokens are left out.

        Raises
        ------
        DataError
            If there is no token of a number.
        """
        listed = np.asarray(numbers).ravel().tolist()
        for number in listed:
            if not 0 <= number < len(self):
                raise DataError(
                    f"decode: there is no token {number}; they go from 0 to {len(self) - 1}."
                )
        return self._text([number for number in listed if number >= len(self.special)])

    def token(self, number: int) -> str:
        """What a number stands for, to be shown."""
        return self.special[number] if number < len(self.special) else self._text([number])

    def _numbers(self, text: str) -> list[int]:
        raise NotImplementedError

    def _piece(self, text: str, number: int) -> tuple[str, int]:
        """What the token of this place in the list stands for, and where it begins in the text; of
        tokenisers that know not all.
        """
        return text[number], number

    def _text(self, numbers: Sequence[int]) -> str:
        raise NotImplementedError

    # files

    def as_dict(self) -> dict[str, Any]:
        """As JSON can hold it."""
        return {"kind": self.kind, "special": list(self.special[len(SPECIAL) :])}

    @classmethod
    def from_dict(cls, known: Mapping[str, Any]) -> Self:
        raise NotImplementedError

    def save(self, path: str | os.PathLike[str]) -> Path:
        """Write it to a JSON file, whole or not at all."""
        target = Path(path)
        try:
            with atomic_write(target) as file:
                file.write(json.dumps(self.as_dict() | {SEAL: self.fingerprint()}).encode())
        except OSError as error:
            raise DataError(
                f"{target}: the tokeniser cannot be written: {error.strerror}."
            ) from error
        return target


class ByteTokeniser(Tokeniser):
    """One token a byte of UTF-8: nothing is unknown.

    Examples
    --------
    >>> tokeniser = ByteTokeniser()
    >>> tokeniser.decode(tokeniser.encode("Trübung")), len(tokeniser)
    ('Trübung', 260)
    """

    kind = "bytes"

    def __len__(self) -> int:
        return len(self.special) + BYTES

    def _numbers(self, text: str) -> list[int]:
        first = len(self.special)
        return [first + byte for byte in _utf8(text)]

    def _text(self, numbers: Sequence[int]) -> str:
        first = len(self.special)
        return _of_utf8(bytes(number - first for number in numbers))

    @classmethod
    def from_dict(cls, known: Mapping[str, Any]) -> Self:
        return cls(known["special"])


byte_tokens = maker("byte_tokens", "tokeniser")(ByteTokeniser)


def _utf8(text: str) -> bytes:
    """Halves of surrogate pairs, which may stand alone in a Python text, are kept."""
    return text.encode("utf-8", "surrogatepass")


def _of_utf8(data: bytes) -> str:
    try:
        return data.decode("utf-8", "surrogatepass")
    except UnicodeDecodeError:  # generated by a network, not encoded from a text
        return data.decode("utf-8", "replace")


class _Listed(Tokeniser):
    """Tokens in a list."""

    def __init__(self, tokens: Sequence[str], special: Sequence[str] = ()) -> None:
        super().__init__(special)
        self.tokens = tuple(tokens)
        self._of = {token: len(self.special) + i for i, token in enumerate(self.tokens)}
        if len(self._of) < len(self.tokens):
            raise DataError(f"{type(self).__name__}: a token stands twice.")

    def __len__(self) -> int:
        return len(self.special) + len(self.tokens)

    def as_dict(self) -> dict[str, Any]:
        return super().as_dict() | {"tokens": list(self.tokens)}

    @classmethod
    def from_dict(cls, known: Mapping[str, Any]) -> Self:
        return cls(known["tokens"], known["special"])


class CharacterTokeniser(_Listed):
    """One token a character that occurs in a corpus; others are unknown.

    Examples
    --------
    >>> tokeniser = CharacterTokeniser.learned(["rack", "cask"])
    >>> tokeniser.decode(tokeniser.encode("sack"))
    'sack'
    """

    kind = "characters"

    @classmethod
    def learned(cls, corpus: Iterable[str], *, special: Sequence[str] = ()) -> Self:
        """The characters of a corpus, in the order of Unicode."""
        return cls(sorted({character for text in corpus for character in text}), special)

    def _numbers(self, text: str) -> list[int]:
        return [self._of.get(character, UNKNOWN) for character in text]

    def _text(self, numbers: Sequence[int]) -> str:
        first = len(self.special)
        return "".join(self.tokens[number - first] for number in numbers)


class WordTokeniser(_Listed):
    """One token a word, a number, or a run of signs, with the space before it; what is rare is
    unknown.

    Examples
    --------
    >>> tokeniser = WordTokeniser.learned(["not at all thin, though sour"])
    >>> tokeniser.decode(tokeniser.encode("not sour, though thin"))
    'not sour, though thin'
    """

    kind = "words"

    @classmethod
    def learned(
        cls,
        corpus: Iterable[str],
        *,
        most: int = 30_000,
        least_count: int = 1,
        special: Sequence[str] = (),
    ) -> Self:
        """The most frequent words of a corpus."""
        counts = Counter(piece for text in corpus for pieces in _pieces(text) for piece in pieces)
        listed = sorted(
            (token for token, count in counts.items() if count >= least_count),
            key=lambda token: (-counts[token], token),
        )
        return cls(listed[:most], special)

    def _numbers(self, text: str) -> list[int]:
        return [self._of.get(piece, UNKNOWN) for piece in PIECES.findall(text)]

    def _piece(self, text: str, number: int) -> tuple[str, int]:
        pieces = PIECES.findall(text)
        return pieces[number], sum(map(len, pieces[:number]))

    def _text(self, numbers: Sequence[int]) -> str:
        first = len(self.special)
        return "".join(self.tokens[number - first] for number in numbers)


class BytePairTokeniser(Tokeniser):
    """Frequent pairs of bytes, of such pairs, and so on, each a token (R. Sennrich, B. Haddow and
    A. Birch, 2016): nothing is unknown.

    Parameters
    ----------
    merges : sequence of pairs of int
        What is merged, in order: numbers from 0 to 255 are bytes, 256 the first merge.

    Examples
    --------
    >>> tokeniser = BytePairTokeniser.learned(
    ...     ["racked the cask, racked the barrel"], tokens=280
    ... )
    >>> tokeniser.decode(tokeniser.encode("the barrel was racked")), len(tokeniser)
    ('the barrel was racked', 268)
    """

    kind = "byte_pairs"

    def __init__(self, merges: Sequence[Sequence[int]], special: Sequence[str] = ()) -> None:
        super().__init__(special)
        self.merges = tuple((int(a), int(b)) for a, b in merges)
        self._rank = {pair: i for i, pair in enumerate(self.merges)}
        self._bytes = [bytes([i]) for i in range(BYTES)]
        for a, b in self.merges:
            if not 0 <= min(a, b) <= max(a, b) < len(self._bytes):
                raise DataError(f"BytePairTokeniser: {a} and {b} are merged before they are there.")
            self._bytes.append(self._bytes[a] + self._bytes[b])
        self._known: dict[str, tuple[int, ...]] = {}

    def __len__(self) -> int:
        return len(self.special) + len(self._bytes)

    @classmethod
    def learned(
        cls, corpus: Iterable[str], *, tokens: int = 1000, special: Sequence[str] = ()
    ) -> Self:
        """The pairs that are most frequent in a corpus, one after another, until there are so many
        tokens or none occurs twice.
        """
        counts: Counter[str] = Counter()
        for text in corpus:
            for pieces in _pieces(text):
                counts.update(pieces)
        room = tokens - len(SPECIAL) - len(special) - BYTES
        if room < 0:
            raise DataError(
                f"BytePairTokeniser: {tokens} tokens are fewer than the {BYTES} bytes and the "
                "special tokens. Ask for more."
            )
        return cls(_learned_merges(counts, room), special)

    def _numbers(self, text: str) -> list[int]:
        first, known = len(self.special), self._known
        result: list[int] = []
        for piece in PIECES.findall(text):
            numbers = known.get(piece)
            if numbers is None:
                numbers = tuple(first + number for number in self._merged(_utf8(piece)))
                if len(known) < 1 << 16:
                    known[piece] = numbers
            result += numbers
        return result

    def _merged(self, data: bytes) -> list[int]:
        if len(data) > LONG:
            return self._merged_by_heap(data)
        parts, rank = list(data), self._rank
        while len(parts) > 1:
            pairs = [rank.get(pair, len(rank)) for pair in pairwise(parts)]
            best = min(pairs)
            if best == len(rank):
                break
            a, b = self.merges[best]
            merged, i = [], 0
            while i < len(parts):
                if i + 1 < len(parts) and parts[i] == a and parts[i + 1] == b:
                    merged.append(BYTES + best)
                    i += 2
                else:
                    merged.append(parts[i])
                    i += 1
            parts = merged
        return parts

    def _merged_by_heap(self, data: bytes) -> list[int]:
        """The same for what is long, such as text without spaces, at a cost that grows little
        faster than its length.
        """
        parts: list[int] = list(data)
        following = list(range(1, len(parts) + 1))
        before = list(range(-1, len(parts) - 1))
        rank = self._rank
        heap = [(rank[pair], at) for at, pair in enumerate(pairwise(parts)) if pair in rank]
        heapq.heapify(heap)
        parts.append(GONE)
        while heap:
            best, at = heapq.heappop(heap)
            after = following[at]
            if (parts[at], parts[after]) != self.merges[best]:
                continue
            parts[at], parts[after] = BYTES + best, GONE
            right, left = following[after], before[at]
            following[at] = right
            if right < len(before):
                before[right] = at
            around = ((left, (parts[left], parts[at])), (at, (parts[at], parts[right])))
            for place, pair in around:
                if place >= 0 and (found := rank.get(pair)) is not None:
                    heapq.heappush(heap, (found, place))
        return [part for part in parts if part != GONE]

    def _text(self, numbers: Sequence[int]) -> str:
        first = len(self.special)
        return _of_utf8(b"".join(self._bytes[number - first] for number in numbers))

    def as_dict(self) -> dict[str, Any]:
        return super().as_dict() | {"merges": [list(pair) for pair in self.merges]}

    @classmethod
    def from_dict(cls, known: Mapping[str, Any]) -> Self:
        return cls(known["merges"], known["special"])


def _pieces(text: str) -> Iterator[list[str]]:
    """The pieces of a text, some at a time, so that a long text needs no list of all of them."""
    begin, length = 0, SLICE
    while begin < len(text):
        end = begin + length
        found = PIECES.findall(text, begin, end)
        if end < len(text):  # the last may go on
            if len(found) < 2:
                length *= 2
                continue
            end -= len(found.pop())
        yield found
        begin, length = end, SLICE


def _learned_merges(counts: Mapping[str, int], room: int) -> list[tuple[int, int]]:
    """Pair by pair the most frequent, of equals the first in order. All words lie in one row, as
    linked lists of tokens; of each pair it is known where it may be, so that a merge costs what it
    changes.
    """
    if not counts:
        return []
    base = BYTES + room
    joined = np.frombuffer(b"\0".join(map(_utf8, counts)), np.uint8).astype(np.int32)
    lengths = np.array([len(_utf8(word)) for word in counts])
    ends = np.cumsum(lengths + 1)[:-1] - 1
    joined[ends] = -1
    often = np.repeat(np.fromiter(counts.values(), np.int64), lengths + 1)[: len(joined)]
    first = np.flatnonzero((joined[:-1] >= 0) & (joined[1:] >= 0))
    if not len(first):
        return []
    codes = joined[first].astype(np.int64) * base + joined[first + 1]
    order = np.argsort(codes, kind="stable")
    distinct, begins = np.unique(codes[order], return_index=True)
    totals = np.add.reduceat(often[first][order], begins)
    pairs: dict[int, int] = dict(zip(distinct.tolist(), totals.tolist(), strict=True))
    where = {
        code: array("q", places.tobytes())
        for code, places in zip(
            distinct.tolist(), np.split(first[order].astype(np.int64), begins[1:]), strict=True
        )
    }
    token, weight = array("i", joined.tobytes()), array("q", often.tobytes())
    following = array("q", range(1, len(joined) + 1))
    before = array("q", range(-1, len(joined) - 1))
    token.append(-1)
    heap = [(-count, code) for code, count in pairs.items()]
    heapq.heapify(heap)
    merges: list[tuple[int, int]] = []
    while heap and len(merges) < room:
        count, code = heapq.heappop(heap)
        known = pairs.get(code, 0)
        if known != -count:
            if known > 0:
                heapq.heappush(heap, (-known, code))
            continue
        if known < 2:
            break
        a, b = divmod(code, base)
        new = BYTES + len(merges)
        merges.append((a, b))
        changed: set[int] = set()
        for at in where.pop(code):
            after = following[at]
            if token[at] != a or token[after] != b:
                continue
            n, left, right = weight[at], before[at], following[after]
            if left >= 0 and (other := token[left]) >= 0:
                pairs[other * base + a] -= n
                fresh = other * base + new
                pairs[fresh] = pairs.get(fresh, 0) + n
                where.setdefault(fresh, array("q")).append(left)
                changed.add(fresh)
            if (other := token[right]) >= 0:
                pairs[b * base + other] -= n
                fresh = new * base + other
                pairs[fresh] = pairs.get(fresh, 0) + n
                where.setdefault(fresh, array("q")).append(at)
                changed.add(fresh)
            token[at], token[after] = new, GONE
            following[at] = right
            if right < len(before):
                before[right] = at
        pairs.pop(code, None)
        for fresh in changed:
            if (n := pairs[fresh]) > 0:
                heapq.heappush(heap, (-n, fresh))
    return merges


KINDS: dict[str, type[Tokeniser]] = {
    kind.kind: kind
    for kind in (ByteTokeniser, CharacterTokeniser, WordTokeniser, BytePairTokeniser)
}


@maker("tokens_of", "tokeniser")
def open_tokeniser(file: str | os.PathLike[str]) -> Tokeniser:
    """The tokeniser in a JSON file.

    Raises
    ------
    DataError
        If the file holds none.

    Examples
    --------
    >>> import tempfile
    >>> file = ByteTokeniser(["<answer>"]).save(tempfile.mkdtemp() + "/bytes.json")
    >>> open_tokeniser(file).number("<answer>")
    4
    """
    path = Path(file)
    try:
        known = json.loads(path.read_text(encoding="utf-8"))
        if known["kind"] not in KINDS:
            raise DataError(
                f"{path}: there is no tokeniser {known['kind']!r}. "
                f"{did_you_mean(str(known['kind']), KINDS)}"
            )
        result = KINDS[known["kind"]].from_dict(known)
        if known.get(SEAL, result.fingerprint()) != result.fingerprint():
            raise DataError(
                f"{path}: the file was changed after it was written: its check sum does not fit. "
                "Take another copy."
            )
        return result
    except DataError:
        raise
    except (OSError, ValueError, LookupError, TypeError, RecursionError) as error:
        raise DataError(f"{path}: no tokeniser: {type(error).__name__}: {error}") from error


@part("token_batch", "join")
class TokenBatch:
    """Joins sequences of tokens for a network that predicts the next one: inputs, and as targets
    the same a place later.

    Padding has the label `ignored`, which losses leave out (``cross_entropy(..., ignored=-1)``),
    and is masked.

    Parameters
    ----------
    length : int, optional
        Longer sequences are cut.
    ignored : int

    Examples
    --------
    >>> batch = TokenBatch()(
    ...     [(np.array([4, 5, 6]), None, None), (np.array([7, 8]), None, None)]
    ... )
    >>> batch.inputs.tolist(), batch.targets.tolist()
    ([[4, 5], [7, 0]], [[5, 6], [8, -1]])
    """

    def __init__(self, length: int | None = None, ignored: int = -1) -> None:
        self.length, self.ignored = length, ignored

    def __call__(self, examples: Sequence[Example]) -> Batch:
        rows = [
            np.asarray(numbers)[: None if self.length is None else self.length + 1]
            for numbers, _, _ in examples
        ]
        short = next((i for i, row in enumerate(rows) if row.ndim != 1 or len(row) < 2), None)
        if short is not None:
            raise DataError(
                f"TokenBatch: example {short} of the batch has shape {rows[short].shape}; two "
                "tokens in one axis are the least."
            )
        labels = [
            self._labels(row, target) for row, (_, target, _) in zip(rows, examples, strict=True)
        ]
        time = max(map(len, rows)) - 1
        inputs, targets = (
            np.full((len(rows), time), PAD, np.int64),
            np.full((len(rows), time), self.ignored, np.int64),
        )
        for i, (row, label) in enumerate(zip(rows, labels, strict=True)):
            inputs[i, : len(row) - 1], targets[i, : len(row) - 1] = row[:-1], label
        masks = np.arange(time) < np.array([len(row) - 1 for row in rows])[:, None]
        return Batch(inputs, targets, None, masks)

    def _labels(self, row: np.ndarray, learned: Any) -> np.ndarray:
        """Of each place the next token; a target of truth values says which tokens are learned."""
        result = row[1:].copy()
        if learned is not None:
            result[~np.asarray(learned, bool)[1 : len(row)]] = self.ignored
        return result
