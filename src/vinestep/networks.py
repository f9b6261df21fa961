"""Ready shapes of networks, as short functions to use or to read and copy."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Literal

import numpy as np

from ._activations import relu, silu
from ._public_names import own_names
from .autodiff.tensor import held
from .errors import LayerError, ShapeError
from .layers._attention import DecoderBlock, TransformerBlock
from .layers._base import Layer
from .layers._conditioned import ConditionedBlock, PixelAttention
from .layers._containers import Residual, Stack
from .layers._convolution import Convolution
from .layers._dense import Dense
from .layers._dropout import Dropout
from .layers._embedding import Embedding, Positions, places_of
from .layers._normalisation import BatchNorm, LayerNorm
from .layers._pooling import Columns, GlobalMean, MaxPool, MeanPool, Upsample
from .layers._recurrent import LSTM
from .parts._registry import part

__all__ = [
    "EncoderDecoder",
    "LanguageModel",
    "TextScorer",
    "UShaped",
    "convolutional_classifier",
    "dense_classifier",
    "picture_reader",
    "residual_network",
    "with_head",
]


def dense_classifier(
    classes: int,
    *,
    widths: Sequence[int] = (64, 32),
    activation: Callable[..., Any] = relu,
    dropout: float = 0.0,
) -> Stack:
    """Dense layers for tables: ``(batch, features)`` to logits.

    Examples
    --------
    >>> vs.networks.dense_classifier(3).initialise(np.ones((1, 7)))(np.ones((2, 7))).shape
    (2, 3)
    """
    layers: list[Any] = []
    for width in widths:
        layers += [Dense(width), activation, *([Dropout(dropout)] if dropout else [])]
    return Stack(*layers, Dense(classes))


def convolutional_classifier(
    classes: int, *, channels: Sequence[int] = (16, 32, 64), dropout: float = 0.0
) -> Stack:
    """A small network for pictures: convolution, batch normalisation and pooling, over and over,
    then a mean and a dense layer.

    Examples
    --------
    >>> vs.networks.convolutional_classifier(6).initialise(np.ones((1, 32, 32, 3)))(
    ...     np.ones((2, 32, 32, 3))
    ... ).shape
    (2, 6)
    """
    layers: list[Any] = []
    for width in channels:
        layers += [Convolution(width, 3), BatchNorm(), relu, MaxPool(2)]
    return Stack(*layers, GlobalMean(), *([Dropout(dropout)] if dropout else []), Dense(classes))


def _residual_block(width: int, *, stride: int = 1, changes: bool = False) -> Stack:
    body = Stack(
        Convolution(width, 3, stride=stride), BatchNorm(), relu, Convolution(width, 3), BatchNorm()
    )
    shortcut = (
        Stack(Convolution(width, 1, stride=stride), BatchNorm()) if changes or stride > 1 else None
    )
    return Stack(Residual(body, shortcut), relu)


def residual_network(classes: int, *, depth: int = 3, width: int = 16) -> Stack:
    """A residual network for pictures: three stages of `depth` blocks, each half the size and twice
    the channels of the one before.

    K. He, X. Zhang, S. Ren and J. Sun, CVPR 2016, section 4.2. The body and the head are its two
    parts: ``network[0]``, ``network[1]``; `with_head` replaces the latter.

    Examples
    --------
    >>> network = vs.networks.residual_network(6, depth=1, width=8).initialise(
    ...     np.ones((1, 16, 16, 3))
    ... )
    >>> network(np.ones((2, 16, 16, 3))).shape
    (2, 6)
    """
    blocks: list[Any] = [Convolution(width, 3), BatchNorm(), relu]
    for stage in range(3):
        channels = width * 2**stage
        for block in range(depth):
            blocks.append(_residual_block(channels, stride=2 if stage and not block else 1))
    return Stack(Stack(*blocks, GlobalMean()), Dense(classes))


@part("u_shaped", "layer")
class UShaped(Layer):
    """A network that puts out something for each pixel: pictures get smaller and deeper, then
    larger again, and what was seen on the way down is put beside what comes up.

    O. Ronneberger, P. Fischer and T. Brox, MICCAI 2015, figure 1, with padding, batch normalisation
    and fewer channels. Also for sequences, ``(batch, time, features)``.

    Parameters
    ----------
    outputs : int
        For each pixel, such as the number of classes.
    channels : sequence of int
        Of each level, from above; sizes are halved from one to the next, and have to be divisible.
    attention : int
        Heads of a layer at the lowest level by which each pixel looks at all others; 0 for none.
    conditioned : bool
        Whether a second input, ``(batch, width)``, is told to every level, as a time or a class;
        the blocks are those of J. Ho, A. Jain and P. Abbeel, NeurIPS 2020, appendix B, then.

    Examples
    --------
    >>> network = UShaped(3, channels=(4, 8)).initialise(np.ones((1, 8, 8, 1)))
    >>> network(np.ones((2, 8, 8, 1), np.float32)).shape
    (2, 8, 8, 3)
    """

    def __init__(
        self,
        outputs: int,
        *,
        channels: Sequence[int] = (16, 32, 64),
        attention: int = 0,
        conditioned: bool = False,
    ) -> None:
        if not channels:
            raise LayerError("UShaped: channels is a list of at least one.")
        self.outputs, self.channels = outputs, list(channels)
        self.attention, self.conditioned = attention, conditioned
        block: Callable[[int], Layer] = ConditionedBlock if conditioned else _twice
        self.down = [block(n) for n in self.channels]
        self.up = [block(n) for n in self.channels[-2::-1]]
        self.looks = PixelAttention(attention) if attention else None
        self.pool, self.grow = (MeanPool(2) if conditioned else MaxPool(2)), Upsample(2)
        self.stem = Convolution(self.channels[0], 3) if conditioned else None
        self.head = Convolution(outputs, 1)

    def compute(self, x: Any, condition: Any = None) -> Any:
        if condition is not None and not self.conditioned:
            raise LayerError("UShaped: it is told a condition. Say conditioned=True.")
        told = (condition,) if self.conditioned else ()
        shape, halvings = np.shape(x), len(self.channels) - 1
        if any(n % 2**halvings for n in shape[1:-1]):
            raise ShapeError(
                f"UShaped: pictures of {' by '.join(map(str, shape[1:-1]))} cannot be halved "
                f"{halvings} times. Resize them, or take fewer levels of channels."
            )
        if self.stem is not None:
            x = self.stem(x)
        seen = []
        for level, convolve in enumerate(self.down):
            x = convolve(x if not level else self.pool(x), *told)
            seen.append(x)
        if self.looks is not None:
            x = self.looks(x)
        for convolve, beside in zip(self.up, seen[-2::-1], strict=True):
            x = convolve(np.concatenate([self.grow(x), beside], axis=-1), *told)
        return self.head(silu(x) if self.conditioned else x)


def _twice(channels: int) -> Stack:
    """Two convolutions with what follows them."""
    return Stack(
        *(part for _ in range(2) for part in (Convolution(channels, 3), BatchNorm(), relu))
    )


def with_head(network: Stack, head: Layer, sample: Any, *, seed: int = 0) -> Stack:
    """A network of the same trained body and a new head in place of the last layer.

    Parameters
    ----------
    network : Stack
        Initialised, and trained probably; it is left as it is.
    head : Layer
        New.
    sample : array_like
        A batch of inputs.
    seed : int
        Of the head's weights.

    Returns
    -------
    network : Stack
        Initialised; what was frozen is frozen in it too. To train the head alone, freeze
        everything and thaw the last layer.

    Examples
    --------
    >>> trained = vs.networks.residual_network(6, depth=1, width=8).initialise(
    ...     np.ones((1, 16, 16, 3))
    ... )
    >>> fresh = vs.networks.with_head(trained, vs.Dense(4), np.ones((1, 16, 16, 3)))
    >>> _ = fresh.freeze(), fresh.thaw(f"{len(fresh) - 1}/*")
    >>> list(fresh.parameters())
    ['1/weight', '1/bias']
    """
    if not isinstance(network, Stack) or not network.is_initialised:
        raise LayerError("with_head needs a stack that has been initialised.")
    import copy

    body = copy.deepcopy(network[:-1])
    return Stack(*body, head).initialise(sample, seed=seed, dtype=network.dtype, keep_weights=True)


@part("text_scorer", "layer")
class TextScorer(Layer):
    """A bidirectional reader of texts with a few outputs: tokens ``(batch, time)`` to ``(batch,
    outputs)``. Token 0 is padding.

    Parameters
    ----------
    tokens : int
        How many there are.
    outputs : int
    width : int
        Of the embedding and the hidden states.
    dropout : float

    Examples
    --------
    >>> vs.networks.TextScorer(50, 5).initialise(np.array([[3, 4, 0]]))(
    ...     np.array([[3, 4, 0], [7, 8, 9]])
    ... ).shape
    (2, 5)
    """

    def __init__(self, tokens: int, outputs: int, *, width: int = 32, dropout: float = 0.0) -> None:
        self.tokens, self.outputs, self.width, self.dropout = tokens, outputs, width, dropout
        self.embedding = Embedding(tokens, width, padding=0)
        self.reader = LSTM(width, bidirectional=True, output="last")
        self.drop = Dropout(dropout)
        self.head = Dense(outputs)

    def compute(self, ids: Any) -> Any:
        read = self.reader(self.embedding(ids), np.asarray(ids) != 0)
        return self.head(self.drop(read))


@part("language_model", "layer")
class LanguageModel(Layer):
    """A small causal model: tokens ``(batch, time)`` to logits of the next ones ``(batch, time,
    tokens)``.

    Parameters
    ----------
    tokens : int
    width, depth, heads : int
    dropout : float
    tied : bool
        Whether the output weights are those of the embedding, or their own.
    positions : {"rotary", "learned", "sine"}
        How places are told: by turning queries and keys, by a vector for each place up to
        `longest`, or by waves.
    longest : int
        Longest text in tokens, of learned positions.

    Examples
    --------
    >>> model = vs.networks.LanguageModel(20, width=8, depth=1, heads=2).initialise(
    ...     np.array([[1, 2, 3]])
    ... )
    >>> model(np.array([[1, 2, 3]])).shape
    (1, 3, 20)
    >>> vs.generate(model, [1, 2], most=4).tokens
    [4, 1, 4, 1]
    """

    def __init__(
        self,
        tokens: int,
        *,
        width: int = 64,
        depth: int = 2,
        heads: int = 4,
        dropout: float = 0.0,
        tied: bool = False,
        positions: Literal["rotary", "learned", "sine"] = "rotary",
        longest: int = 512,
    ) -> None:
        if positions not in ("rotary", "learned", "sine"):
            raise LayerError(
                'LanguageModel: positions must be "rotary", "learned" or "sine", got '
                f"{positions!r}."
            )
        self.tokens, self.width, self.depth, self.heads, self.dropout = (
            tokens,
            width,
            depth,
            heads,
            dropout,
        )
        self.tied, self.positions, self.longest = tied, positions, longest
        self.embedding = Embedding(tokens, width)
        self.places = Positions(positions, longest=longest) if positions != "rotary" else None
        self.blocks = [
            TransformerBlock(heads, causal=True, rotary=positions == "rotary", dropout=dropout)
            for _ in range(depth)
        ]
        self.norm = LayerNorm()
        self.head = None if tied else Dense(tokens)

    @property
    def most_tokens(self) -> int | None:
        """Longest text that there are positions for; None for any."""
        return self.longest if self.positions == "learned" else None

    def compute(
        self, ids: Any, caches: list[dict[str, Any]] | None = None, mask: Any = None
    ) -> Any:
        """
        Parameters
        ----------
        ids : array of int, shape (batch, time)
        caches : list of dict, optional
            What was read before, from `new_caches`; `ids` are then new tokens only.
        mask : array of bool or int, shape (batch, all time so far), optional
            False for places that are never looked at, such as those before a shorter prompt. Whole
            numbers say to which of several texts in a row a place belongs, see
            `vinestep.data.Documents`.
        """
        x = self.embedding(ids)
        if self.places is not None:
            read = caches[0]["key"].shape[1] if caches and caches[0] else 0
            x = self.places(x, places=places_of(mask, x.shape[1], read))
        for i, block in enumerate(self.blocks):
            x = block(x, mask, caches[i] if caches is not None else None)
        x = self.norm(x)
        return self.embedding.logits(x) if self.head is None else self.head(x)

    def new_caches(self) -> list[dict[str, Any]]:
        """Empty caches, one for each block, for texts that are written token by token."""
        return [{} for _ in self.blocks]


def picture_reader(width: int = 64, *, channels: Sequence[int] = (16, 32, 64)) -> Stack:
    """Pictures of lines of text to a sequence of columns, for an `EncoderDecoder`: ``(batch,
    height, width, channels)`` to ``(batch, time, features)``. Each convolution but the first two is
    followed by pooling of heights only, so that columns stay apart.

    Examples
    --------
    >>> vs.networks.picture_reader(24).initialise(np.ones((1, 32, 124, 1)))(
    ...     np.ones((2, 32, 124, 1))
    ... ).shape
    (2, 31, 24)
    """
    layers: list[Any] = []
    for i, n in enumerate(channels):
        layers += [Convolution(n, 3), BatchNorm(), relu, MaxPool(2 if i < 2 else (2, 1))]
    return Stack(*layers, Columns(), Dense(width))


@part("encoder_decoder", "layer")
class EncoderDecoder(Layer):
    """Reads a sequence of tokens, or a picture, and writes another sequence: logits of the next
    written token for each place.

    Called as ``network(source, target)`` with tokens of shape ``(batch, time)``; token 0 is
    padding. Vaswani et al. 2017, figure 1.

    Parameters
    ----------
    source_tokens : int, optional
        None with a reader.
    target_tokens : int
    width, depth, heads : int
    dropout : float
    tied : bool
        Whether the output weights are those of the embedding of what is written, or their own.
    reader : Layer, optional
        From a source that is no text to a sequence ``(batch, time, width)``, such as
        `picture_reader`.

    Examples
    --------
    >>> ids = np.array([[1, 2, 3]])
    >>> vs.networks.EncoderDecoder(9, 7, width=8, depth=1, heads=2).initialise((ids, ids))(
    ...     ids, ids
    ... ).shape
    (1, 3, 7)
    """

    def __init__(
        self,
        source_tokens: int | None,
        target_tokens: int,
        *,
        width: int = 64,
        depth: int = 2,
        heads: int = 4,
        dropout: float = 0.0,
        tied: bool = False,
        reader: Layer | None = None,
    ) -> None:
        if (source_tokens is None) == (reader is None):
            raise LayerError(
                "EncoderDecoder: give the number of tokens that are read, or a reader for what is "
                "no text: one of the two."
            )
        self.source_tokens, self.target_tokens = source_tokens, target_tokens
        self.width, self.depth, self.heads, self.dropout, self.tied = (
            width,
            depth,
            heads,
            dropout,
            tied,
        )
        self.reader = reader
        self.reading = (
            Embedding(source_tokens, width, padding=0) if source_tokens is not None else None
        )
        self.writing = Embedding(target_tokens, width)
        self.places = Positions()
        self.encoder = [TransformerBlock(heads, dropout=dropout) for _ in range(depth)]
        self.decoder = [DecoderBlock(heads, dropout=dropout) for _ in range(depth)]
        self.norms = [LayerNorm(), LayerNorm()]
        self.head = None if tied else Dense(target_tokens)

    @property
    def tokens(self) -> int:
        """How many there are to be written."""
        return self.target_tokens

    def compute(self, source: Any, target: Any) -> Any:
        return self.write(target, *self.read(source))

    def read(self, source: Any) -> tuple[Any, np.ndarray | None]:
        """What the encoder makes of sources, and where there is something to be looked at; None for
        everywhere.
        """
        if self.reading is not None:
            present: np.ndarray | None = np.asarray(held(source)) != 0
            read = self.reading(source)
        else:
            assert self.reader is not None
            present, read = None, self.reader(source)
        read = self.places(read)
        for encode in self.encoder:
            read = encode(read, present)
        return self.norms[0](read), present

    def write(
        self,
        target: Any,
        read: Any,
        present: np.ndarray | None = None,
        caches: list[dict[str, Any]] | None = None,
        mask: Any = None,
    ) -> Any:
        """Logits of the tokens that follow.

        Parameters
        ----------
        target : array of int, shape (batch, time)
        read, present
            As `read` returned them.
        caches : list of dict, optional
            From `new_caches`; `target` is then new tokens only.
        mask : array, optional
            See `LanguageModel.compute`.
        """
        before = caches[0]["own"]["key"].shape[1] if caches and caches[0]["own"] else 0
        written = self.writing(target)
        written = self.places(written, places=places_of(mask, written.shape[1], before))
        for i, decode in enumerate(self.decoder):
            written = decode(written, read, mask, present, None if caches is None else caches[i])
        written = self.norms[1](written)
        return self.writing.logits(written) if self.head is None else self.head(written)

    def new_caches(self) -> list[dict[str, Any]]:
        """Empty caches, one for each block of the decoder."""
        return [{"own": {}, "across": {}} for _ in self.decoder]


__getattr__, __dir__ = own_names(__name__, __all__)
