"""The record of runs."""

from .folders import RunFolder
from .listing import find_runs, runs_table

__all__ = ["RunFolder", "find_runs", "runs_table"]
