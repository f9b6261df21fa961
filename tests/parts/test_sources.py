"""Sources named by plans: each kind built, described, trained on, and continued from elsewhere."""

import io
import json
import tarfile

import numpy as np
import pytest
import tomli_w
from PIL import Image

import vinestep as vs
from vinestep.errors import DataError, PlanError
from vinestep.training.plans._plan import read_plan
from vinestep.training.plans._planned_run import PlannedRun

DENSE = {"kind": "dense", "width": "classes"}
FLAT = ["flatten", DENSE]
TEXT = [
    {"kind": "embedding", "count": 260, "width": 4},
    {"kind": "gru", "width": 4, "output": "last"},
    DENSE,
]
BYTES = {"kind": "byte_tokens"}
TEMPLATE = {"kind": "template", "text": "{entry}: {sentence}"}
WRITER = {"kind": "language_model", "tokens": "tokens", "width": 4, "depth": 1, "heads": 1}
TRANSLATOR = {
    "kind": "encoder_decoder",
    "source_tokens": "tokens",
    "target_tokens": "tokens",
    "width": 4,
    "depth": 1,
    "heads": 1,
}
SMALL = [{"kind": "resize", "size": 8}, "range"]
SOURCES = {
    "arrays": ({"path": "arrays.npz", "class_values": ["a", "b"]}, {}, FLAT),
    "shards": (
        {"files": "shards/*.npz", "class_values": ["a", "b"], "buffer_files": 2},
        {},
        FLAT,
    ),
    "picture_shards": (
        {"files": "shards/*.tar", "channels": "L", "buffer_files": 2},
        {"prepare": ["range"], "readers": 2},
        FLAT,
    ),
    "picture_folder": (
        {"folder": "pictures", "channels": "L"},
        {"prepare": SMALL, "readers": 2, "augment": ["flip"]},
        FLAT,
    ),
    "picture_table": ({"table": "pictures.csv", "target": "state"}, {"prepare": SMALL}, FLAT),
    "text_files": (
        {"files": "texts", "encode": {"kind": "byte_tokens", "special": ["<end of note>"]}},
        {"join": "padded"},
        TEXT,
    ),
    "table": (
        {"source": "barrels.csv", "target": "state"},
        {"scale": "range", "fill": "median"},
        [DENSE],
    ),
    "demo_leaf_spots": (
        {"n": 30},
        {},
        [{"kind": "u_shaped", "outputs": "classes", "channels": [4, 8]}],
    ),
    "demo_chalk": (
        {"n": 30},
        {},
        [{"kind": "dense", "width": "outputs"}],
    ),
    "demo_leaves": (
        {"n": 60, "told": "cultivar"},
        {"augment": [{"kind": "shift", "pixels": 2}]},
        FLAT,
    ),
    "demo_ferments": (
        {"n": 60, "hours": 24, "told": "warning"},
        {},
        [{"kind": "gru", "width": 4, "output": "last"}, DENSE],
    ),
    "demo_notes": ({"n": 60}, {"join": {"kind": "padded", "multiple": 8}}, TEXT),
    "documents": ({"file": "notes.txt", "tokeniser": BYTES, "length": 16}, {}, [WRITER]),
    "requests": (
        {"file": "entries.csv", "template": TEMPLATE, "tokeniser": BYTES},
        {},
        [WRITER],
    ),
    "pairs": (
        {"file": "entries.csv", "read": "entry", "written": "sentence", "tokeniser": BYTES},
        {},
        [TRANSLATOR],
    ),
}


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """What the sources are read from."""
    base = tmp_path_factory.mktemp("data")
    rng = np.random.default_rng(0)
    labels = np.arange(60) % 2
    np.savez(base / "arrays.npz", inputs=rng.normal(size=(60, 3)).astype("f4"), targets=labels)
    for i, label in enumerate(labels):
        for place, suffix in (("pictures", "png"), ("texts", "txt")):
            (base / place / "ab"[label]).mkdir(parents=True, exist_ok=True)
            file = base / place / "ab"[label] / f"{i}.{suffix}"
            if suffix == "png":
                Image.fromarray(rng.integers(0, 255, (9 + i % 3, 12, 3), dtype=np.uint8)).save(file)
            else:
                file.write_text("not thin " * (1 + i % 4))
    (base / "shards").mkdir()
    for k in range(10):
        here = np.arange(6 * k, 6 * k + 6)
        x = rng.normal(size=(6, 3)).astype("f4")
        np.savez(base / "shards" / f"{k}.npz", inputs=x, targets=labels[here])
        with tarfile.open(base / "shards" / f"{k}.tar", "w") as archive:
            for i in here:
                content = io.BytesIO()
                Image.fromarray(rng.integers(0, 255, (8, 8), dtype=np.uint8)).save(content, "PNG")
                member = tarfile.TarInfo(f"{'ab'[labels[i]]}/{i}.png")
                member.size = content.tell()
                content.seek(0)
                archive.addfile(member, content)
    rows = "".join(
        f"pictures/{'ab'[label]}/{i}.png,{('sound', 'stuck')[label]}\n"
        for i, label in enumerate(labels)
    )
    (base / "pictures.csv").write_text("file,state\n" + rows)
    vs.demo.barrels(150).to_csv(base / "barrels.csv", index=False)
    (base / "notes.txt").write_text("\n".join("not thin " * (1 + i % 4) for i in range(60)))
    (base / "entries.csv").write_text(
        "entry,sentence\n" + "".join(f"tp {i},Topped up {i}.\n" for i in range(60))
    )
    vs.data.ByteTokeniser().save(base / "tokens.json")
    return base


def written(folder, data, layers, **changes):
    (folder / "plan.toml").write_text(
        tomli_w.dumps({"epochs": 2, "data": {"batch": 16, **data}, "layers": layers, **changes})
    )
    return folder / "plan.toml"


def test_no_kind_of_source_or_tokeniser_is_left_out():
    assert {kind.name for kind in vs.parts.kinds("source")} == set(SOURCES)
    assert {kind.name for kind in vs.parts.kinds("tokeniser")} == {
        "byte_pairs_of",
        "byte_tokens",
        "characters_of",
        "tokens_of",
        "words_of",
    }


@pytest.mark.parametrize("kind", SOURCES)
def test_every_source_trains_by_a_plan_and_is_continued_from_elsewhere(
    folder, tmp_path, monkeypatch, kind
):
    settings, data, layers = SOURCES[kind]
    task = {"task": "unaligned"} if kind == "demo_chalk" else {}
    path = written(folder, {"source": {"kind": kind, **settings}, **data}, layers, **task)
    run = PlannedRun(read_plan(path), folder)
    outcome = run.run(record=tmp_path / "records")
    assert np.isfinite(outcome.rows[-1]["loss"])
    found = run.assess(run.best_model(outcome))["validation"]
    assert found["loss"] == pytest.approx(
        min(row["validation_loss"] for row in outcome.rows), rel=1e-5
    )
    monkeypatch.chdir(tmp_path)
    again = PlannedRun(
        read_plan(outcome.folder / "plan.toml", settings=["epochs=3"]), outcome.folder
    )
    continued = again.run(resume=outcome.folder)
    assert [row["loss"] for row in continued.rows[:2]] == [row["loss"] for row in outcome.rows]
    assert len(continued.rows) == 3


@pytest.mark.parametrize("kind", [kind for kind in SOURCES if kind != "picture_folder"])
def test_what_a_maker_made_is_described_and_built_again(folder, monkeypatch, kind):
    monkeypatch.chdir(folder)
    source = vs.parts.build({"kind": kind, **SOURCES[kind][0]})
    if kind == "text_files":
        source.encode = None  # own code, or a tokeniser that was made by its class, has no kind
    again = vs.parts.build(json.loads(json.dumps(vs.parts.describe(source))))
    assert again.settings() == source.settings()
    assert again.fingerprint() == source.fingerprint()


def test_a_picture_folder_is_described_with_its_classes(folder):
    source = vs.data.PictureFolder(folder / "pictures")
    described = {
        **vs.parts.describe(vs.data.PictureFolder(str(folder / "pictures")), opaque=True),
        "folder": str(folder / "pictures"),
    }
    assert described["class_values"] == ["a", "b"]
    assert vs.parts.build(described).fingerprint() == source.fingerprint()


def test_a_tokeniser_in_a_file_is_named_relative_to_the_plan(folder, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    source = {
        "kind": "text_files",
        "files": "texts",
        "encode": {"kind": "tokens_of", "file": "tokens.json"},
    }
    run = PlannedRun(read_plan(written(folder, {"source": source, "join": "padded"}, TEXT)), folder)
    assert run.recorded_plan()["data"]["source"]["encode"]["file"] == str(folder / "tokens.json")
    assert run.source[0][0].dtype == np.int64


def test_validation_in_a_folder_of_its_own_has_the_classes_of_the_training_part(folder, tmp_path):
    (tmp_path / "b").mkdir()
    Image.new("RGB", (9, 9)).save(tmp_path / "b" / "1.png")
    data = {
        "source": {"kind": "picture_folder", "folder": "pictures"},
        "validation": str(tmp_path),
        "prepare": SMALL,
    }
    run = PlannedRun(read_plan(written(folder, data, FLAT)), folder)
    assert run.validation.labels().tolist() == [1]
    assert run.validation.class_names == ("a", "b")
    data = {"source": {"kind": "arrays", "path": "arrays.npz"}, "validation": "arrays.npz"}
    path = written(folder, data, FLAT)
    with pytest.raises(PlanError, match="has no parts in other files"):
        PlannedRun(read_plan(path), folder)


@pytest.mark.parametrize(
    ("data", "message"),
    [
        (
            {"source": {"kind": "picture_folder", "foldre": "p"}},
            "data.source.foldre: unknown setting of picture_folder. Did you mean 'folder'",
        ),
        (
            {"source": {"kind": "adam"}},
            "data.source.kind: 'adam' is of the family optimiser; what is wanted here is source",
        ),
        (
            {"source": {"kind": "demo_leaves"}, "target": "x"},
            "target: it is a setting of tables in files",
        ),
        ({"source": "barrels.csv"}, "target: missing"),
        (
            {"source": "barrels.csv", "target": "state", "prepare": ["range"]},
            "prepare: it is for pictures and series",
        ),
        (
            {"source": {"kind": "demo_leaves"}, "join": "flip"},
            "data.join.kind: 'flip' is of the family transform",
        ),
        (
            {"source": {"kind": "demo_leaves"}, "augment": [{"kind": "shift"}]},
            "data.augment.0.pixels: missing",
        ),
    ],
)
def test_faults_of_a_source_are_told_before_anything_is_read(folder, data, message):
    with pytest.raises(PlanError, match=message.replace("(", r"\(")):
        read_plan(written(folder, data, FLAT))


def test_a_source_that_is_not_there_is_named(folder):
    path = written(folder, {"source": {"kind": "picture_folder", "folder": "nowhere"}}, FLAT)
    with pytest.raises(PlanError, match=r"data\.source: .*nowhere: there is no such folder"):
        PlannedRun(read_plan(path), folder)
    with pytest.raises(DataError, match="no column 'fiel'"):
        vs.data.picture_table(folder / "pictures.csv", target="state", file="fiel")
    with pytest.raises(
        PlanError, match="there is no demo set 'leavs' for plans. Did you mean 'leaves'"
    ):
        PlannedRun(
            read_plan(written(folder, {"source": "demo:leavs", "target": "x"}, FLAT)), folder
        )
