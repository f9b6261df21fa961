"""Data: sources, splits, minibatches, transforms, text."""

from typing import TYPE_CHECKING

from ..errors import names_of
from .batch import Batch
from .dataset import Dataset
from .joining import Padded
from .loading import Batches
from .orders import Balanced, ByLength, InOrder, OwnOrder, Shuffled, Weighted
from .source import Examples, Source, as_source
from .streams import Stream
from .transforms import Chain, Transform

if TYPE_CHECKING:
    from . import pictures, sequences
    from .amount import learning_curve
    from .files import PictureFolder, Pictures, TextFiles, arrays, picture_table
    from .labels import class_numbers_of, one_hot
    from .peeking import Peek, peek
    from .table import Table, scaled
    from .templates import Template
    from .texts import Documents, PairBatch, Pairs, Requests, TextForm, documents_in, pairs_in, requests_in
    from .tokens import (
        BytePairTokeniser,
        ByteTokeniser,
        CharacterTokeniser,
        TokenBatch,
        Tokeniser,
        WordTokeniser,
        open_tokeniser,
    )

__all__ = [
    "Balanced",
    "Batch",
    "Batches",
    "ByLength",
    "BytePairTokeniser",
    "ByteTokeniser",
    "Chain",
    "CharacterTokeniser",
    "Dataset",
    "Documents",
    "Examples",
    "InOrder",
    "OwnOrder",
    "Padded",
    "PairBatch",
    "Pairs",
    "Peek",
    "PictureFolder",
    "Pictures",
    "Requests",
    "Shuffled",
    "Source",
    "Stream",
    "Table",
    "Template",
    "TextFiles",
    "TextForm",
    "TokenBatch",
    "Tokeniser",
    "Transform",
    "Weighted",
    "WordTokeniser",
    "arrays",
    "as_source",
    "class_numbers_of",
    "documents_in",
    "learning_curve",
    "one_hot",
    "open_tokeniser",
    "pairs_in",
    "peek",
    "picture_table",
    "pictures",
    "requests_in",
    "scaled",
    "sequences",
]

_IN = {
    ".table": ("Table", "scaled"),
    ".templates": ("Template",),
    ".texts": ("Documents", "PairBatch", "Pairs", "Requests", "TextForm", "documents_in", "pairs_in", "requests_in"),
    ".pictures": ("pictures",),
    ".sequences": ("sequences",),
    ".files": ("PictureFolder", "Pictures", "TextFiles", "arrays", "picture_table"),
    ".labels": ("class_numbers_of", "one_hot"),
    ".peeking": ("Peek", "peek"),
    ".amount": ("learning_curve",),
    ".tokens": (
        "BytePairTokeniser",
        "ByteTokeniser",
        "CharacterTokeniser",
        "TokenBatch",
        "Tokeniser",
        "WordTokeniser",
        "open_tokeniser",
    ),
}
__getattr__ = names_of(__name__, __all__, {name: module for module, names in _IN.items() for name in names})


def __dir__() -> list[str]:
    return sorted(__all__)
