"""Cross-validation: whose folds, what is learned on them, and how sure the scores are."""

import tomllib

import numpy as np
import pandas as pd
import pytest
import tomli_w
from scipy import stats

import vinestep as vs
from vinestep.errors import DataError, PlanError, RunError, SettingError

from ...command_line import vinestep_here

cross_validate = vs.training.cross_validate


def fitted(train, seed, shift=0.0, **options):
    """A line fitted in closed form, in place of a training of many steps."""
    training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error, seed=seed)
    training.initialise(vs.data.Batch(train.inputs), dtype="float64")
    a = np.column_stack([train.inputs, np.ones(len(train))])
    found = np.linalg.lstsq(a, train.targets[:, 0], rcond=None)[0]
    training.network.load({"weight": found[:-1, None], "bias": found[-1:] + shift})
    return training


def line(n, seed, d=2):
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(n, d))
    return vs.data.Dataset(x, x[:, :1] + rng.normal(size=(n, 1)))


def test_every_example_is_held_out_once_in_each_division():
    data, seen = line(31, 0), []

    def fit(train, seed, **options):
        seen.append((len(train), seed, train))
        return fitted(train, seed)

    found = cross_validate(fit, data, folds=4, repeats=2, seeds=2, seed=5)
    assert len(found.rows) == 16
    assert sorted({row["seed"] for row in found.rows}) == [5, 6]
    per_division = found.table()[lambda t: t.seed == 5].groupby("repeat")["test"].sum()
    assert per_division.tolist() == [31, 31]
    for row, (n, seed, _) in zip(found.rows, seen, strict=True):
        assert (row["train"], row["seed"]) == (n, seed)


def test_the_interval_and_the_comparison_are_those_of_nadeau_and_bengio():
    found = cross_validate(fitted, line(40, 1), folds=5)
    values, share = found.table()["loss"].to_numpy(), 8 / 32
    error = np.sqrt(values.var(ddof=1) * (1 / 5 + share))
    reach = stats.t.ppf(0.975, 4) * error
    row = found.summary().set_index("score").loc["loss"]
    assert (row["mean"], row["low"]) == pytest.approx((values.mean(), values.mean() - reach))
    worse = cross_validate(lambda *a, **o: fitted(*a, shift=3.0, **o), line(40, 1), folds=5)
    apart = found.difference(worse)
    both = worse.table()["loss"].to_numpy() - values
    t = both.mean() / np.sqrt(both.var(ddof=1) * (1 / 5 + share))
    assert apart.p == pytest.approx(2 * stats.t.sf(abs(t), 4))
    assert apart.verdict == "first"
    assert "the first is better" in str(apart)
    assert found.difference(found).verdict == ""
    with pytest.raises(RunError, match="no score 'recall'"):
        found.difference(worse, "recall")


def test_intervals_cover_and_equal_ways_are_not_told_apart():
    """On 200 draws, within binomial bounds."""
    new = line(20_000, 10_000)
    covered = told = 0
    for draw in range(200):
        data = line(60, draw)
        found = cross_validate(fitted, data, folds=5, seed=draw)
        row = found.summary().set_index("score").loc["loss"]
        truth = fitted(data, 0).assess(new.batches(20_000))["loss"]
        covered += row["low"] <= truth <= row["high"]
        noise = np.random.default_rng(draw)

        def other(train, seed, noise=noise, **options):
            training = fitted(train, seed)
            weights = training.network.weights()
            training.network.load(
                {path: a + 0.05 * noise.normal(size=a.shape) for path, a in weights.items()}
            )
            return training

        def one(train, seed, noise=noise, **options):
            return other(train, seed, noise)

        first, second = (cross_validate(way, data, folds=5, seed=draw) for way in (other, one))
        told += bool(first.difference(second).verdict)
    assert covered >= stats.binom.ppf(0.001, 200, 0.95)
    assert told <= stats.binom.ppf(0.999, 200, 0.05)


def cellar(n=120):
    rng = np.random.default_rng(0)
    frame = pd.DataFrame(rng.normal(size=(n, 3)), columns=["pH", "sugar", "warmth"])
    frame["cooper"] = np.where(np.arange(n) % 10 == 0, "Rare", "Alder")
    frame["state"] = np.where(frame["pH"] + 0.3 * rng.normal(size=n) > 0, "sound", "stuck")
    frame["vine"] = np.arange(n) // 6
    frame["day"] = pd.date_range("2026-01-01", periods=n).astype(str)
    return frame


def test_of_a_table_each_fold_learns_its_own_encoding():
    frame = cellar()
    known = []

    def fit(train, seed, **options):
        table = vs.data.Table(
            train, target="state", leave_out=["day", "vine"], unseen_categories="zeros"
        )
        part, validation = table.split(0.8, 0.2, seed=seed)
        part, validation = vs.data.scaled(part, validation)
        known.append(part.scaling.centres.tolist())
        training = vs.Training(
            vs.Dense(2), task=vs.tasks.Classes(), optimiser=vs.optimisers.Adam(0.1), seed=seed
        )
        training.run(part.batches(16), validation=validation.batches(30), epochs=5, **options)
        return training

    found = cross_validate(fit, frame, folds=3, stratified="state", groups="vine")
    assert len({tuple(one) for one in known}) == 3
    assert found.summary().set_index("score").loc["accuracy", "mean"] > 0.7
    later = cross_validate(fit, frame, folds=3, by="day")
    assert later.table()["train"].tolist() == [30, 60, 90]
    with pytest.raises(DataError, match="no column 'vines'"):
        cross_validate(fit, frame, groups="vines")
    with pytest.raises(SettingError, match="Return the Training"):
        cross_validate(lambda train, seed: None, line(20, 0))
    with pytest.raises(SettingError, match="seeds must be"):
        cross_validate(fit, frame, seeds=0)


PLAN = {
    "name": "cellar",
    "epochs": 3,
    "optimiser": {"kind": "adam", "rate": 0.05},
    "data": {
        "source": "cellar.csv",
        "target": "state",
        "leave_out": ["day"],
        "groups": "vine",
        "batch": 16,
    },
    "layers": [{"kind": "dense", "width": "classes"}],
}


def planned(tmp_path, **data):
    cellar().to_csv(tmp_path / "cellar.csv", index=False)
    plan = PLAN | {"data": PLAN["data"] | data}
    (tmp_path / "plan.toml").write_text(tomli_w.dumps(plan))
    return tmp_path / "plan.toml"


def test_a_plan_is_cross_validated_recorded_and_goes_on(tmp_path):
    plan = planned(tmp_path)
    whole = cross_validate(plan, folds=3, record=tmp_path / "folds")
    runs = vs.runs.open(tmp_path / "folds")
    assert len(list(runs)) == 3
    assert [row["run"] for row in whole.rows] == [f"cellar-1.{i}-{i}" for i in (1, 2, 3)]
    asked = [tomllib.loads((run.folder.path / "plan.toml").read_text()) for run in runs]
    assert sorted(plan["data"]["fold"]["number"] for plan in asked) == [1, 2, 3]
    again = cross_validate(plan, folds=3, record=tmp_path / "folds")
    assert again.rows == whole.rows
    assert len(list(vs.runs.open(tmp_path / "folds"))) == 3
    with pytest.raises(RunError, match="other folds"):
        cross_validate(plan, folds=4, record=tmp_path / "folds")
    unrecorded = cross_validate(plan, folds=3)
    assert [r["loss"] for r in unrecorded.rows] == [r["loss"] for r in whole.rows]
    model = vs.open_model(next((tmp_path / "folds" / "cellar-1.1-1").glob("*.vine")))
    assert "vine" not in model.codec.encoding.numeric


def test_groups_stay_together_in_every_part_of_a_fold(tmp_path):
    from vinestep.training.plans._plan import read_plan
    from vinestep.training.plans._planned_run import PlannedRun

    frame = cellar()
    plan = planned(tmp_path)
    for number in (1, 2, 3):
        read = read_plan(plan, settings=[f"data.fold={{number = {number}, of = 3}}"])
        run = PlannedRun(read, tmp_path)
        vines = []
        for part in (run.train, run.validation, run.test):
            values = run.train.scaling.centres + part.inputs[:, :3] * run.train.scaling.spreads
            rows = [
                int(np.argmin(np.abs(frame[["pH", "sugar", "warmth"]].to_numpy() - v).sum(axis=1)))
                for v in values
            ]
            vines.append(set(frame["vine"][rows]))
        assert not vines[0] & vines[1]
        assert not (vines[0] | vines[1]) & vines[2]
    with pytest.raises(PlanError, match="no fold 4 of 3"):
        read_plan(plan, settings=["data.fold={number = 4, of = 3}"])
    with pytest.raises(PlanError, match="Leave out groups"):
        read_plan(plan, settings=['data.by="day"'])
    read = read_plan(planned(tmp_path, groups="", by="day", leave_out=["vine", "day"]))
    run = PlannedRun(read, tmp_path)
    assert len(run.test) == 18


def test_the_command_says_what_python_says(tmp_path):
    plan = planned(tmp_path)
    other = tmp_path / "wide.toml"
    other.write_text(
        tomli_w.dumps(PLAN | {"epochs": 1, "optimiser": {"kind": "sgd", "rate": 1e-6}})
    )
    command = ["cross-validate", plan, "--folds", "3", "--against", other, "--by", "accuracy"]
    done = vinestep_here(*command, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    ours = cross_validate(plan, folds=3)
    mean = ours.summary().set_index("score").loc["accuracy", "mean"]
    assert f"{mean:.4g}" in done.stdout
    assert "First" in done.stdout
    assert "95 % interval" in done.stdout
    again = vinestep_here(*command, cwd=tmp_path)
    assert again.stdout == done.stdout
    assert len(list(vs.runs.open(tmp_path / "folds"))) == 6
