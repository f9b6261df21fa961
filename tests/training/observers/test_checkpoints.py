"""States that are kept, written in the background, or begun from; weights that are taken over by
pattern.
"""

import threading

import numpy as np
import pytest
import tomli_w

import vinestep as vs
from vinestep.errors import (
    ArchiveError,
    LayerError,
    NotFiniteError,
    RunError,
)
from vinestep.storage.run_store import MemoryStore
from vinestep.training.plans._plan import read_plan
from vinestep.training.plans._planned_run import PlannedRun
from vinestep.training.run import _run as running

X = np.random.default_rng(0).normal(size=(48, 3)).astype("f4")
DATA = vs.data.Dataset(X, X[:, :1] - X[:, 1:2])


def training(**options):
    return vs.Training(
        vs.Stack(vs.Dense(6, vs.relu), vs.BatchNorm(), vs.Dense(1)),
        loss=vs.losses.squared_error,
        seed=3,
        **options,
    )


def run(keeper, epochs=9, **options):
    return training().run(DATA.batches(8), epochs=epochs, observers=[keeper], **options)


def test_every_so_many_epochs_are_kept_for_ever(tmp_path):
    outcome = run(vs.observers.Checkpoints(keep=1, keep_every=3, every=4), record=tmp_path)
    assert [int(name.split("-")[3]) for name in outcome.store.states()] == [3, 6, 9]
    outcome = run(vs.observers.Checkpoints(keep=2), record=tmp_path)
    assert [int(name.split("-")[3]) for name in outcome.store.states()] == [8, 9]


def test_between_two_savings_lies_so_much_time_but_best_and_last_are_kept(monkeypatch):
    saved = []
    monkeypatch.setattr(MemoryStore, "save_state", lambda self, name, *rest: saved.append(name))
    run(vs.observers.Checkpoints(seconds=3600), record=MemoryStore())
    assert [int(name.split("-")[1]) for name in saved] == [0, 6, 54]
    saved.clear()
    run(vs.observers.Checkpoints("best", seconds=3600, by="loss"), record=MemoryStore())
    assert len(saved) > 5


@pytest.fixture
def always_large(monkeypatch):
    monkeypatch.setattr(running, "LARGE", 0)


def test_large_states_are_written_by_another_thread_and_hold_what_was(
    always_large, tmp_path, monkeypatch
):
    threads = set()
    honest = vs.runs.RunFolder.save_state

    def noting(self, *arguments):
        threads.add(threading.current_thread().name)
        honest(self, *arguments)

    monkeypatch.setattr(vs.runs.RunFolder, "save_state", noting)
    keeper = vs.observers.Checkpoints("best", by="loss", every=2)
    outcome = run(keeper, epochs=4, record=tmp_path)
    assert any("vinestep states" in name for name in threads)
    assert vs.open_model(keeper.best_file(outcome)).lineage["step"] == 24
    one, again = training(), training()
    one.run(DATA.batches(8), epochs=9)
    again.run(DATA.batches(8), epochs=9, resume=outcome.folder)
    np.testing.assert_array_equal(one.network.arena.values, again.network.arena.values)


def test_what_goes_wrong_in_the_background_is_told_and_what_was_saved_stays(
    always_large, tmp_path, monkeypatch
):
    honest = vs.runs.RunFolder.save_state

    def full(self, name, *rest):
        if "00000018" in name:
            raise ArchiveError(f"{name}: cannot be written: No space left on device.")
        honest(self, name, *rest)

    monkeypatch.setattr(vs.runs.RunFolder, "save_state", full)
    with pytest.raises(ArchiveError, match="No space left on device"):
        run(vs.observers.Checkpoints(), epochs=9, record=tmp_path)
    monkeypatch.undo()
    folder = tmp_path / "run-1"
    assert vs.runs.RunFolder.open(folder).read_status()["status"] == "failed"
    one, again = training(), training()
    one.run(DATA.batches(8), epochs=9)
    again.run(DATA.batches(8), epochs=9, resume=folder)
    np.testing.assert_array_equal(one.network.arena.values, again.network.arena.values)


# weights of another network


def body(head, seed, dtype="f4"):
    return vs.Stack(vs.Stack(vs.Dense(5), vs.BatchNorm()), vs.Dense(head)).initialise(
        X[:2], seed=seed, dtype=dtype
    )


def test_a_body_is_taken_over_without_its_head_and_each_array_is_accounted_for():
    old, new = body(2, 1), body(7, 2)
    old.statistics()["0/1/mean"][...] = 5.0
    before = {path: array.copy() for path, array in new.weights().items()}
    report = vs.layers.load_matching(new, old, pattern="0/*")
    rows = report.table().set_index("path")
    assert set(report.loaded) == {
        path for path in {**old.weights(), **old.statistics()} if path.startswith("0/")
    }
    assert rows.loc["1/weight", "reason"] == "the pattern '0/*' leaves it out"
    for path in report.loaded:
        ours = {**new.weights(), **new.statistics()}[path]
        np.testing.assert_array_equal(ours, {**old.weights(), **old.statistics()}[path])
    for path in report.left:
        np.testing.assert_array_equal(new.weights()[path], before[path])
    assert "the source has shape (5, 2), the network (5, 7)" in str(
        vs.layers.load_matching(new, old)
    )


def test_names_are_translated_and_precisions_cast():
    wide = body(2, 1, "f8")
    arrays = {
        f"encoder.{path.replace('/', '.')}": array for path, array in wide.weights().items()
    } | {"decoder.w": np.ones(3)}
    new = body(2, 2)
    report = vs.layers.load_matching(
        new, arrays, names=lambda name: name.removeprefix("encoder.").replace(".", "/")
    )
    assert report.unused == ["decoder.w"]
    np.testing.assert_array_equal(
        new.weights()["1/weight"], wide.weights()["1/weight"].astype("f4")
    )
    back = body(2, 3, "f8")
    vs.layers.load_matching(back, new)
    np.testing.assert_array_equal(
        back.weights()["1/weight"].astype("f4"), new.weights()["1/weight"]
    )
    report = vs.layers.load_matching(
        new, {"top.weight": np.ones((5, 2)), "top.bias": np.zeros(2)}, names={"top.*": "1/*"}
    )
    assert report.loaded == ["1/weight", "1/bias"]
    before = new.weights()["1/weight"].copy()
    with pytest.raises(NotFiniteError):
        vs.layers.load_matching(new, {"1/weight": np.full((5, 2), np.nan), "1/bias": np.ones(2)})
    np.testing.assert_array_equal(new.weights()["1/weight"], before)
    with pytest.raises(LayerError, match="nothing matches"):
        vs.layers.load_matching(new, {"elsewhere": np.ones(2)})
    with pytest.raises(LayerError, match="both become '1/bias'"):
        vs.layers.load_matching(
            new, {"a": np.ones(2), "b": np.ones(2)}, names=lambda name: "1/bias"
        )


def test_a_run_begun_from_another_records_its_parent(tmp_path):
    keeper = vs.observers.Checkpoints("best", by="loss")
    first = training()
    parent = first.run(DATA.batches(8), epochs=3, observers=[keeper], record=tmp_path, name="old")
    child = training()
    child.network.initialise(X[:1], seed=9)
    report = child.start_from(parent.folder)
    assert not report.left
    np.testing.assert_array_equal(
        child.network.arena.values, vs.open_model(keeper.best_file(parent)).network.arena.values
    )
    outcome = child.run(DATA.batches(8), epochs=2, record=tmp_path, name="new")
    model = child.model()
    assert model.lineage["parent"]["run"].endswith("old-1")
    assert model.lineage["parent"]["step"] == 18
    again = training()
    again.run(DATA.batches(8), epochs=4, resume=outcome.folder)
    assert again.model().lineage["parent"]["run"].endswith("old-1")
    for source in (first, first.model(), keeper.best_file(parent), dict(first.network.weights())):
        other = training()
        other.network.initialise(X[:1], seed=9)
        assert other.start_from(source).loaded
    with pytest.raises(RunError, match="no such run"):
        child.start_from(tmp_path)


def test_a_plan_begins_from_a_run_and_freezes(tmp_path):
    vs.demo.barrels(150).to_csv(tmp_path / "barrels.csv", index=False)
    layers = [
        {"kind": "dense", "width": 8, "activation": "relu"},
        {"kind": "dense", "width": "classes"},
    ]
    plan = {"epochs": 2, "data": {"source": "barrels.csv", "target": "state"}, "layers": layers}
    (tmp_path / "plan.toml").write_text(tomli_w.dumps(plan))
    first = PlannedRun(read_plan(tmp_path / "plan.toml"), tmp_path).run(record=tmp_path / "records")
    relative = str(first.folder.relative_to(tmp_path))
    (tmp_path / "plan.toml").write_text(
        tomli_w.dumps(
            {**plan, "start_from": relative, "start_pattern": "0/*", "freeze": ["0/*"], "seed": 0}
        )
    )
    second = PlannedRun(read_plan(tmp_path / "plan.toml"), tmp_path)
    assert second.loaded.loaded == ["0/weight", "0/bias"]
    before = second.training.network.weights()["0/weight"].copy()
    outcome = second.run(record=tmp_path / "records")
    np.testing.assert_array_equal(second.training.network.weights()["0/weight"], before)
    plan = read_plan(outcome.folder / "plan.toml", settings=["epochs=3"])
    first.folder.rename(tmp_path / "gone")
    third = PlannedRun(plan, outcome.folder, resuming=True)
    assert len(third.run(resume=outcome.folder).rows) == 3
    assert third.training.model().lineage["parent"]["run"].endswith("run-1")
