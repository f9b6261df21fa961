"""What is set on the command line, put into a plan; and parts of a user's own, from a file."""

from __future__ import annotations

import os
import tomllib
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from ...errors import PlanError, SettingError

__all__ = ["apply_override", "own_parts", "own_parts_of"]


def apply_override(values: dict[str, Any], setting: str) -> None:
    """Put ``path=value`` into a tree of tables and lists; the value is TOML, or else a text."""
    path, sign, text = setting.partition("=")
    keys = path.strip().split(".")
    if not sign or not all(keys):
        raise SettingError(f"--set {setting}: write NAME=VALUE, such as optimiser.rate=0.01.")
    try:
        value = tomllib.loads(f"value = {text}")["value"]
    except tomllib.TOMLDecodeError:
        value = text.strip()
    at: Any = values
    for number, key in enumerate(keys):
        last = number == len(keys) - 1
        if isinstance(at, list):
            if not key.isdigit() or int(key) >= len(at):
                raise SettingError(
                    f"--set {setting}: {'.'.join(keys[:number])} has {len(at)} entries, counted "
                    f"from 0; there is no {key!r}."
                )
            index: Any = int(key)
        elif isinstance(at, dict):
            index = key
            if not last and isinstance(at.get(key, {}), str):
                at[key] = {"kind": at[key]}
            at.setdefault(key, {})
        else:
            raise SettingError(
                f"--set {setting}: {'.'.join(keys[:number])} is {at!r}, which has nothing in it "
                "to set."
            )
        if last:
            at[index] = value
        elif isinstance(at[index], str):
            at[index] = {"kind": at[index]}
        at = at[index]


def own_parts_of(files: Iterable[str | os.PathLike[str]]) -> list[Any]:
    """The parts that Python files define; see `own_parts`."""
    return [part for file in files for part in own_parts(file)]


def own_parts(file: str | os.PathLike[str]) -> list[Any]:
    """The parts that a Python file defines, by `vinestep.parts.part`. The file is run.

    Raises
    ------
    PlanError
        If it cannot be read or run, or defines none.
    """
    import runpy

    path = Path(file)
    if not path.is_file():
        raise PlanError(f"{path}: there is no such file.")
    try:
        names = runpy.run_path(str(path))
    except Exception as error:  # whatever a user's own code raises
        raise PlanError(f"{path}: {type(error).__name__}: {error}") from error
    result = [
        value
        for value in names.values()
        if hasattr(value, "__dict__") and "__vinestep_kind__" in vars(value)
    ]
    result = [value for value in result if value.__module__ == "<run_path>"]
    if not result:
        raise PlanError(
            f'{path}: it defines no part. Put @vinestep.parts.part("kind") above a class or '
            "function of yours."
        )
    return result
