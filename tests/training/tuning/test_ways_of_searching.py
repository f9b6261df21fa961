"""Searches over functions, spaces with conditions, quasi-random and chosen trials, and which
settings mattered.
"""

import numpy as np
import pytest
from scipy import stats

import vinestep as vs
from vinestep.errors import RunError, SettingError
from vinestep.training.tuning._gaussian_process import GaussianProcess, propose
from vinestep.training.tuning._importance import importance
from vinestep.training.tuning._trials import Space, Trials

X = np.random.default_rng(0).normal(size=(60, 2))
DATA = vs.data.Dataset(X, X[:, :1] * 2)
RATES = {"rate": {"low": 1e-4, "high": 1.0, "log": True}, "batch": [10, 30]}


def trial(settings, **options):
    training = vs.Training(
        vs.Dense(1), loss=vs.losses.squared_error, optimiser=vs.optimisers.SGD(settings["rate"])
    )
    train, validation = DATA.split(0.7, 0.3)
    return training.run(
        train.batches(settings["batch"]), validation=validation.batches(20), **options
    )


@pytest.mark.parametrize("how", ["random", "quasi_random", "gaussian_process", "halving"])
def test_a_function_is_searched_over_and_goes_on(tmp_path, how):
    asked = {"folder": tmp_path, "epochs": 3, "how": how, "trials": 9, "processes": 1}
    found = vs.training.search(trial, RATES, **asked)
    assert len(found.trials.trials) == 9
    assert found.best is not None
    assert found.best.value == min(t.value for t in found.trials.trials if t.value is not None)
    calls = []
    again = vs.training.search(trial, RATES, **asked)
    assert [t.run for t in again.trials.trials] == [t.run for t in found.trials.trials]
    assert not calls
    opened = vs.training.Search.open(tmp_path)
    assert opened.table().equals(found.table())
    if how != "halving":
        mattered = found.importance().set_index("setting")
        assert mattered.loc["rate", "p"] < mattered.loc["batch", "p"]


def test_a_search_cut_short_chooses_the_same_trials(tmp_path):
    asked = {"epochs": 2, "how": "gaussian_process", "trials": 8, "processes": 1}
    whole = vs.training.search(trial, RATES, folder=tmp_path / "whole", **asked)
    calls = []

    def cut(settings, **options):
        if len(calls) == 7:
            raise KeyboardInterrupt
        calls.append(settings)
        return trial(settings, **options)

    cut.__module__, cut.__qualname__ = trial.__module__, trial.__qualname__
    with pytest.raises(KeyboardInterrupt):
        vs.training.search(cut, RATES, folder=tmp_path / "cut", **asked)
    again = vs.training.search(trial, RATES, folder=tmp_path / "cut", **asked)
    assert [t.settings for t in again.trials.trials] == [t.settings for t in whole.trials.trials]
    assert again.best.value == whole.best.value


def test_functions_run_in_processes_of_their_own(tmp_path):
    found = vs.training.search(
        trial, RATES, folder=tmp_path, epochs=1, how="quasi_random", trials=3, processes=2
    )
    assert all(t.value is not None for t in found.trials.trials)


def test_a_function_that_cannot_be_searched_over_is_told_why(tmp_path):
    with pytest.raises(RunError, match="processes=1"):
        vs.training.search(lambda s, **o: None, RATES, folder=tmp_path, epochs=1)
    with pytest.raises(RunError, match="epochs"):
        vs.training.search(trial, RATES, folder=tmp_path / "b", processes=1)
    found = vs.training.search(
        lambda s, **o: None, RATES, folder=tmp_path / "c", epochs=1, processes=1, trials=1
    )
    assert "Return the Outcome" in found.trials.trials[0].failure


def test_settings_that_do_not_count_are_left_out():
    space = Space(
        {
            "optimiser.kind": ["adam", "sgd"],
            "optimiser.momentum": {
                "low": 0.0,
                "high": 0.9,
                "when": {"optimiser.kind": "sgd"},
            },
        }
    )
    for drawn in (*space.drawn(20, 0), *space.quasi_random(20, 0)):
        assert ("optimiser.momentum" in drawn) == (drawn["optimiser.kind"] == "sgd")
    lists = Space({"a": [1, 2], "b": {"values": [3, 4], "when": {"a": [2]}}})
    assert lists.grid() == [{"a": 1}, {"a": 2, "b": 3}, {"a": 2, "b": 4}]
    with pytest.raises(SettingError, match="no setting before it"):
        Space({"b": {"values": [1], "when": {"a": 1}}, "a": [1]})


def test_quasi_random_trials_fill_the_space_and_begin_alike():
    space = Space({"x": {"low": 0.0, "high": 1.0}, "y": {"low": 0.0, "high": 1.0}})
    places = [space.place_of(one) for one in space.quasi_random(64, 3)]
    counts = np.histogram2d(*np.array(places).T, bins=4, range=[[0, 1], [0, 1]])[0]
    assert counts.min() >= 2
    assert space.quasi_random(64, 3)[:10] == space.quasi_random(10, 3)
    assert space.quasi_random(10, 4) != space.quasi_random(10, 3)


def test_the_process_interpolates_and_knows_what_it_does_not_know():
    rng = np.random.default_rng(0)
    x = rng.random((25, 2))
    y = np.sin(4 * x[:, 0]) + x[:, 1] ** 2
    model = GaussianProcess(x, y)
    mean, deviation = model.predict(x)
    np.testing.assert_allclose(mean, y, atol=0.1)
    new = rng.random((400, 2))
    mean, deviation = model.predict(new)
    truth = np.sin(4 * new[:, 0]) + new[:, 1] ** 2
    assert np.mean(np.abs(truth - mean) < 3 * deviation + 0.05) > 0.95
    far = GaussianProcess(x / 4, y).predict(np.array([[1.0, 1.0]]))[1][0]
    assert far > deviation.mean()


def test_chosen_trials_find_the_minimum_sooner_than_random_ones():
    def score(place):
        return float((place[0] - 0.3) ** 2 + (place[1] - 0.7) ** 2)

    space = Space({"x": {"low": 0.0, "high": 1.0}, "y": {"low": 0.0, "high": 1.0}})
    bests = {}
    for how in ("gaussian_process", "random"):
        best = []
        for seed in range(5):
            trials = Trials.new(space, how, epochs=1, trials=18, seed=seed)
            while True:
                wanted = trials.wanted()
                if not wanted:
                    trials.propose(1)
                    wanted = trials.wanted()
                if not wanted:
                    break
                for one, epochs in wanted:
                    one.epochs, one.score = epochs, score(space.place_of(one.settings))
            best.append(trials.best.score)
        bests[how] = np.mean(best)
    assert bests["gaussian_process"] < bests["random"] / 10


def test_failed_trials_are_kept_away_from():
    x, y = np.array([[0.2], [0.5], [0.8]]), np.array([1.0, 0.0, 5.0])
    places = propose(x, y, 3, 0)
    assert places.shape == (3, 1)
    assert len(np.unique(places.round(3))) == 3


def test_a_useless_setting_is_not_called_important():
    """In 95 of 100 studies at least; a useful one is."""
    wrong = found = 0
    for seed in range(200):
        rng = np.random.default_rng(seed)
        drawn = [
            {
                "rate": float(rng.random()),
                "word": str(rng.integers(3)),
                "noise": float(rng.random()),
            }
            for _ in range(24)
        ]
        score = np.array([abs(one["rate"] - 0.5) for one in drawn]) + 0.05 * rng.normal(size=24)
        rows = {row["setting"]: row for row in importance(drawn, score)}
        wrong += rows["word"]["matters"] or rows["noise"]["matters"]
        found += rows["rate"]["matters"]
        assert all(row["low"] <= row["share"] + 0.3 for row in rows.values())
    assert wrong <= stats.binom.ppf(0.999, 200, 0.05)
    assert found >= 195


def test_few_trials_say_nothing():
    assert importance([{"a": 1.0}, {"a": 2.0}], np.array([1.0, 2.0])) == []
