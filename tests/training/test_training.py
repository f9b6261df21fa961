import math
import shutil
import signal
import threading
import tracemalloc

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import (
    DataError,
    DifferentiationError,
    NotFiniteError,
    RunError,
)
from vinestep.storage import archive
from vinestep.training import Status
from vinestep.training.step._state import split_state


def data(n=100, seed=0):
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(n, 4)).astype(np.float32)
    return vs.data.Dataset(x, (x[:, 0] * x[:, 1] > 0).astype(int))


def training(**options):
    network = vs.Stack(vs.Dense(16), vs.relu, vs.Dropout(0.2), vs.Dense(2))
    settings = {
        "loss": vs.losses.cross_entropy,
        "metrics": [vs.metrics.accuracy],
        "optimiser": vs.optimisers.Adam(0.01),
        "seed": 3,
    }
    return vs.Training(network, **(settings | options))


def same_state(a, b):
    first, second = split_state(a.state())[0], split_state(b.state())[0]
    return first.keys() == second.keys() and all(np.array_equal(first[k], second[k]) for k in first)


class StopAt(vs.observers.Observer):
    ends_run = True

    def __init__(self, step, how="stop"):
        self.step, self.how = step, how

    def after_step(self, run, step):
        if step.number == self.step:
            if self.how == "signal":
                signal.raise_signal(signal.SIGINT)
            elif self.how == "error":
                raise RuntimeError("the power went")
            else:
                run.stop("enough", resumable=True)


def test_loss_falls_and_curves_tell():
    outcome = training().run(
        data(400).batches(32), epochs=30, validation=data(100, seed=1).batches(50)
    )
    curves = outcome.curves
    assert list(curves) == [
        "epoch",
        "step",
        "rate",
        "loss",
        "accuracy",
        "validation_loss",
        "validation_accuracy",
    ]
    assert curves["loss"].iloc[-1] < 0.6 * curves["loss"].iloc[0]
    assert outcome.status is Status.FINISHED
    assert outcome.best()["validation_loss"] == curves["validation_loss"].min()


def test_steps_are_what_run_does():
    a, b = training(), training()
    for step in a.steps(data().batches(16), epochs=2):
        assert step.gradients.norm() > 0
    b.run(data().batches(16), epochs=2)
    assert same_state(a, b)


def test_a_held_gradient_is_not_overwritten_by_later_steps():
    t = training()
    held = [
        (step.gradients, step.gradients.flat.copy())
        for step in t.steps(data().batches(16), epochs=1)
    ]
    assert all(np.array_equal(g.flat, copy) for g, copy in held)
    del held
    places = {t.step((data().inputs, data().targets)).gradients.flat.ctypes.data for _ in range(9)}
    assert len(places) == 1


def test_whoever_looks_at_a_part_of_a_gradient_keeps_it():
    t = training()
    part = t.step((data().inputs, data().targets)).gradients["0/weight"][1:, ::2]
    before = part.copy()
    for _ in range(4):
        t.step((data().inputs, data().targets))
    np.testing.assert_array_equal(part, before)


@pytest.mark.parametrize("stop", [1, 5, 14])  # the first, within an epoch, at the end of one
@pytest.mark.parametrize("how", ["stop", "signal", "error"])
def test_a_run_stopped_anywhere_continues_bit_for_bit(tmp_path, stop, how):
    whole = training()
    expected = whole.run(
        data().batches(16),
        validation=data(50, 1).batches(50),
        epochs=3,
        record=tmp_path,
        name="whole",
    )
    part = training()
    observers = [vs.observers.Checkpoints("best", every=2), vs.observers.Patience(50)]
    options = {"validation": data(50, 1).batches(50), "epochs": 3}
    try:
        outcome = part.run(
            data().batches(16),
            observers=[*observers, StopAt(stop, how)],
            record=tmp_path,
            name="part",
            **options,
        )
        assert outcome.status is Status.INTERRUPTED
        assert "vinestep resume" in outcome.reason
        folder = outcome.folder
    except RuntimeError:
        folder = next(tmp_path.glob("part-*"))
        assert vs.runs.RunFolder(folder).read_status()["status"] == "failed"
    again = training()
    done = again.run(data().batches(16), observers=observers, resume=folder, **options)
    assert same_state(whole, again)
    assert done.rows == expected.rows
    assert (folder / "curves.csv").read_bytes() == (expected.folder / "curves.csv").read_bytes()


def test_a_run_that_was_stopped_for_good_or_is_finished_is_not_continued(tmp_path):
    outcome = training().run(data().batches(16), epochs=1, record=tmp_path)
    with pytest.raises(RunError, match="this run is finished"):
        training().run(data().batches(16), epochs=1, resume=outcome.folder)
    with pytest.raises(RunError, match="there is no such run. Newest there: run-1"):
        training().run(data().batches(16), epochs=1, resume=tmp_path / "none-9")


def test_resuming_another_network_is_refused_and_changes_nothing(tmp_path):
    outcome = training().run(data().batches(16), epochs=2, record=tmp_path, observers=[StopAt(9)])
    other = vs.Training(vs.Dense(2), loss=vs.losses.cross_entropy, seed=3)
    other.network.initialise(data().inputs)
    before = other.network.arena.flat.copy()
    with pytest.raises(
        RunError, match=r"set up differently:\n  clip|set up differently:(\n.*)*network"
    ):
        other.run(data().batches(16), epochs=2, resume=outcome.folder)
    np.testing.assert_array_equal(other.network.arena.flat, before)


def test_patience_judges_on_the_best_value_so_far(tmp_path):
    patience = vs.observers.Patience(3, least_gain=0.1, by="loss")
    outcomes = []

    class FakeRun:
        validated = True

        def stop(self, reason):
            outcomes.append(reason)

        def direction(self, quantity):
            return "lower"

    for loss in (1.0, 0.95, 0.85, 0.8, 0.78, 0.76):
        patience.after_epoch(FakeRun(), {"loss": loss})
    assert outcomes == ["No gain in loss for 3 epochs"]


def test_two_observers_of_one_kind_keep_their_own_state(tmp_path):
    def watchers():
        return [vs.observers.Patience(90, by="loss"), vs.observers.Patience(90, by="accuracy")]

    outcome = training().run(
        data().batches(16), epochs=4, record=tmp_path, observers=[*watchers(), StopAt(15)]
    )
    again = watchers()
    training().run(
        data().batches(16), epochs=4, resume=outcome.folder, observers=[*again, StopAt(16)]
    )
    checkpoint = vs.runs.RunFolder(outcome.folder).newest_state()[0]
    kept = [checkpoint.meta["observers"][f"Patience {i}"]["best"] for i in (1, 2)]
    assert kept == [again[0].best, again[1].best]
    assert kept[0] > 0 > kept[1]


def test_best_checkpoints_are_kept_by_a_named_quantity(tmp_path):
    keeper = vs.observers.Checkpoints("best", by="validation_accuracy", keep=2)
    outcome = training().run(
        data().batches(16),
        validation=data(60, 1).batches(60),
        epochs=8,
        observers=[keeper],
        record=tmp_path,
    )
    names = outcome.store.states()
    best = [name for name in names if name.endswith("-best")]
    assert len(best) == 2
    assert {"step-00000056-epoch-8", "step-00000049-epoch-7"} <= {
        name.split("-validation")[0] for name in names
    }
    assert len(names) == len({*best, *names[-2:]})
    best = archive.read(keeper.best_file(outcome))
    row = outcome.best("validation_accuracy")
    assert best.meta["position"]["step"] == row["step"]


def test_validation_that_is_the_training_set_is_refused():
    train, rest = data().split(0.8, 0.2)
    with pytest.raises(DataError, match="80 of 80 validation examples are training examples"):
        training().run(train.batches(16), validation=train.batches(16), epochs=1)
    training().run(train.batches(16), validation=rest.batches(16), epochs=1)


def test_nan_loss_names_step_and_layer_and_changes_nothing(tmp_path):
    t = training()
    t.network.initialise(data().inputs)
    t.step(data().batches(16).epoch(0).__next__())
    t.network.weights()["3/bias"][0] = np.inf
    before = t.network.arena.flat.copy()
    with pytest.raises(NotFiniteError, match="Step 2: the loss is nan.*the parameter 3/bias"):
        t.step((data().inputs, data().targets))
    np.testing.assert_array_equal(t.network.arena.flat, before)
    t = vs.Training(vs.Stack(vs.Dense(3), np.log, vs.Dense(2)), loss=vs.losses.cross_entropy)
    with np.errstate(all="ignore"), pytest.raises(NotFiniteError, match=r"1 \(log\)"):
        t.step((data().inputs, data().targets))
    with pytest.raises(NotFiniteError, match="the inputs of the batch"):
        training().step((np.full((2, 4), np.nan, np.float32), np.array([0, 1])))


def test_a_loss_that_uses_no_parameter_is_explained():
    t = training()
    t.network.initialise(data().inputs)
    t.network.freeze()
    with pytest.raises(DifferentiationError, match="nothing trainable went into it"):
        t.step((data().inputs, data().targets))


def test_clip_bounds_the_norm():
    t = training(clip=1e-3)
    step = t.step((data().inputs, data().targets))
    assert step.gradients.norm() == pytest.approx(1e-3, rel=1e-4)


def test_predict_gives_probabilities_and_classes():
    t = training()
    t.run(data().batches(16), epochs=1)
    frame = t.predict(data(20))
    assert list(frame) == ["predicted", "probability 0", "probability 1"]
    np.testing.assert_allclose(frame[["probability 0", "probability 1"]].sum(axis=1), 1)
    assert frame["predicted"].dtype.kind == "i"
    assert set(frame["predicted"]) <= {0, 1}


def test_memory_does_not_grow_with_steps():
    t, batch = training(), (data().inputs, data().targets)
    for _ in range(50):
        t.step(batch)
    tracemalloc.start()
    before = tracemalloc.get_traced_memory()[0]
    for _ in range(1000):
        t.step(batch)
    grown = tracemalloc.get_traced_memory()[0] - before
    tracemalloc.stop()
    assert grown < 20_000


def test_two_threads_train_two_networks_at_once():
    alone = training()
    alone.run(data().batches(16), epochs=5)
    together = [training(), training()]
    threads = [
        threading.Thread(target=t.run, args=(data().batches(16),), kwargs={"epochs": 5})
        for t in together
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert all(same_state(alone, t) for t in together)


def test_run_numbers_only_rise(tmp_path):
    def made(name):
        with vs.runs.RunFolder.new(tmp_path, name) as folder:
            folder.begin(name, {})
        return folder.path.name

    assert [made(name) for name in ("a", "b c", "a")] == ["a-1", "b-c-2", "a-3"]
    shutil.rmtree(tmp_path / "a-3")
    assert made("x") == "x-4"
    (tmp_path / "a-1").rename(tmp_path / "kept-7")
    assert made("x") == "x-8"


def test_training_rate_is_recorded(tmp_path):
    schedule = vs.schedules.warmup(4).then(vs.schedules.cosine(20))
    outcome = training(schedule=schedule).run(data().batches(25), epochs=3, record=tmp_path)
    assert outcome.curves["rate"].tolist() == [0.01 * schedule(step - 1) for step in (4, 8, 12)]
    assert "warmup" in (outcome.folder / "plan.toml").read_text()
    assert not math.isnan(outcome.curves["loss"].iloc[-1])


def test_how_often_the_test_part_was_scored_is_recorded(tmp_path, caplog):
    train, validation, test = data(200).split(0.6, 0.2, 0.2)
    t = training()
    with pytest.raises(DataError, match="40 of 40 test examples are validation examples"):
        t.run(
            train.batches(16),
            validation=test.batches(40),
            test=test.batches(40),
            epochs=1,
            record=tmp_path,
        )
    outcome = t.run(
        train.batches(16),
        validation=validation.batches(40),
        test=test.batches(40),
        epochs=1,
        record=tmp_path,
    )
    t.assess(validation.batches(40))
    t.assess(test.batches(40))
    assert outcome.store.read_status()["test_scored"] == 1
    assert "test part" not in caplog.text
    t.assess(test.batches(8))
    assert outcome.store.read_status()["test_scored"] == 2
    assert "suspicious: the test part: it was scored 2 times" in caplog.text


@pytest.mark.skipif(not hasattr(signal, "SIGHUP"), reason="no terminals that hang up")
def test_a_hang_up_saves_and_stops(tmp_path):
    class HangUp(vs.observers.Observer):
        def after_step(self, run, step):
            if step.number == 5:
                signal.raise_signal(signal.SIGHUP)

    outcome = training().run(data().batches(16), epochs=3, observers=[HangUp()], record=tmp_path)
    assert outcome.status is Status.INTERRUPTED
    assert "its terminal hung up, after epoch 0 of 3, step 5" in outcome.reason


def test_a_run_goes_on_from_a_state_that_is_named(tmp_path):
    whole = training()
    whole.run(data().batches(16), epochs=3, record=tmp_path)
    keeper = [vs.observers.Checkpoints(every=3, keep=9)]
    outcome = training().run(
        data().batches(16), epochs=3, observers=[*keeper, StopAt(11)], record=tmp_path
    )
    names = outcome.store.states()
    assert [name.split("-")[1] for name in names] == [
        "00000000",
        "00000003",
        "00000006",
        "00000007",
        "00000009",
        "00000011",
    ]
    again = training()
    again.run(
        data().batches(16),
        epochs=3,
        resume=outcome.store.state_path(names[1]),
        observers=[vs.observers.Checkpoints(every=3, keep=9)],
    )
    assert same_state(whole, again)
    assert len(list((outcome.folder / "states").glob("*.refused"))) == 4


def test_observers_are_told_of_every_event():
    class Ear(vs.observers.Observer):
        def __init__(self):
            self.heard = []

        def before_step(self, run, number):
            self.heard.append(f"before {number}")

        def before_update(self, run, loss, gradients):
            self.heard.append(f"derived {gradients.norm() > 0}")

        def after_step(self, run, step):
            self.heard.append(f"after {step.number}")

        def wants_activations(self, number):
            return number == 2

        def activation(self, run, path, output):
            self.heard.append(f"{path} {output.shape}")

    ear, plain = Ear(), training()
    watched = training()
    watched.run(data(32).batches(16), epochs=1, observers=[ear])
    plain.run(data(32).batches(16), epochs=1)
    assert ear.heard[:4] == ["before 1", "derived True", "after 1", "before 2"]
    assert "0 (16, 16)" in ear.heard
    assert ear.heard[-2:] == ["derived True", "after 2"]
    assert all(
        np.allclose(a, b, rtol=1e-5, atol=1e-6)
        for a, b in zip(
            watched.network.weights().values(), plain.network.weights().values(), strict=True
        )
    )
