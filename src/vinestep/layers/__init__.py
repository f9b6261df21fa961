"""Layers: what a network is made of."""

from .base import Layer
from .containers import Concat, Residual, Stack, Sum
from .context import learning
from .convolution import Convolution, TransposedConvolution
from .dense import Dense
from .dropout import Dropout, Noise
from .normalisation import BatchNorm, GroupNorm, LayerNorm, RMSNorm
from .pooling import Flatten, GlobalMax, GlobalMean, MaxPool, MeanPool, Reshape, Upsample

__all__ = [
    "BatchNorm",
    "Concat",
    "Convolution",
    "Dense",
    "Dropout",
    "Flatten",
    "GlobalMax",
    "GlobalMean",
    "GroupNorm",
    "Layer",
    "LayerNorm",
    "MaxPool",
    "MeanPool",
    "Noise",
    "RMSNorm",
    "Reshape",
    "Residual",
    "Stack",
    "Sum",
    "TransposedConvolution",
    "Upsample",
    "learning",
]
