"""What comes out of a run that is judged on a validation part is its best state, however it is
asked for.
"""

import copy
import pickle

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import RunError, SettingError

EPOCHS = 16
rng = np.random.default_rng(0)
X = rng.normal(size=(60, 6)).astype(np.float32)
Y = (X[:, 0] + rng.normal(size=60) > 0).astype(int)
TRAIN, REST = vs.data.Dataset(X, Y).split(0.5, 0.5)
VALIDATION = REST.batches(30)


def training(**options):
    """Learns its thirty examples by heart, and is best long before."""
    network = vs.Stack(vs.Dense(32, np.tanh), vs.BatchNorm(), vs.Dense(2))
    given = {"optimiser": vs.optimisers.Adam(0.03), "metrics": [vs.metrics.accuracy]} | options
    return vs.Training(network, loss=vs.losses.cross_entropy, **given)


def run(made, epochs=EPOCHS, validation=VALIDATION, **options):
    return made.run(TRAIN.batches(8), epochs=epochs, validation=validation, **options)


OPTIONS = {
    "plain": dict,
    "average": lambda: {"average": vs.WeightAverage(0.8)},
    "half": lambda: {"half": vs.HalfPrecision()},
    "accumulate": lambda: {"accumulate": 2},
}


@pytest.mark.parametrize("recorded", [False, True])
@pytest.mark.parametrize("option", OPTIONS)
def test_model_scores_and_file_are_those_of_the_best_state(option, recorded, tmp_path):
    made = training(**OPTIONS[option]())
    outcome = run(made, record=tmp_path if recorded else None)
    best, last = outcome.best(), outcome.rows[-1]
    assert outcome.best_row == best
    assert best["validation_loss"] < last["validation_loss"]
    assert "Best, which comes out: epoch" in repr(outcome)
    for state, row in ((None, best), ("best", best), ("last", last)):
        found = made.assess(VALIDATION, state=state)
        np.testing.assert_allclose(found["loss"], row["validation_loss"], rtol=1e-6)
        model = made.model(state)
        assert model.lineage["scores"]["epoch"] == row["epoch"]
        assert model.lineage["step"] == row["step"]
        assert model.lineage["state"] == (state or "best")
        np.testing.assert_array_equal(model.outputs(X), made.outputs(X, state=state))
        pd_equal = made.predict(X, state=state) == model.answers(model.outputs(X))
        assert pd_equal.to_numpy().all()
    for same in (copy.deepcopy(made), pickle.loads(pickle.dumps(made))):
        assert same.assess(VALIDATION) == made.assess(VALIDATION)
        assert same.model().lineage["scores"] == made.model().lineage["scores"]
    if recorded:
        handed = vs.open_model(outcome.folder / "run.vine")
        np.testing.assert_array_equal(handed.outputs(X), made.model().outputs(X))
        kept = vs.catalogue.keep(vs.runs.open(tmp_path)["run-1"], "notes")
        loaded = vs.catalogue.load("notes", place=tmp_path)
        np.testing.assert_array_equal(loaded.outputs(X), handed.outputs(X))
        assert kept.about["step"] == best["step"]


class StopAfter(vs.observers.Observer):
    def __init__(self, epoch):
        self.epoch = epoch

    def after_epoch(self, run, row):
        if row["epoch"] == self.epoch:
            run.stop("enough", resumable=True)


@pytest.mark.parametrize("option", OPTIONS)
@pytest.mark.parametrize("at", [1, EPOCHS - 1])
def test_a_run_that_was_interrupted_ends_with_the_same_best_state(option, at, tmp_path):
    whole = training(**OPTIONS[option]())
    expected = run(whole)
    first = run(training(**OPTIONS[option]()), record=tmp_path, observers=[StopAfter(at)])
    assert first.status is vs.training.Status.INTERRUPTED
    again = training(**OPTIONS[option]())
    outcome = run(again, resume=first.folder)
    assert outcome.best_row == expected.best_row
    np.testing.assert_array_equal(again.outputs(X), whole.outputs(X))
    file = vs.open_model(outcome.folder / "run.vine")
    np.testing.assert_array_equal(file.outputs(X), whole.outputs(X))


def test_a_best_state_that_was_not_kept_is_told(tmp_path, caplog):
    keeper = [vs.observers.Checkpoints("newest", keep=1)]
    first = run(training(), record=tmp_path, observers=[*keeper, StopAfter(EPOCHS - 1)])
    made = training()
    outcome = run(made, resume=first.folder, observers=keeper)
    assert "was not kept" in caplog.text
    assert outcome.best_row == outcome.rows[-1]
    assert made.assess(VALIDATION)["loss"] == pytest.approx(outcome.rows[-1]["validation_loss"])


def test_the_best_state_may_lie_within_an_epoch():
    made = training()
    outcome = run(made, epochs=6, validate_every="1 steps")
    scores = [row["validation_loss"] for row in [*outcome.looks, *outcome.rows]]
    assert outcome.best_row["validation_loss"] == min(scores)
    assert made.assess(VALIDATION)["loss"] == pytest.approx(min(scores), rel=1e-6)


def test_states_and_what_comes_out_are_judged_by_one_quantity(tmp_path):
    made = training()
    keeper = vs.observers.Checkpoints("best", by="validation_accuracy", keep=1)
    outcome = run(made, record=tmp_path, observers=[keeper])
    assert outcome.best_row == outcome.best("validation_accuracy")
    np.testing.assert_array_equal(
        vs.open_model(keeper.best_file(outcome)).outputs(X), made.outputs(X)
    )


def change_by_step(made):
    made.step((X[:8], Y[:8]))


def change_by_load(made):
    weights = made.network.weights() | made.network.statistics()
    made.network.load({path: array * np.float32(1.5) for path, array in weights.items()})


def change_by_state(made):
    other = training()
    other.prepare(TRAIN.batches(8))
    other.network.initialise(X)
    made.restore(made.state() | {"weights": other.network.weights()})


@pytest.mark.parametrize("change", [change_by_step, change_by_load, change_by_state])
def test_after_any_change_of_the_weights_they_are_what_comes_out(change):
    made = training()
    run(made)
    change(made)
    assert made.model().lineage["state"] == "last"
    np.testing.assert_array_equal(made.outputs(X), vs.held(made.network(X)))
    with pytest.raises(RunError, match="the weights were changed since"):
        made.assess(VALIDATION, state="best")


def test_observers_see_the_weights_as_they_are():
    made, seen = training(), []
    run(made)

    def look(run, row):
        seen.append(made.assess(VALIDATION)["loss"])

    outcome = run(made, epochs=4, observers=[look])
    expected = [row["validation_loss"] for row in outcome.rows]
    np.testing.assert_allclose(seen, expected, rtol=1e-6)


def test_without_validation_the_last_state_comes_out(tmp_path):
    made = training()
    outcome = run(made, epochs=2, validation=None, record=tmp_path)
    assert outcome.best_row == {}
    assert made.model().lineage["state"] == "last"
    with pytest.raises(RunError, match="no run of this training was judged"):
        made.model("best")
    with pytest.raises(SettingError, match='"best" or "last"'):
        made.model("newest")
    file = vs.open_model(outcome.folder / "run.vine")
    np.testing.assert_array_equal(file.outputs(X), made.outputs(X))


def test_a_network_that_no_file_can_hold_is_told(tmp_path, caplog):
    network = vs.Stack(vs.Dense(2), lambda x: x * 2)
    made = vs.Training(network, loss=vs.losses.cross_entropy)
    outcome = run(made, epochs=1, record=tmp_path)
    assert outcome.status is vs.training.Status.FINISHED
    assert "No model file was written beside the states" in caplog.text
    assert not list(outcome.folder.glob("*.vine"))
