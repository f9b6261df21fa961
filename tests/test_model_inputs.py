"""Whatever a model is given is answered, or refused in words: in Python and at the command line."""

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings, strategies as st
from PIL import Image

import vinestep as vs
from vinestep.errors import DataError, SettingError, VineStepError

from .command_line import vinestep_here


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    return tmp_path_factory.mktemp("models")


@pytest.fixture(scope="module")
def cellar():
    return vs.demo.barrels(80)


@pytest.fixture(scope="module")
def of_rows(folder, cellar):
    train, rest = vs.data.scaled(*vs.data.Table(cellar, target="state").split(0.7, 0.3))
    training = vs.Training(
        vs.Dense(train.classes), loss=vs.losses.cross_entropy, metrics=[vs.metrics.accuracy]
    )
    training.run(train.batches(16), epochs=1, validation=rest.batches(16))
    return vs.open_model(training.model().save(folder / "rows.vine")), train


@pytest.fixture(scope="module")
def pictures(folder):
    root = folder / "leaves"
    for k, name in enumerate(("healthy", "rust")):
        (root / name).mkdir(parents=True)
        for i in range(6):
            pixels = np.random.default_rng([k, i]).integers(0, 255, (8, 8, 3)).astype(np.uint8)
            Image.fromarray(pixels).save(root / name / f"{i}.png")
    return root


@pytest.fixture(scope="module")
def of_pictures(folder, pictures):
    source = vs.data.PictureFolder(pictures).prepared(vs.data.pictures.Range(-1, 1))
    training = vs.Training(
        vs.Stack(vs.Flatten(), vs.Dense(2)),
        loss=vs.losses.cross_entropy,
        metrics=[vs.metrics.accuracy],
    )
    training.run(source.batches(4), epochs=2)
    return vs.open_model(training.model().save(folder / "leaves.vine")), source


def test_rows_of_any_kind_give_the_same_predictions(of_rows, cellar, tmp_path):
    model, train = of_rows
    rows = cellar.drop(columns="state").head(5)
    rows.to_csv(tmp_path / "rows.csv", index=False)
    wanted = model.predict(rows, beside=False)
    for given_rows in (
        rows.to_dict("records"),
        rows.to_dict("list"),
        tuple(row for _, row in rows.iterrows()),
        tmp_path / "rows.csv",
        str(tmp_path / "rows.csv"),
    ):
        pd.testing.assert_frame_equal(model.predict(given_rows, beside=False), wanted)
    for one in (rows.iloc[0], rows.iloc[0].to_dict()):
        pd.testing.assert_frame_equal(model.predict(one, beside=False), wanted.head(1))
    whole = model.predict(train, beside=False)
    pd.testing.assert_frame_equal(model.predict(train.batches(7), beside=False), whole)
    assert len(whole) == len(train)


def test_scores_are_the_same_however_the_rows_come(of_rows, cellar, tmp_path):
    model, train = of_rows
    wanted = model.assess(cellar)
    assert model.assess(cellar.to_dict("records")) == wanted
    source = train.like(cellar)
    for given_rows in (source, source.batches(9)):
        assert model.assess(given_rows) == pytest.approx(wanted)
    assert len(model.assess(train).intervals["accuracy"]) == 2


def test_pictures_of_any_kind_give_the_same_predictions(of_pictures, pictures):
    model, source = of_pictures
    wanted = model.predict(source)
    files = [str(file) for file in sorted(pictures.rglob("*.png"))]
    found = model.predict(pictures)
    assert found["file"].tolist() == files
    pd.testing.assert_frame_equal(found.drop(columns="file"), wanted)
    opened = [Image.open(file) for file in files]
    arrays = np.stack([np.asarray(one) for one in opened])
    for given_pictures in (files, opened, arrays, list(arrays), vs.data.PictureFolder(pictures)):
        result = model.predict(given_pictures, beside=False)
        pd.testing.assert_frame_equal(result, wanted)
    assert len(model.predict(pictures / "rust")) == 6
    assert len(model.predict(files[3])) == len(model.predict(opened[3])) == 1


def test_a_folder_of_pictures_is_scored(of_pictures, pictures):
    model, source = of_pictures
    wanted = model.assess(source)
    for given_pictures in (pictures, str(pictures), vs.data.PictureFolder(pictures)):
        assert model.assess(given_pictures) == pytest.approx(wanted)
    with pytest.raises(DataError, match="in this order"):
        model.assess(vs.data.PictureFolder(pictures, class_values=["rust", "healthy"]))
    with pytest.raises(DataError, match="Leave prepared"):
        model.assess(vs.data.PictureFolder(pictures).prepared(vs.data.pictures.Range()))


def test_texts_in_files_are_read(tmp_path):
    tokeniser = vs.data.ByteTokeniser()
    texts = ["dry and taut", "sweet", "dense"]
    for name, some in (("good", texts), ("bad", ["thin", "sour"])):
        (tmp_path / name).mkdir()
        for i, text in enumerate(some):
            (tmp_path / name / f"{i}.txt").write_text(text)
    source = vs.data.TextFiles(tmp_path, encode=tokeniser)
    training = vs.Training(
        vs.networks.TextScorer(len(tokeniser), 2, width=8), loss=vs.losses.cross_entropy
    )
    training.run(source.batches(1), epochs=1)
    model = training.model()
    found = model.predict(tmp_path / "good")
    pd.testing.assert_frame_equal(found.drop(columns="file"), model.predict(texts))
    assert len(model.predict(tmp_path / "good" / "1.txt")) == 1
    assert len(model.predict(tmp_path)) == 5


def test_the_command_line_takes_the_same(of_rows, of_pictures, folder, pictures, cellar):
    cellar.to_csv(folder / "cellar.csv", index=False)
    for model, what in (("rows.vine", folder / "cellar.csv"), ("leaves.vine", pictures)):
        for command in ("predict", "assess"):
            told = vinestep_here(command, str(folder / model), str(what), cwd=folder)
            assert told.returncode == 0, told.stderr
    told = vinestep_here(
        "predict", str(folder / "leaves.vine"), str(pictures / "rust" / "1.png"), cwd=folder
    )
    assert told.returncode == 0
    for model, what in (
        ("rows.vine", pictures),
        ("rows.vine", folder / "leaves.vine"),
        ("leaves.vine", folder / "cellar.csv"),
        ("leaves.vine", folder / "nothing"),
        ("nothing.vine", pictures),
    ):
        for command in ("predict", "assess"):
            told = vinestep_here(command, str(folder / model), str(what), cwd=folder)
            assert told.returncode != 0
            assert "Traceback" not in told.stdout + told.stderr


ODD = [None, 3, [], [[1, 2], [3]], {1, 2}, object(), "no such file", "a\0b", b"bytes", [None], {}]
ODD += [np.array([["a", None]], object), np.zeros((0, 3)), np.float64(3), [{}], ["x", 1], ""]
ODD += ["x" * 5000]


@pytest.mark.parametrize("odd", ODD, ids=lambda value: repr(value)[:12])
def test_what_is_no_input_is_refused_in_words(odd, of_rows, of_pictures):
    for model in (of_rows[0], of_pictures[0]):
        for use in (model.predict, model.assess):
            with pytest.raises(VineStepError):
                use(odd)


PATHS = [None, 3, "a\0b", "", b"x", "x" * 5000, object()]


@pytest.mark.parametrize("path", PATHS, ids=lambda value: repr(value)[:12])
def test_what_is_no_path_is_refused_in_words(path, of_rows, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    data = vs.data.Dataset(np.ones((8, 2)), np.arange(8) % 2).batches(4)
    uses = [
        lambda: vs.open_model(path),
        lambda: of_rows[0].save(path),
        lambda: vs.runs.open(path),
    ]
    if path is not None:
        uses += [
            lambda: training().run(data, epochs=1, record=path),
            lambda: training().run(data, epochs=1, resume=path),
        ]
    for use in uses:
        with pytest.raises(VineStepError):
            use()


def training():
    return vs.Training(vs.Dense(2), loss=vs.losses.cross_entropy)


@pytest.mark.parametrize("name", ["", " ", "x" * 101, "a\n", "a\0", "\x1b[31m", 3, None, "\u202e"])
def test_names_that_are_none_are_refused_before_training(name, tmp_path):
    data = vs.data.Dataset(np.ones((8, 2)), np.arange(8) % 2).batches(4)
    with pytest.raises(SettingError, match="name"):
        training().run(data, epochs=1, record=tmp_path / "records", name=name)
    assert not (tmp_path / "records").exists()


@pytest.mark.parametrize("name", ["a/b", "../../up", "..", "ö ü"])
def test_names_do_not_leave_the_folder(name, tmp_path):
    data = vs.data.Dataset(np.ones((8, 2)), np.arange(8) % 2).batches(4)
    outcome = training().run(data, epochs=1, record=tmp_path / "records", name=name)
    assert outcome.folder.parent == tmp_path / "records"
    assert [path.name for path in tmp_path.iterdir()] == ["records"]


class Plain:
    def after_epoch(self, run, row):
        raise AssertionError


@pytest.mark.parametrize(
    "observers",
    [3, None, vs.observers.Steps(), [None], [Plain()], [Plain], [vs.observers.Observer], "text"],
    ids=["number", "none", "one", "list of none", "plain", "class", "base class", "text"],
)
def test_what_is_no_observer_is_refused_in_words(observers, tmp_path):
    data = vs.data.Dataset(np.ones((8, 2)), np.arange(8) % 2).batches(4)
    with pytest.raises(SettingError, match="observers"):
        training().run(data, epochs=1, observers=observers)
    with (
        pytest.raises(SettingError, match="observers"),
        vs.recorded_run({"noise": vs.RandomStream(0)}, steps=1, observers=observers),
    ):
        pass


@pytest.mark.parametrize("recorded", [False, True])
def test_a_function_is_called_after_each_epoch(recorded, tmp_path):
    data = vs.data.Dataset(np.ones((8, 2)), np.arange(8) % 2).batches(4)
    seen = []
    training().run(
        data,
        epochs=3,
        observers=[lambda run, row: seen.append(row["epoch"])],
        record=tmp_path if recorded else None,
    )
    assert seen == [1, 2, 3]


@settings(max_examples=150, deadline=None)
@given(st.text(st.sampled_from("ab <>=!~.\n\x00'1"), max_size=30))
def test_a_condition_is_answered_or_refused(text):
    from vinestep.runs._query import _condition

    try:
        name, how, _ = _condition(text)
    except VineStepError:
        return
    assert name
    assert how in ("<", "<=", ">", ">=", "=", "==", "!=")


def test_long_conditions_cost_nothing():
    import time

    from vinestep.runs._query import _condition

    begun = time.perf_counter()
    for text in (" " * 900, "a" * 499, " " * 499, "= " * 240, "a" + " " * 490 + "<"):
        with pytest.raises(VineStepError):
            _condition(text)
    assert time.perf_counter() - begun < 5  # with backtracking, hours
