"""Observers that look every so many steps, and what becomes of one that fails."""

import io
import logging

import numpy as np
import pandas as pd
import pytest
from PIL import Image

import vinestep as vs
from vinestep.errors import LayerError, SettingError
from vinestep.training.observers._recorders import Norms

ob = vs.observers
X = np.random.default_rng(0).normal(size=(48, 3)).astype("f4")
DATA = vs.data.Dataset(X, X[:, :1] - X[:, 1:2])


def training(**options):
    network = vs.Stack(vs.Dense(6, vs.relu), vs.BatchNorm(), vs.Dense(1))
    return vs.Training(network, loss=vs.losses.squared_error, seed=3, **options)


def test_norms_are_those_of_the_arrays():
    one, seen, norms = training(), [], ob.Norms(3)

    class Keeping(ob.Observer):
        def before_step(self, run, number):
            self.before = {path: a.copy() for path, a in one.network.weights().items()}

        def after_step(self, run, step):
            seen.append(
                (
                    self.before,
                    {p: a.copy() for p, a in one.network.weights().items()},
                    step.gradients,
                    one.optimiser.state["m"].copy(),
                )
            )

    store = vs.training.MemoryStore()
    one.run(DATA.batches(8), epochs=2, observers=[Keeping(), norms], record=store)
    rows = store.read_series("norms")
    assert [row["step"] for row in rows] == [3, 6, 9, 12]
    for row in rows:
        before, after, gradients, m = seen[int(row["step"]) - 1]
        for path in before:
            assert row[f"{path} norm"] == pytest.approx(np.linalg.norm(before[path]), rel=1e-5)
            assert row[f"{path} gradient"] == pytest.approx(
                np.linalg.norm(gradients[path]), rel=1e-5
            )
            assert row[f"{path} update"] == pytest.approx(
                np.linalg.norm(after[path] - before[path]), rel=1e-4
            )
        slot = one.network.arena.layout["0/weight"]
        assert row["0/weight m"] == pytest.approx(
            np.linalg.norm(m[slot.start : slot.stop]), rel=1e-5
        )


def test_distributions_are_those_of_the_arrays():
    one, store, seen = training(), vs.training.MemoryStore(), {}

    class Keeping(ob.Observer):
        def after_step(self, run, step):
            seen[step.number] = {p: a.copy() for p, a in one.network.weights().items()}

    one.run(DATA.batches(8), epochs=2, observers=[Keeping(), ob.Distributions(4)], record=store)
    rows = store.read_series("distributions")
    assert [row["step"] for row in rows] == [4, 8, 12]
    for row in rows:
        for path, array in seen[int(row["step"])].items():
            assert row[f"weights {path} 50%"] == pytest.approx(np.median(array), abs=1e-6)
            assert row[f"weights {path} 100%"] == pytest.approx(array.max())
    kinds = {name.split()[0] for name in rows[0]} - {"step", "epoch"}
    assert kinds == {"weights", "gradients", "updates", "activations"}
    table = pd.read_csv(io.BytesIO(store.files["distributions-00000008.csv"]))
    assert table.groupby("of")["count"].sum()["weights 0/weight"] == 18
    assert table.groupby("of")["count"].sum()["activations 0"] == 8 * 6
    with pytest.raises(SettingError, match="of is some of weights"):
        ob.Distributions(of=["wieghts"])


def test_a_long_series_is_thinned_and_continued(tmp_path, monkeypatch):
    monkeypatch.setattr(Norms, "most", 10)

    def run(epochs, **options):
        return training().run(DATA.batches(4), epochs=epochs, observers=[ob.Norms(1)], **options)

    whole = vs.training.MemoryStore()
    run(6, record=whole)
    steps = [row["step"] for row in whole.read_series("norms")]
    assert np.diff(steps).tolist() == sorted(np.diff(steps).tolist())
    assert set(np.diff(steps)) == {1, 2, 4, 8}
    assert steps[-1] > 60
    first = run(3, record=tmp_path)
    again = run(6, resume=first.folder)
    assert [row["step"] for row in again.store.read_series("norms")] == steps


def test_the_machine_is_recorded():
    store = vs.training.MemoryStore()
    training().run(DATA.batches(8), epochs=3, observers=[ob.Machine(seconds=1e-6)], record=store)
    rows = store.read_series("machine")
    assert len(rows) == 18
    assert all(row["memory megabytes"] > 10 and row["threads"] >= 1 for row in rows)


def test_samples_show_the_same_inputs_first_and_latest():
    store = vs.training.MemoryStore()
    names = ob.Samples(X[:3], DATA.targets[:3], every=2)

    def drawn(outputs):
        content = io.BytesIO()
        Image.fromarray(np.uint8(np.clip(outputs[:, 0], 0, 1) * 255)[None]).save(content, "PNG")
        return content.getvalue()

    pictures = ob.Samples(X[:5], show=drawn, name="strip")
    one = training()
    one.run(DATA.batches(8), epochs=4, observers=[names, pictures], record=store)
    tables = [
        pd.read_csv(io.BytesIO(store.files[f"samples-{step:08d}.csv"])) for step in (0, 12, 24)
    ]
    assert tables[0]["truth"].tolist() == pytest.approx(DATA.targets[:3, 0], rel=1e-4)
    assert tables[-1]["output"].tolist() == pytest.approx(one.outputs(X[:3])[:, 0], rel=1e-4)
    assert Image.open(io.BytesIO(store.files["strip-00000024.png"])).size == (5, 1)


def test_outputs_of_a_layer(tmp_path):
    one, store = training(), vs.training.MemoryStore()
    one.run(DATA.batches(8), epochs=2, observers=[ob.LayerOutputs("0", X[:4])], record=store)
    found = np.load(io.BytesIO(store.files["outputs-0-00000012.npy"]))
    np.testing.assert_array_equal(found, one.network.outputs_of("0", X[:4]))
    weights = one.network.weights()
    np.testing.assert_allclose(
        found, np.maximum(X[:4] @ weights["0/weight"] + weights["0/bias"], 0), rtol=1e-5, atol=1e-6
    )
    with pytest.raises(LayerError, match="no layer '7'"):
        one.network.outputs_of("7", X[:4])


def test_a_failing_observer_is_reported_and_the_run_goes_on_unless_asked(caplog):
    class Failing(ob.Observer):
        def __init__(self):
            self.told = 0

        def after_step(self, run, step):
            self.told += 1
            if step.number == 3:
                raise ZeroDivisionError("no barrels")

    store, failing = vs.training.MemoryStore(), Failing()
    with caplog.at_level(logging.WARNING, "vinestep"):
        outcome = training().run(DATA.batches(8), epochs=2, observers=[failing], record=store)
    assert outcome.status.value == "finished"
    assert failing.told == 3
    words = "The observer Failing failed in after_step at step 3: ZeroDivisionError: no barrels"
    assert words in caplog.text
    assert words in store.read_console()
    failing = Failing()
    failing.ends_run = True
    with pytest.raises(ZeroDivisionError):
        training().run(DATA.batches(8), epochs=2, observers=[failing])


def test_scheduled_by_seconds_and_bad_settings():
    seen = []
    training().run(
        DATA.batches(8),
        epochs=2,
        observers=[ob.Scheduled(lambda run: seen.append(1), seconds=1e-9)],
    )
    assert len(seen) == 12
    wrong = (ob.Scheduled, (print,)), (ob.Norms, (0,)), (ob.Machine, (0,))
    for kind, arguments in wrong:
        with pytest.raises(SettingError):
            kind(*arguments)
    for kind, arguments in ((ob.Samples, (X,)), (ob.LayerOutputs, ("0", X))):
        with pytest.raises(SettingError, match="number of epochs"):
            kind(*arguments, every=0)
