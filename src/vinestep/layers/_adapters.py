"""Low-rank adapters: a trained network is held still, and a small product beside chosen weights
learns.
"""

from __future__ import annotations

import copy
import hashlib
import math
import os
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import numpy as np

from .._arguments import checked_seed
from .._public_names import did_you_mean
from ..autodiff.tensor import Tensor
from ..errors import LayerError, ModelError
from ..parts._registry import described_as
from ..storage import archive
from ._base import Layer
from ._convolution import Convolution, convolution
from ._dense import Dense, SeparateDense
from ._dropout import Dropout
from ._embedding import Embedding, lookup
from ._quantised import QuantisedDense, QuantisedEmbedding
from ._replace_layers import Patterns, chosen_layers, replace_layers

__all__ = [
    "AdaptedConvolution",
    "AdaptedDense",
    "AdaptedEmbedding",
    "AdaptedQuantisedDense",
    "AdaptedQuantisedEmbedding",
    "Adapters",
    "adapted",
    "adapters_of",
    "merged",
    "taken_out",
    "with_adapters",
]

DOWN, UP = "down", "up"
OWN = (DOWN, UP, "rank", "scale", "factor", "drop")


class _Adapted:
    """What adapted layers have in common: ``down``, ``up`` and what their product is multiplied
    by.
    """

    down: Any
    up: Any
    rank: int
    scale: float
    factor: float
    drop: Dropout

    def stand_beside(self, of: Layer, rank: int, scale: float, dropout: float, seed: int) -> None:
        """Take the place of a layer, with an adapter beside its weight."""
        vars(self).update(vars(of))
        dtype = of._computes_in
        assert dtype is not None
        n_in, down, up = self._shapes(rank)
        self.rank, self.scale, self.factor, self.drop = rank, scale, scale / rank, Dropout(dropout)
        self.drop._declared, self.drop._computes_in = (
            True,
            dtype,
        )  # it is made after the network was initialised
        rng = np.random.default_rng([checked_seed(seed, "adapted"), *of.path.encode()])
        first = rng.normal(0, 1 / math.sqrt(n_in), down).astype(dtype)
        parameters = dict(of._own_parameters())
        for name, values in ((DOWN, first), (UP, np.zeros(up, dtype))):
            parameters[name] = Tensor(values, name=of._join(name))
            setattr(self, name, parameters[name])
        vars(self)["_parameters"] = parameters

    def _shapes(self, rank: int) -> tuple[int, tuple[int, ...], tuple[int, ...]]:
        """How many values go into a sum of ``down``, and the shapes of ``down`` and ``up``."""
        raise NotImplementedError

    def _check_rank(self, rank: int, n_in: int, n_out: int) -> None:
        if rank > min(n_in, n_out):
            label = self._label  # type: ignore[attr-defined]
            raise LayerError(
                f"{label}: a rank of {rank} is more than its weight of shape ({n_in}, {n_out}) has."
            )

    def _beside(self, x: Any) -> Any:
        """What the adapter adds to the layer's result."""
        return np.matmul(np.matmul(self.drop(x), self.down), self.up) * np.asarray(
            self.factor, x.dtype
        )

    def change(self) -> np.ndarray:
        """What is added to the weight, in float64."""
        return (
            self.factor
            * np.asarray(self.down._array, np.float64)
            @ np.asarray(self.up._array, np.float64)
        )


class _BesideDense(_Adapted):
    def _shapes(self, rank: int) -> tuple[int, tuple[int, ...], tuple[int, ...]]:
        n_in, n_out = self.weight_shape  # type: ignore[attr-defined]
        self._check_rank(rank, n_in, n_out)
        return n_in, (n_in, rank), (rank, n_out)

    def affine(self, x: Any) -> Any:
        return super().affine(x) + self._beside(x)  # type: ignore[misc]


@described_as(Dense)
class AdaptedDense(_BesideDense, SeparateDense):
    """A dense layer with a low-rank product beside its weight [1]_: ``x @ weight + bias + (scale /
    rank) * (x @ down) @ up``.

    Made by `adapted`.

    References
    ----------
    .. [1] E. J. Hu et al., "LoRA: Low-Rank Adaptation of Large Language Models", ICLR 2022, section
       4.1.
    """


@described_as(Dense)
class AdaptedQuantisedDense(_BesideDense, QuantisedDense):
    """A dense layer of which the weight is held in codes, with a low-rank product beside it. Made
    by `adapted`.
    """


class _BesideEmbedding(_Adapted):
    count: int
    width: int

    def _shapes(self, rank: int) -> tuple[int, tuple[int, ...], tuple[int, ...]]:
        self._check_rank(rank, self.count, self.width)
        return self.count, (self.count, rank), (rank, self.width)

    def vectors(self, ids: np.ndarray) -> Any:
        beside = np.matmul(lookup(self.down, ids), self.up) * np.asarray(
            self.factor, self.down.dtype
        )
        return super().vectors(ids) + self.drop(beside)  # type: ignore[misc]

    def logits(self, x: Any) -> Any:
        beside = np.matmul(
            np.matmul(self.drop(x), np.swapaxes(self.up, 0, 1)), np.swapaxes(self.down, 0, 1)
        )
        return super().logits(x) + beside * np.asarray(self.factor, x.dtype)  # type: ignore[misc]


@described_as(Embedding)
class AdaptedEmbedding(_BesideEmbedding, Embedding):
    """An embedding with a low-rank product beside its vectors. Made by `adapted`."""


@described_as(Embedding)
class AdaptedQuantisedEmbedding(_BesideEmbedding, QuantisedEmbedding):
    """An embedding of which the vectors are held in codes, with a low-rank product beside them.
    Made by `adapted`.
    """


@described_as(Convolution)
class AdaptedConvolution(_Adapted, Convolution):
    """A convolution with another one of few channels beside it, and a product of each place. Made
    by `adapted`.

    ``down`` has the window of the layer and `rank` channels for each group, ``up`` turns these into
    what is added.
    """

    def _shapes(self, rank: int) -> tuple[int, tuple[int, ...], tuple[int, ...]]:
        window, n_in = self.weight.shape[:-2], int(np.prod(self.weight.shape[:-1]))
        self._check_rank(rank, n_in, self.channels // self.groups)
        return n_in, (*window, self.weight.shape[-2], self.groups * rank), (rank, self.channels)

    def compute(
        self, x: Any, *following: Any
    ) -> Any:  # no stack computes an activation together with it
        plan = self.plan_for(x.shape)
        y = convolution(
            x, self.weight, self.bias, plan=plan, groups=self.groups, activation="none", slope=0.0
        )
        nothing = np.zeros(self.groups * self.rank, x.dtype)
        few = convolution(
            self.drop(x),
            self.down,
            nothing,
            plan=plan,
            groups=self.groups,
            activation="none",
            slope=0.0,
        )
        each = np.reshape(few, (*few.shape[:-1], self.groups, 1, self.rank))
        up = np.swapaxes(
            np.reshape(self.up, (self.rank, self.groups, self.channels // self.groups)), 0, 1
        )
        y = y + np.reshape(np.matmul(each, up), y.shape) * np.asarray(self.factor, x.dtype)
        return y if self.activation is None else self.activation(y)

    def change(self) -> np.ndarray:
        down = np.asarray(self.down._array, np.float64).reshape(-1, self.groups, self.rank)
        up = np.asarray(self.up._array, np.float64).reshape(self.rank, self.groups, -1)
        return np.asarray(
            self.factor * np.einsum("kgr,rgo->kgo", down, up).reshape(self.weight.shape)
        )


KINDS: dict[type[Layer], type] = {
    Dense: AdaptedDense,
    QuantisedDense: AdaptedQuantisedDense,
    Embedding: AdaptedEmbedding,
    QuantisedEmbedding: AdaptedQuantisedEmbedding,
    Convolution: AdaptedConvolution,
}
PLAIN: dict[type, type[Layer]] = {
    AdaptedDense: Dense,
    AdaptedQuantisedDense: Dense,
    AdaptedEmbedding: Embedding,
    AdaptedQuantisedEmbedding: Embedding,
    AdaptedConvolution: Convolution,
}


def adapted(
    network: Layer,
    patterns: Patterns = "*",
    *,
    rank: int = 8,
    scale: float | None = None,
    dropout: float = 0.0,
    seed: int = 0,
) -> Layer:
    """A copy of a trained network with low-rank adapters beside chosen weights; only they train.

    At first it computes what the network does: ``up`` begins at 0.

    Parameters
    ----------
    network : Layer
        Initialised; it is left as it is. Its weights may be held in codes, see `quantised`.
    patterns : str or sequence of str
        Of paths of dense, embedding and convolution layers, such as ``"blocks/*/attention/query"``.
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
        If a pattern matches no such layer, or the rank is more than a weight has.

    Examples
    --------
    >>> network = vs.Stack(vs.Dense(8, np.tanh), vs.Dense(3)).initialise(np.ones((1, 5)))
    >>> small = vs.layers.adapted(network, "0", rank=2)
    >>> (
    ...     list(small.parameters()),
    ...     bool(np.allclose(small(np.ones((1, 5))), network(np.ones((1, 5))))),
    ... )
    (['0/down', '0/up'], True)
    """
    if isinstance(rank, bool) or not isinstance(rank, int) or rank < 1:
        raise LayerError(f"adapted: rank must be a whole number of at least 1, got {rank!r}.")
    settings = {
        "rank": rank,
        "scale": 2.0 * rank if scale is None else float(scale),
        "dropout": dropout,
    }
    return with_adapters(
        copy.deepcopy(network),
        dict.fromkeys(chosen_layers(network, patterns, KINDS, "adapted"), settings),
        seed=seed,
    )


def with_adapters(
    network: Layer, settings: Mapping[str, Mapping[str, Any]], *, seed: int = 0
) -> Layer:
    """The network with adapters, by path of the layer as `adapters_of` tells them; it is
    changed.
    """
    new: dict[int, Layer] = {}
    for path, layer in chosen_layers(network, tuple(settings), KINDS, "adapted").items():
        other: Any = object.__new__(KINDS[type(layer)])
        other.stand_beside(layer, **settings[path], seed=seed)
        new[id(layer)] = other
    return replace_layers(network, new, frozen=network._ready_arena().tensors)


def adapters_of(network: Layer) -> dict[str, dict[str, Any]]:
    """Rank, scale and dropout of the adapters, by path of the layer that they stand beside."""
    return {
        layer.path: {"rank": layer.rank, "scale": layer.scale, "dropout": layer.drop.probability}
        for layer in _adapted_layers(network)
    }


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
    for path, array in sorted({**network._ready_arena().arrays(), **network.statistics()}.items()):
        if path not in own:
            digest.update(
                f"{path} {array.shape} {array.dtype.str}".encode()
                + np.ascontiguousarray(array).tobytes()
            )
    return digest.hexdigest()


def merged(network: Layer) -> Layer:
    """A plain network that computes what one with adapters does: what they add is in its weights.

    Weights beside which adapters stand are numbers again if they were held in codes.

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
        other: Any = object.__new__(PLAIN[type(layer)])
        kept = {
            name: value
            for name, value in vars(layer).items()
            if name not in (*OWN, "coded", "_statistics")
        }
        vars(other).update(kept)
        parameters = {
            name: t for name, t in layer._own_parameters().items() if name not in (DOWN, UP)
        }
        if "weight" in parameters:
            weight = parameters["weight"]._array
            weight[...] = weight.astype(np.float64) + layer.change()
        else:
            outputs_last = layer.coded.decoded(np.float64)
            plain = outputs_last.T if isinstance(layer, Embedding) else outputs_last
            parameters = {
                "weight": Tensor(
                    (plain + layer.change()).astype(layer._computes_in), name=layer._join("weight")
                ),
                **parameters,
            }
        vars(other)["_parameters"] = parameters
        new[id(layer)] = other
    return replace_layers(made, new, frozen=())


def taken_out(whole: Layer, network: Layer) -> Layer:
    """A merged network without what adapters added: the base again, but for rounding.

    Parameters
    ----------
    whole : Layer
        As `merged` made it; it is left as it is.
    network : Layer
        With the adapters that were merged.

    Raises
    ------
    LayerError
        If there is no weight for an adapter.

    Examples
    --------
    >>> network = vs.Stack(vs.Dense(3)).initialise(np.ones((1, 5)))
    >>> small = vs.layers.adapted(network, rank=2)
    >>> back = vs.layers.taken_out(vs.layers.merged(small), small)
    >>> bool(np.allclose(back.weights()["0/weight"], network.weights()["0/weight"]))
    True
    """
    made = copy.deepcopy(whole)
    arrays = made.weights()
    changes = {layer._join("weight"): layer.change() for layer in _adapted_layers(network)}
    for path, change in changes.items():
        if path not in arrays or arrays[path].shape != change.shape:
            raise LayerError(
                f"taken_out: the network has no weight {path!r} of shape {change.shape}. "
                f"{did_you_mean(path, arrays)}"
            )
    made.load(
        {path: arrays[path].astype(np.float64) - change for path, change in changes.items()},
        partial=True,
    )
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
            raise LayerError(
                "Adapters: the network has none. Make it by vinestep.layers.adapted(network, "
                "rank=8)."
            )
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
            self.network.load(
                {
                    path: np.zeros_like(array)
                    for path, array in _own(self.network).items()
                    if path.endswith(UP)
                },
                partial=True,
            )
            return
        self.network.load(self._named(name), partial=True)

    def _named(self, name: str) -> dict[str, np.ndarray]:
        if name not in self._kept:
            raise LayerError(f"There is no adapter {name!r}. {did_you_mean(name, self.names)}")
        return self._kept[name]

    def save(self, path: str | os.PathLike[str], *, name: str = "") -> Path:
        """Write the adapters alone as a file: those in use, or those of a name."""
        arrays = self._named(name) if name else _own(self.network)
        return archive.write(
            path,
            arrays,
            {"adapters": self._places(), "base": _fingerprint(self.network), "name": name},
        )

    def _places(self) -> dict[str, dict[str, Any]]:
        """Beside what they stand, and what is told of them in a file."""
        return {
            path: {"rank": one["rank"], "scale": one["scale"]}
            for path, one in adapters_of(self.network).items()
        }

    def open(self, path: str | os.PathLike[str], name: str) -> None:
        """Read adapters from a file, keep them under a name, and use them.

        Raises
        ------
        ModelError
            If they belong to another base, or stand beside other weights.
        ArchiveError
            If the file was changed.
        """
        saved = archive.read(path)
        mine = _fingerprint(self.network)
        if saved.meta.get("base") != mine:
            theirs = str(saved.meta.get("base", "none"))[:12]
            raise ModelError(
                f"{path}: these adapters belong to the base {theirs}, and this network is the "
                f"base {mine[:12]}."
            )
        known = self._places()
        if saved.meta.get("adapters") != known:
            raise ModelError(
                f"{path}: these adapters stand beside "
                f"{', '.join(saved.meta.get('adapters', {}))[:200]}, those of the network beside "
                f"{', '.join(known)[:200]}, or ranks and scales differ. Make them by adapted() as "
                "they were."
            )
        self._kept[name] = dict(saved.arrays)
        self.use(name)
