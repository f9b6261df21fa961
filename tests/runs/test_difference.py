"""Whether a way is better: by more than chance, with known error rates, and only where runs can be
compared.
"""

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import RunError
from vinestep.runs._difference import groups_of, seeds_needed, t_test

from ..command_line import vinestep_here

DRAWS = 400


@pytest.mark.parametrize("paired", [False, True])
def test_equal_ways_are_told_apart_as_often_as_the_level_says(paired):
    rng = np.random.default_rng(0)
    apart = sum(
        t_test(rng.normal(size=5), rng.normal(size=5), paired=paired).p < 0.05 for _ in range(DRAWS)
    )
    assert apart / DRAWS < 0.05 + 3 * np.sqrt(0.05 * 0.95 / DRAWS)


@pytest.mark.parametrize("paired", [False, True])
def test_with_the_seeds_that_are_asked_for_a_difference_of_two_spreads_is_found(paired):
    rng = np.random.default_rng(1)
    found = 0
    for _ in range(DRAWS):
        a, b = rng.normal(size=3), rng.normal(size=3) + 2
        if t_test(a, b, paired=paired).p >= 0.05:
            n = seeds_needed(a, b, paired=paired)
            a, b = np.r_[a, rng.normal(size=n)], np.r_[b, rng.normal(size=n) + 2]
        found += t_test(a, b, paired=paired).p < 0.05
    assert found / DRAWS > 0.9


def test_against_scipy():
    from scipy import stats

    rng = np.random.default_rng(2)
    a, b = rng.normal(size=6), rng.normal(size=9) * 3 + 1
    assert t_test(a, b, paired=False).p == pytest.approx(
        stats.ttest_ind(b, a, equal_var=False).pvalue
    )
    pair = t_test(a, b[:6], paired=True)
    other = stats.ttest_rel(b[:6], a)
    interval = other.confidence_interval()
    assert (pair.p, pair.low, pair.high) == pytest.approx(
        (other.pvalue, interval.low, interval.high)
    )
    assert t_test([1.0, 1.0], [1.0, 1.0], paired=False).p == 1
    assert t_test([1.0, 1.0], [2.0, 2.0], paired=False).p == 0


def trained(root, rate, seed, *, split=0, loss=None, epochs=4):
    x = np.random.default_rng(0).normal(size=(80, 2))
    parts = vs.data.Dataset(x, x[:, :1]).split(0.7, 0.3, seed=split)
    training = vs.Training(
        vs.Dense(1),
        loss=loss or vs.losses.squared_error,
        optimiser=vs.optimisers.SGD(rate),
        seed=seed,
    )
    training.run(parts[0].batches(14), validation=parts[1].batches(30), epochs=epochs, record=root)


def runs_of(root):
    return list(vs.runs.open(root))


def test_seeds_of_one_way_are_one_group(tmp_path):
    for seed in range(3):
        trained(tmp_path, 0.05, seed)
    (only,) = groups_of(runs_of(tmp_path), "validation_loss")
    assert sorted(only.values) == [0, 1, 2]
    found = vs.runs.difference(runs_of(tmp_path))
    assert found.verdict == "not tested"
    assert "equal but for their seed" in found.evidence
    for seed in range(3):
        trained(tmp_path, 0.002, seed)
    better = vs.runs.difference(runs_of(tmp_path))
    assert better.verdict == "sound"
    assert "optimiser.rate=0.05 is better than optimiser.rate=0.002" in better.evidence
    assert "in pairs by seed" in better.evidence


def test_single_runs_ask_for_seeds(tmp_path):
    trained(tmp_path, 0.05, 1)
    trained(tmp_path, 0.049, 1)
    found = vs.runs.difference(runs_of(tmp_path))
    assert found.verdict == "unclear"
    assert "Train 3 seeds of each" in found.cure
    done = vinestep_here("compare", "run-1", "run-2", "--record", tmp_path, cwd=tmp_path)
    assert "unclear: which is better" in done.stdout
    with pytest.raises(vs.errors.RunError, match="has no figure"):
        vs.runs.difference(runs_of(tmp_path), "accuracy")


def test_what_cannot_be_compared_is_said_first(tmp_path):
    trained(tmp_path / "a", 0.05, 1)
    trained(tmp_path / "a", 0.01, 1, split=5)
    found = vs.runs.difference(runs_of(tmp_path / "a"))
    assert found.verdict == "not tested"
    assert "2 different validation parts" in found.evidence
    trained(tmp_path / "b", 0.05, 1)
    trained(tmp_path / "b", 0.05, 1, loss=vs.losses.huber)
    assert "other losses" in vs.runs.difference(runs_of(tmp_path / "b")).evidence


def test_other_parts_for_other_seeds_are_pairs(tmp_path):
    for rate in (0.05, 0.002):
        for seed in range(5):
            trained(tmp_path, rate, seed, split=seed, epochs=8)
    found = vs.runs.difference(runs_of(tmp_path))
    assert found.verdict == "sound"
    assert "in pairs by seed" in found.evidence


def test_the_division_has_a_seed_of_its_own(tmp_path):
    vs.demo.barrels(120).to_csv(tmp_path / "barrels.csv", index=False)
    plan = tmp_path / "plan.toml"
    plan.write_text(
        'epochs = 1\n[data]\nsource = "barrels.csv"\ntarget = "state"\nseed = 4\n'
        '[[layers]]\nkind = "dense"\nwidth = "classes"\n'
    )
    for seed in (1, 2):
        done = vinestep_here("train", plan, "--set", f"seed={seed}", cwd=tmp_path)
        assert done.returncode == 0, done.stderr
    first, second = (run.settings for run in vs.runs.open(tmp_path / "records"))
    assert first["validation.data"] == second["validation.data"]
    assert first["seed"] != second["seed"]


def test_runs_of_equal_labels_in_several_records_are_kept_apart(tmp_path):
    runs = []
    for place, width in enumerate((4, 5)):
        for seed in (1, 2):
            data = vs.data.Dataset(np.arange(24.0).reshape(12, 2) / 24, np.arange(12.0)[:, None])
            training = vs.Training(
                vs.Stack(vs.Dense(width), vs.Dense(1)), task=vs.tasks.Numbers(), seed=seed
            )
            training.run(data.batches(4), epochs=1, record=tmp_path / str(place), validation=None)
        runs += list(vs.runs.open(tmp_path / str(place)))
    assert len({run.label for run in runs}) == 2
    names = [group.name for group in groups_of(runs, "loss")]
    assert names == ["network.layers.0.width=4", "network.layers.0.width=5"]


def test_runs_of_other_lengths_are_other_ways(tmp_path):
    for epochs in (1, 6):
        trained(tmp_path, 0.05, 1, epochs=epochs)
    assert [group.name for group in groups_of(runs_of(tmp_path), "loss")] == [
        "epochs=1",
        "epochs=6",
    ]
    settings = vs.runs.compare(runs_of(tmp_path)).settings
    assert settings.loc["epochs"].tolist() == [1, 6]


def test_of_one_seed_twice_runs_are_counted_and_not_seeds(tmp_path):
    for _ in range(2):
        trained(tmp_path, 0.05, 1)
    assert "2 runs" in vs.runs.difference(runs_of(tmp_path)).evidence


@pytest.mark.parametrize(("target", "width"), [("state", '"classes"'), ("temperature", 1)])
def test_models_of_two_runs_answer_the_same_examples(tmp_path, target, width):
    vs.demo.barrels(200).to_csv(tmp_path / "barrels.csv", index=False)
    plan = tmp_path / "plan.toml"
    plan.write_text(
        f'epochs = 1\n[data]\nsource = "barrels.csv"\ntarget = "{target}"\nseed = 4\n'
        f'[[layers]]\nkind = "dense"\nwidth = {width}\n'
    )
    for settings in (["seed=1"], ["seed=2"], ["seed=2", "data.seed=5"]):
        told = [word for one in settings for word in ("--set", one)]
        done = vinestep_here("train", plan, *told, "--unrehearsed", cwd=tmp_path)
        assert done.returncode == 0, done.stderr
    first, second, other = vs.runs.open(tmp_path / "records")
    found = vs.runs.paired_differences(first, second)
    for run, scores in ((first, "first"), (second, "second")):
        known = run.assessment["test"]["loss"]["value"]
        assert getattr(found[0], scores) == pytest.approx(known, rel=1e-5)
    done = vinestep_here("compare", first.label, second.label, "--decisions", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert str(found[0]) in done.stdout
    assert ("both right" in done.stdout) is (target == "state")
    if target != "state":
        with pytest.raises(RunError, match="predicts numbers"):
            vs.runs.decisions_of(first, second)
    done = vinestep_here("compare", first.label, other.label, "--decisions", cwd=tmp_path)
    assert done.returncode == 2
    assert "other examples" in done.stderr


def test_models_of_runs_without_a_plan_are_refused_in_words(tmp_path):
    for seed in (1, 2):
        trained(tmp_path, 0.05, seed)
    with pytest.raises(RunError, match="not known from a plan"):
        vs.runs.paired_differences(*runs_of(tmp_path))
