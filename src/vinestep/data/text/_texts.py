"""Sources of texts for networks that write: documents, requests with answers, and pairs of what is
read and what is written.
"""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, Literal

import numpy as np

from ..._public_names import did_you_mean
from ...errors import DataError
from ...parts._describe import describe
from ...parts._registry import maker, part
from .._hashing import digest
from ..batches._batch import Batch
from ..batches._joins import Example, Join, stacked
from ..batches._transforms import Transform, prepared
from ..encoding._templates import Template
from ..encoding._text_form import TextForm, joined_sources
from ..encoding._tokens import PAD, TokenBatch, Tokeniser
from ..sources._source import Source

__all__ = ["Documents", "PairBatch", "Pairs", "Requests", "documents_in", "pairs_in", "requests_in"]

IGNORED = -1


class _Texts(Source):
    """What sources of texts have in common: rows of whole numbers."""

    @property
    def lengths(self) -> np.ndarray:
        """Of what is written in each example, in tokens, for `vinestep.data.ByLength`."""
        return np.array([len(self._content(i)[-1]) for i in range(len(self))])

    def fingerprint(self) -> str:
        return digest(*[array for i in range(len(self)) for array in self._content(i)])

    def _content(self, index: int) -> list[np.ndarray]:
        raise NotImplementedError


class Documents(_Texts):
    """Texts for a network that predicts the next token, several in a row of fixed length where they
    are short.

    A row is filled with whole documents, in their order; a document longer than a row is cut into
    pieces. No label leads from one document to the next, and ``masks`` of a batch say by whole
    numbers to which document each place belongs, so that attention keeps to it (0 is padding).

    Parameters
    ----------
    texts : sequence of str, or path
        Documents, or a UTF-8 file with a document in each line.
    tokeniser : Tokeniser
    length : int
        Of a row, in tokens that are read.

    Raises
    ------
    DataError
        If there are no texts, or the file cannot be read.

    Examples
    --------
    >>> batch = (
    ...     Documents(["ab", "c"], vs.data.CharacterTokeniser.learned(["abc"]), length=6)
    ...     .batches(1)
    ...     .sample()
    ... )
    >>> batch.inputs.tolist(), batch.targets.tolist(), batch.masks.tolist()
    ([[1, 4, 5, 1, 6, 0]], [[4, 5, 2, 6, 2, -1]], [[1, 1, 1, 2, 2, 0]])
    """

    def __init__(
        self, texts: Sequence[str] | str | os.PathLike[str], tokeniser: Tokeniser, length: int = 256
    ) -> None:
        if isinstance(length, bool) or not isinstance(length, int) or length < 1:
            raise DataError(
                f"Documents: length must be a whole number of at least 1, got {length!r}."
            )
        self.tokeniser, self.length = tokeniser, length
        self.text_form = TextForm(tokeniser)
        encoded = [tokeniser.encode(text, begin=True, end=True) for text in _listed(texts)]
        if not encoded:
            raise DataError("Documents: there are no texts.")
        self.count = len(encoded)
        self._rows = _packed(encoded, length)

    def __len__(self) -> int:
        return len(self._rows[0])

    def example(self, index: int) -> Example:
        ids, targets, _ = (rows[index] for rows in self._rows)
        return ids, targets, None

    def take(self, index: np.ndarray) -> Batch:
        ids, targets, documents = (rows[index] for rows in self._rows)
        return Batch(ids, targets, None, documents)

    def gathered(self, index: np.ndarray, join: Join = stacked) -> Batch:
        if join is not stacked:
            raise DataError(
                "Documents: rows are of one length and know their documents; leave join= out."
            )
        return self.take(index)

    @property
    def filled(self) -> float:
        """Share of the places that hold a token."""
        return float(np.mean(self._rows[2] > 0))

    def settings(self) -> dict[str, Any]:
        return {
            "kind": "documents",
            "documents": self.count,
            "tokens": len(self.tokeniser),
            "length": self.length,
        }

    def _content(self, index: int) -> list[np.ndarray]:
        return [rows[index] for rows in self._rows]


def _listed(texts: Sequence[str] | str | os.PathLike[str]) -> list[str]:
    if not isinstance(texts, str | os.PathLike):
        wrong = next((i for i, text in enumerate(texts) if not isinstance(text, str)), None)
        if wrong is not None:
            raise DataError(f"text {wrong} is a {type(texts[wrong]).__name__}, not a str.")
        return list(texts)
    from ..sources._files import read_text

    return [line for line in read_text(Path(texts)).splitlines() if line]


def _packed(
    encoded: Sequence[np.ndarray], length: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Inputs, labels and numbers of documents, each of shape (rows, length)."""
    rows: list[list[tuple[np.ndarray, np.ndarray]]] = [[]]
    room = length
    for tokens in encoded:
        for start in range(0, len(tokens) - 1, length):
            ids, targets = tokens[start : start + length], tokens[start + 1 : start + 1 + length]
            ids = ids[: len(targets)]
            if len(ids) > room:
                rows.append([])
                room = length
            rows[-1].append((ids, targets))
            room -= len(ids)
    shape = (len(rows), length)
    inputs, labels, documents = (
        np.full(shape, PAD, np.int64),
        np.full(shape, IGNORED, np.int64),
        np.zeros(shape, np.int64),
    )
    for i, row in enumerate(rows):
        at = 0
        for number, (ids, targets) in enumerate(row, start=1):
            here = slice(at, at + len(ids))
            inputs[i, here], labels[i, here], documents[i, here] = ids, targets, number
            at += len(ids)
    return inputs, labels, documents


class Requests(_Texts):
    """Requests with their answers for a network that predicts the next token; only the answers are
    learned.

    Parameters
    ----------
    rows : sequence of mappings, DataFrame, or CSV file
        The fields of the template by name.
    template : Template
    tokeniser : Tokeniser
    length : int, optional
        Refuse an example of more tokens.

    Raises
    ------
    DataError
        If a row misses a field, or is longer: which.

    Examples
    --------
    >>> rows = [{"entry": "tp", "sentence": "Topped up."}]
    >>> source = Requests(
    ...     rows, vs.data.Template("{entry}: {sentence}"), vs.data.ByteTokeniser()
    ... )
    >>> source.batches(1).sample().targets[0, :6].tolist()
    [-1, -1, -1, -1, 88, 115]
    """

    def __init__(
        self, rows: Any, template: Template, tokeniser: Tokeniser, length: int | None = None
    ) -> None:
        self.template, self.tokeniser = template, tokeniser
        self.text_form = TextForm(tokeniser, template)
        self._examples = []
        for i, row in enumerate(fields_of(rows)):
            try:
                tokens, learned = template.example(tokeniser, row)
            except DataError as error:
                raise DataError(f"row {i}: {error}") from error
            if length is not None and len(tokens) > length:
                raise DataError(
                    f"row {i}: {len(tokens)} tokens are more than the {length} that were asked "
                    f"for: {str(row)[:100]}."
                )
            self._examples.append((tokens, learned))
        if not self._examples:
            raise DataError("Requests: there are no rows.")

    def __len__(self) -> int:
        return len(self._examples)

    def example(self, index: int) -> Example:
        tokens, learned = self._examples[index]
        return tokens, learned, None

    def take(self, index: np.ndarray) -> Batch | None:
        return TokenBatch()([self.read(int(i)) for i in index])

    def settings(self) -> dict[str, Any]:
        return {
            "kind": "requests",
            "examples": len(self),
            "tokens": len(self.tokeniser),
            "template": self.template.text,
        }

    def _content(self, index: int) -> list[np.ndarray]:
        return list(self._examples[index])


def fields_of(rows: Any) -> Sequence[Mapping[str, Any]]:
    """The fields of each row by name, of mappings, a DataFrame, or a file."""
    if isinstance(rows, str | os.PathLike):
        from .._table_files import read_frame

        rows = read_frame(rows)[0]
    if hasattr(rows, "to_dict") and hasattr(rows, "columns"):
        return rows.to_dict("records")  # type: ignore[no-any-return]
    listed = list(rows)
    wrong = next((i for i, row in enumerate(listed) if not isinstance(row, Mapping)), None)
    if wrong is not None:
        raise DataError(
            f"row {wrong} is a {type(listed[wrong]).__name__}. Give fields by name: a dict for "
            "each row."
        )
    return listed


@part("pair_batch", "join")
class PairBatch:
    """Joins pairs of what is read and what is written, for a network that is told at each place
    what stood before it: teacher forcing.

    Inputs are what is read and the tokens written so far, targets those written next, with -1 for
    padding. What is read is padded, too, if it is tokens; pictures have to be of one shape.

    Examples
    --------
    >>> batch = PairBatch()(
    ...     [
    ...         (np.array([5, 6]), np.array([1, 7, 2]), None),
    ...         (np.array([5]), np.array([1, 2]), None),
    ...     ]
    ... )
    >>> [part.tolist() for part in batch.inputs], batch.targets.tolist()
    ([[[5, 6], [5, 0]], [[1, 7], [1, 0]]], [[7, 2], [2, -1]])
    """

    def __call__(self, examples: Sequence[Example]) -> Batch:
        sources, texts, _ = zip(*examples, strict=True)
        longest = max(map(len, texts)) - 1
        written, wanted = (
            np.full((len(texts), longest), PAD, np.int64),
            np.full((len(texts), longest), IGNORED, np.int64),
        )
        for i, tokens in enumerate(texts):
            written[i, : len(tokens) - 1], wanted[i, : len(tokens) - 1] = tokens[:-1], tokens[1:]
        return Batch((joined_sources(sources), written), wanted)


class Pairs(_Texts):
    """What is read, pictures or texts, and the text that is to be written, for an `EncoderDecoder`.

    Parameters
    ----------
    sources : array of pictures, or sequence of str
    texts : sequence of str
    tokeniser : Tokeniser
        Of what is written.
    source_tokeniser : Tokeniser, optional
        Of texts that are read; that of what is written by default.
    prepare : sequence of transforms
        What is done to pictures, at training and by the model.

    Raises
    ------
    DataError
        If there is another number of either.

    Examples
    --------
    >>> found = vs.demo.chalk(2)
    >>> source = Pairs(
    ...     found.pictures, found.codes, vs.data.CharacterTokeniser.learned(found.codes)
    ... )
    >>> [part.shape for part in source.batches(2).sample().inputs]
    [(1, 32, 124, 1), (1, 6)]
    """

    def __init__(
        self,
        sources: Any,
        texts: Sequence[str],
        tokeniser: Tokeniser,
        source_tokeniser: Tokeniser | None = None,
        prepare: Sequence[Transform] = (),
    ) -> None:
        if len(sources) != len(texts) or not len(texts):
            raise DataError(
                f"Pairs: {len(sources)} sources and {len(texts)} texts; as many are wanted, and "
                "one at least."
            )
        reads_text = isinstance(sources[0], str)
        if reads_text and prepare:
            raise DataError("Pairs: what is read are texts, and prepare= is for pictures.")
        self.tokeniser, self.prepare = tokeniser, tuple(prepare)
        self.source_tokeniser = (source_tokeniser or tokeniser) if reads_text else None
        self.text_form = TextForm(tokeniser, None, self.source_tokeniser)
        self.sources, self.texts = sources, texts
        self._read = (
            [self.source_tokeniser.encode(text, end=True) for text in sources]
            if self.source_tokeniser
            else sources
        )
        self._written = [tokeniser.encode(text, begin=True, end=True) for text in texts]

    def __len__(self) -> int:
        return len(self._written)

    def example(self, index: int) -> Example:
        read = self._read[index]
        return (
            prepared(np.asarray(read)[None], self.prepare)[0] if self.prepare else read,
            self._written[index],
            None,
        )

    def prepared(self, *transforms: Transform) -> Pairs:  # type: ignore[override]
        """The same pairs, every picture transformed; the transforms are kept with the model."""
        return Pairs(
            self.sources,
            self.texts,
            self.tokeniser,
            self.source_tokeniser,
            [*self.prepare, *transforms],
        )

    @property
    def preparation(self) -> tuple[Transform, ...]:
        return self.prepare

    def take(self, index: np.ndarray) -> Batch | None:
        return PairBatch()([self.read(int(i)) for i in index])

    def settings(self) -> dict[str, Any]:
        reads = (
            "pictures" if self.source_tokeniser is None else f"{len(self.source_tokeniser)} tokens"
        )
        settings = {
            "kind": "pairs",
            "examples": len(self),
            "reads": reads,
            "writes": f"{len(self.tokeniser)} tokens",
        }
        return settings | (
            {"prepared": [describe(transform, opaque=True) for transform in self.prepare]}
            if self.prepare
            else {}
        )

    def _content(self, index: int) -> list[np.ndarray]:
        return [np.asarray(self._read[index]), self._written[index]]


# of files, for plans


@maker("documents", "source")
def documents_in(
    file: str | os.PathLike[str], tokeniser: Tokeniser, length: int = 256
) -> Documents:
    """`Documents` of a UTF-8 file with a document in each line.

    Parameters
    ----------
    file : path
    tokeniser : Tokeniser
    length : int
        Of a row, in tokens that are read.

    Examples
    --------
    >>> import tempfile, pathlib
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "notes.txt"
    >>> _ = file.write_text("dense\\nnot thin\\n")
    >>> documents_in(file, vs.data.ByteTokeniser(), length=8).count
    2
    """
    return Documents(Path(file), tokeniser, length)


@maker("requests", "source")
def requests_in(
    file: str | os.PathLike[str],
    template: Template,
    tokeniser: Tokeniser,
    length: int | None = None,
) -> Requests:
    """`Requests` of a CSV or Parquet file with a column for each field of the template.

    Parameters
    ----------
    file : path
    template : Template
    tokeniser : Tokeniser
    length : int, optional
        Refuse an example of more tokens.

    Examples
    --------
    >>> import tempfile, pathlib
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "entries.csv"
    >>> _ = file.write_text("entry,sentence\\ntp,Topped up.\\n")
    >>> len(requests_in(file, vs.data.Template("{entry}: {sentence}"), vs.data.ByteTokeniser()))
    1
    """
    return Requests(file, template, tokeniser, length)


@maker("pairs", "source")
def pairs_in(
    file: str | os.PathLike[str],
    read: str,
    written: str,
    tokeniser: Tokeniser,
    source_tokeniser: Tokeniser | None = None,
    channels: Literal["RGB", "L", "RGBA"] | None = None,
    prepare: Sequence[Transform] = (),
) -> Pairs:
    """`Pairs` of a CSV or Parquet file: of texts, or of picture files that are named relative to
    it.

    Parameters
    ----------
    file : path
    read, written : str
        Columns of what is read and what is to be written.
    tokeniser : Tokeniser
    source_tokeniser : Tokeniser, optional
        Of texts that are read; that of what is written by default.
    channels : {"RGB", "L", "RGBA"}, optional
        Of pictures; without it what is read is a text.
    prepare : sequence of transforms
        What is done to pictures; see `vinestep.data.pictures`.

    Examples
    --------
    >>> import tempfile, pathlib
    >>> file = pathlib.Path(tempfile.mkdtemp()) / "codes.csv"
    >>> _ = file.write_text("entry,sentence\\ntp,Topped up.\\n")
    >>> pairs_in(file, "entry", "sentence", vs.data.ByteTokeniser())
    <Pairs of 1 examples>
    """
    from .._table_files import read_frame
    from ..pictures._pictures import Pictures

    frame = read_frame(file, texts=[read, written])[0]
    for name in (read, written):
        if name not in frame.columns:
            raise DataError(
                f"{file}: there is no column {name!r}. {did_you_mean(name, frame.columns)}"
            )
    sources: Any = frame[read].astype(str).tolist()
    if channels is not None:
        pictures = Pictures([Path(file).parent / name for name in sources], channels=channels)
        sources = [pictures[i][0] for i in range(len(pictures))]
    return Pairs(sources, frame[written].astype(str).tolist(), tokeniser, source_tokeniser, prepare)
