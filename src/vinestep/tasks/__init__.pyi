from ._base import Task as Task
from ._calibration import (
    Conformal as Conformal,
    Isotonic as Isotonic,
    Temperature as Temperature,
)
from ._classes import (
    Binary as Binary,
    Classes as Classes,
    Labels as Labels,
    Ordered as Ordered,
)
from ._generative import Generative as Generative
from ._numbers import (
    Counts as Counts,
    Gaussian as Gaussian,
    Numbers as Numbers,
    Quantiles as Quantiles,
)
from ._several import Several as Several
from ._task_of import task_for as task_for, task_of as task_of
from ._unaligned import Unaligned as Unaligned
