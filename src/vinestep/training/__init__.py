"""Training: steps, runs, observers and what they record."""

from . import observers
from .descent import Descent, DescentStep
from .records import Outcome, Position, Step
from .running import HasState, RandomStream, Run, recorded_run
from .status import Status
from .store import MemoryStore, Request, RunStore
from .training import Training

__all__ = [
    "Descent",
    "DescentStep",
    "HasState",
    "MemoryStore",
    "Outcome",
    "Position",
    "RandomStream",
    "Request",
    "Run",
    "RunStore",
    "Status",
    "Step",
    "Training",
    "observers",
    "recorded_run",
]
