"""A command that is killed at any of its writes leaves the record sound, and given again it does
what it was asked.

All writes are counted by an audit hook and by what is sent to the ledger; a process is forked for
each, which ends itself there.
"""

import json
import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import vinestep as vs

pytestmark = pytest.mark.slow
EVERY_WRITE = "VINESTEP_TEST_EVERY_WRITE" in os.environ
PLACES = "0" if EVERY_WRITE else os.environ.get("VINESTEP_TEST_KILLS", "20")

DRIVER = '''
import contextlib, io, json, os, random, shutil, sys, traceback
from pathlib import Path

import numpy, pandas, pyarrow, sqlalchemy
import sqlalchemy.dialects.sqlite.pysqlite
import vinestep as vs
from vinestep.cli import main
from vinestep.page import app as _  # the slow imports, before the forks
from vinestep.runs import _report

base, name, places = Path(sys.argv[1]), sys.argv[2], int(sys.argv[3])
arguments = json.loads(sys.argv[4])
WRITES = {"os.rename", "os.remove", "os.mkdir", "os.rmdir", "os.truncate", "os.link"}


def forked(act):
    """What a function returns in a process of its own; None if it was killed."""
    reading, writing = os.pipe()
    if not (child := os.fork()):
        try:
            told = json.dumps(act())
        except BaseException:
            told = json.dumps({"error": traceback.format_exc()})
        os.write(writing, told.encode())
        os._exit(0)
    os.close(writing)
    with open(reading) as answers:
        told = answers.read()
    os.waitpid(child, 0)
    return json.loads(told) if told else None


def command(at=0):
    """The number of writes of the command, or its end at one of them."""
    count = 0

    def step():
        nonlocal count
        count += 1
        if count == at:
            os._exit(137)

    def audit(event, given):
        if event in WRITES or (event == "open" and isinstance(given[2], int) and given[2] & 3):
            if not str(given[0]).startswith(("/dev", "/proc")):
                step()

    sys.addaudithook(audit)
    sqlalchemy.event.listen(
        sqlalchemy.engine.Engine, "before_cursor_execute", lambda *given: step()
    )
    sys.argv = ["vinestep", *arguments]
    sys.stdout = sys.stderr = told = io.StringIO()
    code = 0
    try:
        main()
    except SystemExit as end:
        code = end.code or 0
    assert not code, told.getvalue()
    return count


def files(folder):
    return {
        str(path.relative_to(folder)): path.read_bytes().hex()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and "/." not in str(path)
    }


def state():
    runs = vs.runs.open("records")
    listed = {
        run.label: [run.status, run.tags, sorted({note["text"] for note in run.notes})]
        for run in runs
    }
    models = vs.catalogue.models(runs)
    for model, version in zip(models.get("model", []), models.get("version", []), strict=True):
        vs.catalogue.load(model, version=version, place=runs)
    left = [str(path) for path in Path().rglob("*.part")] + [
        str(path) for path in Path("records").glob(".*.new")
    ]
    return {"runs": listed, "models": sorted(set(models.get("model", []))), "left": left}


def work(of):
    place = base / of
    shutil.rmtree(place, ignore_errors=True)
    shutil.copytree(base / "start", place)
    os.chdir(place)
    return place


place = work(name)
count = forked(command)
assert isinstance(count, int), count
expected, outputs = forked(state), files(place / "out")
begun = (work(name), forked(state))[1]
chance = random.Random(name)
every = range(1, count + 1)
for at in every if not places else sorted(chance.sample(every, min(places, count))):
    place = work(name)
    assert forked(lambda: command(at)) is None
    after = forked(state)
    assert "error" not in after, (at, after["error"])
    for label, run in after["runs"].items():
        assert run in (begun["runs"].get(label), expected["runs"].get(label)), (at, label, run)
    assert set(after["runs"]) | {"small-2"} >= set(begun["runs"]), (at, after)
    found = files(place / "out")
    whole = {**files(base / "start" / "out"), **outputs}
    for path, content in found.items():
        assert content in (outputs.get(path), files(base / "start" / "out").get(path)), (at, path)
    if name == "remove" and "small-2" not in after["runs"]:
        after_again = forked(state)
    else:
        again = forked(command)
        assert isinstance(again, int), (at, again)
        after_again = forked(state)
        assert files(place / "out") == outputs, at
    assert after_again["runs"] == expected["runs"], (at, after_again)
    assert after_again["models"] == expected["models"], (at, after_again)
    if name != "remove":  # what is left of a folder is cleared when the next run begins
        assert not after_again["left"], (at, after_again["left"])
print(count)
'''


@pytest.fixture(scope="module")
def start(tmp_path_factory):
    base = tmp_path_factory.mktemp("killed")
    place = base / "start"
    place.mkdir()
    rng = np.random.default_rng(0)
    frame = pd.DataFrame(rng.normal(size=(24, 2)), columns=["a", "b"])
    frame["state"] = np.where(np.arange(24) % 2, "sound", "sour")
    frame.drop(columns="state").head(6).to_csv(place / "rows.csv", index=False)
    train = vs.data.Table(frame, target="state")
    for _ in range(2):
        training = vs.Training(vs.Dense(2), loss=vs.losses.cross_entropy)
        training.run(train.batches(8), epochs=2, record=place / "records", name="small")
    training.model().save(place / "small.vine")
    (place / "out").mkdir()
    (place / "out" / "found.csv").write_text("an earlier result\n")
    vs.catalogue.keep(vs.runs.open(place / "records")["small-1"], "kept")
    return base


COMMANDS = {
    "keep": ["keep", "small-2", "--as", "more", "--use"],
    "use": ["models", "kept", "--use", "1", "--out", "out/kept.vine"],
    "export": ["export", "small-1", "--out", "out"],
    "parquet": ["export", "small-1", "--out", "out", "--form", "parquet"],
    "report": ["report", "small-1", "small-2", "--out", "out/both.html"],
    "predict": ["predict", "small.vine", "rows.csv", "--out", "out/found.csv"],
    "tag": ["tag", "small-1", "oak"],
    "note": ["note", "small-1", "the door was open"],
    "remove": ["remove", "small-2", "--yes"],
}


SOME = ("keep", "export", "predict", "note", "remove")  # the others write in the same ways


@pytest.mark.parametrize("name", COMMANDS if EVERY_WRITE else SOME)
def test_a_command_killed_at_a_write_leaves_all_sound_and_given_again_does_it(start, name):
    driver = Path(start, "driver.py")
    driver.write_text(DRIVER)
    command = [sys.executable, driver, start, name, PLACES, json.dumps(COMMANDS[name])]
    plain = os.environ | {"VINESTEP_KERNELS": "off"}  # nothing here is computed for long
    done = subprocess.run(command, capture_output=True, text=True, check=False, env=plain)
    assert done.returncode == 0, done.stderr[-3000:]
    assert int(done.stdout.split()[-1]) >= 2
