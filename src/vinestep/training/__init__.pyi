from ..storage.run_store import MemoryStore as MemoryStore, Request as Request, RunStore as RunStore
from ._profiling import Profile as Profile, profile as profile
from .rehearsal._rehearsal import Rehearsal as Rehearsal, rehearse as rehearse
from .run._results import Position as Position
from .run._status import Status as Status
from .step._descent import DescentStep as DescentStep
from .step._state import HasState as HasState
from .tuning._cross_validation import (
    CrossValidation as CrossValidation,
    Difference as Difference,
    cross_validate as cross_validate,
)
from .tuning._rate_and_batch_size import (
    BatchSizes as BatchSizes,
    RateRange as RateRange,
    batch_sizes as batch_sizes,
    rate_range as rate_range,
)
from .tuning._search import Search as Search, search as search
