from ._adapters import (
    Adapters as Adapters,
    adapted as adapted,
    merged as merged,
    taken_out as taken_out,
)
from ._block_codes import code_values as code_values
from ._conditioned import (
    ConditionedBlock as ConditionedBlock,
    ConditionedDense as ConditionedDense,
    PixelAttention as PixelAttention,
    TimeEmbedding as TimeEmbedding,
)
from ._quantised import quantised as quantised
from ._weight_matching import load_matching as load_matching
