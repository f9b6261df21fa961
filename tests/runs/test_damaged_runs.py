"""One damaged run never hides the others, and nothing raw comes of it."""

import contextlib
import json
import os
import random
import shutil

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import VineStepError
from vinestep.page import views
from vinestep.training.run._run_metadata import write_assessment

RUNS = int(os.environ.get("VINESTEP_TEST_DAMAGED", "12"))
VALUES = [None, True, -1, float("inf"), "", [], {}, "x" * 5000, [[[]]], {"a": {"b": 1}}, 10**30]
VALUES += ["\x00", "\u202e<script>", 0.5, [None], "2026-99-99"]


def trained(**where):
    data = vs.data.Dataset(
        np.random.default_rng(0).normal(size=(40, 3)).astype("f4"), np.arange(40) % 2
    )
    train, rest = data.split(0.7, 0.3)
    training = vs.Training(vs.Dense(2), loss=vs.losses.cross_entropy, metrics=[vs.metrics.accuracy])
    outcome = training.run(
        train.batches(8),
        validation=rest.batches(8),
        epochs=3 if "resume" in where else 2,
        name="w",
        observers=[vs.observers.Steps(), vs.observers.Norms(1)],
        **where,
    )
    if "record" in where:
        write_assessment(outcome.store, {"validation": training.assess(rest.batches(8))})


@pytest.fixture(scope="module")
def kept(tmp_path_factory):
    root = tmp_path_factory.mktemp("damaged") / "records"
    for _ in range(3):
        trained(record=root)
    runs = vs.runs.open(root)
    runs["w-2"].note("sour")
    runs["w-2"].tag(["kept"])
    (root / "ledger.sqlite").unlink()
    return root


def changed(value, rng):
    if isinstance(value, dict) and value and rng.random() < 0.85:
        key = rng.choice(list(value))
        if rng.random() < 0.15:
            value.pop(key)
        else:
            value[key] = changed(value[key], rng)
        return value
    if isinstance(value, list) and value and rng.random() < 0.7:
        i = rng.randrange(len(value))
        value[i] = changed(value[i], rng)
        return value
    return rng.choice(VALUES)


def damage(file, rng):
    content = file.read_bytes()
    kind = rng.randrange(6)
    if kind < 4 and file.suffix == ".json":
        content = json.dumps(changed(json.loads(content), rng)).encode()
    elif kind == 4:
        content = content[: rng.randrange(len(content) + 1)]
    else:
        damaged = bytearray(content)
        for _ in range(rng.randrange(1, 9) if damaged else 0):
            damaged[rng.randrange(len(damaged))] = rng.randrange(256)
        content = bytes(damaged)
    file.write_bytes(content)


@pytest.mark.parametrize("seed", range(RUNS))
def test_a_damaged_run_hides_no_other(seed, kept, tmp_path):
    rng = random.Random(seed)
    root = tmp_path / "records"
    shutil.copytree(kept, root)
    files = sorted(
        file for file in (root / "w-2").rglob("*") if file.suffix in (".json", ".csv", ".toml")
    )
    damage(rng.choice(files), rng)
    runs = vs.runs.open(root)
    assert {"w-1", "w-3"} <= set(runs.table()["run"])
    runs.names()
    if "w-2" not in set(runs.table()["run"]):
        return
    run, folder = runs["w-2"], vs.runs.RunFolder(root / "w-2")
    for use in (
        run.as_dict,
        run.diagnose,
        lambda: run.curves,
        run._repr_html_,
        lambda: views.summary(run),
        lambda: views.layers(run, views.Series()),
        lambda: views.comparison([run, runs["w-1"]], "validation_loss", "epoch"),
        lambda: vs.runs.leading_run(list(runs), "validation_loss"),
        lambda: run.tag(["z"]),
        lambda: run.note("q"),
        lambda: run.ask("stop"),
        lambda: vs.runs.compare([run, runs["w-1"]]),
        lambda: vs.runs.runs_table(root),
        lambda: [folder.read_series(name) for name in folder.series_names()],
        lambda: [folder.read_file(name) for name in folder.file_names()],
        lambda: folder.trim(3),
        lambda: trained(resume=folder.path),
        run.remove,
    ):
        with contextlib.suppress(VineStepError):  # refused in words, and in no other way
            use()
