"""Networks with several outputs by name."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ..errors import LayerError
from ..parts._registry import part
from ._base import Layer, LayerLike, call_layer

__all__ = ["Heads"]


@part("heads", "layer")
class Heads(Layer):
    """One body with several heads, each of which puts out one array by its name; for
    `tasks.Several`.

    Parameters
    ----------
    body : layer or callable
        Computed once.
    heads : mapping of name to layer or callable
        Each takes what the body puts out.

    Examples
    --------
    >>> network = Heads(Dense(8, vs.relu), {"state": Dense(3), "sugar": Dense(1)})
    >>> outputs = network.initialise(np.ones((1, 4)))(np.ones((5, 4), np.float32))
    >>> {name: array.shape for name, array in outputs.items()}
    {'state': (5, 3), 'sugar': (5, 1)}
    """

    def __init__(self, body: LayerLike, heads: Mapping[str, LayerLike]) -> None:
        self.body, self.heads = body, dict(heads)
        if not callable(body):
            raise LayerError(f"Heads: the body is a {type(body).__name__}, no layer or function.")
        for name, head in self.heads.items():
            if not isinstance(name, str) or not name or "/" in name or not callable(head):
                raise LayerError(
                    f"Heads: {name!r} is a {type(head).__name__}. Give layers by name, such as "
                    '{"state": vinestep.Dense(3)}.'
                )
        if not self.heads:
            raise LayerError("Heads: there are none.")

    def compute(self, x: Any, mask: Any = None) -> dict[str, Any]:
        """
        Parameters
        ----------
        x : array
        mask : array of bool, shape (batch, time), optional
            Which places of sequences hold a value, for the body.
        """
        features = (
            call_layer(self.body, x, self._join("body"))
            if mask is None
            else self.body(x, mask=mask)
        )
        return {
            name: call_layer(head, features, self._join(f"heads/{name}"))
            for name, head in self.heads.items()
        }
