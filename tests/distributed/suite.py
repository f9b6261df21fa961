"""What every communicator has to do, asked of each rank: ``mpiexec -n 3 python -m
tests.distributed.suite``.
"""

import sys

import numpy as np
import pytest

import vinestep as vs
from vinestep.distributed._compressed_sum import CompressedSum
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


def arrays_go_from_all_to_all(comm):
    spans = [(3 * rank, 3 * rank + 3) for rank in range(comm.size)]
    whole = np.zeros(3 * comm.size, np.float32)
    whole[slice(*spans[comm.rank])] = comm.rank + 1
    comm.all_gather_into(whole, spans)
    assert whole.tolist() == [1.0 + place // 3 for place in range(whole.size)]
    own = np.full(3, 10.0 * comm.rank)
    first = comm.gather_into_first(own, spans)
    assert (
        first is None
        if comm.rank
        else first.tolist() == [10.0 * (place // 3) for place in range(whole.size)]
    )


def values_go_from_one_to_another(comm):
    after, before = (comm.rank + 1) % comm.size, (comm.rank - 1) % comm.size
    if comm.size > 1:
        for size in (1, 100_000):
            comm.send(np.full(size, comm.rank), after)
            comm.send("and this", after)
            assert comm.receive(before).tolist() == [before] * size
            assert comm.receive(before) == "and this"
    every = comm.gather(comm.rank)
    assert every == (None if comm.rank else list(range(comm.size)))
    assert comm.broadcast(comm.rank, root=comm.size - 1) == comm.size - 1


def rounded_sums_keep_what_they_leave_away(comm):
    rng = [np.random.default_rng([rank, 5]) for rank in range(comm.size)]
    kept = np.zeros(1001)
    lost = np.zeros(1001)
    for _ in range(5):
        every = [one.normal(size=1001) * 1e-7 for one in rng]
        own = every[comm.rank].copy()
        pending = CompressedSum(comm, own, kept)
        (told,) = set(comm.gather_and_wait("all", [pending]))
        assert told == "all"
        pending.commit()
        np.testing.assert_allclose(own, sum(every), atol=3e-9)
        assert len({one.tobytes() for one in comm.all_gather(own)}) == 1
        lost += sum(every) - own
    np.testing.assert_allclose(sum(comm.all_gather(kept)), lost, atol=1e-16)
    bad = np.array([1.0, np.nan]) if comm.rank == 0 else np.ones(2)
    pending = CompressedSum(comm, bad, np.zeros(2))
    pending.wait()
    assert not np.isfinite(bad).all()


def sums_are_finished_before_an_error_is_raised(comm):
    array = np.full(200_000, 1.0)
    pending = comm.start_all_reduce(array)
    error = NotFiniteError("the loss is nan") if comm.rank == 0 else None
    with pytest.raises(NotFiniteError):
        comm.gather_and_wait(None, [pending], error=error)
    assert (array == comm.size).all()


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
    arrays_go_from_all_to_all,
    values_go_from_one_to_another,
    rounded_sums_keep_what_they_leave_away,
    sums_are_finished_before_an_error_is_raised,
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
