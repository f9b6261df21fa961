"""Rates, sizes of batches, searches and profiles."""

import json
import math

import numpy as np
import pytest
import tomli_w
from hypothesis import given, strategies as st

import vinestep as vs
from vinestep.errors import PlanError, RunError, SettingError
from vinestep.training.tuning._search import Search
from vinestep.training.tuning._trials import Space, Trials

X = np.random.default_rng(0).normal(size=(240, 3)).astype("f4")
DATA = vs.data.Dataset(X, X[:, :1] - X[:, 1:2])


def training(**options):
    options = {
        "loss": vs.losses.squared_error,
        "optimiser": vs.optimisers.SGD(0.1),
        "seed": 1,
        **options,
    }
    return vs.Training(vs.Stack(vs.Dense(16, vs.relu), vs.Dense(1)), **options)


def test_the_suggested_rate_learns_and_ten_times_the_highest_does_not():
    one = training()
    one.network.initialise(X[:1], seed=1)
    before = one.network.arena.values.copy()
    found = one and vs.training.rate_range(one, DATA.batches(40), steps=120)
    np.testing.assert_array_equal(one.network.arena.values, before)
    assert one.step_number == 0
    assert one.optimiser.rate == 0.1
    assert 1e-3 < found.suggested <= found.highest < 10

    def end(rate):
        other = training(optimiser=vs.optimisers.SGD(rate))
        return other.run(DATA.batches(40), epochs=15).rows[-1]["loss"]

    assert end(found.suggested) < 0.2 * float(np.var(DATA.targets))
    assert end(found.suggested) < end(found.suggested / 1000)
    assert list(found.table()) == ["rate", "loss"]
    assert found.figure().axes[0].get_xscale() == "log"
    assert math.isnan(
        vs.training.RateRange(np.array([1.0, 2.0, 3.0]), np.array([1.0, 2.0, 3.0])).suggested
    )
    with pytest.raises(SettingError, match="0 < low < high"):
        vs.training.rate_range(one, DATA.batches(40), low=1, high=0.1)
    with pytest.raises(SettingError, match="LBFGS searches"):
        vs.training.rate_range(training(optimiser=vs.optimisers.LBFGS()), DATA.batches(40))


def test_sizes_of_batches():
    found = vs.training.batch_sizes(training(), DATA, sizes=[4, 16, 64, 256])
    table = found.table()
    assert table["size"].tolist() == [4, 16, 64, 256]
    assert table["megabytes"].is_monotonic_increasing
    assert (table["examples_per_second"] > 0).all()
    assert found.largest == 256
    assert found.fastest in (64, 256)
    assert (
        vs.training.batch_sizes(training(), DATA, megabytes=table["megabytes"][1] * 2).largest < 256
    )
    assert vs.training.BatchSizes(found.rows, 1e-9).largest == 0


# which trials


@given(st.integers(1, 40), st.integers(1, 81), st.integers(2, 4), st.integers(0, 3))
def test_halving_runs_the_best_on_and_ends(n, epochs, factor, seed):
    space = Space(
        {"a": {"low": 0.001, "high": 1.0, "log": True}, "b": {"low": 1, "high": 9, "whole": True}}
    )
    trials = Trials.new(space, "halving", epochs=epochs, trials=n, seed=seed, factor=factor)
    cost, alive = 0, n
    for rung in trials.rungs:
        wanted = trials.wanted()
        assert len(wanted) <= alive
        assert {target for _, target in wanted} == {rung}
        survivors = {trial.number for trial, _ in wanted}
        known = [
            trial
            for trial in trials.trials
            if trial.score is not None and trial.number not in survivors
        ]
        for trial, target in wanted:
            if known and trial.epochs:
                assert trial.score <= min(
                    other.score for other in known if other.epochs == trial.epochs
                )
            cost += target - trial.epochs
            trial.epochs, trial.score = target, abs(math.log(trial.settings["a"]) + 2)
        alive = len(wanted)
    assert trials.wanted() == []
    assert trials.rungs[-1] == epochs
    assert cost <= n * epochs
    assert trials.best.epochs == epochs


@given(st.integers(1, 20), st.integers(1, 20), st.integers(0, 5))
def test_draws_are_repeatable_and_within_their_ranges(n, more, seed):
    space = Space(
        {
            "rate": {"low": 1e-4, "high": 1e-1, "log": True},
            "width": {"low": 4, "high": 64, "whole": True},
            "kind": ["a", "b"],
        }
    )
    few, many = space.drawn(n, seed), space.drawn(n + more, seed)
    assert many[:n] == few
    for settings in many:
        assert 9.9e-5 <= settings["rate"] <= 0.1001
        assert isinstance(settings["width"], int)
        assert 4 <= settings["width"] <= 64
        assert settings["kind"] in "ab"


def test_a_grid_is_every_combination():
    space = Space({"a": [1, 2, 3], "b": ["x", "y"]})
    trials = Trials.new(space, "grid", epochs=5)
    assert [trial.settings for trial in trials.trials] == [
        {"a": a, "b": b} for a in (1, 2, 3) for b in "xy"
    ]
    assert [epochs for _, epochs in trials.wanted()] == [5] * 6
    for trial in trials.trials[1:]:
        trial.epochs, trial.score = 5, float(trial.number)
    trials.trials[0].failure = "refused"
    assert trials.wanted() == []
    assert trials.best.number == 1


@pytest.mark.parametrize(
    ("values", "message"),
    [
        ({}, "needs settings"),
        ({"a": []}, "a list of values, or a range"),
        ({"a": "xyz"}, "a list of values, or a range"),
        ({"a": {"low": 2, "high": 1}}, "a range has low < high"),
        ({"a": {"low": 0, "high": 1, "log": True}}, "above 0 with log"),
        ({"a": {"low": 0, "high": 1, "lag": True}}, "a range has"),
    ],
)
def test_spaces_that_say_nothing_are_refused(values, message):
    with pytest.raises(SettingError, match=message):
        Space(values)
    with pytest.raises(SettingError, match="a grid needs a list"):
        Trials.new(Space({"a": {"low": 0, "high": 1}}), "grid", epochs=1)


# a search


@pytest.fixture
def plan(tmp_path):
    vs.demo.barrels(200).to_csv(tmp_path / "barrels.csv", index=False)
    plan = {
        "epochs": 4,
        "data": {"source": "barrels.csv", "target": "state"},
        "layers": [
            {"kind": "dense", "width": 8, "activation": "relu"},
            {"kind": "dense", "width": "classes"},
        ],
        "optimiser": {"kind": "adam", "rate": 0.01},
    }
    (tmp_path / "plan.toml").write_text(tomli_w.dumps(plan))
    return tmp_path / "plan.toml"


def test_a_search_is_recorded_interrupted_and_gone_on_with(plan, tmp_path):
    space = {"optimiser.rate": [0.0001, 0.03, -1.0], "layers.0.width": [8]}
    asked = {"folder": tmp_path / "search", "how": "halving", "epochs": 4, "factor": 2}
    asked["processes"] = 1
    found = vs.training.search(plan, space, **asked)
    rows = found.table()
    assert found.best.settings["optimiser.rate"] == 0.03
    assert rows["optimiser.rate"].iloc[0] == 0.03
    failed = rows[rows["optimiser.rate"] == -1.0].iloc[0]
    assert "must be a positive number" in failed["failure"]
    assert rows["epochs"].max() == 4
    assert len(found.figure().axes) == 2
    runs = sorted((tmp_path / "search").glob("trial*"))
    best = vs.runs.RunFolder.open(found.best.run)
    assert min(row["validation_loss"] for row in best.read_series("epochs")) == pytest.approx(
        found.best.value
    )
    assert len(best.read_series("epochs")) == 4

    known = json.loads((tmp_path / "search" / "search.json").read_text())
    for trial in known["trials"]:  # as if it had been interrupted after the first rung
        if trial["epochs"] == 4 and not trial["failure"]:
            trial["epochs"], trial["score"], trial["value"], trial["run"] = 0, None, None, ""
    (tmp_path / "search" / "search.json").write_text(json.dumps(known))
    again = vs.training.search(plan, space, **asked)
    assert again.best.number == found.best.number
    assert again.best.epochs == 4
    assert sorted((tmp_path / "search").glob("trial*")) == runs
    assert Search.open(tmp_path / "search").best.number == found.best.number
    with pytest.raises(RunError, match="a search with other epochs"):
        vs.training.search(plan, space, **{**asked, "epochs": 5})
    with pytest.raises(RunError, match="no search to go on with"):
        Search.open(tmp_path)
    with pytest.raises(PlanError, match=r"optimiser.rat"):
        vs.training.search(plan, {"optimiser.rat": [0.1]}, folder=tmp_path / "other")
    assert not (tmp_path / "other").exists()


# a profile


def test_a_profile_tells_parts_layers_and_operations():
    one = training(metrics=[vs.metrics.absolute_error])
    one.network.initialise(X[:1], seed=1)
    before = one.network.arena.values.copy()
    found = vs.training.profile(one, DATA.batches(40), steps=8)
    np.testing.assert_array_equal(one.network.arena.values, before)
    table = found.table()
    assert set(table["kind"]) == {"step", "layer, forward", "operation, backward"}
    assert (table["milliseconds"] >= 0).all()
    assert any("0 (Dense)" in part for part in table["part"])
    assert (table["kind"] == "operation, backward").sum() >= 2
    assert found.figure().axes[0].get_xlabel() == "milliseconds a step"
    with pytest.raises(SettingError):
        vs.training.profile(one, DATA.batches(40), steps=0)
    stack = vs.training.profile(
        training(),
        vs.data.Stream(lambda: iter(zip(X, DATA.targets, strict=True))).batches(40),
        steps=8,
    )
    assert len(stack.rows) == 5


def test_a_schedule_is_drawn_before_it_is_used():
    s = vs.schedules
    drawn = vs.figures.schedule(s.by_epoch(s.step_decay(2)), 60, rate=0.1, steps_per_epoch=10)
    line = drawn.axes[0].get_lines()[0]
    assert line.get_ydata()[[0, 19, 20, 59]] == pytest.approx([0.1, 0.1, 0.05, 0.025])
