"""Compiled inner loops: arrays in, arrays out.

Numba is imported, and a kernel compiled, when the kernel is first called; compiled code is cached on disk. A loop is serial over
what it is given, or hands parts to threads that `parallel` keeps ready. Nothing here knows of tensors, layers or files.
"""

from __future__ import annotations

import logging
from importlib import import_module
from pathlib import Path
from typing import Any

__all__ = [
    "Kernels",
    "activations",
    "adam",
    "attention",
    "chain",
    "convolution",
    "dense",
    "embedding",
    "gathered",
    "losses",
    "normalisation",
    "recurrent",
    "sgd",
    "sharing",
    "sums",
]


log = logging.getLogger("vinestep")


class Kernels:
    """The functions of a kernel module, loaded at first use. The first that has to be compiled on this machine says so, once."""

    _told = False

    def __init__(self, module: str) -> None:
        self._module = module

    def __getattr__(self, name: str) -> Any:
        function = getattr(import_module(self._module), name)
        if not Kernels._told and not _is_compiled(function):
            Kernels._told = True
            log.warning("Compiling kernels for this machine; this happens once and takes some seconds.")
        setattr(self, name, function)
        return function


def _is_compiled(function: Any) -> bool:
    """Whether any form of a kernel lies in the cache on disk."""
    folder = Path(function.stats.cache_path)
    return any(folder.glob(f"{function.__module__.rpartition('.')[2]}.{function.__name__}-*.nbi"))


activations = Kernels("vinestep.kernels.activation_loops")
dense = Kernels("vinestep.kernels.dense_loops")
losses = Kernels("vinestep.kernels.loss_loops")
adam = Kernels("vinestep.kernels.adam_loops")
attention = Kernels("vinestep.kernels.attention_loops")
chain = Kernels("vinestep.kernels.chain_loops")
sgd = Kernels("vinestep.kernels.sgd_loops")
convolution = Kernels("vinestep.kernels.convolution_loops")
gathered = Kernels("vinestep.kernels.gathered_loops")
normalisation = Kernels("vinestep.kernels.normalisation_loops")
embedding = Kernels("vinestep.kernels.embedding_loops")
recurrent = Kernels("vinestep.kernels.recurrent_loops")
sharing = Kernels("vinestep.kernels.sharing_loops")
sums = Kernels("vinestep.kernels.sum_loops")
