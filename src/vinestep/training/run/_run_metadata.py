"""What takes part in a run and how it is set, and where its model comes from: for the record."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from ..._findings import Finding, tell
from ...distributed._settings import Ranks
from ...parts._describe import describe
from ...storage.lineage import (
    commit,
    machine,
    uncommitted,
    versions,
)
from ..step._stages import of_all_stages
from ._study import study_under_way

if TYPE_CHECKING:
    from ...storage.run_store import RunStore
    from ..step._base import TrainingBase
    from ..step._batch_checks import AnyBatches
    from ._ending import Ending
    from ._run import Run
    from ._validation import ValidationParts

__all__ = ["count_test_scoring", "lineage", "run_settings", "write_about", "write_assessment"]

ABOUT = "about.json"
PATCH = "uncommitted.patch"
ASSESSMENT = "assessment.json"


def run_settings(
    training: TrainingBase, batches: AnyBatches, ending: Ending, scored: ValidationParts
) -> dict[str, Any]:
    """What takes part in a run and how it is set, for the record."""
    return {
        "written_by": "Training.run",
        "seed": training.seed,
        **ending.settings(),
        "clip": training.clip,
        "clip_values": training.clip_values,
        "accumulate": training.accumulate,
        **({"half": training.half.settings()} if training.half is not None else {}),
        **({"ranks": training.ranks.settings()} if training.ranks != Ranks() else {}),
        "average": None if training.average is None else training.average.settings(),
        "precision": str(training.network.dtype),
        "loss": describe(training.loss, opaque=True),
        "metrics": describe(training.metrics, opaque=True),
        "optimiser": describe(training.optimiser, opaque=True),
        "schedule": describe(training.schedule, opaque=True),
        "batches": batches.settings(),
        "source": batches.dataset.settings(),
        "data": batches.fingerprint(),
        "validation": scored.settings(),
        "frozen": sorted(
            of_all_stages(
                training.network, dict.fromkeys(training.network._ready_arena().frozen_paths)
            )
        ),
        "network": describe(training.network, opaque=True),
        "weights": of_all_stages(
            training.network,
            {path: list(a.shape) for path, a in training.network._ready_arena().arrays().items()},
        ),
        **training.settings(),
    }


def lineage(run: Run, test: AnyBatches | None) -> dict[str, Any]:
    """Where the model of a run comes from."""
    return {
        "settings": run.settings,
        "data": run.settings["data"] if run.store is not None else "",
        "test": test.fingerprint() if test is not None else "",
        "versions": versions(),
        "commit": commit() if run.store is not None else "",
    }


def write_about(
    store: RunStore, settings: Mapping[str, Any], known: Mapping[str, Any], graph: Any = None
) -> None:
    """Record what is known of a run from its beginning: settings, data, versions, commit and what
    was not committed, machine, parent.
    """
    about = {
        "settings": settings,
        "data": known.get("data", ""),
        "test": known.get("test", ""),
        "source": settings.get("source"),
        "versions": known.get("versions") or versions(),
        "commit": known.get("commit") or commit(),
        "machine": machine(),
        "parent": known.get("parent") or {},
        "better": known.get("better") or {},
        "steps": known.get("steps", 0),
        "network": graph or [],
        "baseline": known.get("baseline") or {},
        **({"study": study} if (study := study_under_way()) else {}),
    }
    store.write_file(ABOUT, json.dumps(about, indent=1, default=str).encode())
    if about["commit"].endswith("+") and (patch := uncommitted()):
        store.write_file(PATCH, patch.encode())


def write_assessment(store: RunStore, parts: Mapping[str, Any]) -> None:
    """Record scores with their 95 % intervals, by part of the data."""
    found = {
        part: {
            name: {"value": float(value), "interval": list(map(float, scores.intervals[name]))}
            for name, value in scores.items()
        }
        for part, scores in parts.items()
    }
    store.write_file(ASSESSMENT, json.dumps(found, indent=1).encode())


def count_test_scoring(store: RunStore) -> None:
    """Count in a run's record that its test part was scored, and say so from the second time on."""
    times = int(store.read_status().get("test_scored", 0)) + 1
    store.write_status({"test_scored": times})
    if times > 1:
        cure = (
            "Whatever is chosen by its scores has been fitted to it; decide by the validation part."
        )
        tell(
            [
                Finding(
                    "the test part",
                    "suspicious",
                    f"it was scored {times} times for {store.label}.",
                    cure,
                )
            ]
        )
