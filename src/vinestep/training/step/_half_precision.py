"""Weights and gradients kept in half precision, with a scale that keeps small gradients from
vanishing.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from ..._ownership import Owned
from ...autodiff.gradients import Layout
from ...errors import CheckpointError, NotFiniteError, SettingError
from ...layers._arena import Arena

__all__ = ["HalfPrecision"]

LARGEST = float(np.finfo(np.float16).max)
HIGHEST, LOWEST = 2.0**24, 2.0**-24


class HalfPrecision(Owned):
    """Weights that a network computes with, and their gradients, are float16 numbers; arithmetic is
    float32.

    The optimiser moves a float32 copy of the weights, which is rounded to float16 after each step.
    Gradients are multiplied by `scale` before they are rounded, and divided by it afterwards, so
    that small ones do not become 0; where one would become infinite the scale is halved until none
    does, and after `every` steps without that it is doubled. No step is left out [1]_.

    On a CPU this makes training neither faster nor smaller: NumPy computes in float32, and the copy
    is kept besides. What it gives is a network that loses nothing when it is kept in two bytes a
    weight, as its models and states then are.

    Parameters
    ----------
    scale : float
        To begin with; a power of two, so that scaling itself rounds nothing.
    every : int
        Steps after which the scale is doubled.

    References
    ----------
    .. [1] P. Micikevicius et al., "Mixed Precision Training", ICLR 2018, sections 3.1 and 3.2.

    Examples
    --------
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(
    ...     vs.Dense(1), loss=vs.losses.squared_error, half=vs.HalfPrecision()
    ... )
    >>> outcome = training.run(data.batches(4), epochs=3)
    >>> weight = training.network.weights()["weight"]
    >>> weight.dtype, bool((weight == weight.astype(np.float16)).all())
    (dtype('float32'), True)
    """

    def __init__(self, scale: float = 2.0**15, *, every: int = 2000) -> None:
        if (
            isinstance(scale, bool)
            or not isinstance(scale, int | float)
            or not LOWEST <= scale <= HIGHEST
            or math.frexp(scale)[0] != 0.5
        ):
            raise SettingError(
                f"HalfPrecision: scale must be a power of two from 2**-24 to 2**24, got {scale!r}."
            )
        if isinstance(every, bool) or not isinstance(every, int) or every < 1:
            raise SettingError(
                "HalfPrecision: every must be a whole number of steps of at least 1, got "
                f"{every!r}."
            )
        self.initial_scale, self.every = float(scale), every
        self.scale = self.initial_scale
        self.sound = 0
        """Steps since the scale was changed."""
        self.master: np.ndarray | None = None
        self._layout: Layout | None = None

    def settings(self) -> dict[str, Any]:
        return {"scale": self.initial_scale, "every": self.every}

    def begin(self, arena: Arena) -> None:
        """Round the weights of a network. Of parameters that are followed already the float32
        copies are kept.
        """
        before, known, layout = self._layout, self.master, arena.layout
        if known is not None and before is layout:
            return
        if arena.dtype != np.float32:
            raise SettingError(
                f"HalfPrecision rounds float32 networks, and this one is {arena.dtype}. Use "
                "initialise(dtype='float32')."
            )
        if known is None or before is None:
            self.scale, self.sound = self.initial_scale, 0
        master = arena.values.copy()
        if known is not None and before is not None:
            for slot, former in layout.common(before):
                kept, place = before.view(known, former), layout.view(master, slot)
                with np.errstate(over="ignore"):
                    np.copyto(place, kept, where=kept.astype(np.float16) == place)
        self.master, self._layout = master, layout
        self.round_weights(arena)

    def round_weights(self, arena: Arena) -> None:
        """Let the network compute with the rounded copy."""
        assert self.master is not None
        arena.memory.written()
        with np.errstate(over="ignore"):
            arena.values[...] = self.master.astype(np.float16)

    def follow(self, arena: Arena) -> None:
        """Weights that were set from outside since the last step, such as those of another network,
        count.
        """
        assert self.master is not None
        with np.errstate(over="ignore"):
            differs = self.master.astype(np.float16) != arena.values
        self.master[differs] = arena.values[differs]

    def fits(self) -> bool:
        """Whether no weight is beyond what float16 can hold."""
        assert self.master is not None
        return bool(self.master.size == 0 or np.abs(self.master).max() <= LARGEST)

    def round_gradients(self, flat: np.ndarray, step: int) -> None:
        """Round gradients as they are kept, scaled.

        Raises
        ------
        NotFiniteError
            If no scale makes them fit.
        """
        largest = float(np.abs(flat).max(initial=0.0))
        if not math.isfinite(largest):
            return  # told by what looks at gradients in any precision
        before = self.scale
        while largest * self.scale > LARGEST and self.scale >= LOWEST:
            self.scale /= 2
        if largest * self.scale > LARGEST:
            raise NotFiniteError(
                f"Step {step}: a gradient of size {largest:.3g} does not fit float16 at any "
                "scale. Nothing has been changed."
            )
        factor = flat.dtype.type(self.scale)
        flat *= factor
        flat[...] = flat.astype(np.float16)
        flat /= factor
        self.sound = self.sound + 1 if self.scale == before else 0
        if self.sound >= self.every and self.scale < HIGHEST:
            self.scale, self.sound = self.scale * 2, 0

    def state(self) -> dict[str, Any]:
        return {"scale": self.scale, "sound": self.sound}

    def restore(self, state: dict[str, Any], master: np.ndarray) -> None:
        """Take back what `state` gave, with the float32 weights."""
        scale, sound = state.get("scale"), state.get("sound")
        if (
            not isinstance(scale, int | float)
            or not LOWEST / 2 <= scale <= HIGHEST
            or not isinstance(sound, int)
            or sound < 0
        ):
            raise CheckpointError(f"The state of HalfPrecision is strange: {str(state)[:80]}.")
        assert self.master is not None
        self.scale, self.sound = float(scale), sound
        self.master[...] = master
