"""Where a run stands, and which way it may go from there. All changes of status are looked up
here.
"""

from __future__ import annotations

from enum import Enum

from ...errors import RunError

__all__ = ["Status", "moved"]


class Status(Enum):
    """Status of a run.

    Examples
    --------
    >>> vs.training.Status.FINISHED.value
    'finished'
    """

    READY = "ready"
    RUNNING = "running"
    INTERRUPTED = "interrupted"
    """Stopped by a signal, or by an observer that lets it go on later; can be resumed."""
    FINISHED = "finished"
    """All epochs done, or stopped for good by an observer."""
    FAILED = "failed"
    """Ended by an error; can be resumed from its last checkpoint."""


_ALLOWED = {
    Status.READY: {Status.RUNNING},
    Status.RUNNING: {Status.RUNNING, Status.INTERRUPTED, Status.FINISHED, Status.FAILED},
    Status.INTERRUPTED: {Status.RUNNING},
    Status.FAILED: {Status.RUNNING},
    Status.FINISHED: set(),
}


def moved(before: Status, after: Status, what: str = "the run") -> Status:
    """The new status, if that change is allowed.

    Raises
    ------
    RunError
        If it is not.
    """
    if after not in _ALLOWED[before]:
        cure = "Start a new run instead." if before is Status.FINISHED else ""
        raise RunError(f"{what} is {before.value} and cannot become {after.value}. {cure}".strip())
    return after
