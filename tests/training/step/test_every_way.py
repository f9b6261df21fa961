"""What is asked of a training holds in every way of training."""

import copy
import pickle

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import SettingError

rng = np.random.default_rng(1)
DATA = vs.data.Dataset(rng.normal(size=(24, 3)).astype(np.float32), rng.integers(0, 3, 24))
BATCHES = DATA.batches(4)
EPOCHS = 4
schedules, optimisers = vs.schedules, vs.optimisers

OPTIONS = {
    "nothing": dict,
    "mean of weights": lambda: {"average": vs.WeightAverage(after=3)},
    "fading average": lambda: {"average": vs.WeightAverage(0.8)},
    "half": lambda: {"half": vs.HalfPrecision(every=5)},
    "half and average": lambda: {"half": vs.HalfPrecision(), "average": vs.WeightAverage(0.8)},
    "clip": lambda: {"clip": 0.1},
    "clip_values": lambda: {"clip_values": 0.01},
    "accumulate": lambda: {"accumulate": 4},
    "warmup": lambda: {"schedule": schedules.warmup(5).then(schedules.cosine(20))},
    "restarts": lambda: {
        "schedule": schedules.cosine_restarts(5, forget=True),
        "optimiser": optimisers.Adam(0.01),
    },
    "by_epoch": lambda: {"schedule": schedules.by_epoch(schedules.step_decay(1, 0.5))},
    "plateau": lambda: {"schedule": schedules.plateau(1, least_gain=1.0, by="loss")},
    "rates": lambda: {"optimiser": optimisers.SGD(0.1, rate_factors={"0/*": 0.1})},
}


def training(options):
    network = vs.Stack(vs.Dense(4, np.tanh), vs.BatchNorm(), vs.Dropout(0.3), vs.Dense(3))
    settings = {"optimiser": optimisers.Adam(0.02), **OPTIONS[options]()}
    return vs.Training(network, loss=vs.losses.cross_entropy, seed=3, **settings)


def by_run(one, first, last, path):
    one.run(BATCHES, epochs=last - first)


def by_steps(one, first, last, path):
    if first:
        by_hand(one, first, last, path)
    else:
        list(one.steps(BATCHES, epochs=last))


def groups(one, epoch):
    for _, group in one.grouped(BATCHES.epoch(epoch, seed=one.seed)):
        yield group if isinstance(group, list) else [group]


def by_hand(one, first, last, path):
    """Epoch after epoch by `step`, as a loop of one's own would."""
    if not first:
        one.schedule.begin(one.updates_an_epoch(BATCHES))
    for epoch in range(first, last):
        losses = []
        for group in groups(one, epoch):
            batch = vs.data.Batch(
                np.concatenate([b.inputs for b in group]),
                np.concatenate([b.targets for b in group]),
            )
            losses.append((one.step(batch).loss, len(batch.targets)))
        mean = sum(loss * n for loss, n in losses) / sum(n for _, n in losses)
        one.schedule.watch(one.step_number - 1, mean, "loss")


def by_descent(one, first, last, path):
    descent, loss = one.descent, vs.losses.cross_entropy
    if not first:
        one.initialise(BATCHES.sample())
        descent.schedule.begin(one.updates_an_epoch(BATCHES))
    for epoch in range(first, last):
        losses = []
        for (batch,) in groups(one, epoch):
            step = descent.step(
                lambda batch=batch: loss(descent.network(batch.inputs), batch.targets)
            )
            losses.append(step.loss)
        descent.schedule.watch(descent.step_number - 1, float(np.mean(losses)), "loss")


def by_record(one, first, last, path):
    one.run(BATCHES, epochs=last, record=path / "run")


WAYS = {
    "steps": by_steps,
    "step": by_hand,
    "Descent.step": by_descent,
    "recorded": by_record,
}
COPIES = {
    "copied": copy.deepcopy,
    "pickled": lambda one: pickle.loads(pickle.dumps(one)),
}


def result(one):
    with one.descent.averaged():
        return {
            p: a.copy() for p, a in {**one.network.weights(), **one.network.statistics()}.items()
        }


@pytest.fixture(scope="module")
def of_run():
    known = {}

    def wanted(options):
        if options not in known:
            one = training(options)
            by_run(one, 0, EPOCHS, None)
            known[options] = result(one), result_of_last(one)
        return known[options]

    return wanted


def result_of_last(one):
    return {path: array.copy() for path, array in one.network.weights().items()}


def compare(one, wanted, *, exactly=True):
    for found, expected in zip((result(one), result_of_last(one)), wanted, strict=True):
        for path, array in expected.items():
            if exactly:
                np.testing.assert_array_equal(found[path], array, err_msg=path)
            else:
                np.testing.assert_allclose(found[path], array, rtol=1e-3, atol=1e-4, err_msg=path)


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize("options", OPTIONS)
def test_an_option_does_the_same_in_every_way(options, way, of_run, tmp_path):
    if options == "accumulate" and way in ("step", "Descent.step"):
        pytest.skip("batches are put together by those who make them")
    one = training(options)
    WAYS[way](one, 0, EPOCHS, tmp_path)
    # a loop of one's own is computed layer by layer, which may round otherwise
    compare(one, of_run(options), exactly=way != "Descent.step")


@pytest.mark.parametrize("copied", COPIES)
@pytest.mark.parametrize("options", OPTIONS)
def test_a_copy_in_mid_run_goes_on_as_the_run_would(options, copied, of_run, tmp_path):
    if options == "accumulate":
        pytest.skip("a batch is one step here")
    one = training(options)
    by_hand(one, 0, 2, tmp_path)
    other = COPIES[copied](one)
    by_hand(other, 2, EPOCHS, tmp_path)
    compare(other, of_run(options))
    assert one.step_number == 12


@pytest.mark.parametrize("options", OPTIONS)
def test_a_state_taken_back_goes_on_as_the_run_would(options, of_run, tmp_path):
    if options == "accumulate":
        pytest.skip("a batch is one step here")
    one, other = training(options), training(options)
    by_hand(one, 0, 2, tmp_path)
    state = copy.deepcopy(one.state())
    by_hand(one, 2, 3, tmp_path)
    other.initialise(BATCHES.sample())
    other.schedule.begin(other.updates_an_epoch(BATCHES))
    other.restore(state)
    by_hand(other, 2, EPOCHS, tmp_path)
    compare(other, of_run(options))


@pytest.mark.parametrize("options", OPTIONS)
def test_parameters_frozen_in_mid_run_stay_and_the_others_go_on(options):
    if options == "rates":
        pytest.skip("a pattern has to match what is trained")
    one = training(options)
    list(one.steps(BATCHES, epochs=2))
    one.network.freeze("0/*")
    frozen, before = one.network.weights()["0/weight"].copy(), result_of_last(one)
    list(one.steps(BATCHES, epochs=1))
    np.testing.assert_array_equal(one.network.weights()["0/weight"], frozen)
    assert not np.array_equal(one.network.weights()["3/weight"], before["3/weight"])
    one.network.thaw("0/*")
    list(one.steps(BATCHES, epochs=1))
    assert not np.array_equal(one.network.weights()["0/weight"], frozen)
    assert all(np.isfinite(array).all() for array in result(one).values())


def test_an_average_follows_its_definition_through_freezing():
    one = training("fading average")
    seen = []
    for step in one.steps(BATCHES, epochs=3):
        seen.append(one.network.weights()["3/weight"].copy())
        if step.number == 6:
            one.network.freeze("0/*")
            still = one.network.weights()["0/weight"].copy()
        if step.number == 12:
            one.network.thaw("0/*")
    factors = 0.2 * 0.8 ** np.arange(len(seen))[::-1] / (1 - 0.8 ** len(seen))
    wanted = np.einsum("t,tij->ij", factors, np.array(seen))
    np.testing.assert_allclose(result(one)["3/weight"], wanted, rtol=1e-5)
    assert not np.array_equal(result(one)["0/weight"], still)


def test_half_precision_keeps_its_float32_weights_through_freezing_and_copies():
    one = training("half")
    list(one.steps(BATCHES, epochs=2))
    kept = one.network.arena.layout
    master = {slot.path: kept.view(one.half.master, slot).copy() for slot in kept}
    one.network.freeze("0/*")
    one = copy.deepcopy(one)
    one.descent.begin()
    layout = one.network.arena.layout
    for slot in layout:
        np.testing.assert_array_equal(layout.view(one.half.master, slot), master[slot.path])


@pytest.mark.parametrize("part", [vs.WeightAverage(0.9), vs.HalfPrecision()])
def test_what_keeps_numbers_of_a_training_serves_one(part):
    name = "average" if isinstance(part, vs.WeightAverage) else "half"
    first = vs.Descent(vs.Dense(2), **{name: part})
    with pytest.raises(SettingError, match="belongs to another training already"):
        vs.Descent(vs.Dense(2), **{name: part})
    assert getattr(first, name) is part


def test_a_plateau_that_nobody_tells_anything_is_refused():
    for use in (
        lambda one: one.step((DATA.inputs, DATA.targets)),
        lambda one: one.descent.step(lambda: np.sum(one.network(DATA.inputs) ** 2)),
    ):
        one = training("plateau")
        one.initialise(BATCHES.sample())
        with pytest.raises(SettingError, match=r"Call schedule.begin\(None\)"):
            use(one)
    one = vs.Training(
        vs.Dense(3),
        loss=vs.losses.cross_entropy,
        schedule=schedules.plateau(1, by="validation_loss"),
    )
    with pytest.raises(SettingError, match="steps scores no validation part"):
        next(iter(one.steps(BATCHES)))


def test_steps_hand_on_how_rows_are_encoded(tmp_path):
    import pandas as pd

    frame = pd.DataFrame(
        {"site": ["a", "b"] * 8, "sugar": np.arange(16.0), "good": ["no", "yes"] * 8}
    )
    table = vs.data.Table(frame, target="good")
    one = vs.Training(vs.Dense(2), loss=vs.losses.cross_entropy)
    list(one.steps(table.batches(4)))
    file = one.model().save(tmp_path / "model.npz")
    found = vs.open_model(file).predict(frame[["site", "sugar"]])
    assert {"predicted", "no", "yes"} <= {str(c).split(" ")[-1] for c in found.columns}
    assert len(found) == 16
