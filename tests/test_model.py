"""Models: handed on in one file, opened without the code that trained them, and refused if anything
is wrong with it.
"""

import hashlib
import io
import json
import os
import resource
import subprocess
import sys
import zipfile

import numpy as np
import pandas as pd
import pytest

import vinestep as vs
from vinestep.errors import (
    ArchiveError,
    DataError,
    ModelError,
    PartError,
)
from vinestep.storage import archive

CHILD = """
import sys, numpy as np, pandas as pd, vinestep as vs
found = vs.open_model(sys.argv[1]).predict(sys.argv[2])
found.to_pickle(sys.argv[3])
"""


def barrels(n=300):
    return vs.demo.barrels(n)


def trained(frame=None, epochs=6, **options):
    table = vs.data.Table(barrels() if frame is None else frame, target="state", **options)
    train, validation, test = vs.data.scaled(*table.split(0.6, 0.2, 0.2, seed=1, stratified=True))
    training = vs.Training(
        vs.Stack(vs.Dense(16, vs.relu), vs.BatchNorm(), vs.Dense(table.classes)),
        loss=vs.losses.cross_entropy,
        metrics=[vs.metrics.accuracy],
        seed=2,
    )
    training.run(train.batches(32), validation=validation.batches(60), epochs=epochs)
    return training, test


@pytest.fixture(scope="module")
def model(tmp_path_factory):
    training, _ = trained(unseen_categories="zeros")
    return training.model(), training.model().save(
        tmp_path_factory.mktemp("model") / "barrels.vine"
    )


def raw_rows(tmp_path):
    rows = barrels(40).drop(columns="state")
    rows.loc[3, "pH"] = np.nan
    rows.loc[5, "cooper"] = "Elm"
    rows.to_csv(tmp_path / "rows.csv", index=False)
    return rows


def test_another_process_with_only_the_file_predicts_the_same_bits(tmp_path, model):
    ours, file = model
    raw_rows(tmp_path)
    command = [
        sys.executable,
        "-c",
        CHILD,
        str(file),
        str(tmp_path / "rows.csv"),
        str(tmp_path / "found.pickle"),
    ]
    subprocess.run(command, check=True, cwd=tmp_path, capture_output=True)
    found, expected = pd.read_pickle(tmp_path / "found.pickle"), ours.predict(tmp_path / "rows.csv")
    pd.testing.assert_frame_equal(found, expected, check_exact=True)
    assert list(expected)[:7] == list(barrels(1).drop(columns="state"))
    assert set(expected["predicted"]) <= {"sound", "spoiling", "stuck"}
    np.testing.assert_allclose(expected.filter(like="probability").sum(axis=1), 1)


def test_a_frame_and_its_csv_are_predicted_alike(tmp_path, model):
    ours, _ = model
    rows = raw_rows(tmp_path)
    pd.testing.assert_frame_equal(
        ours.predict(rows, beside=False), ours.predict(tmp_path / "rows.csv", beside=False)
    )


def test_a_model_does_what_its_training_does():
    training, test = trained()
    model = training.model()
    assert model.outputs(test.inputs).tobytes() == training.outputs(test).tobytes()
    assert model.assess(test.inputs, test.targets) == training.assess(test.batches(20))
    training.step((test.inputs, test.targets))
    assert model.outputs(test.inputs).tobytes() != training.outputs(test).tobytes()


def test_categories_that_gaps_turned_into_floats_are_the_same(tmp_path):
    frame = barrels(200).assign(row=pd.Categorical(np.arange(200) % 3))
    training, _ = trained(frame)
    rows = frame.drop(columns="state").head(5)
    rows.to_csv(tmp_path / "rows.csv", index=False)
    model = training.model()
    pd.testing.assert_frame_equal(
        model.predict(tmp_path / "rows.csv", beside=False), model.predict(rows, beside=False)
    )


def test_what_is_unlike_the_training_rows_is_refused_or_told(caplog):
    training, _ = trained()
    rows = barrels(20).drop(columns="state")
    with pytest.raises(
        DataError, match=r"row 1, column 'cooper': 'Elm' did not occur in training.*20 rows"
    ):
        training.model().predict(rows.assign(cooper="Elm"))
    with pytest.raises(DataError, match=r"column 'pH' is missing. .*missing_columns"):
        training.model().predict(rows.drop(columns="pH"))
    with pytest.raises(DataError, match=r"row 1, column 'sugar': 'sweet' is not a number"):
        training.model().predict(rows.assign(sugar="sweet"))
    with pytest.raises(DataError, match="column 'cooper' is empty, and in training it never was"):
        training.model().predict(rows.assign(cooper=None))
    lenient, _ = trained(unseen_categories="zeros", missing_columns="gaps")
    odd = rows.drop(columns="colour_index").assign(cooper="Elm", sugar=rows["sugar"] + 1000)
    found = {finding.subject: finding for finding in lenient.model().findings(odd)}
    assert found["column colour_index"].verdict == found["column sugar"].verdict == "wrong"
    assert found["column cooper"].verdict == "suspicious"
    assert "20 of 20 rows lie outside" in found["column sugar"].evidence
    assert "Elm (20)" in found["column cooper"].evidence
    lenient.model().predict(odd)
    assert "suspicious: column cooper" in caplog.text
    usual = rows[["cooper"]].assign(
        **{name: barrels()[name].median() for name in rows.columns if name != "cooper"}
    )
    assert lenient.model().findings(usual) == []


def test_another_fraction_of_gaps_is_a_finding():
    training, _ = trained()
    rows = barrels(200).drop(columns="state")
    rows.loc[:100, "pH"] = np.nan
    (found,) = [
        finding for finding in training.model().findings(rows) if finding.subject == "column pH"
    ]
    assert "% of its cells are empty, at training" in found.evidence


@vs.parts.part("tilt")
class Tilt(vs.Layer):
    def declare(self, shape):
        self.parameter("angle", shape[-1:], vs.initialisers.ones)

    def compute(self, x):
        return np.tanh(x * self.angle)


def test_own_parts_are_handed_over_when_it_is_opened(tmp_path):
    network = vs.Stack(vs.Dense(4), Tilt(), vs.Dense(2)).initialise(np.ones((1, 3)))
    file = vs.Model(network).save(tmp_path / "own.vine")
    x = np.random.default_rng(0).normal(size=(5, 3)).astype(np.float32)
    assert np.array_equal(vs.open_model(file, own=[Tilt]).outputs(x), vs.held(network(x)))
    with pytest.raises(ModelError, match=r"network.layers.1.kind: 'tilt' is not known(.|\n)*own="):
        vs.open_model(file)
    with pytest.raises(PartError, match="has no kind"):
        vs.Model(vs.Stack(vs.Dense(1), lambda x: x).initialise(np.ones((1, 3)))).save(
            tmp_path / "x.vine"
        )
    assert not (tmp_path / "x.vine").exists()


NETWORKS = {
    "two inputs": (
        lambda: vs.networks.EncoderDecoder(9, 7, width=8, depth=1, heads=2),
        (np.ones((2, 4), int), np.ones((2, 3), int)),
    ),
    "pictures": (
        lambda: vs.Stack(vs.Convolution(3, 2, activation=vs.relu), vs.Flatten(), vs.Dense(2)),
        np.ones((2, 6, 6, 2), np.uint8),
    ),
    "tokens": (lambda: vs.networks.TextScorer(9, 2, width=4), np.ones((2, 5), int)),
    "sequences": (
        lambda: vs.Stack(vs.LSTM(4, depth=2, bidirectional=True, output="last"), vs.Dense(1)),
        np.ones((2, 5, 3)),
    ),
    "shared": (lambda: (lambda d: vs.Stack(d, vs.relu, d))(vs.Dense(3)), np.ones((2, 3))),
}


@pytest.mark.parametrize("name", NETWORKS)
@pytest.mark.parametrize("dtype", [np.float32, np.float64])
def test_networks_of_all_inputs_come_back(tmp_path, name, dtype):
    make, sample = NETWORKS[name]
    network = make().initialise(sample, seed=3, dtype=dtype)
    path = next(iter(network.weights()))
    network.freeze(path)
    again = vs.open_model(vs.Model(network).save(tmp_path / "m.vine"))
    assert np.array_equal(again.outputs(sample), vs.Model(network).outputs(sample))
    assert again.network.arena.frozen_paths == {path}
    assert again.network.dtype == dtype


def test_best_states_of_runs_are_models(tmp_path):
    table = vs.data.Table(barrels(), target="state")
    train, validation = vs.data.scaled(*table.split(0.7, 0.3, seed=1))
    training = vs.Training(vs.Dense(3), loss=vs.losses.cross_entropy, metrics=[vs.metrics.accuracy])
    keeper = vs.observers.Checkpoints("best")
    outcome = training.run(
        train.batches(32),
        validation=validation.batches(90),
        epochs=3,
        record=tmp_path,
        observers=[keeper],
    )
    model = vs.open_model(keeper.best_file(outcome))
    assert model.assess(validation.inputs, validation.targets)["loss"] == pytest.approx(
        outcome.best()["validation_loss"]
    )
    assert model.lineage["scores"]["validation_loss"] == outcome.best()["validation_loss"]
    assert model.lineage["run"] == str(outcome.folder)
    assert {"python", "numpy", "vinestep"} <= model.lineage["versions"].keys()
    assert model.lineage["data"] == train.fingerprint()
    assert len(model.predict(barrels(10))) == 10


def sealed(members):
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as packed:
        for name, content in members.items():
            packed.writestr(name, content)
        packed.comment = b"0" * 64
    body = buffer.getvalue()[:-64]
    return body + hashlib.sha256(body).hexdigest().encode()


def members_of(file):
    with zipfile.ZipFile(file) as packed:
        return {name: packed.read(name) for name in packed.namelist()}


def test_any_changed_bit_is_refused(tmp_path, model):
    content = bytearray(model[1].read_bytes())
    rng = np.random.default_rng(0)
    for position in rng.integers(0, len(content), 60):
        damaged = bytearray(content)
        damaged[position] ^= 1 << int(rng.integers(8))
        (tmp_path / "bad.vine").write_bytes(damaged)
        with pytest.raises(ArchiveError, match="bad.vine: refused"):
            vs.open_model(tmp_path / "bad.vine")


def objects():
    room = io.BytesIO()
    np.lib.format.write_array(room, np.array([{}], dtype=object), allow_pickle=True)
    return room.getvalue()


def header(shape):
    text = (
        repr({"descr": "<f4", "fortran_order": False, "shape": shape}).encode().ljust(117) + b"\n"
    )
    return b"\x93NUMPY\x01\x00" + (118).to_bytes(2, "little") + text


HARM = {
    "an object array": {"weights/0/bias.npy": objects()},
    "a path": {"../../bias.npy": header((1,)) + bytes(4)},
    "a terabyte": {"weights/0/bias.npy": header((1 << 38,)) + bytes(16)},
    "deep JSON": {"contents.json": b"[" * 100_000 + b"]" * 100_000},
    "a pickle": {"weights.pkl": b"x"},
}


@pytest.mark.parametrize("name", HARM)
def test_files_that_would_harm_are_refused_unread(tmp_path, model, name):
    (tmp_path / "bad.vine").write_bytes(sealed(members_of(model[1]) | HARM[name]))
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with pytest.raises(ArchiveError, match="bad.vine: refused"):
        vs.open_model(tmp_path / "bad.vine")
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 100_000
    assert os.listdir(tmp_path) == ["bad.vine"]


CRAFTED = {
    "a network wider than its arrays": lambda m: m["network"]["layers"][0].update(width=10**7),
    "another width": lambda m: m["network"]["layers"][0].update(width=17),
    "an unknown kind": lambda m: m["network"]["layers"][0].update(kind="os.system"),
    "no network": lambda m: m.pop("network"),
    "a network that is a loss": lambda m: m.update(network={"kind": "huber"}),
    "an input of no size": lambda m: m["inputs"][0].update(shape=[0]),
    "a huge input": lambda m: m["inputs"][0].update(shape=[10**9, 10**9]),
    "an input of text": lambda m: m["inputs"][0].update(dtype="U9"),
    "an unknown precision": lambda m: m.update(precision="float12"),
    "another scaling": lambda m: m["scaling"].update(means=[0.0]),
    "a deviation of nothing": lambda m: m["scaling"]["spreads"].__setitem__(0, 0.0),
    "another encoding": lambda m: m["encoding"].update(numeric="pH"),
    "more in the encoding": lambda m: m["encoding"].update(more=1),
    "a list": lambda m: m.update(network=[1, 2]),
    "inputs that are none": lambda m: m.update(inputs=None),
    "frozen paths that are not there": lambda m: m.update(frozen=["a/b"]),
    "a metric that is a layer": lambda m: m.update(metrics=["relu"]),
}


@pytest.mark.parametrize("name", CRAFTED)
def test_what_a_file_says_is_checked(tmp_path, model, name):
    members = members_of(model[1])
    meta = json.loads(members[archive.META])
    CRAFTED[name](meta["model"])
    members[archive.META] = json.dumps(meta).encode()
    (tmp_path / "bad.vine").write_bytes(sealed(members))
    with pytest.raises(ModelError, match="bad.vine: "):
        vs.open_model(tmp_path / "bad.vine")


VALUES = (None, True, -1, 0, 1e9, 10**30, "", "x", [], {}, [1, 2], {"kind": "stack"}, "dense")


def test_any_field_of_a_file_replaced_is_opened_or_refused_in_words(tmp_path, model):
    members = members_of(model[1])
    rng = np.random.default_rng(1)
    for _ in range(150):
        meta = json.loads(members[archive.META])
        at, key = meta, "model"
        while isinstance(at[key], dict | list) and at[key] and rng.random() < 0.8:
            at = at[key]
            key = (
                list(at)[int(rng.integers(len(at)))]
                if isinstance(at, dict)
                else int(rng.integers(len(at)))
            )
        at[key] = VALUES[int(rng.integers(len(VALUES)))]
        (tmp_path / "odd.vine").write_bytes(
            sealed(members | {archive.META: json.dumps(meta).encode()})
        )
        try:
            opened = vs.open_model(tmp_path / "odd.vine")
        except ArchiveError:
            continue
        assert isinstance(repr(opened), str)


def test_scores_say_how_sure_they_are():
    rng = np.random.default_rng(0)
    labels = rng.integers(0, 2, 400)
    outputs = rng.normal(size=(400, 2)) + 1.5 * np.eye(2)[labels]
    found = vs.evaluation.assess(
        outputs, labels, vs.losses.cross_entropy, [vs.metrics.accuracy, vs.metrics.f1()]
    )
    k, n, z = round(found["accuracy"] * 400), 400, 1.959963984540054
    centre, half = (
        (k + z * z / 2) / (n + z * z),
        z / (n + z * z) * np.sqrt(k * (n - k) / n + z * z / 4),
    )
    np.testing.assert_allclose(
        found.intervals["accuracy"], (centre - half, centre + half), rtol=1e-9
    )
    low, high = found.intervals["loss"]
    losses = [vs.losses.cross_entropy(outputs[i : i + 1], labels[i : i + 1]) for i in range(400)]
    assert (high - low) / 2 == pytest.approx(z * np.std(losses) / 20, rel=0.15)
    assert low < found["loss"] < high
    assert found.table()["examples"].tolist() == [400] * 3
    again = vs.evaluation.assess(
        outputs, labels, vs.losses.cross_entropy, [vs.metrics.accuracy, vs.metrics.f1()]
    )
    assert again.intervals == found.intervals


def test_intervals_cover_as_often_as_they_say():
    rng = np.random.default_rng(3)
    inside = 0
    for _ in range(200):
        x = rng.exponential(size=(60, 1))
        low, high = vs.evaluation.assess(x, np.zeros((60, 1)), vs.losses.absolute_error).intervals[
            "loss"
        ]
        inside += low <= 1.0 <= high
    assert 0.87 < inside / 200 < 0.99
