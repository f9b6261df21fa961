"""Training: steps, runs, observers and what they record; rehearsal, tuning, profile."""

from typing import TYPE_CHECKING

from ..errors import names_of
from . import observers
from .averaging import WeightAverage
from .descent import Descent, DescentStep
from .ending import Ending
from .half import HalfPrecision
from .own_loops import recorded_run
from .parts_state import HasState, RandomStream
from .records import Outcome, Position, Step
from .running import Run
from .status import Status
from .store import MemoryStore, Request, RunStore
from .training import Training

if TYPE_CHECKING:
    from .profiling import Profile, profile
    from .rehearsal import Rehearsal, rehearse
    from .searching import Search, search
    from .tuning import BatchSizes, RateRange, batch_sizes, rate_range

__all__ = [
    "BatchSizes",
    "Descent",
    "DescentStep",
    "Ending",
    "HalfPrecision",
    "HasState",
    "MemoryStore",
    "Outcome",
    "Position",
    "Profile",
    "RandomStream",
    "RateRange",
    "Rehearsal",
    "Request",
    "Run",
    "RunStore",
    "Search",
    "Status",
    "Step",
    "Training",
    "WeightAverage",
    "batch_sizes",
    "observers",
    "profile",
    "rate_range",
    "recorded_run",
    "rehearse",
    "search",
]

_IN = {
    ".profiling": ("Profile", "profile"),
    ".rehearsal": ("Rehearsal", "rehearse"),
    ".searching": ("Search", "search"),
    ".tuning": ("BatchSizes", "RateRange", "batch_sizes", "rate_range"),
}
__getattr__ = names_of(__name__, __all__, {name: module for module, names in _IN.items() for name in names})
