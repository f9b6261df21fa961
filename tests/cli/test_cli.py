import random
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from PIL import Image

import vinestep as vs
from vinestep.runs import RunFolder

from ..command_line import vinestep, vinestep_here

PLAN = """
name = "small"
seed = 1
epochs = 12

[data]
source = "demo:barrels"
target = "state"
batch = 8

[[layers]]
kind = "dense"
width = 16
activation = "relu"

[[layers]]
kind = "dropout"
probability = 0.1

[[layers]]
kind = "dense"
width = "classes"

[[observers]]
kind = "checkpoints"
what = "best"
every = 25
"""


@pytest.fixture
def plan(tmp_path):
    path = tmp_path / "plan.toml"
    path.write_text(PLAN)
    return path


def newest(folder):
    return RunFolder(folder).newest_state()[0]


def test_demo_trains_and_tells(tmp_path):
    done = vinestep("demo", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    for text in (
        "made-up barrels",
        "Scores",
        "validation",
        "predicted",
        "recall",
        "records/barrels-1/curves.png",
        "barrels.vine",
    ):
        assert text in done.stdout
    listed = vinestep_here("runs", cwd=tmp_path)
    assert "barrels-1" in listed.stdout
    assert "finished" in listed.stdout
    again = vinestep_here("resume", "records/barrels-1", cwd=tmp_path)
    assert again.returncode == 2
    assert "this run is finished" in again.stderr


def test_a_rehearsal_tells_what_is_wrong_and_training_says_it_too(tmp_path, plan):
    sound = vinestep_here("rehearse", plan, cwd=tmp_path)
    assert sound.returncode == 0, sound.stdout
    assert "learning a batch by heart" in sound.stdout
    assert not (tmp_path / "records").exists()
    wrong = vinestep_here("rehearse", plan, "--set", "optimiser.rate=5", cwd=tmp_path)
    assert wrong.returncode == 1
    assert "wrong     the rate" in wrong.stdout
    few = "--set", "optimiser.rate=5", "--set", "epochs=1"
    assert (
        "wrong: the rate: one step at the highest rate, 5, moves"
        in vinestep_here("train", plan, *few, cwd=tmp_path).stdout
    )
    assert (
        "the rate: one step"
        not in vinestep_here("train", plan, *few, "--unrehearsed", cwd=tmp_path).stdout
    )


def test_a_finished_run_goes_on_when_more_is_asked(tmp_path, plan):
    assert vinestep_here("train", plan, "--set", "epochs=2", cwd=tmp_path).returncode == 0
    done = vinestep_here("resume", "records/small-1", "--set", "epochs=4", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert len(RunFolder(tmp_path / "records" / "small-1").read_series("epochs")) == 4
    whole = vinestep_here("train", plan, "--set", "epochs=4", cwd=tmp_path)
    assert whole.returncode == 0
    runs = [newest(tmp_path / "records" / name).arrays for name in ("small-1", "small-2")]
    assert all(np.array_equal(runs[0][key], runs[1][key]) for key in runs[1])


@pytest.mark.parametrize("attempt", range(1))
def test_killed_at_a_random_moment_and_resumed_is_bit_for_bit_the_same(tmp_path, plan, attempt):
    reference = _reference_run()
    process = subprocess.Popen(
        [sys.executable, "-m", "vinestep", "train", str(plan)],
        cwd=tmp_path,
        stdout=subprocess.DEVNULL,
    )
    folder = tmp_path / "records" / "small-1"
    _wait_for(
        lambda: (
            len(list(folder.glob("states/step-*.npz"))) > 1
            and not list(folder.glob("states/step-00000000*.npz"))
        )
    )
    time.sleep(random.Random(attempt).uniform(0.0, 0.2))
    process.kill()
    process.wait()
    assert process.returncode == -signal.SIGKILL
    interrupted = newest(folder)
    assert 0 < interrupted.meta["position"]["step"] < newest(reference).meta["position"]["step"]
    resumed = vinestep_here("resume", folder, cwd=tmp_path)
    assert resumed.returncode == 0, resumed.stderr
    ours, theirs = newest(folder), newest(reference)
    assert ours.arrays.keys() == theirs.arrays.keys()
    assert {"optimiser/m", "optimiser/v", "weights/0/weight"} <= ours.arrays.keys()
    assert all(np.array_equal(ours.arrays[k], theirs.arrays[k]) for k in theirs.arrays)
    assert (folder / "curves.csv").read_bytes() == (reference / "curves.csv").read_bytes()


_references = {}


def _reference_run():
    """The run that is never interrupted, made once a process."""
    if "folder" not in _references:
        import tempfile

        root = Path(tempfile.mkdtemp())
        (root / "plan.toml").write_text(PLAN)
        done = vinestep_here("train", "plan.toml", cwd=root)
        assert done.returncode == 0, done.stderr
        _references["folder"] = root / "records" / "small-1"
    return _references["folder"]


def _wait_for(condition, seconds=60):
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "it did not come to that"
        time.sleep(0.01)


def test_ctrl_c_ends_the_step_saves_and_says_how_to_go_on(tmp_path, plan):
    process = subprocess.Popen(
        [sys.executable, "-m", "vinestep", "train", str(plan)],
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
    )
    folder = tmp_path / "records" / "small-1"
    _wait_for(lambda: len(list(folder.glob("states/*"))) > 1)
    process.send_signal(signal.SIGINT)
    output, _ = process.communicate()
    assert process.returncode == 130
    assert "To continue: vinestep resume records/small-1" in output
    assert vinestep_here("resume", "records/small-1", cwd=tmp_path).returncode == 0


def test_a_damaged_checkpoint_is_passed_over_and_said(tmp_path, plan):
    reference = _reference_run()
    folder = tmp_path / "records" / "small-1"
    shutil.copytree(reference, folder)
    info = (folder / "run.json").read_text().replace('"finished"', '"interrupted"')
    (folder / "run.json").write_text(info)
    files = sorted(folder.glob("states/step-*.npz"))
    damaged = bytearray(files[-1].read_bytes())
    damaged[len(damaged) // 2] ^= 4
    files[-1].write_bytes(damaged)
    done = vinestep("resume", folder, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert f"{files[-1].name}: refused" in done.stderr
    assert f"The sound one before it is used: {files[-2].stem}" in done.stderr.replace("\n", " ")


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (("epochs = 12", "epoch = 40"), "epoch: unknown key. Did you mean 'epochs'?"),
        (("epochs = 12", ""), "one of epochs, steps and until says when it ends"),
        (("epochs = 12", 'epochs = "many"'), "epochs: input should be a valid integer, got 'many'"),
        (
            ('kind = "dense"', 'kind = "dens"'),
            "layers.0.kind: 'dens' is not known. Did you mean 'dense'?",
        ),
        (
            ('"relu"', '"rely"'),
            "layers.0.activation.kind: 'rely' is not known. Did you mean 'relu'?",
        ),
        (
            ("probability = 0.1", "probability = 1.5"),
            "layers.1: Dropout: probability must be from 0",
        ),
        (
            ('target = "state"', 'target = "status"'),
            "there is no column 'status'. Did you mean 'state'?",
        ),
        (
            ("demo:barrels", "demo:barels"),
            "there is no demo set 'barels' for plans. Did you mean 'barrels'?",
        ),
        (("demo:barrels", "cellar.csv"), "cellar.csv: there is no such file"),
        (("batch = 8", "bach = 8"), "data.bach: unknown key. Did you mean 'batch'?"),
        (("seed = 1", "seed ="), "not valid TOML"),
    ],
)
def test_a_bad_plan_is_explained(tmp_path, plan, change, message):
    plan.write_text(PLAN.replace(*change))
    done = vinestep_here("train", plan, cwd=tmp_path)
    assert done.returncode == 2
    assert message in done.stderr
    assert not (tmp_path / "records").exists()


@pytest.mark.parametrize(
    ("arguments", "message"),
    [
        (("train", "none.toml"), "none.toml: the plan cannot be read"),
        (("resume", "records/x-7"), "records/x-7: there is no such run"),
    ],
)
def test_missing_files_are_named(tmp_path, arguments, message):
    done = vinestep_here(*arguments, cwd=tmp_path)
    assert done.returncode == 2
    assert message in done.stderr


def test_a_csv_is_found_beside_its_plan_and_again_on_resume(tmp_path, plan):

    place = tmp_path / "cellar"
    place.mkdir()
    vs.demo.barrels(200).to_csv(place / "barrels.csv", index=False)
    (place / "plan.toml").write_text(
        PLAN.replace("demo:barrels", "barrels.csv").replace("epochs = 12", "epochs = 2")
    )
    done = vinestep_here("train", place / "plan.toml", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    info = tmp_path / "records" / "small-1" / "run.json"
    info.write_text(info.read_text().replace('"finished"', '"interrupted"'))
    assert vinestep_here("resume", "records/small-1", cwd=tmp_path).returncode == 0


@pytest.mark.parametrize(
    "command",
    [
        (),
        ("demo",),
        ("train",),
        ("resume",),
        ("runs",),
        ("kinds",),
        ("stop",),
        ("predict",),
        ("assess",),
        ("inspect",),
        ("generate",),
    ],
)
def test_help_helps(tmp_path, command):
    done = vinestep_here(*command, "--help", cwd=tmp_path)
    assert done.returncode == 0
    assert "Usage" in done.stdout


def test_from_a_csv_with_gaps_to_predictions_for_a_colleague(tmp_path):

    barrels = vs.demo.barrels(300)
    barrels.loc[::25, "state"] = None
    barrels[:240].to_csv(tmp_path / "cellar.csv", index=False)
    barrels[240:].drop(columns="state").to_csv(tmp_path / "new.csv", index=False)
    barrels[240:].dropna(subset="state").to_csv(tmp_path / "later.csv", index=False)
    (tmp_path / "my_layers.py").write_text(OWN_PART)
    (tmp_path / "plan.toml").write_text(NEWCOMER)
    own = ("--with", "my_layers.py")
    done = vinestep_here(
        "train",
        "plan.toml",
        "--set",
        "optimiser.rate=0.02",
        "--set",
        "layers.0.width=12",
        *own,
        cwd=tmp_path,
    )
    assert done.returncode == 0, done.stderr
    assert "Scores of the best" in done.stdout
    assert "95 % interval" in done.stdout
    plan = (tmp_path / "records" / "cellar-1" / "plan.toml").read_text()
    assert '"optimiser.rate=0.02"' in plan
    model = "records/cellar-1/cellar.vine"
    assert vinestep_here("predict", model, "new.csv", cwd=tmp_path).returncode == 2
    done = vinestep_here("predict", model, "new.csv", "--out", "predicted.csv", *own, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    header, first = (tmp_path / "predicted.csv").read_text().splitlines()[:2]
    assert header.startswith("sugar,pH") and "predicted,probability sound" in header  # noqa: PT018
    assert len(first.split(",")) == 11
    shown = vinestep_here("predict", model, "new.csv", *own, cwd=tmp_path)
    assert "the first 12 of 60 rows" in shown.stdout
    scores = vinestep_here("assess", model, "later.csv", *own, cwd=tmp_path)
    assert "accuracy" in scores.stdout
    assert "95 % confidence" in scores.stdout
    looked = vinestep_here("inspect", model, *own, cwd=tmp_path)
    for text in (
        "records/cellar-1",
        "numeric columns",
        "Alder, Brun",
        "sound, spoiling, stuck",
        "numpy",
    ):
        assert text in looked.stdout
    bad = bytearray((tmp_path / model).read_bytes())
    bad[300] ^= 1
    (tmp_path / "bad.vine").write_bytes(bad)
    refused = vinestep_here("inspect", "bad.vine", cwd=tmp_path)
    assert refused.returncode == 2
    assert "bad.vine: refused" in refused.stderr
    assert "Traceback" not in refused.stderr


NEWCOMER = """
name = "cellar"
epochs = 3

[data]
source = "cellar.csv"
target = "state"
drop_missing_target = true

[[layers]]
kind = "dense"
width = 8
activation = "bent"

[[layers]]
kind = "dense"
width = "classes"
"""
OWN_PART = """
import numpy as np
import vinestep as vs


@vs.parts.part("bent")
def bent(x):
    return np.sqrt(x * x + 1.0) - 1.0
"""


@pytest.mark.parametrize(
    ("arguments", "texts"),
    [
        ((), ("optimiser", "adam", "lstm", "cross_entropy")),
        (("schedule",), ("warmup", "cosine")),
        (("lstm",), ("bidirectional", "'sequence'", "required")),
        (("cosine",), ("cosine (loss)", "cosine (schedule)")),
    ],
)
def test_kinds_tell_what_a_plan_can_name(tmp_path, arguments, texts):
    done = vinestep_here("kinds", *arguments, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert all(text in done.stdout for text in texts)


def test_an_unknown_kind_is_named(tmp_path):
    done = vinestep_here("kinds", "densse", cwd=tmp_path)
    assert done.returncode == 2
    assert "Did you mean 'dense'?" in done.stderr


def test_a_run_is_asked_from_another_window(tmp_path, plan):
    plan.write_text(PLAN.replace("epochs = 12", "epochs = 1200"))
    process = subprocess.Popen(
        [sys.executable, "-m", "vinestep", "train", str(plan)],
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
    )
    folder = tmp_path / "records" / "small-1"
    _wait_for(
        lambda: (folder / "run.json").exists() and '"running"' in (folder / "run.json").read_text()
    )
    assert vinestep_here("note", folder, "the door was open", cwd=tmp_path).returncode == 0
    assert vinestep_here("finish", folder, "good enough", cwd=tmp_path).returncode == 0
    output, _ = process.communicate(timeout=60)
    assert process.returncode == 0, output
    assert "Told to finish: good enough" in output
    assert "Scores of the best" in output
    assert "note: the door was open" in (folder / "console.txt").read_text()
    refused = vinestep_here("stop", folder, cwd=tmp_path)
    assert refused.returncode == 2
    assert "nobody is at work on this run" in refused.stderr


def test_generate_writes_on_answers_and_reads_pictures(tmp_path):
    tokeniser = vs.data.CharacterTokeniser.learned(["abcde<>:."])
    rows = [{"entry": a, "sentence": f"<{a}>"} for a in "abcde" * 8]
    answers = vs.data.Requests(rows, vs.data.Template("{entry}:{sentence}."), tokeniser)
    network = vs.networks.LanguageModel(len(tokeniser), width=32, depth=1, heads=2)
    training = vs.Training(
        network, loss=vs.losses.next_token, optimiser=vs.optimisers.Adam(1e-2), seed=1
    )
    training.run(answers.batches(8), epochs=12)
    training.model().save(tmp_path / "answers.vine")
    one = vinestep_here("generate", "answers.vine", "c", cwd=tmp_path)
    assert one.returncode == 0, one.stderr
    assert one.stdout.strip() == "<c>."
    several = vinestep_here("generate", "answers.vine", "a", "e", cwd=tmp_path)
    assert all(text in several.stdout for text in ("<a>", "<e>", "end"))
    (tmp_path / "rows.csv").write_text("entry\nb\nd\n")
    done = vinestep_here(
        "generate",
        "answers.vine",
        "--rows",
        "rows.csv",
        "--out",
        "out.csv",
        "--beams",
        "2",
        cwd=tmp_path,
    )
    assert done.stdout.strip() == "2 texts written to out.csv."
    assert pd.read_csv(tmp_path / "out.csv")["text"].tolist() == ["<b>", "<d>"]
    looked = " ".join(vinestep_here("inspect", "answers.vine", cwd=tmp_path).stdout.split())
    assert "CharacterTokeniser of 13 tokens, template '{entry}:{sentence}.'" in looked
    for arguments, told in (
        (("x",), "knows no 'x', at 0"),
        (("--rows", "other.csv"), "the field 'entry' is missing"),
    ):
        (tmp_path / "other.csv").write_text("word\nb\n")
        refused = vinestep_here("generate", "answers.vine", *arguments, cwd=tmp_path)
        assert refused.returncode == 2
        assert told in " ".join(refused.stderr.split())

    found = vs.demo.chalk(4)
    pictures = np.round(found.pictures * 255).astype(np.uint8)
    reader = vs.networks.picture_reader(16, channels=(4, 4, 4))
    network = vs.networks.EncoderDecoder(None, 30, width=16, depth=1, heads=2, reader=reader)
    codes = vs.data.CharacterTokeniser.learned(["0123456789ABCDEFHKLMNPRTUV"])
    source = vs.data.Pairs(pictures, found.codes, codes).prepared(vs.data.pictures.Range())
    training = vs.Training(network, loss=vs.losses.next_token, seed=1)
    training.run(source.batches(4), epochs=1)
    training.model().save(tmp_path / "chalk.vine")
    Image.fromarray(pictures[0, :, :, 0]).save(tmp_path / "mark.png")
    read = vinestep_here("generate", "chalk.vine", "mark.png", "--most", "6", cwd=tmp_path)
    assert read.returncode == 0, read.stderr
    assert "mark.png" in read.stdout


def test_each_command_is_told_in_one_line():
    """A summary is shown with its line breaks, so it has none."""
    from vinestep.cli.app import app

    for command in app.registered_commands:
        summary = (command.callback.__doc__ or "").partition("\n\n")[0]
        assert summary, command.callback.__name__
        assert "\n" not in summary.strip(), command.callback.__name__


def test_texts_that_no_terminal_shows_are_printed_by_number(tmp_path, monkeypatch):
    monkeypatch.setenv("PYTHONIOENCODING", "ascii")
    monkeypatch.setenv("LANG", "C")
    (tmp_path / "odd.csv").write_text("\u00fc,x\n1,2\n3,4\n", encoding="utf-8")
    told = vinestep("peek", "odd.csv", cwd=tmp_path)
    assert told.returncode == 2
    assert "It has \\xfc, x" in told.stderr
    refused = vinestep("peek", "n\u00f6.csv", cwd=tmp_path)
    assert refused.returncode == 2
    assert "Traceback" not in refused.stderr
