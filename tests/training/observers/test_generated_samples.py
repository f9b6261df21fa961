"""What a network makes as a run goes: pictures, points, tables, arrays, with scores."""

import numpy as np
import pytest

import vinestep as vs
from vinestep.page.views import generated

G = vs.generation


def run(data, network, folder, *, epochs=3, validation=None, **settings):
    training = vs.Training(network, task=vs.tasks.Generative(), seed=0)
    looks = vs.observers.GeneratedSamples(4, **{"scored": 16, "settings": {"steps": 3}, **settings})
    training.run(
        data.batches(16),
        validation=validation and validation.batches(16),
        epochs=epochs,
        observers=[looks],
        record=folder,
    )
    (found,) = vs.runs.open(folder)
    return found


def test_pictures_stand_in_one_and_beside_the_nearest(tmp_path):
    x = np.random.default_rng(0).integers(0, 255, (48, 8, 8, 3)).astype(np.uint8)
    parts = vs.data.Dataset(x).prepared(vs.data.pictures.Range(-1, 1)).split(0.7, 0.3, seed=0)
    body = vs.networks.UShaped(3, channels=(4, 8), conditioned=True)
    found = run(parts[0], G.Diffusion(body), tmp_path, validation=parts[1])
    names = [name for name in found.file_names if name.startswith("generated")]
    assert {
        "generated-00000000.png",
        "generated-00000003.png",
        "generated-and-nearest-00000009.png",
    } <= set(names)
    rows = found.series("generated")
    assert rows["step"].tolist() == [0, 3, 6, 9]
    assert {"distance", "coverage", "data_copying", "real_coverage"} <= set(rows)
    sheet = generated(found)
    assert [look["step"] for look in sheet["pictures"]] == [0, 3, 6, 9]
    assert sheet["nearest"]["step"] == 9
    assert sheet["scores"]["distance"] == rows["distance"].tolist()
    (answer,) = [one for one in found.diagnose() if one.question == "generated"]
    assert answer.evidence


def test_rows_of_a_table_stand_in_its_columns(tmp_path):
    table = vs.data.Table(vs.demo.barrels(120), target="state")
    (train,) = vs.data.scaled(table)
    network = G.VariationalAutoencoder(
        vs.Dense(8, vs.relu), vs.Dense(train.inputs.shape[1]), latent=2
    )
    found = run(train, network, tmp_path, settings={})
    (first, last) = generated(found)["tables"]
    assert first["step"] == 0
    assert last["columns"][:2] == ["sugar", "pH"]
    assert len(last["rows"]) == 4


def test_other_arrays_stand_as_numbers_and_nothing_is_scored(tmp_path):
    x = np.random.default_rng(0).normal(size=(32, 5)).astype(np.float32)
    network = G.Diffusion(vs.layers.ConditionedDense(5, width=8, depth=1))
    found = run(vs.data.Dataset(x), network, tmp_path, scored=0, every=2)
    assert not len(found.series("generated"))
    assert generated(found)["tables"][0]["columns"] == [f"value {i}" for i in range(5)]


def test_a_resumed_run_has_the_same_looks(tmp_path):
    x = np.random.default_rng(0).normal(size=(32, 2)).astype(np.float32)

    def training():
        network = G.Diffusion(vs.layers.ConditionedDense(2, width=8, depth=1))
        return vs.Training(network, task=vs.tasks.Generative(), seed=0)

    def looks():
        return vs.observers.GeneratedSamples(every=1, scored=16, settings={"steps": 3})

    batches = vs.data.Dataset(x).batches(16)
    training().run(batches, epochs=4, record=tmp_path / "whole", observers=[looks()])
    training().run(batches, epochs=2, record=tmp_path / "cut", observers=[looks()])
    training().run(batches, epochs=4, resume=tmp_path / "cut" / "run-1", observers=[looks()])
    whole, cut = (
        next(iter(vs.runs.open(tmp_path / name))).series("generated") for name in ("whole", "cut")
    )
    assert whole["step"].tolist() == cut["step"].tolist()
    assert np.allclose(whole["distance"], cut["distance"])


def test_a_network_that_makes_nothing_is_told(tmp_path, caplog):
    data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    training.run(
        data.batches(4), epochs=1, record=tmp_path, observers=[vs.observers.GeneratedSamples()]
    )
    assert "makes no examples" in caplog.text
    with pytest.raises(vs.errors.SettingError, match="scored is 0 or at least 10"):
        vs.observers.GeneratedSamples(scored=3)
