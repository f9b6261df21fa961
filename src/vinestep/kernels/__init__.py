"""Compiled inner loops: arrays in, arrays out.

Numba is imported, and a loop compiled, when the loop is first called; compiled code is cached on
disk. A loop is serial over what it is given, or distributes parts of it among the threads of a
pool. Nothing here knows of tensors, layers or files. The loops are in `loops`, how they are
compiled and run in `machinery`.
"""

from __future__ import annotations

from .machinery.availability import (
    SWITCH,
    Unsound,
    give_up,
    usable,
)
from .machinery.lazy_loading import Kernels

__all__ = [
    "SWITCH",
    "Kernels",
    "Unsound",
    "activations",
    "adam",
    "adaptive_updates",
    "attention",
    "block_codes",
    "convolution",
    "dense",
    "dense_chain",
    "dense_step",
    "dropout",
    "embedding",
    "give_up",
    "implicit_gemm",
    "losses",
    "normalisation",
    "recurrent",
    "reductions",
    "sgd",
    "small_dense_chain",
    "usable",
]

activations = Kernels("vinestep.kernels.loops.activations")
adam = Kernels("vinestep.kernels.loops.adam")
attention = Kernels("vinestep.kernels.loops.attention")
dense_chain = Kernels("vinestep.kernels.loops.dense_chain")
block_codes = Kernels("vinestep.kernels.loops.block_codes")
convolution = Kernels("vinestep.kernels.loops.convolution")
dense = Kernels("vinestep.kernels.loops.dense")
dense_step = Kernels("vinestep.kernels.loops.dense_step")
dropout = Kernels("vinestep.kernels.loops.dropout")
embedding = Kernels("vinestep.kernels.loops.embedding")
implicit_gemm = Kernels("vinestep.kernels.loops.implicit_gemm")
losses = Kernels("vinestep.kernels.loops.losses")
normalisation = Kernels("vinestep.kernels.loops.normalisation")
recurrent = Kernels("vinestep.kernels.loops.recurrent")
sgd = Kernels("vinestep.kernels.loops.sgd")
small_dense_chain = Kernels("vinestep.kernels.loops.small_dense_chain")
reductions = Kernels("vinestep.kernels.loops.reductions")
adaptive_updates = Kernels("vinestep.kernels.loops.adaptive_updates")
