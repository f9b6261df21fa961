"""Low-rank adapters: a trained network is held still, and a small product beside chosen weights learns."""

from __future__ import annotations

import copy
import hashlib
import math
import os
from collections.abc import Iterator, Mapping
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import numpy as np

from .. import archive
from ..autodiff.tensor import Tensor
from ..errors import LayerError, ModelError, did_you_mean
from .arena import Arena
from .base import Layer
from .dense import Dense, dense
from .dropout import Dropout
from .embedding import Embedding, lookup

__all__ = ["AdaptedDense", "AdaptedEmbedding", "Adapters", "adapted", "merged"]

DOWN, UP = "down", "up"


class _Adapted:
    """What adapted layers have in common: ``down``, ``up`` and what their product is multiplied by."""

    down: Any
    up: Any
    factor: float
    drop: Dropout

    def _adapt(self, of: Layer, rank: int, scale: float, dropout: float, seed: int) -> None:
        vars(self).update(vars(of))
        weight = of._own_parameters()["weight"]._array
        n_in, n_out = weight.shape
        if rank > min(n_in, n_out):
            raise LayerError(f"{of._label}: a rank of {rank} is more than its weight of shape ({n_in}, {n_out}) has.")
        self.rank, self.scale, self.factor, self.drop = rank, scale, scale / rank, Dropout(dropout)
        self.drop._declared, self.drop._computes_in = True, weight.dtype  # it is made after the network was initialised
        rng = np.random.default_rng([seed, *of.path.encode()])
        first = rng.normal(0, 1 / math.sqrt(n_in), (n_in, rank)).astype(weight.dtype)
        parameters = dict(of._own_parameters())
        for name, values in ((DOWN, first), (UP, np.zeros((rank, n_out), weight.dtype))):
            parameters[name] = Tensor(values, name=of._join(name))
            setattr(self, name, parameters[name])
        vars(self)["_parameters"] = parameters

    def change(self) -> np.ndarray:
        """What is added to the weight, in float64."""
        return self.factor * np.asarray(self.down._array, np.float64) @ np.asarray(self.up._array, np.float64)


class AdaptedDense(_Adapted, Dense):
    """A dense layer with a low-rank product beside its weight [1]_: ``x @ weight + bias + (scale / rank) * (x @ down) @ up``.

    Made by `adapted`.

    References
    ----------
    .. [1] E. J. Hu et al., "LoRA: Low-Rank Adaptation of Large Language Models", ICLR 2022, section 4.1.
    """

    part_family = ""

    def compute(self, x: Any, *following: Any) -> Any:  # no stack fuses an activation with it, so that nothing follows
        self.check_input(x)
        beside = np.matmul(np.matmul(self.drop(x), self.down), self.up)
        y = dense(x, self.weight, self.bias) + beside * np.asarray(self.factor, self.weight.dtype)
        return y if self.activation is None else self.activation(y)


class AdaptedEmbedding(_Adapted, Embedding):
    """An embedding with a low-rank product beside its vectors. Made by `adapted`."""

    part_family = ""

    def compute(self, ids: Any) -> Any:
        vectors = super().compute(ids)
        beside = np.matmul(lookup(self.down, np.asarray(ids)), self.up)
        return vectors + self.drop(beside) * np.asarray(self.factor, self.weight.dtype)


KINDS = {Dense: AdaptedDense, Embedding: AdaptedEmbedding}


def adapted(network: Layer, pattern: str = "*", *, rank: int = 8, scale: float | None = None, dropout: float = 0.0, seed: int = 0) -> Layer:
    """A copy of a trained network with low-rank adapters beside chosen weights; only they train.

    At first it computes what the network does: ``up`` begins at 0.

    Parameters
    ----------
    network : Layer
        Initialised; it is left as it is.
    pattern : str
        Of paths of dense and embedding layers, such as ``"blocks/*/attention/query"``.
    rank : int
    scale : float, optional
        What adapters add is multiplied by ``scale / rank``; by default twice the rank.
    dropout : float
        Of the adapters' inputs.
    seed : int
        Of ``down``, by path.

    Raises
    ------
    LayerError
        If no dense or embedding layer matches, or the rank is more than a weight has.

    Examples
    --------
    >>> network = vs.Stack(vs.Dense(8, np.tanh), vs.Dense(3)).initialise(np.ones((1, 5)))
    >>> small = vs.layers.adapted(network, "0", rank=2)
    >>> list(small.parameters()), bool(np.allclose(small(np.ones((1, 5))), network(np.ones((1, 5)))))
    (['0/down', '0/up'], True)
    """
    if isinstance(rank, bool) or not isinstance(rank, int) or rank < 1:
        raise LayerError(f"adapted: rank must be a whole number of at least 1, got {rank!r}.")
    arena = network._ready_arena()
    made = copy.deepcopy(network)
    able = {layer.path: layer for layer in made.walk() if type(layer) in KINDS}
    chosen = {path: layer for path, layer in able.items() if fnmatchcase(path, pattern)}
    if not chosen:
        raise LayerError(f"adapted: no dense or embedding layer matches {pattern!r}. {did_you_mean(pattern, able)}")
    new: dict[int, Layer] = {}
    for layer in chosen.values():
        other: Any = object.__new__(KINDS[type(layer)])
        other._adapt(layer, rank, 2.0 * rank if scale is None else float(scale), dropout, seed)
        new[id(layer)] = other
    made = new.get(id(made), made)
    _replace(made, new)
    made._set_paths()
    tensors = {t.name: t for layer in made.walk() for t in layer._own_parameters().values()}
    made.arena = Arena(tensors, arena.dtype, set(tensors) - _paths(made))
    made._point_to_parameters()
    return made


def _replace(network: Layer, new: Mapping[int, Layer]) -> None:
    """Put layers in the place of others, wherever they are held."""

    def swapped(value: Any) -> Any:
        if isinstance(value, list | tuple) and not hasattr(value, "_fields"):
            return type(value)(swapped(one) for one in value)
        if isinstance(value, dict):
            return {key: swapped(one) for key, one in value.items()}
        return new.get(id(value), value)

    for layer in [*network.walk(), *new.values()]:
        for name, value in vars(layer).items():
            if not name.startswith("_") and name != "arena":
                vars(layer)[name] = swapped(value)


def _adapted_layers(network: Layer) -> Iterator[Any]:
    return (layer for layer in network.walk() if isinstance(layer, _Adapted))


def _own(network: Layer) -> dict[str, np.ndarray]:
    """The arrays of the adapters, by path."""
    own = _paths(network)
    return {path: array for path, array in network._ready_arena().arrays().items() if path in own}


def _paths(network: Layer) -> set[str]:
    return {layer._join(name) for layer in _adapted_layers(network) for name in (DOWN, UP)}


def _fingerprint(network: Layer) -> str:
    """Of the weights that adapters stand beside."""
    digest, own = hashlib.sha256(), _paths(network)
    for path, array in sorted(network._ready_arena().arrays().items()):
        if path not in own:
            digest.update(f"{path} {array.shape} {array.dtype.str}".encode() + np.ascontiguousarray(array).tobytes())
    return digest.hexdigest()


def merged(network: Layer) -> Layer:
    """A plain network that computes what one with adapters does: what they add is in its weights.

    Examples
    --------
    >>> network = vs.Stack(vs.Dense(8, np.tanh), vs.Dense(3)).initialise(np.ones((1, 5)))
    >>> small = vs.layers.adapted(network, "*", rank=2)
    >>> list(vs.layers.merged(small).parameters()) == list(network.parameters())
    True
    """
    made = copy.deepcopy(network)
    new: dict[int, Layer] = {}
    for layer in list(_adapted_layers(made)):
        plain = Dense if isinstance(layer, AdaptedDense) else Embedding
        other: Any = object.__new__(plain)
        vars(other).update(
            {name: value for name, value in vars(layer).items() if name not in (DOWN, UP, "rank", "scale", "factor", "drop")}
        )
        vars(other)["_parameters"] = {name: t for name, t in layer._own_parameters().items() if name not in (DOWN, UP)}
        weight = vars(other)["_parameters"]["weight"]._array
        weight[...] = weight.astype(np.float64) + layer.change()
        new[id(layer)] = other
    arena = network._ready_arena()
    made = new.get(id(made), made)
    _replace(made, new)
    made._set_paths()
    made.arena = Arena({t.name: t for layer in made.walk() for t in layer._own_parameters().values()}, arena.dtype)
    made._point_to_parameters()
    return made


class Adapters:
    """Several adapters for one base, by name: one at a time is in use, or none.

    Parameters
    ----------
    network : Layer
        As `adapted` made it.

    Examples
    --------
    >>> network = vs.Stack(vs.Dense(3)).initialise(np.ones((1, 5)))
    >>> shelf = vs.layers.Adapters(vs.layers.adapted(network, rank=2))
    >>> shelf.keep("plain"), shelf.names
    (None, ['plain'])
    """

    def __init__(self, network: Layer) -> None:
        if not any(True for _ in _adapted_layers(network)):
            raise LayerError("Adapters: the network has none. Make it by vinestep.layers.adapted(network, rank=8).")
        self.network = network
        self._kept: dict[str, dict[str, np.ndarray]] = {}

    @property
    def names(self) -> list[str]:
        return sorted(self._kept)

    def keep(self, name: str) -> None:
        """Keep what the adapters are now under a name."""
        self._kept[name] = {path: array.copy() for path, array in _own(self.network).items()}

    def use(self, name: str | None) -> None:
        """Compute with the adapter of a name; with None as the base alone.

        Raises
        ------
        LayerError
            If nothing was kept under that name.
        """
        if name is None:
            self.network.load({path: np.zeros_like(array) for path, array in _own(self.network).items() if path.endswith(UP)}, partial=True)
            return
        if name not in self._kept:
            raise LayerError(f"There is no adapter {name!r}. {did_you_mean(name, self.names)}")
        self.network.load(self._kept[name], partial=True)

    def save(self, path: str | os.PathLike[str], *, name: str = "") -> Path:
        """Write the adapters alone as a file: those in use, or those of a name."""
        if name and name not in self._kept:
            raise LayerError(f"There is no adapter {name!r}. {did_you_mean(name, self.names)}")
        layers = {layer.path: {"rank": layer.rank, "scale": layer.scale} for layer in _adapted_layers(self.network)}
        about = {"adapters": layers, "base": _fingerprint(self.network), "name": name}
        return archive.write(path, self._kept[name] if name else _own(self.network), about)

    def open(self, path: str | os.PathLike[str], name: str) -> None:
        """Read adapters from a file, keep them under a name, and use them.

        Raises
        ------
        ModelError
            If they belong to another base, or stand beside other weights.
        ArchiveError
            If the file was changed.
        """
        found = archive.read(path)
        mine = _fingerprint(self.network)
        if found.meta.get("base") != mine:
            theirs = str(found.meta.get("base", "none"))[:12]
            raise ModelError(f"{path}: these adapters belong to the base {theirs}, and this network is the base {mine[:12]}.")
        known = {layer.path: {"rank": layer.rank, "scale": layer.scale} for layer in _adapted_layers(self.network)}
        if found.meta.get("adapters") != known:
            raise ModelError(
                f"{path}: these adapters stand beside {', '.join(found.meta.get('adapters', {}))[:200]}, those of the network beside "
                f"{', '.join(known)[:200]}, or ranks and scales differ. Make them by adapted() as they were."
            )
        self._kept[name] = dict(found.arrays)
        self.use(name)
