"""What every communicator has to do, asked of each rank: ``mpiexec -n 3 python -m
tests.distributed.suite``.
"""

import sys

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import NotFiniteError, PeerError


def gathers_values_in_order(comm):
    assert comm.all_gather((comm.rank, "x" * comm.rank)) == [
        (rank, "x" * rank) for rank in range(comm.size)
    ]
    found = comm.all_gather(np.full(5000 * comm.rank, comm.rank, np.int16))
    assert [len(one) for one in found] == [5000 * rank for rank in range(comm.size)]
    assert all((one == rank).all() for rank, one in enumerate(found))


def hands_on_what_the_first_has(comm):
    assert comm.broadcast({"epoch": 3} if comm.rank == 0 else "nothing") == {"epoch": 3}


def sums_arrays_to_the_same_bits(comm):
    for dtype in (np.float32, np.float64):
        for size in (1, 7, 100_000):
            rng = [np.random.default_rng([rank, size]) for rank in range(comm.size)]
            every = [one.normal(size=size).astype(dtype) for one in rng]
            own = every[comm.rank].copy()
            comm.all_reduce(own)
            np.testing.assert_allclose(own, sum(every), rtol=1e-5, atol=1e-5)
            assert len({one.tobytes() for one in comm.all_gather(own)}) == 1


def several_sums_may_be_under_way(comm):
    arrays = [np.full(1000, float(k + comm.rank)) for k in range(4)]
    for pending in [comm.start_all_reduce(array) for array in arrays]:
        pending.wait()
    ranks = sum(range(comm.size))
    assert [array[0] for array in arrays] == [k * comm.size + ranks for k in range(4)]


def an_error_of_one_is_one_of_all_and_they_go_on(comm):
    last = comm.size - 1
    error = NotFiniteError("the loss is nan") if comm.rank == last else None
    with pytest.raises(NotFiniteError, match="the loss is nan") as told:
        comm.all_gather(None, error=error)
    assert (f"On rank {last} of" in str(told.value)) is (comm.rank != last)
    assert comm.all_gather(1) == [1] * comm.size


def a_failure_is_heard_where_others_wait(comm):
    @comm.guarded()
    def act():
        if comm.rank == 0:
            raise ValueError("the cellar is dark")
        comm.all_gather("here")

    with pytest.raises(ValueError if comm.rank == 0 else PeerError, match="the cellar is dark"):
        act()
    assert comm.all_gather(1) == [1] * comm.size


SUITE = [
    gathers_values_in_order,
    hands_on_what_the_first_has,
    sums_arrays_to_the_same_bits,
    several_sums_may_be_under_way,
    an_error_of_one_is_one_of_all_and_they_go_on,
    a_failure_is_heard_where_others_wait,
]


def all_of_it():
    for test in SUITE:
        test(vs.distributed.communicator())


if __name__ == "__main__":
    assert vs.distributed.communicator().size == int(sys.argv[1])
    all_of_it()
    if vs.distributed.communicator().rank == 0:
        print(f"{len(SUITE)} passed")
