"""What a run and its observers record, and what a watcher outside asks of it: the interface, and a
store in memory.
"""

from __future__ import annotations

import copy
import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np

from ..errors import ArchiveError, CheckpointError, RunError

__all__ = ["MemoryStore", "Request", "RunStore", "SavedState", "safe_name"]

REQUESTS = ("stop", "finish", "note")


class Request(NamedTuple):
    """What somebody outside asks of a run.

    Examples
    --------
    >>> from vinestep.training import Request
    >>> Request("note", "the cellar door was open").what
    'note'
    """

    what: str
    """"stop": save, and go on some other time. "finish": end now as a run that is done. "note":
    write the text down.
    """
    text: str = ""


@dataclass(slots=True)
class SavedState:
    """A state of a run: arrays by name, JSON, and how it is called in its store."""

    arrays: dict[str, np.ndarray]
    meta: dict[str, Any]
    name: str


class RunStore(ABC):
    """Where a run is recorded. Whatever is given has been checked; a store keeps it until it is
    told to remove it.

    Every store passes one suite of tests, so that what is recorded does not depend on where.

    Examples
    --------
    >>> store = vs.training.MemoryStore()
    >>> store.append_series("steps", [{"step": 1, "loss": 0.5}])
    >>> store.read_series("steps")
    [{'step': 1, 'loss': 0.5}]
    """

    keeps = True
    """Whether what it is given can be read again."""

    # the run as a whole

    @abstractmethod
    def begin(self, name: str, plan: Mapping[str, Any]) -> None:
        """A new run, and what it is asked to do. From now on it is visible to others, with all that
        was given before.
        """

    @property
    @abstractmethod
    def label(self) -> str:
        """Name and number of the run, such as ``barrels-7``."""

    @abstractmethod
    def write_status(self, known: Mapping[str, Any]) -> None:
        """Where the run stands: JSON with at least ``status``, ``reason``, ``epoch``, ``epochs``,
        ``step`` and ``last``.
        """

    @abstractmethod
    def read_status(self) -> dict[str, Any]:
        """What `status` was given last, and when the run began."""

    def check_resumable(self) -> None:
        """
        Raises
        ------
        RunError
            If the run is finished.
        """
        known = self.read_status()
        if known.get("status") == "finished":
            raise RunError(
                f"{self.label}: this run is finished: {known['reason']} To go on, ask for more "
                "epochs or steps."
            )

    @abstractmethod
    def end(self) -> None:
        """Nothing more will be recorded for now."""

    # what is recorded

    @abstractmethod
    def write_series(self, series: str, rows: Sequence[Mapping[str, float]]) -> None:
        """All rows of a series so far, "epochs" or "steps"; each has a ``step``. What a state that
        is continued from does not know is dropped that way.
        """

    @abstractmethod
    def append_series(self, series: str, rows: Sequence[Mapping[str, float]]) -> None:
        """Further rows of a series; cheap, however long it is. Rows may have other columns than
        those before.
        """

    @abstractmethod
    def series_names(self) -> list[str]:
        """The series there are, in alphabetical order."""

    def trim(self, step: int) -> None:
        """Drop the rows of all series beyond a step, which a run that goes on from there makes
        again.
        """
        for series in self.series_names():
            self.write_series(
                series, [row for row in self.read_series(series) if row["step"] <= step]
            )

    @abstractmethod
    def read_series(self, series: str) -> list[dict[str, float]]:
        """The rows of a series."""

    @abstractmethod
    def write_file(self, name: str, content: bytes) -> None:
        """A file, such as a figure or a picture, whole or not at all; one of the same name is
        replaced.
        """

    @abstractmethod
    def read_file(self, name: str) -> bytes:
        """
        Raises
        ------
        RunError
            If there is none.
        """

    @abstractmethod
    def file_names(self) -> list[str]:
        """What `read_file` can read of what was recorded, in alphabetical order."""

    @abstractmethod
    def write_console(self, text: str) -> None:
        """A line that the run printed or logged."""

    @abstractmethod
    def read_console(self) -> str: ...

    def distribution(
        self, name: str, step: int, edges: Sequence[float], counts: Sequence[int]
    ) -> None:
        """A histogram at a step."""
        if len(edges) != len(counts) + 1:
            raise RunError(
                f"distribution {name}: {len(counts)} counts need {len(counts) + 1} edges, got "
                f"{len(edges)}."
            )
        self.table(
            name,
            step,
            [
                {"from": a, "to": b, "count": n}
                for a, b, n in zip(edges, edges[1:], counts, strict=False)
            ],
        )

    def picture(self, name: str, step: int, png: bytes) -> None:
        """A picture at a step, as PNG."""
        self.write_file(f"{safe_name(name)}-{step:08d}.png", png)

    def table(self, name: str, step: int, rows: Sequence[Mapping[str, Any]]) -> None:
        """Rows of a table at a step, as CSV."""
        import pandas as pd

        self.write_file(
            f"{safe_name(name)}-{step:08d}.csv",
            pd.DataFrame(list(rows)).to_csv(index=False).encode(),
        )

    def text(self, name: str, step: int, text: str) -> None:
        """A text at a step."""
        self.write_file(f"{safe_name(name)}-{step:08d}.txt", text.encode())

    def array(self, name: str, step: int, content: bytes) -> None:
        """An array at a step, as the content of an ``.npy`` file."""
        self.write_file(f"{safe_name(name)}-{step:08d}.npy", content)

    # states

    @abstractmethod
    def save_state(
        self, name: str, arrays: Mapping[str, np.ndarray], meta: Mapping[str, Any]
    ) -> None:
        """A state to continue from, whole or not at all."""

    @abstractmethod
    def read_state(self, name: str) -> SavedState:
        """
        Raises
        ------
        ArchiveError
            If it is damaged, or there is none.
        """

    @abstractmethod
    def states(self) -> list[str]:
        """Names of the states, oldest first."""

    @abstractmethod
    def rename_state(self, name: str, new: str | None) -> None:
        """Give a state another name, or remove it."""

    def newest_state(
        self, accept: Callable[[SavedState], object] = lambda state: None
    ) -> tuple[SavedState, list[str]]:
        """The newest state that can be trusted, and why newer ones were passed over.

        Raises
        ------
        CheckpointError
            If there is none.
        """
        refused: list[str] = []
        for name in reversed(self.states()):
            try:
                result = self.read_state(name)
                accept(result)
                return result, refused
            except ArchiveError as error:
                refused.append(str(error))
        raise CheckpointError(
            f"{self.label}: there is no {'sound ' if refused else ''}state to continue from. "
            f"{' '.join(refused)}".strip()
        )

    def best_state(self) -> str | None:
        """The name of the state that is marked as the best; of several, the one that the newest of
        them knows as the best.
        """
        marked = [name for name in self.states() if name.endswith("-best")]
        if len(marked) < 2:
            return marked[0] if marked else None
        for name in reversed(marked):
            try:
                observers = self.read_state(name).meta.get("observers", {})
            except ArchiveError:
                continue
            for known in observers.values():
                for score in known.get("scores", []) if isinstance(known, dict) else []:
                    result = [
                        one for one in marked if one.startswith(f"step-{int(score['step']):08d}-")
                    ]
                    if result:
                        return result[0]
        return marked[-1]

    # a watcher outside

    @abstractmethod
    def ask(self, request: Request) -> None:
        """Ask something of the run, from any thread or process."""

    @abstractmethod
    def requests(self) -> list[Request]:
        """What was asked since this was last called, in order."""


def safe_name(name: str, default: str = "recorded") -> str:
    """A name as part of a file's name.

    Examples
    --------
    >>> safe_name("barrels, in oak")
    'barrels-in-oak'
    """
    return re.sub(r"[^A-Za-z0-9._-]+", "-", name).strip("-.") or default


def check_request(request: Request) -> Request:
    """
    Raises
    ------
    RunError
        If it is none of those that a run knows.
    """
    if request.what not in REQUESTS:
        raise RunError(f"A run can be asked to {', '.join(REQUESTS)}; got {request.what!r}.")
    return request


@dataclass
class MemoryStore(RunStore):
    """A run recorded in memory: the reference that other stores are held against.

    Examples
    --------
    >>> store = vs.training.MemoryStore()
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(
    ...     data.batches(4), epochs=2, record=store
    ... )
    >>> store.read_status()["status"], len(store.read_series("epochs"))
    ('finished', 2)
    """

    name: str = ""
    known: dict[str, Any] = field(default_factory=dict)
    plan: dict[str, Any] = field(default_factory=dict)
    series: dict[str, list[dict[str, float]]] = field(default_factory=dict)
    files: dict[str, bytes] = field(default_factory=dict)
    lines: list[str] = field(default_factory=list)
    saved: dict[str, SavedState] = field(default_factory=dict)
    asked: list[Request] = field(default_factory=list)

    def begin(self, name: str, plan: Mapping[str, Any]) -> None:
        if self.name:
            raise RunError(
                f"This store holds the run {self.label} already. Give each run a store of its own."
            )
        self.name, self.plan = name, dict(plan)

    @property
    def label(self) -> str:
        return self.name

    def write_status(self, known: Mapping[str, Any]) -> None:
        self.known |= known

    def read_status(self) -> dict[str, Any]:
        return dict(self.known)

    def end(self) -> None:
        pass

    def write_series(self, series: str, rows: Sequence[Mapping[str, float]]) -> None:
        self.series[series] = [dict(row) for row in rows]

    def append_series(self, series: str, rows: Sequence[Mapping[str, float]]) -> None:
        self.series.setdefault(series, []).extend(dict(row) for row in rows)

    def series_names(self) -> list[str]:
        return sorted(self.series)

    def read_series(self, series: str) -> list[dict[str, float]]:
        return [dict(row) for row in self.series.get(series, [])]

    def write_file(self, name: str, content: bytes) -> None:
        self.files[name] = bytes(content)

    def read_file(self, name: str) -> bytes:
        if name not in self.files:
            raise RunError(f"{self.label}: there is no file {name!r}.")
        return self.files[name]

    def file_names(self) -> list[str]:
        return sorted(self.files)

    def write_console(self, text: str) -> None:
        self.lines.append(text)

    def read_console(self) -> str:
        return "".join(line + "\n" for line in self.lines)

    def save_state(
        self, name: str, arrays: Mapping[str, np.ndarray], meta: Mapping[str, Any]
    ) -> None:
        self.saved[name] = SavedState(
            {key: np.array(a) for key, a in arrays.items()}, copy.deepcopy(dict(meta)), name
        )

    def read_state(self, name: str) -> SavedState:
        if name not in self.saved:
            raise CheckpointError(f"{self.label}: there is no state {name!r}.")
        return self.saved[name]

    def states(self) -> list[str]:
        return sorted(self.saved)

    def rename_state(self, name: str, new: str | None) -> None:
        found = self.saved.pop(name, None)
        if found is not None and new is not None:
            found.name = new
            self.saved[new] = found

    def ask(self, request: Request) -> None:
        self.asked.append(check_request(request))

    def requests(self) -> list[Request]:
        asked, self.asked = self.asked, []
        return asked
