"""Layers: what a network is made of."""

from ..errors import names_of
from .adapters import Adapters, adapted, merged, taken_out
from .attention import Attention, DecoderBlock, TransformerBlock
from .base import Layer
from .codes import code_values
from .containers import Concat, Residual, Stack, Sum
from .context import learning
from .convolution import Convolution, TransposedConvolution
from .dense import Dense
from .dropout import Dropout, Noise
from .embedding import Embedding, Positions
from .loading import load_matching
from .normalisation import BatchNorm, GroupNorm, LayerNorm, RMSNorm
from .parametric import ParametricRelu
from .pooling import Columns, Flatten, GlobalMax, GlobalMean, MaxPool, MeanPool, Reshape, Upsample
from .quantised import quantised
from .recurrent import GRU, LSTM, Recurrent

__all__ = [
    "GRU",
    "LSTM",
    "Adapters",
    "Attention",
    "BatchNorm",
    "Columns",
    "Concat",
    "Convolution",
    "DecoderBlock",
    "Dense",
    "Dropout",
    "Embedding",
    "Flatten",
    "GlobalMax",
    "GlobalMean",
    "GroupNorm",
    "Layer",
    "LayerNorm",
    "MaxPool",
    "MeanPool",
    "Noise",
    "ParametricRelu",
    "Positions",
    "RMSNorm",
    "Recurrent",
    "Reshape",
    "Residual",
    "Stack",
    "Sum",
    "TransformerBlock",
    "TransposedConvolution",
    "Upsample",
    "adapted",
    "code_values",
    "learning",
    "load_matching",
    "merged",
    "quantised",
    "taken_out",
]


__getattr__ = names_of(__name__, __all__)
