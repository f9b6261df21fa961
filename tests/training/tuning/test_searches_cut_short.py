"""Searches whose parent, or whose disk, goes away in the middle."""

import json
import os
import signal
import subprocess
import sys
import time

import psutil
import pytest

import vinestep as vs
from vinestep.errors import RunError
from vinestep.storage.run_folder import RunFolder, locked
from vinestep.training.plans._planned_run import PlannedRun
from vinestep.training.tuning import _search

PLAN = """
epochs = 100
seed = 1
[data]
source = "barrels.csv"
target = "state"
batch = 16
[optimiser]
kind = "adam"
rate = 0.01
[[layers]]
kind = "dense"
width = 8
[[layers]]
kind = "dense"
width = "classes"
"""


@pytest.fixture
def plan(tmp_path):
    vs.demo.barrels(120).to_csv(tmp_path / "barrels.csv", index=False)
    (tmp_path / "plan.toml").write_text(PLAN)
    return tmp_path / "plan.toml"


SCRIPT = """
import sys, vinestep as vs
if __name__ == "__main__":
    vs.training.search(sys.argv[1], {"optimiser.rate": [0.01, 0.001]}, folder=sys.argv[2],
                       how="grid", processes=2)
"""


def test_what_a_killed_search_started_ends_and_the_search_goes_on(plan, tmp_path):
    folder, script = tmp_path / "search", tmp_path / "search.py"
    script.write_text(SCRIPT)
    command = [sys.executable, str(script), str(plan), str(folder)]
    first = subprocess.Popen(command)
    runs = []
    begun = time.monotonic()
    while len(runs) < 2 and time.monotonic() - begun < 60:
        runs = [path for path in folder.glob("trial*") if (path / "run.json").is_file()]
        time.sleep(0.1)
    started = psutil.Process(first.pid).children(recursive=True)
    first.send_signal(signal.SIGKILL)
    first.wait()
    subprocess.run(command, check=True, timeout=240)
    _, alive = psutil.wait_procs(started, timeout=20)
    assert not alive
    found = json.loads((folder / "search.json").read_text())
    assert [trial["failure"] for trial in found["trials"]] == ["", ""]
    folders = sorted(path.name for path in folder.glob("trial*-*") if path.is_dir())
    assert len(folders) == 2  # none was begun twice
    for path in folder.glob("trial*-*"):
        if path.is_dir():
            status = RunFolder(path).read_status()
            assert status["status"] == "finished"
            assert len(RunFolder(path).read_series("epochs")) == 100


def test_two_searches_in_one_folder_are_refused(plan, tmp_path):
    folder = tmp_path / "search"
    folder.mkdir()
    with (
        locked(folder / _search.LOCK, 0, ""),
        pytest.raises(RunError, match="another search is at work"),
    ):
        vs.training.search(plan, {"optimiser.rate": [0.01]}, folder=folder, how="grid", epochs=1)


FIRST = {"id": "1", "kind": "search", "name": "search", "number": 0, "settings": {}}


def test_a_disk_that_takes_nothing_is_no_failure_of_a_trial(plan, tmp_path, monkeypatch):
    asked = {"plan": str(plan), "own": [], "by": "validation_loss"}
    folder = tmp_path / "search"
    folder.mkdir()

    def full(*args, **kwargs):
        raise RunError("no space left on the disk")

    with monkeypatch.context() as patched:
        patched.setattr(RunFolder, "create", full, raising=False)
        patched.setattr("vinestep.training.run._run.Run.save", full)
        with pytest.raises(RunError, match="no space left"):
            _search._trial(asked, str(folder), FIRST, "", 2)
    _, value, _, failure = _search._trial(asked, str(folder), FIRST, "", 2)
    assert failure == ""
    assert value > 0


def test_a_trial_killed_before_its_ending_is_ended_before_it_counts(plan, tmp_path):
    asked = {"plan": str(plan), "own": [], "by": "validation_loss"}
    folder = tmp_path / "search"
    folder.mkdir()
    run, value, *_ = _search._trial(asked, str(folder), FIRST, "", 2)
    record = RunFolder(run)
    record.write_status({"status": "running"})
    again, same, _, failure = _search._trial(asked, str(folder), FIRST, run, 2)
    assert (again, same, failure) == (run, value, "")
    assert record.read_status()["status"] == "finished"
    assert os.path.samefile(again, run)


def test_an_interrupted_trial_ends_the_search_which_then_goes_on(plan, tmp_path, monkeypatch):
    folder = tmp_path / "search"
    rates = {"optimiser.rate": [0.01, 0.001]}
    options = {"folder": folder, "how": "grid", "epochs": 3, "processes": 1}
    run = PlannedRun.run

    class Stopping(vs.observers.Observer):
        def after_epoch(self, run, row):
            if run.position.epoch == 2:
                run.stop("Ctrl-C", resumable=True)

    with monkeypatch.context() as patched:
        patched.setattr(
            PlannedRun, "run", lambda self, **given: run(self, observers=[Stopping()], **given)
        )
        with pytest.raises(RunError, match="interrupted in trial 0"):
            vs.training.search(plan, rates, **options)
    found = vs.training.search(plan, rates, **options)
    assert [trial.failure for trial in found.trials.trials] == ["", ""]
    folders = [path for path in folder.glob("trial*-*") if path.is_dir()]
    assert len(folders) == 2
    for path in folders:
        assert len(RunFolder(path).read_series("epochs")) == 3
