"""Training: steps, runs, observers and what they record."""

from . import observers
from .averaging import WeightAverage
from .descent import Descent, DescentStep
from .ending import Ending
from .own_loops import recorded_run
from .parts_state import HasState, RandomStream
from .records import Outcome, Position, Step
from .rehearsal import Rehearsal, rehearse
from .running import Run
from .status import Status
from .store import MemoryStore, Request, RunStore
from .training import Training

__all__ = [
    "Descent",
    "DescentStep",
    "Ending",
    "HasState",
    "MemoryStore",
    "Outcome",
    "Position",
    "RandomStream",
    "Rehearsal",
    "Request",
    "Run",
    "RunStore",
    "Status",
    "Step",
    "Training",
    "WeightAverage",
    "observers",
    "recorded_run",
    "rehearse",
]
