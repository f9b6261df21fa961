"""Compiled inner loops: arrays in, arrays out.

Numba is imported, and a kernel compiled, when the kernel is first called; compiled code is cached on disk. Each loop
is serial over its range. Nothing here knows of tensors, layers or files.
"""

from __future__ import annotations

from importlib import import_module
from typing import Any

__all__ = ["Kernels", "activations", "adam", "convolution", "dense", "embedding", "losses", "normalisation", "pooling", "recurrent", "sgd"]


class Kernels:
    """The functions of a kernel module, loaded at first use."""

    def __init__(self, module: str) -> None:
        self._module = module

    def __getattr__(self, name: str) -> Any:
        function = getattr(import_module(self._module), name)
        setattr(self, name, function)
        return function


activations = Kernels("vinestep.kernels.activation_loops")
dense = Kernels("vinestep.kernels.dense_loops")
losses = Kernels("vinestep.kernels.loss_loops")
adam = Kernels("vinestep.kernels.adam_loops")
sgd = Kernels("vinestep.kernels.sgd_loops")
convolution = Kernels("vinestep.kernels.convolution_loops")
pooling = Kernels("vinestep.kernels.pooling_loops")
normalisation = Kernels("vinestep.kernels.normalisation_loops")
embedding = Kernels("vinestep.kernels.embedding_loops")
recurrent = Kernels("vinestep.kernels.recurrent_loops")
