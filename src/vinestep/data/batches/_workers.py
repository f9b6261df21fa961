"""Readers: threads or processes that make batches ahead of their use, which come in a fixed order
whatever their number.

A process writes the arrays of a batch into a memory-mapped file without a name, which it shares
with the process that asked: nothing is pickled but shapes, and nothing is left over however either
ends.
"""

from __future__ import annotations

import contextlib
import itertools
import mmap
import multiprocessing
import os
import queue
import sys
import tempfile
import threading
import traceback
from collections import deque
from collections.abc import Callable, Generator, Iterable, Sequence, Sized
from concurrent.futures import Future, wait as wait_for
from multiprocessing import reduction
from multiprocessing.connection import Connection, wait
from pickle import PicklingError
from typing import Any

import numpy as np

from ...errors import DataError
from ._batch import Batch

__all__ = ["read_ahead"]

Task = Any
Read = Callable[[Task], Batch]
SECONDS = 1.0  # for a process to end by itself
ALIGNMENT = 64
SHOWN = 5  # numbers of examples in an error


def read_ahead(
    read: Read,
    tasks: Iterable[Task],
    readers: int,
    ahead: int,
    *,
    processes: bool,
    stall_after: float | None = None,
) -> Generator[Batch, None, None]:
    """``read(task)`` for each task, in their order.

    Parameters
    ----------
    read : callable
        Has to be picklable for processes.
    readers : int
    ahead : int
        Batches that each reader has ready at most.
    processes : bool
        Rather than threads.
    stall_after : float, optional
        Seconds to wait for a batch.

    Raises
    ------
    DataError
        If a task fails, a process ends, or nothing comes in time.
    """
    if isinstance(tasks, Sized):
        readers = min(readers, max(len(tasks), 1))
    return (
        _by_processes(read, tasks, readers, ahead, stall_after)
        if processes
        else _by_threads(read, tasks, readers, ahead, stall_after)
    )


def _stalled(reader: str, task: Task, seconds: float) -> DataError:
    return DataError(
        f"{reader} gave nothing for {seconds:g} seconds; it reads {_named(task)}. See what it "
        "waits for, such as a file on a disk that does not answer, or give it more time: "
        "batches(..., stall_after=)."
    )


def _named(task: Task) -> str:
    """The examples that a task stands for: an array of their numbers, or pairs of number and
    item.
    """
    numbers = [int(np.ravel(one[0] if isinstance(one, tuple) else one)[0]) for one in task]
    shown = ", ".join(map(str, numbers[:SHOWN]))
    return f"the examples {shown}{', …' if len(numbers) > SHOWN else ''}"


def _by_threads(
    read: Read, tasks: Iterable[Task], readers: int, ahead: int, stall_after: float | None
) -> Generator[Batch, None, None]:
    """By threads that end with the process, whatever they hang on."""
    asked: queue.SimpleQueue[tuple[Future[Batch], Task] | None] = queue.SimpleQueue()
    left = iter(tasks)
    waiting: deque[tuple[Future[Batch], Task]] = deque()

    def ask(most: int) -> None:
        for task in itertools.islice(left, most):
            waiting.append((Future(), task))
            asked.put(waiting[-1])

    crew = [
        threading.Thread(
            target=_answer, args=(read, asked), daemon=True, name=f"vinestep reader {number}"
        )
        for number in range(readers)
    ]
    for thread in crew:
        thread.start()
    hangs = False
    try:
        ask(readers * ahead)
        while waiting:
            answer, task = waiting.popleft()
            wait_for([answer], stall_after)
            if not answer.done():
                hangs = True
                raise _stalled("A reader", task, stall_after or 0)
            ask(1)
            yield answer.result()
    finally:
        for answer, _ in waiting:
            answer.cancel()
        for _ in crew:
            asked.put(None)
        for thread in crew:
            thread.join(0 if hangs else None)


def _answer(read: Read, asked: queue.SimpleQueue[tuple[Future[Batch], Task] | None]) -> None:
    while (found := asked.get()) is not None:
        answer, task = found
        if answer.set_running_or_notify_cancel():
            try:
                answer.set_result(read(task))
            except BaseException as error:  # raised again where the batch is asked for
                answer.set_exception(error)


# processes


class _Memory:
    """A file without a name that two processes map into their memory; it grows when more is
    written.
    """

    def __init__(self, descriptor: int) -> None:
        self.descriptor = descriptor
        self._map: mmap.mmap | None = None

    @classmethod
    def new(cls) -> _Memory:
        if hasattr(os, "memfd_create"):
            return cls(os.memfd_create("vinestep reader", os.MFD_CLOEXEC))
        with tempfile.TemporaryFile() as file:
            return cls(os.dup(file.fileno()))

    def room(self, size: int, *, grow: bool) -> mmap.mmap:
        if self._map is None or len(self._map) < size:
            if grow:
                os.ftruncate(self.descriptor, size + size // 4)
            self._map = mmap.mmap(self.descriptor, 0)
        return self._map

    def close(self) -> None:
        self._map = None
        os.close(self.descriptor)


class _Reader:
    """A process that reads, with a memory for each batch that it may have ready."""

    def __init__(self, context: Any, read: Read, number: int, slots: int) -> None:
        self.number = number
        self.heard_of = False
        self.free = deque(range(slots))
        self.memories = [_Memory.new() for _ in range(slots)]
        self.pipe, theirs = context.Pipe()
        shared = [reduction.DupFd(memory.descriptor) for memory in self.memories]
        self.process = context.Process(
            target=_serve,
            args=(read, theirs, shared),
            daemon=True,
            name=f"vinestep reader {number}",
        )
        try:
            self.process.start()
        except (AttributeError, TypeError, PicklingError) as error:
            self.close()
            raise DataError(
                f"The source cannot be handed to another process: {error}. Put its functions and "
                "classes at the top of a module, or use "
                'readers_as="threads".'
            ) from error
        theirs.close()

    def ask(self, position: int, task: Task) -> None:
        slot = self.free.popleft()
        with contextlib.suppress(
            BrokenPipeError
        ):  # its end is noticed when something is waited for
            self.pipe.send((position, slot, task))

    def receive(self) -> tuple[int, Any]:
        position, slot, header, failure = self.pipe.recv()
        self.heard_of = True
        if failure is not None:
            raise DataError(f"A reader failed: {failure[0]}\n{failure[1].rstrip()}")
        batch = _unpacked(header, self.memories[slot])
        self.free.append(slot)
        return position, batch

    def ended(self) -> DataError:
        self.process.join(SECONDS)
        if self.process.exitcode == 1 and not self.heard_of:  # Python gave up before it served
            return DataError(
                f"Reader {self.number} could not start, for the reason printed above. A process "
                "that reads imports the script that is run; "
                'put what the script does under: if __name__ == "__main__":. Or use '
                'readers_as="threads".'
            )
        return DataError(
            f"Reader {self.number} ended in the midst of its work, with exit code "
            f"{self.process.exitcode}: it was killed, or ran out of "
            "memory. Nothing that was saved is lost; use fewer readers, or smaller batches."
        )

    def close(self) -> None:
        with contextlib.suppress(OSError):
            self.pipe.close()
        if self.process.pid is not None:
            self.process.terminate()
            self.process.join(SECONDS)
            if self.process.is_alive():
                self.process.kill()
                self.process.join()
        for memory in self.memories:
            memory.close()


def _by_processes(
    read: Read, tasks: Iterable[Task], readers: int, ahead: int, stall_after: float | None
) -> Generator[Batch, None, None]:
    if sys.platform == "win32":
        raise DataError(
            "Processes as readers need a system with shared file descriptors. Use "
            'readers_as="threads".'
        )
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(
        ["vinestep.data", "vinestep.data.pictures._transforms", "vinestep.data.sources._files"]
    )  # once, not for each reader
    crew: list[_Reader] = []
    done: dict[int, Any] = {}
    under_way: dict[int, Task] = {}
    left, asked = iter(tasks), 0
    try:
        crew += (_Reader(context, read, number, ahead) for number in range(readers))
        for position in itertools.count():
            while asked < position + readers * ahead and crew[asked % readers].free:
                try:
                    task = next(left)
                except StopIteration:
                    break
                crew[asked % readers].ask(asked, task)
                under_way[asked] = task
                asked += 1
            if position == asked:
                return
            while position not in done:
                found = _next_of(crew, stall_after)
                if found is None:
                    name = f"Reader {position % readers}"
                    raise _stalled(name, under_way[position], stall_after or 0)
                done[found[0]] = found[1]
                del under_way[found[0]]
            yield done.pop(position)
    finally:
        for reader in crew:
            reader.close()


def _next_of(crew: list[_Reader], seconds: float | None) -> tuple[int, Any] | None:
    """What comes first from any of them; None if nothing does in time."""
    ready = wait(
        [*(reader.pipe for reader in crew), *(reader.process.sentinel for reader in crew)], seconds
    )
    if not ready:
        return None
    for reader in crew:
        if reader.pipe in ready:
            try:
                return reader.receive()
            except (EOFError, OSError):
                raise reader.ended() from None
    raise next(reader for reader in crew if reader.process.sentinel in ready).ended()


def _serve(read: Read, pipe: Connection, shared: Sequence[Any]) -> None:
    """What a reader does, until the other end of the pipe is closed."""
    import signal

    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for the process that trains
    memories = [_Memory(descriptor.detach()) for descriptor in shared]
    while True:
        try:
            position, slot, task = pipe.recv()
        except (EOFError, OSError):
            return
        try:
            header, failure = _packed(read(task), memories[slot]), None
        except Exception as error:
            header, failure = None, (f"{type(error).__name__}: {error}", traceback.format_exc())
        try:
            pipe.send((position, slot, header, failure))
        except (BrokenPipeError, OSError):
            return


def _packed(batch: Batch, memory: _Memory) -> Any:
    """The arrays of a batch written to memory, and what is needed to find them again."""
    arrays: list[np.ndarray] = []
    outline = tuple(
        _outline(part, arrays) for part in (batch.inputs, batch.targets, batch.weights, batch.masks)
    )
    places, size = [], 0
    for array in arrays:
        places.append((size, array.shape, array.dtype.str))
        size += -(-array.nbytes // ALIGNMENT) * ALIGNMENT
    room = memory.room(max(size, 1), grow=True)
    for (place, shape, kind), array in zip(places, arrays, strict=True):
        np.ndarray(shape, kind, room, place)[...] = array
    return outline, places, size


def _outline(values: Any, arrays: list[np.ndarray]) -> Any:
    """The form of what may be several arrays, with their numbers in their places; whatever is no
    array of numbers stays as it is.
    """
    if isinstance(values, dict):
        return {name: _outline(value, arrays) for name, value in values.items()}
    if isinstance(values, tuple):
        return tuple(_outline(value, arrays) for value in values)
    if isinstance(values, np.ndarray) and not values.dtype.hasobject:
        arrays.append(values)
        return _Place(len(arrays) - 1)
    return values


class _Place(int):
    """The number of an array."""


def _unpacked(header: Any, memory: _Memory) -> Batch:
    outline, places, size = header
    room = memory.room(max(size, 1), grow=False)
    arrays = [np.ndarray(shape, kind, room, place).copy() for place, shape, kind in places]
    return Batch(*(_filled(part, arrays) for part in outline))


def _filled(outline: Any, arrays: list[np.ndarray]) -> Any:
    if isinstance(outline, dict):
        return {name: _filled(value, arrays) for name, value in outline.items()}
    if isinstance(outline, tuple):
        return tuple(_filled(value, arrays) for value in outline)
    return arrays[outline] if isinstance(outline, _Place) else outline
