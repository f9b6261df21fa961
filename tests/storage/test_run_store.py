"""One suite that every store passes: what is recorded does not depend on where."""

import threading

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import ArchiveError, RunError
from vinestep.runs._ledger import ledger_url
from vinestep.training import MemoryStore, Request


@pytest.fixture(params=["memory", "folder", "ledger", "postgres"])
def store(request, tmp_path):
    if request.param == "memory":
        yield MemoryStore()
        return
    if request.param == "postgres":
        yield vs.runs.LedgerStore.new(
            vs.runs.Ledger(ledger_url(".", request.getfixturevalue("database"))), "barrels"
        )
        return
    if request.param == "ledger":
        yield vs.runs.LedgerStore.new(
            vs.runs.Ledger(f"sqlite:///{tmp_path}/ledger.sqlite"), "barrels"
        )
        return
    with vs.runs.RunFolder.new(tmp_path, "barrels") as folder:
        yield folder


def test_a_run_begins_once_and_is_known(store):
    store.write_status(
        {"status": "ready", "reason": "", "epoch": 0, "epochs": 3, "step": 0, "last": {}}
    )
    store.begin("barrels", {"epochs": 3, "clip": None})
    store.write_status({"status": "finished", "reason": "All done.", "epoch": 3, "test_scored": 1})
    store.write_status({"last": {"loss": 0.5}})
    known = store.read_status()
    assert (known["status"], known["epoch"], known["test_scored"], known["last"]) == (
        "finished",
        3,
        1,
        {"loss": 0.5},
    )
    assert "barrels" in store.label
    with pytest.raises(RunError, match=r"finished: All done\."):
        store.check_resumable()


ROWS = [{"epoch": 1.0, "step": 5.0, "loss": 0.1 + 0.2}, {"epoch": 2.0, "step": 10.0, "loss": 1 / 3}]


@pytest.mark.parametrize("series", ["epochs", "steps"])
def test_numbers_come_back_to_the_last_bit(store, series):
    assert store.read_series(series) == []
    store.write_series(series, ROWS[:1])
    store.write_series(series, ROWS)
    assert store.read_series(series) == ROWS


def test_whatever_is_recorded_is_a_file_of_its_name(store):
    store.write_file("curves.png", b"\x89PNG")
    store.picture("examples of leaves", 3, b"\x89PNG3")
    store.table("scores", 3, [{"part": "test", "loss": 0.5}])
    store.text("generated", 3, "old vines")
    store.distribution("0/weight", 7, [0.0, 0.5, 1.0], [3, 4])
    assert store.read_file("curves.png") == b"\x89PNG"
    assert store.read_file("examples-of-leaves-00000003.png") == b"\x89PNG3"
    assert store.read_file("scores-00000003.csv") == b"part,loss\ntest,0.5\n"
    assert store.read_file("generated-00000003.txt") == b"old vines"
    assert store.read_file("0-weight-00000007.csv") == b"from,to,count\n0.0,0.5,3\n0.5,1.0,4\n"
    with pytest.raises(RunError, match="no file"):
        store.read_file("missing.png")
    with pytest.raises(RunError, match="3 counts need 4 edges"):
        store.distribution("x", 1, [0.0, 1.0], [1, 2, 3])


def test_console_keeps_lines_in_order(store):
    store.write_console("first")
    store.write_console("second")
    assert store.read_console() == "first\nsecond\n"


def test_states_are_kept_renamed_and_removed(store):
    for step in (5, 10, 15):
        store.save_state(
            f"step-{step:08d}", {"weights/0/bias": np.full(2, float(step))}, {"step": step}
        )
    assert store.states() == ["step-00000005", "step-00000010", "step-00000015"]
    found = store.read_state("step-00000010")
    assert (found.arrays["weights/0/bias"].tolist(), found.meta["step"], found.name) == (
        [10.0, 10.0],
        10,
        "step-00000010",
    )
    store.rename_state("step-00000010", "step-00000010-best")
    store.rename_state("step-00000005", None)
    store.rename_state("step-00000999", None)
    assert store.states() == ["step-00000010-best", "step-00000015"]
    assert store.newest_state()[0].meta["step"] == 15
    with pytest.raises(ArchiveError, match="no such state|no state"):
        store.read_state("step-00000005")


def test_the_newest_state_that_is_accepted(store):
    def accept(state):
        if state.meta["step"] > 5:
            raise ArchiveError(f"{state.name} is not wanted")

    with pytest.raises(ArchiveError, match="no state to continue from"):
        store.newest_state()
    for step in (5, 10):
        store.save_state(f"step-{step:08d}", {}, {"step": step})
    found, refused = store.newest_state(accept)
    assert found.meta["step"] == 5
    assert refused == ["step-00000010 is not wanted"]


def test_a_saved_state_does_not_follow_its_arrays(store):
    array = np.zeros(3)
    store.save_state("step-00000001", {"a": array}, {"position": [1]})
    array += 1
    assert store.read_state("step-00000001").arrays["a"].tolist() == [0, 0, 0]


def test_requests_are_read_once_in_order(store):
    store.write_status({"status": "running"})
    store.begin("x", {})
    assert store.requests() == []
    store.ask(Request("note", "the door was open"))
    store.ask(Request("stop"))
    assert store.requests() == [Request("note", "the door was open"), Request("stop")]
    assert store.requests() == []
    with pytest.raises(RunError, match="asked to stop, finish, note; got 'explode'"):
        store.ask(Request("explode"))


def data(n=40):
    x = np.random.default_rng(0).normal(size=(n, 3)).astype(np.float32)
    return vs.data.Dataset(x, np.arange(n) % 2)


class Ask(vs.observers.Observer):
    def __init__(self, what):
        self.what = what

    def after_step(self, run, step):
        if step.number == 7:
            run.store.ask(Request(self.what, "enough"))
            run._looked = 0.0  # as if time had gone by


def train(store, observers=(), **options):
    training = vs.Training(
        vs.Stack(vs.Dense(4, vs.relu), vs.Dense(2)), loss=vs.losses.cross_entropy, seed=1
    )
    where = options or {"record": store}
    return training, training.run(data().batches(8), epochs=4, observers=[*observers], **where)


@pytest.mark.parametrize(("what", "status"), [("stop", "interrupted"), ("finish", "finished")])
def test_somebody_outside_asks_a_run(store, what, status):
    _, outcome = train(store, [Ask(what)])
    assert outcome.status.value == status == store.read_status()["status"]
    assert "Told to" in outcome.reason
    assert "enough" in outcome.reason
    assert outcome.rows[-1]["step"] < 20


def test_a_note_from_outside_is_written_down(store):
    _, outcome = train(store, [Ask("note")])
    assert outcome.status.value == "finished"
    assert "note: enough" in store.read_console()


def test_a_run_recorded_anywhere_goes_on_to_equal_bits(store):
    whole, expected = train(MemoryStore())
    _, stopped = train(store, [Ask("stop")])
    assert stopped.status.value == "interrupted"
    place = store if isinstance(store, MemoryStore) else None
    if place is None:
        return  # the folder is held by this test; folders are resumed in test_training
    again, outcome = train(store, resume=store)
    assert outcome.rows == expected.rows
    assert all(
        np.array_equal(a, b)
        for a, b in zip(
            again.network.weights().values(), whole.network.weights().values(), strict=True
        )
    )


def test_what_is_printed_logged_and_warned_of_is_kept(store, capsys):
    class Talk(vs.observers.Observer):
        def after_epoch(self, run, row):
            import logging
            import warnings

            print(f"epoch {row['epoch']}")
            print("\r10 %", end="")
            print("\r20 %")
            logging.getLogger("vinestep").warning("warm")
            warnings.warn("odd", stacklevel=1)

    with pytest.warns(UserWarning, match="odd"):
        train(store, [Talk()])
    kept = store.read_console()
    assert all(line in kept for line in ("epoch 1\n", "warning: warm\n"))
    assert "20 %" not in kept
    assert "epoch 4" in capsys.readouterr().out


def test_several_threads_write_to_one_console(store):
    threads = [
        threading.Thread(target=lambda k=k: [store.write_console(f"{k} {i}") for i in range(50)])
        for k in range(4)
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(store.read_console().splitlines()) == 200
