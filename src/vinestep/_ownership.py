"""Who owns what changes while training: an optimiser serves one training, a layer's weights belong
to one network.
"""

from __future__ import annotations

import weakref
from typing import Any

from .errors import SettingError

__all__ = ["Owned", "Ownership"]


class Owned:
    """What keeps numbers of one training, such as an optimiser."""

    _owner: weakref.ref[Any] | None = None

    def belong_to(self, owner: object) -> None:
        """Serve this training, and no other.

        Raises
        ------
        SettingError
            If it serves another already: their states would mix.
        """
        if self._owner is not None and self._owner() is not owner:
            kind = type(self).__name__
            raise SettingError(
                f"This {kind} belongs to another training already, and their states would mix. "
                f"Make another: {self!r}, or hand over a copy of its state: copy.deepcopy()."
            )
        self._owner = weakref.ref(owner)

    def __getstate__(self) -> dict[str, Any]:
        return vars(self) | {"_owner": None}


class Ownership:
    """Shared by all layers that were initialised together. A copy of some of them, without the
    network that they were initialised with, belongs to nobody.
    """

    def __init__(self) -> None:
        self.in_use = True

    def __getstate__(self) -> dict[str, Any]:
        return {"in_use": False}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.in_use = state["in_use"]
