"""What ranks share of a step besides its examples."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, Literal

from ..errors import SettingError

__all__ = ["Ranks"]


@dataclass(frozen=True)
class Ranks:
    """How ranks that train together share what is not examples. In one process it has no effect.

    Parameters
    ----------
    gradient_dtype : {"float16"}, optional
        In what gradients travel; by default in their own precision. As float16, each piece with a
        scale of its own, they are half as many bytes. What rounding leaves away is kept and goes
        into the sum of the next step [1]_.
    partition_optimiser : bool
        Each rank keeps the optimiser's state of its part of the parameters only, updates that part,
        and gets the others from the other ranks [2]_. Equal to a whole state on each rank.

    References
    ----------
    .. [1] F. Seide et al., "1-Bit Stochastic Gradient Descent and its Application to Data-Parallel
       Distributed Training of Speech DNNs", Interspeech 2014, section 3 (error feedback).
    .. [2] S. Rajbhandari et al., "ZeRO: Memory Optimizations Toward Training Trillion Parameter
       Models", SC 2020, section 5.1.

    Examples
    --------
    >>> ranks = vs.distributed.Ranks(gradient_dtype="float16", partition_optimiser=True)
    >>> training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error, ranks=ranks)
    >>> training.ranks.settings()
    {'gradient_dtype': 'float16', 'partition_optimiser': True}
    """

    gradient_dtype: Literal["float16"] | None = None
    partition_optimiser: bool = False

    def __post_init__(self) -> None:
        if self.gradient_dtype not in (None, "float16"):
            raise SettingError(
                f'Ranks: gradient_dtype must be "float16" or None, got {self.gradient_dtype!r}.'
            )
        if not isinstance(self.partition_optimiser, bool):
            raise SettingError(
                f"Ranks: partition_optimiser must be True or False, got "
                f"{self.partition_optimiser!r}."
            )

    def settings(self) -> dict[str, Any]:
        return asdict(self)
