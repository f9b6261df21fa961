"""The series of a run as arrays, for those who ask about them."""

from __future__ import annotations

import re
from functools import cached_property
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Record", "RecordedRun"]

_NORM = re.compile(r"^(.+) (rate|norm|gradient|update|ratio)$")


class RecordedRun(Protocol):
    """What is asked of a run's record; `vinestep.runs.RunRecord` gives it."""

    @property
    def status(self) -> str: ...

    @property
    def reason(self) -> str: ...

    @property
    def step(self) -> int: ...

    @property
    def about(self) -> dict[str, Any]: ...

    @property
    def better(self) -> dict[str, str]: ...

    @property
    def held_out(self) -> dict[str, Any]: ...

    def series(self, name: str) -> pd.DataFrame: ...

    def at_steps(self, name: str, suffix: str) -> dict[int, str]: ...

    def table_at(self, file: str) -> pd.DataFrame: ...


class Record:
    """What was recorded, read once."""

    def __init__(self, run: RecordedRun) -> None:
        self.run = run

    @cached_property
    def epochs(self) -> pd.DataFrame:
        """A row an epoch. Where the loss of the training says nothing, as that of a generator
        against its critic, the validation loss stands in its place.
        """
        rows = self.run.series("epochs")
        if self.is_adversarial and "validation_loss" in rows:
            known = rows[rows["validation_loss"].notna()]
            return known.assign(loss=known["validation_loss"])
        return rows

    @property
    def is_adversarial(self) -> bool:
        """Whether the loss of the training says nothing."""
        return bool(self.better) and "loss" not in self.better

    @property
    def judged(self) -> str:
        """What a run is judged by, in words."""
        return "distance of what is made" if self.is_adversarial else "training loss"

    @cached_property
    def steps(self) -> pd.DataFrame:
        return self.run.series("steps")

    @cached_property
    def norms(self) -> pd.DataFrame:
        return self.run.series("norms")

    @cached_property
    def distributions(self) -> pd.DataFrame:
        return self.run.series("distributions")

    @cached_property
    def generated(self) -> pd.DataFrame:
        """Scores of what the network makes."""
        return self.run.series("generated")

    @cached_property
    def machine(self) -> pd.DataFrame:
        return self.run.series("machine")

    @property
    def better(self) -> dict[str, str]:
        return self.run.better

    @cached_property
    def baseline(self) -> dict[str, float]:
        """What the best constant answer scores, where that is known."""
        found = self.run.about.get("baseline") or {}
        return {name: float(value) for name, value in found.items() if value is not None}

    @cached_property
    def held_out(self) -> dict[str, Any]:
        return self.run.held_out

    @property
    def validation_error(self) -> float:
        """Standard error of the best validation loss; infinite where it is not known."""
        found = self.held_out.get("loss_error")
        return float("inf") if found is None else float(found)

    @cached_property
    def validated(self) -> pd.DataFrame:
        """The epochs that were validated."""
        rows = self.epochs
        if "validation_loss" not in rows:
            return rows.iloc[:0]
        return rows[rows["validation_loss"].notna()]

    @cached_property
    def steps_an_epoch(self) -> float:
        if len(self.epochs) and self.epochs["epoch"].iloc[-1]:
            return float(self.epochs["step"].iloc[-1] / self.epochs["epoch"].iloc[-1])
        return 0.0

    def epoch_of(self, step: float) -> float | None:
        """Epochs done by a step."""
        return step / self.steps_an_epoch if self.steps_an_epoch else None

    @cached_property
    def paths(self) -> list[str]:
        """The parameters of which norms were recorded, from the input on."""
        found = [
            match[1]
            for name in self.norms.columns
            if (match := _NORM.match(name)) and match[2] == "gradient"
        ]
        return list(dict.fromkeys(found))

    @cached_property
    def layers(self) -> list[str]:
        """The layers that have parameters, from the input on."""
        return list(dict.fromkeys(path.rpartition("/")[0] for path in self.paths))

    def weights_of(self, layer: str) -> list[str]:
        """The parameters of a layer, without biases if it has others."""
        own = [path for path in self.paths if path.rpartition("/")[0] == layer]
        matrices = [path for path in own if not path.endswith(("bias", "shift"))]
        return matrices or own

    def whole_gradient(self, layer: str) -> np.ndarray:
        """Norm of the gradients of all parameters of a layer, by row of `norms`."""
        own = [f"{path} gradient" for path in self.paths if path.rpartition("/")[0] == layer]
        return np.asarray(np.sqrt((self.norms[own].to_numpy(float) ** 2).sum(axis=1)))

    def layer_norms(self, layer: str, what: str) -> np.ndarray:
        """Norm of a layer's weights, gradients or updates, by row of `norms`."""
        columns = [f"{path} {what}" for path in self.weights_of(layer)]
        values = self.norms[columns].to_numpy(float)
        return np.asarray(np.sqrt((values**2).sum(axis=1)))

    @cached_property
    def graph(self) -> list[dict[str, Any]]:
        """The layers with their shapes."""
        return list(self.run.about.get("network") or [])

    def kind_of(self, path: str) -> str:
        """What a layer is, by its path."""
        return next(
            (str(row.get("layer", "")) for row in self.graph if row.get("path") == path), ""
        )

    def has_dropout(self) -> bool:
        """Whether learning passes are noisier than passes in inference."""
        return any(row.get("layer") in ("Dropout", "Noise") and row for row in self.graph)
