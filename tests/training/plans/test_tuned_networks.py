"""Plans that tune what was trained: weights in few bits, adapters beside them, a head that trains,
and tokenisers that are learned from a file.
"""

import numpy as np
import pytest
import tomli_w

import vinestep as vs
from vinestep.errors import PlanError
from vinestep.training.plans._plan import read_plan
from vinestep.training.plans._planned_run import PlannedRun

BODY = {
    "name": "body",
    "epochs": 2,
    "data": {"source": "demo:barrels", "target": "state"},
    "layers": [
        {"kind": "dense", "width": 64, "activation": "relu"},
        {"kind": "dense", "width": 64, "activation": "relu"},
        {"kind": "dense", "width": "classes"},
    ],
}
CODES = {"codes": {"patterns": ["0", "1"], "bits": 8}}
ADAPTERS = {"adapters": {"patterns": ["0", "1"], "rank": 2, "train": ["2/*"]}}


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    base = tmp_path_factory.mktemp("tuned")
    planned(base, BODY).run(record=base / "records")
    return base


def planned(folder, plan, **options):
    file = folder / f"{plan['name']}.toml"
    file.write_text(tomli_w.dumps(plan))
    return PlannedRun(read_plan(file), folder, **options)


def tuned(**changes):
    return BODY | {"name": "tuned", "epochs": 4, "start_from": "records/body-1"} | changes


@pytest.mark.parametrize(
    "how", [CODES, ADAPTERS, CODES | ADAPTERS], ids=["codes", "adapters", "both"]
)
def test_a_tuned_run_is_that_of_python_resumed_and_opened_elsewhere(folder, tmp_path, how):
    whole = planned(folder, tuned(**how))
    network = whole.training.network
    by_hand = vs.open_model(next((folder / "records/body-1").glob("*.vine"))).network
    if "codes" in how:
        by_hand = vs.layers.quantised(by_hand, ["0", "1"], bits=8)
    if "adapters" in how:
        by_hand = vs.layers.adapted(by_hand, ["0", "1"], rank=2)
        trains = {"0/down", "0/up", "1/down", "1/up", "2/weight", "2/bias"}
        arena = network._ready_arena()
        assert set(arena.tensors) - arena.frozen_paths == trains
    x = whole.train_batches().sample().inputs
    np.testing.assert_allclose(vs.held(network(x)), vs.held(by_hand(x)), rtol=1e-6)

    whole.run(record=tmp_path / "whole")
    first = planned(folder, tuned(**how, epochs=2))
    first.run(record=tmp_path / "parts")
    run = next((tmp_path / "parts").glob("tuned-*"))
    second = planned(folder, tuned(**how), resuming=True)
    second.run(resume=run)
    for path, weight in whole.training.network.weights().items():
        assert np.array_equal(weight, second.training.network.weights()[path]), path
    opened = vs.open_model(next(run.glob("*.vine")))
    model = second.training.model()
    rows = vs.demo.barrels(20)
    assert opened.predict(rows).equals(model.predict(rows))


@pytest.mark.parametrize("how", [CODES, ADAPTERS], ids=["codes", "adapters"])
def test_what_is_not_trained_is_not_tuned(folder, how):
    plan = {key: value for key, value in tuned(**how).items() if key != "start_from"}
    with pytest.raises(PlanError, match="for weights that are trained already"):
        planned(folder, plan)


@pytest.mark.parametrize(
    ("key", "wrong"),
    [
        ("codes", {"bits": 5}),
        ("codes", {"patterns": ["9"]}),
        ("adapters", {"rank": 0}),
        ("adapters", {"patterns": ["0"], "train": ["9/*"]}),
        ("adapters", {"alpha": 3}),
    ],
)
def test_settings_that_are_wrong_are_refused_in_words(folder, key, wrong):
    with pytest.raises(
        vs.errors.VineStepError, match="|".join(map(str, wrong.values())) + f"|{key}"
    ):
        planned(folder, tuned(**{key: wrong}))


NOTES = "\n".join(f"Racked cask {i % 7}, not at all thin." for i in range(120))
TOKENISERS = {
    "characters_of": {},
    "words_of": {"most": 50},
    "byte_pairs_of": {"tokens": 280, "special": ["<answer>"]},
}
MODEL = [{"kind": "language_model", "tokens": "tokens", "width": 16, "depth": 1, "heads": 2}]


@pytest.mark.parametrize("kind", TOKENISERS)
def test_a_tokeniser_is_learned_from_the_file_that_a_plan_names(tmp_path, kind):
    (tmp_path / "notes.txt").write_text(NOTES)
    tokeniser = {"kind": kind, "file": "notes.txt", **TOKENISERS[kind]}
    source = {"kind": "documents", "file": "notes.txt", "tokeniser": tokeniser, "length": 16}
    plan = {"name": "notes", "epochs": 1, "data": {"source": source}, "layers": MODEL}
    run = planned(tmp_path, plan)
    run.run(record=tmp_path / "records")
    assert run.recorded_plan()["data"]["source"]["tokeniser"]["file"] == str(tmp_path / "notes.txt")
    model = vs.open_model(next(tmp_path.glob("records/notes-1/*.vine")))
    learned = model.codec.text_form.tokeniser
    assert learned.decode(learned.encode("Racked cask 3, not at all thin.")).startswith(
        "Racked cask 3"
    )
    assert (
        learned.fingerprint()
        == getattr(vs.data, kind)(tmp_path / "notes.txt", **TOKENISERS[kind]).fingerprint()
    )


def test_columns_of_a_table_are_learned_from(tmp_path):
    (tmp_path / "entries.csv").write_text("entry,sentence\nab,cd\nba,dc\n")
    found = vs.data.characters_of(tmp_path / "entries.csv", columns=["entry", "sentence"])
    assert found.tokens == ("a", "b", "c", "d")
    with pytest.raises(vs.errors.DataError, match="no column 'sentense'. Did you mean 'sentence'"):
        vs.data.words_of(tmp_path / "entries.csv", columns=["sentense"])
    (tmp_path / "empty.txt").write_text("")
    with pytest.raises(vs.errors.DataError, match="no text to learn"):
        vs.data.words_of(tmp_path / "empty.txt")
