"""The record of runs: folders, the ledger that holds all of them, and what can be asked of it."""

from typing import TYPE_CHECKING, Any

from ..errors import names_of
from .folders import RunFolder
from .listing import find_runs, runs_table

if TYPE_CHECKING:
    from .catalogue import Entry, keep, load, mark_in_use, models
    from .comparing import Comparison, compare, decisions_of, first_difference, first_leader
    from .diagnosis import Answer, diagnose
    from .ledger import Ledger
    from .ledger_store import LedgerStore
    from .opened import RunRecord, Runs
    from .opened import open_runs as open
    from .ranking import effects
    from .taking_in import catch_up, take_in

__all__ = [
    "Answer",
    "Comparison",
    "Entry",
    "Ledger",
    "LedgerStore",
    "RunFolder",
    "RunRecord",
    "Runs",
    "catch_up",
    "compare",
    "decisions_of",
    "diagnose",
    "effects",
    "find_runs",
    "first_difference",
    "first_leader",
    "keep",
    "load",
    "mark_in_use",
    "models",
    "open",
    "runs_table",
    "take_in",
]

_IN = {".ledger": ("Ledger",), ".ledger_store": ("LedgerStore",), ".taking_in": ("catch_up", "take_in")}
_IN |= {
    ".opened": ("RunRecord", "Runs", "open_runs"),
    ".catalogue": ("Entry", "keep", "load", "mark_in_use", "models"),
    ".comparing": ("Comparison", "compare", "decisions_of", "first_difference", "first_leader"),
    ".diagnosis": ("Answer", "diagnose"),
    ".ranking": ("effects",),
}
_LATER = names_of(__name__, __all__, {name: module for module, names in _IN.items() for name in names})


def __getattr__(name: str) -> Any:
    return _LATER("open_runs" if name == "open" else name)
