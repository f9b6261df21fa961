"""What mattered, all at once: every kind of data, from Python, plan, command line and record."""

import io
from collections import Counter

import numpy as np
import pandas as pd
import pytest

import vinestep as vs
from tests.command_line import vinestep_here
from vinestep.errors import RunError, SettingError

a = vs.attribution


def run(network, data, *, task, epochs=2, observers=(), record=None, batch=16, **options):
    train, validation = data if isinstance(data, tuple) else data.split(0.7, 0.3, seed=0)
    training = vs.Training(network, task=task, seed=1)
    outcome = training.run(
        train.batches(batch, **options),
        validation=validation.batches(64, shuffled=False, **options),
        epochs=epochs,
        observers=list(observers),
        record=record,
    )
    return training, train.batches(batch, **options), validation.batches(64, **options), outcome


@pytest.fixture(scope="module")
def barrels():
    frame = vs.demo.barrels(260)
    frame.loc[::9, "sugar"] = np.nan
    table = vs.data.Table(frame, target="state")
    train, validation = vs.data.scaled(*table.split(0.7, 0.3, seed=0))
    network = vs.Stack(vs.Dense(16, vs.relu), vs.Dense(table.classes))
    made = run(network, (train, validation), task=vs.tasks.Classes(), epochs=12)
    return frame, *made[:3]


def test_a_table_encoded_and_its_raw_rows_tell_the_same(barrels):
    frame, training, train, _ = barrels
    model = training.model()
    raw = frame.sample(60, random_state=1).reset_index(drop=True)
    encoded = train.dataset.like(raw)
    ours = a.permutation_importance(model, encoded, repeats=3, seed=2)
    theirs = a.permutation_importance(model, raw, repeats=3, seed=2)
    pd.testing.assert_frame_equal(ours, theirs, rtol=1e-4)
    assert set(ours["column"]) == set(frame.columns) - {"state"}
    for column, values in (("temperature", [10.0, 20.0]), ("cooper", ["Alder", "Castel"])):
        one = a.partial_dependence(model, encoded, column, values=values)
        other = a.partial_dependence(model, raw, column, values=values)
        pd.testing.assert_frame_equal(one, other, rtol=1e-4)
    coopers = a.partial_dependence(model, encoded, "cooper")["cooper"].tolist()
    assert coopers == sorted(raw["cooper"].dropna().unique())


def test_features_of_a_column_are_dealt_out_together(barrels):
    _, _, train, _ = barrels
    encoding, scaling = train.dataset.encoding, train.dataset.scaling
    places = encoding.feature_places(scaling)
    assert Counter(i for own in places.values() for i in own) == Counter(
        range(train.dataset.inputs.shape[1])
    )
    assert len(places["sugar"]) == 2
    for column, own in places.items():
        names = [train.dataset.feature_names[i] for i in own]
        assert all(
            name == column or name.startswith((f"{column}=", f"{column} ")) for name in names
        )


def overview_of(made, **options):
    training, train, validation, _ = made
    found = a.overview(training.model(), validation, train=train, **options)
    for name, drawn in found.figures.items():
        assert vs.figures.as_png(drawn)[1:4] == b"PNG", name
    return found


def test_tables(barrels):
    _, training, train, validation = barrels
    found = overview_of((training, train, validation, None))
    assert set(found.tables) == {"importances", "nearest"}
    assert set(found.figures) == {"importances", "dependence", "map"}
    importances = found.tables["importances"]
    assert importances["importance"].is_monotonic_decreasing
    assert importances["low"].iloc[0] > 0
    nearest = found.tables["nearest"]
    assert len(nearest) == 6
    assert nearest["error"].is_monotonic_decreasing
    labels = train.dataset.targets
    names = train.dataset.class_names
    for cell in nearest["nearest 1"]:
        text, _, row = cell.rstrip(")").rpartition(" (row ")
        assert names[labels[int(row)]] == text


def test_rows_of_a_file_and_arrays(barrels, tmp_path):
    frame, training, *_ = barrels
    frame.head(80).to_csv(tmp_path / "rows.csv", index=False)
    model = training.model()
    of_file = a.overview(model, tmp_path / "rows.csv")
    of_frame = a.overview(model, frame.head(80))
    pd.testing.assert_frame_equal(of_file.tables["importances"], of_frame.tables["importances"])
    bare = a.overview(model, frame.head(80).drop(columns="state"))
    assert "importances" not in bare.tables
    assert "map" in bare.figures


def test_a_column_that_says_nothing_is_not_drawn_as_one_that_does():
    x = np.random.default_rng(0).normal(size=(200, 3)).astype(np.float32)
    network = vs.Stack(vs.Dense(2), vs.Dense(1)).initialise(x)
    one = np.array([[1.0, 0.0], [0.0, 0.0], [0.0, 0.0]])
    network.load(
        {
            "0/weight": one,
            "0/bias": np.zeros(2),
            "1/weight": np.ones((2, 1)),
            "1/bias": np.zeros(1),
        }
    )
    model = vs.Model(network, loss=vs.tasks.Numbers())
    found = a.overview(model, x, x[:, :1])
    importance = found.tables["importances"].set_index("column")["importance"]
    assert importance["0"] > 1
    assert importance[["1", "2"]].tolist() == [0, 0]
    assert len(found.figures["dependence"].axes) == 1


def test_pictures():
    leaves = vs.demo.leaves(90)
    data = vs.data.Dataset(leaves.pictures, leaves.labels, class_values=leaves.names)
    network = vs.networks.convolutional_classifier(len(leaves.names), channels=(4, 8))
    found = overview_of(run(network, data, task=vs.tasks.Classes()), count=3)
    assert {"parts", "feature maps", "map"} <= set(found.figures)
    assert len(found.figures["parts"].axes) == 3 * 4
    assert len(found.tables["nearest"]) == 3


def test_masks_of_pictures():
    spots = vs.demo.leaf_spots(80)
    data = vs.data.Dataset(spots.pictures, spots.masks)
    network = vs.Stack(vs.Convolution(4, 3, activation=vs.relu), vs.Convolution(3, 3))
    found = overview_of(run(network, data, task=vs.tasks.Classes()), count=2)
    assert {"parts", "feature maps", "map"} <= set(found.figures)
    assert found.tables["nearest"]["truth"].tolist() == ["", ""]


def test_sequences_of_numbers():
    tanks = vs.demo.ferments(80)
    data = vs.data.Dataset(
        tanks.series[:, ::6].astype(np.float32), tanks.hours_until_dry[:, None].astype(np.float32)
    )
    network = vs.Stack(vs.GRU(6, output="last"), vs.Dense(1))
    found = overview_of(run(network, data, task=vs.tasks.Numbers()), count=2)
    assert {"times", "map"} <= set(found.figures)
    labels = found.figures["map"].axes[0].get_legend().get_texts()
    assert [text.get_text().split()[0] for text in labels] == ["target", "between", "above"]


def test_texts_with_attention_say_their_tokens():
    texts = vs.demo.notes(120).texts
    tokeniser = vs.data.WordTokeniser.learned(texts)
    train, validation = (
        vs.data.Documents(part, tokeniser, length=16) for part in (texts[:80], texts[80:])
    )
    network = vs.networks.LanguageModel(len(tokeniser), width=16, depth=1, heads=2)
    training = vs.Training(network, loss=vs.losses.next_token)
    training.run(train.batches(8), validation=validation.batches(32), epochs=1)
    found = a.overview(training.model(), validation.batches(32), train=train.batches(8))
    axis = found.figures["attention"].axes[0]
    shown = [text.get_text() for text in axis.get_yticklabels()]
    assert len(shown) == 16
    assert sum(word in " ".join(texts) for word in shown if word) > 8


def test_padded_sequences():
    notes = vs.demo.notes(90)
    tokeniser = vs.data.WordTokeniser.learned(notes.texts)
    pairs = [(tokeniser.encode(t), k) for t, k in zip(notes.texts, notes.labels, strict=True)]
    data = vs.data.Examples(pairs)
    network = vs.Stack(vs.Embedding(len(tokeniser), 8), vs.LSTM(8, output="last"), vs.Dense(4))
    made = run(network, data, task=vs.tasks.Classes(), epochs=1, join=vs.data.Padded())
    found = overview_of(made)
    assert "map" in found.figures
    assert len(found.tables["nearest"]) == 6


def test_several_targets_and_several_inputs():
    frame = vs.demo.casks(160)
    table = vs.data.Table(
        frame,
        targets=["state", "alcohol"],
        target_gaps=True,
        inputs={"must": ["pH", "sugar"], "room": ["temperature", "cooper"]},
    )
    parts = vs.data.scaled(*table.split(0.7, 0.3, seed=0))
    body = vs.MultiInput(
        {"must": vs.Dense(6, vs.relu), "room": vs.Dense(6, vs.relu)},
        vs.Heads(vs.Dense(6, vs.relu), {"state": vs.Dense(3), "alcohol": vs.Dense(1)}),
    )
    task = vs.tasks.Several(
        {"state": vs.tasks.Classes(gaps=True), "alcohol": vs.tasks.Numbers(gaps=True)}
    )
    found = overview_of(run(body, tuple(parts), task=task, epochs=3))
    assert set(found.tables["importances"]["column"]) == {"pH", "sugar", "temperature", "cooper"}
    units = {axis.get_ylabel() for axis in found.figures["dependence"].axes} if (
        "dependence" in found.figures
    ) else {"mean over the rows"}  # fmt: skip
    assert "mean over the rows" in units


@pytest.mark.parametrize("task", [vs.tasks.Binary(), vs.tasks.Labels(), vs.tasks.Ordered()])
def test_other_tasks(task):
    rng = np.random.default_rng(0)
    x = rng.normal(size=(120, 4)).astype(np.float32)
    targets = {
        "Binary": (x[:, :1] > 0).astype(np.float32),
        "Labels": (x[:, :3] > 0).astype(np.float32),
        "Ordered": np.digitize(x[:, 0], [-0.5, 0.5]),
    }[type(task).__name__]
    width = {"Binary": 1, "Labels": 3, "Ordered": 2}[type(task).__name__]
    network = vs.Stack(vs.Dense(8, vs.relu), vs.Dense(width))
    found = overview_of(run(network, vs.data.Dataset(x, targets), task=task, epochs=15))
    assert set(found.tables) == {"importances", "nearest"}
    assert found.tables["importances"]["column"].iloc[0] in ("0", "1", "2")


def test_settings_are_checked(barrels):
    _, training, _, validation = barrels
    for count in (0, True, "3"):
        with pytest.raises(SettingError, match="at least 1"):
            a.overview(training.model(), validation, count=count)
        with pytest.raises(SettingError, match="at least 1"):
            vs.observers.Attributions(count=count)


def test_hidden_windows_reach_every_place():
    class Sum(vs.Layer):
        def declare(self, shape):
            self.parameter("scale", (1,), vs.initialisers.ones)

        def compute(self, x):
            return np.sum(x, axis=(1, 2, 3))[:, None] * self.scale

    network = Sum().initialise(np.ones((1, 7, 5, 1)))
    for stride in (1, 2, 3):
        found = a.occlusion(network, np.ones((2, 7, 5, 1)), window=3, stride=stride)
        np.testing.assert_allclose(found, 9.0)
    with pytest.raises(SettingError, match="from 1 to the window"):
        a.occlusion(network, np.ones((2, 7, 5, 1)), window=2, stride=3)


# the record


def test_a_run_records_what_mattered_to_its_best_state(barrels, tmp_path):
    _, _, train, validation = barrels
    network = vs.Stack(vs.Dense(8, vs.relu), vs.Dense(3))
    training, _, _, outcome = run(
        network,
        (train.dataset, validation.dataset),
        task=vs.tasks.Classes(),
        epochs=3,
        observers=[vs.observers.Attributions(2)],
        record=tmp_path,
    )
    last = outcome.store.read_status()["step"]
    found = pd.read_csv(
        io.BytesIO(outcome.store.read_file(f"attribution-importances-{last:08d}.csv"))
    )
    ours = a.overview(training.model(), validation.dataset.batches(64, shuffled=False))
    pd.testing.assert_frame_equal(found, ours.tables["importances"])
    nearest = outcome.store.read_file(f"attribution-nearest-{last:08d}.csv")
    assert len(pd.read_csv(io.BytesIO(nearest))) == 2


def test_a_loop_of_ones_own_records_it_by_a_call(barrels):
    _, training, _, validation = barrels
    store = vs.training.MemoryStore()
    with vs.recorded_run({"noise": vs.RandomStream(0)}, steps=1, record=store) as under_way:
        for _ in under_way.steps():
            a.overview(training.model(), validation).record(under_way)
    assert "attribution-importances-00000001.csv" in store.file_names()
    assert "attribution-map-00000001.png" in store.file_names()


def test_an_observer_in_a_loop_of_ones_own_says_what_to_call(caplog):
    store = vs.training.MemoryStore()
    observers = [vs.observers.Attributions()]
    with vs.recorded_run(
        {"noise": vs.RandomStream(0)}, steps=1, record=store, observers=observers
    ) as under_way:
        for _ in under_way.steps():
            pass
    assert "overview(model, rows).record(run)" in store.read_console()


PLAN = """
epochs = 2
loss = "cross_entropy"
[data]
source = "barrels.csv"
target = "state"
[[layers]]
kind = "dense"
width = 8
activation = "relu"
[[layers]]
kind = "dense"
width = "classes"
"""


@pytest.fixture
def planned(tmp_path):
    vs.demo.barrels(200).to_csv(tmp_path / "barrels.csv", index=False)
    (tmp_path / "plan.toml").write_text(PLAN)
    assert vinestep_here("train", "plan.toml", cwd=tmp_path).returncode == 0
    return tmp_path


def test_a_run_is_looked_at_afterwards_on_the_command_line(planned):
    label = vs.runs.open(planned / "records").table()["run"].iloc[0]
    done = vinestep_here("attribute", label, "--count", 2, cwd=planned)
    assert done.returncode == 0, done.stderr
    assert "temperature" in done.stdout
    assert "vinestep page" in done.stdout
    record = vs.runs.open(planned / "records")[label]
    assert record.at_steps("attribution-importances", "csv")
    assert len(record.at_steps("attribution-map", "png")) == 1
    again = vs.runs.attribute(record, count=2)
    (file,) = record.at_steps("attribution-importances", "csv").values()
    pd.testing.assert_frame_equal(record.table_at(file), again.tables["importances"])
    other = vinestep_here("attribute", label, "barrels.csv", "--out", "looks", cwd=planned)
    assert other.returncode == 0, other.stderr
    assert {path.name for path in (planned / "looks").iterdir()} >= {"importances.csv", "map.png"}


def test_a_plan_names_the_observer(planned):
    (planned / "plan.toml").write_text(PLAN + '[[observers]]\nkind = "attributions"\ncount = 2\n')
    assert vinestep_here("train", "plan.toml", cwd=planned).returncode == 0
    newest = list(vs.runs.open(planned / "records"))[-1]
    assert newest.at_steps("attribution-importances", "csv")


def test_a_model_file_is_looked_at_on_rows(planned):
    model = next((planned / "records").glob("*/*.vine"))
    refused = vinestep_here("attribute", model, cwd=planned)
    assert refused.returncode == 2
    assert "attribute MODEL ROWS --out FOLDER" in refused.stderr
    done = vinestep_here("attribute", model, "barrels.csv", "--out", "looks", cwd=planned)
    assert done.returncode == 0, done.stderr
    assert "importances.csv" in done.stdout
    assert (planned / "looks" / "map.png").read_bytes()[1:4] == b"PNG"


def test_a_run_without_a_plan_asks_for_rows(tmp_path):
    x = np.random.default_rng(0).normal(size=(40, 3))
    training = vs.Training(vs.Dense(1), task=vs.tasks.Numbers())
    data = vs.data.Dataset(x, x[:, :1])
    training.run(data.batches(8), epochs=1, record=tmp_path)
    record = vs.runs.open(tmp_path)["run-1"]
    with pytest.raises(RunError, match="Give rows with their target"):
        vs.runs.attribute(record)
    assert len(vs.runs.attribute(record, data).tables["importances"]) == 3
    refused = vinestep_here("attribute", "run-7", "--record", tmp_path, cwd=tmp_path)
    assert refused.returncode == 2
