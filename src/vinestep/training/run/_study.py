"""Which study a run belongs to: a search, or a cross-validation."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any
from uuid import uuid4

__all__ = ["HELD_OUT", "new_study", "part_of_study", "study_under_way"]

HELD_OUT = "held out"  # the part that a fold is scored on, as the record calls it
_STUDY: ContextVar[Mapping[str, Any] | None] = ContextVar("study", default=None)


def new_study() -> str:
    """An identity, by which its runs find one another."""
    return uuid4().hex


@contextmanager
def part_of_study(known: Mapping[str, Any]) -> Iterator[None]:
    """Runs that begin within are recorded as part of a study.

    Parameters
    ----------
    known : mapping
        ``id``, ``kind`` and ``name`` of the study; the place of the run in it: ``number`` and
        ``settings`` of a trial, ``repeat``, ``fold`` and ``seed`` of a fold; and ``by``, what is
        judged.
    """
    before = _STUDY.set(known)
    try:
        yield
    finally:
        _STUDY.reset(before)


def study_under_way() -> dict[str, Any]:
    """What is known of it; empty outside of a study."""
    return dict(_STUDY.get() or {})
