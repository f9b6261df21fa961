"""Settings that a kind has got since something was described."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from ._describe import settings_of
from ._registry import library

__all__ = ["without_new_defaults"]


def without_new_defaults(before: Any, after: Any) -> Any:
    """A description, without settings that an earlier one does not name and that stand at their
    defaults: a version that knew none of them did the same.

    Examples
    --------
    >>> before = {"kind": "batch_norm", "momentum": 0.9, "epsilon": 1e-5}
    >>> without_new_defaults(before, vs.parts.describe(vs.BatchNorm())) == before
    True
    >>> without_new_defaults(before, vs.parts.describe(vs.BatchNorm(over_ranks=True))) == before
    False
    """
    if isinstance(before, Mapping) and isinstance(after, Mapping):
        kind = after.get("kind")
        known = kind is not None and before.get("kind") == kind
        return {
            key: without_new_defaults(before.get(key), value)
            for key, value in after.items()
            if not (known and key not in before and _is_default(kind, key, value))
        }
    if isinstance(before, list | tuple) and isinstance(after, list | tuple):
        pairs = zip([*before, *[None] * len(after)], after, strict=False)
        return [without_new_defaults(old, new) for old, new in pairs]
    return after


def _is_default(kind: Any, setting: str, value: Any) -> bool:
    """Whether a kind of the library, of whatever family, has this default."""
    for found in library().get(kind, []) if isinstance(kind, str) else []:
        for parameter in settings_of(found):
            if parameter.name != setting or parameter.default is parameter.empty:
                continue
            try:
                if json.dumps(parameter.default) == json.dumps(value):
                    return True
            except TypeError:  # an array, or a part
                continue
    return False
