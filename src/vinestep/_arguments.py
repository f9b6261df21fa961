"""Seeds, paths and names, checked where they come in."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import numpy as np

from .errors import SettingError

__all__ = ["checked_name", "checked_path", "checked_seed"]

LONGEST = 100
LONGEST_PATH, LONGEST_PART = 4000, 255


def checked_path(value: Any, who: str) -> Path:
    """
    Raises
    ------
    SettingError
        If it is no path.

    Examples
    --------
    >>> checked_path("records", "run").name
    'records'
    """
    if not isinstance(value, str | os.PathLike):
        raise SettingError(f"{who}: a path is a text or a Path, got {type(value).__name__}.")
    text = os.fspath(value)
    if not isinstance(text, str) or "\0" in text or not text:
        raise SettingError(f"{who}: {text!r} is no path.")
    path = Path(text)
    longest = max((len(os.fsencode(part)) for part in path.parts), default=0)
    if len(text) > LONGEST_PATH or longest > LONGEST_PART:
        raise SettingError(f"{who}: {text[:40]!r}... is longer than a path can be.")
    return path


def checked_name(value: Any, who: str) -> str:
    """
    Raises
    ------
    SettingError
        If it is empty, too long, or holds what can not be printed.
    """
    if not isinstance(value, str):
        raise SettingError(f"{who}: the name is a text, got {type(value).__name__}.")
    if not value.strip() or len(value) > LONGEST or not value.isprintable():
        raise SettingError(
            f"{who}: a name has 1 to {LONGEST} characters that can be printed, got "
            f"{value[:40]!r}{'...' if len(value) > 40 else ''}."
        )
    return value


def checked_seed(seed: Any, who: str) -> int:
    """
    Raises
    ------
    SettingError
        If it is no whole number from 0 to 2**63 - 1.

    Examples
    --------
    >>> checked_seed(7, "split")
    7
    """
    if isinstance(seed, bool) or not isinstance(seed, int | np.integer) or not 0 <= seed < 2**63:
        raise SettingError(f"{who}: seed must be a whole number from 0 to 2**63 - 1, got {seed!r}.")
    return int(seed)
