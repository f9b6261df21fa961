"""A run of several ranks: the first records it, and all have to be set up alike."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from os import PathLike
from typing import TYPE_CHECKING, Any

from ...distributed._current import communicator
from ...errors import RunError
from ...storage.lineage import commit, versions
from ...storage.open_store import opened_store
from ...storage.peer_store import PeerStore
from ...storage.run_store import RunStore
from ...storage.settings import leaves
from ..step._base import digest_of
from ..step._descent import Descent
from ..step._stages import ranks_of_batch
from ..step._state import divides_state

if TYPE_CHECKING:
    from ...layers._base import Layer
    from ._run import Observer, Run

__all__ = [
    "check_equal_ranks",
    "check_equal_weights",
    "observers_of_rank",
    "record_times",
    "store_of_rank",
]

CLOCKS = 60.0  # seconds that clocks may be apart


@contextmanager
def store_of_rank(
    record: RunStore | str | PathLike[str] | None,
    resume: RunStore | str | PathLike[str] | None,
    name: str,
) -> Iterator[RunStore | None]:
    """The store of a run; ranks other than the first get one that keeps nothing."""
    comm = communicator()
    if comm.size == 1:
        with opened_store(record, resume, name) as store:
            yield store
    elif comm.rank == 0:
        with opened_store(record, resume, name) as store:
            comm.broadcast(None if store is None else store.label)
            yield store
    else:
        label = comm.broadcast(None)
        yield None if label is None else PeerStore(label)


def observers_of_rank(observers: Sequence[Observer], parts: Mapping[str, Any]) -> list[Observer]:
    """Those that this rank has."""
    if communicator().rank == 0:
        return list(observers)
    together = divides_state(parts)
    divided = any(
        part.network.divides_layers for part in parts.values() if isinstance(part, Descent)
    )
    return [
        observer
        for observer in observers
        if observer.on_every_rank
        or (together and observer.saves_states)
        or (divided and observer.calls_network)
    ]


def check_equal_ranks(network: Layer, facts: Mapping[str, Any]) -> None:
    """
    Raises
    ------
    RunError
        If ranks run other code, have other data or settings, or begin with other weights.
    """
    comm = communicator()
    if comm.size == 1:
        return
    own = {
        **{f"the version of {name}": found for name, found in versions().items()},
        "the commit": commit(),
        **dict(leaves(json.loads(json.dumps(facts)))),
        "the weights to begin with": ""
        if network.arena is None or network.divides_layers
        else digest_of(network).hex(),
    }
    every = comm.all_gather((own, time.time()))
    first, clock = every[0]
    for rank, (theirs, seen) in enumerate(every):
        unequal = [name for name in first if theirs.get(name) != first[name]]
        if abs(seen - clock) > CLOCKS:
            unequal.append(f"the clock, by {seen - clock:.0f} seconds")
        if unequal:
            name = unequal[0]
            told = f" ({first[name]!r} and {theirs.get(name)!r})" if name in first else ""
            error = RunError(
                f"Ranks 0 and {rank} of {comm.size} differ in {', '.join(unequal[:4])}{told}. All "
                "ranks run the same script on the same data, and draw with the same seeds."
            )
            comm.raise_on_all(error)


def check_equal_weights(network: Layer) -> None:
    """
    Raises
    ------
    RunError
        If weights of the ranks have come apart.
    """
    comm = ranks_of_batch(network)
    if comm.size == 1:
        return
    digests = comm.all_gather(digest_of(network))
    for rank, digest in enumerate(digests):
        if digest != digests[0]:
            error = RunError(
                f"The weights of ranks 0 and {rank} have come apart. Something changes them on "
                "one rank only: an observer, or numbers drawn without a seed."
            )
            comm.raise_on_all(error)


def record_times(run: Run, begun: dict[str, float]) -> dict[str, float]:
    """Seconds of an epoch that each rank computed, waited and exchanged, in the series "ranks";
    what they were counted from.
    """
    comm = communicator()
    if comm.size == 1:
        return begun
    now = {"all": time.perf_counter(), **comm.seconds}
    own = {name: now[name] - begun.get(name, now[name]) for name in now}
    if begun:
        row: dict[str, float] = {"step": run.position.step}
        for rank, spent in enumerate(comm.all_gather(own)):
            computed = spent["all"] - spent["waiting"] - spent["exchanging"]
            row |= {
                f"rank {rank} computing": computed,
                f"rank {rank} waiting": spent["waiting"],
                f"rank {rank} exchanging": spent["exchanging"],
            }
        run.add_row("ranks", row)
    return now
