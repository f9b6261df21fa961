"""What the files of a run's folder hold, checked before any of it is believed: a folder may come
from another machine, from another version, or from a disk that failed.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError

from ..errors import RunError

__all__ = [
    "ABOUT",
    "ASSESSMENT",
    "HELD_OUT",
    "NOTES",
    "REQUEST",
    "STATUS",
    "TAGS",
    "valid_fields",
    "validated",
]

Count = Annotated[int, Field(ge=0, le=2**53)]
Text = Annotated[str, Field(max_length=20_000)]
Figure = Annotated[float, Field(allow_inf_nan=False)] | None
DEEPEST = 100  # levels of settings: more than a network has, fewer than Python's stack


class _File(BaseModel):
    """Further fields, of a later version, are left as they are."""

    model_config = ConfigDict(extra="allow", strict=True)


class _Status(_File):
    status: Literal["ready", "running", "interrupted", "finished", "failed"]
    reason: Text = ""
    name: Text = ""
    epoch: Count = 0
    epochs: Count = 0
    step: Count = 0
    begun: Text = ""
    changed: Text = ""
    uid: Annotated[str, Field(pattern=r"^[\w.-]{1,64}$")] | None = None
    process: Count = 0
    test_scored: Count = 0
    changes: list[Text] = []
    last: dict[str, Figure] = {}


class _Layer(_File):
    path: Text
    layer: Text
    output: list[int | None] | Text | None = None
    parameters: Count = 0
    multiply_adds: Figure = 0
    activation_bytes: Figure = 0


class _Study(_File):
    """The search or cross-validation that a run belongs to."""

    id: Annotated[str, Field(pattern=r"^[\w.-]{1,64}$")]
    kind: Literal["search", "cross-validation"]
    name: Text = ""
    by: Text = ""
    number: Count = 0
    settings: dict[str, str | int | float | bool | list[Any] | dict[str, Any] | None] = {}
    repeat: Count = 0
    fold: Count = 0
    seed: Count = 0
    train: Count = 0
    test: Count = 0


class _About(_File):
    settings: dict[str, Any] = {}
    data: Text = ""
    test: Text = ""
    source: Any = None
    versions: dict[str, Text] = {}
    commit: Text = ""
    machine: dict[str, Text | Figure] = {}
    parent: dict[str, Any] = {}
    better: dict[str, Literal["higher", "lower"]] = {}
    steps: Figure = 0
    network: list[_Layer] = []
    study: _Study | None = None
    baseline: dict[str, Figure] = {}
    """What the best constant answer scores."""


class _Note(_File):
    at: Text
    text: Text


class _Score(_File):
    value: float | None
    interval: Annotated[list[float], Field(min_length=2, max_length=2)] | None = None


class _Decisions(_File):
    """What was decided between the classes of one target."""

    classes: Annotated[list[Text], Field(max_length=1000)] = []
    true: list[Count] = []
    decided: list[Count] = []
    expected: list[float] = []
    examples: Count = 0
    accuracy: Figure = None
    confidence: Figure = None
    confidence_error: Figure = None


class _HeldOut(_File):
    """What the best state does on the validation part."""

    loss: Figure = None
    loss_error: Figure = None
    examples: Count = 0
    targets: dict[str, _Decisions] = {}


class _Request(BaseModel):
    model_config = ConfigDict(strict=True)
    what: Text
    text: Text = ""


STATUS = TypeAdapter(_Status)
ABOUT = TypeAdapter(_About)
TAGS = TypeAdapter(list[Text])
NOTES = TypeAdapter(list[_Note])
ASSESSMENT = TypeAdapter(dict[str, dict[str, _Score]])
REQUEST = TypeAdapter(_Request)
HELD_OUT = TypeAdapter(_HeldOut)


def valid_fields(known: Any, schema: TypeAdapter[Any]) -> dict[str, Any]:
    """The fields that hold what they should."""
    if not isinstance(known, dict):
        return {}
    try:
        schema.validate_python(known)
    except ValidationError as error:
        wrong = {fault["loc"][0] for fault in error.errors() if fault["loc"]}
        return {name: value for name, value in known.items() if name not in wrong}
    return known


def validated(path: Path, content: bytes, schema: TypeAdapter[Any]) -> Any:
    """What a JSON file holds, as it stands there, checked against a schema.

    Parameters
    ----------
    path : path
        Named in what is raised.
    content : bytes
    schema : TypeAdapter

    Raises
    ------
    RunError
        If the file holds what no run writes: where, and what is wrong with it.
    """
    try:
        known = json.loads(content)
        schema.validate_python(known)
    except ValidationError as error:
        fault = error.errors()[0]
        place = ".".join(map(str, fault["loc"]))[:100]
        at = f"{place}: " if place else ""
        raise RunError(f"{path}: it holds what no run writes: {at}{fault['msg']}.") from error
    except (ValueError, RecursionError) as error:
        raise RunError(f"{path}: it cannot be read: {error}.") from error
    if _depth(known) > DEEPEST:
        raise RunError(f"{path}: it is nested more than {DEEPEST} deep, as no run writes it.")
    return known


def _depth(tree: Any) -> int:
    level, depth = [tree], 0
    while level:
        nodes = [node for node in level if isinstance(node, dict | list)]
        inner = [node.values() if isinstance(node, dict) else node for node in nodes]
        level = [item for items in inner for item in items]
        depth += 1
    return depth
