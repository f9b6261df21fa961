"""Runs asked about, compared, tagged, kept and removed, in Python and at the command line."""

import json

import numpy as np
import pandas as pd
import pytest

import vinestep as vs
from vinestep.errors import RunError, SettingError

from ..command_line import vinestep_here
from .test_ledger import train


def six_runs(place):
    """Five rates and another name."""
    for rate in (0.001, 0.003, 0.01, 0.03, 0.1):
        train(place / "records", rate=rate)
    train(place / "records", rate=0.03, name="harvest")
    return place


@pytest.fixture(scope="module")
def root(tmp_path_factory):
    """To be looked at; whoever changes runs makes some of its own."""
    return six_runs(tmp_path_factory.mktemp("place"))


def test_runs_are_filtered_sorted_and_shown_with_any_setting_or_score(root):
    runs = vs.runs.open(root / "records")
    assert runs.table(where=["optimiser.rate>=0.01", "optimiser.rate<0.1"])["run"].tolist() == [
        "barrels-3",
        "barrels-4",
        "harvest-6",
    ]
    assert runs.table(name="har*")["run"].tolist() == ["harvest-6"]
    assert runs.table(where=["optimiser.kind=adam"]).shape[0] == 6
    assert runs.table(where=["optimiser.kind!=adam"]).empty
    best = runs.table(sort="best validation_loss", columns=["optimiser.rate"])
    assert best["best validation_loss"].is_monotonic_increasing
    assert best["optimiser.rate"].tolist()[0] == 0.1
    assert runs.table(sort="-number")["run"].tolist()[0] == "harvest-6"
    assert runs.table(status="running").empty
    with pytest.raises(RunError, match=r"Did you mean 'optimiser\.rate'"):
        runs.table(where=["optimiser.rat>1"])
    with pytest.raises(RunError, match="is no condition"):
        runs.table(where=["optimiser.rate is large"])


def test_a_run_is_found_by_label_number_folder_and_identity(root):
    runs = vs.runs.open(root / "records")
    run = runs["barrels-3"]
    assert (
        runs[3].label
        == runs["3"].label
        == runs[str(root / "records" / "barrels-3")].label
        == runs[run.uid].label
        == "barrels-3"
    )
    with pytest.raises(RunError, match="Newest: .*harvest-6"):
        runs["nothing"]
    with pytest.raises(RunError, match="no such folder of runs"):
        vs.runs.open(root / "elsewhere")


def test_comparing_shows_what_differs_and_who_left_the_others(root):
    runs = vs.runs.open(root / "records")
    found = vs.runs.compare([runs[1], runs[5]])
    assert found.settings.index.tolist() == ["optimiser.rate"]
    assert found.scores.loc["best loss"].tolist() == [
        runs[1].scores.loc["loss", "best"],
        runs[5].scores.loc["loss", "best"],
    ]
    leader = vs.runs.leading_run(list(runs), "validation_loss")
    assert leader.run == "barrels-5"
    assert leader.end == 3
    with pytest.raises(RunError, match="at least two"):
        vs.runs.compare([runs[1]])


def test_runs_that_should_be_equal_part_where_they_part(tmp_path):
    class Nudge(vs.observers.Observer):
        def after_step(self, run, step):
            if step.number == 7:
                network = run.parts[""].network
                network.load(
                    {
                        "weight": network.weights()["weight"] + 1e-3,
                        "bias": network.weights()["bias"],
                    }
                )

    train(tmp_path)
    train(tmp_path)
    train(tmp_path, observers=[Nudge()])
    runs = vs.runs.open(tmp_path)
    assert vs.runs.first_difference(runs[1], runs[2]) is None
    parting = vs.runs.first_difference(runs[1], runs[3])
    assert parting.step == 8
    assert parting.operation == "the update before it, or its batch"
    assert "loss" in parting.figures
    assert parting.parameters[0] in ("weight", "bias")


def test_effects_are_ranked_with_their_uncertainty(root):
    found = vs.runs.effects(vs.runs.open(root / "records"), "best validation_loss")
    first = found.iloc[0]
    assert first["setting"] == "optimiser.rate"
    assert first["effect"] < 0
    assert first["low"] <= first["effect"] <= first["high"] < 0
    assert found["p"].is_monotonic_increasing
    assert found.attrs["left_out"] == 0
    with pytest.raises(RunError, match="4 are needed"):
        vs.runs.effects(vs.runs.open(root / "records"), labels=["barrels-1"])


def test_tags_and_notes_are_kept_beside_the_run_and_survive_a_lost_ledger(tmp_path):
    train(tmp_path)
    run = vs.runs.open(tmp_path)["1"]
    assert run.tag(["best so far", "oak"]) == ["best so far", "oak"]
    assert run.tag(["wet"], remove=["oak"]) == ["best so far", "wet"]
    run.note("the door was open\nall night")
    for file in tmp_path.glob("ledger.sqlite*"):
        file.unlink()
    again = vs.runs.open(tmp_path)["1"]
    assert again.tags == ["best so far", "wet"]
    assert [note["text"] for note in again.notes] == ["the door was open\nall night"]
    assert vs.runs.open(tmp_path).table(tag="wet")["run"].tolist() == ["barrels-1"]


def test_a_kept_model_outlives_its_run_and_is_checked_when_read(tmp_path):
    outcome = train(tmp_path, epochs=5)
    runs = vs.runs.open(tmp_path)
    first = vs.catalogue.keep(runs["1"], "pressure", note="the first")
    second = vs.catalogue.keep(runs["1"], "pressure", state=outcome.store.states()[-1])
    assert (first.version, second.version) == (1, 2)
    assert first.about["run"] == "barrels-1"
    assert first.about["settings"]["optimiser.rate"] == 0.01
    used = vs.catalogue.mark_in_use(tmp_path, "pressure", 1)
    assert used.in_use
    assert used.used_by
    with pytest.raises(RunError, match="catalogue needs this run: pressure 1, pressure 2"):
        runs["1"].remove()
    import shutil

    expected = vs.open_model(
        outcome.folder
        / "states"
        / f"{outcome.store.best_state() or outcome.store.states()[-1]}.npz"
    )
    shutil.rmtree(outcome.folder)
    model = vs.catalogue.load("pressure", place=tmp_path)
    np.testing.assert_array_equal(model.predict(np.ones((2, 3))), expected.predict(np.ones((2, 3))))
    listed = vs.catalogue.models(tmp_path)
    assert listed["in use"].tolist() == [True, False]
    with pytest.raises(RunError, match="no version 7 of pressure; there are 1, 2"):
        vs.catalogue.load("pressure", version=7, place=tmp_path)
    with pytest.raises(RunError, match="Did you mean 'pressure'"):
        vs.catalogue.load("presure", place=tmp_path)
    with pytest.raises(RunError, match="cannot be the name"):
        vs.catalogue.keep(runs["1"], "../pressure")
    ledger = vs.runs.Ledger(f"sqlite:///{tmp_path}/ledger.sqlite")
    with ledger.writing() as connection:
        connection.exec_driver_sql("update contents set content = x'00'")
    with pytest.raises(RunError, match="changed"):
        vs.catalogue.load("pressure", place=tmp_path)


def test_the_command_line_over_a_run_s_life(tmp_path):
    root = six_runs(tmp_path)
    listed = vinestep_here(
        "runs", "--where", "optimiser.rate>0.02", "--columns", "optimiser.rate", "--json", cwd=root
    )
    assert [row["run"] for row in json.loads(listed.stdout)] == [
        "barrels-4",
        "barrels-5",
        "harvest-6",
    ]
    table = vinestep_here("runs", "--csv", "--sort", "best loss", cwd=root)
    assert len(table.stdout.splitlines()) == 7
    assert "optimiser.rate" in vinestep_here("compare", 1, 5, cwd=root).stdout
    shown = vinestep_here("show", "barrels-5", cwd=root).stdout
    assert all(
        text in shown for text in ("What the record says", "optimiser.rate", "validation loss", "█")
    )
    assert json.loads(vinestep_here("show", 5, "--json", cwd=root).stdout)["answers"]
    for form in ("csv", "parquet"):
        assert vinestep_here("export", 5, "--out", form, "--form", form, cwd=root).returncode == 0
    exported = pd.read_parquet(root / "parquet" / "steps.parquet")
    assert exported["loss"].tolist() == pd.read_csv(root / "csv" / "steps.csv")["loss"].tolist()
    assert (root / "csv" / "files" / "curves.png").read_bytes().startswith(b"\x89PNG")
    followed = vinestep_here("follow", 5, cwd=root).stdout
    assert "epoch 3/3" in followed
    assert "barrels-5 finished" in followed
    report = vinestep_here("report", 1, 5, "--out", "both.html", cwd=root)
    assert report.returncode == 0, report.stderr
    page = (root / "both.html").read_text()
    assert page.count("data:image/png;base64,") == 3
    assert "http://" not in page
    assert "<script" not in page
    assert vinestep_here("note", 2, "a <b>note</b>", cwd=root).returncode == 0
    assert "wet" in vinestep_here("tag", 2, "wet", "old", cwd=root).stdout
    assert vinestep_here("tag", 2, "--", "-old", cwd=root).stdout.strip() == "barrels-2: wet."
    assert "a <b>note</b>" in vinestep_here("show", 2, cwd=root).stdout
    assert (
        "barrels 1: kept" in vinestep_here("keep", 5, "--as", "barrels", "--use", cwd=root).stdout
    )
    assert "barrels-5" in vinestep_here("models", cwd=root).stdout
    assert vinestep_here("models", "barrels", "--out", "b.vine", cwd=root).returncode == 0
    assert vs.open_model(root / "b.vine").lineage["step"] == 18
    refused = vinestep_here("remove", 5, "--yes", cwd=root)
    assert refused.returncode == 2
    assert "catalogue needs this run" in refused.stderr
    assert vinestep_here("remove", 1, cwd=root, input="n\n").returncode == 1
    assert vinestep_here("remove", 1, "--yes", cwd=root).returncode == 0
    assert not (root / "records" / "barrels-1").exists()
    assert "barrels-1" not in vinestep_here("runs", "--csv", cwd=root).stdout
    for command in (["show", "nine"], ["runs", "--where", "x"], ["stop", "2"]):
        found = vinestep_here(*command, cwd=root)
        assert found.returncode == 2, (command, found.stdout)
        assert found.stderr.startswith("vinestep: ")


def test_markup_in_notes_and_names_is_shown_in_reports(tmp_path):
    train(tmp_path)
    run = vs.runs.open(tmp_path)["1"]
    run.note("<script>alert(1)</script>")
    from vinestep.runs._report import report

    assert "&lt;script&gt;alert(1)" in report([run])


def test_a_search_at_the_command_line(tmp_path):
    plan = (
        'name = "b"\nepochs = 2\n[data]\nsource = "demo:barrels"\ntarget = '
        '"state"\n[[layers]]\nkind = "dense"\nwidth = "classes"\n'
    )
    (tmp_path / "plan.toml").write_text(plan)
    options = ["--how", "grid", "--processes", "1"]
    done = vinestep_here(
        "search", "plan.toml", "--over", "optimiser.rate=0.001,0.1", *options, cwd=tmp_path
    )
    assert done.returncode == 0, done.stderr
    assert "Best: optimiser.rate=" in done.stdout
    assert (tmp_path / "search" / "trials.png").exists()
    found = vinestep_here("search", "plan.toml", "--over", "rate=1..b", cwd=tmp_path)
    assert found.returncode == 2, found.stdout


def test_ranges_of_a_search():
    from vinestep.cli.training import _space

    assert _space(["a=1e-4..1e-1", "b=8..64", "c=relu,tanh", "d=0.5..2.0"]) == {
        "a": {"low": 1e-4, "high": 0.1, "log": True, "whole": False},
        "b": {"low": 8.0, "high": 64.0, "log": False, "whole": True},
        "c": ["relu", "tanh"],
        "d": {"low": 0.5, "high": 2.0, "log": False, "whole": False},
    }
    with pytest.raises(SettingError, match="write a setting"):
        _space(["a"])


def test_settings_that_do_nothing_are_not_called_important():
    """Of 200 studies of noise, and for words and numbers alike."""
    from vinestep.runs._setting_effects import _p_of_slope, _p_of_words

    rng = np.random.default_rng(0)
    numbers = words = 0
    for _ in range(200):
        y = rng.normal(size=12)
        numbers += _p_of_slope(rng.uniform(1e-4, 1e-1, 12), y) < 0.05
        words += _p_of_words(rng.choice(["a", "b", "c"], 12), y) < 0.05
    assert numbers <= 20
    assert words <= 20
    x = rng.uniform(0, 1, 12)
    assert _p_of_slope(x, 3 * x + 0.1 * rng.normal(size=12)) < 1e-6
    kinds = np.array(list("aabbcc") * 2)
    assert _p_of_words(kinds, (kinds == "b") * 2.0 + 0.1 * rng.normal(size=12)) < 1e-6
