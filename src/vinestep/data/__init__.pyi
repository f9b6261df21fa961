from . import pictures as pictures, sequences as sequences
from .batches._batch import Batch as Batch
from .batches._batches import Batches as Batches
from .batches._joins import Padded as Padded
from .batches._orders import (
    Balanced as Balanced,
    ByLength as ByLength,
    InOrder as InOrder,
    OwnOrder as OwnOrder,
    ShardOrder as ShardOrder,
    Shuffled as Shuffled,
    Weighted as Weighted,
    shuffle_quality as shuffle_quality,
)
from .batches._streams import IterableBatches as IterableBatches, Stream as Stream
from .batches._transforms import Chain as Chain, Transform as Transform
from .checks._learning_curve import learning_curve as learning_curve
from .checks._summary import Peek as Peek, peek as peek
from .encoding._labels import class_numbers_of as class_numbers_of, one_hot as one_hot
from .encoding._templates import Template as Template
from .encoding._text_form import TextForm as TextForm
from .encoding._tokens import (
    BytePairTokeniser as BytePairTokeniser,
    ByteTokeniser as ByteTokeniser,
    CharacterTokeniser as CharacterTokeniser,
    TokenBatch as TokenBatch,
    Tokeniser as Tokeniser,
    WordTokeniser as WordTokeniser,
    open_tokeniser as open_tokeniser,
)
from .pictures._picture_shards import picture_shards as picture_shards
from .pictures._pictures import (
    PictureFolder as PictureFolder,
    Pictures as Pictures,
    picture_table as picture_table,
)
from .sources._as_source import as_source as as_source
from .sources._dataset import Dataset as Dataset
from .sources._files import arrays as arrays
from .sources._shards import Shards as Shards, shards as shards
from .sources._source import Examples as Examples, Source as Source
from .tabular._table import Table as Table, scaled as scaled
from .text._text_files import TextFiles as TextFiles
from .text._texts import (
    Documents as Documents,
    PairBatch as PairBatch,
    Pairs as Pairs,
    Requests as Requests,
    documents_in as documents_in,
    pairs_in as pairs_in,
    requests_in as requests_in,
)
from .text._tokeniser_training import (
    byte_pairs_of as byte_pairs_of,
    characters_of as characters_of,
    words_of as words_of,
)
