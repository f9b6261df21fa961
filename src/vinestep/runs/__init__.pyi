from ..storage.run_folder import RunFolder as RunFolder
from ._attribute import attribute as attribute
from ._comparison import (
    Comparison as Comparison,
    compare as compare,
    first_difference as first_difference,
    leading_run as leading_run,
)
from ._difference import difference as difference
from ._ingest import catch_up as catch_up, ingest as ingest
from ._ledger import Ledger as Ledger
from ._ledger_store import LedgerStore as LedgerStore
from ._listing import find_runs as find_runs, runs_table as runs_table
from ._paired_runs import (
    decisions_of as decisions_of,
    paired_differences as paired_differences,
)
from ._query import RunRecord as RunRecord, Runs as Runs, open_runs as open
from ._seed_means import seed_means as seed_means
from ._setting_effects import effects as effects
from ._study import Study as Study, study_of as study_of
from .diagnosis._answers import Answer as Answer
from .diagnosis._diagnose import diagnose as diagnose
