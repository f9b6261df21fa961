"""Which ranks there are: those that an MPI launcher started, those of `using`, or this process
alone.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager

from ..errors import SettingError
from ._communicator import Alone, Communicator
from ._launch import OWNER

__all__ = ["communicator", "refuse_ranks", "using"]

LAUNCHED = ("PMI_SIZE", "PMIX_RANK", "OMPI_COMM_WORLD_SIZE")
"""Variables that MPI launchers set for the processes that they start."""


class _Here(threading.local):
    chosen: Communicator | None = None


_here = _Here()
_process: Communicator | None = None


def communicator() -> Communicator:
    """The ranks that train together, as this one sees them.

    Under an MPI launcher, such as ``mpiexec -n 4 python script.py``, those that it started; with
    the variable ``VINESTEP_RANKS=off`` each of them is alone.

    Raises
    ------
    SettingError
        If a launcher started several, and mpi4py is not installed.

    Examples
    --------
    >>> vs.distributed.communicator().size
    1
    """
    global _process
    if _here.chosen is not None:
        return _here.chosen
    if _process is None:
        _process = _of_launcher() or Alone()
    return _process


@contextmanager
def using(chosen: Communicator) -> Iterator[Communicator]:
    """Let this thread be a rank of these.

    Examples
    --------
    >>> with vs.distributed.using(vs.distributed.Alone()) as comm:
    ...     vs.distributed.communicator() is comm
    True
    """
    before, _here.chosen = _here.chosen, chosen
    try:
        yield chosen
    finally:
        _here.chosen = before


def _of_launcher() -> Communicator | None:
    if os.environ.get("VINESTEP_RANKS") == "off" or not any(map(os.environ.get, LAUNCHED)):
        return None
    if os.environ.get("PMI_SIZE", "") == "1" or os.environ.get("OMPI_COMM_WORLD_SIZE") == "1":
        return None
    if os.environ.setdefault(OWNER, str(os.getpid())) != str(os.getpid()):
        return None
    try:
        from ._mpi import MPICommunicator
    except ImportError as error:
        raise SettingError(
            "An MPI launcher started this process, and mpi4py, by which its ranks hear one "
            f"another, cannot be used: {error}. Install it: pip install 'vinestep[mpi]'. To train "
            "in each process alone, set VINESTEP_RANKS=off."
        ) from error
    found = MPICommunicator()
    return found if found.size > 1 else None


def refuse_ranks(what: str) -> None:
    """
    Raises
    ------
    SettingError
        If several ranks call for what one process starts and hands on to others.
    """
    comm = communicator()
    if comm.size > 1:
        error = SettingError(
            f"{what}: it makes independent trainings, and {comm.size} ranks called it at once. "
            "Start it without an MPI launcher, and say how many processes it may use, "
            "processes=4, or which cluster."
        )
        comm.raise_on_all(error)
